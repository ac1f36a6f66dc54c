"""From a case and a ladder to the next step, its price, its rivals and what is refused."""

from datetime import datetime, timedelta

from dusky_sieve.core.advice.document import Advice, Proposal
from dusky_sieve.core.advice.ladder import Ladder, rungs_in_order
from dusky_sieve.core.advice.rules import refusal
from dusky_sieve.core.advice.situation import Situation, overall_movement, size_up, wait_over
from dusky_sieve.core.case import Case, StepEvent
from dusky_sieve.core.diagnosis import CauseTable, diagnose
from dusky_sieve.core.ledger import add_up, book_step
from dusky_sieve.core.steps import CLEANS, StepName, StepTable

PRESSED: tuple[StepName, ...] = (
    "clean",
    "group_clean",
    "channel_clean",
    "deep_clean",
    "line_flush",
    "paper_flush",
)
ALTERNATIVES: tuple[StepName, ...] = ("clean", "group_clean", "channel_clean", "rest", "seal_clean", "paper_flush", "deep_clean", "cap_soak", "line_flush", "hand_over")  # fmt: skip
MOST_ALTERNATIVES = 4
IDLE_DAYS = 7  # from which standing still counts as idle, job: print every colour weekly
DRY_PCT = 35  # relative humidity under which ink dries in the nozzles faster


def advise(case: Case, ladder: Ladder, table: StepTable, causes: CauseTable) -> Advice:
    """The advice for a case on a ladder. Same case, same ladder, same tables: same advice."""
    situation = size_up(case, table)
    chosen = _overtaking(situation, ladder, table) or _from_ladder(situation, ladder, table)
    refused = []
    for step in PRESSED:
        if step in case.printer.abilities or step == "paper_flush":
            found = refusal(step, _aim(step, situation), situation, ladder, table)
            if found is not None:
                refused.append(found)
    others = [
        propose(step, _aim(step, situation), situation, table, why=(_rival_why(step, situation),))
        for step in ALTERNATIVES
        if step != chosen.step
        and situation.bad_channels
        and refusal(step, _aim(step, situation), situation, ladder, table) is None
    ]
    return Advice(
        ladder=ladder.id, severity=situation.severity, movement=situation.movement, causes=diagnose(signs_of(situation), causes),
        next=chosen, alternatives=tuple(others[:MOST_ALTERNATIVES]), refused=tuple(refused),
    )  # fmt: skip


def propose(
    step: StepName,
    channels: tuple[str, ...] | None,
    situation: Situation,
    table: StepTable,
    *,
    why: tuple[str, ...],
    rung: str | None = None,
    until: datetime | None = None,
) -> Proposal:
    """A step with its ink, waste, minutes and cost worked out for this printer."""
    facts, case = table[step], situation.case
    level = _strength(situation, channels) if step == "channel_clean" else None
    total = add_up(
        book_step(
            case.printer,
            StepEvent(kind="step", at=case.now, step=step, channels=channels, level=level),
            table,
        )
    )
    wait = timedelta(hours=facts.wait_hours)
    return Proposal(
        step=step, level=level, channels=channels, not_before=case.now, until=until or (case.now + wait if wait else None),
        then=facts.then, ink_ml=total.by_channel, ink_low_ml=total.low_ml, ink_high_ml=total.high_ml, waste_ml=total.waste_ml,
        sheets=facts.sheets, minutes=facts.minutes if not wait else wait.total_seconds() / 60, attended_minutes=facts.attended_minutes,
        cost=round(total.cost, 2), rung=rung, why=why, needs=facts.needs, do=facts.do, cautions=facts.cautions,
    )  # fmt: skip


def _overtaking(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    """The step that facts demand wherever one stands on any ladder, gravest first."""

    def go(
        step: StepName, why: str, channels: tuple[str, ...] | None = None, until: datetime | None = None
    ) -> Proposal:
        return propose(step, channels, s, table, why=(why,), until=until)

    told = s.told
    if told.get("lockout_warning"):
        return go("hand_over", "The printer warned that it will lock up: stop here and hand over.")
    low = told.get("low_ink_message")
    if low:
        names = tuple(str(n) for n in low if str(n) in s.levels) if isinstance(low, list) else None
        return go("refill", "The printer reported low ink: refill or replace before anything else.", names or None)
    if s.waiting is not None:
        left = wait_over(s.waiting, table)
        names = s.waiting.channels
        return propose(
            s.waiting.step,
            names,
            s,
            table,
            why=(f"It still rests, until {left:%d %b %H:%M %Z}. Nothing helps more than leaving it.",),
            until=left,
        )
    air = told.get("air_in_line")
    if air and "line_flush" in s.case.printer.abilities:
        names = tuple(str(n) for n in air) if isinstance(air, list) else None
        found = refusal("line_flush", names, s, ladder, table)
        if found is None:
            return go("line_flush", "Air was seen in a tube: only refilling the line takes it out.", names)
        if "Refill" in found.why:
            return go("refill", f"Air was seen in a tube, and a line flush needs ink: {found.why}", names)
    if told.get("new_printer") and "all" in s.severity.values():
        return go("prepare", "A new printer that prints nothing: plugs, tape and locks come first.")
    if s.waited is not None:
        return go("check", f"The {table[s.waited.step].title.lower()} is over: check first, without cleaning.")
    if s.stale:
        why = (
            "Nothing was read yet: print a sheet."
            if not s.sheets
            else "Something was done since the last sheet: check before anything else."
        )
        return go("check", why)
    if not s.bad_channels:
        return _when_clear(s, table)
    return None


def _when_clear(s: Situation, table: StepTable) -> Proposal:
    if s.unsure:
        return propose(
            "check",
            None,
            s,
            table,
            why=(f"No fault, but {s.unsure} nozzles are unsure: settle them, or print another sheet.",),
        )
    if s.told.get("print_symptom"):
        symptom = str(s.told["print_symptom"]).replace("_", " ")
        return propose(
            "settings_check",
            None,
            s,
            table,
            why=(f"The sheet is clear and prints show {symptom}: look at settings, media and alignment, never clean.",),
        )
    cured = s.worst_ever != "clear" and not s.count("align")
    if cured and s.case.printer.user_level != "member":
        return propose(
            "align", None, s, table, why=("The sheet is clear: keep it as the reference and align the head.",)
        )
    return propose("carry_on", None, s, table, why=("The sheet is clear. Nothing to clean.",))


def _from_ladder(s: Situation, ladder: Ladder, table: StepTable) -> Proposal:
    facts = s.facts()
    passed: list[str] = []
    for rung in rungs_in_order(ladder, facts):
        step = _narrowed(rung.step, s) if rung.narrow else rung.step
        channels = _aim(step, s)
        found = refusal(step, channels, s, ladder, table)
        if found is None:
            why = rung.why.format_map(
                {**facts, "channels": " and ".join(s.bad_channels), "gaps": _gaps(int(facts["faults"]))}
            )
            cautions = _same_again(step, s)
            chosen = propose(step, channels, s, table, why=(why, *passed), rung=rung.id)
            return chosen.model_copy(update={"cautions": (*cautions, *chosen.cautions)})
        passed.append(f"Passed over: {table[step].title.lower()}. {found.why}")
    return propose("hand_over", None, s, table, why=("No rung of this ladder is open.", *passed))


def _narrowed(step: StepName, s: Situation) -> StepName:
    """The narrowest clean the printer can do for the channels at fault: never all channels for one."""
    if step != "clean":
        return step
    able = s.case.printer.abilities
    if "channel_clean" in able and len(s.bad_channels) == 1:
        return "channel_clean"
    groups = {c.group for c in s.case.printer.channels if c.name in s.bad_channels}
    every = {c.group for c in s.case.printer.channels}
    if "group_clean" in able and len(groups) == 1 and None not in groups and len(every) > 1:
        return "group_clean"
    return step


def _aim(step: StepName, s: Situation) -> tuple[str, ...] | None:
    """The channels a step is for."""
    return s.bad_channels or None if step not in ("check", "hand_over", "carry_on", "align", "settings_check") else None


def _strength(s: Situation, channels: tuple[str, ...] | None) -> int:
    """How strong a channel clean: strong where most is gone, light for a few gaps (job: strong when the channel is absent)."""
    worst = max(
        (("clear", "few", "some", "most", "all").index(s.severity.get(name, "few")) for name in channels or ()),
        default=1,
    )
    return {0: 1, 1: 1, 2: 2, 3: 3, 4: 3}[worst]


def _same_again(step: StepName, s: Situation) -> tuple[str, ...]:
    if step in CLEANS and s.unchanged:
        return ("The last step changed nothing; other schools would stop cleaning here.",)
    return ()


def _rival_why(step: StepName, s: Situation) -> str:
    return {
        "rest": "Costs no ink; many gaps go by themselves overnight.",
        "hand_over": "With the sheets, steps and hours of this case as a report.",
        "seal_clean": "Costs no ink; worth it before anything stronger.",
        "paper_flush": "All its ink goes on paper, none to the pad.",
    }.get(step, f"For {' and '.join(s.bad_channels)}; open to this printer now.")


def _gaps(count: int) -> str:
    return "one gap" if count == 1 else f"{count} gaps"


def signs_of(s: Situation) -> dict[str, dict[str, object]]:
    """The signs present in a situation, each with the numbers its words need."""
    signs: dict[str, dict[str, object]] = {}
    bad, every = s.bad_channels, s.case.printer.channels
    movement = overall_movement(s)
    moved = [s.movement[n] for n in bad if s.movement[n].call == movement] or [
        m for m in s.movement.values() if m.call == movement
    ]
    if movement in ("fixed", "moving", "clearing") and moved:
        signs[movement] = {
            "stayed": sum(m.stayed for m in moved),
            "before": sum(m.before for m in moved),
            "after": sum(m.after for m in moved),
        }
    if s.unchanged and bad:
        signs["clean_changed_nothing"] = {}
    if movement == "moving" and len(bad) > max(1, len(every) // 2):
        signs["random_all_colours"] = {"channels": len(bad), "of": len(every)}
    if len(bad) == 1 and len(every) > 1:
        signs["one_channel"] = {"name": bad[0]}
    gone = [n for n in bad if s.severity[n] == "all"]
    if gone:
        signs["whole_channel"] = {"name": " and ".join(gone)}
    days, humidity = s.told.get("idle_days"), s.told.get("humidity_pct")
    if isinstance(days, int | float) and days >= IDLE_DAYS:
        signs["idle"] = {"days": f"{days:g}"}
    if isinstance(humidity, int | float) and humidity < DRY_PCT:
        signs["dry_air"] = {"pct": f"{humidity:g}"}
    if s.told.get("new_printer") or s.case.printer.first_fill:
        signs["new_printer"] = {}
    if s.told.get("air_in_line"):
        signs["air_seen"] = {}
    if s.told.get("cap_dirty"):
        signs["cap_dirty"] = {}
    if s.faulty and not bad and s.told.get("print_symptom"):
        signs["clear_but_bad_prints"] = {}
    low = [c for c in every if c.name in bad and c.capacity_ml and (s.levels[c.name] or 1e9) < 0.15 * c.capacity_ml]
    if low:
        signs["ink_low"] = {"name": low[0].name, "ml": f"{s.levels[low[0].name]:.1f}"}
    return signs
