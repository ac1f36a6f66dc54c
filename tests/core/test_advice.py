"""Two ladders and the rules above them, in the words of the job."""

import json
from datetime import timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.conftest import NOON
from tests.core.stories import LADDERS, WORDS, advice_of, case_of, play

from dusky_sieve import files
from dusky_sieve.core.advice import parse_ladder
from dusky_sieve.core.case import parse_case
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.steps import CLEANS


@pytest.mark.parametrize(
    ("notes", "story", "step"),
    [
        pytest.param({"low_ink_message": True}, ["same"], "refill", id="low ink: refill before anything"),
        pytest.param({"lockout_warning": True}, ["same"], "hand_over", id="lockout warning: stop and hand over"),
        pytest.param({"air_in_line": ["black"]}, ["same"], "line_flush", id="air in a tube: line flush"),
        pytest.param({"new_printer": True}, ["all"], "prepare", id="a new printer that prints nothing: prepare"),
        pytest.param(
            {"print_symptom": "banding"}, ["clear"], "settings_check", id="clear sheet, bad prints: never a clean"
        ),
    ],
)
def test_facts_overtake_the_ladder(notes, story, step):
    assert advice_of([notes, *story], level=70.0, pad=0).next.step == step


def test_a_refill_answers_the_low_ink_message():
    told = [{"low_ink_message": ["black"]}, "same", "refill", "same"]
    assert advice_of(told).next.step == "clean"


@pytest.mark.parametrize(
    ("story", "more", "step", "told"),
    [
        pytest.param(
            "same clean same deep_clean +3 same",
            {"level": 70.0, "pad": 0},
            "deep_clean",
            "12 h must lie between",
            id="two deep cleans in an evening",
        ),
        pytest.param(
            "same clean same", {"level": 20.0}, "deep_clean", "at least 33%", id="deep clean on a third of a tank"
        ),
        pytest.param(
            "same clean same", {"pad": 170}, "deep_clean", "cannot be replaced", id="a pad that cannot take it"
        ),
        pytest.param("same clean elsewhere", {}, "deep_clean", "wander", id="deep clean for random gaps"),
        pytest.param("same clean same", {}, "clean", "changed nothing", id="a clean after one that changed nothing"),
        pytest.param("clear", {}, "clean", "clear", id="just once more on a clear sheet"),
        pytest.param(
            "same clean elsewhere", {"user": "member"}, "clean", "member cleans once", id="a member cleans once"
        ),
        pytest.param("same", {"level": 5.0}, "clean", "low mark", id="below the low mark"),
        pytest.param(
            [{"low_ink_message": True}, "same"], {}, "clean", "low ink", id="nothing draws ink after a low-ink message"
        ),
        pytest.param("same clean same rest +2", {}, "clean", "rests", id="cutting a rest short"),
    ],
)
def test_the_rules_above_every_ladder_refuse_with_their_reason(story, more, step, told):
    advice = advice_of(story, **more)
    refused = {r.step: r for r in advice.refused}
    assert told in refused[step].why
    assert advice.next.step != step


def test_a_refusal_says_from_when_the_step_is_allowed():
    refused = {r.step: r for r in advice_of("same clean same deep_clean +3 same", level=70.0, pad=0).refused}
    assert refused["deep_clean"].until == NOON + timedelta(minutes=15) + timedelta(hours=12)


def test_never_all_channels_for_one():
    advice = advice_of("same", abilities=("clean", "group_clean"))
    assert advice.next.step == "group_clean"
    assert advice.next.ink_ml == {"black": 0.8}


def test_advice_says_what_it_costs_and_why_with_the_cases_own_numbers():
    rest = advice_of("same clean same").next
    assert (rest.ink_ml, rest.waste_ml, rest.minutes) == ({}, 0, 720)
    assert "3 gaps in black" in rest.why[0]
    assert rest.then == "check"
    clean = advice_of("same").next
    assert clean.ink_ml == {"black": 0.8, "cyan": 0.8}
    assert clean.cost == pytest.approx(1.6 * 0.14, abs=0.01)


def test_the_same_gaps_after_idle_days_point_to_dried_ink_and_say_why():
    first = advice_of([{"idle_days": 21}, "same", "clean", "same"]).causes[0]
    assert first.cause == "dried_ink"
    assert {"the same 3 of 3 gaps stood on both sheets", "idle for 21 days"} <= set(first.because)
    assert sum(c.probability for c in advice_of("same").causes) == pytest.approx(1, abs=0.001)


STORIES = st.lists(st.sampled_from(WORDS), max_size=16)
EVERYTHING = (
    "clean",
    "group_clean",
    "channel_clean",
    "deep_clean",
    "line_flush",
    "remap",
    "head_soak",
    "removable_head",
)


@settings(max_examples=400, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(STORIES, st.sampled_from(LADDERS), st.floats(0, 70), st.integers(0, 180), st.sampled_from(["member", "owner", "technician"]), st.booleans())  # fmt: skip
def test_no_rule_is_broken_and_neither_names_nor_order_mean_anything(story, ladder, level, pad, user, able):
    more = {
        "names": ("ink-a", "ink-b"),
        "ladder": ladder,
        "level": level,
        "pad": pad,
        "user": user,
        "abilities": EVERYTHING if able else ("clean",),
    }
    case = case_of(story, **more)
    advice = play(case)
    step = advice.next.step
    barred = {r.step for r in advice.refused}
    assert step not in barred
    assert not barred & {a.step for a in advice.alternatives}
    steps = [e for e in case.events if e.kind == "step"]
    deep = [e.at for e in steps if e.step == "deep_clean"]
    if step == "deep_clean":
        assert not deep or case.now - deep[-1] >= timedelta(hours=12)
        assert level >= 70 / 3
        assert advice.movement["ink-a"].call != "moving"
    if step in ("air_assist", "replace_head", "sensor_clean"):
        assert user == "technician"
    if user == "member":
        assert step in ("check", "clean", "group_clean", "channel_clean", "settings_check", "rest", "cap_soak", "hand_over", "carry_on")  # fmt: skip
    if advice.next.waste_ml:
        assert pad + advice.next.waste_ml <= 180
    if step in CLEANS:
        assert set(advice.severity.values()) != {"clear"}
    renamed = play(case_of(story, **more | {"names": ("zinc", "amber")})).model_dump_json()
    text = advice.model_dump_json().replace("ink-a", "zinc").replace("ink-b", "amber")
    assert json.loads(text) == json.loads(renamed)
    turned = case.model_copy(update={"printer": case.printer.model_copy(update={"channels": case.printer.channels[::-1]})})  # fmt: skip
    other = play(turned).next
    assert (other.step, set(other.channels or ()), other.level) == (
        step,
        set(advice.next.channels or ()),
        advice.next.level,
    )


@pytest.mark.parametrize("ladder", LADDERS)
@pytest.mark.parametrize("sheets", [("same",), ("elsewhere", "same"), ("most",), ("same", "elsewhere", "fewer"), ("all",), ("eight", "five", "again")])  # fmt: skip
def test_following_any_ladder_always_ends(ladder, sheets):
    story = [sheets[0]]
    for turn in range(80):
        step = advice_of(story, ladder=ladder, level=70.0, pad=0, abilities=EVERYTHING, user="technician").next.step
        if step in ("hand_over", "carry_on", "refill", "align"):
            return
        story += [step, "+13", sheets[(turn + 1) % len(sheets)]] if step != "check" else [sheets[turn % len(sheets)]]
    pytest.fail(f"still climbing: {story}")


@pytest.mark.parametrize(
    ("change", "told"),
    [
        pytest.param({"rungs": []}, "rungs", id="no rungs"),
        pytest.param(
            {"rungs": [{"id": "a", "step": "clean", "short": "c", "why": "x"}]}, "last rung", id="no last rung"
        ),
        pytest.param(
            {
                "rungs": [
                    {"id": "a", "step": "clean", "short": "c", "why": "x"},
                    {"id": "b", "step": "hand_over", "short": "h", "why": "x"},
                ]
            },
            "no later rung can be reached",
            id="a rung nobody reaches",
        ),
        pytest.param({"limits": {"cleans_without_rest": 40}}, "limits.cleans_without_rest", id="forty cleans"),
    ],
)
def test_a_ladder_that_cannot_be_climbed_is_refused(change, told):
    good = json.loads(files.ladder("maker-tank").model_dump_json(by_alias=True, exclude_none=True))
    with pytest.raises(UnusableInput, match=told):
        parse_ladder(json.dumps(good | change))


@pytest.mark.parametrize(
    ("change", "told"),
    [
        pytest.param(lambda d: d["events"].reverse(), "events in order of time", id="events out of order"),
        pytest.param(lambda d: d["events"][0]["faults"].update(green={"missing": []}), "'green'", id="unknown channel"),
        pytest.param(
            lambda d: d["events"][0]["faults"]["black"].update(missing=[181]),
            "from 1 to 180, found 181",
            id="a nozzle outside the head",
        ),
        pytest.param(lambda d: d["events"][1].update(step="wipe"), r"events\[1\].*step", id="unknown step"),
        pytest.param(lambda d: d.pop("now"), "now: ", id="no now"),
        pytest.param(lambda d: d["printer"]["channels"][0].update(level_ml=-1), "level_ml", id="a tank below empty"),
    ],
)
def test_a_document_that_is_no_case_is_refused(change, told):
    document = json.loads(case_of("same clean same").model_dump_json(exclude_none=True))
    change(document)
    with pytest.raises(UnusableInput, match=told):
        parse_case(json.dumps(document))
