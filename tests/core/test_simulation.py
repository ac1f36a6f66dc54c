"""The simulated printer and camera: what the truth says is what the picture shows, or nothing measured on it means anything."""

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import small_scene

from dusky_sieve import files
from dusky_sieve.core.layout import MarksBlock, boxes_besides, clear_heights, clear_width, extent, mark_centres, near_by
from dusky_sieve.core.reading.patches import LINEAR
from dusky_sieve.core.simulate import BlockTruth, DeflectedMark, Truth, WeakMark, random_faults, render
from dusky_sieve.core.simulate.camera import MAP_STEP, _to_sheet, place_on_photo
from dusky_sieve.core.warp import warp_maps

LAYOUT = files.shipped_layout("four-staircases")
BLOCKS = [b for b in LAYOUT.blocks if isinstance(b, MarksBlock)]
BLACK = BLOCKS[0]
PLAIN = small_scene(tilt_deg=0, roll_deg=0, lamp_falloff=1, noise=0, lens_blur_px=0.5, words=False, grain=0, ink_spread=0, place_spread_um=0)  # fmt: skip


def light_of(faults: BlockTruth, scene=PLAIN, seed: int = 3) -> np.ndarray:
    """Linear light of a photo of the sheet."""
    pixels = render(LAYOUT, Truth(blocks={"black": faults}, scene=scene), "light", np.random.default_rng(seed))
    return cv2.LUT(pixels, LINEAR)


def taken(light: np.ndarray, index: int, offset_mm=(0.0, 0.0)) -> tuple[float, np.ndarray]:
    """Light that one black mark takes, summed over the paper round its place, and the centroid of that in photo pixels."""
    at = place_on_photo(mark_centres(BLACK)[index : index + 1] + np.array(offset_mm), LAYOUT, PLAIN)[0]
    scale = float(np.linalg.norm(np.diff(place_on_photo(np.array([[0.0, 0], [1, 0]]), LAYOUT, PLAIN), axis=0)))
    half = np.array([0.56 * BLACK.mark[0], 0.45]) * scale
    (left, top), (right, foot) = np.rint(at - half).astype(int), np.rint(at + half).astype(int)
    part = light[top : foot + 1, left : right + 1].mean(axis=2)
    ink = np.clip(1 - part / np.quantile(part, 0.9), 0.02, None) - 0.02
    rows, columns = np.mgrid[top : foot + 1, left : right + 1]
    return float(ink.sum()), np.array([(columns * ink).sum(), (rows * ink).sum()]) / max(ink.sum(), 1e-9)


@settings(max_examples=12, deadline=None)
@given(st.floats(0, 30), st.floats(0, 360), st.floats(-180, 180), st.floats(-4, 4), st.floats(-0.1, 0.1))
def test_the_camera_turned_round_leads_back_to_where_it_came_from(tilt, towards, roll, curl, k1):
    scene = small_scene(tilt_deg=tilt, tilt_towards_deg=towards, roll_deg=roll, curl_mm=curl, lens_k1=k1, width=1000, height=800, fill=0.6)  # fmt: skip
    points = np.concatenate([mark_centres(b)[::20] for b in BLOCKS])
    seen = place_on_photo(points, LAYOUT, scene)
    inside = (seen > 1).all(axis=1) & (seen < (998, 798)).all(axis=1)
    maps = warp_maps(lambda grid: _to_sheet(grid, LAYOUT, scene), (1000, 800), MAP_STEP)
    spots = seen[inside].astype(np.float32)
    back = np.stack([cv2.remap(m, spots[:, :1], spots[:, 1:], cv2.INTER_LINEAR)[:, 0] for m in maps], axis=1)
    assert np.abs(back - points[inside]).max() < 0.05


def test_a_weak_mark_takes_as_much_light_as_its_truth_says_and_a_missing_one_none():
    faults = BlockTruth(missing=(30,), weak=(WeakMark(nozzle=50, ink=0.4), WeakMark(nozzle=70, ink=0.4, broken=True)))
    light = light_of(faults)
    whole = np.median([taken(light, k)[0] for k in (20, 40, 60, 80)])
    assert taken(light, 49)[0] / whole == pytest.approx(0.4, abs=0.08)
    assert taken(light, 69)[0] / whole == pytest.approx(0.4, abs=0.08)
    assert taken(light, 29)[0] / whole < 0.02


def test_a_thrown_mark_lies_where_its_truth_says():
    light = light_of(BlockTruth(deflected=(DeflectedMark(nozzle=90, offset_um=(0, 200.0)),)))
    at, scale = taken(light, 89, (0.0, 0.2))[1], 24.0
    there = place_on_photo(mark_centres(BLACK)[89:90] + (0, 0.2), LAYOUT, PLAIN)[0]
    assert np.abs(at - there).max() < 0.05 * scale


@pytest.mark.parametrize("falloff", [1.0, 2.0, 4.0])
def test_the_lamp_falls_off_as_the_scene_says(falloff):
    scene = PLAIN.model_copy(update={"lamp_falloff": falloff, "margin_mm": 60.0, "fill": 0.4, "lamp_towards_deg": 0.0})
    light = light_of(BlockTruth(), scene).mean(axis=2)
    row = np.quantile(light[:80], 0.5, axis=0)
    assert row[-20:].mean() / row[:20].mean() == pytest.approx(falloff, rel=0.15)


def test_one_seed_is_one_photo_and_another_seed_another():
    faults = BlockTruth(missing=(3,))
    noisy = small_scene(width=700, height=525)
    first, again, other = (light_of(faults, noisy, seed) for seed in (1, 1, 2))
    assert (first == again).all()
    assert (first != other).any()


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 9999), st.floats(0.01, 0.4))
def test_chance_gives_no_nozzle_two_faults_and_no_fault_at_the_edge_of_its_kind(seed, rate):
    faults = random_faults(BLACK, np.random.default_rng(seed), rate=rate)
    numbers = [*faults.missing, *(w.nozzle for w in faults.weak), *(d.nozzle for d in faults.deflected)]
    assert len(numbers) == len(set(numbers))
    assert set(numbers) <= set(BLACK.numbers)
    assert all(0.2 < w.ink < 0.55 for w in faults.weak)
    assert all(0.6 < np.hypot(*d.offset_um) / 1000 / BLACK.nozzle_pitch < 1.5 for d in faults.deflected)


@pytest.mark.parametrize("name", ["four-staircases", "six-bands-on-film"])
def test_every_mark_lies_in_its_blocks_box_and_apart_from_the_others(name):
    layout = files.shipped_layout(name)
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    for block, clear in zip(blocks, clear_heights(blocks), strict=True):
        left, top, right, bottom = extent(block)
        x, y = mark_centres(block).T
        half = np.array(block.mark) / 2 - 1e-9
        assert ((x - half[0] >= left) & (x + half[0] <= right) & (y - half[1] >= top) & (y + half[1] <= bottom)).all()
        assert clear > 0
        assert clear_width(block) >= 0
        assert block in near_by(extent(block), layout.blocks)
        assert len(boxes_besides(block, layout)) == len(layout.blocks) - 1
