"""What paper carries besides a pattern is not taken for its marks: numbers and words beside it, rules under it."""

import cv2
import numpy as np
import pytest
from tests.conftest import small_scene
from tests.core.test_small_sheets import PITCH, sheet, states

from dusky_sieve.core.layout import Clear, Layout, clear_of, clear_width, mark_centres
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.reading import aside as beside
from dusky_sieve.core.reading.aside import columns_told, going_on, measured_lead, moved_on
from dusky_sieve.core.reading.finished import Finished
from dusky_sieve.core.reading.laid import laid
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.measure import Expected, measure_block
from dusky_sieve.core.reading.refine import measured_closely
from dusky_sieve.core.reading.registration import grid_over, moved, through
from dusky_sieve.core.simulate import BlockTruth, Truth, render
from dusky_sieve.core.simulate.camera import place_on_photo

Words = list[tuple[str, tuple[float, float]]]
SMALL = {"width": 1600, "height": 1200}
SHOT = {"width": 2800, "height": 2100, "fill": 0.8, "margin_mm": 16}


def photo_with(layout: Layout, words: Words, gone: dict[str, tuple[int, ...]], seed: int = 6, size: float = 1.0, **scene) -> np.ndarray:  # fmt: skip
    """A photo with words, each centred on a place of the sheet, mm, and some marks missing."""
    shot = small_scene(**(SHOT | scene))
    faults = {name: BlockTruth(missing=which) for name, which in gone.items()}
    pixels = render(layout, Truth(blocks=faults, scene=shot), "light", np.random.default_rng(seed))
    for word, at in words:
        (wide, high), _ = cv2.getTextSize(word, cv2.FONT_HERSHEY_SIMPLEX, size, 3)
        x, y = place_on_photo(np.array([at]), layout=layout, scene=shot)[0] + np.array([-wide / 2, high / 2])
        cv2.putText(pixels, word, (int(x), int(y)), cv2.FONT_HERSHEY_SIMPLEX, size, (40, 40, 40), 3, cv2.LINE_AA)
    return pixels


def read_with(layout: Layout, words: Words, gone: dict[str, tuple[int, ...]], seed: int = 6, size: float = 1.0, **scene) -> Reading:  # fmt: skip
    """The reading of such a photo."""
    return read_sheet(layout, [UprightPhoto(photo_with(layout, words, gone, seed, size, **scene), "light", "p")])


ROWS = sheet(200, 200, 200, columns=25, across=1.7, mark=1.3, down=1.2, slant=False)
GONE = {"b0": (25, 50, 75, 112), "b1": (1, 26, 51, 100), "b2": (8, 176, 200)}


@pytest.mark.parametrize("seen", [{"roll_deg": 4}, {"roll_deg": 174, "tilt_deg": 18, "tilt_towards_deg": 60}])
@pytest.mark.parametrize("beside", ["row", "column"])
def test_numbers_a_lattice_step_beside_every_row_or_column_are_no_marks(beside, seen):
    words = []
    for block in ROWS.blocks:
        marks = mark_centres(block)
        if beside == "row":
            words += [(str(25 * k + 1), (x - 1.7, y)) for k, (x, y) in enumerate(marks[::25])]
        else:
            words += [(str(k + 1), (x, y - 1.2)) for k, (x, y) in enumerate(marks[:25])]
    found = read_with(ROWS, words, GONE, size=0.7, **seen)
    assert found.photos[0].found, found.photos[0].why
    assert {b.id: sorted(states(b)) for b in found.blocks} == {name: sorted(which) for name, which in GONE.items()}


@pytest.mark.parametrize("step", [(0.0, -1.2), (0.0, 1.2), (-1.7, 0.0), (1.7, 0.0)])
def test_a_place_a_lattice_step_aside_is_led_back_by_the_marks_that_go_on_there_and_numbers_are_none(step):
    above = [(str(k + 1), (x, y - 1.2)) for b in ROWS.blocks for k, (x, y) in enumerate(mark_centres(b)[:25])]
    photo = photo_with(ROWS, above, GONE, size=0.7, roll_deg=4)
    grid, blocks = grid_over(ROWS.size, 9), {b.id for b in ROWS.blocks}
    shot = small_scene(**SHOT, roll_deg=4)
    true = through(place_on_photo(grid, layout=ROWS, scene=shot), grid, ROWS.size, 4)
    assert going_on(photo, ROWS, "light", blocks, true, Expected()) == (set(), {})
    aside, steps = going_on(photo, ROWS, "light", blocks, moved(true, step), Expected())
    assert aside == blocks
    assert {name: tuple(np.round(s, 6)) for name, s in steps.items()} == dict.fromkeys(blocks, tuple(np.negative(step)))
    place = laid(photo, moved(true, step), Locator(photo, ROWS, "light", "p")).registration
    assert np.abs(place.to_photo(grid) - true.to_photo(grid)).max() < 1.0


def test_rows_and_columns_that_the_map_does_not_tell_are_told_by_the_ends_measured_on_the_photo(monkeypatch):
    monkeypatch.setattr(Finished, "row_told", lambda _: False)
    monkeypatch.setattr(Finished, "steps_told", lambda _: False)
    photo, grid = photo_with(ROWS, [], GONE), grid_over(ROWS.size, 9)
    true = through(place_on_photo(grid, layout=ROWS, scene=small_scene(**SHOT)), grid, ROWS.size, 4)
    assert laid(photo, true, Locator(photo, ROWS, "light", "p")).doubtful == {}
    seen = {"backing": "light", "expected": Expected()}
    # Three marks of the first rows are missing, five of the last columns.
    assert measured_lead(photo, ROWS, ways=beside.ROWS, registration=true, **seen) == 72
    assert measured_lead(photo, ROWS, ways=beside.COLUMNS, registration=true, **seen) == 19
    assert measured_lead(photo, ROWS, ways=beside.ROWS, registration=moved(true, (0.0, 1.2)), **seen) < 0
    blocks = {b.id for b in ROWS.blocks}
    assert columns_told(photo, ROWS, names=blocks, registration=true, **seen) == blocks
    assert columns_told(photo, ROWS, names=blocks, registration=moved(true, (1.7, 0.0)), **seen) == set()
    bare = photo_with(ROWS, [], {b.id: tuple(range(1, 26)) for b in ROWS.blocks})
    assert measured_lead(bare, ROWS, ways=beside.ROWS, registration=true, **seen) == 0


@pytest.mark.parametrize(("last", "letters", "found"), [((), 1, True), ((61, 62), 2, False)])
def test_letters_where_only_the_other_way_round_has_marks_neither_hide_the_own_last_ones_nor_stand_for_them(last, letters, found):  # fmt: skip
    layout = sheet(62, columns=12, down=1.4, slant=False)
    above = [("o", (x, y - 1.4)) for x, y in mark_centres(layout.blocks[0])[[11, 10]][:letters]]
    seen = read_with(layout, above, {"b0": (7, 30, 55, *last)}, size=0.7, roll_deg=20)
    assert states(seen.blocks[0]) == (dict.fromkeys((7, 30, 55), "missing") if found else {})
    assert found or "two ways round" in (seen.photos[0].why or "")


@pytest.mark.parametrize(
    ("step", "aside"), [((0.0, 0.0), False), ((0.0, 1.2), True), ((0.0, 1.1), True), ((1.7, 0.0), True)]
)
def test_a_block_read_a_row_or_a_column_aside_is_told_by_the_marks_that_go_on_at_its_other_side(step, aside):
    """Where it lies right its first row is missing all the same, and numbers stand below the last."""
    block = ROWS.blocks[-1]
    below = [(str(k + 1), (x, y + 1.2)) for k, (x, y) in enumerate(mark_centres(block)[-25:])]
    gone = {block.id: tuple(range(1, 26)) if not aside else ()}
    photo, shot, grid = photo_with(ROWS, below, gone, size=0.7), small_scene(**SHOT), grid_over(ROWS.size, 9)
    true = through(place_on_photo(grid, layout=ROWS, scene=shot), grid, ROWS.size, 4)
    known = {
        "registration": moved(true, step),
        "backing": "light",
        "expected": Expected(),
        "clear": Clear(1.2, clear_width(block)),
    }
    assert moved_on(photo, ROWS, block, measured_closely(photo, block, **known), **known) == aside


@pytest.mark.parametrize(("columns", "step"), [(1, (0.0, 0.62)), (20, (2.9, 0.0))])
def test_of_a_single_column_or_row_the_one_mark_beyond_its_end_tells_that_it_lies_aside(columns, step):
    layout = sheet(20, columns=columns, across=2.9, mark=2.1, down=0.62, slant=False)
    grid, block, shot = grid_over(layout.size, 9), layout.blocks[0], SHOT | SMALL
    true = through(place_on_photo(grid, layout=layout, scene=small_scene(**shot)), grid, layout.size)
    for gone, way, aside in (((), step, True), ((1,), (0.0, 0.0), False)):
        photo = photo_with(layout, [], {"b0": gone}, **SMALL)
        known = {
            "registration": moved(true, way),
            "backing": "light",
            "expected": Expected(),
            "clear": Clear(0.62, clear_width(block)),
        }
        assert moved_on(photo, layout, block, measured_closely(photo, block, **known), **known) == aside


@pytest.mark.parametrize(("gone", "step", "aside"), [((2, 3, 4), (0.0, 1.1), True), ((29, 30, 31, 32), (0.0, 0.0), False)])  # fmt: skip
def test_the_one_mark_that_printed_of_a_first_row_is_enough_where_the_last_row_is_bare_paper(gone, step, aside):
    layout = sheet(32, columns=4, across=2.9, mark=2.1, down=1.1, slant=False)
    photo, grid, block = photo_with(layout, [], {"b0": gone}), grid_over(layout.size, 9), layout.blocks[0]
    true = through(place_on_photo(grid, layout=layout, scene=small_scene(**SHOT)), grid, layout.size, 4)
    known = {
        "registration": moved(true, step),
        "backing": "light",
        "expected": Expected(),
        "clear": Clear(1.1, clear_width(block)),
    }
    assert moved_on(photo, layout, block, measured_closely(photo, block, **known), **known) == aside


def test_a_block_whose_rows_are_followed_into_each_other_and_whose_last_one_seems_missing_lies_aside():
    """Two rows off at its top and one at its foot: none of the first marks is in its place, nor one beyond them."""
    layout = sheet(128, columns=4, across=2.9, mark=2.1, down=4 * PITCH, slant=False)
    photo, grid, shot = photo_with(layout, [], {"b0": (14, 33, 70)}), grid_over(layout.size, 9), SHOT
    aside = np.outer((2 - grid[:, 1] / layout.size[1]) * 4 * PITCH, (0.0, 1.0))
    place = through(place_on_photo(grid + aside, layout=layout, scene=small_scene(**shot)), grid, layout.size, 4)
    known = {
        "registration": place,
        "backing": "light",
        "expected": Expected(),
        "clear": Clear(4 * PITCH, clear_width(layout.blocks[0])),
    }
    assert moved_on(photo, layout, layout.blocks[0], measured_closely(photo, layout.blocks[0], **known), **known)


@pytest.mark.parametrize("seed", [9, 17])
def test_words_before_few_rows_whose_last_column_did_not_print_lead_no_block_aside(seed):
    layout = sheet(36, 28, 38, columns=20, across=2.26, mark=1.72, down=1.69)
    gone = {"b0": (20, 21, 24), "b1": (8, 10, 20), "b2": (12, 20, 38)}
    rng = np.random.default_rng(seed)
    words = [
        (str(rng.integers(10, 99)), (x - 2.4, y - 0.1)) for b in layout.blocks for x, y in mark_centres(b)[[0, 20]]
    ]
    found = read_with(layout, words, gone, seed, roll_deg=-12 + seed, tilt_deg=12, tilt_towards_deg=60 * seed)
    assert all(sorted(states(b)) == sorted(gone[b.id]) for b in found.blocks if b.read)


@pytest.mark.parametrize("pitches", [2.8, 3.6, 4.0])
def test_ink_that_goes_on_to_where_a_throw_is_no_longer_followed_is_no_thrown_mark(pitches):
    """Solid bars, as thick letters are, below marks of the last row that did not print: what one sees of them begins like a mark and does not end."""
    missing = range(178, 199, 2)
    shot = small_scene(width=2800, height=2100, fill=0.8, margin_mm=16)
    truth = Truth(blocks={"b1": BlockTruth(missing=(12, *missing))}, scene=shot)
    pixels = render(ROWS, truth, "light", np.random.default_rng(6))
    for x, y in mark_centres(ROWS.blocks[1])[[n - 1 for n in missing]]:
        bar = np.array([[-0.5, 0], [0.5, 0], [0.5, 0.8], [-0.5, 0.8]]) + (x, y + pitches * PITCH)
        at = place_on_photo(bar, layout=ROWS, scene=shot)
        cv2.fillPoly(pixels, [np.rint(at * 16).astype(np.int32)], (40, 40, 40), cv2.LINE_AA, 4)
    found = read_sheet(ROWS, [UprightPhoto(pixels, "light", "p")])
    told = {b.id: states(b) for b in found.blocks}
    assert set(told["b1"]) == {12, *missing}
    assert set(told["b1"].values()) <= {"missing", "unsure"}
    assert told["b0"] == told["b2"] == {}


@pytest.mark.parametrize(("rise", "ink"), [(0.0, 0.2), (0.0, 0.45), (0.6, 0.3)])
def test_on_ruled_paper_a_rule_where_a_nozzle_printed_nothing_is_no_faint_and_no_thrown_mark(rise, ink):
    """Rules that run along travel, or rise a little, take as much light as faint marks do."""
    rng = np.random.default_rng(3)
    missing = {b.id: frozenset(rng.choice(np.arange(1, 201), 60, replace=False).tolist()) for b in ROWS.blocks}
    shot = small_scene(width=2800, height=2100, fill=0.8, margin_mm=16)
    truth = Truth(blocks={name: BlockTruth(missing=tuple(which)) for name, which in missing.items()}, scene=shot)
    rules = np.zeros((2100, 2800), np.uint8)
    for y in np.arange(-2, ROWS.size[1] + 3, 2.3):
        ends = place_on_photo(np.array([[-3, y], [ROWS.size[0] + 3, y + rise]]), layout=ROWS, scene=shot)
        cv2.polylines(rules, [np.rint(ends * 16).astype(np.int32)], False, (255,), 7, cv2.LINE_AA, 4)
    share = cv2.GaussianBlur(rules, (0, 0), 1.5)[..., None] / 255 * ink
    pixels = (render(ROWS, truth, "light", np.random.default_rng(6)) * (1 - share)).astype(np.uint8)
    told = {b.id: states(b) for b in read_sheet(ROWS, [UprightPhoto(pixels, "light", "p")]).blocks}
    faults = [(name, n, state) for name, block in told.items() for n, state in block.items() if state != "unsure"]
    assert {state for _, _, state in faults} == {"missing"}
    assert all(n in missing[name] for name, n, _ in faults)
    assert len(faults) > 80
    assert all(told[name].get(n, "firing") != "firing" for name, which in missing.items() for n in which)


def test_rows_laid_half_a_column_aside_are_not_taken_for_rules():
    """Ink where gaps should be, in all rows: but then there is none somewhere within the marks."""
    layout = sheet(30, columns=12, across=1.03, mark=0.93, down=1.2, slant=False)
    photo = photo_with(layout, [], {}, **SMALL)
    grid, shot = grid_over(layout.size, 9), small_scene(**(SHOT | SMALL))
    true = through(place_on_photo(grid, layout=layout, scene=shot), grid, layout.size, 4)
    marks = measure_block(photo, layout.blocks[0], moved(true, (0.5 * 1.03, 0.0)), "light", expected=Expected(), clear=clear_of([layout.blocks[0]])[0])  # fmt: skip
    assert not marks.covered.any()
