"""Where ink went, month by month and by purpose: what reached a print, and what never did."""

from collections import defaultdict
from collections.abc import Iterator
from datetime import datetime, timedelta, tzinfo
from typing import Literal

from dusky_sieve.core.case import Printer
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.ledger.replay import PAD, PAPER, Books, Numbered, Transfer, drift, tank

Purpose = Literal["prints", "sheets", "paper", "pad"]
PURPOSES: tuple[Purpose, ...] = ("prints", "sheets", "paper", "pad")


class Month(Frozen):
    """One month: ml by purpose (prints, check sheets, cleaning onto paper, cleaning into the pad), and what it cost."""

    month: str
    ml: dict[Purpose, float]
    cost: float

    @property
    def total(self) -> float:
        """Ink in all, ml."""
        return sum(self.ml.values())

    @property
    def never_printed(self) -> float | None:
        """Share that never reached a print; None where nothing was used."""
        return None if self.total <= 0 else 1 - self.ml["prints"] / self.total


def by_month(printer: Printer, books: Books, lines: Numbered, zone: tzinfo) -> tuple[Month, ...]:
    """Use by calendar month of the room's zone, oldest first.

    What readings found beyond the booked steps is spread evenly over the time since the reading before.
    """
    ml: dict[str, dict[Purpose, float]] = defaultdict(lambda: dict.fromkeys(PURPOSES, 0.0))
    cost: dict[str, float] = defaultdict(float)
    price = {tank(c.name): c.price_per_ml for c in printer.channels}
    read: dict[str, datetime] = {}
    for entry in sorted(lines.values(), key=lambda e: e.at):
        if entry.what == "level":
            read.setdefault(entry.channel, entry.at)
    start = {drift(name): at for name, at in read.items()}
    for move in books.transfers:
        if move.at is None or not move.source.startswith("tank "):
            continue
        purpose = _purpose(move, lines)
        parts = [(move.at, move.ml)]
        if move.target in start:
            parts = list(_spread(start[move.target], move.at, move.ml))
            start[move.target] = move.at
        for at, part in parts:
            month = at.astimezone(zone).strftime("%Y-%m")
            ml[month][purpose] += part
            cost[month] += part * price.get(move.source, 0.0)
    return tuple(Month(month=m, ml=ml[m], cost=round(cost[m], 2)) for m in sorted(ml))


def _purpose(move: Transfer, lines: Numbered) -> Purpose:
    entry = lines.get(move.number)
    if move.target == PAD:
        return "pad"
    if move.target == PAPER and entry is not None and entry.what == "step":
        return "sheets" if entry.step == "check" else "paper"
    return "prints"


def _spread(start: datetime, end: datetime, ml: float) -> Iterator[tuple[datetime, float]]:
    days = max(1, round((end - start).total_seconds() / 86_400))
    for k in range(days):
        yield end - timedelta(days=k), ml / days
