"""Sheets whose blocks are unlike each other, framed, half absent, or of which one lies elsewhere than the layout says."""

from types import SimpleNamespace

import cv2
import numpy as np
import pytest
from tests.conftest import LARGER, small_scene
from tests.core.drawn import INKS, LIKE, PITCH, SHORT_AND_LONG, block, photo, read, sheet, states

from dusky_sieve.core.layout import Clear, MarksBlock, mark_centres
from dusky_sieve.core.reading import laid as laid_module
from dusky_sieve.core.reading.cover import between_rows
from dusky_sieve.core.reading.ends import Ends
from dusky_sieve.core.reading.finished import Finished
from dusky_sieve.core.reading.inkmap import find_strokes
from dusky_sieve.core.reading.judge import STATES
from dusky_sieve.core.reading.laid import laid
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.measure import Expected, measure_block
from dusky_sieve.core.reading.registration import grid_over, led, moved, rigid, through
from dusky_sieve.core.reading.runs import slid
from dusky_sieve.core.reading.tilt import leans
from dusky_sieve.core.simulate import BlockTruth, WeakMark, sheet_to_photo
from dusky_sieve.core.simulate.camera import place_on_photo

# Long marks in a raster above a staircase of short ones above runs that touch: of a tilt the lengths of all together lie.
MIXED = sheet(
    (56.0, 60.0),
    block("long", (2.0, 0.5), INKS[0], nozzles=96, columns=8, step=(4.2, 0.0), down=1.5, mark=(3.4, 0.09)),
    block("short", (40.0, 0.5), INKS[1], nozzles=90, columns=6, step=(2.2, PITCH), down=1.2, mark=(1.3, 0.08)),
    block("stairs", (1.0, 22.0), INKS[2], nozzles=120, columns=12, step=(1.6, PITCH), down=1.6, mark=(1.1, 0.09)),
    block("runs", (23.0, 24.0), INKS[3], nozzles=100, columns=25, step=(1.25, PITCH), down=4.0, mark=(1.15, 0.09)),
    block("last", (1.0, 44.0), INKS[1], nozzles=72, columns=6, step=(3.0, 0.0), down=1.2, mark=(2.0, 0.1)),
)
FAULTS = {
    "long": BlockTruth(missing=(5, 40), weak=(WeakMark(nozzle=77, ink=0.4),)),
    "stairs": BlockTruth(missing=(1, 61, 62, 120)),
    "runs": BlockTruth(missing=(13, 50)),
}
TOLD = {"long": {5: "missing", 40: "missing", 77: "weak"}, "stairs": dict.fromkeys((1, 61, 62, 120), "missing"), "runs": {13: "missing", 50: "missing"}}  # fmt: skip


@pytest.mark.parametrize(("gap", "held"), [(1.0, True), (4.0, True), (26.0, False)])
def test_a_block_without_its_last_column_is_not_read_with_its_columns_spread_over_the_others(gap, held):
    """Eight columns laid onto seven end where marks end, and lie between marks in the middle: all seemed to have printed."""
    shape = {"nozzles": 64, "columns": 8, "step": (1.6, 0.0), "down": 1.4, "mark": (1.2, 0.1)}
    places = {"first": (1.0, 0.5), "below": (1.0, 16.0), "aside": (14.0 + gap, 0.5)}
    layout = sheet((30.0 + gap, 30.0), *(block(n, at, INKS[k], **shape) for k, (n, at) in enumerate(places.items())))
    gone = tuple(range(8, 65, 8))
    *others, aside = read(layout, photo(layout, (("aside", BlockTruth(missing=gone)),))).blocks
    assert [(b.read, b.faults) for b in others] == [(True, ())] * 2
    told = [f.nozzle for f in aside.faults if f.state == "missing"] == list(gone)
    assert not aside.read or (held and told)  # far from the others nothing holds it


@pytest.mark.parametrize(("gone", "unsure"), [({"b0", "b1"}, set()), ({"b1", "b2"}, {"b2"})])
def test_what_one_runs_ends_say_moves_no_block_whose_gaps_show(gone, unsure):
    """A run whose first column did not print fits a column aside; the sheet was carried along, or refused."""
    wide = {"nozzles": 128, "columns": 32, "step": (0.99, 0.0), "down": 1.3, "mark": (0.72, 0.1)}
    run = wide | {"step": (0.71, 0.0), "down": 0.9, "mark": (0.64, 0.1)}
    spots = [(f"b{k}", (1.0 + k % 2 * 36, 0.5 + k // 2 * 8)) for k in range(7)]
    layout = sheet((72.0, 36.0), *(block(name, at, INKS[k % 4], **(run if k == 2 else wide)) for k, (name, at) in enumerate(spots)))  # fmt: skip
    first = tuple(range(1, 129, 32))
    taken = photo(layout, tuple((name, BlockTruth(missing=first)) for name in sorted(gone)), tilt_deg=22, roll_deg=200, curl_mm=1.0)  # fmt: skip
    blocks = read(layout, taken).blocks
    assert {b.id for b in blocks if not b.read} == unsure
    for seen in blocks:
        told = {f.nozzle: str(f.state) for f in seen.faults}
        assert not seen.read or told == dict.fromkeys(first if seen.id in gone else (), "missing")


@pytest.mark.parametrize(("roll", "tilt", "towards"), [(5, 0, 0), (128, 16, 80), (250, 20, 300)])
def test_blocks_with_marks_of_different_lengths_are_read_at_any_tilt(roll, tilt, towards):
    reading = read(MIXED, photo(MIXED, tuple(FAULTS.items()), roll_deg=roll, tilt_deg=tilt, tilt_towards_deg=towards))
    assert reading.photos[0].found, reading.photos[0].why
    assert states(reading) == {b.id: TOLD.get(b.id, {}) for b in MIXED.blocks}


def test_unlike_lengths_feign_no_tilt_where_strokes_are_compared_with_those_near_by():
    """Long marks at one side and short ones at the other, seen squarely: taken for like ones, they would be a tilt."""
    page = np.zeros((900, 1200), np.uint8)
    for row, length in ((k, 70 if k < 10 else 38) for k in range(20)):
        for x in range(120, 1050, 100):
            page[60 + 40 * row : 62 + 40 * row, x : x + length] = 200
    strokes = find_strokes(page, None)
    taken_for_even, apart = (leans(strokes, page.shape, 1, 0.2, even=even)[0].to_map for even in (True, False))
    assert np.abs(apart[2, :2]).max() * 1200 < 0.03
    assert np.abs(taken_for_even[2, :2]).max() * 1200 > 0.1


STACKED = sheet((32.0, 51.0), *LIKE)


@pytest.mark.parametrize("side", ["top", "left"])
def test_a_rule_one_lattice_step_beyond_the_pattern_is_no_row_of_marks(side):
    pixels = photo(STACKED).copy()
    place = np.array(read(STACKED, pixels).photos[0].sheet_to_photo)
    ends = np.array([(-3.0, -0.6), (35.0, -0.6)] if side == "top" else [(-3.5, -3.0), (-3.5, 54.0)])
    for share in np.linspace(0, 1, 9000):
        x, y, w = place @ (*(ends[0] + share * (ends[1] - ends[0])), 1.0)
        pixels[round(y / w) - 1 : round(y / w) + 2, round(x / w) - 1 : round(x / w) + 2] = 40
    reading = read(STACKED, pixels)
    assert reading.photos[0].found, reading.photos[0].why
    assert states(reading) == {name: {} for name in "abcd"}


@pytest.mark.parametrize(("rows", "led"), [(1, True), (-1, True), (2, False)])
def test_a_block_that_lies_a_row_aside_is_led_back_and_one_two_rows_aside_is_unsure_while_the_others_are_read(
    rows, led
):
    """As where paper buckles between blocks: its marks fit one row further on, but for the first row and the last."""
    moved = LIKE[3] | {"origin": (1.5, 0.5 + 13.0 * 3 + 1.1 * rows + 2.0)}
    printed, believed = (
        sheet((32.0, 56.0), *LIKE[:3], last) for last in (moved, LIKE[3] | {"origin": (1.5, 0.5 + 13.0 * 3 + 2.0)})
    )
    reading = read(believed, photo(printed, words=False))
    assert reading.photos[0].found, reading.photos[0].why
    assert [b.read for b in reading.blocks] == [True, True, True, led]
    assert led or "in doubt" in (reading.blocks[3].why or "")
    assert not any(states(reading).values())


def test_a_channel_absent_and_more_than_half_of_all_other_marks_missing_still_leave_a_sheet():
    rng = np.random.default_rng(4)
    layout = sheet(
        (57.0, 24.0),
        *(block(n, (1.0 + 19.5 * k, 0.2), INKS[k], nozzles=153, columns=9, step=(1.9, PITCH), down=1.37, mark=(1.2, 0.1)) for k, n in enumerate("abc")),
    )  # fmt: skip
    gone = {n: BlockTruth(missing=tuple(sorted(rng.permutation(np.arange(1, 154))[:92].tolist()))) for n in "ab"}
    faults = (*gone.items(), ("c", BlockTruth(all_missing=True)))
    reading = read(layout, photo(layout, faults, roll_deg=328, tilt_deg=11, tilt_towards_deg=30))
    assert reading.photos[0].found, reading.photos[0].why
    told = states(reading)
    assert {n: tuple(sorted(told[n])) for n in "ab"} == {n: gone[n].missing for n in "ab"}


def test_marks_between_which_ink_stands_are_not_missing_but_looked_for_in_the_wrong_place():
    only = MarksBlock.model_validate(LIKE[0])
    rng = np.random.default_rng(3)
    bare, inked = np.clip(rng.normal(0.03, 0.02, 60), 0, 1), np.full(60, 0.02)
    inked[24:42] = rng.normal(0.45, 0.08, 18)
    state = np.full(60, STATES.index("firing"))
    state[24:42] = STATES.index("missing")
    alone = state.copy()
    alone[24:42] = STATES.index("firing")
    alone[30] = STATES.index("missing")
    assert between_rows(only, state, inked)[24:42].all()
    assert not between_rows(only, state, inked)[:18].any()
    assert not between_rows(only, state, bare).any()
    assert not between_rows(only, alone, inked).any()


@pytest.mark.parametrize("roll", [0, 40, 175])
def test_the_traces_of_white_ink_on_paper_are_not_taken_for_the_black_block_that_lacks_marks(roll):
    """Of a white block on light ground a tenth of black's ink is seen, and none of its marks is missing."""
    names = (("black", INKS[0], "light", 1.0), ("white", "#f4f4f2", "dark", 16.0))
    layout = sheet((32.0, 30.0), *(block(n, (1.0, y), ink, nozzles=59, columns=16, step=(1.9, PITCH), down=2.6, mark=(1.5, 0.12)) | {"backing": b} for n, ink, b, y in names))  # fmt: skip
    gone, shot = (*range(5, 14), 30), {"fill": 0.9, "margin_mm": 10, "roll_deg": roll}
    pixels = photo(layout, (("black", BlockTruth(missing=gone)),), **shot)
    ends = np.stack([place_on_photo(mark_centres(layout.blocks[1]) + (x, 0), layout, small_scene(**shot)) for x in (-0.75, 0.75)], 1)  # fmt: skip
    traces = cv2.polylines(np.zeros(pixels.shape[:2], np.uint8), list(np.rint(16 * ends).astype(np.int32)), False, (255,), 4, cv2.LINE_AA, 4)  # fmt: skip
    black = read(layout, (pixels * (1 - 0.1 * traces[..., None] / 255)).astype(np.uint8)).blocks[0]
    assert {f.nozzle: str(f.state) for f in black.faults} == dict.fromkeys(gone, "missing")


@pytest.mark.parametrize("columns", [1.1, -1.2])
def test_a_place_stretched_by_a_column_at_either_side_is_led_back_by_the_marks_that_go_on_there(columns):
    layout = sheet((28.0, 12.0), *(block(f"b{k}", (1.0 + 4.7 * k, 0.5), INKS[k % 4], nozzles=54, columns=6, step=(0.5, 0.0), down=1.3, mark=(0.36, 0.1)) for k in range(6)))  # fmt: skip
    shot, grid = {"fill": 0.9, "margin_mm": 10, "roll_deg": 4}, grid_over(layout.size, 9)
    pixels, true = photo(layout, **shot), place_on_photo(grid, layout, small_scene(**shot))
    aside = np.outer(0.5 * columns * (2 * grid[:, 0] / layout.size[0] - 1), (1.0, 0.0))
    place = through(place_on_photo(grid + aside, layout, small_scene(**shot)), grid, layout.size)
    found = laid(pixels, place, Locator(pixels, layout, "light", "p"))
    assert np.abs(found.registration.to_photo(grid) - true).max() < 2.0
    assert found.in_doubt == 0


@pytest.mark.parametrize("columns", [1.5, -1.5])
def test_a_place_that_slips_by_more_than_a_column_from_one_side_to_the_other_is_led_back_twice(columns):
    """Short marks in steps, and an absent block in the middle that would have held it: each time marks lead as far as one column."""
    step, corners = np.array((0.51, 0.141)), ((0.3, 0.3), (10.8, 0.3), (21.3, 0.3), (0.3, 13.8), (10.8, 13.8))
    blocks = (block(name, at, ink, nozzles=57, columns=10, step=(0.51, 0.141), down=1.41, mark=(0.27, 0.138)) for name, at, ink in zip("abcde", corners, (*INKS, "#e07b30"), strict=True))  # fmt: skip
    layout, shot = sheet((27.0, 23.0), *blocks), {"fill": 0.9, "margin_mm": 10}
    pixels = photo(layout, (("b", BlockTruth(all_missing=True)),), **shot)
    true = rigid(sheet_to_photo(layout, small_scene(**shot)), layout.size)
    slipped = led(true, np.outer(step, (-columns / 21.0, 0.0, columns)))
    found = laid(pixels, slipped, Locator(pixels, layout, "light", "p"))
    marks = np.concatenate([mark_centres(b) for b in layout.blocks])
    assert np.abs(found.registration.to_photo(marks) - true.to_photo(marks)).max() < 2.0
    assert found.in_doubt == 0


def test_rows_of_four_columns_say_as_well_how_they_lie_along_themselves():
    layout = sheet((42.0, 16.0), *(block(f"s{k}", (2.0 + 6 * k, 1.0), INKS[k % 4], nozzles=60, columns=4, step=(0.97, PITCH), down=0.9, mark=(0.85, 0.08)) for k in range(6)))  # fmt: skip
    shot, points = {"fill": 0.9, "margin_mm": 10}, mark_centres(layout.blocks[3])
    pixels, true = photo(layout, **shot), place_on_photo(points, layout, small_scene(**shot))
    place = moved(rigid(sheet_to_photo(layout, small_scene(**shot)), layout.size), (0.3, 0.3 * PITCH / 0.97))
    at = Locator(pixels, layout, "light", "p")
    back = slid(pixels, list(layout.blocks), place, "light", Finished(at, place).ends)
    before, after = (np.abs(way.to_photo(points) - true).max() for way in (place, back))
    assert after < 0.2 * before


@pytest.mark.parametrize(("missing", "aside", "told"), [((), 0, True), ((), 1, False), (range(1, 128, 24), 0, False), (range(1, 128, 24), 1, False)])  # fmt: skip
def test_unlike_blocks_are_held_against_each_ones_own_columns_where_their_first_ones_did_not_print(
    missing, aside, told
):
    """A step along one block's columns is none along the other's: by it a place a column aside of both led clearly."""
    layout = sheet(
        (26.0, 42.0),
        block("a", (2.0, 1.0), INKS[0], nozzles=128, columns=24, step=(0.9, PITCH), down=6.0, mark=(0.85, 0.09)),
        block("b", (2.0, 36.0), INKS[1], nozzles=32, columns=32, step=(0.68, PITCH), down=6.0, mark=(0.66, 0.09)),
    )
    gone = (("a", BlockTruth(missing=tuple(missing))), ("b", BlockTruth(missing=(1,)))) if missing else ()
    shot, grid = {"fill": 0.9, "margin_mm": 10}, grid_over(layout.size, 9)
    columns = 0.9 - 0.22 * np.clip((grid[:, 1] - 12) / 26, 0, 1)
    moved_by = aside * np.stack([columns, np.full(len(grid), PITCH)], axis=1)
    place = through(place_on_photo(grid + moved_by, layout, small_scene(**shot)), grid, layout.size)
    at = Locator(photo(layout, gone, **shot), layout, "light", "p")
    assert Finished(at, place).steps_told() == told


@pytest.mark.parametrize("told", [True, False])
def test_where_one_blocks_ends_on_the_map_speak_against_it_what_the_photo_shows_at_its_sides_decides(told, monkeypatch):
    layout = sheet((32.0, 26.0), LIKE[0], LIKE[1])
    pixels = photo(layout)
    at = Locator(pixels, layout, "light", "p")
    place = rigid(sheet_to_photo(layout, small_scene(fill=0.9, margin_mm=10)), layout.size)
    one = Ends(np.zeros((1, 9)), np.linspace(-1, 1, 9), np.ones(1), np.zeros((1, 2)), np.ones((1, 2)), (layout.blocks[0].id,), (1,), True)  # fmt: skip
    monkeypatch.setattr(Finished, "ends", one)
    monkeypatch.setattr(laid_module, "find_slip", lambda _: SimpleNamespace(moves=True))
    if not told:
        monkeypatch.setattr(laid_module, "columns_told", lambda *_: set())
    assert set(laid(pixels, place, at).doubtful) == (set() if told else {layout.blocks[0].id})


@pytest.mark.parametrize("rows_apart", [0.2, 0.25, 0.32])
def test_rows_close_by_are_not_taken_for_noise_and_their_block_not_for_dead(rows_apart):
    """Marks two pixels thick every nine pixels: most of what is between them is their own foot."""
    close = sheet((14.0, 30.0), block("list", (6.0, 0.5), INKS[1], nozzles=48, columns=1, step=(9.0, 0.0), down=rows_apart, mark=(9.0, 0.06)))  # fmt: skip
    pixels = photo(
        close, (("list", BlockTruth(missing=(7, 30))),), width=1600, height=1200, fill=rows_apart * 3, lens_blur_px=0.9
    )
    only = MarksBlock.model_validate(close.blocks[0])
    true = rigid(
        sheet_to_photo(close, small_scene(width=1600, height=1200, fill=rows_apart * 3, margin_mm=10)), close.size
    )
    measured = measure_block(pixels, only, true, "light", expected=Expected(), clear=Clear(rows_apart - 0.06, 0.2))
    assert measured.printing > 0.9
    assert set(np.flatnonzero(measured.ink < 0.3) + 1) == {7, 30}


@pytest.mark.parametrize("aside", [0.0, 1e-12, 0.03])
def test_blocks_whose_marks_lie_on_each_other_are_refused_for_nobody_can_tell_whose_ink_it_is(aside):
    """Of rows a trifle apart there is nothing between to look at; marks measured there went on for ever."""
    stairs = MIXED.blocks[2]
    upon = stairs.model_copy(update={"id": "upon", "origin": (stairs.origin[0], stairs.origin[1] + aside)})
    found = read(MIXED.model_copy(update={"blocks": (*MIXED.blocks, upon)}), photo(MIXED, tuple(FAULTS.items())))
    assert found.photos[0].found, found.photos[0].why
    assert {b.id for b in found.blocks if not b.read and "another block" in str(b.why)} == {"stairs", "upon"}
    assert all(b.read for b in found.blocks if b.id not in ("stairs", "upon"))


@pytest.mark.parametrize(("roll", "tilt"), [(4, 0), (58, 12)])
def test_runs_of_unlike_columns_are_held_against_places_a_column_aside_each_by_its_own(roll, tilt):
    reading = read(
        SHORT_AND_LONG, photo(SHORT_AND_LONG, roll_deg=roll, tilt_deg=tilt, lens_k1=0.04, margin_mm=16, **LARGER)
    )
    assert reading.photos[0].found, reading.photos[0].why
    assert states(reading) == {"short": {}, "long": {}}


@pytest.mark.parametrize(("in_doubt", "said"), [(1, False), (2, True)])
def test_a_block_that_prints_nothing_is_in_doubt_where_many_of_those_that_print_are(in_doubt, said, monkeypatch):
    shot, grid = {"fill": 0.9, "margin_mm": 10}, grid_over(MIXED.size, 9)
    pixels = photo(MIXED, (("last", BlockTruth(all_missing=True)),), **shot)
    place = through(place_on_photo(grid, MIXED, small_scene(**shot)), grid, MIXED.size)
    lying_wrongly = {b.id: np.ones(b.nozzles, bool) for b in MIXED.blocks[:in_doubt]}
    monkeypatch.setattr(laid_module, "straddling", lambda *_: (0.0, dict(lying_wrongly)))
    doubtful = laid(pixels, place, Locator(pixels, MIXED, "light", "p")).doubtful
    assert sorted(doubtful) == sorted([*lying_wrongly, *["last"] * said])


@pytest.mark.parametrize("fill", [0.4, 0.5])
def test_gaps_of_less_than_a_pixel_tell_where_the_marks_of_a_raster_lie_along_their_rows(fill):
    one = block("one", (0.5, 0.5), INKS[0], nozzles=1527, columns=32, step=(0.7078, 0.0), down=1.2, mark=(0.627, 0.14)) | {"nozzle_pitch": 0.282}  # fmt: skip
    layout = sheet((24.5, 60.0), one)
    reading = read(layout, photo(layout, roll_deg=100, fill=fill, tilt_deg=8, lens_k1=0.03))
    assert states(reading) == {"one": {}}
