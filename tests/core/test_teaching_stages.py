"""Teaching's stages one by one: strokes grow into lattices, lattices become blocks, blocks get millimetres."""

from dataclasses import replace

import numpy as np
import pytest
from tests.core.planes import CYAN, RED, piece_of, plane_of, strokes_at

from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading.registration import project, rigid
from dusky_sieve.core.teaching import KnownBlock, Spec, parse_spec
from dusky_sieve.core.teaching.assign import (
    Assigned,
    Piece,
    assign,
    boxed,
    columns_of_runs,
    in_reading_order,
    levelled,
    like_most,
    numbered,
    pieces_of,
    without_doubles,
)
from dusky_sieve.core.teaching.complete import by_their_like
from dusky_sieve.core.teaching.fills import solid_pieces
from dusky_sieve.core.teaching.grow import (
    Grown,
    as_long_as,
    chained,
    cut,
    grown,
    grown_rows,
    links_beside,
    trimmed,
    unwoven,
    usual_lengths,
)
from dusky_sieve.core.teaching.learn import _doubts, _first_of, _scale, _scale_of_like
from dusky_sieve.core.teaching.straighten import Lattice, cells_of, lattices

GRID = [(c, r) for r in range(8) for c in range(6)]


def known(nozzles: int, name: str = "a", **more: object) -> KnownBlock:
    return KnownBlock.model_validate(
        {"id": name, "channel": name, "ink": "#1c84b8", "nozzles": nozzles, "nozzle_pitch": 0.1} | more
    )


def lattices_of(plane, highest: float = 3.5):
    return grown(plane, highest, links_beside(plane))


# Growing


def test_strokes_grow_into_one_lattice_round_its_gaps_each_in_its_own_cell():
    cells = [cell for cell in GRID if cell not in {(0, 0), (3, 4), (2, 4), (5, 7)}]
    [block] = lattices_of(strokes_at(cells))
    assert (block.columns, block.rows) == (6, 8)
    assert {int(s): (int(c), int(r)) for s, c, r in zip(block.strokes, block.column, block.row, strict=True)} == dict(
        enumerate(cells)
    )


def test_marks_of_two_inks_never_grow_into_one_lattice():
    plane = strokes_at(GRID, ink=lambda c, r: CYAN if r < 4 else RED)
    assert sorted((b.columns, b.rows, len(b.strokes)) for b in lattices_of(plane)) == [(6, 4, 24)] * 2


def test_rows_of_two_inks_between_each_others_are_two_blocks_in_one_place_the_higher_one_first():
    plane = strokes_at(GRID, ink=lambda c, r: RED if r % 2 else (0.7, 0.6, 0.3))
    whole = Grown(np.arange(len(GRID)), *np.array(GRID).T)
    parts = unwoven(plane, whole)
    assert [(p.columns, p.rows, len(p.strokes)) for p in parts] == [(6, 4, 24)] * 2
    assert len(unwoven(strokes_at(GRID), whole)) == 1
    lower, higher = pieces_of(plane, parts[::-1], {24}, "marks")
    spec = [known(24, "a", ink="#c03434"), known(24, "b", ink="#c03434")]
    assert in_reading_order(without_doubles([lower, higher], spec, "light")) == [higher, lower]


def test_an_attempt_that_finds_every_block_goes_before_one_that_misses_some_but_not_the_other_way_round():
    block = known(48)
    found = [Assigned(block, boxed_piece(0, 0), 1.0), Assigned(block, boxed_piece(0, 0), 1.0)]
    assert _first_of({0: [found[0], None], 2: found}) == [2]
    assert _first_of({0: found, 2: found}) == [0]
    assert _first_of({}) == []


def test_a_stroke_that_stands_between_the_lattices_cells_is_left_out():
    plane = strokes_at([*GRID, (6, 3)], push={(6, 3): (17.0, 12.0)})
    cells = np.array([*GRID, (6, 3)])
    block = Grown(np.arange(len(cells)), *cells.T)
    assert 48 not in trimmed(plane, block).strokes
    assert len(trimmed(plane, block).strokes) == 48


@pytest.mark.parametrize("how", ["step", "ink"])
def test_blocks_that_grew_together_are_cut_where_the_step_or_the_ink_changes(how):
    plane = strokes_at(
        GRID,
        gap=lambda c: 6.0 * (c > 2) if how == "step" else 0.0,
        ink=lambda c, r: RED if how == "ink" and c > 2 else CYAN,
    )
    whole = lattices_of(strokes_at(GRID))[0]
    assert sorted((part.columns, part.rows) for part in cut(plane, whole)) == [(3, 8)] * 2
    assert len(cut(strokes_at(GRID), whole)) == 1


def test_lengths_that_many_strokes_share_are_told_by_number_and_by_all_their_ink():
    lengths = [20.0] * 60 + [300.0] * 8 + [3.0] * 20
    plane = plane_of([(0.0, 9.0 * k) for k in range(len(lengths))], lengths)
    assert sorted(round(v) for v in usual_lengths(plane)) == [20, 300]
    assert len(as_long_as(plane, 20.0).long) == 60
    assert usual_lengths(plane.only(np.arange(len(lengths)) < 4)) == []


def test_pieces_of_one_run_are_joined_over_a_few_missing_marks_but_not_over_another_ink():
    left, long = [(0.0, 0.0), (212.0, 1.0), (424.0, 1.5), (0.0, 40.0), (212.0, 40.5)], [200.0] * 5
    plane = plane_of([(x + 100, y) for x, y in left], long, ink=[CYAN, CYAN, CYAN, CYAN, RED])
    narrow, _ = chained(plane)
    assert sorted(round(v) for v in narrow.long) == [200, 200, 624]


def test_a_run_in_many_pieces_is_joined_over_a_gap_that_is_wide_for_these_but_not_for_the_run():
    starts = [54.0 * k for k in range(40) if k != 8]
    narrow, wide = chained(plane_of([(x + 25, 0.0) for x in starts], [50.0] * 39))
    assert ([round(v) for v in narrow.long], [round(v) for v in wide.long]) == ([428, 1670], [2156])


def test_rows_stay_together_where_an_outermost_mark_of_a_run_is_missing():
    left = [18.0 if k == 2 else 0.0 for k in range(6)]
    plane = plane_of([(0.5 * (x + 300), 30.0 * k) for k, x in enumerate(left)], [300 - x for x in left], wide=2.0)
    assert [block.rows for block in grown_rows(plane)] == [6]


def test_rows_of_marks_that_touch_become_runs_and_their_last_short_one_tells_how_many_marks_each_has():
    whole = plane_of([(150.0, 30.0 * k) for k in range(5)] + [(60.0, 150.0)], [300.0] * 5 + [120.0], wide=2.0)
    [column] = grown_rows(whole)
    piece = pieces_of(whole, [column], {108}, "runs")[0]
    assert (piece.kind, piece.rows) == ("runs", 6)
    assert columns_of_runs(piece, 108) == 20  # five of twenty and one of eight
    assert columns_of_runs(replace(piece, wide=np.full(6, 40.0)), 108) is None  # no mark is thicker than long
    cells = cells_of(Assigned(known(108), piece, 1.0), np.eye(3), whole.ends)
    assert (len(cells.at), cells.columns, cells.ends) == (108, 20, None)
    assert np.allclose(np.diff(cells.at[:20, 0]), 15.0)


def run_piece(left: list[float], long: list[float], rise: float = 0.0) -> Piece:
    """Runs 30 below each other, from `left`, so long, that step down by `rise` of their length."""
    ends = np.array([[(x, 30.0 * k), (x + wide, 30.0 * k + rise * wide)] for k, (x, wide) in enumerate(zip(left, long, strict=True))])  # fmt: skip
    low, high = ends.min(axis=(0, 1)), ends.max(axis=(0, 1))
    row = np.arange(len(ends))
    return Piece((low[0], low[1], high[0], high[1]), CYAN, ends, np.full(len(ends), 2.0), 0 * row, row, "runs")


@pytest.mark.parametrize(("left", "at_right"), [([0.0, 0.0], False), ([0.0, 180.0], True)])
def test_the_end_of_the_run_above_that_a_short_last_run_stands_under_is_where_its_nozzles_begin(left, at_right):
    piece = numbered(known(28), run_piece(left, [300.0, 120.0], rise=0.04))
    assert (piece.ends[0, 0, 0] > piece.ends[0, 1, 0]) == at_right


def test_of_runs_those_with_as_many_marks_a_row_as_most_others_are_taken_for_blocks_before_a_broken_one():
    whole, broken = run_piece([0.0, 0.0], [300.0, 120.0]), run_piece([0.0, 0.0], [200.0, 120.0])
    spec = [known(28)]
    told = like_most([broken, whole, whole], spec)
    assert [piece.like for piece in told] == [False, True, True]
    assert columns_of_runs(without_doubles(told[:2], spec, "light")[0], 28) == 20


def test_marks_of_a_run_that_a_lens_bends_are_placed_along_its_strokes():
    at = np.linspace(0, 600, 13)
    bent = np.stack([at, 8 * (1 - (at / 300 - 1) ** 2)], axis=1)
    strokes = np.stack([bent[:-1], bent[1:]], axis=1)
    piece = run_piece([0.0], [600.0])
    cells = cells_of(Assigned(known(20), piece, 1.0), np.eye(3), strokes)
    assert np.abs(cells.at[:, 1] - 8 * (1 - (cells.at[:, 0] / 300 - 1) ** 2)).max() < 0.2


# Blocks


def boxed_piece(left: float, top: float, *, columns: int = 6, rows: int = 8, ink=CYAN, kind="marks") -> Piece:
    cells = [(c, r) for r in range(rows) for c in range(columns)]
    plane = strokes_at(cells, at=(left, top), ink=lambda c, r: ink)
    return piece_of(plane, cells, kind=kind, box=(left - 10, top, left + 30.0 * columns, top + 40.0 * rows))


def test_reading_order_is_by_lines_from_the_top_each_from_the_left():
    places = [(400, 20), (0, 0), (0, 500), (400, 480)]
    ordered = in_reading_order([boxed_piece(*place) for place in places])
    assert [(round(p.box[0]) + 10, round(p.box[1])) for p in ordered] == [(0, 0), (400, 20), (0, 500), (400, 480)]


def test_blocks_side_by_side_are_one_line_though_a_desks_grain_set_the_planes_direction():
    places = [(0, 0), (500, 0), (1000, 0), (0, 340), (500, 340), (1000, 340)]
    pieces = [boxed_piece(*place, rows=6) for place in places]
    askew = strokes_at(GRID).turned(np.radians(9))
    level = levelled(pieces, askew)
    for plane, right in ((askew, False), (level, True)):
        ordered = in_reading_order([boxed(piece, plane) for piece in pieces])
        assert ([p.ends.tolist() for p in ordered] == [p.ends.tolist() for p in pieces]) is right
    assert levelled(pieces, level) is level


def test_blocks_take_their_lattices_in_order_and_one_that_is_not_there_stays_empty():
    pieces = [boxed_piece(0, 0), boxed_piece(0, 900, ink=RED), boxed_piece(0, 1800, columns=4)]
    spec = [known(48, "a"), known(48, "b", ink="#c03434"), known(60, "c"), known(32, "d")]
    found = assign(spec, pieces, "light")
    assert [a and round(a.piece.box[1]) for a in found] == [0, 900, None, 1800]


def test_of_lattices_of_one_count_each_ink_gets_its_own_though_a_block_is_absent():
    spec = [known(48, "red", ink="#c03434"), known(48, "cyan")]
    [red, cyan] = assign(spec, [boxed_piece(0, 0)], "light")
    assert red is None
    assert cyan is not None


def test_two_lattices_in_one_place_leave_the_one_that_is_more_like_a_block():
    whole, part = boxed_piece(0, 0), boxed_piece(0, 0, rows=7)
    assert without_doubles([part, whole], [known(48)], "light") == [whole]
    assert without_doubles([boxed_piece(0, 0, columns=5)], [known(48)], "light") == []


def test_a_block_that_did_not_grow_is_found_by_the_lattice_of_its_like():
    second = [(c, r) for c, r in GRID if (c + 2 * r) % 7 != 3]  # every neighbourhood is broken
    cells = [*GRID, *((c + 20, r) for c, r in second)]
    plane = strokes_at(cells)
    like = piece_of(plane, GRID, box=(-20, -10, 180, 320))
    found = [Assigned(known(48), like, 1.3), None]
    [piece] = by_their_like([known(48), known(48, "b")], found, [plane])
    assert (piece.columns, piece.rows, len(piece.column)) == (6, 8, len(second))
    assert piece.box[0] > 550


def test_a_block_that_grew_without_a_column_is_looked_for_with_the_columns_that_most_of_its_like_have():
    places = [(0.0, 0.0), (400.0, 0.0), (800.0, 0.0)]
    plane = plane_of([(x + 30.0 * c, 40.0 * r + 0.3 * c) for x, _ in places for c, r in GRID], [20.0] * 144)
    blocks = [plane.only(np.arange(144) // 48 == k) for k in range(3)]
    narrow = [k for k, (c, _) in enumerate(GRID) if c < 5]
    found = [
        Assigned(known(48), piece_of(blocks[0].only(np.isin(np.arange(48), narrow)), [GRID[k] for k in narrow]), 1.25)
    ]
    found += [Assigned(known(48), boxed(piece_of(block, GRID), plane), 1.3) for block in blocks[1:]]
    [piece] = by_their_like([known(48)] * 3, found, [plane])
    assert (piece.columns, piece.rows, len(piece.column)) == (6, 8, 48)
    assert piece.box[2] < 200


def test_a_block_that_lacks_an_outer_column_is_counted_from_where_its_like_begin():
    places = [(3.0, 0.0), (0.0, 400.0), (-3.0, 800.0)]
    plane = plane_of([(x + 30.0 * c, y + 40.0 * r) for x, y in places for c, r in GRID], [20.0] * 144)
    blocks = [plane.only(np.arange(144) // 48 == k) for k in range(3)]
    found = [Assigned(known(48), boxed(piece_of(block, GRID), plane), 1.3) for block in blocks[:2]]
    for lacking, first in ((0, 1), (5, 0)):
        left = np.array([c != lacking for c, _ in GRID])
        seen = plane.only(np.r_[np.ones(96, bool), left])
        [piece] = by_their_like([known(48)] * 3, [*found, None], [seen])
        assert (int(piece.column.min()), piece.columns) == (first, 6)


@pytest.mark.parametrize(("towards", "tilt"), [(0.0, 0.0), (0.3, 18.0), (2.0, 25.0)])
def test_a_tilted_lattice_comes_out_square_with_its_steps_in_proportion(towards, tilt):
    camera = tilted(np.radians(tilt), towards)
    cells = [(c, r) for r in range(20) for c in range(8)]
    middle = np.array([(3.0 * c, 4.0 * r + 0.5 * c) for c, r in cells])
    flat = middle[:, None] + np.array([[-1.0, 0.0], [1.0, 0.0]])
    ends = project(camera, flat.reshape(-1, 2)).reshape(-1, 2, 2)
    column, row = np.array(cells).T
    piece = Piece((0, 0, 1, 1), np.ones(3), ends, np.full(160, 2.0), column, row)
    assigned = Assigned(known(160), piece, 1.0)
    [lattice], registration = lattices([assigned], [cells_of(assigned, camera, ends)], camera, ends)
    down = lattice.down[1]
    assert lattice.down[0] == pytest.approx(0, abs=0.01 * down)
    assert lattice.across / down == pytest.approx([0.75, 0.125], abs=0.004)
    assert lattice.mark[0] / down == pytest.approx(0.5, abs=0.005)
    place = lattice.origin + np.outer(column, lattice.across) + np.outer(row, lattice.down)
    assert np.abs(registration.to_photo(place) - ends.mean(axis=1)).max() < 0.1


def test_where_blocks_lie_among_each_other_comes_out_though_lens_and_tilt_change_their_steps_from_block_to_block():
    def seen(points):
        at = project(tilted(np.radians(25), 0.3), points) - (400, 300)
        return at * (1 - 0.02 * (at**2).sum(axis=1, keepdims=True) / 400**2)

    cells = np.array([(c, r) for r in range(8) for c in range(17)])
    assigned = []
    for x, y in ((0.0, 0.0), (15.0, 0.0), (31.0, 0.0), (0.0, 12.0)):
        middle = (x, y) + cells * (0.7, 1.0)
        ends = seen((middle[:, None] + np.array([[-0.2, 0], [0.2, 0]])).reshape(-1, 2)).reshape(-1, 2, 2)
        assigned.append(Assigned(known(136), Piece((0, 0, 1, 1), CYAN, ends, np.ones(136), *cells.T), 1.0))
    start = rigid(np.array([[18.0, 0, -350], [0, 18, -250], [0, 0, 1]]), (1, 1)).homography  # no tilt is known before
    found, _ = lattices(assigned, [cells_of(a, start, np.zeros((0, 2, 2))) for a in assigned], start, np.zeros((0, 2, 2)))  # fmt: skip
    step, across = found[0].across[0], found[1].origin - found[0].origin
    assert [across[0] / step, (found[2].origin - found[0].origin)[0] / step] == pytest.approx(
        [15 / 0.7, 31 / 0.7], abs=0.1
    )


def test_single_marks_of_runs_tell_how_marks_lie_while_the_runs_step_down():
    runs = run_piece([0.0, 0.0, 0.0], [300.0, 300.0, 120.0], rise=0.1)
    marks = np.array([[(x + 1, 30.0 * k + 0.1 * x + 0.7), (x + 13, 30.0 * k + 0.1 * x + 0.7)] for k in range(2) for x in np.arange(20) * 15.0])  # fmt: skip
    lean = np.array([[np.cos(0.05), -np.sin(0.05)], [np.sin(0.05), np.cos(0.05)]])
    assigned = Assigned(known(48), replace(runs, ends=runs.ends @ lean.T), 1.0)
    strokes = marks @ lean.T
    [told], _ = lattices([assigned], [cells_of(assigned, np.eye(3), strokes)], np.eye(3), strokes)
    assert told.across[1] / told.across[0] == pytest.approx(0.1, abs=0.003)


def tilted(tilt: float, towards: float) -> np.ndarray:
    """A camera that sees a sheet of 24 by 80 mm at a tilt, (3, 3)."""
    way = np.array([np.cos(towards), np.sin(towards)]) * np.sin(tilt) / 300
    return rigid(np.array([[20.0, 1.0, 100], [-0.5, 20, 80], [way[0], way[1], 1]]), (24, 80)).homography


# Millimetres


def lattice_of(across, down, columns: int = 8, thick: float = 5.0) -> Lattice:
    return Lattice(columns, np.zeros(2), np.array(across, float), np.array(down, float), (100.0, thick))


@pytest.mark.parametrize(
    ("lattice", "told", "mm_per_pixel"),
    [
        (lattice_of((150, 10), (0, 80)), {}, 0.01),  # a staircase whose rows go on: a nozzle a column
        (lattice_of((150, 10), (0, 300)), {}, 0.01),  # and one whose rows stand apart
        (lattice_of((150, 2), (0, 80)), {}, 0.05),  # a gentle one, whose rows stand close
        (lattice_of((150, -10), (0, 300)), {"nozzle_step": 2}, 0.02),  # every second nozzle
        (lattice_of((150, 0), (0, 80), thick=9), {}, 0.01),  # side by side: rows follow on
        (lattice_of((150, 0), (0, 800), thick=10), {}, 0.01),  # rows far apart: marks are about as thick as a nozzle
        (lattice_of((150, 0), (0, 800)), {"row_pitch": (0.0, 4.0)}, 0.005),
        (lattice_of((150, 10), (0, 80)), {"column_pitch": (3.0, 0.2)}, 0.02),  # what is known goes before
    ],
)
def test_the_scale_comes_from_what_is_known_or_from_how_nozzles_step(lattice, told, mm_per_pixel):
    block = Assigned(known(64, **told), boxed_piece(0, 0), 1.0)
    assert _scale([block], [lattice], [], []) == pytest.approx(mm_per_pixel, rel=0.01)


def test_blocks_seen_over_another_backing_are_as_large_as_their_like():
    before = [{"kind": "marks", "nozzles": 64, "columns": 8, "nozzle_pitch": 0.1, "nozzle_step": 1, "column_pitch": (3.0, 0.0)}]  # fmt: skip
    block = Assigned(known(64), boxed_piece(0, 0), 1.0)
    assert _scale_of_like([block], [lattice_of((150, 0), (0, 800))], before) == pytest.approx(0.02)
    assert _scale_of_like([block], [lattice_of((150, 0), (0, 800), columns=7)], before) is None


def test_a_fill_of_known_nozzles_tells_the_scale_where_marks_do_not_step():
    fill = KnownBlock(id="f", channel="a", ink="#1c84b8", kind="solid", nozzles=100, nozzle_pitch=0.1)
    box = np.array([[0.0, 0.0], [400, 0], [0, 500], [400, 500]])
    block = Assigned(known(64), boxed_piece(0, 0), 1.0)
    assert _scale([block], [lattice_of((150, 0), (0, 80))], [fill], [box]) == pytest.approx(0.02)


def layout_with(column_pitch: tuple[float, float]) -> Layout:
    block = {"id": "a", "channel": "a", "ink": "#000000", "kind": "marks", "origin": (20, 5), "nozzles": 20, "columns": 4,
             "column_pitch": column_pitch, "row_pitch": (0, 2.0), "nozzle_pitch": 0.1, "mark": (1.5, 0.1)}  # fmt: skip
    return Layout.model_validate({"format": "dusky-sieve-layout", "version": 1, "name": "x", "size": (40, 30), "blocks": [block]})  # fmt: skip


@pytest.mark.parametrize(
    ("column_pitch", "told", "says"),
    [
        ((2.0, 0.1), {}, []),
        ((-2.0, 0.1), {}, ["numbered from the right"]),
        ((-2.0, 0.1), {"column_pitch": (-2.0, 0.1)}, []),
        ((2.0, 0.0), {}, ["does not tell the scale"]),
        ((2.0, 0.0), {"row_pitch": (0.0, 2.0)}, []),
    ],
)
def test_what_a_photo_cannot_tell_is_said_once_with_what_to_do(column_pitch, told, says):
    notes = list(_doubts(Spec(name="x", blocks=(known(20, **told),)), layout_with(column_pitch)))
    assert len(notes) == len(says)
    assert all(part in note and "teach again" in note for part, note in zip(says, notes, strict=True))


# Fills and specs


def test_filled_rectangles_are_found_each_with_its_ink_and_nothing_else_is():
    picture = np.full((600, 900, 3), 230, np.uint8)
    picture[100:200, 100:300] = (40, 140, 190)  # two that touch
    picture[100:200, 300:500] = (190, 60, 60)
    picture[400:404, 100:800] = 20  # a rule
    rows, columns = np.mgrid[:600, :900]
    picture[(rows - 450) ** 2 + (columns - 600) ** 2 < 45**2] = 60  # a blot
    marks = plane_of([(60.0 + 12 * k, 560.0) for k in range(30)], [8.0] * 30, wide=2.0, picture=picture)
    fills = sorted(solid_pieces(marks, "light"), key=lambda p: p.box[0])
    assert [p.kind for p in fills] == ["fill", "fill"]
    assert fills[0].box == pytest.approx((100, 100, 300, 200), abs=6)
    assert fills[1].box == pytest.approx((300, 100, 500, 200), abs=6)
    assert fills[0].colour.argmax() == 0  # cyan takes red light
    assert fills[1].colour.argmin() == 0


def test_two_blocks_of_one_name_are_refused_with_the_place_of_the_second():
    block = '{"id": "a", "channel": "a", "ink": "#000000", "nozzles": 5, "nozzle_pitch": 0.1}'
    with pytest.raises(UnusableInput, match=r"blocks\[1\]\.id: expected an id of its own"):
        parse_spec(f'{{"name": "x", "blocks": [{block}, {block}]}}')
