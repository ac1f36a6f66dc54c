"""Sheets of a few dozen marks: nothing but a few short rows tells where they lie, which way round, and how the lens bends them."""

from functools import cache

import cv2
import numpy as np
import pytest
from tests.conftest import small_scene

from dusky_sieve.core.layout import Layout, MarksBlock, clear_heights, clear_of, mark_centres
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.reading import place as places
from dusky_sieve.core.reading.align import align
from dusky_sieve.core.reading.aside import rows_aside
from dusky_sieve.core.reading.document import BlockReading
from dusky_sieve.core.reading.find import Effort, gather_marks
from dusky_sieve.core.reading.inkmap import Strokes, find_strokes
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.measure import Expected
from dusky_sieve.core.reading.refine import measured_closely
from dusky_sieve.core.reading.registration import TERMS, Registration, grid_over, project, rigid
from dusky_sieve.core.reading.stray import left_out, marks_drawn
from dusky_sieve.core.reading.tilt import leans
from dusky_sieve.core.reading.votes import voted
from dusky_sieve.core.simulate import BlockTruth, DeflectedMark, Truth, WeakMark, render, sheet_to_photo

INKS = ("#1d1c20", "#1c84b8", "#b83a72", "#e0c22e")
PITCH = 0.085


def sheet(*nozzles: int, columns: int = 20, across: float = 1.7, down: float = 1.9, mark: float = 1.2, slant: bool = True, inks: tuple[str, ...] = INKS) -> Layout:  # fmt: skip
    """Blocks of so many nozzles below each other; slanted ones have rows that fall by a pitch from mark to mark."""
    blocks, top = [], 0.1
    for k, count in enumerate(nozzles):
        step = down if not slant else PITCH * columns
        blocks.append({
            "id": f"b{k}", "channel": f"c{k}", "ink": inks[k % len(inks)], "backing": "light", "kind": "marks", "origin": (1.0, top), "nozzles": count,
            "first_nozzle": 1, "nozzle_step": 1, "nozzle_pitch": PITCH, "columns": columns, "column_pitch": (across, PITCH if slant else 0.0),
            "row_pitch": (0.0, step), "mark": (mark, 0.076),
        })  # fmt: skip
        top += -(-count // columns) * step + (PITCH * columns if slant else 0) + 3.0
    size = (columns * across + 1.0, top)
    return Layout.model_validate({"format": "dusky-sieve-layout", "version": 1, "name": "Small", "size": size, "blocks": blocks})  # fmt: skip


@cache
def read(layout: Layout, faults: tuple[tuple[str, BlockTruth], ...] = (), grey: bool = False, seed: int = 6, **scene) -> Reading:  # fmt: skip
    shot = small_scene(**({"width": 2800, "height": 2100, "fill": 0.8, "margin_mm": 16} | scene))
    pixels = render(layout, Truth(blocks=dict(faults), scene=shot), "light", np.random.default_rng(seed))
    if grey:
        pixels = np.repeat(cv2.cvtColor(pixels, cv2.COLOR_RGB2GRAY)[..., None], 3, axis=2)
    return read_sheet(layout, [UprightPhoto(pixels, "light", "p")])


def states(block: BlockReading) -> dict[int, str]:
    return {f.nozzle: str(f.state) for f in block.faults}


LIKE = sheet(39, 38, columns=13, down=1.3, slant=False)


@pytest.mark.parametrize(
    ("layout", "roll"),
    [
        pytest.param(LIKE, 12.0, id="two like blocks"),
        pytest.param(LIKE, 171.0, id="two like blocks upside down"),
        pytest.param(sheet(36, 39, 29, columns=36, across=1.12, mark=1.05), 12.0, id="rows of marks that touch"),
        pytest.param(sheet(34, 26, columns=17, across=1.5), 12.0, id="two slanted blocks"),
    ],
)
def test_no_block_is_taken_for_another_though_it_alone_explains_itself_well(layout, roll):
    found = read(layout, seed=5, roll_deg=roll, tilt_deg=9, tilt_towards_deg=70, lens_k1=-0.03)
    assert found.photos[0].found, found.photos[0].why
    assert all(b.read for b in found.blocks)
    assert {b.id: states(b) for b in found.blocks} == {b.id: {} for b in layout.blocks}


@pytest.mark.parametrize(("gone", "roll"), [("b0", 225.0), ("b7", 138.0)])
def test_a_channel_absent_at_a_side_does_not_stretch_the_pattern_over_the_others(gone, roll):
    layout = sheet(
        *[48] * 8,
        columns=32,
        across=2.74,
        mark=1.7,
        down=1.31,
        slant=False,
        inks=("#1d1c20", "#c03434", "#b83a72", "#5a4a9c"),
    )
    absent = ((gone, BlockTruth(all_missing=True)),)
    found = read(layout, absent, roll_deg=roll, tilt_deg=3, words=True, border=True, margin_mm=14, fill=0.95)
    assert found.photos[0].found, found.photos[0].why
    assert {b.id: (b.counts or {}).get("missing") for b in found.blocks} == {b.id: 48 * (b.id == gone) for b in layout.blocks}  # fmt: skip


def test_colours_tell_the_way_round_though_the_blocks_that_would_differ_are_absent():
    """Upside down, the grey blocks lie on themselves, and the green ones on the black ones that print nothing."""
    layout = sheet(*[60] * 6, columns=20, down=1.5, slant=False, inks=("#1d1c20", "#b4b4b6", "#3a8c4c"))
    absent = tuple((name, BlockTruth(all_missing=True)) for name in ("b0", "b3"))
    found = read(layout, absent, roll_deg=8)
    assert found.photos[0].found, found.photos[0].why
    assert [(b.counts or {}).get("firing") for b in found.blocks] == [0, 60, 60, 0, 60, 60]


@pytest.mark.parametrize(("roll", "dark"), [(8.0, 0.8), (200.0, 0.7), (100.0, 1.25)])
def test_a_hard_edge_of_shade_between_blocks_does_not_hide_the_far_one(roll, dark):
    """Paper is even on one side of it; what printed there alone looks the same upside down, and the block between did not print."""
    layout = sheet(60, 60, 60, columns=12, down=1.5, slant=False, inks=("#1c84b8", "#b83a72", "#e0c22e"))
    scene = small_scene(width=2800, height=2100, fill=0.7, margin_mm=25, roll_deg=roll, exposure=0.62)
    faults = {"b1": BlockTruth(all_missing=True)}
    pixels = render(layout, Truth(blocks=faults, scene=scene), "light", np.random.default_rng(6))
    edge = np.array([[0.0, 0.45], [1.0, 0.45], [1.0, 9.0], [0.0, 9.0]]) * layout.size
    corners = np.rint(project(sheet_to_photo(layout, scene), edge * (40, 1) - (20 * edge[1, 0], 0))).astype(np.int32)
    shaded = cv2.fillConvexPoly(np.ones(pixels.shape[:2], np.float32), corners, (dark,))[..., None]
    lit = np.clip(pixels * shaded, 0, 255).astype(np.uint8)
    found = read_sheet(layout, [UprightPhoto(lit, "light", "p")])
    assert found.photos[0].found, found.photos[0].why
    assert [(b.counts or {}).get("firing") for b in found.blocks] == [60, 0, 60]


def test_without_colours_blocks_that_others_could_stand_for_are_not_guessed():
    """Black and orange lie to each other as violet and light grey do, which print nothing."""
    layout = sheet(*[48] * 4, columns=12, down=1.5, slant=False, inks=("#1d1c20", "#e07b30", "#5a4a9c", "#b4b4b6"))
    absent = tuple((name, BlockTruth(all_missing=True)) for name in ("b2", "b3"))
    grey = read(layout, absent, roll_deg=8, grey=True).photos[0]
    assert not grey.found
    assert "two ways round" in (grey.why or "")


@pytest.mark.parametrize(
    ("layout", "lens"),
    [
        pytest.param(sheet(24, 36, 24, columns=21), -0.05, id="three blocks, barrel"),
        pytest.param(sheet(24, 36, 24, columns=21), 0.05, id="three blocks, cushion"),
        pytest.param(sheet(24, 35, columns=18), 0.05, id="59 marks"),
    ],
)
def test_the_lens_bends_no_mark_at_the_corners_into_a_fault(layout, lens):
    thrown = DeflectedMark(nozzle=11, offset_um=(0, 0.9 * PITCH * 1000))
    faults = (("b1", BlockTruth(missing=(1, 33), deflected=(thrown,))),)
    found = read(layout, faults, lens_k1=lens, fill=0.93, tilt_deg=6)
    told = {"b1": {1: "missing", 11: "deflected", 33: "missing"}}
    assert {b.id: states(b) for b in found.blocks} == {b.id: told.get(b.id, {}) for b in layout.blocks}


def test_a_few_marks_that_only_one_way_round_has_tell_which_it_is():
    """Rows of one block look the same upside down but for the two marks of the last one."""
    layout = sheet(62, columns=12, down=1.4, slant=False)
    found = read(layout, (("b0", BlockTruth(missing=(7, 30, 55))),), roll_deg=20)
    assert found.photos[0].found, found.photos[0].why
    assert states(found.blocks[0]) == {7: "missing", 30: "missing", 55: "missing"}


@pytest.mark.parametrize(
    ("missing", "found", "long"), [((8, 31, 37), True, 1.2), ((8, 31, 37), True, 1.5), ((8, 31, 37, 85), False, 1.2)]
)
def test_a_single_mark_beyond_full_rows_tells_which_way_round_and_without_it_nothing_is_guessed(missing, found, long):
    """Of what the two ways share one may explain four marks more, for being laid more finely; with long ones gaps are narrow."""
    layout = sheet(85, columns=12, down=1.22, slant=False, mark=long)
    scene = {"roll_deg": 11.0, "tilt_deg": 12.9, "margin_mm": 11.4, "border": True, "words": True}
    seen = read(layout, (("b0", BlockTruth(missing=missing)),), **scene)
    assert seen.photos[0].found == found, seen.photos[0].why
    assert tuple(sorted(states(seen.blocks[0]))) == (missing if found else ())


@pytest.mark.parametrize(("seed", "nozzles"), [(0, 54), (1, 54), (2, 54), (3, 54), (4, 216), (7, 450)])
def test_a_third_of_the_marks_of_half_the_blocks_lay_the_pattern_onto_its_lattice(seed, nozzles):
    """Of many, some strokes stand for all."""
    rng = np.random.default_rng(seed)
    layout = sheet(*[nozzles] * 4, columns=18, down=1.1, slant=False)
    marks, blocks = gather_marks(layout, "light"), [b for b in layout.blocks if isinstance(b, MarksBlock)]
    tilted = np.array(
        [[32.0, 5.0, 120.0], [-4.0, 30.0, 200.0], [*rng.uniform(-0.004, 0.004, 2) * min(1, 216 / nozzles), 1.0]]
    )
    printed = marks.centres[(marks.block < 2) & (rng.random(len(marks.block)) < 0.35)]
    ends = np.stack([project(tilted, printed + (s * 0.6, 0)) for s in (-1, 1)])
    middle, along = ends.mean(axis=0), ends[1] - ends[0]
    stray = rng.uniform(100, 1100, (6, 2))  # strokes of the same direction that are no marks
    middle, along = np.concatenate([middle, stray]), np.concatenate([along, np.tile(along.mean(axis=0), (6, 1))])
    n, none = len(middle), np.zeros(0, int)
    strokes = Strokes(
        centre=middle, lean=np.arctan2(along[:, 1], along[:, 0]), long=np.hypot(*along.T), wide=np.full(n, 3.0), ink=np.full(n, 90.0),
        shape=(1200, 1600), pixel=none, label=none, number=none,
    )  # fmt: skip
    lean = leans(strokes, (1200, 1600), 1, 0.2)[0]
    best = voted(strokes, lean, marks, layout, blocks, 4)[0]
    at = project(np.linalg.inv(best.homography), ends.mean(axis=0))
    off = np.abs(at[:, None] - marks.centres[None]) / (1.7, 1.1)
    assert off.max(axis=2).min(axis=1).max() < 0.25


def with_little(seed: int) -> tuple[dict[str, set[int]], Reading]:
    """Four blocks of which two are absent and 33 of 48 marks of the others missing; what is missing, and what was read."""
    rng = np.random.default_rng(seed)
    layout = sheet(*[48] * 4, columns=18, across=1.9, mark=1.2, down=1.1, slant=False)
    some = {f"b{k}": tuple(sorted(rng.permutation(np.arange(1, 49))[:33].tolist())) for k in (0, 2)}
    faults = [
        (b.id, BlockTruth(missing=some[b.id]) if b.id in some else BlockTruth(all_missing=True)) for b in layout.blocks
    ]
    found = read(layout, tuple(faults), roll_deg=205, tilt_deg=24, tilt_towards_deg=200, width=2000, height=1500)
    return {b.id: set(some.get(b.id, range(1, 49))) for b in layout.blocks}, found


def test_a_sheet_of_which_two_channels_are_absent_and_most_marks_of_the_others_missing_is_read():
    missing, found = with_little(9)
    assert found.photos[0].found, found.photos[0].why
    assert {b.id: {n for n, state in states(b).items() if state == "missing"} for b in found.blocks} == missing


def test_where_an_outermost_column_printed_nothing_and_little_else_did_nothing_is_guessed():
    """A column aside all marks that printed lie on the lattice as well."""
    _, found = with_little(3)
    assert not found.photos[0].found
    assert "a column or a row aside" in (found.photos[0].why or "")


def test_nobody_guesses_the_row_of_a_block_alone_of_which_the_first_did_not_print():
    """A row further on its marks lie on the lattice as well, and nothing stands beside it; a fill tells which way round it lies."""
    bare, first = sheet(58, columns=6, across=2.4, down=1.3, mark=1.9, slant=False), (1, 2, 3, 4, 5, 6)
    fill = {"id": "fill", "channel": "c0", "ink": INKS[0], "kind": "solid", "origin": (1.0, 18.0), "size": (12.0, 9.0), "nozzle_pitch": PITCH}  # fmt: skip
    layout = Layout.model_validate(bare.model_dump() | {"size": (bare.size[0], 28.0), "blocks": [*bare.model_dump()["blocks"], fill]})  # fmt: skip
    found = read(layout, (("b0", BlockTruth(missing=(*first, 20))),), tilt_deg=6)
    assert "a column or a row aside" in (found.photos[0].why or "")
    told = read(layout, (("b0", BlockTruth(missing=(*first[:4], 20))),), tilt_deg=6)
    assert states(told.blocks[0]) == dict.fromkeys((*first[:4], 20), "missing")


def test_a_row_that_lies_on_itself_a_column_aside_is_unsure_where_few_rows_hold_it():
    layout = sheet(28, 23, columns=28, across=1.0, down=5.6, mark=0.85)
    some = tuple(n for n in range(1, 29) if n not in (8, 10, 13, 14, 19, 20, 24, 25))
    found = read(layout, (("b0", BlockTruth(missing=some)),), roll_deg=150, tilt_deg=20, tilt_towards_deg=80)
    assert found.photos[0].found, found.photos[0].why
    assert not found.blocks[0].read
    assert found.blocks[1].read
    assert states(found.blocks[1]) == {}


def test_of_two_like_blocks_alone_one_that_is_absent_cannot_be_told_from_the_other():
    layout = sheet(60, 60, columns=12, slant=False, inks=("#1d1c20",))
    found = read(layout, (("b1", BlockTruth(all_missing=True)),), roll_deg=14)
    assert not found.photos[0].found
    assert "two ways round" in (found.photos[0].why or "")


def test_strokes_like_the_marks_that_a_place_does_not_explain_are_left_out():
    layout = sheet(40, 40, slant=False)
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    marks = gather_marks(layout, "light")
    place = rigid(np.array([[14.0, 0, 60], [0, 14.0, 60], [0, 0, 1]]), layout.size)
    page = np.zeros((round(layout.size[1] * 14) + 120, round(layout.size[0] * 14) + 120), np.uint8)
    for (x, y), (long, _) in zip(marks.centres, marks.sizes, strict=True):
        ends = np.rint(place.to_photo(np.array([[x - long / 2, y], [x + long / 2, y]]))).astype(int).tolist()
        cv2.line(page, ends[0], ends[1], (200,), 2)
    strokes = find_strokes(page, None)
    follows = np.ones(len(strokes.long), bool)
    half = marks.only(marks.block == 0)
    clear = float(np.median(clear_heights(blocks)))
    whole, part = (
        left_out(strokes, follows, marks_drawn(page, place, some, blocks, clear), place) for some in (marks, half)
    )
    assert whole < 0.05
    assert part == pytest.approx(1.0, abs=0.1)


@pytest.mark.parametrize("no_sheet", [False, True])
def test_a_place_found_wanting_gives_way_to_where_another_look_leads(monkeypatch, no_sheet):
    """Where one look led to before, at the same size, is not come back to; what proves no sheet is no place at all."""
    layout = sheet(40, 40, slant=False)
    led = iter([0.0, 0.0, 300.0])

    class Led:
        def __init__(self, at: Locator, far: float) -> None:
            self.registration = rigid(np.array([[14.0, 0, 60 + far], [0, 14.0, 60], [0, 0, 1]]), at.layout.size)
            self.fit = type("fit", (), {"there": 0.2, "explained": 10.0})()
            self.worth = 2.0

    def look(at: Locator, effort: Effort, before: object) -> tuple[Led, list, Locator]:
        at.liked = 0.9
        return Led(at, next(led, 300.0)), [], at

    monkeypatch.setattr(places, "_look", look)
    monkeypatch.setattr(places, "_clear", lambda look: True)
    proven = iter([None] if no_sheet else [])
    monkeypatch.setattr(places, "_checked", lambda at, best, candidates, others: next(proven, best.registration))
    # Two patches of paper: three looks.
    pixels = render(layout, Truth(scene=small_scene()), "light", np.random.default_rng(7))
    asked = places.places_of(pixels, layout, "light", "p")
    if not no_sheet:
        first = next(asked)
        assert first[0].homography[0, 2] == 60.0
    second = next(asked)
    assert second[0].homography[0, 2] == 360.0 or second[1].map.factor != places.FINDING_PX / max(pixels.shape)


@pytest.mark.parametrize("seen", [{"roll_deg": 30}, {"roll_deg": 174, "tilt_deg": 18, "tilt_towards_deg": 60}])
def test_gaps_a_thirtieth_of_a_column_wide_tell_on_a_sharp_photo_where_a_few_rows_lie_along_themselves(seen):
    layout = sheet(48, 48, 48, columns=25, across=1.3, mark=1.25, slant=False, down=1.1)
    gone = {"b0": (3, 29), "b1": (25, 40), "b2": (48,)}
    found = read(layout, tuple((name, BlockTruth(missing=which)) for name, which in gone.items()), **seen)
    assert {b.id: states(b) for b in found.blocks} == {b: dict.fromkeys(which, "missing") for b, which in gone.items()}


def test_a_grid_of_places_is_as_where_each_lies_by_itself():
    warp = np.zeros((len(TERMS), 2))
    warp[6:10] = np.random.default_rng(2).uniform(-0.3, 0.3, (4, 2))
    bent = Registration(np.array([[30, 2, 100], [-1, 31, 80], [1e-3, 2e-3, 1]]), warp, (60.0, 40.0))
    x, y = np.linspace(3, 50, 300), np.linspace(2, 38, 200)
    each = bent.to_photo(np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)).reshape(200, 300, 2)
    assert np.abs(bent.on_grid(x, y) - each).max() < 0.05
    assert np.allclose(bent.on_grid(*grid_over((50.0, 30.0), 2)[[0, -1]].T), bent.to_photo(grid_over((50.0, 30.0), 2)).reshape(2, 2, 2))  # fmt: skip


@pytest.mark.parametrize("fall", [1.3, 4.0])
def test_white_over_black_that_lies_in_ever_less_of_the_lamps_light_is_not_weak(fall):
    """Paper beside a mark tells how much light falls there; black tells nothing."""
    black = {"backing": "dark", "ink": "#f4f4f2"}
    layout = sheet(59, 59, columns=22, across=2.75, mark=2.15, down=1.1, slant=False)
    layout = layout.model_copy(update={"blocks": tuple(b.model_copy(update=black) for b in layout.blocks)})
    faults = {"b0": BlockTruth(missing=(24, 25)), "b1": BlockTruth(weak=(WeakMark(nozzle=50, ink=0.4),))}
    scene = small_scene(fill=0.9, lamp_falloff=fall, lamp_towards_deg=0)
    pixels = render(layout, Truth(blocks=faults, scene=scene), "dark", np.random.default_rng(4))
    found = read_sheet(layout, [UprightPhoto(pixels, "dark", "p")])
    assert [states(b) for b in found.blocks] == [{24: "missing", 25: "missing"}, {50: "weak"}]


def test_single_rows_are_laid_beside_large_words_however_far_apart_their_few_rows_are():
    layout = sheet(22, 22, columns=21, across=1.29, mark=1.24)
    rows = (b.model_copy(update={"row_pitch": (0.0, 5.0), "origin": (1.0, y)}) for b, y in zip(layout.blocks, (1.0, 13.0), strict=True))  # fmt: skip
    layout = layout.model_copy(update={"blocks": tuple(rows), "size": (28.0, 27.0)})
    place, grid = np.array([[40.0, 0, 120], [0, 40.0, 120], [0, 0, 1]]), grid_over(layout.size, 5)
    lines = np.zeros((1300, 1400), np.uint8)
    for x, y in project(place, np.concatenate([mark_centres(b) for b in layout.blocks])).astype(int):
        cv2.line(lines, (int(x) - 23, int(y)), (int(x) + 23, int(y)), (255,), 5)
    for words, below in (("SHEET 12", 110), ("PAGE 1", 1290)):
        cv2.putText(lines, words, (60, below), cv2.FONT_HERSHEY_SIMPLEX, 2, (255,), 16)
    score, found = align(
        lines, place + np.array([[0, 0, 25], [0, 0, 25], [0, 0, 0]]), gather_marks(layout, "light"), layout
    )
    assert score > 0.8
    assert np.linalg.norm(project(found, grid) - project(place, grid), axis=1).mean() < 25


@pytest.mark.parametrize(("aside", "said"), [(0, ()), (1, range(50, 60)), (-1, range(50, 60))])
def test_a_row_that_is_laid_a_column_aside_is_in_doubt_and_one_that_lies_right_without_its_first_mark_is_not(aside, said):  # fmt: skip
    layout = sheet(59, columns=49, across=1.17, mark=1.03, down=5.2, slant=False)
    shot, faults = small_scene(fill=0.9, margin_mm=10, words=False), {"b0": BlockTruth(missing=() if aside else (50,))}
    [block], pixels = layout.blocks, render(layout, Truth(blocks=faults, scene=shot), "light", np.random.default_rng(4))
    first_row, [clear] = mark_centres(block)[0, 1], clear_of([block])
    sheared = np.array([[1, aside * 1.17 / 5.2, -aside * 1.17 / 5.2 * first_row], [0, 1, 0], [0, 0, 1.0]])
    place = rigid(sheet_to_photo(layout, shot) @ sheared, layout.size)
    marks = measured_closely(pixels, block, place, "light", expected=Expected(), clear=clear)
    in_doubt = rows_aside(pixels, layout, block, marks, place, "light", Expected(), clear)
    assert [block.numbers[k] for k in np.flatnonzero(in_doubt)] == [*said]
