"""Did the gaps stand still or wander? Numbers worked out by hand."""

from math import comb

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dusky_sieve.core.comparison import compare, follow, overlap_chance, trend, unchanged

faults = st.sets(st.integers(2, 179), max_size=40)


@pytest.mark.parametrize(
    ("nozzles", "before", "after", "stayed", "chance"),
    [
        # One gap before, one after, in 180: it hits the same nozzle once in 180.
        pytest.param(180, 1, 1, 1, 1 / 180, id="one gap stays"),
        # All three of three stay: one way out of C(180, 3).
        pytest.param(180, 3, 3, 3, 1 / comb(180, 3), id="three of three stay"),
        # Seven of eight after were there before among seven: 173 / C(180, 8).
        pytest.param(180, 7, 8, 7, 173 / comb(180, 8), id="seven stay, one is new"),
        pytest.param(180, 4, 5, 0, 1.0, id="none need stay"),
        # Two of four nozzles each: P(at least one) = 1 - C(2,2)/C(4,2) = 5/6.
        pytest.param(4, 2, 2, 1, 5 / 6, id="a tiny head overlaps by luck"),
    ],
)
def test_the_chance_of_an_overlap_is_hypergeometric(nozzles, before, after, stayed, chance):
    assert overlap_chance(nozzles, before, after, stayed) == pytest.approx(chance, rel=1e-12)


@pytest.mark.parametrize(
    ("before", "after", "call"),
    [
        pytest.param(None, {1, 2}, "first", id="nothing to compare"),
        pytest.param({40, 41, 97}, {40, 41, 97}, "fixed", id="the same three"),
        pytest.param({12}, {12}, "fixed", id="even one gap, for it would move by chance 179 times in 180"),
        pytest.param({3, 50, 90}, {17, 66, 150}, "moving", id="three gaps all elsewhere"),
        pytest.param({5, 6, 7, 8, 9, 10, 11, 12}, {5, 6, 7}, "clearing", id="eight to three"),
        pytest.param({5, 6}, set(), "cleared", id="all went"),
        pytest.param({5, 6}, {5, 6, 40, 80, 90}, "worse", id="two to five"),
        pytest.param({5, 6, 7, 8}, {5, 6, 90, 91}, "mixed", id="half stays, half is new"),
        pytest.param({5}, {90}, "too_few", id="one gap elsewhere says nothing"),
        pytest.param(set(), set(), "too_few", id="clear twice"),
        pytest.param(set(range(1, 181)), set(range(1, 181)), "fixed", id="a whole channel absent twice"),
    ],
)
def test_movement_is_called_as_the_job_calls_it(before, after, call):
    assert compare(before, after, 180).call == call


def test_expected_by_chance_is_a_times_b_over_n():
    assert compare({1, 2, 3}, {1, 2, 4}, 180).expected_by_chance == pytest.approx(3 * 3 / 180)


def test_a_step_changed_nothing_when_nearly_all_gaps_are_the_same():
    before = {"black": frozenset({1, 2, 3, 4, 5}), "cyan": frozenset({9})}
    assert unchanged(before, before)
    assert not unchanged(before, {"black": frozenset({1, 2}), "cyan": frozenset({9})})
    assert not unchanged({"black": frozenset()}, {"black": frozenset()})


@settings(max_examples=80, deadline=None)
@given(faults, faults)
def test_what_is_told_of_two_sheets_adds_up(before, after):
    moved = compare(before, after, 180)
    assert (moved.before, moved.after) == (len(before), len(after))
    assert 0 <= moved.stayed <= min(len(before), len(after))
    assert 0 <= moved.p_value <= 1
    back = compare(after, before, 180)
    assert {moved.call, back.call} not in (
        {"fixed", "moving"},
        {"worse"},
        {"clearing"},
    )  # the other way round is no other story
    assert moved.p_value == back.p_value


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 40), st.integers(1, 40))
def test_chances_of_every_overlap_come_to_one(before, after):
    tails = [overlap_chance(60, before, after, k) for k in range(min(before, after) + 2)]
    assert tails[0] == pytest.approx(1)
    assert tails == sorted(tails, reverse=True)
    assert tails[-1] == 0  # more than all cannot stay


@settings(max_examples=60, deadline=None)
@given(st.sets(st.integers(2, 178), min_size=5, max_size=30), st.sampled_from([-1, 1]))
def test_numbers_that_slipped_by_one_are_the_same_faults(standing, slip):
    apart = {n for n in standing if n - 1 not in standing}  # neighbours would stay by themselves
    moved = compare(apart, {n + slip for n in apart}, 180)
    if len(apart) >= 5:
        assert (moved.call, moved.renumbered, moved.stayed) == ("fixed", slip, len(apart))


@pytest.mark.parametrize(
    ("counts", "steps", "per_step", "left"),
    [
        ([12, 8, 4], [0, 1, 2], -4.0, 1.0),
        ([9, 9, 9], [0, 1, 2], 0.0, None),
        ([2, 4, 9], [0, 1, 2], 3.5, None),
        ([12, 6], [0, 3], -2.0, 3.0),
        ([4, 0], [0, 1], -4.0, None),  # none is left
    ],
)
def test_the_trend_is_the_line_through_the_counts_over_steps_done(counts, steps, per_step, left):
    told = trend(counts, steps)
    assert (told.per_step, told.steps_left) == (pytest.approx(per_step), left)
    assert (told.low is None) == (len(counts) < 3)
    assert told.low is None or told.low < per_step < told.high


def test_sheets_without_a_step_between_tell_no_trend():
    assert trend([5, 3], [2, 2]) is None
    assert trend([5], [0]) is None
    assert follow([{1, 2, 3}, {1, 2, 3}], 180, [0, 1]).trend.per_step == 0
    assert follow([{1}], 180, [0]).call == "first"
