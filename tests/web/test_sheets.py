"""Correcting a reading, telling a sheet by hand, four corners, and a printer set up from its sheet."""

import json
from datetime import timedelta

import pytest
from tests.conftest import NOON, small_scene
from tests.core.test_teaching import A_FEW, photo_of

from dusky_sieve import files, services


@pytest.fixture
def read_sheet(room, faulty_photo):
    """A sheet of Larch read from a photo and not yet vouched for."""
    room.send_photo(faulty_photo)
    return room


def faults(room, sheet=1):
    record = services.find_sheet(room.store, sheet)
    larch = services.find_printer(room.store, "larch")
    return services.faults_of_reading(services.reading_now(record, larch), larch.layout)


def correct(room, **fields):
    return room.act("/sheets/1", "/sheets/1/marks", fields)


def test_a_corrected_mark_is_what_counts_and_the_machines_answer_stays_beside_it(read_sheet):
    room = read_sheet
    correct(room, block="black", numbers="90", state="firing")
    correct(room, block="black", numbers="40-43, 97", state="missing")
    assert faults(room)["black"].missing == (1, 12, 13, 40, 41, 42, 43, 97, 180)
    assert faults(room)["black"].deflected == ()
    record = services.find_sheet(room.store, 1)
    assert record.changes[0].was == {90: "deflected"}
    assert (record.changes[0].person, record.changes[0].at) == ("Jory", NOON)
    room.act("/sheets/1", "/sheets/1/accept")
    assert services.find_sheet(room.store, 1).faults["black"].missing == (1, 12, 13, 40, 41, 42, 43, 97, 180)
    assert correct(room, block="black", numbers="5", state="missing").status_code == 409


def test_a_correction_is_taken_back_and_put_on_again(read_sheet):
    room = read_sheet
    correct(room, block="cyan", state="missing", whole="true")
    assert faults(room)["cyan"].all_missing
    room.act("/sheets/1", "/sheets/1/undo")
    assert faults(room)["cyan"].weak == (77, 140)
    room.act("/sheets/1", "/sheets/1/undo", {"again": "true"})
    assert faults(room)["cyan"].all_missing


def test_a_sheet_of_which_nothing_can_be_judged_is_not_said_to_be_clear_nor_accepted(room, faulty_photo, monkeypatch):
    monkeypatch.setattr("dusky_sieve.core.reading.sheet.LEAST_CONTRAST", 1e9)
    room.send_photo(faulty_photo)
    page = room.get("/sheets/1").text
    assert "Nothing on this photo can be judged." in page
    assert "Photograph it again" in page
    assert "and in its place" not in page
    assert "It is right" not in page
    assert "use it anyway" not in page
    assert room.act("/sheets/1", "/sheets/1/accept").status_code == 409
    correct(room, block="cyan", state="missing", whole="true")
    assert "It is right" in room.get("/sheets/1").text


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("40-", "such as 40-43, 97"),
        ("0", "run from 1 to 180"),
        ("181", "run from 1 to 180"),
        ("", "No mark was named"),
        ("9-3", "run from 1 to 180"),
    ],
)
def test_numbers_that_cannot_be_are_refused_and_nothing_changes(read_sheet, typed, says):
    answer = correct(read_sheet, block="black", numbers=typed, state="missing")
    assert answer.status_code == 422
    assert says in answer.text
    assert services.find_sheet(read_sheet.store, 1).changes == ()


def test_a_sheet_told_by_hand_opens_a_case_and_leaves_out_what_was_not_looked_at(room):
    fields = {"seen-0": "true", "missing-0": "40-43, 97", "seen-2": "true", "absent-2": "true"}
    assert room.act("/printers/larch/told", "/printers/larch/told", fields).url.path == "/cases/1/next"
    told = services.find_sheet(room.store, 1).faults
    assert told["black"].missing == (40, 41, 42, 43, 97)
    assert told["magenta"].all_missing
    assert set(told) == {"black", "magenta"}


def test_corners_by_hand_that_hold_no_sheet_are_refused_and_the_photo_stays(room, desk_photo):
    room.send_photo(desk_photo)
    answer = room.act("/sheets/1", "/sheets/1/corners", {"points": "10,10 900,20 890,700 20,690"})
    assert "no marks of the layout" in answer.text
    assert room.act("/sheets/1", "/sheets/1/corners", {"points": "10,10 900"}).status_code == 422


def test_a_printer_is_set_up_from_one_photo_of_a_good_sheet_and_reads_the_next(room):
    layout = files.shipped_layout("four-staircases")
    good = photo_of("four-staircases", A_FEW, small_scene(tilt_deg=8, tilt_towards_deg=120, roll_deg=7))
    rows = {
        "channel": [b.channel for b in layout.blocks], "ink": [b.ink for b in layout.blocks], "nozzles": ["180"] * 4, "first": ["1"] * 4,
        "step": ["1"] * 4, "backing": ["light"] * 4, "tank": ["70"] * 4, "level": ["50"] * 4, "price": ["0.1"] * 4, "group": ["A"] * 4,
    }  # fmt: skip
    said = {"name": "Alder", "pitch": "0.1411", "pad": "200", **rows}
    made = room.act("/printers/new", "/printers/new", said, files={"light": ("good.jpg", good)})
    assert made.url.path == "/sheets/1"  # the photo it was learnt from, read, its lattice drawn over it
    assert "strokes are where each mark of the layout belongs" in made.text
    alder = services.find_printer(room.store, "alder")
    assert [c.level_ml for c in alder.printer.channels] == [50] * 4
    assert alder.layout.blocks[0].columns == layout.blocks[0].columns
    again = room.act("/printers/new", "/printers/new", said, files={"light": ("good.jpg", good)})
    assert again.status_code == 422
    assert 'value="Alder"' in again.text


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"name": ""}, "Name: give"),
        ({"nozzles": ["many"]}, "nozzles: expected a figure"),
        ({"level": ["90"]}, "more than its tank"),
        ({}, "add a layout file, or a photo"),
    ],
)
def test_a_printer_half_filled_in_is_not_set_up_and_nothing_typed_is_lost(room, change, says):
    said = {"name": "Alder", "channel": ["black"], "nozzles": ["180"], "tank": ["70"], "level": ["5"]} | change
    answer = room.act("/printers/new", "/printers/new", said)
    assert answer.status_code == 422
    assert says in answer.text
    assert 'value="black"' in answer.text


def test_a_layout_file_alone_sets_a_printer_up(room):
    text = files.shipped_layout("two-heads-raster").model_dump_json()
    room.act("/printers/new", "/printers/new", {"name": "Rowan"}, files={"layout": ("r.layout.json", text)})
    rowan = services.find_printer(room.store, "rowan").printer
    assert {c.name for c in rowan.channels} == {b.channel for b in files.shipped_layout("two-heads-raster").blocks}
    assert json.loads(rowan.model_dump_json())["ladder"] == "watch-the-gaps"
    room.time["passed"] = timedelta(minutes=1)
    assert room.get("/printers/rowan").status_code == 200
