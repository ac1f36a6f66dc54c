"""What a page shows of a sheet as pictures: the photo, laid straight, one channel pulled out, one mark; and a case's course."""

from datetime import timedelta

import cv2
import numpy as np
import pytest

from dusky_sieve import files, services
from dusky_sieve.drawing import pull, straight

BLACK_GAPS = (1, 12, 13, 180)


@pytest.fixture
def read_sheet(room, faulty_photo):
    """The room with one sheet read, not yet accepted; its address."""
    answer = room.send_photo(faulty_photo)
    return str(answer.url.path)


def seen(answer) -> np.ndarray:
    assert (answer.status_code, answer.headers["content-type"]) == (200, "image/jpeg")
    assert "private" in answer.headers["cache-control"]
    return cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR_RGB)


def test_the_photo_comes_back_byte_for_byte_as_it_was_sent(room, read_sheet, faulty_photo):
    assert room.get(f"{read_sheet}/photo").content == faulty_photo


def test_the_straightened_photo_has_the_sheets_own_shape_and_its_marks_run_level(room, read_sheet):
    laid = seen(room.get(f"{read_sheet}/straight.jpg?full=true"))
    layout = files.shipped_layout("four-staircases")
    border = 2 * straight.BORDER_MM
    assert laid.shape[1] / laid.shape[0] == pytest.approx((layout.size[0] + border) / (layout.size[1] + border), rel=0.02)  # fmt: skip
    black = next(b for b in layout.blocks if b.id == "black")
    scale = laid.shape[1] / (layout.size[0] + border)
    for nozzle, shows in ((2, True), (25, True), (150, True), *((n, False) for n in BLACK_GAPS)):
        column, row = (nozzle - 1) % black.columns, (nozzle - 1) // black.columns
        x, y = np.array(black.origin) + column * np.array(black.column_pitch) + row * np.array(black.row_pitch)
        at = laid[int((y + straight.BORDER_MM) * scale), int((x + straight.BORDER_MM) * scale)].mean()
        paper = np.median(laid)
        assert (at < 0.7 * paper) == shows, nozzle


def test_one_channel_pulled_out_stands_in_full_contrast_and_the_others_fade(room, read_sheet):
    layout = files.shipped_layout("four-staircases")
    laid = seen(room.get(f"{read_sheet}/straight.jpg"))
    yellow = seen(room.get(f"{read_sheet}/straight.jpg?only=yellow"))
    scale = laid.shape[1] / (layout.size[0] + 2 * straight.BORDER_MM)
    boxes = {b.id: pull._window(straight.extent(b), scale, laid.shape[:2]) for b in layout.blocks}

    def depth(picture: np.ndarray, block: str) -> float:
        grey = picture[boxes[block]].mean(axis=2)
        return float(np.median(grey) - np.quantile(grey, 0.02))

    assert depth(yellow, "yellow") > 2 * depth(laid, "yellow")
    assert depth(yellow, "black") < 0.5 * depth(laid, "black")


def test_the_loupe_shows_one_mark_among_its_neighbours_larger_than_the_photo_does(room, read_sheet):
    there, gone = (seen(room.get(f"{read_sheet}/loupe/black/{nozzle}.jpg")) for nozzle in (25, 13))
    assert min(there.shape[:2]) > 100
    h, w = (side // 2 for side in there.shape[:2])
    middle = (slice(h - 4, h + 5), slice(w - 4, w + 5))
    assert there[middle].min() < 0.7 * np.median(there)
    assert gone[middle].mean() > 0.8 * np.median(gone)


def test_a_picture_of_what_is_not_there_is_refused_in_a_sentence(room, read_sheet):
    for path, says in (
        ("/straight.jpg?only=teal", "shows no channel"),
        ("/straight.jpg?place=3", "no photo that could be laid straight"),
        ("/photo?place=-1", "has no photo -1"),
        ("/loupe/black/999.jpg", "shows no nozzle 999"),
        ("/loupe/teal/1.jpg", "shows no nozzle 1 of teal"),
    ):
        answer = room.get(read_sheet + path)
        assert (answer.status_code, says in answer.text) == (404, True), path


def test_a_sheet_told_by_hand_has_no_picture_and_its_page_stands_without(troubled):
    assert troubled.get("/sheets/1/straight.jpg").status_code == 404
    assert troubled.get("/sheets/1/photo").status_code == 404
    assert troubled.get("/sheets/1").status_code == 200


def test_a_case_tells_its_course_moment_by_moment_with_what_each_took(troubled):
    """A fact told, a step done: each stands at its own time, who did it beside it, the step with its channel and ink."""
    troubled.time["passed"] = timedelta(hours=1)
    troubled.act("/cases/1/next", "/cases/1/told", {"idle_days": "40", "print_symptom": "banding"})
    troubled.time["passed"] = timedelta(hours=3)
    troubled.act("/cases/1/next", "/cases/1/did", {"step": "clean", "minutes_ago": "60", "channel": "black"})
    text = troubled.get("/cases/1").text
    clean = files.step_table()["clean"].title
    told, done = text.index("idle days: 40"), text.index("for Black")
    assert "print symptom: banding" in text
    assert clean in text
    assert told < done, "told an hour after the sheet, done two"
    assert "Jory" in text[told - 900 : told + 900]
    booked = services.cost_so_far(troubled.store, services.find_case(troubled.store, 1)).ink_ml
    assert f"{booked:.1f}" in text
