"""Loops that are compiled give what numpy gives, and read no place that is not there."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from dusky_sieve.core.reading.compiled import middle, ranked, solved
from dusky_sieve.core.reading.patches import LINEAR
from dusky_sieve.core.reading.profiles import ground_between, ink_down, paper_of
from dusky_sieve.core.reading.registration import Registration, inverse, project, warp_terms
from dusky_sieve.core.reading.surface import smooth_surface
from dusky_sieve.core.reading.tally import ink_at

VALUES = arrays(np.float64, st.integers(1, 40), elements=st.floats(-1e6, 1e6) | st.sampled_from([0.0, 1.0]))


@settings(max_examples=200, deadline=None)
@given(VALUES, st.data())
def test_ranks_and_medians_are_those_of_the_sorted_values(values, data):
    rank = data.draw(st.integers(0, len(values) - 1))
    assert ranked(values, rank) == np.sort(values)[rank]
    assert middle(values) == pytest.approx(np.median(values))


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 12), st.integers(0, 1000))
def test_normal_equations_are_solved(size, seed):
    rows = np.random.default_rng(seed).normal(size=(2 * size + 3, size))
    normal, pull = rows.T @ rows, np.random.default_rng(seed + 1).normal(size=size)
    assert np.allclose(solved(normal, pull), np.linalg.solve(normal, pull), rtol=1e-6)


def test_a_matrix_that_is_not_positive_has_no_solution():
    assert np.isnan(solved(-np.eye(3), np.ones(3))).any()


def test_points_go_through_warp_and_homography_as_their_formulas_say():
    rng = np.random.default_rng(5)
    warp, size = rng.normal(0, 0.1, (15, 2)), (40.0, 25.0)
    matrix = np.array([[20, 1, 100], [-1, 21, 50], [1e-3, 2e-3, 1.0]])
    points = rng.uniform((-0.4, -0.4), (40.4, 25.4), (200, 2))
    moved = points + warp_terms(points, size) @ warp
    seen = np.column_stack([moved, np.ones(200)]) @ matrix.T
    assert np.allclose(Registration(matrix, warp, size).to_photo(points), seen[:, :2] / seen[:, 2:])
    assert np.allclose(project(inverse(matrix), project(matrix, points)), points)


@pytest.mark.parametrize("apart", [False, True])
def test_a_robust_surface_follows_what_most_values_lie_on(apart):
    rng = np.random.default_rng(2)
    places = rng.uniform(0, 30, (300, 2))
    smooth = np.stack([0.02 * places[:, 0] ** 2 / 30, 1 - 0.01 * places[:, 1]], axis=1)
    value = smooth + rng.normal(0, 0.01, smooth.shape)
    value[::7] += 5
    assert np.abs(smooth_surface(places, value, np.ones(300, bool), apart=apart) - smooth).max() < 0.05


@pytest.mark.parametrize("spots", [1, 3])
def test_places_off_the_map_have_no_ink_however_far_they_lie(spots):
    near = np.full((20, 30), 90, np.uint8)
    far = np.array([[5.0, 5.0], [-1.0, 3.0], [30.0, 3.0], [3.0, 20.0], [1e300, 0], [-np.inf, np.inf], [np.nan, 2.0]])
    places = np.broadcast_to(far, (1, 1 if spots == 1 else 2, len(far), 2)).copy()
    ink, seen, pixel = ink_at(places, near, spots)
    assert seen.tolist() == [True, *[False] * 6]
    assert ink[0] == 90
    assert not ink[1:].any()
    assert pixel[0] == 5 * 30 + 5


@pytest.mark.parametrize("backing", ["light", "dark"])
def test_ink_on_a_line_across_a_run_is_what_its_bands_take_from_their_own_ground(backing):
    codes = np.random.default_rng(4).integers(0, 256, (40, 15, 3)).astype(np.uint8)
    weights, across = np.array([0.8, 0.5, 0.2]), np.linspace(-0.3, 0.3, 15)
    amount, place = ink_down(codes, LINEAR, weights, across, ground_between(15, backing), backing == "light")
    light = LINEAR[codes].astype(np.float64).transpose(2, 0, 1)
    ground = paper_of(light, backing)[..., None]
    ink = np.tensordot(weights, 1 - light / ground if backing == "light" else light - ground, 1)
    ink = np.maximum(ink - ink.max(axis=1, keepdims=True) / 4, 0)
    assert np.allclose(amount, ink.sum(axis=1))
    assert np.allclose(place, ink @ across / ink.sum(axis=1))
