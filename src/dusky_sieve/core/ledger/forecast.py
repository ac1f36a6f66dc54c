"""What the book says of the days ahead: tanks, deep cleans, the pad, each with its range."""

import math
from datetime import datetime, timedelta

from dusky_sieve.core.case import Printer
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.ledger.entries import Entry
from dusky_sieve.core.ledger.learn import PRINTS, Lessons
from dusky_sieve.core.ledger.replay import Books, Numbered
from dusky_sieve.core.steps import StepTable

WINDOW = timedelta(days=60)  # of the past that says how often steps are done
LEAST_WINDOW = timedelta(days=7)  # a rate from fewer days says nothing
LOW_SHARE = 0.1  # of a tank: most printers warn about there
DEEP_SHARE = 1 / 3  # of every tank, under which no deep clean is done; job table
PAD_EARLY = (0.8, 0.9, 0.95)  # shares of the pad that are said


class TankForecast(Frozen):
    """One tank: what is in it now by estimate, use a day, and days until it is low; None where that is not known."""

    channel: str
    level_ml: float | None
    low_ml: float | None
    high_ml: float | None
    a_day_ml: float
    days: float | None
    days_low: float | None
    days_high: float | None


class Forecast(Frozen):
    """The days ahead of one printer.

    deep_tank, deep_pad : deep cleans that the tanks, and the pad, still allow; None where they are not known
    pad_days : until the pad is full at this rate; pad_said : the highest of the shares said early that is reached
    """

    tanks: tuple[TankForecast, ...]
    deep_tank: int | None
    deep_pad: int | None
    pad_share: float | None
    pad_said: float | None
    pad_days: float | None
    pad_a_day_ml: float


def forecast(
    printer: Printer, lines: Numbered, books: Books, lessons: Lessons, table: StepTable, now: datetime
) -> Forecast:
    """What to expect, from what is in the tanks by `books` and how this printer uses ink."""
    gone = {e.replaces for e in lines.values() if e.replaces is not None}
    first = min((e.at for e in lines.values()), default=now)
    days = max(LEAST_WINDOW, min(WINDOW, now - first)).total_seconds() / 86_400
    recent = [
        e for n, e in lines.items() if e.what == "step" and timedelta(0) <= now - e.at <= WINDOW and n not in gone
    ]
    tanks = tuple(
        _tank(c.name, c.capacity_ml, books.levels[c.name], books.read_at[c.name] or first, recent, lessons, days, now)
        for c in printer.channels
    )
    waste = sum(_amount(e, lessons) * (e.waste_ml / e.ink_ml) for e in recent if e.ink_ml > 0) / days
    share = pad_days = said = deep_pad = None
    deep = {c.name: _deep(c.name, lessons, table) for c in printer.channels}
    if printer.waste is not None and books.pad_ml is not None and printer.waste.capacity_ml > 0:
        left = printer.waste.capacity_ml - books.pad_ml
        share = books.pad_ml / printer.waste.capacity_ml
        said = max((s for s in PAD_EARLY if share >= s), default=None)
        pad_days = max(0.0, left / waste) if waste > 0 else None
        deep_pad = max(0, math.floor(left / sum(deep.values())))
    return Forecast(
        tanks=tanks, deep_tank=_deep_left(printer, tanks, deep), deep_pad=deep_pad,
        pad_share=share, pad_said=said, pad_days=pad_days, pad_a_day_ml=waste,
    )  # fmt: skip


def _tank(
    name: str, capacity: float | None, level: float | None, since: datetime, recent: list[Entry], lessons: Lessons, days: float, now: datetime
) -> TankForecast:  # fmt: skip
    prints = lessons.of(name, PRINTS)
    learnt = prints is not None and prints.times > 0
    a_day, low, high = (prints.ml, prints.low_ml, prints.high_ml) if prints is not None and learnt else (0.0, 0.0, 0.0)
    steps = sum(_amount(e, lessons) for e in recent if e.channel == name) / days
    if level is None:
        nothing = None
        return TankForecast(channel=name, level_ml=None, low_ml=None, high_ml=None, a_day_ml=a_day + steps, days=nothing, days_low=nothing, days_high=nothing)  # fmt: skip
    gone = max(0.0, (now - since).total_seconds() / 86_400)
    here, least, most = (max(0.0, level - use * gone) for use in (a_day, high, low))
    floor = LOW_SHARE * capacity if capacity else 0.0

    def until(ml: float, use: float) -> float | None:
        return max(0.0, (ml - floor) / use) if use > 1e-6 else None

    return TankForecast(
        channel=name, level_ml=round(here, 2), low_ml=round(least, 2), high_ml=round(most, 2), a_day_ml=round(a_day + steps, 4),
        days=until(here, a_day + steps), days_low=until(least, high + steps), days_high=until(most, low + steps),
    )  # fmt: skip


def _amount(entry: Entry, lessons: Lessons) -> float:
    """What a booked step took, by what was learnt since where that is sure."""
    known = lessons.of(entry.channel, entry.step or "")
    return known.ml * entry.units if known is not None and known.sure and entry.basis != "measured" else entry.ink_ml


def _deep(channel: str, lessons: Lessons, table: StepTable) -> float:
    known = lessons.of(channel, "deep_clean")
    return known.ml if known is not None and known.sure else table["deep_clean"].ink(1).typical


def _deep_left(printer: Printer, tanks: tuple[TankForecast, ...], deep: dict[str, float]) -> int | None:
    """Deep cleans one after another until some tank is below the threshold; None where a tank is not known."""
    counts = []
    for channel, known in zip(printer.channels, tanks, strict=True):
        if known.level_ml is None or not channel.capacity_ml:
            return None
        spare = known.level_ml - DEEP_SHARE * channel.capacity_ml
        counts.append(0 if spare < 0 else 1 + math.floor(spare / deep[channel.name]))
    return min(counts, default=None)
