"""All twelve ladders, case by case in the words of the job. Tanks are full and the pad empty unless the case says so."""

import pytest
from tests.core.stories import advice_of, case_of

from dusky_sieve import files
from dusky_sieve.core.advice import advise

OPEN = {"level": 70.0, "pad": 0}
TECH = {"user": "technician"}
SIX = "same clean elsewhere clean again clean same clean elsewhere clean again clean "


@pytest.mark.parametrize(
    ("ladder", "story", "more", "step"),
    [
        # Whatever the ladder
        *[pytest.param(name, "", {}, "check", id=f"{name}: nothing seen yet, print a sheet") for name in ("maker-tank", "seal-first", "least-cost", "first-fill")],
        *[pytest.param(name, "same clean", {}, "check", id=f"{name}: a sheet from before the last step is stale") for name in ("daily-white", "by-severity", "three-levels", "shared-desk")],
        *[pytest.param(name, "same rest +13", {}, "check", id=f"{name}: a rest that has run its time, check without cleaning") for name in ("spare-the-pad", "swap-head", "keep-running")],
        pytest.param("maker-tank", "same rest +2", {}, "rest", id="a rest that runs goes on"),
        pytest.param("seal-first", "same clean clear", {}, "align", id="seal-first: after a perfect sheet, align"),
        pytest.param("watch-the-gaps", "same clean clear align clear", {}, "carry_on", id="cured and aligned: carry on"),
        pytest.param("shared-desk", "clear", {}, "carry_on", id="shared-desk: good, start the session"),
        pytest.param("by-severity", [{"low_ink_message": True}, "same"], {}, "refill", id="by-severity: low ink, replace first"),
        pytest.param("by-severity", [{"low_ink_message": ["black"]}, "same", "refill", "same"], {"abilities": ("channel_clean",)}, "channel_clean", id="a refill answers it"),
        pytest.param("keep-running", [{"air_in_line": ["black"]}, "same"], {}, "line_flush", id="air seen in a tube: line flush"),
        pytest.param("keep-running", [{"air_in_line": ["black"]}, "same"], {"level": 20.0}, "refill", id="air, and tanks are low: filled first"),
        pytest.param("seal-first", [{"lockout_warning": True}, "same"], {}, "hand_over", id="lockout warning: stop"),
        pytest.param("maker-tank", [{"print_symptom": "banding"}, "clear"], {}, "settings_check", id="clear sheet, bad prints: settings"),
        pytest.param("maker-tank", [{"print_symptom": "banding"}, "clear", "settings_check", "clear"], {}, "align", id="settings looked at: alignment"),
        pytest.param("watch-the-gaps", [{"new_printer": True}, "all"], {}, "prepare", id="a new printer that prints nothing: prepare"),
        # 1
        pytest.param("maker-tank", "same", {}, "clean", id="maker-tank: gaps, clean"),
        pytest.param("maker-tank", "same clean same", {}, "clean", id="maker-tank: up to three"),
        pytest.param("maker-tank", "same clean same clean same clean same", {}, "rest", id="maker-tank: then off 12 h"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same", {}, "clean", id="maker-tank: then clean"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same clean same clean same", {}, "line_flush", id="maker-tank: two more, line flush"),
        pytest.param("maker-tank", "same clean same clean same clean same rest +12 same clean same clean same line_flush same", {}, "hand_over", id="maker-tank: then hand over"),
        pytest.param("maker-tank", "most", {}, "deep_clean", id="maker-tank: more than half missing, deep clean"),
        pytest.param("maker-tank", "most", {"level": 20.0}, "refill", id="maker-tank: tanks under a third, refill before it"),
        pytest.param("maker-tank", "most deep_clean most", {}, "rest", id="maker-tank: off after the deep clean"),
        pytest.param("maker-tank", "all deep_clean same rest +12 same", {}, "clean", id="maker-tank: one clean after it"),
        pytest.param("maker-tank", "all deep_clean same rest +12 same clean same", {"level": 45.0}, "refill", id="maker-tank: tanks drained, filled before the line flush"),
        # 2
        pytest.param("watch-the-gaps", "same", {}, "clean", id="watch-the-gaps: first bad sheet, clean"),
        pytest.param("watch-the-gaps", "same clean elsewhere", {}, "clean", id="watch-the-gaps: gaps move, go on"),
        pytest.param("watch-the-gaps", "eight clean five", {}, "clean", id="watch-the-gaps: fewer, go on"),
        pytest.param("watch-the-gaps", "same clean same", {}, "rest", id="watch-the-gaps: the first time nothing changed, rest"),
        pytest.param("watch-the-gaps", "same clean elsewhere clean same clean elsewhere clean same", {}, "rest", id="watch-the-gaps: four are enough"),
        pytest.param("watch-the-gaps", "eight clean same clean fewer", {}, "rest", id="watch-the-gaps: one left after a run of cleans, rest"),
        pytest.param("watch-the-gaps", "eight clean eight rest +12 same", {}, "rest", id="watch-the-gaps: as long as each rest helps"),
        pytest.param("watch-the-gaps", "same clean same rest +12 elsewhere", {}, "clean", id="watch-the-gaps: after the rest they move, clean"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same", {}, "rest", id="watch-the-gaps: one rest without change, another"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same", {}, "deep_clean", id="watch-the-gaps: two, deep clean if allowed"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same", {"level": 20.0}, "cap_soak", id="watch-the-gaps: not allowed, cap soak"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same deep_clean same", {}, "cap_soak", id="watch-the-gaps: after the deep clean, soak"),
        pytest.param("watch-the-gaps", "same clean same rest +12 same rest +12 same deep_clean same cap_soak +12 same", {}, "hand_over", id="watch-the-gaps: then hand over"),
        # 3
        pytest.param("first-fill", "eight", {}, "prepare", id="first-fill: plugs and tape first"),
        pytest.param("first-fill", "eight prepare eight", {}, "clean", id="first-fill: then clean"),
        pytest.param("first-fill", "prepare same clean elsewhere clean again clean same clean elsewhere", {}, "clean", id="first-fill: a fifth on day one"),
        pytest.param("first-fill", f"prepare {SIX} same", {}, "rest", id="first-fill: six done, 12 h"),
        pytest.param("first-fill", f"prepare {SIX} same rest +12 elsewhere", {}, "clean", id="first-fill: up to six more"),
        pytest.param("first-fill", f"prepare {SIX} same rest +12 {SIX} same", TECH, "air_assist", id="first-fill: still bad, air by a technician"),
        pytest.param("first-fill", f"prepare {SIX} same rest +12 {SIX} same", {}, "hand_over", id="first-fill: an owner hands over instead"),
        pytest.param("first-fill", f"prepare {SIX} same rest +12 {SIX} same air_assist again rest +12 again", TECH, "clean", id="first-fill: rested, up to six more after the air"),
        pytest.param("first-fill", "prepare eight clean one", {}, "rest", id="first-fill: a single gap left, rest"),
        # 4
        pytest.param("daily-white", "same", {}, "clean", id="daily-white: clean"),
        pytest.param("daily-white", "same clean elsewhere", {}, "carry_on", id="daily-white: a few moving breaks, carry on"),
        pytest.param("daily-white", "twelve clean many clean most clean twelve", {}, "rest", id="daily-white: three cleans, wait ten minutes"),
        pytest.param("daily-white", "same clean same", {}, "seal_clean", id="daily-white: fixed breaks, seal clean"),
        pytest.param("daily-white", "same clean same seal_clean same", {}, "cap_soak", id="daily-white: then cap soak"),
        pytest.param("daily-white", "same clean same seal_clean same cap_soak +12 same", {}, "hand_over", id="daily-white: then hand over"),
        # 5
        pytest.param("seal-first", "same", {"abilities": ("clean", "group_clean")}, "group_clean", id="seal-first: only the group that holds the faults"),
        pytest.param("seal-first", "eight clean elsewhere clean again", {}, "seal_clean", id="seal-first: random gaps, the seal before anything else"),
        pytest.param("seal-first", "same clean same", {}, "seal_clean", id="seal-first: cleaning changes nothing, the seal"),
        pytest.param("seal-first", "same clean same seal_clean same", {"abilities": ("clean", "group_clean")}, "group_clean", id="seal-first: fixed, the group again"),
        pytest.param("seal-first", "same clean same seal_clean same clean same", {}, "cap_soak", id="seal-first: then soak overnight"),
        pytest.param("seal-first", "same clean same seal_clean same clean same cap_soak +12 same", {}, "clean", id="seal-first: switch on, clean"),
        pytest.param("seal-first", "same clean same seal_clean same clean same cap_soak +12 same clean same", {}, "deep_clean", id="seal-first: deep clean when all else is exhausted"),
        pytest.param("seal-first", "same clean same seal_clean same clean same cap_soak +12 same clean same deep_clean same", {}, "hand_over", id="seal-first: then hand over"),
        # 6
        pytest.param("spare-the-pad", "same", {}, "clean", id="spare-the-pad: the first clean"),
        pytest.param("spare-the-pad", "same clean same", {}, "paper_flush", id="spare-the-pad: no second"),
        pytest.param("spare-the-pad", "same clean same paper_flush", {}, "check", id="spare-the-pad: pages not looked at, check"),
        pytest.param("spare-the-pad", "same clean same paper_flush lines=5", {}, "paper_flush", id="spare-the-pad: light lines, more pages"),
        pytest.param("spare-the-pad", "same clean same paper_flush lines=5 paper_flush lines=0", {}, "check", id="spare-the-pad: no light line, check"),
        pytest.param("spare-the-pad", "both clean both paper_flush lines=0", {}, "paper_flush", id="spare-the-pad: then the next bad channel"),
        pytest.param("spare-the-pad", "same clean same", {"level": 9.0}, "refill", id="spare-the-pad: refill before it runs dry"),
        # 7
        pytest.param("by-severity", "same", {"abilities": ("channel_clean",)}, "channel_clean", id="by-severity: only the bad one"),
        pytest.param("by-severity", "same channel_clean same", {"abilities": ("channel_clean",)}, "channel_clean", id="by-severity: again"),
        pytest.param("by-severity", "same channel_clean same channel_clean same", {"abilities": ("channel_clean", "line_flush")}, "line_flush", id="by-severity: line flush"),
        pytest.param("by-severity", "same channel_clean same channel_clean same line_flush same refill same", {"abilities": ("channel_clean", "line_flush")}, "line_flush", id="by-severity: once more"),
        pytest.param("by-severity", "same channel_clean same channel_clean same line_flush same line_flush same", {"abilities": ("channel_clean", "line_flush")}, "settings_check", id="by-severity: the ink itself"),
        pytest.param("by-severity", "same channel_clean same channel_clean same line_flush same line_flush same settings_check same", {"abilities": ("channel_clean", "line_flush")}, "hand_over", id="by-severity: hand over"),
        # 8
        pytest.param("three-levels", "same", {}, "settings_check", id="three-levels: settings first"),
        pytest.param("three-levels", "same settings_check same", {}, "clean", id="three-levels: levels are known, level 1"),
        pytest.param("three-levels", "same settings_check same", {"level": None}, "prepare", id="three-levels: levels not known, look"),
        pytest.param("three-levels", "settings_check same clean same clean same clean same", {}, "rest", id="three-levels: wait before another"),
        pytest.param("three-levels", "settings_check same clean same clean same clean same rest +1 same clean same", {"abilities": ("clean", "head_soak", "removable_head")}, "head_soak", id="three-levels: own head, soak it"),
        pytest.param("three-levels", "settings_check same clean same clean same clean same rest +1 same clean same", {}, "hand_over", id="three-levels: no own head, hand over"),
        # 9
        pytest.param("swap-head", "same", {}, "settings_check", id="swap-head: media setting first"),
        pytest.param("swap-head", "settings_check same lines=2", {}, "clean", id="swap-head: gaps and light lines together, clean"),
        pytest.param("swap-head", "settings_check same lines=0", {}, "align", id="swap-head: gaps without a line, no clean"),
        pytest.param("swap-head", "settings_check same lines=2 clean same", {}, "seal_clean", id="swap-head: by hand"),
        pytest.param("swap-head", "settings_check same clean same seal_clean same", TECH, "sensor_clean", id="swap-head: drop sensor"),
        pytest.param("swap-head", "settings_check same clean same seal_clean same sensor_clean same", TECH | {"abilities": ("clean", "replace_head", "replaceable_head")}, "replace_head", id="swap-head: replace that head"),
        pytest.param("swap-head", "settings_check same clean same seal_clean same", {}, "hand_over", id="swap-head: an owner hands over"),
        # 10
        pytest.param("keep-running", "same", {}, "clean", id="keep-running: a fault, clean"),
        pytest.param("keep-running", "same clean same clean same", {"abilities": ("clean", "remap")}, "remap", id="keep-running: remap and go on"),
        pytest.param("keep-running", "same clean same clean same remap same", {"abilities": ("clean", "remap")}, "carry_on", id="keep-running: remapped, run on"),
        pytest.param("keep-running", "twelve clean twelve clean twelve", {"abilities": ("clean", "remap")}, "hand_over", id="keep-running: too many, stop"),
        # 11
        pytest.param("shared-desk", "same", {"user": "member"}, "clean", id="shared-desk: one clean"),
        pytest.param("shared-desk", "same clean same", {"user": "member"}, "hand_over", id="shared-desk: tell the duty person"),
        pytest.param("shared-desk", "same clean fewer", {}, "hand_over", id="shared-desk: better is not good"),
        # 12
        pytest.param("least-cost", "same", {}, "clean", id="least-cost: little is known, the cheapest try first"),
        pytest.param("least-cost", [{"idle_days": 40}, "same", "clean", "same", "paper_flush", "same"], {}, "cap_soak", id="least-cost: dried ink that neither clean nor pages moved, soak"),
    ],
)  # fmt: skip
def test_the_next_rung(ladder, story, more, step):
    assert advice_of(story, ladder=ladder, **(OPEN | more)).next.step == step


def test_by_severity_cleans_each_channel_at_its_rate_then_at_four():
    able = {"abilities": ("channel_clean",), "ladder": "by-severity", **OPEN}
    few, some, most = (advice_of(sheet, **able).next for sheet in ("same", "many", "most"))
    assert (few.level, some.level, most.level) == (2, 3, 4)
    assert few.channels == ("black",)
    assert advice_of("same channel_clean same", **able).next.level == 4


def test_by_severity_flushes_one_line_where_one_is_bad_and_all_where_several_are():
    able = {"abilities": ("channel_clean", "line_flush"), "ladder": "by-severity", **OPEN}
    assert advice_of("same channel_clean same channel_clean same", **able).next.channels == ("black",)
    both = {"kind": "step", "step": "channel_clean", "channels": ["black", "cyan"]}
    assert advice_of(["both", both, "both", both, "both"], **able).next.channels is None


def test_three_levels_go_up_one_by_one():
    levels = [advice_of(f"settings_check same {tried}", ladder="three-levels", **OPEN).next.level for tried in ("", "clean same", "clean same clean same")]  # fmt: skip
    assert levels == [1, 2, 3]


def test_pages_go_out_in_batches_and_none_of_their_ink_to_the_pad():
    story, batches = "same clean same ", []
    for _ in range(5):
        step = advice_of(story, ladder="spare-the-pad", **OPEN).next
        batches.append(step.sheets)
        assert step.waste_ml == 0
        story += "paper_flush lines=4 "
    assert batches == [1, 2, 4, 5, 5]
    assert step.ink_ml == {"black": 6.0}  # 5 pages of 1.2 ml


@pytest.mark.parametrize(("ladder", "minutes"), [("watch-the-gaps", 720), ("three-levels", 30), ("daily-white", 10)])
def test_a_rest_is_as_long_as_the_school_says(ladder, minutes):
    rest = next(a for a in advice_of("same clean elsewhere" if ladder == "daily-white" else "settings_check same clean same", ladder=ladder, **OPEN).alternatives if a.step == "rest") if ladder != "watch-the-gaps" else advice_of("same clean same", **OPEN).next  # fmt: skip
    assert rest.minutes == pytest.approx(minutes, abs=0.1)


def test_daily_white_declines_the_deep_clean_that_the_printer_offers():
    refused = {r.step: r.why for r in advice_of("same clean same", ladder="daily-white", **OPEN).refused}
    assert "Decline" in refused["deep_clean"]


@pytest.mark.parametrize(
    ("ladder", "refuses"),
    [(name, True) for name in ("watch-the-gaps", "seal-first", "daily-white", "spare-the-pad", "least-cost")]
    + [(name, False) for name in ("maker-tank", "three-levels", "first-fill")],
)
def test_a_clean_after_one_that_changed_nothing_is_refused_by_some_and_cautioned_by_the_others(ladder, refuses):
    advice = advice_of("prepare settings_check same clean same", ladder=ladder, **OPEN)
    assert ("clean" in {r.step for r in advice.refused}) is refuses
    if not refuses:
        assert "changed nothing" in advice.next.cautions[0]


def test_least_cost_learns_from_this_printers_own_record():
    told = ["eight", "clean", "elsewhere"]
    usual = advice_of(told, ladder="least-cost", **OPEN).next
    poor = {usual.step: {"done": 60, "cleared": 0}}
    assert advice_of(told, ladder="least-cost", record=poor, **OPEN).next.step != usual.step
    assert usual.expected_total > 0
    assert 0 < usual.clears < 1


def test_least_cost_hands_over_where_nothing_open_is_worth_its_cost():
    hopeless = files.cure_table().model_copy(update={"cures": {}, "otherwise": 0.001})
    case = case_of("same clean same", ladder="least-cost", **OPEN)
    assert (
        advise(case, files.ladder("least-cost"), files.step_table(), files.cause_table(), hopeless).next.step
        == "hand_over"
    )


def test_the_same_gaps_less_one_after_a_clean_stand_still():
    # Four faults before, three of them after: neither fewer nor elsewhere, so time is what is missing, not suction.
    sheets = [
        {"kind": "sheet", "faults": {"black": {"missing": [40, 41, 97], "deflected": [12]}, "cyan": {}}},
        "clean",
        "same",
    ]
    advice = advice_of(sheets, **OPEN)
    assert (advice.movement["black"].call, advice.next.step, advice.next.minutes) == ("fixed", "rest", 720)
    assert "clean" in {r.step for r in advice.refused}
