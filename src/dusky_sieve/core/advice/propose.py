"""A step with what it takes on this printer: channels, strength, ink with range, waste, minutes, money."""

from datetime import datetime, timedelta

from dusky_sieve.core.advice.document import Proposal
from dusky_sieve.core.advice.ladder import SEVERITIES
from dusky_sieve.core.advice.situation import Situation
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.ledger import add_up, book_step
from dusky_sieve.core.steps import WAITS, StepName, StepTable

WHOLE_PRINTER: tuple[StepName, ...] = ("check", "hand_over", "carry_on", "align", "settings_check", "prepare")
RATES = {"clear": 1, "few": 2, "some": 3, "most": 4, "all": 4}  # by-severity's rating of a channel, 1 clear to 4
STRENGTHS = {"clear": 1, "few": 1, "some": 2, "most": 3, "all": 3}  # light, medium; strong when the channel is absent
LAST_STRENGTH = 3  # light, medium, strong: where a printer knows no fourth, its strongest stands for it


def propose(
    step: StepName,
    channels: tuple[str, ...] | None,
    situation: Situation,
    table: StepTable,
    *,
    why: tuple[str, ...],
    rung: str | None = None,
    until: datetime | None = None,
    level: int | None = None,
    pages: int | None = None,
    not_before: datetime | None = None,
) -> Proposal:
    """A step with its ink, waste, minutes and cost worked out for this printer."""
    facts, case = table[step], situation.case
    if level is None and step == "channel_clean":
        level = max((STRENGTHS[situation.severity.get(n, "few")] for n in channels or ()), default=1)
    event = StepEvent(kind="step", at=case.now, step=step, channels=channels, level=level, sheets=pages)
    total = add_up(book_step(case.printer, event, table))
    hours = situation.rest_hours if step == "rest" else facts.wait_hours
    start = not_before or case.now
    end = until or (start + timedelta(hours=hours) if step in WAITS else None)
    many = pages or 1
    return Proposal(
        step=step, level=level, channels=channels, not_before=start, until=end, then=facts.then, ink_ml=total.by_channel,
        ink_low_ml=total.low_ml, ink_high_ml=total.high_ml, waste_ml=total.waste_ml, sheets=pages or facts.sheets,
        minutes=facts.minutes * many if step not in WAITS else round(max((end - case.now).total_seconds() / 60, 0), 1) if end else 0,
        attended_minutes=facts.attended_minutes * many, cost=round(total.cost, 2), rung=rung, why=why, needs=facts.needs, do=facts.do,
        cautions=facts.cautions,
    )  # fmt: skip


def aim(step: StepName, s: Situation, how: str = "bad") -> tuple[str, ...] | None:
    """The channels a step is for; None for all, or where it concerns the whole printer."""
    bad = s.bad_channels
    if step in WHOLE_PRINTER or not bad:
        return None
    if how == "worst":
        return (s.flushing or next((n for n in s.worst_first() if n not in s.pages), s.worst_first()[0]),)
    if how == "both":
        return tuple(n for n in bad if s.lines.get(n)) or bad
    if how == "all" or (how == "one-or-all" and len(bad) > 1):
        return None
    if how == "rated":
        rounds = min(s.cleans_of(n) for n in bad)
        due = [n for n in bad if s.cleans_of(n) == rounds]
        worst = max(SEVERITIES.index(s.severity[n]) for n in due)
        return tuple(n for n in due if SEVERITIES.index(s.severity[n]) == worst)
    return bad


def rate(s: Situation, channels: tuple[str, ...] | None) -> int:
    """How bad the worst of some channels is, 1 (clear) to 4."""
    return max((RATES[s.severity.get(name, "clear")] for name in channels or s.bad_channels), default=1)


def narrowed(step: StepName, s: Situation, channels: tuple[str, ...] | None) -> StepName:
    """The narrowest clean the printer can do for the channels at fault: never all channels for one."""
    if step != "clean" or not channels:
        return step
    able, every = s.case.printer.abilities, {c.group for c in s.case.printer.channels}
    if "channel_clean" in able and len(channels) == 1:
        return "channel_clean"
    groups = {c.group for c in s.case.printer.channels if c.name in channels}
    if "group_clean" in able and len(groups) == 1 and None not in groups and len(every) > 1:
        return "group_clean"
    if "clean" not in able:
        return "channel_clean" if "channel_clean" in able else "group_clean"
    return step
