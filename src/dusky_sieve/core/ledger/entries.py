"""The book: what steps took from each tank, what went to the pad, what that cost. Entries are only ever added."""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Literal

from dusky_sieve.core.case import Case, Channel, LevelEvent, Printer, StepEvent
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.steps import Range, StepName, StepTable

What = Literal["step", "print", "fill", "level", "pad", "void"]


class Entry(Frozen):
    """One line of the book; never changed, only replaced by a later one.

    what : "step" ink that a step or a sheet took from a tank, "print" ink that prints took, "fill" ink put in,
    "level" what was read off a tank, "pad" what the pad holds from then on, "void" nothing: the line it replaces was wrong
    ink_ml : that amount; low_ml, high_ml : its range; waste_ml : the part that went to the pad, the rest lies on paper
    units : how many times a step's usual amount; sigma_ml : one-sigma of a reading; said : a reading as it was read
    basis : "estimate" until somebody measured it
    replaces : number of the line that this one stands for instead; entered : when it was written down
    """

    at: datetime
    what: What = "step"
    step: StepName | None = None
    channel: str = ""
    ink_ml: float = 0.0
    low_ml: float = 0.0
    high_ml: float = 0.0
    waste_ml: float = 0.0
    cost: float = 0.0
    basis: Literal["estimate", "measured"] = "estimate"
    units: float = 1.0
    sigma_ml: float | None = None
    said: str = ""
    replaces: int | None = None
    entered: datetime | None = None

    @property
    def spends(self) -> bool:
        """Whether ink left a tank for good."""
        return self.what in ("step", "print")


class Total(Frozen):
    """What a stretch of the book adds up to."""

    ink_ml: float = 0.0
    low_ml: float = 0.0
    high_ml: float = 0.0
    waste_ml: float = 0.0
    cost: float = 0.0
    by_channel: dict[str, float] = {}
    measured: bool = False


def channels_touched(printer: Printer, step: StepName, wanted: Iterable[str] | None, table: StepTable) -> list[Channel]:
    """Channels that a step draws ink from: all, a whole cap group, or those named (all where none is)."""
    reach = table[step].reach
    names = set(wanted) if wanted else {c.name for c in printer.channels}
    if reach == "none":
        return []
    if reach == "all":
        return list(printer.channels)
    if reach == "group":
        groups = {c.group for c in printer.channels if c.name in names}
        return [c for c in printer.channels if c.group in groups]
    return [c for c in printer.channels if c.name in names]


def book_step(printer: Printer, step: StepEvent, table: StepTable, *, share: float = 1.0) -> tuple[Entry, ...]:
    """Entries for a finished step: what was measured where it was, the starting estimates elsewhere.

    share : of the step that was done, where it was broken off
    """
    facts = table[step.step]
    touched = channels_touched(printer, step.step, step.channels, table)
    if step.step == "check":
        touched = list(printer.channels)
    pages = step.sheets if step.step == "paper_flush" and step.sheets else 1
    named = {c.name: c for c in printer.channels}
    usual = facts.ink(1).typical
    amounts: dict[str, tuple[Range, bool]] = {}
    for channel in touched:
        one = facts.ink(step.level)
        amounts[channel.name] = (
            Range(
                low=one.low * pages * share,
                typical=one.typical * pages * share,
                high=one.high * pages * share,
            ),
            False,
        )
    for name, measured in (step.ink_ml or {}).items():
        amounts[name] = Range(low=measured, typical=measured, high=measured), True
    entries = []
    for name, (ink, known) in amounts.items():
        entries.append(
            Entry(
                at=step.at, step=step.step, channel=name, ink_ml=_ml(ink.typical), low_ml=_ml(ink.low), high_ml=_ml(ink.high),
                waste_ml=_ml(ink.typical * facts.waste_share), cost=round(ink.typical * named[name].price_per_ml, 4),
                basis="measured" if known else "estimate", units=round(ink.typical / usual, 4) if usual and not known else 1.0,
            )
        )  # fmt: skip
    return tuple(entries)


def add_up(entries: Iterable[Entry]) -> Total:
    """The sum of entries, in all and by channel."""
    by_channel: dict[str, float] = defaultdict(float)
    ink = low = high = waste = cost = 0.0
    measured = True
    for entry in entries:
        if not entry.spends:
            continue
        by_channel[entry.channel] += entry.ink_ml
        ink, low, high = ink + entry.ink_ml, low + entry.low_ml, high + entry.high_ml
        waste, cost = waste + entry.waste_ml, cost + entry.cost
        measured &= entry.basis == "measured"
    return Total(
        ink_ml=_ml(ink), low_ml=_ml(low), high_ml=_ml(high), waste_ml=_ml(waste), cost=round(cost, 4),
        by_channel={name: _ml(v) for name, v in by_channel.items()}, measured=measured,
    )  # fmt: skip


def levels_now(case: Case, table: StepTable) -> dict[str, float | None]:
    """Each tank's level in ml after the case's steps and level readings; None where it was never known."""
    levels: dict[str, float | None] = {c.name: c.level_ml for c in case.printer.channels}
    capacity: Mapping[str, float | None] = {c.name: c.capacity_ml for c in case.printer.channels}
    for event in case.events:
        if isinstance(event, LevelEvent):
            levels[event.channel] = event.level_ml
        elif isinstance(event, StepEvent) and event.step == "refill":
            for name in event.channels or levels:
                levels[name] = capacity[name] if capacity[name] is not None else levels[name]
        elif isinstance(event, StepEvent):
            for entry in book_step(case.printer, event, table):
                known = levels[entry.channel]
                levels[entry.channel] = None if known is None else max(0.0, _ml(known - entry.ink_ml))
    return levels


def pad_used(case: Case, table: StepTable) -> float | None:
    """Ink in the pad, ml, after the case's steps; None where the printer's pad is not known."""
    if case.printer.waste is None:
        return None
    used = case.printer.waste.used_ml
    for event in case.events:
        if isinstance(event, StepEvent):
            used += (
                event.waste_ml if event.waste_ml is not None else add_up(book_step(case.printer, event, table)).waste_ml
            )
        elif event.kind == "note" and event.facts.get("pad_replaced"):
            used = 0.0
    return _ml(used)


def _ml(value: float) -> float:
    return round(value, 4)
