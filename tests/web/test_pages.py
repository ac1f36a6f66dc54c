"""Pages in process: what is refused, in which words and with which status; nothing lost, nothing doubled."""

import io
import re
from datetime import timedelta

import numpy as np
import pytest
from PIL import Image
from tests.conftest import NOON
from tests.web.conftest import Room

from dusky_sieve import files, services
from dusky_sieve.settings import Settings
from dusky_sieve.web.app import create_app

PAGES = ["/", "/cases", "/printers/larch", "/printers/larch/sheet-in", "/cases/1", "/cases/1/next", "/sheets/1"]


def test_every_page_stands_without_scripts_and_under_a_strict_policy(troubled):
    for page in PAGES:
        answer = troubled.get(page)
        assert answer.status_code == 200, page
        policy = answer.headers["content-security-policy"]
        assert "default-src 'none'" in policy
        assert "unsafe" not in policy
        assert not re.search(r"<script(?![^>]*src=)|\sstyle=|\son[a-z]+=|https?://(?!localhost)", answer.text), page


@pytest.mark.parametrize(
    ("content", "status", "told"),
    [
        pytest.param(lambda good: b"not an image at all", 422, "not a photo", id="not an image"),
        pytest.param(lambda good: good[: len(good) // 2], 422, "damaged or cut short", id="truncated JPEG"),
        pytest.param(lambda good: b"", 422, "the file is empty", id="zero bytes"),
        pytest.param(lambda good: bomb(9000, 9000), 413, "81 megapixels are more than the 64", id="decompression bomb"),
        pytest.param(lambda good: bomb(9300, 6950), 413, "65 megapixels are more than the 64", id="a little too large"),
        pytest.param(lambda good: b"\xff\xd8" + bytes(41_000_000), 413, "40 MB", id="over 40 MB"),
    ],
)
def test_bad_uploads_are_refused_in_a_sentence_and_leave_nothing(room, faulty_photo, content, status, told):
    answer = room.send_photo(content(faulty_photo))
    assert answer.status_code == status
    assert told in answer.text
    larch = services.find_printer(room.store, "larch")
    assert room.store.sheets(larch.id) == []


def test_what_phones_call_64_megapixels_is_opened():
    assert files.decode_photo(bomb(9248, 6936), "large.png").shape == (6936, 9248, 3)


def bomb(width: int, height: int) -> bytes:
    """A small PNG that would unpack to many megapixels."""
    out = io.BytesIO()
    Image.new("1", (width, height)).save(out, "PNG")
    return out.getvalue()


def test_a_photo_of_something_else_is_kept_and_the_page_says_what_to_do(room, desk_photo):
    answer = room.send_photo(desk_photo, "desk.jpg")
    assert answer.status_code == 200
    assert "The sheet could not be read from this photo." in answer.text
    assert "Photograph it again" in answer.text
    assert len([p for p in (room.store.folder / "photos").rglob("*") if p.is_file()]) == 1
    assert room.act("/sheets/1", "/sheets/1/accept").status_code == 409


def test_the_same_photo_again_is_recognised_not_doubled(room, faulty_photo):
    first, second = room.send_photo(faulty_photo), room.send_photo(faulty_photo, "copy.jpg")
    assert first.url.path == second.url.path == "/sheets/1"
    assert "This photo had come before" in second.text
    assert len(room.store.sheets(1)) == 1


def test_accepting_twice_opens_one_case_and_books_one_sheet(room, faulty_photo):
    room.send_photo(faulty_photo)
    for _ in range(2):
        assert room.act("/sheets/1", "/sheets/1/accept").url.path == "/cases/1/next"
    assert len(room.store.cases()) == 1
    assert len(room.store.entries(case_id=1)) == 4


def test_a_form_sent_twice_starts_one_step(troubled):
    fields = troubled.hidden("/cases/1/next") | {"step": "clean"}
    for _ in range(2):
        answer = troubled.post("/cases/1/steps", data=fields)
        assert answer.status_code == 200
        assert "Under way since" in answer.text
    assert len(troubled.store.events(1)) == 1


def test_a_step_started_and_finished_is_in_the_book(troubled):
    troubled.act("/cases/1/next", "/cases/1/steps", {"step": "clean"})
    troubled.time["passed"] = timedelta(minutes=3)
    answer = troubled.act("/cases/1/next", "/steps/1/finish")
    assert "3.2 ml" in answer.text  # 4 x 0.8 ml
    assert "Print a sheet" in answer.text
    assert services.cost_so_far(troubled.store, services.find_case(troubled.store, 1)).waste_ml == pytest.approx(3.2)


@pytest.mark.parametrize(
    ("action", "fields", "status", "told"),
    [
        pytest.param("/steps/77/finish", {}, 409, "was never started", id="a step finished that was never started"),
        pytest.param("/cases/1/steps", {"step": "deep_clean"}, 409, "was not started", id="a step that is refused"),
        pytest.param("/cases/1/steps", {"step": "wipe"}, 422, "no step", id="a step that does not exist"),
        pytest.param("/cases/9/steps", {"step": "clean"}, 404, "There is no case 9", id="an unknown case"),
        pytest.param(
            "/printers/larch/levels",
            {"channel": "black", "level": "900"},
            422,
            "between 0 and 70 ml",
            id="a level above the tank",
        ),
        pytest.param(
            "/printers/larch/levels", {"channel": "black", "level": "much"}, 422, "no level", id="a level in words"
        ),
    ],
)
def test_what_does_not_fit_is_refused_and_nothing_changes(troubled, action, fields, status, told):
    answer = troubled.act("/cases/1/next", action, fields)
    assert answer.status_code == status
    assert told in answer.text
    assert troubled.store.events(1) == []


def test_unknown_places_say_where_to_go(room):
    missing = room.get("/printers/spruce")
    assert missing.status_code == 404
    assert "Known printers: Larch" in missing.text
    assert room.get("/nowhere").status_code == 404


def test_a_change_needs_a_form_of_this_room(troubled):
    fields = troubled.hidden("/cases/1/next") | {"step": "clean"}
    assert troubled.post("/cases/1/steps", data=fields | {"secret": "guess"}).status_code == 403
    assert (
        troubled.post("/cases/1/steps", data=fields, headers={"origin": "http://elsewhere.example"}).status_code == 403
    )
    assert troubled.post("/cases/1/steps", data=fields, headers={"sec-fetch-site": "cross-site"}).status_code == 403
    troubled.cookies.clear()
    assert troubled.post("/cases/1/steps", data=fields).status_code == 403
    assert troubled.store.events(1) == []


def test_an_unknown_host_is_refused(room):
    assert room.get("/", headers={"host": "sieve.attacker.example"}).status_code == 400


def test_a_restart_in_the_middle_of_a_rest_forgets_nothing(troubled, tmp_path):
    troubled.act("/cases/1/next", "/cases/1/steps", {"step": "rest"})
    clock = lambda: NOON + timedelta(hours=2)  # noqa: E731
    with Room(create_app(Settings(data=tmp_path), clock=clock), base_url="http://localhost") as later:
        assert "Leave it alone until" in later.get("/cases/1/next").text
        assert "Resting" in later.get("/").text


def test_an_empty_room_teaches(tmp_path):
    with Room(create_app(Settings(data=tmp_path)), base_url="http://localhost") as room:
        assert "This room is empty" in room.get("/").text


def test_a_photo_turned_by_its_exif_and_a_grey_or_see_through_one_decode_upright():
    ramp = np.linspace(0, 255, 600 * 800).reshape(600, 800).astype(np.uint8)
    turned = io.BytesIO()
    exif = Image.Exif()
    exif[0x0112] = 6  # the camera was held on its side
    Image.fromarray(ramp).convert("RGB").save(turned, "JPEG", exif=exif)
    assert files.decode_photo(turned.getvalue(), "a.jpg").shape == (800, 600, 3)
    for mode in ("L", "RGBA", "P", "I;16"):
        out = io.BytesIO()
        picture = (
            Image.fromarray(ramp.astype(np.uint16) * 257) if mode == "I;16" else Image.fromarray(ramp).convert(mode)
        )
        picture.save(out, "PNG")
        assert files.decode_photo(out.getvalue(), "a.png").shape == (600, 800, 3)
