"""What hides marks and what feigns faults: veils, wrong lattices, the ink of the next mark; and smooth surfaces."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from dusky_sieve import files
from dusky_sieve.core.layout import MarksBlock, clear_width, mark_centres
from dusky_sieve.core.reading.cover import (
    around,
    astray,
    between_rows,
    carried_off,
    colour_of,
    ended,
    feigned,
    hidden_marks,
    next_ones_ink,
    parted,
    printed_paper,
    ruled,
    smooth_surface,
    unsettled,
    veiled,
)
from dusky_sieve.core.reading.judge import STATES
from dusky_sieve.core.reading.neighbours import Neighbours
from dusky_sieve.core.reading.order import median, quantile
from dusky_sieve.core.reading.patches import Patches
from dusky_sieve.core.reading.waves import Waves

FIRING, MISSING, DEFLECTED = (STATES.index(state) for state in ("firing", "missing", "deflected"))
BLOCK = next(b for b in files.shipped_layout("four-staircases").blocks if isinstance(b, MarksBlock))
N, COLUMNS = BLOCK.nozzles, BLOCK.columns
CENTRES = mark_centres(BLOCK)
TOUCHING = BLOCK.model_copy(update={"mark": (0.97 * abs(BLOCK.column_pitch[0]), BLOCK.mark[1])})


def patches(ground: np.ndarray, glare: np.ndarray | None = None) -> Patches:
    """Patches round every mark on ground (n, 3) of that linear light."""
    nothing = np.zeros((3, N, 9))
    codes = np.zeros((9, N, 9, 3), np.uint8)
    return Patches(nothing, codes, np.arange(9.0), np.arange(9.0), ground, np.ones(3), np.ones(N, bool), np.zeros(N) if glare is None else glare)  # fmt: skip


def paper(lamp: float = 1.0) -> np.ndarray:
    """Ground (n, 3) under a lamp that falls off by that factor from one side of the block to the other."""
    fall = np.exp(-np.log(lamp) * (CENTRES[:, 0] - CENTRES[:, 0].min()) / np.ptp(CENTRES[:, 0]))
    return 0.7 * fall[:, None] * np.array([1.0, 0.96, 0.9])


def test_what_differs_from_one_mark_to_the_next_is_a_fault_and_never_put_down_to_the_place():
    state = np.full(N, FIRING)
    state[[5, 17, 40, 41, 90]] = DEFLECTED
    state[[60, 61, 62]] = MISSING
    offset = np.zeros((N, 2))
    offset[[5, 17, 40, 41, 90], 1] = (0.8, -0.9, 1.1, 0.7, -0.8)
    assert not astray(BLOCK, state, offset).any()
    assert not between_rows(BLOCK, state, np.full(N, 0.05)).any()


def test_a_rule_through_a_row_is_no_row_of_marks_and_marks_beside_missing_ones_are_no_rule():
    seen = patches(paper())
    codes = np.full((9, N, 9, 3), 220, np.uint8)
    printed = np.ones(N, bool)
    printed[2 * COLUMNS : 3 * COLUMNS : 2] = False  # in a row with a rule as well as in one without
    printed[4 * COLUMNS : 5 * COLUMNS : 2] = False
    codes[1:8, printed, 4] = 90
    through = np.arange(N) // COLUMNS == 2
    codes[:, through, 4] = 90
    ink = np.zeros((3, N, 9))
    ink[:, printed | through, 4] = 0.8
    found = ruled(
        replace(seen, codes=codes, across_ink=ink, noise=np.full(3, 0.01)),
        np.full(3, 1 / 3),
        BLOCK,
        None,
        "light",
        gap_px=20.0 * clear_width(BLOCK),
    )
    assert (found == through).all()


def test_a_neighbourhood_thrown_one_way_puts_its_place_in_doubt_and_only_there():
    state, offset = np.full(N, FIRING), np.zeros((N, 2))
    near = np.hypot(*(CENTRES - CENTRES[N // 2]).T) < 2.2 * np.hypot(*BLOCK.column_pitch)
    state[near], offset[near, 1] = DEFLECTED, 0.8
    lost = astray(BLOCK, state, offset)
    assert lost[near].all()
    assert not lost[[0, N - 1]].any()
    offset[near, 1] *= np.where(np.arange(near.sum()) % 2, 1, -1)
    assert not astray(BLOCK, state, offset).any()  # nozzles that throw apart are faults


def test_most_of_a_row_thrown_one_way_is_paper_fed_unevenly_and_less_than_that_are_nozzles():
    row, place = np.arange(N) // COLUMNS, np.arange(N) % COLUMNS
    state, offset = np.full(N, FIRING), np.zeros((N, 2))
    most = (row == 3) & (place > 0.4 * COLUMNS)
    state[most | (row == 6) & (place % 3 == 0)] = DEFLECTED
    offset[state == DEFLECTED, 1] = 0.8
    assert np.array_equal(astray(BLOCK, state, offset), most)
    # What did not print has no say, nor does a row of which three did.
    state[(row == 3) & (place < 0.4 * COLUMNS)] = MISSING
    state[row == 9] = np.where(place[row == 9] < 3, DEFLECTED, MISSING)
    offset[row == 9, 1] = 0.8
    assert np.array_equal(astray(BLOCK, state, offset), most)
    offset[most, 1] *= np.where(place[most] % 2, 1, -1)
    assert not astray(BLOCK, state, offset).any()


def test_a_mark_is_not_missing_for_sure_where_those_about_it_lie_half_way_out_of_where_it_is_looked_for():
    state, across = np.full(N, FIRING), np.zeros(N)
    # A wave carries the first corner off; at the second a rule's ink is seen for two of three that are missing, at the last noise for an ink
    # that hardly printed. One throws far beside one that is missing, and a wave lies under another that would show all the same.
    across[[1, COLUMNS, COLUMNS + 1]] = (-2.4, -1.9, -1.2)
    across[[COLUMNS - 2, 2 * COLUMNS - 2, 2 * COLUMNS - 1]] = (-2.4, -2.3, -0.1)
    across[[N - 2, N - 1 - COLUMNS, N - 2 - COLUMNS]] = (-2.4, 2.4, 2.4)
    across[N // 2 + 1] = 2.4
    wave = 3 * COLUMNS + 3
    across[[wave + down * COLUMNS + aside for down in (-1, 0, 1) for aside in (-1, 0, 1)]] = -1.2
    gone = [0, COLUMNS - 1, wave, N // 2, N - 1]
    state[gone], across[gone] = MISSING, np.nan
    assert np.flatnonzero(carried_off(BLOCK, state, across)).tolist() == [0]
    # Four digits are all that shows about a block that printed nothing.
    across[np.isin(np.arange(N), [1, COLUMNS, COLUMNS + 1, 2 * COLUMNS], invert=True)] = np.nan
    assert not carried_off(BLOCK, np.full(N, MISSING), across).any()


def carried(blocks: list[MarksBlock], across: list[np.ndarray], along: float = 0.0) -> np.ndarray:
    """Which marks of the first block are carried, of blocks whose marks lie off (n,) nozzle pitches across travel."""
    pitch = blocks[0].nozzle_pitch
    offsets = [np.stack([np.zeros(len(off)), off * pitch], axis=1) for off in across]
    near = Neighbours.of([(b, o, np.ones(len(o), bool)) for b, o in zip(blocks, offsets, strict=True)])
    return near.carry(mark_centres(blocks[0]), offsets[0] + (along * pitch, 0), pitch)


def test_a_corner_that_lies_off_as_a_whole_is_carried_and_a_lone_mark_is_thrown():
    """The warp did not reach it: the further out, the further off; the marks next to those are off as well."""
    far = np.hypot(*(CENTRES - CENTRES[0]).T) / np.hypot(*BLOCK.column_pitch)
    off = 0.9 * np.clip(1 - far / 4, 0, None)
    assert 1 < (off > 0.5).sum() < 8
    assert carried([BLOCK], [off])[off > 0.5].all()
    assert not carried([BLOCK], [off], along=0.8).any()  # thrown along travel, wherever the paper lies
    off = 0.9 * (np.arange(N) == 0) - 0.9 * (np.arange(N) == 1)
    assert not carried([BLOCK], [off])[:2].any()


def test_marks_of_other_blocks_near_by_tell_as_well_that_paper_carries_them():
    """Of one row alone nothing is told: its last mark lies off, and so do the last ones of the rows beside it."""
    row = BLOCK.model_copy(update={"nozzles": 12, "columns": 12})
    beside = [row.model_copy(update={"origin": (row.origin[0], row.origin[1] + k)}) for k in (0.7, -0.7, 1.4)]
    off = 0.8 * np.clip((np.arange(12) - 7) / 4, 0, None)
    flat = np.zeros(12)
    assert carried([row, *beside], [off] * 4)[-1]
    assert not carried([row, *beside], [np.where(np.arange(12) == 11, 0.8, 0.0), flat, flat, flat])[-1]


def test_waves_of_the_paper_are_told_from_throws_by_the_marks_near_by():
    """Cockled paper lifts marks by more than a throw; where marks lie off each as it likes, nothing is put down to the paper."""
    rng, pitch = np.random.default_rng(8), BLOCK.nozzle_pitch
    wave = 0.7 * np.sin(2 * np.pi * (CENTRES @ (0.8, 0.6)) / 14)
    off = pitch * (wave + rng.normal(0, 0.05, N) + 0.9 * (np.arange(N) == N // 2))

    def waves(across: np.ndarray) -> Waves | None:
        return Waves.of(Neighbours(CENTRES, across), pitch)

    found = waves(off)
    assert found is not None
    carried_by, sigma = found.under(CENTRES)
    left = (off - carried_by) / pitch
    assert left[N // 2] > 0.7
    assert np.sort(np.abs(left))[-4] < 0.25
    assert sigma[0] > 2 * np.median(sigma)  # at a corner there is less to tell by
    assert waves(pitch * rng.normal(0, 0.3, N)) is None
    assert waves(pitch * rng.normal(0, 0.05, N)) is None


def test_a_block_whose_marks_are_scattered_across_travel_has_no_thrown_ones():
    printed = np.random.default_rng(3).normal(0, 1, 40)
    assert unsettled(0.6 * printed)
    assert not unsettled(0.15 * printed)
    assert not unsettled(np.where(np.arange(40) < 8, 1.5, 0.1 * printed))  # a fifth that are thrown


def test_where_most_of_a_block_seems_thrown_all_of_it_is_in_doubt():
    state, offset = np.full(N, FIRING), np.zeros((N, 2))
    state[: int(0.6 * N)], offset[: int(0.6 * N), 1] = DEFLECTED, 0.9
    assert astray(BLOCK, state, offset).all()


def test_marks_missing_beside_ink_between_their_rows_are_not_told_to_be_missing():
    state = np.full(N, FIRING)
    state[3 * COLUMNS : 5 * COLUMNS] = MISSING
    beside = np.where(state == MISSING, 0.6, 0.02)
    assert between_rows(BLOCK, state, beside)[3 * COLUMNS : 5 * COLUMNS].all()
    assert not between_rows(BLOCK, state, np.full(N, 0.02)).any()  # bare paper there: the nozzles are dry


def test_the_end_of_the_next_mark_seen_in_a_gap_of_a_touching_row_is_no_thrown_mark():
    state, offset, ink = np.full(N, FIRING), np.zeros((N, 2)), np.ones(N)
    gaps = np.array([COLUMNS + 2, 3 * COLUMNS + 4, 5 * COLUMNS + 3])
    state[gaps], ink[gaps] = DEFLECTED, 0.4
    offset[gaps, 1] = TOUCHING.column_pitch[1] / TOUCHING.nozzle_pitch
    spread = np.zeros(N, bool)
    assert next_ones_ink(TOUCHING, state, offset, ink, spread)[gaps].all()
    assert not next_ones_ink(BLOCK.model_copy(update={"mark": (1.2, BLOCK.mark[1])}), state, offset, ink, spread).any()
    state[gaps[1:]] = MISSING
    assert not next_ones_ink(TOUCHING, state, offset, ink, spread).any()  # one nozzle may throw so
    assert next_ones_ink(TOUCHING, state, offset, ink, ~spread)[gaps].tolist() == [True, False, False]
    ink[gaps] = 1.0
    assert not next_ones_ink(TOUCHING, state, offset, ink, ~spread).any()  # a whole mark was thrown


@pytest.mark.parametrize("side", [0, COLUMNS - 1])
def test_rows_next_to_each_other_of_which_the_outermost_mark_shows_in_part_have_run_out_aside_of_their_marks(side):
    """A wave carried the last rows of a block nearly a column along, where gaps of three pixels said nothing, and three marks were read for others."""
    outer = side + COLUMNS * np.arange(4, 7)
    ink, at_one_end = np.ones(N), np.zeros(N, bool)
    ink[outer], at_one_end[outer] = (0.7, 0.5, 0.2), True
    rows = ended(TOUCHING, ink, at_one_end).reshape(-1, COLUMNS)
    assert rows[4:7].all()
    assert not np.delete(rows, [4, 5, 6], axis=0).any()
    assert not ended(BLOCK.model_copy(update={"mark": (1.2, BLOCK.mark[1])}), ink, at_one_end).any()  # gaps show it
    assert not ended(TOUCHING, np.where(at_one_end, 0.05, ink), at_one_end).any()  # nozzles that print nothing
    assert not ended(TOUCHING, np.where(at_one_end, 0.9, ink), at_one_end).any()  # nor those that print nearly all
    assert not ended(
        TOUCHING, np.where(at_one_end, ink, 0.02), at_one_end
    ).any()  # a word beside a block that is absent
    at_one_end[outer[1]] = False
    assert not ended(TOUCHING, ink, at_one_end).any()  # two that break off


def test_a_print_under_the_whole_sheet_is_the_papers_own_and_a_pen_over_one_block_is_none():
    strength = {"black": 0.8, "yellow": 0.4}
    bare = {name: np.full(100, 0.02) for name in strength}
    assert printed_paper(bare, strength) == {"black": 0, "yellow": 0}
    pen = bare | {"black": np.r_[np.full(80, 0.02), np.full(20, 0.9)]}
    assert printed_paper(pen, strength)["yellow"] == 0
    satellites = {name: np.full(100, 0.2) for name in strength}
    assert printed_paper(satellites, strength) == {"black": 0, "yellow": 0}
    ruled = {"black": np.r_[np.full(97, 0.02), np.full(3, 0.2)], "yellow": np.r_[np.full(97, 0.02), np.full(3, 0.4)]}
    assert printed_paper(ruled, strength) == pytest.approx({"black": 0.2, "yellow": 0.4}, abs=0.01)


@pytest.mark.parametrize(
    ("state", "ink", "offset", "doubted"),
    [("weak", 0.25, 0, True), ("weak", 0.4, 0, False), ("weak", 0.55, 0, True), ("deflected", 1.0, 1.5, False), ("deflected", 1.0, 0.6, True),
     ("deflected", 1.4, 1.5, True), ("deflected", 0.25, 3.0, True), ("missing", 0.0, 0, False), ("firing", 1.0, 0.2, False)],
)  # fmt: skip
def test_on_printed_paper_what_its_print_may_feign_is_doubted_and_nothing_else(state, ink, offset, doubted):
    mark = np.array([STATES.index(state)]), np.array([ink]), np.array([float(offset)])
    assert feigned(*mark, 0.2).tolist() == [doubted]
    assert not feigned(*mark, 0.0).any()


@pytest.mark.parametrize("lamp", [1.0, 4.0])
def test_a_finger_or_a_reflection_is_told_from_the_lamps_own_falling_off(lamp):
    ground = paper(lamp)
    assert not np.any(hidden_marks(patches(ground), BLOCK, None, "light", None))
    finger, shine = np.arange(10, 16), np.arange(100, 105)
    ground[finger] *= (0.8, 0.5, 0.4)
    ground[shine] *= 1.6
    glare, covered = hidden_marks(patches(ground), BLOCK, None, "light", None)
    assert np.flatnonzero(covered).tolist() == finger.tolist()
    assert np.flatnonzero(glare).tolist() == shine.tolist()


@pytest.mark.parametrize(("rows", "in_two"), [((4, 7), True), ((4, 6), False), ((0, 6), False)])
def test_a_lattice_that_slips_in_the_middle_of_a_block_leaves_both_its_parts_in_doubt(rows, in_two):
    """From there on it lies a row aside: a ladder of 229 marks was read so. At an end only that end is lost."""
    lost, none = np.zeros((2, N), bool)
    lost[rows[0] * COLUMNS : rows[1] * COLUMNS] = True
    lost[rows[0] * COLUMNS] = False  # by chance one seems to fire
    assert parted(BLOCK, lost, none) == in_two
    assert parted(BLOCK, none, lost) == in_two
    assert not parted(BLOCK.model_copy(update={"columns": N}), none, lost)


@pytest.mark.parametrize("share", [0.3, 0.7, 1.0])
def test_a_finger_that_covers_a_great_part_of_a_block_is_told_by_the_colour_of_all_the_sheets_paper(share):
    """A smooth ground follows it there; the marks under it were read as missing."""
    bare, ground = paper(), paper()
    under = np.argsort(CENTRES @ (1.0, 1.0))[: round(share * N)]
    ground[under] *= (0.8, 0.42, 0.28)
    for ground_, hidden in ((bare, []), (ground, sorted(under))):
        _, covered = hidden_marks(patches(ground_), BLOCK, None, "light", np.median(colour_of(bare), axis=0))
        assert set(np.flatnonzero(covered)) >= set(hidden)
        assert (
            share == 0.7 or np.flatnonzero(covered).tolist() == hidden
        )  # a smooth ground leaves what the most of it is


def test_marks_faint_together_under_a_veil_are_hidden_and_one_faint_alone_is_weak():
    ground, ink = paper(), np.ones(N)
    under = np.hypot(*(CENTRES - CENTRES[N // 2]).T) < 3 * np.hypot(*BLOCK.column_pitch)
    ground[under] *= 1.12
    ink[under], ink[3] = 0.5, 0.5
    hidden = veiled(patches(ground), BLOCK, ink, "light")
    assert hidden[under].mean() > 0.6
    assert not hidden[~under].any()
    assert not veiled(patches(paper()), BLOCK, ink, "light").any()  # on ground like all the rest they print less
    # Beside a shadow paper is brighter too: what shows fully among missing marks tells that nothing lies over them.
    gone = np.random.default_rng(3).random(N) < 0.6
    hidden = veiled(patches(ground), BLOCK, np.where(gone, 0.0, 1.0), "light")
    assert hidden[under & gone].mean() < 0.25
    hidden = veiled(patches(ground), BLOCK, np.where(gone, 0.0, np.where(under, 0.5, 1.0)), "light")
    assert hidden[under & gone].mean() > 0.6


def test_marks_at_the_rim_of_a_reflection_over_most_of_a_block_are_hidden():
    ground, ink, from_middle = paper(), np.ones(N), np.hypot(*(CENTRES - CENTRES[N // 2]).T)
    full, rim = from_middle < np.quantile(from_middle, 0.5), from_middle < np.quantile(from_middle, 0.65)
    ground[rim] = 0.88
    ground[full] = 1.0
    ink[rim], ink[full], ink[0] = 0.5, 0.0, 0.5
    hidden = veiled(patches(ground, full * 1.0), BLOCK, ink, "light")
    assert hidden[rim].mean() > 0.95
    assert not hidden[~rim].any()


def test_where_paper_is_bleached_below_the_sensors_limit_ink_that_does_not_show_is_hidden():
    """A camera's tone curve may leave a reflection grey: paper there is not as elsewhere, if only in one band."""
    from_middle, ink = np.hypot(*(CENTRES - CENTRES[N // 2]).T), np.ones(N)
    bleached = from_middle < np.quantile(from_middle, 0.5)
    ink[bleached] = 0.0
    ground = paper(2.0)
    assert not veiled(patches(ground), BLOCK, ink, "light").any()  # half a block did not print
    ground[bleached, 2] *= 1.4
    assert veiled(patches(ground), BLOCK, ink, "light")[bleached].mean() > 0.8


def test_each_mark_stands_in_the_middle_of_its_neighbourhood_and_the_rim_has_none_beyond():
    windows = around(np.arange(N, dtype=float), BLOCK)
    assert (windows[:, 4] == np.arange(N)).all()
    assert np.isnan(windows[0]).sum() == 5
    inner = COLUMNS + 1
    assert windows[inner].tolist() == [inner + r * COLUMNS + c for r in (-1, 0, 1) for c in (-1, 0, 1)]


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 1000), st.sampled_from([1, 2]), st.booleans())
def test_a_smooth_surface_follows_a_bend_and_not_a_tenth_that_stand_out(seed, values, apart):
    rng = np.random.default_rng(seed)
    x, y = (CENTRES - CENTRES.mean(axis=0)).T / np.ptp(CENTRES, axis=0).max()
    bend = np.stack([0.3 * x + 0.2 * x * y, 0.5 * y - 0.3 * x * x], axis=1)[:, :values]
    seen = bend + rng.normal(0, 0.004, bend.shape)
    seen[rng.random(N) < 0.1] += 0.5
    assert np.abs(smooth_surface(CENTRES, seen, np.ones(N, bool), apart=apart) - bend).max() < 0.06


def test_a_few_values_have_a_middle_instead_of_a_surface():
    usable = np.arange(N) < 5
    assert (smooth_surface(CENTRES, np.where(usable, 2.0, 9.0), usable & (np.arange(N) > 1)) == 9.0).all()


@settings(max_examples=60, deadline=None)
@given(arrays(np.float64, st.tuples(st.integers(1, 5), st.integers(1, 40)), elements=st.floats(-1e6, 1e6)), st.floats(0, 1), st.sampled_from([0, 1, -1]))  # fmt: skip
def test_medians_and_quantiles_are_those_of_numpy(values, share, axis):
    assert np.allclose(median(values, axis), np.median(values, axis=axis))
    assert np.allclose(quantile(values, share, axis), np.quantile(values, share, axis=axis), atol=1e-6)
    codes = np.abs(values).astype(np.int64).astype(np.uint8)
    assert (median(codes, axis) == np.median(codes, axis=axis)).all()
    assert np.allclose(quantile(codes, share, axis), np.quantile(codes, share, axis=axis), atol=1e-6)
