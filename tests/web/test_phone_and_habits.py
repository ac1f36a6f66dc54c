"""Phones let in by a code, what a room does the same each time, film in two photos, and what is refused of each."""

from datetime import timedelta
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from tests.conftest import NOON

from dusky_sieve import files, services
from dusky_sieve.settings import Settings
from dusky_sieve.store import Habits
from dusky_sieve.web.app import create_app


@pytest.fixture
def code(room):
    larch = services.find_printer(room.store, "larch")
    return services.pair_phone(room.store, larch, NOON)


def test_a_code_opens_one_page_for_a_quarter_of_an_hour_and_its_secret_is_not_kept(room, code):
    assert "Photograph the sheet." in room.get(f"/phone/{code}").text
    folder = room.store.folder
    assert code.encode() not in b"".join(p.read_bytes() for p in folder.glob("sieve.db*"))
    room.time["passed"] = timedelta(minutes=14, seconds=59)
    assert room.get(f"/phone/{code}").status_code == 200
    room.time["passed"] = timedelta(minutes=15)
    late = room.get(f"/phone/{code}")
    assert (late.status_code, "This code has run out" in late.text) == (404, True)
    assert room.get(f"/phone/{code[:-1]}x").status_code == 404


def test_no_code_is_shown_until_the_owner_lets_phones_in(room):
    assert "--phones" in room.get("/printers/larch/sheet-in").text
    assert "phone-code" not in room.get("/printers/larch/sheet-in").text


def test_from_another_device_nothing_opens_but_the_page_of_a_code(tmp_path: Path, room, code):
    app = create_app(Settings(data=room.store.folder, phones=True), clock=lambda: NOON)
    with TestClient(app, base_url="http://localhost", client=("192.0.2.7", 5)) as phone:
        assert phone.get(f"/phone/{code}").status_code == 200
        for path in ("/", "/sheets/1", "/printers/larch", "/cases"):
            assert phone.get(path).status_code == 403
    with TestClient(app, base_url="http://elsewhere.test", client=("192.0.2.7", 5)) as stranger:
        assert stranger.get(f"/phone/{code}").status_code == 400


def test_a_phone_cannot_accept_what_it_did_not_send(room, code):
    assert room.act(f"/phone/{code}", f"/phone/{code}/accept").status_code == 409


def test_ticks_that_stay_are_remembered_and_others_are_asked_each_time(room):
    room.act("/printers/larch/sheet-in", "/printers/larch/habits", {"kept": "ticks", "ticked": ["stock", "ink"]})
    page = room.get("/printers/larch/sheet-in").text
    assert 'value="stock" x-on:change="keep" checked' in page
    assert page.count(" checked") == 1  # ink changes from sheet to sheet, so its tick does not stay
    room.act("/printers/larch/sheet-in", "/printers/larch/habits", {"kept": "note", "note": "Hold the paper key."})
    larch = services.find_printer(room.store, "larch")
    assert (larch.sheet_note, larch.habits.ticked) == ("Hold the paper key.", ("stock", "ink"))


def test_an_empty_tank_and_a_twin_printer_are_said_before_printing(room):
    larch = services.find_printer(room.store, "larch")
    room.store.add_printer("alder", larch.printer.model_copy(update={"name": "Alder"}), larch.layout, larch.inks)
    services.level_read(room.store, larch, "yellow", 0.4, "Jory", NOON)
    page = room.get("/printers/larch/sheet-in").text
    assert "Yellow has 0.4 ml left: refill it first" in page
    assert "not Alder, which looks the same" in page


def test_a_reading_is_taken_by_itself_only_where_the_owner_said_so_and_nothing_is_unsure(room, faulty_photo):
    room.act("/printers/larch", "/printers/larch/habits", {"kept": "accept", "accept": "sure"})
    answer = room.send_photo(faulty_photo)
    assert answer.url.path == "/cases/1/next"
    larch = services.find_printer(room.store, "larch")
    sheet = services.find_sheet(room.store, 1)
    assert services.sheets.is_sure(sheet.reading, None)
    block = sheet.reading.blocks[0]
    unsure = block.model_copy(update={"counts": dict(block.counts or {}) | {"unsure": 1}})
    doubtful = sheet.reading.model_copy(update={"blocks": (unsure, *sheet.reading.blocks[1:])})
    assert not services.sheets.is_sure(doubtful, None)
    room.act("/printers/larch", "/printers/larch/habits", {"kept": "accept"})
    assert services.find_printer(room.store, "larch").habits == Habits()
    assert larch.habits.accept_sure


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ([("photo", 0), ("photo", 1), ("dark", 2)], "one photo over white and one over black"),
        ([("photo", k) for k in range(13)], "12 at most at a time"),
        ([], "none was chosen"),
    ],
)
def test_photos_that_make_no_sheet_are_refused_before_anything_is_kept(room, faulty_photo, given, says):
    sent = [(field, (f"{k}.jpg", faulty_photo)) for field, k in given]
    answer = room.act("/printers/larch/sheet-in", "/printers/larch/sheets", files=sent)
    assert answer.status_code == 422
    assert says in answer.text
    assert room.store.sheets(1) == []


def test_an_accepted_sheet_takes_no_further_photo_and_keeps_what_was_accepted(room, faulty_photo):
    room.send_photo(faulty_photo)
    room.act("/sheets/1", "/sheets/1/accept")
    before = services.find_sheet(room.store, 1)
    answer = room.act("/printers/larch/sheet-in", "/printers/larch/sheets", {"onto": "1"}, files={"photo": ("b.jpg", b"x")})  # fmt: skip
    assert answer.status_code == 409
    assert services.find_sheet(room.store, 1) == before


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"box": "1,2,3"}, "expected 4 figures"),
        ({"box": "nan,0,1,1"}, "expected 4 figures"),
        ({"box": "900,900,901,901"}, "No mark lies in that box"),
        ({"channel": "green"}, "no channel “green”"),
    ],
)
def test_a_box_or_channel_that_holds_no_mark_changes_nothing(room, faulty_photo, fields, says):
    room.send_photo(faulty_photo)
    answer = room.act("/sheets/1", "/sheets/1/marks", {"state": "missing"} | fields)
    assert (answer.status_code, says in answer.text) == (422, True)
    assert services.find_sheet(room.store, 1).changes == ()


def test_a_box_over_two_blocks_is_one_act(room, faulty_photo):
    room.send_photo(faulty_photo)
    layout = files.shipped_layout("four-staircases")
    room.act(
        "/sheets/1", "/sheets/1/marks", {"state": "unsure", "box": f"0,0,{layout.size[0]},4", "back": "?only=cyan"}
    )
    changes = services.find_sheet(room.store, 1).changes
    assert len({c.block for c in changes}) == 2
    room.act("/sheets/1", "/sheets/1/undo")
    assert all(c.undone for c in services.find_sheet(room.store, 1).changes)


def test_a_way_back_that_is_not_ours_is_not_followed(room, faulty_photo):
    room.send_photo(faulty_photo)
    answer = room.act("/sheets/1", "/sheets/1/marks", {"state": "missing", "block": "black", "numbers": "4", "back": "//elsewhere.test"})  # fmt: skip
    assert answer.url.path == "/sheets/1"
