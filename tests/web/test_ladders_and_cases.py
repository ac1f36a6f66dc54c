"""Ladders as pages and files, what somebody adds to a case, and its end."""

import json
from datetime import timedelta

import pytest
from tests.conftest import NOON

from dusky_sieve import services


def document(store, case_id=1):
    return services.case_document(store, services.find_case(store, case_id), NOON + timedelta(hours=1))


@pytest.mark.parametrize(
    "page", ["/ladders", "/ladders/least-cost", "/ladders/seal-first/edit", "/cases/1/odds", "/cases/1/report"]
)
def test_pages_about_ladders_and_cases_are_served(troubled, page):
    answer = troubled.get(page)
    assert answer.status_code == 200
    assert "None" not in answer.text


def test_a_ladder_taken_out_comes_back_as_an_own_one_and_can_be_followed(room):
    own = json.loads(room.get("/ladders/maker-tank/file").text) | {"id": "our-way", "name": "Our way"}
    kept = room.act("/ladders", "/ladders", files={"file": ("our.ladder.json", json.dumps(own))})
    assert kept.url.path == "/ladders/our-way"
    room.act(
        "/printers/larch",
        "/printers/larch/rules",
        {"ladder": "our-way", "user_level": "technician", "abilities": ["clean"]},
    )
    larch = services.find_printer(room.store, "larch").printer
    assert (larch.ladder, larch.user_level, larch.abilities) == ("our-way", "technician", ("clean",))


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"id": "maker-tank"}, "ships with the program"),
        ({"rungs": [{"id": "again", "step": "rest", "short": "r", "when": {"faults": {"at_least": 1}}, "why": "x"}, {"id": "over", "step": "hand_over", "short": "h", "why": "x"}]}, "never ends"),
        ({"rungs": [{"id": "a", "step": "clean", "short": "c", "when": {"cleans": {"at_most": 1}}, "why": "x"}, {"id": "b", "step": "clean", "short": "c", "when": {"cleans": {"at_most": 1}}, "why": "x"}, {"id": "over", "step": "hand_over", "short": "h", "why": "x"}]}, "can never be reached"),
    ],
)  # fmt: skip
def test_a_ladder_that_never_ends_or_has_a_dead_rung_is_not_kept_and_the_text_stays(room, change, says):
    text = json.dumps(json.loads(room.get("/ladders/maker-tank/file").text) | {"id": "ours"} | change)
    answer = room.act("/ladders/maker-tank/edit", "/ladders/keep", {"text": text})
    assert answer.status_code in (409, 422)
    assert says in answer.text
    if answer.status_code == 422:
        assert "never" in answer.text
        assert "textarea" in answer.text
    assert "ours" not in services.all_ladders(room.store)


def test_what_is_told_moves_the_odds_and_the_next_step(troubled):
    room = troubled
    room.act("/cases/1/next", "/cases/1/told", {"idle_days": "40", "low_ink_message": "true"})
    assert [e.facts for e in document(room.store).events if e.kind == "note"] == [
        {"idle_days": 40.0, "low_ink_message": True}
    ]
    assert "Idle for 40 days" in room.get("/cases/1/odds").text
    assert "refill or replace before anything else" in room.get("/cases/1/next").text
    assert room.act("/cases/1/next", "/cases/1/told", {"idle_days": "many"}).status_code == 422


def test_a_step_done_elsewhere_stands_in_its_place_in_time_with_its_ink(troubled):
    room = troubled
    room.time["passed"] = timedelta(minutes=50)
    room.act("/cases/1/next", "/cases/1/did", {"step": "clean", "minutes_ago": "20", "channel": "black"})
    step = document(room.store).events[-1]
    assert (step.step, step.at) == ("clean", NOON + timedelta(minutes=30))
    assert services.cost_so_far(room.store, services.find_case(room.store, 1)).ink_ml >= 3.2
    early = room.act("/cases/1/next", "/cases/1/did", {"step": "clean", "minutes_ago": "9000"})
    assert early.status_code == 422
    assert "between the case&#39;s first sheet" in early.text


def test_a_closed_case_can_be_opened_again_and_goes_out_as_a_file(troubled):
    room = troubled
    room.act("/cases/1", "/cases/1/close")
    assert services.find_case(room.store, 1).outcome == "closed"
    room.act("/cases/1", "/cases/1/reopen")
    assert services.find_case(room.store, 1).closed is None
    assert json.loads(room.get("/cases/1/file").text)["format"] == "dusky-sieve-case"
