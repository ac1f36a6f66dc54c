"""Marks hardly longer than they are wide, of which dots show that only rows tell the way of; and sheets that share a block."""

from dataclasses import replace

import numpy as np
import pytest
from tests.core.drawn import INKS, block, photo, read, sheet, states

from dusky_sieve.core.layout import mark_centres
from dusky_sieve.core.reading.dots import strokes_of_marks
from dusky_sieve.core.reading.find import EFFORTS
from dusky_sieve.core.reading.inkmap import find_strokes
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import moved, rigid
from dusky_sieve.core.reading.stray import between_places
from dusky_sieve.core.simulate import BlockTruth

GONE = (("b", BlockTruth(missing=(7, 31))),)


def dotted(step: float, down: float):
    size = (12 * step + 1.0, 3 * (4 * down + 3.0))
    dots = {"nozzles": 45, "columns": 12, "step": (step, 0.0), "down": down, "mark": (0.2, 0.14)}
    return sheet(size, *(block(n, (0.5, 0.5 + k * size[1] / 3), INKS[k], **dots) for k, n in enumerate("abc")))


@pytest.mark.parametrize(("step", "down"), [(0.6, 1.0), (0.9, 0.6)], ids=["rows apart", "columns apart"])
def test_dots_are_found_by_the_rows_they_stand_in(step, down):
    layout = dotted(step, down)
    reading = read(layout, photo(layout, GONE, roll_deg=140, tilt_deg=18, fill=0.7))
    assert states(reading) == {"a": {}, "b": {7: "missing", 31: "missing"}, "c": {}}


@pytest.mark.parametrize("faint", [8, 60])
def test_round_spots_are_strokes_along_their_rows_where_marks_are_dots_and_specks_of_noise_are_none(faint):
    page = np.zeros((300, 400), np.uint8)
    for y, x in np.ndindex(8, 10):
        page[60 + 20 * y : 64 + 20 * y, 60 + 14 * x : 64 + 14 * x] = faint
    blocks = list(dotted(0.6, 1.0).blocks)
    strokes = strokes_of_marks(page, blocks, None)
    kept = 0 if faint == 8 else 2 * 80
    assert len(strokes.long) == kept
    along = np.abs(np.sin(strokes.lean))
    assert (along < 0.01).sum() == (along > 0.99).sum() == kept // 2
    long_marks = [b.model_copy(update={"mark": (0.2, 0.04)}) for b in blocks]
    assert len(strokes_of_marks(page, long_marks, None).long) == len(find_strokes(page, None).long) == 0


@pytest.mark.parametrize(("beside", "believed"), [(0.3, True), (0.4, False)])
def test_a_place_led_to_twice_is_not_believed_sooner_where_many_strokes_stand_beside_its_lattice(monkeypatch, beside, believed):  # fmt: skip
    layout = dotted(0.6, 1.0)
    at = Locator(photo(layout, fill=0.7), layout, "light", "p")
    found, _ = at.search(EFFORTS[0])
    monkeypatch.setattr(at, "_beside", lambda _: np.arange(20) < 20 * beside)
    assert at.confirmed(replace(found, again=False)).again == believed


@pytest.mark.parametrize(
    ("by", "doubted"), [((0.0, 0.0), 0), ((0.1, 0.0), 0), ((0.0, 0.4), 0), ((0.3, 0.0), 45), ((-0.25, 0.05), 45)]
)
def test_marks_are_in_doubt_beside_which_strokes_stand_between_two_places_of_their_row(by, doubted):
    """By mm: nozzles throw across travel, a lattice lies half a column aside along it."""
    layout = dotted(0.6, 1.0)
    page = np.zeros((520, 260), np.uint8)
    place = rigid(np.array([[24.0, 0, 20], [0, 24.0, 20], [0, 0, 1]]), layout.size)
    for x, y in np.rint(place.to_photo(mark_centres(layout.blocks[1]))).astype(int).tolist():
        page[y - 1 : y + 2, x - 2 : x + 3] = 120
    strokes = strokes_of_marks(page, list(layout.blocks), None)
    found = between_places(strokes, moved(place, by), list(layout.blocks))
    assert sum(int(which.sum()) for which in found.values()) == doubted
    assert set(found) <= {"b"}


GRID = {"nozzles": 99, "columns": 13, "step": (0.678, 0.0), "down": 0.993, "mark": (0.45, 0.1)}
BELOW = [block("abc"[k], (0.3, 0.1 + 9.0 * k), INKS[k], **GRID) for k in range(3)]


def test_a_sheet_that_shares_one_block_with_the_layout_is_another_sheet():
    layout = sheet((25.0, 8.3), BELOW[1] | {"origin": (0.3, 0.1)}, block("d", (16.0, 0.1), INKS[3], **GRID))
    found = read(layout, photo(sheet((9.0, 27.0), *BELOW), fill=0.8)).photos[0]
    assert not found.found
    assert "is not the layout" in found.why
