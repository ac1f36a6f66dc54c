"""What a layout may say, and how a bad one is refused."""

import copy
import json

import numpy as np
import pytest

from dusky_sieve import files
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import clear_height, mark_centres, parse_layout

GOOD = {
    "format": "dusky-sieve-layout", "version": 1, "name": "One", "size": [32.0, 26.0],
    "blocks": [{"id": "black", "channel": "black", "ink": "#1c1b1f", "backing": "light", "kind": "marks", "origin": [1.2, 0.8], "nozzles": 180, "first_nozzle": 2,
                "nozzle_step": 2, "nozzle_pitch": 0.1411, "columns": 12, "column_pitch": [2.4, 0.1411], "row_pitch": [0.0, 1.6933], "mark": [2.1, 0.1]}],
}  # fmt: skip


def test_one_formula_places_every_mark_and_numbers_it():
    block = parse_layout(json.dumps(GOOD)).blocks[0]
    centres = mark_centres(block)
    # Mark 25 stands in column 25 mod 12 = 1 and row 25 div 12 = 2.
    assert np.allclose(centres[25], [1.2 + 2.4, 0.8 + 0.1411 + 2 * 1.6933])
    assert list(block.numbers)[25] == 2 + 25 * 2
    # Neighbours in the same column are a row apart, but a mark is followed eight pitches at most.
    assert clear_height(block) == pytest.approx(8 * 0.1411)


@pytest.mark.parametrize(
    ("field", "value", "told"),
    [
        pytest.param("columns", 0, r"blocks\[0\].columns: .*1, found 0", id="no columns"),
        pytest.param("nozzles", 5000, r"blocks\[0\].nozzles: .*4096, found 5000", id="too many nozzles"),
        pytest.param("nozzle_pitch", -0.1, r"blocks\[0\].nozzle_pitch: .*above 0", id="negative pitch"),
        pytest.param("mark", [2.1, float("nan")], r"blocks\[0\].mark\[1\]", id="not a number"),
        pytest.param("kind", "zigzag", r"blocks\[0\].*zigzag", id="unknown kind"),
        pytest.param("column_pitch", [1.0, 0.05], r"marks that do not overlap", id="overlapping marks"),
        pytest.param("origin", [12.0, 0.8], r"blocks\[0\]: expected a block inside the sheet", id="off the sheet"),
        pytest.param("ink", "black", r"blocks\[0\].ink", id="ink by name"),
    ],
)
def test_an_impossible_number_is_refused_by_the_path_of_its_field(field, value, told):
    document = copy.deepcopy(GOOD)
    document["blocks"][0][field] = value
    with pytest.raises(UnusableInput, match=told):
        parse_layout(json.dumps(document), "six.layout.json")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        pytest.param("{", "not a JSON document", id="cut short"),
        pytest.param("[]", "document: ", id="a list"),
        pytest.param(json.dumps(GOOD | {"blocks": GOOD["blocks"] * 2}), r"blocks\[1\].id: expected an id of its own", id="one id twice"),
        pytest.param(" " * 1_000_001, "at most 1 MB", id="over a megabyte"),
        pytest.param("[" * 100_000, "nested too deeply", id="nested"),
    ],
)  # fmt: skip
def test_a_document_that_is_no_layout_is_refused(text, told):
    with pytest.raises(UnusableInput, match=told):
        parse_layout(text, "x.layout.json")


@pytest.mark.parametrize("name", ["four-staircases", "eight-slanted-runs", "six-bands-on-film", "two-heads-raster"])
def test_shipped_layouts_are_layouts(name):
    assert files.shipped_layout(name).blocks
