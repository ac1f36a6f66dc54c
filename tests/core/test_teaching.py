"""Teaching a sheet's layout from a photograph of a good one, then reading the next sheet with it."""

import numpy as np
import pytest
from tests.conftest import FAULTS, TRUE_STATES, photo_of, small_scene

from dusky_sieve import files
from dusky_sieve.core.errors import SheetNotFound, UnusableInput
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.teaching import KnownBlock, Spec, parse_spec, teach

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


def test_a_sheet_with_other_counts_is_refused_and_the_block_named(taught):
    layout, _ = taught
    photo = photo_of("four-staircases", A_FEW, small_scene(tilt_deg=8, tilt_towards_deg=120, roll_deg=7))
    with pytest.raises(SheetNotFound, match=r"block \w+: (no lattice of 96 marks|a lattice was found, but)"):
        teach(spec_of(layout, nozzles=96), [upright(photo)])


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
