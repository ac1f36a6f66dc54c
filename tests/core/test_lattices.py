"""Lattices written down another way, sheets that bend within a block, and ink that no nozzle laid."""

from functools import cache
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
from tests.conftest import small_scene

from dusky_sieve.core.layout import Layout, MarksBlock, clear_of, mark_centres
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.reading.along import along_travel, numbered_back
from dusky_sieve.core.reading.cover import adrift, spread
from dusky_sieve.core.reading.document import BlockReading, PhotoReading, Reading, Warned
from dusky_sieve.core.reading.judge import STATES
from dusky_sieve.core.reading.measure import Expected, measure_block
from dusky_sieve.core.reading.mingled import mingled
from dusky_sieve.core.reading.passes import alternating, fed
from dusky_sieve.core.reading.refine import measured_closely
from dusky_sieve.core.reading.registration import led, rigid, tidied
from dusky_sieve.core.reading.score import stroke_colour
from dusky_sieve.core.reading.votes import room_of
from dusky_sieve.core.simulate import BlockTruth, Truth, render, sheet_to_photo

INKS = ("#1d1c20", "#1c84b8", "#b83a72")
ACROSS, DOWN, PITCH, SCALE = 3.0, 1.1, 0.12, 20.0
FIRING, MISSING = STATES.index("firing"), STATES.index("missing")


def block(k: int = 0, nozzles: int = 90, *, columns: int = 10, step: tuple = (ACROSS, PITCH), next_row: tuple = (0.0, DOWN), **more: object) -> dict:  # fmt: skip
    return {
        "id": f"b{k}", "channel": f"c{k}", "ink": INKS[k % 3], "backing": "light", "kind": "marks", "origin": (2.0, 1.0 + 16 * k),
        "nozzles": nozzles, "first_nozzle": 1, "nozzle_step": 1, "nozzle_pitch": PITCH, "columns": columns, "column_pitch": step,
        "row_pitch": next_row, "mark": (2.2, 0.1),
    } | more  # fmt: skip


def sheet(*blocks: dict) -> Layout:
    return Layout.model_validate({"format": "dusky-sieve-layout", "version": 1, "name": "L", "size": (34.0, 50.0), "blocks": blocks})  # fmt: skip


@cache
def faults_read(layout: Layout, missing: tuple[int, ...]) -> dict[str, dict[int, str]]:
    shot = small_scene(width=2400, height=1800, fill=0.85, margin_mm=8, roll_deg=24, tilt_deg=8)
    truth = Truth(blocks={b.id: BlockTruth(missing=missing) for b in layout.blocks}, scene=shot)
    found = read_sheet(layout, [UprightPhoto(render(layout, truth, "light", np.random.default_rng(3)), "light", "p")])
    assert found.photos[0].found, found.photos[0].why
    assert [sum((b.counts or {}).values()) for b in found.blocks] == [b.nozzles for b in layout.blocks]
    return {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in found.blocks}


DOWN_FIRST = {"step": (0.0, DOWN), "next_row": (ACROSS, PITCH), "columns": 9}


@pytest.mark.parametrize(
    ("own", "nozzles"),
    [
        pytest.param(DOWN_FIRST, 90, id="down each column first"),
        pytest.param(DOWN_FIRST, 86, id="its last column short"),
        pytest.param({"step": (0.0, 0.0), "next_row": (0.9, 0.0), "columns": 1, "mark": (0.7, 0.1)}, 34, id="rows of one mark beside each other"),
    ],
)  # fmt: skip
def test_a_lattice_is_read_by_its_own_nozzles_whichever_way_it_was_written_down(own, nozzles):
    missing = (3, 13, nozzles - 3)
    found = faults_read(sheet(*(block(k, nozzles, **own) for k in range(3))), missing)
    assert found == {f"b{k}": dict.fromkeys(missing, "missing") for k in range(3)}


@pytest.mark.parametrize(
    ("written", "parts"),
    [
        pytest.param(DOWN_FIRST, 2, id="down each column first"),
        pytest.param({"columns": 10, "step": (0.32, 0.0), "next_row": (3.2, 0.0), "mark": (0.25, 0.1)}, 1, id="one row in tens"),
        pytest.param({"columns": 10, "step": (0.3, 0.0), "next_row": (3.4, 0.0), "mark": (0.25, 0.1)}, 9, id="tens beside each other"),
        pytest.param({"columns": 2, "step": (0.0, 0.2), "next_row": (0.0, 0.4)}, 1, id="one column in twos"),
        pytest.param({"columns": 20, "step": (0.0, 0.2), "next_row": (0.0, 4.4)}, 5, id="scores above each other"),
    ],
)  # fmt: skip
def test_blocks_read_in_place_of_others_have_their_marks_at_the_same_places(written, parts):
    own = sheet(block(0, 86, first_nozzle=5, nozzle_step=2, **written))
    as_read, pieces = along_travel(own)
    assert len(as_read.blocks) == parts
    assert all(b.columns == 1 or abs(b.column_pitch[0]) > 0 for b in as_read.blocks if isinstance(b, MarksBlock))
    [original] = (b for b in own.blocks if isinstance(b, MarksBlock))
    place = dict(zip(original.numbers, mark_centres(original).round(6).tolist(), strict=True))
    seen = {}
    for part in as_read.blocks:
        assert isinstance(part, MarksBlock)
        seen |= dict(zip(pieces[part.id].nozzles.tolist(), mark_centres(part).round(6).tolist(), strict=True))
    assert seen == place
    assert along_travel(sheet(block()))[1] == {}


def banks(*offsets: float, nozzles: int = 90, **more: object) -> list[dict]:
    """Banks of one channel whose columns begin at these shares of a column after the first one's."""
    step = len(offsets)
    return [
        block(0, nozzles, id=f"bank{n}", first_nozzle=n + 1, nozzle_step=step, origin=(1.2 + share * ACROSS, 1.0 + share * PITCH), mark=(0.7, 0.1), **more)
        for n, share in enumerate(offsets)
    ]  # fmt: skip


def test_banks_whose_columns_stand_between_each_others_are_read_as_one_lattice_and_told_each_its_own_nozzles():
    layout = sheet(*banks(0.0, 1 / 3, 2 / 3), block(2, 60))
    as_read, pieces = along_travel(layout)
    assert [(b.id, b.nozzles, b.columns) for b in as_read.blocks] == [("bank0", 270, 30), ("b2", 60, 10)]
    assert pieces["bank0"].nozzles[:4].tolist() == [1, 2, 3, 4]
    missing = {"bank0": (1, 31), "bank1": (5, 8), "bank2": (270,), "b2": (7,)}
    truth = Truth(blocks={name: BlockTruth(missing=gone) for name, gone in missing.items()}, scene=small_scene(width=2400, height=1800, fill=0.85, margin_mm=8))  # fmt: skip
    reading = read_sheet(layout, [UprightPhoto(render(layout, truth, "light", np.random.default_rng(3)), "light", "p")])
    assert {b.id: tuple(f.nozzle for f in b.faults) for b in reading.blocks} == missing
    assert [(b.counts["firing"], b.counts["missing"]) for b in reading.blocks] == [(88, 2), (88, 2), (89, 1), (59, 1)]


def test_what_is_said_of_banks_that_are_read_as_one_is_said_of_each():
    layout = sheet(*banks(0.0, 0.5))
    why = "For 100% of the bank0 block it is in doubt"
    read = BlockReading(id="bank0", channel="c0", head=1, kind="marks", read=False, why=why)
    note = PhotoReading(file="p", width=9, height=9, backing="light", found=True, warnings=(Warned(code="doubtful", message=why, block="bank0"),))  # fmt: skip
    told = numbered_back(Reading(layout="L", photos=(note,), blocks=(read,)), layout, along_travel(layout)[1])
    own = [(f"bank{n}", why.replace("bank0", f"bank{n}")) for n in range(2)]
    assert [(b.id, b.why) for b in told.blocks] == [(w.block, w.message) for w in told.photos[0].warnings] == own


@pytest.mark.parametrize(
    "second", [{"ink": INKS[1]}, {"channel": "c1"}, {"origin": (1.2 + 0.5 * ACROSS, 1.0)}, {"nozzles": 70}]
)
def test_banks_that_differ_or_make_no_lattice_together_are_read_apart(second):
    one, two = banks(0.0, 0.5)
    assert along_travel(sheet(one, two | second))[1] == {}


def woven(pairs: int) -> Layout:
    """Pairs of blocks of two inks each, one's columns between the other's."""
    lattice = {"columns": 18, "step": (1.8, 0.0), "next_row": (0.0, 0.8), "mark": (0.79, 0.06)}
    return sheet(*(
        block(k, 120, id=f"b{k}", channel=f"c{k}", ink=INKS[k % 3], origin=(0.9 + 0.9 * (k % 2), 1.0 + 12 * (k // 2)), **lattice)
        for k in range(2 * pairs)
    ))  # fmt: skip


def test_columns_of_another_ink_between_a_blocks_own_leave_it_less_room_and_both_are_found():
    layout = woven(3)
    assert [round(clear.width, 2) for clear in clear_of(layout.blocks)] == [0.11] * 6
    found = faults_read(layout, (7, 55))
    assert found == {f"b{k}": {7: "missing", 55: "missing"} for k in range(6)}


@pytest.mark.parametrize(
    ("way", "told"),
    [
        pytest.param((0.0, 0.0), set(), id="in place"),
        pytest.param((0.0, 0.9), {"b2", "b3"}, id="all of it on the other's columns"),
        pytest.param((0.045, -0.6), {"b2", "b3"}, id="more and more, to its right end"),
    ],
)
def test_where_a_block_shows_the_ink_of_the_one_between_whose_columns_it_stands_both_are_in_doubt(way, told):
    layout, shot = woven(2), small_scene(margin_mm=8, fill=0.9)
    blocks = [b for b in layout.blocks if b.id in ("b2", "b3")]
    page = render(layout, Truth(blocks={b.id: BlockTruth(missing=(7, 55)) for b in blocks}, scene=shot), "light", np.random.default_rng(6))  # fmt: skip
    place = led(rigid(sheet_to_photo(layout, shot), layout.size), np.array([[way[0], 0, way[1]], [0, 0, 0]]))
    measured = {
        b.id: measured_closely(page, b, place, "light", expected=Expected(), clear=clear)
        for b, clear in zip(blocks, clear_of(blocks), strict=True)
    }
    assert mingled(blocks, measured, "light") == told


@pytest.mark.parametrize(
    ("between", "prints", "told"),
    [
        pytest.param(0.1, (range(66), range(54, 120)), True, id="one from where the other ends"),
        pytest.param(0.5, (range(66), range(54, 120)), False, id="so, each in its own colour"),
        pytest.param(0.1, (range(30, 120), range(90)), False, id="each a gap of its own"),
        pytest.param(0.1, (range(0, 120, 5), range(1, 120, 5)), False, id="both hardly"),
    ],
)
def test_of_two_that_look_alike_and_print_where_the_other_does_not_one_is_absent_and_the_lattice_slipped(
    between, prints, told
):
    blocks = woven(1).blocks
    own, other = (stroke_colour(b.ink, "light") for b in blocks)
    measured = {
        b.id: SimpleNamespace(solid=np.isin(range(120), which), full=1.0, bands=np.tile(colour, (120, 1)))
        for b, which, colour in zip(blocks, prints, (own, own + between * (other - own)), strict=True)
    }
    assert mingled(blocks, measured, "light") == ({"b0", "b1"} if told else set())


@pytest.mark.parametrize(("columns", "step", "row"), [(2, 0.6, 1.2), (10, 1.1, 12.0)])
def test_a_column_that_is_written_down_as_a_lattice_of_two_steps_down_is_read(columns, step, row):
    line = {"columns": columns, "step": (0.0, step), "next_row": (0.0, row)}
    layout = sheet(block(0, 40, origin=(28.0, 1.0), **line), block(1, 40, columns=4, origin=(4.0, 2.0)))
    truth = Truth(blocks={"b0": BlockTruth(missing=(3, 14))}, scene=small_scene(margin_mm=10))
    reading = read_sheet(layout, [UprightPhoto(render(layout, truth, "light", np.random.default_rng(3)), "light", "p")])
    assert [[(f.nozzle, str(f.state)) for f in b.faults] for b in reading.blocks] == [
        [(3, "missing"), (14, "missing")],
        [],
    ]


PLAIN = MarksBlock.model_validate(block(0, 220))
SQUARE = rigid(np.array([[SCALE, 0, 40], [0, SCALE, 40], [0, 0, 1]]), (34.0, 30.0))


def drawn(moved: np.ndarray, missing: tuple[int, ...] = (), pen: tuple[int, ...] = ()) -> np.ndarray:
    """A photo straight from above of marks that lie off by as much (n, 2) mm, and of pen strokes askew over some places."""
    page = np.full((700, 760, 3), 225, np.uint8)
    at = SQUARE.to_photo(mark_centres(PLAIN) + moved)
    for k, (x, y) in enumerate(at):
        half = PLAIN.mark[0] * SCALE / 2
        if k in pen:
            cv2.line(page, (int(x - half), int(y - 5)), (int(x + half), int(y + 7)), (40, 40, 40), 2, cv2.LINE_AA)
        elif k not in missing:
            cv2.line(page, (round((x - half) * 16), round(y * 16)), (round((x + half) * 16), round(y * 16)), (90, 80, 80), 2, cv2.LINE_AA, 4)  # fmt: skip
    return cv2.GaussianBlur(page, (0, 0), 0.8)


def test_ink_that_runs_askew_where_a_mark_is_missing_is_a_pen_and_a_mark_off_its_place_is_none():
    thrown, pen = np.zeros((PLAIN.nozzles, 2)), (37, 88)
    thrown[[55, 140], 1] = (0.15, -0.15)
    seen = measure_block(
        drawn(thrown, pen=pen), PLAIN, SQUARE, "light", expected=Expected(), clear=clear_of([PLAIN])[0]
    )
    assert seen.covered[list(pen)].all()
    assert not seen.covered[[55, 140]].any()
    assert np.abs(seen.offset[[55, 140], 1] - (0.15, -0.15)).max() < 0.02


def test_marks_that_a_wave_carries_half_a_column_aside_are_followed_to_where_they_lie():
    y = mark_centres(PLAIN)[:, 1]
    wave = np.stack([1.3 * np.clip((y - 12) / 12, 0, 1) ** 2, 0.2 * np.clip((y - 12) / 12, 0, 1) ** 2], axis=1)
    page = drawn(wave, missing=(30, 205))
    assert (
        measure_block(page, PLAIN, SQUARE, "light", expected=Expected(), clear=clear_of([PLAIN])[0]).straddles.sum()
        > 20
    )
    closely = measured_closely(page, PLAIN, SQUARE, "light", expected=Expected(), clear=clear_of([PLAIN])[0])
    assert np.flatnonzero(closely.ink < 0.85).tolist() == [30, 205]


def test_marks_that_lie_aside_along_travel_are_adrift_all_of_a_block_or_faults_of_one_whose_corner_does():
    state, rng = np.full(PLAIN.nozzles, FIRING), np.random.default_rng(1)
    state[[3, 200]] = MISSING
    along = PITCH * rng.normal(0.3, 0.25, PLAIN.nozzles)
    along[rng.choice(PLAIN.nozzles, 12)] += 1.5 * PITCH  # a few thrown, here and there
    assert not adrift(PLAIN, state, along).any()
    assert not adrift(PLAIN, state, np.full(PLAIN.nozzles, 1.2 * PITCH)).any()  # all alike: the block was printed aside
    corner = along.copy()
    corner[-40:] += PITCH * np.repeat([0.5, 1.0, 1.5, 2.0], 10)
    assert adrift(PLAIN, state, corner)[[3, 200, 215]].all()
    assert adrift(PLAIN, state, corner).sum() < 50
    bent = along + 1.2 * PITCH * np.sin(np.linspace(0, 6, PLAIN.nozzles))
    assert adrift(PLAIN, state, bent).all()
    rods = PLAIN.model_copy(update={"mark": (11.0, 0.1), "column_pitch": (12.0, PITCH)})
    assert not adrift(rods, state, bent).any()  # a hundredth of a rod's length
    few = np.full(PLAIN.nozzles, np.nan)
    few[:6] = np.multiply((0, 3, 0, 3, 0, 3), PITCH)
    assert not adrift(PLAIN, state, few).any()


@pytest.mark.parametrize("apart", [(0.2, 0.0), (0.5, 0.0), (0.0, 0.1)])
def test_rows_laid_in_both_directions_lie_apart_by_turns_and_are_read(apart):
    """A carriage that prints both ways lays every other row a little aside: no nozzle is at fault, whatever the distance."""
    steps = {"next_row": (0.0, 2 * DOWN), "nozzles": 50}
    turns = [block(k, origin=(2.0 + apart[0] * k, 1.0 + (DOWN + apart[1]) * k), ink=INKS[0], **steps) for k in (0, 1)]
    other = block(1, 100, origin=(2.0, 17.0))
    shot = small_scene(width=2400, height=1800, fill=0.85, margin_mm=8, roll_deg=24, tilt_deg=8)
    truth = Truth(blocks={"b0": BlockTruth(missing=(7, 33)), "b1": BlockTruth(missing=(1, 12))}, scene=shot)
    drawn_so = sheet(*turns, other | {"id": "b2"})
    page = render(drawn_so, truth, "light", np.random.default_rng(3))
    read = read_sheet(sheet(block(0, 100), other), [UprightPhoto(page, "light", "p")])
    told = {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in read.blocks}
    assert told == {"b0": dict.fromkeys((7, 63, 11, 32), "missing"), "b1": {}}


@pytest.mark.parametrize(("off", "told"), [(0.9, True), (0.2, False)])
def test_what_alternates_is_alignment_where_it_is_clearly_more_than_scatter(off, told):
    rng, columns = np.random.default_rng(2), PLAIN.columns
    aside = rng.normal(0, 0.1 * PITCH, (PLAIN.nozzles, 2))
    row = np.arange(PLAIN.nozzles) // columns
    aside[:, 0] += off * PITCH / 2 * np.where(row % 2 == 1, 1, -1)
    shared = alternating(PLAIN, aside, np.ones(PLAIN.nozzles, bool))
    assert np.abs(shared[:, 1]).max() == 0
    assert np.ptp(shared[:, 0]) == pytest.approx(off * PITCH if told else 0, abs=0.05 * PITCH)
    some = aside.copy()
    some[row == 1, 0] += 2 * PITCH  # one row of its own is a wave, or wrongly followed
    assert np.abs(alternating(PLAIN, some - aside, np.ones(PLAIN.nozzles, bool))).max() == 0


def test_rows_fed_unevenly_are_off_by_their_own_and_no_nozzle_throws_for_it_unless_it_is_off_from_its_row():
    rng, row = np.random.default_rng(5), np.arange(PLAIN.nozzles) // PLAIN.columns
    scatter, printed = rng.normal(0, 0.05 * PITCH, PLAIN.nozzles), np.ones(PLAIN.nozzles, bool)
    off = PITCH * rng.permutation(np.linspace(-0.3, 0.3, int(row[-1]) + 1))
    off[3] = 0.7 * PITCH  # so far off, a row may lie wrongly
    aside = scatter + off[row]
    aside[40] += 0.6 * PITCH
    by_feed, untold = fed(PLAIN, aside, printed)
    assert by_feed == pytest.approx(off[row], abs=0.06 * PITCH)
    assert np.array_equal(untold, row == 3)
    far, near = row == 6, row == 12  # of which only four marks printed, which say too little of the row
    sparse = printed & (~(far | near) | (np.arange(PLAIN.nozzles) % PLAIN.columns < 4))
    by_feed, untold = fed(PLAIN, aside, sparse)
    assert (by_feed[far | near] == 0).all()
    assert np.array_equal(untold, (row == 3) | far)
    # One row alone is a wave, or wrongly followed; what is seen, but hardly a tenth of a pitch, is no matter.
    for one in (scatter, np.where(row == 3, aside, scatter), scatter * 8, scatter / 10 + off[row] / 10):
        assert [v.any() for v in fed(PLAIN, one, printed)] == [False, False]


def test_faults_that_hang_together_with_marks_in_doubt_are_in_doubt_and_lone_ones_beside_them_are_not():
    state, lost = np.full(PLAIN.nozzles, FIRING), np.zeros(PLAIN.nozzles, bool)
    state[-60:], state[5] = MISSING, MISSING
    lost[-60:-45] = True
    assert np.flatnonzero(spread(PLAIN, lost, state)).tolist() == list(range(PLAIN.nozzles - 60, PLAIN.nozzles))
    lost[-60:-45] = [k < 5 for k in range(15)]  # a few in doubt: chance puts faults next to them
    assert (spread(PLAIN, lost, state) == lost).all()


def test_the_marks_of_a_single_column_leave_the_plane_beside_them_as_it_was():
    column = PLAIN.model_copy(update={"nozzles": 90, "columns": 1, "row_pitch": (0.0, 0.3), "mark": (2.2, 0.1)})
    tilted = rigid(np.array([[18.0, 1, 40], [0.5, 16.0, 60], [2e-4, 4e-4, 1]]), (34.0, 30.0))
    kept, beside = tidied(tilted, mark_centres(column)), mark_centres(column) + (1.0, 0.0)
    assert np.abs(kept.to_photo(beside) - tilted.to_photo(beside)).max() < 0.01
    assert room_of(column.model_copy(update={"columns": 45, "column_pitch": (0.0, 0.3)})).min() > 0
