"""The book: levels read, tanks filled, pads replaced, lines put right, tables brought in; what it says."""

from dataclasses import dataclass
from datetime import datetime, tzinfo

from dusky_sieve import files
from dusky_sieve.core.case import Channel, LevelEvent
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.ledger import (
    Books,
    Entry,
    Forecast,
    Lessons,
    Line,
    Unit,
    fills_to,
    forecast,
    in_ml,
    learn,
    read_csv,
    replay,
    standing,
)
from dusky_sieve.core.ledger.use import Month, by_month
from dusky_sieve.services.cases import open_case_of
from dusky_sieve.store import BookLine, PrinterRecord, Store


@dataclass(frozen=True)
class Account:
    """A printer's book: every line, what it comes to, what was learnt, where ink went by month."""

    lines: list[BookLine]
    numbered: dict[int, Entry]
    books: Books
    lessons: Lessons
    months: tuple[Month, ...]


def account_of(store: Store, printer: PrinterRecord, zone: tzinfo) -> Account:
    """The whole book of a printer, worked out once until the book changes."""

    def make() -> Account:
        lines = store.lines(printer.id)
        numbered = {line.number: line.entry for line in lines}
        lessons = learn(printer.printer, numbered, files.step_table())
        books = replay(printer.printer, numbered)
        return Account(lines, numbered, books, lessons, by_month(printer.printer, books, numbered, zone))

    return store.remembered(printer.id, ("account", str(zone)), make)


def forecast_of(store: Store, printer: PrinterRecord, now: datetime, zone: tzinfo) -> Forecast:
    """The days ahead of a printer, to the hour."""
    account = account_of(store, printer, zone)

    def make() -> Forecast:
        return forecast(printer.printer, account.numbered, account.books, account.lessons, files.step_table(), now)

    return store.remembered(printer.id, ("ahead", now.replace(minute=0, second=0, microsecond=0)), make)


def level_read(
    store: Store, printer: PrinterRecord, channel: str, value: float, person: str, now: datetime, *, unit: Unit = "ml", at: datetime | None = None
) -> None:  # fmt: skip
    """Books a tank level that somebody read off, in whatever unit, now or at an earlier time."""
    found, when = _channel(printer, channel), at or now
    reading = in_ml(found, value, unit)
    if when > now:
        raise UnusableInput(f"{channel}: {when:%d %b %H:%M} lies ahead. Give the time at which the level was read.")
    last_fill = max((e.at for _, e in _held(store, printer) if e.what == "fill" and e.channel == channel), default=None)
    if last_fill is not None and when < last_fill:
        raise UnusableInput(
            f"{channel}: it was filled on {last_fill:%d %b %H:%M}, and a level from before says nothing of what is in it now. Read it again."
        )
    case = open_case_of(store, printer.id)
    entry = Entry(at=when, what="level", channel=channel, ink_ml=reading.ml, sigma_ml=reading.sigma_ml, said=reading.said, entered=now)  # fmt: skip
    event = LevelEvent(kind="level", at=when, channel=channel, level_ml=reading.ml)
    store.add_event(printer.id, case.id if case else None, event, person, entries=[entry])


def filled(store: Store, printer: PrinterRecord, channel: str, ml: float | None, person: str, now: datetime) -> None:
    """Books ink put into a tank: so much, or up to the top where no amount is said."""
    found = _channel(printer, channel)
    if ml is None:
        if found.capacity_ml is None:
            raise UnusableInput(f"{channel}: filled up to what? Say how much went in, or set what its tank holds.")
        entries = list(fills_to(printer.printer, dict(_held(store, printer)), [channel], now))
    else:
        level = replay(printer.printer, dict(_held(store, printer)), now).levels[channel]
        if found.capacity_ml is not None and (level or 0.0) + ml > found.capacity_ml * 1.05:
            raise UnusableInput(
                f"{channel}: {ml:g} ml on top of {level or 0:.0f} ml are more than its tank of {found.capacity_ml:g} ml holds. Read its level first."
            )
        entries = [Entry(at=now, what="fill", channel=channel, ink_ml=ml, basis="measured", said=f"{ml:g} ml", entered=now)]  # fmt: skip
    store.book(printer.id, None, entries, person)


def pad_said(store: Store, printer: PrinterRecord, used_ml: float, person: str, now: datetime) -> None:
    """Books that the pad was replaced (holds nothing), or what it holds by the printer's own count."""
    pad = printer.printer.waste
    if pad is None:
        raise OutOfTurn(f"{printer.name} has no waste pad in its papers. Set it up with one first.")
    if used_ml == 0 and not pad.replaceable:
        raise OutOfTurn(f"{printer.name}'s pad cannot be replaced, so it cannot be empty. Say what it holds instead.")
    if used_ml > pad.capacity_ml:
        raise UnusableInput(f"Pad: {used_ml:g} ml are more than the {pad.capacity_ml:g} ml it holds.")
    store.book(printer.id, None, [Entry(at=now, what="pad", ink_ml=used_ml, entered=now)], person)


def put_right(
    store: Store, printer: PrinterRecord, number: int, value: float | None, person: str, now: datetime
) -> None:
    """Puts another line in the place of a wrong one, or none where no amount is said. The wrong one stays to be seen."""
    line = next((x for x in store.lines(printer.id) if x.number == number), None)
    if line is None or not line.holds:
        raise OutOfTurn(f"Line {number} does not hold any more: it was put right before, or was never there.")
    old = line.entry
    if value is None:
        new = Entry(at=now, what="void", replaces=number, entered=now)
    else:
        channel = _channel(printer, old.channel) if old.channel else None
        room = channel if channel is not None else printer.printer.waste
        most = room.capacity_ml if room is not None else None
        if most is not None and value > most:
            raise UnusableInput(f"Line {number}: {value:g} ml are more than the {most:g} ml there is room for.")
        share = old.waste_ml / old.ink_ml if old.ink_ml else 0.0
        price = channel.price_per_ml if channel is not None and old.spends else 0.0
        new = old.model_copy(
            update={
                "ink_ml": value, "low_ml": value, "high_ml": value, "waste_ml": round(value * share, 4), "cost": round(value * price, 4),
                "basis": "measured", "replaces": number, "entered": now, "said": f"put right, was {old.ink_ml:g} ml",
            }
        )  # fmt: skip
    store.book(printer.id, line.case_id, [new], person)


def brought_in(
    store: Store, printer: PrinterRecord, text: str, zone: tzinfo, person: str, now: datetime, *, all_or_nothing: bool
) -> tuple[tuple[Line, ...], bool]:
    """Books the lines of a table that can be booked; gives every line, and whether anything was booked."""
    lines = read_csv(text, printer.printer, store.numbered(printer.id), zone, now)
    entries = [line.entry for line in lines if line.entry is not None]
    refused = any(line.why for line in lines)
    if not entries or (all_or_nothing and refused):
        return lines, False
    store.book(printer.id, None, entries, person)
    return lines, True


def set_tanks(store: Store, printer: PrinterRecord, told: dict[str, dict[str, float | None]]) -> None:
    """Keeps what a printer's tanks are: by channel what they hold, window, weight when empty, price of a millilitre."""
    channels = []
    for channel in printer.printer.channels:
        fields = told.get(channel.name, {})
        if fields.get("window_mm") == 0 or fields.get("capacity_ml") == 0:
            raise UnusableInput(f"{channel.name}: a tank of nothing holds nothing. Leave the field empty where it is not known.")  # fmt: skip
        price = fields.get("price_per_ml", channel.price_per_ml) or 0.0
        channels.append(Channel.model_validate(channel.model_dump() | fields | {"price_per_ml": price}))
    store.change_printer(printer.id, printer.printer.model_copy(update={"channels": tuple(channels)}))


def _held(store: Store, printer: PrinterRecord) -> list[tuple[int, Entry]]:
    return standing(store.numbered(printer.id))


def _channel(printer: PrinterRecord, name: str) -> Channel:
    found = next((c for c in printer.printer.channels if c.name == name), None)
    if found is None:
        raise UnusableInput(f"{printer.name} has no channel “{name}”.")
    return found
