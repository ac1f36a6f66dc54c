"""From a case and a ladder to the next step, its price, its rivals, what is refused and what other schools would do."""

from collections.abc import Iterable, Mapping
from datetime import timedelta

from dusky_sieve.core.advice.document import Advice, Proposal, Refusal, School
from dusky_sieve.core.advice.ladder import Ladder, Rung, rungs_in_order
from dusky_sieve.core.advice.leastcost import CureTable, cheapest
from dusky_sieve.core.advice.overtake import overtaking
from dusky_sieve.core.advice.propose import aim, narrowed, propose, rate
from dusky_sieve.core.advice.rules import NEEDS_ABILITY, refusal
from dusky_sieve.core.advice.signs import signs_of
from dusky_sieve.core.advice.situation import Situation, size_up
from dusky_sieve.core.case import Case
from dusky_sieve.core.diagnosis import Cause, CauseTable, diagnose
from dusky_sieve.core.steps import CLEANS, StepName, StepTable

PRESSED: tuple[StepName, ...] = ("clean", "group_clean", "channel_clean", "deep_clean", "line_flush", "paper_flush")
ALTERNATIVES: tuple[StepName, ...] = ("clean", "group_clean", "channel_clean", "rest", "seal_clean", "paper_flush", "deep_clean", "cap_soak", "line_flush", "hand_over")  # fmt: skip
MOST_ALTERNATIVES = 4


def advise(
    case: Case,
    ladder: Ladder,
    table: StepTable,
    causes: CauseTable,
    cures: CureTable,
    others: Iterable[Ladder] = (),
) -> Advice:
    """The advice for a case on a ladder. Same case, same ladder, same tables: same advice."""
    situation = size_up(case, table, ladder.limits.rest_hours)
    likely = diagnose(signs_of(situation), causes)
    chosen = _next(situation, ladder, table, likely, cures)
    refused = []
    for step in PRESSED:
        if step in case.printer.abilities or step == "paper_flush":
            found = refusal(step, aim(step, situation), situation, ladder, table)
            if found is not None and step != chosen.step:
                refused.append(found)
    rivals = [
        propose(step, aim(step, situation), situation, table, why=(_rival_why(step, situation),))
        for step in ALTERNATIVES
        if step != chosen.step
        and situation.bad_channels
        and refusal(step, aim(step, situation), situation, ladder, table) is None
    ]
    return Advice(
        ladder=ladder.id, severity=situation.severity, movement=situation.movement, causes=likely, next=chosen,
        alternatives=tuple(rivals[:MOST_ALTERNATIVES]), refused=tuple(refused),
        schools=tuple(_school(other, case, table, likely, cures, chosen) for other in others),
    )  # fmt: skip


def _next(s: Situation, ladder: Ladder, table: StepTable, likely: tuple[Cause, ...], cures: CureTable) -> Proposal:
    return overtaking(s, ladder, table) or _from_ladder(s, ladder, table, likely, cures)


def _school(
    other: Ladder, case: Case, table: StepTable, likely: tuple[Cause, ...], cures: CureTable, mine: Proposal
) -> School:
    """What another ladder would do with the same case."""
    step = _next(size_up(case, table, other.limits.rest_hours), other, table, likely, cures)
    return School(
        ladder=other.id, name=other.name, step=step.step, channels=step.channels, why=step.why[0], agrees=step.step == mine.step
    )  # fmt: skip


def _from_ladder(
    s: Situation, ladder: Ladder, table: StepTable, likely: tuple[Cause, ...], cures: CureTable
) -> Proposal:
    passed: list[str] = []
    if ladder.chooses == "least-cost":
        best = cheapest(s, ladder, table, likely, cures)
        if best is not None:
            return best
    else:
        for rung in rungs_in_order(ladder, s.facts()):
            step = narrowed(rung.step, s, aim(rung.step, s, rung.aim)) if rung.narrow else rung.step
            channels = aim(step, s, rung.aim)
            found = refusal(step, channels, s, ladder, table)
            if found is None:
                return _taken(rung, step, channels, s, ladder, table, passed)
            refill = _refill_first(rung, found, s, ladder, table)
            if refill is not None:
                return refill
            if step in s.case.printer.abilities or step not in NEEDS_ABILITY:
                passed.append(f"Passed over: {table[step].title.lower()}. {found.why}")
    gaps = _gaps(sum(len(v) for v in s.faulty.values()))
    return propose("hand_over", None, s, table, why=(f"No rung of this ladder is open for {gaps} in {_list(s.bad_channels)}: hand over with the record.", *passed))  # fmt: skip


def _refill_first(rung: Rung, found: Refusal, s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    """A refill where only ink stands against a rung that is worth waiting for."""
    if found.remedy != "refill" or rung.short_of_ink != "refill":
        return None
    if refusal("refill", None, s, ladder, table) is not None:
        return None
    why = f"{table[rung.step].title} comes next and is short of ink. {found.why}"
    return propose("refill", found.channels or None, s, table, why=(why,), rung=rung.id)


def _taken(
    rung: Rung, step: StepName, channels: tuple[str, ...] | None, s: Situation, ladder: Ladder, table: StepTable, passed: list[str]
) -> Proposal:  # fmt: skip
    """A rung's step with its numbers in words."""
    facts = s.facts()
    level = rate(s, channels) if rung.level == "rate" else rung.level
    pages = _batch(rung, channels, s) if step == "paper_flush" else None
    words: Mapping[str, object] = {
        **facts, "channels": _list(s.bad_channels), "aimed": _list(channels or s.bad_channels), "gaps": _gaps(int(facts["faults"])),
        "level": level, "printer": s.case.printer.name, "pages_next": "one page" if pages == 1 else f"{pages} pages",
    }  # fmt: skip
    why = [rung.why.format_map(words), *passed]
    last = s.last(*CLEANS)
    pause = timedelta(minutes=ladder.limits.between_cleans_minutes)
    not_before = last.at + pause if last and step in CLEANS and last.at + pause > s.case.now else None
    chosen = propose(step, channels, s, table, why=(), rung=rung.id, level=level, pages=pages, not_before=not_before)
    if step == "paper_flush":
        rival = propose("clean", channels, s, table, why=())
        why.append(f"About {sum(chosen.ink_ml.values()):.1f} ml on paper and none in the pad; a clean would send about {rival.waste_ml:.1f} ml to the pad.")  # fmt: skip
        if _short(channels, sum(chosen.ink_ml.values()), s):
            text = f"Pages of {_list(channels or ())} come next and need about {sum(chosen.ink_ml.values()):.1f} ml: refill before it runs dry."
            if refusal("refill", channels, s, ladder, table) is None:
                return propose("refill", channels, s, table, why=(text,), rung=rung.id)
    cautions = chosen.cautions
    if step in CLEANS and s.unchanged:
        cautions = ("The last step changed nothing; other schools would stop cleaning here.", *cautions)
    return chosen.model_copy(update={"cautions": cautions, "why": tuple(why)})


def _batch(rung: Rung, channels: tuple[str, ...] | None, s: Situation) -> int:
    """Pages of the next batch for a channel."""
    done = len(s.pages.get(channels[0], ())) if channels else 0
    return rung.pages[min(done, len(rung.pages) - 1)] if rung.pages else 1


def _short(channels: tuple[str, ...] | None, ml: float, s: Situation) -> bool:
    """Whether a channel would run to its low mark by using so much."""
    for c in s.case.printer.channels:
        level = s.levels[c.name]
        if channels and c.name in channels and level is not None and level - ml < 0.1 * (c.capacity_ml or 0):
            return True
    return False


def _rival_why(step: StepName, s: Situation) -> str:
    return {
        "rest": "Costs no ink; many gaps go by themselves overnight.",
        "hand_over": "With the sheets, steps and hours of this case as a report.",
        "seal_clean": "Costs no ink; worth it before anything stronger.",
        "paper_flush": "All its ink goes on paper, none to the pad.",
    }.get(step, f"For {_list(s.bad_channels)}; open to this printer now, {_touches(step, s)} drawn on.")


def _touches(step: StepName, s: Situation) -> str:
    every = len(s.case.printer.channels)
    return "all channels" if step in ("clean", "deep_clean") and every > 1 else "only what is named"


def _list(names: Iterable[str]) -> str:
    some = list(names)
    return " and ".join([", ".join(some[:-1]), some[-1]]) if len(some) > 1 else some[0] if some else "no channel"


def _gaps(count: int) -> str:
    return "one gap" if count == 1 else f"{count} gaps"
