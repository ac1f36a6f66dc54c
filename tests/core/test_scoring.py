"""Whether a place is the sheet, and what its marks measure: scores on drawn ink maps, profiles on drawn paper."""

from dataclasses import replace
from functools import cache
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dusky_sieve import files
from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import MarksBlock, clear_of, extent, mark_centres, near_by
from dusky_sieve.core.reading import place as places
from dusky_sieve.core.reading.align import align
from dusky_sieve.core.reading.beyond import sparse_aside
from dusky_sieve.core.reading.find import gather_marks
from dusky_sieve.core.reading.inklaw import ink_share
from dusky_sieve.core.reading.inkmap import InkMap
from dusky_sieve.core.reading.judge import STATES, WEAK_BELOW, judge_marks
from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.measure import Expected, measure_block
from dusky_sieve.core.reading.pin import pin
from dusky_sieve.core.reading.registration import (
    TERMS,
    Registration,
    fit_warp,
    grid_over,
    project,
    rigid,
    through,
    tidied,
)
from dusky_sieve.core.reading.score import Judge, probes
from dusky_sieve.core.reading.silent import all_faint, elsewhere
from dusky_sieve.core.reading.stray import overlooked
from dusky_sieve.core.reading.tally import medians_of

LAYOUT = files.shipped_layout("four-staircases")
BLOCKS = [b for b in LAYOUT.blocks if isinstance(b, MarksBlock)]
SCALE, MARGIN = 14.0, 4.0  # pixels a mm, mm round the pattern
TO_MAP = np.array([[SCALE, 0, MARGIN * SCALE], [0, SCALE, MARGIN * SCALE], [0, 0, 1]])


@cache
def drawn(printed: float = 1.0, seed: int = 1) -> InkMap:
    """An ink map on which a share of every block's marks printed, each in its block's own ink."""
    rng = np.random.default_rng(seed)
    w, h = (round((side + 2 * MARGIN) * SCALE) for side in LAYOUT.size)
    ink, small = np.zeros((h, w), np.uint8), np.full((h, w, 3), 230, np.uint8)
    for block in BLOCKS:
        colour = tuple(int(block.ink[i : i + 2], 16) for i in (1, 3, 5))
        for centre in mark_centres(block)[rng.random(block.nozzles) < printed]:
            a, b = (
                np.rint(project(TO_MAP, (centre + (s * block.mark[0] / 2, 0))[None])[0]).astype(int) for s in (-1, 1)
            )
            cv2.line(ink, tuple(map(int, a)), tuple(map(int, b)), (120,), 1)
            cv2.line(small, tuple(map(int, a)), tuple(map(int, b)), colour, 1)
    return InkMap(ink, small, 1.0)


def aside(x: float, y: float):
    """The true place with the sheet moved by so many mm."""
    return lambda points: project(TO_MAP, points + (x, y))


def judge_of(ink: InkMap) -> Judge:
    return Judge(ink, probes(LAYOUT, "light"), "light")


def test_a_place_explains_what_printed_and_spills_only_where_it_lies_wrongly():
    whole, two_thirds = judge_of(drawn())(aside(0, 0)), judge_of(drawn(0.67))(aside(0, 0))
    half_a_row = judge_of(drawn())(aside(0, BLOCKS[0].row_pitch[1] / 2))
    assert whole.there > 0.95
    assert two_thirds.there == pytest.approx(0.67, abs=0.05)
    assert max(whole.spill, two_thirds.spill) < 0.02
    assert half_a_row.there < 0.1


@pytest.mark.parametrize("step", ["a column", "a row", "half the sheet"])
def test_no_step_aside_explains_as_much_as_the_place_itself(step):
    x, y = {
        "a column": BLOCKS[0].column_pitch,
        "a row": BLOCKS[0].row_pitch,
        "half the sheet": (LAYOUT.size[0] / 2, 0),
    }[step]
    judge = judge_of(drawn(0.8))
    assert judge(aside(x, y)).explained < 0.95 * judge(aside(0, 0)).explained


def test_marks_beyond_the_photo_count_in_part_where_lattice_steps_are_compared():
    """Else a sheet cut off by the frame explains as much a column aside, with a column in sight that nowhere printed."""
    cut = round((MARGIN + 2.5 * BLOCKS[0].column_pitch[0]) * SCALE)
    whole = drawn()
    judge = judge_of(InkMap(np.ascontiguousarray(whole.ink[:, cut:]), np.ascontiguousarray(whole.small[:, cut:]), 1.0))

    def place(points):
        return project(TO_MAP, points) - (cut, 0)

    marks = np.concatenate([place(mark_centres(block)) for block in BLOCKS])
    in_sight = float((marks[:, 0] - 0.25 * BLOCKS[0].mark[0] * SCALE >= 0).sum())
    here = float(judge.quick(place, np.zeros((1, 2)), judge(place))[0])
    assert in_sight + 0.3 * (len(marks) - in_sight) < here < len(marks)


@pytest.mark.parametrize(("ink", "faint"), [(0.16, True), (0.03, False)])
def test_a_block_that_shows_a_little_ink_in_every_place_is_faint_and_not_absent(ink, faint):
    shown = SimpleNamespace(printing=0.0, judged=np.ones(48, bool), ink=ink + 0.02 * np.linspace(-2, 2, 48))
    assert all_faint(shown) == faint


@pytest.mark.parametrize(("printed", "step"), [(0.3, "column_pitch"), (0.5, "column_pitch"), (0.5, "row_pitch")])
def test_a_block_of_which_few_marks_print_is_in_doubt_where_its_side_shows_as_many(printed, step):
    judge = judge_of(drawn(printed))
    true, moved = aside(0, 0), aside(*getattr(BLOCKS[0], step))
    assert sparse_aside(judge, true, judge(true), LAYOUT) == []
    assert len(sparse_aside(judge, moved, judge(moved), LAYOUT)) >= 2


def test_two_marks_beyond_a_block_and_none_at_its_other_side_put_it_in_doubt_however_well_the_rest_fits():
    blank = drawn().ink.copy()
    for block in BLOCKS:
        first = mark_centres(block)[2 : block.columns]  # of the first row two are left
        for x, y in np.rint(project(TO_MAP, first)).astype(int):
            blank[y - 1 : y + 2, x - int(0.6 * block.mark[0] * SCALE) : x + int(0.6 * block.mark[0] * SCALE)] = 0
    judge = judge_of(replace(drawn(), ink=blank))
    true, moved = aside(0, 0), aside(*BLOCKS[0].row_pitch)
    assert judge(moved).there > 0.6
    assert sparse_aside(judge, true, judge(true), LAYOUT) == []
    assert sparse_aside(judge, moved, judge(moved), LAYOUT) == [b.id for b in BLOCKS]


def test_colours_of_other_blocks_count_against_a_place():
    ink = drawn()
    grey = InkMap(ink.ink, np.repeat(ink.small.mean(axis=2, keepdims=True), 3, axis=2).astype(np.uint8), 1.0)
    assert judge_of(grey)(aside(0, 0)).explained < 0.9 * judge_of(ink)(aside(0, 0)).explained


@pytest.mark.parametrize(("printed", "coloured"), [(0.0, False), (0.3, True)])
def test_a_few_specks_in_an_absent_blocks_places_are_not_its_colour(printed, coloured):
    """They lie in its bare places as well: of what shows there few marks more are left than bare places."""
    whole, rng = drawn(), np.random.default_rng(4)
    ink, small = whole.ink.copy(), whole.small.copy()
    x, y, right, lower = np.rint((np.array(extent(BLOCKS[-1])) + MARGIN) * SCALE).astype(int)
    kept = ink[y : lower + 1, x : right + 1] * (rng.random(lower + 1 - y) < printed)[:, None].astype(np.uint8)
    specks = (rng.random(kept.shape) < 0.05) * np.uint8(120)
    ink[y : lower + 1, x : right + 1] = np.maximum(kept, specks)
    small[y : lower + 1, x : right + 1][specks > 0] = (30, 60, 200)
    fit = judge_of(InkMap(ink, small, 1.0))(aside(0, 0))
    assert fit.colours[:-1].any(axis=1).all()
    assert fit.colours[-1].any() == coloured


@settings(max_examples=15, deadline=None)
@given(st.lists(st.tuples(st.integers(-40, 40), st.integers(-40, 40)), min_size=1, max_size=6))
def test_steps_tried_together_score_as_each_alone(pixels):
    judge, steps = judge_of(drawn(0.9)), [(x / SCALE, y / SCALE) for x, y in pixels]
    fit = judge(aside(0, 0))
    together = judge.quick(aside(0, 0), np.array(steps), fit)
    alone = [float(judge.quick(aside(x, y), np.zeros((1, 2)), fit)[0]) for x, y in steps]
    assert np.allclose(together, alone, rtol=0.02, atol=4.0)  # a point on a pixel's edge may be rounded either way


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 3), st.booleans(), *[st.integers(0, 255)] * 3), min_size=1, max_size=40))
def test_medians_by_group_are_those_of_each_group(rows):
    group, told, codes = (np.array(v) for v in ([r[0] for r in rows], [r[1] for r in rows], [r[2:] for r in rows]))
    medians, count = medians_of(codes.astype(np.uint8), np.arange(len(rows)), told, group, 4)
    for k in range(4):
        own = codes[told & (group == k)]
        assert count[k] == len(own)
        assert np.array_equal(medians[k], np.median(own, axis=0) if len(own) else np.zeros(3))


@settings(max_examples=40, deadline=None)
@given(st.integers(0, len(BLOCKS) - 1), st.floats(0, 30), st.floats(0, 30))
def test_what_comes_within_a_reach_grows_with_it_and_holds_the_block_itself(k, reach, more):
    box = extent(BLOCKS[k])
    near, further = (near_by(box, LAYOUT.blocks, r) for r in (reach, reach + more))
    assert BLOCKS[k] in near
    assert {b.id for b in near} <= {b.id for b in further}
    assert {b.id for b in near_by(box, LAYOUT.blocks, 1000)} == {b.id for b in LAYOUT.blocks}


@pytest.mark.parametrize(("turn", "stretch"), [(0.0, 1.02), (1.5, 0.98), (-1.5, 1.0)])
def test_alignment_leads_from_near_by_to_the_place(turn, stretch):
    c, s = stretch * np.cos(np.radians(turn)), stretch * np.sin(np.radians(turn))
    middle = np.array(LAYOUT.size) / 2
    turned = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1.0]])
    about = np.array([[1, 0, middle[0]], [0, 1, middle[1]], [0, 0, 1.0]])
    start = TO_MAP @ about @ turned @ np.linalg.inv(about)
    score, found = align((drawn().ink > 0).astype(np.uint8) * 255, start, gather_marks(LAYOUT, "light"), LAYOUT)
    grid = grid_over(LAYOUT.size, 5)
    before, after = (np.linalg.norm(project(h, grid) - project(TO_MAP, grid), axis=1).max() for h in (start, found))
    assert score > 0.8
    assert after < min(3.0, 0.4 * before)


def test_strokes_that_are_no_pattern_are_not_aligned_to_the_end():
    lines = np.zeros_like(drawn().ink)
    rng = np.random.default_rng(3)
    for x, y in rng.uniform((40, 40), (lines.shape[1] - 80, lines.shape[0] // 4), (60, 2)).astype(int):
        cv2.line(lines, (int(x), int(y)), (int(x) + 25, int(y)), (255,), 1)
    assert align(lines, TO_MAP, gather_marks(LAYOUT, "light"), LAYOUT) is None


def test_a_photo_like_no_sheet_is_given_up_after_few_looks(desk_photo, decode, monkeypatch):
    looks = []
    search = Locator.search
    monkeypatch.setattr(Locator, "search", lambda at, effort: looks.append(effort) or search(at, effort))
    with pytest.raises(SheetNotFound):
        next(places.places_of(decode(desk_photo), LAYOUT, "light", "desk.jpg"))
    assert len(looks) <= places.ENOUGH_LOOKS


def test_a_place_clearly_found_does_not_outrank_another_that_explains_more(monkeypatch, decode, faulty_photo):
    """Where two looks led to different places, both are weighed against each other, whichever was led to twice."""
    pixels, asked = decode(faulty_photo), []
    good = Judge(drawn(), probes(LAYOUT, "light"), "light")(aside(0, 0))

    def look(at, effort, before):
        first = before is None
        fit = replace(good, explained=300.0 if first else 200.0, there=0.65)
        return (
            Found(
                rigid(TO_MAP if first else TO_MAP @ np.diag([0.5, 0.5, 1.0]), at.layout.size),
                fit,
                None,
                None,
                again=not first,
            ),
            [],
            at,
        )

    monkeypatch.setattr(places, "_look", look)
    monkeypatch.setattr(Locator, "outshone", lambda *_: False)
    monkeypatch.setattr(Locator, "explains", lambda at, found: found.fit.explained)
    monkeypatch.setattr(
        places, "_checked", lambda at, best, candidates, others: asked.append((best, others)) or best.registration
    )
    next(places.places_of(pixels, LAYOUT, "light", "p"))
    best, others = asked[0]
    assert best.fit.explained == 300.0
    assert others
    assert all(other.apart(best.registration) > 0.05 for other in others)


# Measuring: paper drawn straight down, 24 pixels a mm, a mark every so often.

PX = 24.0
BLOCK = BLOCKS[0]


def paper_with(ink: np.ndarray, offset_mm: np.ndarray, noise: np.ndarray, part: dict[int, tuple[float, float]] | None = None) -> np.ndarray:  # fmt: skip
    """A photo (rows, columns, 3) of one block: `ink` (n,) share of a mark's, `offset_mm` (n,) along feed.

    part : from where to where along its length a broken mark has ink, 0..1, by its place
    """
    right, bottom = extent(BLOCK)[2:]
    light = np.ones((round((bottom + 6) * PX), round((right + 6) * PX)))
    rows = np.arange(light.shape[0])[:, None]
    columns = np.arange(light.shape[1])[None]
    for i, ((x, y), share, off) in enumerate(zip(mark_centres(BLOCK) + 3.0, ink, offset_mm, strict=True)):
        left, right = (x + (where - 0.5) * BLOCK.mark[0] for where in (part or {}).get(i, (0.0, 1.0)))
        a, b = int((x - BLOCK.mark[0] / 2) * PX) - 2, int((x + BLOCK.mark[0] / 2) * PX) + 3
        c, d = int((y + off) * PX) - 12, int((y + off) * PX) + 13
        across = np.exp(-0.5 * ((rows[c:d] - (y + off) * PX) / (0.45 * BLOCK.mark[1] * PX + 0.4)) ** 2)
        along = np.clip(columns[:, a:b] - left * PX, 0, 1) * np.clip(right * PX - columns[:, a:b], 0, 1)
        light[c:d, a:b] *= 1 - 0.8 * share * across * along
    light = np.clip(0.7 * light + noise[: light.shape[0], : light.shape[1]], 0, 1)
    codes = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055) * 255
    return np.repeat(np.rint(codes).astype(np.uint8)[..., None], 3, axis=2)


def measured(photo: np.ndarray, expected: Expected = Expected()):
    place = rigid(np.array([[PX, 0, 3 * PX], [0, PX, 3 * PX], [0, 0, 1]]), LAYOUT.size)
    return measure_block(photo, BLOCK, place, "light", expected=expected, clear=clear_of([BLOCK])[0])


def grain(sigma: float, soft: float = 0.0, seed: int = 2) -> np.ndarray:
    noise = np.random.default_rng(seed).normal(0, 1, (1400, 1400)).astype(np.float32)
    noise = cv2.GaussianBlur(noise, (0, 0), soft) if soft else noise
    return sigma * noise / float(noise.std())


def test_ink_and_place_come_out_as_they_were_printed():
    rng = np.random.default_rng(5)
    ink = np.where(rng.random(BLOCK.nozzles) < 0.3, rng.uniform(0.3, 0.9, BLOCK.nozzles), 1.0)
    offset = np.where(rng.random(BLOCK.nozzles) < 0.3, rng.uniform(-2, 2, BLOCK.nozzles) * BLOCK.nozzle_pitch, 0.0)
    marks = measured(paper_with(ink, offset, grain(0.004)))
    assert np.quantile(np.abs(marks.ink - ink), 0.95) < 0.05
    assert np.quantile(np.abs(marks.offset[:, 1] - offset), 0.95) < 0.1 * BLOCK.nozzle_pitch


@pytest.mark.parametrize("begins", [0.0, 0.25, 0.5])
def test_a_mark_broken_off_at_an_end_or_in_its_middle_has_as_much_ink_as_is_left_of_it(begins):
    rng = np.random.default_rng(7)
    broken = {int(i): (begins, begins + float(rng.uniform(0.25, 0.5))) for i in rng.permutation(BLOCK.nozzles)[:20]}
    photo = paper_with(np.ones(BLOCK.nozzles), np.zeros(BLOCK.nozzles), grain(0.004), broken)
    marks = measured(photo)
    left = np.array([end - start for start, end in broken.values()])
    assert np.abs(marks.ink[list(broken)] - left).max() < 0.07


def test_half_the_ink_that_takes_more_than_half_the_light_is_still_weak():
    """Paper scatters light under a dot and cameras raise contrast: nothing of it changes a full mark or a gap."""
    taken = np.array([0.0, 0.02, 0.62, 1.0, 1.2])
    ink = ink_share(taken)
    assert np.abs(ink - taken)[[0, 1, 3, 4]].max() < 0.005
    assert ink[2] < WEAK_BELOW < taken[2]


@pytest.mark.parametrize("soft", [0.0, 1.5, 3.0])
def test_gaps_are_not_read_as_faint_marks_however_coarse_the_noise_is(soft):
    """Compression and denoising leave waves as wide as a mark: what gaps themselves show says how far to trust one."""
    ink = np.where(np.random.default_rng(6).random(BLOCK.nozzles) < 0.5, 1.0, 0.0)
    marks = measured(paper_with(ink, np.zeros(BLOCK.nozzles), grain(0.035, soft)))
    verdict = judge_marks(
        marks.ink,
        marks.ink_sigma,
        marks.offset / BLOCK.nozzle_pitch,
        marks.offset_sigma / BLOCK.nozzle_pitch,
        marks.judged,
    )
    claimed = (ink == 0) & (verdict.state != STATES.index("missing")) & (verdict.probability > 0.6) & verdict.judged
    assert claimed.sum() <= 1
    assert (verdict.state[ink == 1] == STATES.index("firing")).mean() > 0.9


def test_what_seems_faint_is_a_mark_among_others_and_noise_in_a_dead_block():
    given_ = np.array([0.28]), np.array([0.1]), np.zeros((1, 2)), np.full((1, 2), 0.2), np.array([True])
    assert [STATES[judge_marks(*given_, dead=dead).state[0]] for dead in (False, True)] == ["weak", "missing"]


def test_a_silent_block_on_ground_of_another_colour_is_not_told_to_be_on_the_sheet():
    printed = measured(paper_with(np.ones(BLOCK.nozzles), np.zeros(BLOCK.nozzles), grain(0.004)))
    silent, on_desk = (
        replace(printed, printing=0.0, ground=np.array(g)) for g in ([0.35, 0.34, 0.33], [0.4, 0.25, 0.15])
    )
    assert elsewhere({"a": printed, "b": silent, "c": on_desk}) == ["c"]
    assert elsewhere({"b": silent, "c": on_desk}) == []  # nothing printed to hold them against


def test_ink_fainter_than_any_marks_of_the_sheet_is_what_spills_over_and_no_printing_block():
    spilt = paper_with(np.full(BLOCK.nozzles, 0.05), np.zeros(BLOCK.nozzles), grain(0.001))
    assert measured(spilt, Expected(strength=0.9, width=0.05)).printing == 0
    assert measured(spilt, Expected(strength=0.05, width=0.05)).printing > 0.5
    assert measured(spilt).printing > 0.5  # film in little light: how faint this photo's marks are is not known yet


def test_a_block_laid_between_its_rows_is_not_told_to_print_nothing():
    ids = {b.id for b in BLOCKS}
    ink = cv2.dilate(drawn().ink, np.ones((3, 3), np.uint8))
    between = rigid(TO_MAP @ np.array([[1, 0, 0], [0, 1, BLOCKS[0].row_pitch[1] / 2], [0, 0, 1.0]]), LAYOUT.size)
    assert overlooked(ink, between, BLOCKS, ids) == ids
    assert overlooked(ink, between, BLOCKS, set()) == set()  # those that print are judged mark by mark
    noise = np.clip(grain(4.0)[: ink.shape[0], : ink.shape[1]] + 8, 0, 255).astype(np.uint8)
    assert overlooked(noise, between, BLOCKS, ids) == set()


# Registration and what hands give.


@pytest.mark.parametrize("thrown", [0.0, 0.2])
def test_a_smooth_bend_is_followed_though_a_fifth_of_the_marks_are_thrown(thrown):
    rng = np.random.default_rng(8)
    centres = np.concatenate([mark_centres(b) for b in BLOCKS])
    flat = rigid(TO_MAP, LAYOUT.size)
    bend = flat.terms(centres)[:, [0, 3, 4]] @ np.array([[0.05, 0.02], [0.03, -0.04], [0.0, 0.05]])
    offsets = bend + rng.normal(0, 0.004, centres.shape) + 0.25 * (rng.random(len(centres)) < thrown)[:, None]
    fitted = fit_warp(flat, centres, offsets, np.full_like(offsets, 0.01))
    left = fitted.displaced(centres) - centres - bend
    assert np.abs(left).max() < 0.02


def test_marks_that_tell_nothing_along_travel_stay_where_they_were_found():
    """A few at one side that tell would carry touching runs at the other whole columns away."""
    centres = np.concatenate([mark_centres(b) for b in BLOCKS])
    flat, offsets, sigma = rigid(TO_MAP, LAYOUT.size), np.zeros_like(centres), np.full_like(centres, 0.01)
    told = centres[:, 0] < np.quantile(centres[:, 0], 0.15)
    offsets[told, 0], sigma[~told, 0] = 0.05 * centres[told, 0], 20.0
    moved_by = fit_warp(flat, centres, offsets, sigma).displaced(centres) - centres
    assert np.abs(moved_by[told] - offsets[told]).max() < 0.03
    assert np.abs(moved_by[centres[:, 0] > 0.5 * LAYOUT.size[0]]).max() < 0.1


def test_what_a_homography_can_say_is_said_by_the_homography():
    centres = np.concatenate([mark_centres(b) for b in BLOCKS])
    warp = np.zeros((len(TERMS), 2))
    warp[1], warp[2], warp[3] = (0.4, 0.1), (-0.2, 0.3), (0.05, 0.02)
    given_ = Registration(TO_MAP, warp, LAYOUT.size)
    tidy = tidied(given_, centres)
    assert np.abs(tidy.to_photo(centres) - given_.to_photo(centres)).max() < 0.1
    assert np.abs(tidy.warp).max() < 0.08


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 4), st.floats(-0.3, 0.3), st.floats(-0.002, 0.002))
def test_a_registration_through_places_leads_to_them(degree, bend, tilt):
    grid = grid_over(LAYOUT.size, 7)
    flat = TO_MAP @ np.array([[1, 0, 0], [0, 1, 0], [tilt, 0, 1.0]])
    warp = np.zeros((len(TERMS), 2))
    warp[2 if degree < 2 else 5] = (0.0, bend)
    seen = Registration(flat, warp, LAYOUT.size).to_photo(grid)
    assert np.abs(through(seen, grid, LAYOUT.size, degree).to_photo(grid) - seen).max() < 0.5


@pytest.mark.parametrize("shift", [(1.5, -1.0), (-2.0, 2.0), (0.0, 3.0)])
def test_corners_a_hand_missed_are_moved_onto_the_few_marks_that_printed(shift):
    rng = np.random.default_rng(4)
    some = np.concatenate([mark_centres(b)[rng.random(b.nozzles) < 0.03] for b in BLOCKS])
    missed = np.array([[1, 0, shift[0]], [0, 1, shift[1]], [0, 0, 1.0]]) @ TO_MAP
    pinned = pin(missed, project(TO_MAP, some), BLOCKS)
    assert np.abs(project(pinned, some) - project(TO_MAP, some)).max() < 0.5


def test_corners_are_not_moved_onto_strokes_that_lie_on_no_lattice():
    strokes = np.random.default_rng(9).uniform((60, 60), np.array(LAYOUT.size) * SCALE, (40, 2))
    assert pin(TO_MAP, strokes, BLOCKS) is None
