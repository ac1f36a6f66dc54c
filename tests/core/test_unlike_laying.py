"""Laying lattices that are unlike each other: each block by its own rows, columns and gaps."""

import cv2
import numpy as np
import pytest
from tests.conftest import small_scene
from tests.core.drawn import INKS, PITCH, block, photo, read, sheet, states

from dusky_sieve.core.layout import Layout, mark_centres, marks_over
from dusky_sieve.core.reading.aside import going_on
from dusky_sieve.core.reading.beyond import beyond_sides
from dusky_sieve.core.reading.ends import Ends
from dusky_sieve.core.reading.find import gather_marks
from dusky_sieve.core.reading.finished import Finished
from dusky_sieve.core.reading.follow import FINAL, distance_to, follow
from dusky_sieve.core.reading.inkmap import InkMap
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.measure import Expected
from dusky_sieve.core.reading.registration import TERMS, Registration, moved, rigid, through
from dusky_sieve.core.reading.runs import slid
from dusky_sieve.core.reading.slide import slide
from dusky_sieve.core.simulate import BlockTruth, sheet_to_photo

SCALE = 14.0  # map pixels a mm


def placed(layout: Layout, *warp: tuple[int, float, float]) -> Registration:
    """The sheet in the middle of a map, with terms (number, x, y mm) of a warp."""
    terms = np.zeros((len(TERMS), 2))
    for number, x, y in warp:
        terms[number] = (x, y)
    return Registration(np.array([[SCALE, 0, 60.0], [0, SCALE, 60.0], [0, 0, 1]]), terms, layout.size)


def printed(layout: Layout, place: Registration) -> np.ndarray:
    """An ink map of all marks."""
    ink = np.zeros(tuple(round(v * SCALE) + 120 for v in layout.size[::-1]), np.uint8)
    for b in marks_over(layout, "light"):
        for x, y in mark_centres(b):
            one, other = np.rint(place.to_photo(np.array([[x - b.mark[0] / 2, y], [x + b.mark[0] / 2, y]]))).astype(int).tolist()  # fmt: skip
            cv2.line(ink, one, other, (110,), 1)
    return ink


def off(layout: Layout, found: Registration, true: Registration) -> np.ndarray:
    """How far a place lays each block's marks from where they are, mm at most, along (blocks, 0) and across travel (blocks, 1)."""
    lies = [np.abs(found.to_photo(c) - true.to_photo(c)).max(axis=0) / SCALE for c in map(mark_centres, marks_over(layout, "light"))]  # fmt: skip
    return np.array(lies)


def test_rows_close_by_are_not_followed_onto_the_next_ones_for_those_of_other_blocks_are_far_apart():
    tight = block("tight", (1.0, 0.5), INKS[0], nozzles=60, columns=1, step=(3.0, 0.0), down=0.6, mark=(2.0, 0.08))
    wide = [block(f"wide{k}", (8.0 + 12 * k, 0.5), INKS[1], nozzles=48, columns=4, step=(2.6, 0.0), down=3.0, mark=(2.0, 0.08)) for k in (0, 1)]  # fmt: skip
    layout = sheet((32.0, 37.0), tight, *wide)
    true, start = placed(layout), placed(layout, (2, 0.0, 0.6))  # stretched by a tight row at its rim
    distance = distance_to((printed(layout, true) > 50).astype(np.uint8) * 255)
    assert off(layout, start, true)[:, 1] == pytest.approx(0.58, abs=0.02)
    assert off(layout, follow(distance, start, gather_marks(layout, "light"), FINAL), true)[:, 1].max() < 0.05


ROWS = [block(f"row{k}", (1.0, 0.5 + 3 * k), INKS[0], nozzles=32, columns=32, step=(2.2, 0.0), down=1.0, mark=(1.5, 0.08)) for k in (0, 1)]  # fmt: skip
RUNS = [block(f"run{k}", (1.0 + 24 * (k % 3), 8.0 + 14 * (k // 3)), INKS[1], nozzles=100, columns=20, step=(1.0, PITCH), down=2.7, mark=(0.95, 0.08)) for k in range(6)]  # fmt: skip


@pytest.mark.parametrize("runs", [[], RUNS], ids=["alone", "among runs"])
def test_two_rows_of_many_marks_tell_how_the_sheet_bows_along_them(runs):
    """Among more blocks whose gaps do not show, too."""
    layout = sheet((74.0, 44.0), *ROWS, *runs)
    true = placed(layout, (3, 0.8, 0.0))
    ink = printed(layout, true)
    found = slide(
        InkMap(ink, np.zeros((*ink.shape, 3), np.uint8), 1.0).soft, placed(layout), marks_over(layout, "light"), layout
    )
    assert off(layout, placed(layout), true)[:2, 0].min() > 0.7
    assert off(layout, found, true)[:, 0].max() < 0.15


@pytest.mark.parametrize("aside", [-0.3, 0.15])
@pytest.mark.parametrize(("step", "thick", "rows"), [(0.85, 0.15, 28.0), (0.28, 0.08, 8.0)])
def test_marks_that_step_down_with_bare_paper_between_them_are_slid_each_to_where_it_stands(step, thick, rows, aside):
    """From one to the next there is no row: nearly closed gaps were sought along it, and a sheet slid off by 20 mm."""
    steep = [block(f"s{k}", (2.0 + 22 * k, 1.0), INKS[k], nozzles=66, columns=22, step=(0.76, step), down=rows, mark=(0.7, thick)) for k in (0, 1)]  # fmt: skip
    layout = sheet((44.0, 1.0 + 21 * step + 2.1 * rows), *steep)
    true = placed(layout)
    ink, start = printed(layout, true), moved(true, (aside, 0.0))
    found = slide(
        InkMap(ink, np.zeros((*ink.shape, 3), np.uint8), 1.0).soft, start, marks_over(layout, "light"), layout
    )
    assert off(layout, found, true)[:, 0].max() < 0.05


def test_ends_of_unlike_blocks_are_slid_by_so_many_mm_each_by_its_own_columns():
    slides = np.arange(-4, 4.01, 0.125)
    # 2 mm of columns of 2 mm, and of half a mm
    best = [np.clip(1 - np.abs(slides - right), -1, 1) for right in (1.0, 4.0)]
    told = Ends(np.stack(best), slides, np.full(2, 0.5), np.zeros((2, 2)), np.array([[2.0, 0.1], [0.5, 0.1]]), ("a", "b"), (-1, -1))  # fmt: skip
    assert told.score(np.array([[1.0]]), 2.0) == pytest.approx(1.0)
    assert told.score(np.array([[4.0]]), 0.5) == pytest.approx(1.0)
    assert told.score(np.array([[1.0]]), 0.5) == pytest.approx(-0.375)


@pytest.mark.parametrize(("runs_mm", "short_mm"), [(-0.36, 0.11), (0.4, -0.12), (-0.75, -0.13)])
def test_steps_of_long_runs_carry_no_block_of_short_columns_on_by_one_of_these(runs_mm, short_mm):
    """The gaps of that told its columns on the map; a fifth of the runs' column lays it on itself again."""
    run, short = (
        [block(f"{name}{k}", (left, 0.5 + 16 * k), ink, nozzles=rows * columns, columns=columns, step=step, down=down, mark=mark) for k in range(3)]
        for name, left, ink, rows, columns, step, down, mark in (
            ("run", 1.5, INKS[0], 4, 16, (2.6, PITCH), 3.0, (2.45, 0.08)),
            ("short", 47.0, INKS[1], 8, 11, (0.5, PITCH), 1.5, (0.25, 0.08)),
        )
    )  # fmt: skip
    layout = sheet((54.0, 45.0), *run, *short)
    pixels, true = photo(layout), rigid(sheet_to_photo(layout, small_scene(fill=0.9, margin_mm=10)), layout.size)
    slope = (short_mm - runs_mm) / 28.5  # from the runs' middle at 21 mm to that of the others
    shift = np.array([[1 + slope, 0, runs_mm - 21 * slope], [0, 1, 0], [0, 0, 1]])
    aside = rigid(true.homography @ shift, layout.size)
    ends = Finished(Locator(pixels, layout, "light", "p"), aside).ends
    found = slid(pixels, marks_over(layout, "light"), aside, "light", ends)
    scale = true.px_per_mm(np.array(layout.size) / 2)
    left = [
        np.median((found.to_photo(c) - true.to_photo(c))[:, 0]) / scale
        for c in map(mark_centres, marks_over(layout, "light"))
    ]
    assert np.abs(left).max() < 0.1


def test_banks_whose_marks_stand_in_each_others_gaps_say_nothing_of_how_they_lie_along_travel():
    """Gaps and marks are alike, but where one of them is absent: a sheet that lay right was bent by more than a column."""
    banks = [block(f"b{k}", (1.0 + 2.16 * (k % 2) + 24 * (k // 2), 0.5), INKS[k], nozzles=100, columns=5, step=(4.32, 0.17), down=0.85, mark=(1.8, 0.1)) for k in range(4)]  # fmt: skip
    layout = sheet((48.0, 19.0), *banks)
    pixels = photo(layout, (("b1", BlockTruth(all_missing=True)),))
    true = rigid(sheet_to_photo(layout, small_scene(fill=0.9, margin_mm=10)), layout.size)
    ends = Finished(Locator(pixels, layout, "light", "p"), true).ends
    found = slid(pixels, marks_over(layout, "light"), true, "light", ends)
    assert np.abs(found.warp).max() == 0


LADDER = sheet(
    (80.0, 76.0),
    block("ladder", (3.5, 0.5), INKS[0], nozzles=96, columns=1, step=(2.2, 0.0), down=0.667, mark=(1.9, 0.15)),
    block("long", (8.0, 0.5), INKS[1], nozzles=96, columns=8, step=(3.35, 0.0), down=0.83, mark=(2.36, 0.2)),
    block("short", (1.0, 66.0), INKS[2], nozzles=96, columns=10, step=(0.79, 0.0), down=0.99, mark=(0.6, 0.17)),
    block("wide", (12.0, 66.0), INKS[3], nozzles=96, columns=25, step=(0.9, 0.0), down=1.27, mark=(0.73, 0.14)),
)


@pytest.mark.parametrize(("roll", "tilt", "towards"), [(301, 3, 39), (107, 5, 293), (19, 7, 98)])
def test_a_ladder_of_close_rungs_beside_blocks_of_wide_columns_is_read(roll, tilt, towards):
    reading = read(LADDER, photo(LADDER, roll_deg=roll, tilt_deg=tilt, tilt_towards_deg=towards, fill=0.7))
    assert states(reading) == {b.id: {} for b in LADDER.blocks}
    assert all(b.read for b in reading.blocks)


def test_a_block_that_lies_one_of_its_narrow_columns_aside_is_in_doubt_and_the_others_are_not():
    """Its column is none of theirs, so that says nothing of them: a sheet was refused for one such block."""
    narrow, aside = (
        {"nozzles": 96, "columns": 12, "step": (0.5, 0.0), "down": 1.0, "mark": (0.3, 0.08), "at": (x, 0.5)}
        for x in (1.0, 1.5)
    )
    wide = [block(f"wide{k}", (1.0, 14.0 + 12 * k), INKS[k + 1], nozzles=96, columns=12, step=(2.6, 0.0), down=1.2, mark=(2.0, 0.08)) for k in (0, 1)]  # fmt: skip
    layout, printed_so = (sheet((34.0, 36.0), block("narrow", ink=INKS[0], **lies), *wide) for lies in (narrow, aside))
    place = rigid(sheet_to_photo(layout, small_scene(fill=0.9, margin_mm=10)), layout.size)
    finished = Finished(Locator(photo(printed_so), layout, "light", "p"), place)
    assert finished.steps_told()
    assert finished.slidable() == {"narrow"}


def test_runs_numbered_from_the_right_and_from_the_left_are_slid_together_to_where_their_steps_are_level():
    """The middle one of their columns is none: it was divided by."""
    run = {"nozzles": 96, "columns": 24, "down": 4.2, "mark": (1.2, 0.08)}
    layout = sheet(
        (34.0, 34.0),
        *(block(f"{way}", (1.0 + left, 0.5 + 17 * k), INKS[0], step=(way * 1.3, PITCH), **run) for k, (way, left) in enumerate(((1, 0.0), (-1, 23 * 1.3)))),
    )  # fmt: skip
    pixels, true = photo(layout), rigid(sheet_to_photo(layout, small_scene(fill=0.9, margin_mm=10)), layout.size)
    aside = moved(true, (0.4, 0.0))
    ends = Finished(Locator(pixels, layout, "light", "p"), aside).ends
    found = slid(pixels, marks_over(layout, "light"), aside, "light", ends)
    off = np.concatenate([found.to_photo(c) - true.to_photo(c) for c in map(mark_centres, layout.blocks)])
    assert np.abs(off).max() < 0.1 * 1.3 * true.px_per_mm(np.array(layout.size) / 2)


THREE_ROWS = sheet(
    (33.0, 14.0),
    *(block(f"row{k}", (1.5, 0.5 + 6.0 * k), INKS[k], nozzles=25, columns=25, step=(1.25, 0.0), down=2.0, mark=(0.95, 0.09)) for k in range(3)),
)  # fmt: skip
END_GONE = (("row2", BlockTruth(missing=(1,))),)


def test_a_row_that_lies_where_two_others_lead_it_is_read_though_its_end_did_not_print():
    reading = read(THREE_ROWS, photo(THREE_ROWS, END_GONE, words=False))
    assert states(reading) == {"row0": {}, "row1": {}, "row2": {1: "missing"}}
    assert all(b.read for b in reading.blocks)


def test_a_row_that_was_followed_a_column_aside_of_where_two_others_lead_it_is_in_doubt():
    """Nothing else tells of it: its first mark is missing, and so would its last one be."""
    exact = rigid(sheet_to_photo(THREE_ROWS, small_scene(fill=0.9, margin_mm=10, words=False)), THREE_ROWS.size)
    points = np.concatenate([mark_centres(b) for b in THREE_ROWS.blocks])
    down = (points[:, 1] - 0.5) / 12.0
    aside = points + np.outer(1.25 * (2 * down**2 - down), (1.0, 0.0))
    slipped = through(exact.to_photo(aside), points, THREE_ROWS.size, 2)
    at = Locator(photo(THREE_ROWS, END_GONE, words=False), THREE_ROWS, "light", "p")
    assert [Finished(at, place).slidable() for place in (exact, slipped)] == [set(), {"row2"}]


def test_short_last_rows_of_blocks_that_stand_between_each_others_columns_are_asked_together_whether_marks_go_on():
    layout = sheet((27.0, 25.0), *(
        block(name, (1.5 + 2.5 * k, 0.5), INKS[k], nozzles=52 - k, columns=5, step=(5.0, 0.0), down=2.2, mark=(1.9, 0.1)) for k, name in enumerate("ab")
    ))  # fmt: skip
    assert [len(beyond_sides(b, layout)["bottom"]) for b in layout.blocks] == [2, 2]
    shot = {"fill": 0.9, "margin_mm": 10, "roll_deg": 3.0}
    true = Registration(sheet_to_photo(layout, small_scene(**shot)), np.zeros((len(TERMS), 2)), layout.size)
    told = [going_on(photo(layout, **shot), layout, "light", {"all bottom"}, moved(true, (0.0, step)), Expected()) for step in (0.0, -2.2)]  # fmt: skip
    assert told == [(set(), {}), ({"all bottom"}, {"a": (0.0, 2.2), "b": (0.0, 2.2)})]
