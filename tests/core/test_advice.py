"""Two ladders and the rules above them, in the words of the job."""

import json
from datetime import timedelta

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.advice import advise, parse_ladder
from dusky_sieve.core.case import parse_case
from dusky_sieve.core.errors import UnusableInput

SAME, ELSEWHERE, FEWER, CLEAR, MOST, ALL = [40, 41, 97], [7, 66, 150], [40], [], list(range(1, 120)), "all"
SEEN = {
    "same": SAME,
    "elsewhere": ELSEWHERE,
    "fewer": FEWER,
    "clear": CLEAR,
    "most": MOST,
    "eight": [3, 9, 27, 40, 41, 97, 120, 150],
}


def case_of(
    story,
    *,
    ladder="watch-the-gaps",
    level=41.0,
    pad=121,
    user="owner",
    abilities=("clean", "deep_clean", "line_flush"),
    now_hours=None,
    names=("black", "cyan"),
):
    """A case told in short: `same` or `all` are sheets of black, `clean` a step, a dict a note; `+12` lets hours pass."""
    at, events = NOON, []
    for word in story.split() if isinstance(story, str) else story:
        if isinstance(word, dict):
            events.append({"kind": "note", "at": at.isoformat(), "facts": word})
        elif word.startswith("+"):
            at += timedelta(hours=float(word[1:]))
            continue
        elif word in SEEN or word == "all":
            faults = {"all_missing": True} if word == "all" else {"missing": SEEN[word]}
            events.append(
                {"kind": "sheet", "at": at.isoformat(), "faults": {names[0]: faults, names[1]: {"missing": []}}}
            )
        else:
            events.append({"kind": "step", "at": at.isoformat(), "step": word, "channels": [names[0]]})
        at += timedelta(minutes=5)
    channels = [
        {"name": n, "nozzles": 180, "group": g, "capacity_ml": 70, "level_ml": level, "price_per_ml": 0.14}
        for n, g in zip(names, "AB", strict=True)
    ]
    now = at if now_hours is None else NOON + timedelta(hours=now_hours)
    printer = {
        "name": "Larch",
        "channels": channels,
        "waste": {"capacity_ml": 180, "used_ml": pad, "replaceable": False},
        "abilities": list(abilities),
        "user_level": user,
        "ladder": ladder,
    }
    return parse_case(
        json.dumps(
            {"format": "dusky-sieve-case", "version": 1, "printer": printer, "events": events, "now": now.isoformat()}
        )
    )


def advice_of(story, **more):
    case = case_of(story, **more)
    return advise(case, files.ladder(case.printer.ladder), files.step_table(), files.cause_table())


@pytest.mark.parametrize(
    ("ladder", "story", "step"),
    [
        pytest.param("watch-the-gaps", "", "check", id="nothing seen yet: print a sheet"),
        pytest.param("watch-the-gaps", "same", "clean", id="first bad sheet: clean"),
        pytest.param("watch-the-gaps", "same clean", "check", id="a sheet from before the last step is stale"),
        pytest.param("watch-the-gaps", "same clean elsewhere", "clean", id="the gaps wander: go on"),
        pytest.param("watch-the-gaps", "same clean same", "rest", id="the first time nothing changed: stop and rest"),
        pytest.param("watch-the-gaps", "eight clean same clean fewer", "rest", id="one gap left after a run of cleans: rest"),
        pytest.param("watch-the-gaps", "same clean elsewhere clean same clean elsewhere clean same", "rest", id="four cleans in a row are enough"),
        pytest.param("watch-the-gaps", "same clean same rest", "rest", id="a rest that runs goes on"),
        pytest.param("watch-the-gaps", "same clean same rest +12", "check", id="a rest over: check without cleaning"),
        pytest.param("watch-the-gaps", "same clean same rest +12 elsewhere", "clean", id="the rest helped: clean again"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same", "rest", id="one rest without change: rest once more"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same", "deep_clean", id="two rests without change: deep clean if allowed"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same deep_clean same", "cap_soak", id="then a cap soak"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same deep_clean same cap_soak +12 same", "hand_over", id="then hand over"),
        pytest.param("watch-the-gaps", "same clean clear", "align", id="cured: keep the reference and align"),
        pytest.param("watch-the-gaps", "clear", "carry_on", id="a clear sheet: nothing to do"),
        pytest.param("maker-tank", "same clean same", "clean", id="the makers clean again although nothing changed"),
        pytest.param("maker-tank", "same clean same clean same clean same", "rest", id="three cleans, then off"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same", "clean", id="after the rest clean"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same clean same clean same", "line_flush", id="two more, then the line flush"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same clean same clean same line_flush same", "hand_over", id="then hand over"),
        pytest.param("maker-tank", "most", "deep_clean", id="more than half missing: deep clean first"),
        pytest.param("maker-tank", "most deep_clean most", "rest", id="off after the deep clean"),
        pytest.param("maker-tank", "most deep_clean fewer", "rest", id="off after it even where it helped"),
        pytest.param("maker-tank", "all deep_clean same rest +12 same clean same", "line_flush", id="one clean after deep clean and rest, then the line flush"),
    ],
)  # fmt: skip
def test_the_next_rung(ladder, story, step):
    assert advice_of(story, ladder=ladder, level=70.0, pad=0).next.step == step


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


STORIES = st.lists(st.sampled_from(["same", "elsewhere", "fewer", "clear", "most", "all", "clean", "deep_clean", "rest", "line_flush", "cap_soak", "+1", "+12"]), max_size=14)  # fmt: skip


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(STORIES, st.sampled_from(["watch-the-gaps", "maker-tank"]), st.floats(0, 70), st.integers(0, 180))
def test_no_rule_is_broken_and_names_mean_nothing(story, ladder, level, pad):
    case = case_of(story, ladder=ladder, level=level, pad=pad)
    rules = files.ladder(ladder)
    advice = advise(case, rules, files.step_table(), files.cause_table())
    barred = {r.step for r in advice.refused}
    assert advice.next.step not in barred
    assert not barred & {a.step for a in advice.alternatives}
    deep = [e.at for e in case.events if e.kind == "step" and e.step == "deep_clean"]
    if advice.next.step == "deep_clean":
        assert not deep or case.now - deep[-1] >= timedelta(hours=12)
        assert level >= 70 / 3
    other = advise(
        case_of(story, ladder=ladder, level=level, pad=pad, names=("zinc", "amber")),
        rules,
        files.step_table(),
        files.cause_table(),
    )
    text = advice.model_dump_json().replace("black", "zinc").replace("cyan", "amber")
    assert json.loads(text) == json.loads(other.model_dump_json())


@pytest.mark.parametrize("ladder", ["watch-the-gaps", "maker-tank"])
@pytest.mark.parametrize("sheets", [("same",), ("elsewhere", "same"), ("most",), ("same", "elsewhere", "fewer")])
def test_following_a_ladder_always_ends(ladder, sheets):
    story = [sheets[0]]
    for turn in range(60):
        step = advice_of(
            story, ladder=ladder, level=70.0, pad=0, abilities=("clean", "deep_clean", "line_flush")
        ).next.step
        if step in ("hand_over", "carry_on", "refill"):
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
