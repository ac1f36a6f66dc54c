"""The book played through: what lies in tanks, on paper and in the pad at any time, and where every millilitre went.

Double entry: each line moves ink from one account to another, so that all accounts together always hold nothing. Ink
comes from the bottle and lies in a tank, on paper, in the pad, or in a pad that was thrown away; what a level reading
says beyond the booked steps is the tank's drift, which nobody booked: prints, mostly.
"""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from dusky_sieve.core.case import Printer
from dusky_sieve.core.ledger.entries import Entry

FULL_SIGMA = 0.02  # one-sigma of a tank that was filled up, as a share of it
BOTTLE, PAPER, PAD, CARTED = "bottle", "paper", "pad", "carted off"
ORDER = {"pad": 0, "fill": 1, "step": 2, "print": 2, "level": 3}  # of lines of one moment: a reading comes last


def tank(channel: str) -> str:
    """The account of a channel's tank."""
    return f"tank {channel}"


def drift(channel: str) -> str:
    """The account of what left a channel's tank and nobody booked."""
    return f"drift {channel}"


class Transfer(NamedTuple):
    """Ink moved from one account to another by the line of this number, 0 for what was there at the start."""

    at: datetime | None
    source: str
    target: str
    ml: float
    number: int


@dataclass(frozen=True)
class Books:
    """What the book says at one moment.

    levels : ml in each tank, None where it was never known; read_at : when it was last read off or known
    pad_ml : ink in the pad, None where the printer's pad is not known; accounts : ml by account, summing to nothing
    """

    levels: dict[str, float | None]
    read_at: dict[str, datetime | None]
    pad_ml: float | None
    accounts: dict[str, float]
    transfers: tuple[Transfer, ...]


Numbered = Mapping[int, Entry]


def standing(lines: Numbered, known: datetime | None = None) -> list[tuple[int, Entry]]:
    """Lines that hold, in order of time: neither replaced nor void. With `known` only what was written down by then.

    The order is by time and content and not by number, so that a book written down in any order is the same book.
    """
    told = {n: e for n, e in lines.items() if known is None or e.entered is None or e.entered <= known}
    gone = {e.replaces for e in told.values() if e.replaces is not None}
    kept = [(n, e) for n, e in told.items() if n not in gone and e.what != "void"]
    return sorted(kept, key=lambda line: (line[1].at, ORDER[line[1].what], *_content(line[1])))


def _content(entry: Entry) -> tuple[str, str, float, float]:
    return entry.channel, entry.step or "", entry.ink_ml, entry.waste_ml


def replay(printer: Printer, lines: Numbered, until: datetime | None = None, known: datetime | None = None) -> Books:
    """The books at `until`, as they were known at `known`; both now where left out."""
    accounts: dict[str, float] = defaultdict(float)
    known_tank = {c.name: c.level_ml is not None for c in printer.channels}
    read_at: dict[str, datetime | None] = dict.fromkeys(known_tank)
    transfers: list[Transfer] = []

    def move(at: datetime | None, source: str, target: str, ml: float, number: int) -> None:
        if ml < 0:
            source, target, ml = target, source, -ml
        if ml > 0:
            accounts[source] -= ml
            accounts[target] += ml
            transfers.append(Transfer(at, source, target, ml, number))

    for channel in printer.channels:
        move(None, BOTTLE, tank(channel.name), channel.level_ml or 0.0, 0)
    if printer.waste is not None:
        move(None, BOTTLE, PAD, printer.waste.used_ml, 0)
    for number, entry in standing(lines, known):
        if until is not None and entry.at > until:
            break
        if entry.what == "pad":
            move(entry.at, PAD, CARTED, accounts[PAD] - entry.ink_ml, number)
        elif entry.channel not in known_tank:
            continue
        elif entry.what == "fill":
            move(entry.at, BOTTLE, tank(entry.channel), entry.ink_ml, number)
        elif entry.what == "level":
            off = accounts[tank(entry.channel)] - entry.ink_ml
            move(
                entry.at,
                tank(entry.channel),
                drift(entry.channel) if known_tank[entry.channel] else BOTTLE,
                off,
                number,
            )
            known_tank[entry.channel], read_at[entry.channel] = True, entry.at
        else:
            move(entry.at, tank(entry.channel), PAD, entry.waste_ml, number)
            move(entry.at, tank(entry.channel), PAPER, entry.ink_ml - entry.waste_ml, number)
    levels = {c: round(max(0.0, accounts[tank(c)]), 4) if sure else None for c, sure in known_tank.items()}
    pad = round(accounts[PAD], 4) if printer.waste is not None else None
    return Books(
        levels=levels, read_at=read_at, pad_ml=pad, accounts={k: round(v, 6) for k, v in accounts.items()}, transfers=tuple(transfers)
    )  # fmt: skip


def fills_to(printer: Printer, lines: Numbered, channels: Iterable[str], at: datetime) -> Iterator[Entry]:
    """Lines for channels that were filled up: as much as their tanks hold beyond what is in them by the book, and full.

    How much went in is an estimate; that the tank is full then is seen, and as good as a reading.
    """
    levels = replay(printer, lines, at).levels
    capacity = {c.name: c.capacity_ml for c in printer.channels}
    for name in channels:
        full = capacity[name]
        if full is None:
            continue
        lacks = full - (levels[name] or 0.0)
        if levels[name] is not None and lacks > 0:
            yield Entry(at=at, what="fill", channel=name, ink_ml=round(lacks, 4), step="refill")
        yield Entry(at=at, what="level", channel=name, ink_ml=full, sigma_ml=FULL_SIGMA * full, said="filled up")
