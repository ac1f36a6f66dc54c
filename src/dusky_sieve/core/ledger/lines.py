"""The book as a table of text, out and in again: level readings, fills and use as people keep them in a spreadsheet."""

import csv
import io
import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, time, tzinfo

from dusky_sieve.core.case import Channel, Printer
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.ledger.entries import Entry, What
from dusky_sieve.core.ledger.level import in_ml, measured
from dusky_sieve.core.ledger.replay import Numbered, standing

COLUMNS = ("time", "what", "channel", "amount", "step", "to pad", "cost", "basis", "as read")
MOST_LINES, MOST_BYTES = 20_000, 4_000_000
NAMES: dict[str, tuple[str, ...]] = {
    "time": ("time", "date", "when", "day"),
    "what": ("what", "kind", "type"),
    "channel": ("channel", "ink", "colour", "color"),
    "amount": ("amount", "ml", "value", "level", "quantity"),
}  # headings that are understood
KINDS: dict[str, What] = {"level": "level", "reading": "level", "fill": "fill", "refill": "fill", "print": "print", "use": "print", "pad": "pad"}  # fmt: skip


class Line(Frozen):
    """One line of a table that was brought in: the entry it makes, or why it makes none. `known`: it is in the book."""

    number: int
    text: str
    entry: Entry | None = None
    why: str = ""
    known: bool = False


def as_csv(lines: Numbered) -> str:
    """The lines that hold, oldest first, as comma separated text with a heading."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    for _, e in standing(lines):
        amount = f"{e.ink_ml:g} ml"
        said = "" if e.said.startswith(("=", "+", "-", "@")) else e.said  # a spreadsheet must not take it for a formula
        writer.writerow([e.at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"), e.what, e.channel, amount, e.step or "", f"{e.waste_ml:g}", f"{e.cost:g}", e.basis, said])  # fmt: skip
    return out.getvalue()


def read_csv(text: str, printer: Printer, book: Numbered, zone: tzinfo, now: datetime) -> tuple[Line, ...]:
    """Each line of a table, made into an entry or refused with its reason.

    Columns may stand in any order; comma, semicolon or tab between them; decimal point or comma; dates as 2031-03-02,
    02.03.2031 or 2 Mar 2031, with or without a time. What is in the book already is known and not doubled. Lines about
    steps are passed over: those are booked where the step is done.

    Raises UnusableInput where the text is no such table at all.
    """
    if len(text) > MOST_BYTES:
        raise UnusableInput("The file has more than 4 MB. Bring it in in parts; nothing was booked.")
    head = text.lstrip("\ufeff").split("\n", 1)[0]
    between = max(",;\t", key=head.count)
    try:
        rows = list(csv.reader(io.StringIO(text.lstrip("\ufeff"), newline=""), delimiter=between))
    except csv.Error as error:
        raise UnusableInput(f"The file is no table of text ({error}). Save it as CSV; nothing was booked.") from None
    places = _places(rows[0] if rows else [])
    if len(rows) > MOST_LINES:
        raise UnusableInput(f"The file has more than {MOST_LINES} lines. Bring it in in parts; nothing was booked.")
    seen = {_same(e) for _, e in standing(book)}
    filled = {e.channel: e.at for _, e in standing(book) if e.what == "fill"}
    channels = {c.name.lower(): c for c in printer.channels}
    lines: list[Line] = []
    for number, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        shown = between.join(row)[:120]
        try:
            entry = _entry([c.strip() for c in row], places, channels, zone, now)
        except UnusableInput as error:
            lines.append(Line(number=number, text=shown, why=str(error)))
            continue
        if entry is None or _same(entry) in seen:
            lines.append(Line(number=number, text=shown, known=True))
            continue
        if entry.what == "level" and entry.channel in filled and entry.at < filled[entry.channel]:
            when = filled[entry.channel].astimezone(zone)
            lines.append(Line(number=number, text=shown, why=f"{entry.channel} was filled on {when:%-d %b %Y}; a level from before says nothing of what is in it now."))  # fmt: skip
            continue
        seen.add(_same(entry))
        lines.append(Line(number=number, text=shown, entry=entry.model_copy(update={"entered": now})))
    return tuple(lines)


def _same(entry: Entry) -> tuple[datetime, str, str, float]:
    return entry.at.replace(microsecond=0), entry.what, entry.channel, round(entry.ink_ml, 2)


def _places(heading: Iterable[str]) -> dict[str, int]:
    cells = [re.sub(r"[^a-z ]", " ", cell.lower()).split() for cell in heading]
    found: dict[str, int] = {}
    for name, words in NAMES.items():
        for place, cell in enumerate(cells):
            if place not in found.values() and any(word in cell for word in words):
                found[name] = place
                break
    missing = [name for name in ("time", "channel", "amount") if name not in found]
    if missing:
        raise UnusableInput(f"The first line names no column for {missing[0]}: expected time, what, channel, amount in any order. Nothing was booked.")  # fmt: skip
    return found


def _entry(
    row: list[str], places: dict[str, int], channels: dict[str, Channel], zone: tzinfo, now: datetime
) -> Entry | None:
    """The entry of one row; none for a line about a step."""

    def cell(name: str) -> str:
        return row[places[name]] if name in places and places[name] < len(row) else ""

    kind = cell("what").lower() or "level"
    if kind in ("step", "void"):
        return None
    if kind not in KINDS:
        raise UnusableInput(f"“{kind[:20]}” is none of level, fill, print, pad.")
    what = KINDS[kind]
    at = moment(cell("time"), zone)
    if at > now:
        raise UnusableInput(f"{at.astimezone(zone):%-d %b %Y %H:%M} lies ahead of now.")
    value, unit = measured(cell("amount"))
    if what == "pad":
        if unit != "ml":
            raise UnusableInput("What the pad holds is said in ml.")
        return Entry(at=at, what="pad", ink_ml=value)
    channel = channels.get(cell("channel").lower())
    if channel is None:
        raise UnusableInput(f"“{cell('channel')[:30]}” is no channel of this printer: {', '.join(c.name for c in channels.values())}.")  # fmt: skip
    reading = in_ml(channel, value, unit)
    if what == "level":
        return Entry(
            at=at, what=what, channel=channel.name, ink_ml=reading.ml, sigma_ml=reading.sigma_ml, said=reading.said
        )
    cost = round(reading.ml * channel.price_per_ml, 4) if what == "print" else 0.0
    return Entry(
        at=at, what=what, channel=channel.name, ink_ml=reading.ml, cost=cost, basis="measured", said=reading.said
    )


def moment(text: str, zone: tzinfo) -> datetime:
    """A time as people write it, in the room's zone where none is said; UnusableInput names what was found."""
    said = text.strip()
    try:
        found = datetime.fromisoformat(said.replace("Z", "+00:00"))
        return found if found.tzinfo else found.replace(tzinfo=zone)
    except ValueError:
        pass
    match = re.fullmatch(r"(\d{1,2})\.\s?(\d{1,2})\.\s?(\d{4})(?:[ ,T]+(\d{1,2})[:.](\d{2}))?", said)
    try:
        if match:
            day = date(int(match[3]), int(match[2]), int(match[1]))
            return datetime.combine(day, time(int(match[4] or 12), int(match[5] or 0)), zone)
        for form in ("%d %b %Y %H:%M", "%d %b %Y", "%d %B %Y"):
            try:
                return datetime.strptime(said, form).replace(tzinfo=zone)
            except ValueError:
                continue
    except ValueError:
        pass
    slashed = re.fullmatch(r"(\d{1,2})/(\d{1,2})/(\d{4})", said)
    if slashed:
        raise UnusableInput(f"“{said}” may be two days: write 2031-03-02 or 02.03.2031.")
    raise UnusableInput(f"“{said[:20]}” is no date: write 2031-03-02, 02.03.2031 or 2 Mar 2031, with or without 14:30.")
