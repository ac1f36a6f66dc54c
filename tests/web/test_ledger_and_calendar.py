"""The ledger and the calendar in the pages: written once, put right, taken out and in; due, done, moved; the feed."""

import itertools
import re
from datetime import timedelta

import pytest
import vobject
from tests.conftest import NOON

from dusky_sieve import services
from dusky_sieve.core.case import StepEvent, Waste

DAY = timedelta(days=1)


@pytest.fixture
def larch(room):
    record = services.find_printer(room.store, "larch")
    room.store.change_printer(record.id, record.printer.model_copy(update={"waste": Waste(capacity_ml=200, used_ml=100)}))  # fmt: skip
    room.record = services.find_printer(room.store, "larch")
    return room


def level(room, channel="black"):
    now = services.printer_now(room.store, room.record, NOON + room.time["passed"])
    return next(c.level_ml for c in now.channels if c.name == channel)


def act(room, what, **fields):
    return room.act("/printers/larch/ledger", f"/printers/larch/{what}", fields)


def test_a_level_is_booked_in_percent_once_however_often_the_form_is_sent(larch):
    fields = larch.hidden("/printers/larch/ledger") | {"channel": "black", "level": "40", "unit": "%"}
    for _ in range(3):
        assert larch.post("/printers/larch/levels", data=fields, headers={"origin": "http://localhost"}).status_code == 200  # fmt: skip
    assert level(larch) == 28  # 40 % of 70
    assert [x.entry.said for x in larch.store.lines(1)] == ["40 %"]
    assert "read off" in larch.get("/printers/larch/ledger").text


def test_a_fill_a_new_pad_and_a_step_move_what_the_page_says(larch):
    act(larch, "fills", channel="black", ml="12,5")
    assert level(larch) == 52.5
    larch.time["passed"] = 1 * DAY
    act(larch, "fills", channel="black")
    assert level(larch) == 70
    assert act(larch, "pad", used="0").status_code == 200
    assert services.printer_now(larch.store, larch.record, NOON + DAY).waste.used_ml == 0
    assert "0 of 200 ml" in larch.get("/printers/larch/ledger").text


@pytest.mark.parametrize(
    ("what", "fields", "says"),
    [
        ("levels", {"channel": "black", "level": "-4"}, "no level"),
        ("levels", {"channel": "black", "level": "71"}, "between 0 and 70"),
        ("levels", {"channel": "black", "level": "10", "at": "2031-05-01"}, "lies ahead"),
        ("levels", {"channel": "green", "level": "10"}, "no channel"),
        ("levels", {"channel": "black", "level": "10", "at": "03/04/2031"}, "may be two days"),
        ("fills", {"channel": "black", "ml": "60"}, "more than its tank of 70 ml holds"),
        ("fills", {"channel": "black", "ml": "much"}, "expected a figure"),
        ("pad", {"used": "900"}, "more than the 200 ml it holds"),
        ("lines/77", {"ml": "4"}, "does not hold any more"),
    ],
)
def test_what_cannot_be_is_refused_in_a_sentence_and_the_book_stays(larch, what, fields, says):
    answer = act(larch, what, **fields)
    assert answer.status_code in (409, 422)
    assert says in answer.text
    assert larch.store.lines(1) == []


def test_a_level_from_before_the_last_fill_is_refused(larch):
    act(larch, "fills", channel="black")
    larch.time["passed"] = 2 * DAY
    answer = act(larch, "levels", channel="black", level="10", at=f"{NOON - DAY:%Y-%m-%d %H:%M}")
    assert (answer.status_code, "it was filled on" in answer.text) == (422, True)


def test_a_wrong_line_is_put_right_by_a_later_one_and_both_stay_to_be_seen(larch):
    act(larch, "levels", channel="black", level="14")
    act(larch, "lines/1", ml="41")
    assert level(larch) == 41
    page = larch.get("/printers/larch/ledger").text
    assert page.count('class="gone"') == 1
    assert "put right, was 14 ml" in page
    assert act(larch, "lines/1", ml="30").status_code == 409
    act(larch, "lines/2")
    assert level(larch) == 40  # struck out: what was there at the start


def bring(room, text, **fields):
    return room.act("/printers/larch/ledger", "/printers/larch/ledger/csv", fields, files={"table": ("book.csv", text)})


def test_a_table_comes_in_whole_or_not_at_all_as_asked_and_never_twice(larch):
    good = "time;channel;amount\n2031-02-01;black;33,5\n2031-02-02;cyan;20 ml\n"
    bad = good + "2031-02-03;green;4\n"
    answer = bring(larch, bad, whole="true")
    assert (answer.status_code, larch.store.lines(1)) == (422, [])
    assert "Nothing was booked, 1 could not be" in re.sub(r"\s+", " ", answer.text)
    assert "is no channel of this printer" in answer.text
    assert "2 lines were booked" in bring(larch, bad).text
    assert "2 were in the book already" in bring(larch, good).text
    assert len(larch.store.lines(1)) == 2
    out = larch.get("/printers/larch/ledger.csv")
    assert out.headers["content-type"] == "text/csv; charset=utf-8"
    assert out.text.splitlines()[1].startswith("2031-01-31T23:00:00Z,level,black,33.5 ml") or "level,black,33.5 ml" in out.text  # fmt: skip
    assert bring(larch, b"\xff\xfe\x00").status_code == 422


def test_the_calendar_says_what_is_due_and_takes_done_moved_and_skipped(larch):
    assert "Nothing is due today." in larch.get("/calendar").text
    larch.store.add_sheet(1, NOON, "Jory", faults={})
    larch.time["passed"] = 8 * DAY
    assert "Two things are due on Larch." in larch.get("/calendar").text  # check and the print of every colour
    say = "/printers/larch/upkeep/"
    larch.act("/calendar", say + "check", {"what": "done"})
    assert "One thing is due on Larch." in larch.get("/calendar").text
    assert larch.act("/calendar", say + "exercise", {"what": "skipped"}).status_code == 422
    assert larch.act("/calendar", say + "exercise", {"what": "moved", "until": "2031-03-01"}).status_code == 422
    larch.act("/calendar", say + "exercise", {"what": "moved", "until": "2031-03-14"})
    assert "Nothing is due today." in larch.get("/calendar").text
    larch.act("/calendar", say + "exercise", {"what": "undo"})
    assert "One thing is due on Larch." in larch.get("/calendar").text
    larch.act("/calendar", "/printers/larch/intervals", {"exercise": "0", "check": "3"})
    assert "Nothing is due today." in larch.get("/calendar").text
    assert larch.act("/calendar", "/printers/larch/intervals", {"check": "4000"}).status_code == 422
    assert larch.act("/calendar", say + "polish", {"what": "done"}).status_code == 422


def test_the_feed_is_read_by_another_library_and_ends_with_a_new_secret(troubled):
    page = troubled.get("/calendar").text
    address = re.search(r"/feed/[\w-]+\.ics", page)[0]
    troubled.store.add_event(1, 1, resting(), "Jory", started=NOON)
    feed = troubled.get(address)
    assert feed.headers["content-type"].startswith("text/calendar")
    events = vobject.readOne(feed.text).vevent_list
    titles = {e.summary.value for e in events}
    assert "Larch: rest ends" in titles
    assert "Larch: check" in titles
    rest = next(e for e in events if e.summary.value == "Larch: rest ends")
    assert rest.dtstart.value == NOON + timedelta(hours=12)
    assert len({e.uid.value for e in events}) == len(events)
    checks = sorted(e.dtstart.value for e in events if e.summary.value == "Larch: check")
    assert {b - a for a, b in itertools.pairwise(checks)} == {7 * DAY}
    troubled.act("/calendar", "/calendar/secret")
    assert troubled.get(address).status_code == 404


def resting():

    return StepEvent(kind="step", at=NOON, step="rest", until=NOON + timedelta(hours=12))


def test_what_a_tank_is_can_be_set_and_then_a_window_and_a_scale_say_its_level(larch):
    assert "how high its window" in act(larch, "levels", channel="black", level="20", unit="mm").text
    fields = {"capacity_ml-0": "80", "window_mm-0": "40", "empty_g-0": "21", "price_per_ml-0": "0,25"}
    act(larch, "tanks", **fields)
    act(larch, "levels", channel="black", level="20", unit="mm")
    assert level(larch) == 40  # half of a window of 40 mm is half of 80 ml
    black = services.find_printer(larch.store, "larch").printer.channels[0]
    assert (black.capacity_ml, black.empty_g, black.price_per_ml) == (80, 21, 0.25)
    assert act(larch, "tanks", **(fields | {"window_mm-0": "0"})).status_code == 422


def test_a_case_says_what_finishing_it_will_probably_take(troubled):
    assert re.search(r"will probably take about <b>€ \d+\.\d\d</b> more", troubled.get("/cases/1").text)
    troubled.act("/cases/1", "/cases/1/close")
    assert "will probably take" not in troubled.get("/cases/1").text
