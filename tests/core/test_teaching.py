"""Teaching a sheet's layout from a photograph of a good one, then reading the next sheet with it."""

import numpy as np
import pytest
from tests.conftest import FAULTS, LARGER, TRUE_STATES, photo_of, small_scene
from tests.core.planes import piece_of, strokes_at

from dusky_sieve import files
from dusky_sieve.core.errors import SheetNotFound, UnusableInput
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Truth, render
from dusky_sieve.core.teaching import KnownBlock, Spec, parse_spec, teach
from dusky_sieve.core.teaching.assign import numbered
from dusky_sieve.core.teaching.complete import widened
from dusky_sieve.core.teaching.grow import Grown, shared_out

TOLD = {"id", "channel", "head", "ink", "backing", "kind", "nozzles", "first_nozzle", "nozzle_step", "nozzle_pitch"}
A_FEW = tuple((name, truth) for name, truth in FAULTS.items())


def spec_of(layout: Layout, **change: object) -> Spec:
    blocks = [{k: v for k, v in b.model_dump().items() if k in TOLD} | change for b in layout.blocks]
    return Spec(name=layout.name, blocks=tuple(KnownBlock.model_validate(b) for b in blocks))


def upright(content: bytes, name: str = "good.jpg") -> UprightPhoto:
    return UprightPhoto(files.decode_photo(content, name), "light", name)


@pytest.fixture(scope="module")
def taught():
    layout = files.shipped_layout("four-staircases")
    photo = photo_of("four-staircases", A_FEW, small_scene(tilt_deg=8, tilt_towards_deg=120, roll_deg=7))
    return layout, teach(spec_of(layout), [upright(photo)])


def test_steps_and_mark_come_out_in_millimetres_though_some_marks_of_the_good_sheet_were_not(taught):
    layout, result = taught
    for known, found in zip(layout.blocks, result.layout.blocks, strict=True):
        assert found.columns == known.columns
        assert np.allclose(found.column_pitch, known.column_pitch, rtol=0.02, atol=0.004)
        assert np.allclose(found.row_pitch, known.row_pitch, rtol=0.01)
        assert found.mark[0] == pytest.approx(known.mark[0], rel=0.08)


def test_the_next_sheet_is_read_with_the_taught_layout_as_with_the_written_one(taught):
    _, result = taught
    photo = photo_of("four-staircases", tuple(FAULTS.items()), small_scene(tilt_deg=18, tilt_towards_deg=200, roll_deg=97))  # fmt: skip
    reading = read_sheet(result.layout, [upright(photo, "next.jpg")])
    assert {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in reading.blocks} == TRUE_STATES


def test_a_sheet_with_other_counts_is_refused_and_the_block_named():
    layout = files.shipped_layout("four-staircases")
    absent = tuple((b.id, BlockTruth(all_missing=True)) for b in layout.blocks[2:])
    photo = photo_of("four-staircases", absent, small_scene(tilt_deg=8, tilt_towards_deg=120, roll_deg=7))
    with pytest.raises(SheetNotFound, match=r"block \w+: (no lattice of 96 marks|a lattice was found, but)"):
        teach(spec_of(layout.model_copy(update={"blocks": layout.blocks[:2]}), nozzles=96), [upright(photo)])


def test_a_sheet_that_looks_the_same_upside_down_is_taught_all_the_same():
    """Looked for again it would be a tie; but where it lies is known from teaching."""
    layout = files.shipped_layout("four-staircases")
    block = layout.blocks[0].model_copy(update={"nozzles": layout.blocks[0].columns * 20})
    alone = layout.model_copy(update={"blocks": (block,), "size": (layout.size[0], 60.0)})
    pixels = render(alone, Truth(scene=small_scene(roll_deg=5)), "light", np.random.default_rng(4))
    result = teach(spec_of(alone), [UprightPhoto(pixels, "light", "good.jpg")])
    assert result.layout.blocks[0].columns == block.columns
    assert result.reading.blocks[0].counts["firing"] == block.nozzles


def test_a_column_at_the_rim_that_growth_missed_is_added_where_most_of_its_marks_stand():
    grew = [(c, r) for r in range(5) for c in range(1, 24)]
    rim = [(0, r) for r in range(5)] + [(24, r) for r in (0, 2, 3, 4)]
    strays = [(25, 2), (26, 0)]  # two of five rows are no column
    plane = strokes_at(grew + rim + strays)
    wider = widened([piece_of(plane, [(c - 1, r) for c, r in grew])], [plane])
    assert [(p.columns, p.rows, len(p.column)) for p in wider] == [(25, 5, len(grew) + len(rim))]
    assert widened([piece_of(plane, [(c - 1, r) for c, r in grew])], [strokes_at(grew)]) == []


@pytest.mark.parametrize(("blocks", "columns"), [(3, 2), (5, 1), (2, 3)])
def test_blocks_side_by_side_that_grew_together_are_shared_out_by_their_known_count(blocks, columns):
    """Their gaps are not told by any step: of narrow blocks half of all steps are gaps."""
    cells = [(c, r) for r in range(8) for c in range(blocks * columns)]
    plane = strokes_at(cells, gap=lambda c: 45.0 * (c // columns))
    grew = Grown(np.arange(len(cells)), *np.array(cells).T)
    parts = shared_out(plane, grew, {8 * columns})
    assert [(p.columns, p.rows, len(p.strokes)) for p in parts] == [(columns, 8, 8 * columns)] * blocks
    assert all(np.ptp(plane.centre[p.strokes][:, 0]) < 31 * columns for p in parts)
    assert shared_out(plane, grew, {8 * columns + 3}) == []


def test_rows_of_two_blocks_are_not_halved_though_half_of_each_would_make_the_count_as_well():
    cells = [(c, r) for r in range(2) for c in range(20)]
    grew = Grown(np.arange(40), *np.array(cells).T)
    assert [(p.columns, p.rows) for p in shared_out(strokes_at(cells), grew, {20})] == [(20, 1)] * 2


@pytest.mark.parametrize(
    ("slope", "told", "from_right"),
    [
        (3.0, None, False),
        (-3.0, None, True),
        (0.0, None, False),
        (-3.0, (2.4, -0.14), False),
        (3.0, (-2.4, 0.14), True),
    ],
)
def test_nozzles_follow_each_other_down_the_sheet_unless_the_spec_says_how_columns_run(slope, told, from_right):
    cells = [(c, r) for r in range(5) for c in range(6)]
    plane = strokes_at(cells, slope=slope)
    known = KnownBlock(id="a", channel="a", ink="#000000", nozzles=30, nozzle_pitch=0.14, column_pitch=told)
    piece = numbered(known, piece_of(plane, cells))
    assert piece.column[0] == (5 if from_right else 0)
    assert (numbered(known, piece).column == piece.column).all()


def test_a_short_last_row_at_the_right_tells_that_nozzles_are_numbered_from_there():
    cells = [(c, r) for r in range(5) for c in range(6) if r < 4 or c > 2]
    known = KnownBlock(id="a", channel="a", ink="#000000", nozzles=27, nozzle_pitch=0.14)
    assert numbered(known, piece_of(strokes_at(cells), cells)).column[0] == 5


def test_a_block_whose_like_tells_its_columns_keeps_them_though_its_rim_did_not_print():
    cells = [(c, r) for r in range(2) for c in range(26)]
    plane = strokes_at(cells)
    assert piece_of(plane, cells).columns == 26
    assert piece_of(plane, cells, least_columns=28).columns == 28


def test_blocks_over_dark_ask_for_a_photo_over_dark():
    layout = files.shipped_layout("six-bands-on-film")
    with pytest.raises(UnusableInput, match="over a dark backing: add a photo over dark"):
        teach(spec_of(layout, backing="dark"), [upright(photo_of("four-staircases", (), small_scene()))])


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"blocks": []}, "blocks"),
        ({"blocks": [{"id": "a", "channel": "a", "ink": "#000000", "kind": "marks", "nozzle_pitch": 0.1}]}, "nozzles: expected the number"),
        ({"blocks": [{"id": "a", "channel": "a", "ink": "#000000", "kind": "marks", "nozzles": 5}]}, "nozzle_pitch: expected"),
        ({"blocks": [{"id": "a", "channel": "a", "ink": "#000000", "kind": "solid"}]}, "at least one block of marks"),
    ],
)  # fmt: skip
def test_a_spec_that_says_too_little_is_refused_with_the_field(change, says):
    import json

    with pytest.raises(UnusableInput, match=says):
        parse_spec(json.dumps({"name": "x"} | change))


@pytest.mark.parametrize("lost", [14, 20])
def test_white_on_film_is_taught_and_no_trace_of_a_colour_over_black_for_it(lost):
    film = files.shipped_layout("six-bands-on-film")
    whites = film.model_copy(update={"blocks": tuple(b for b in film.blocks if b.backing == "dark")})
    lacks = {b.id: BlockTruth(missing=tuple(range(5, 180, 3))[:lost]) for b in whites.blocks}
    truth = Truth(blocks=lacks, scene=small_scene(**LARGER, roll_deg=4))
    pixels = render(film, truth, "dark", np.random.default_rng(4))
    result = teach(spec_of(whites), [UprightPhoto(pixels, "dark", "good.jpg")])
    assert [b.columns for b in result.layout.blocks] == [b.columns for b in whites.blocks]
    assert [(b.counts["firing"], b.counts["missing"]) for b in result.reading.blocks] == [(180 - lost, lost)] * 2
