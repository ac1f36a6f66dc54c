"""The calendar: an agenda over all printers, and a month of days."""

from calendar import Calendar as Weeks
from dataclasses import dataclass
from datetime import date, datetime, timedelta, tzinfo

from dusky_sieve import files, services
from dusky_sieve.core.upkeep import IdleRecord, ahead
from dusky_sieve.services import Item
from dusky_sieve.store import PrinterRecord, Store
from dusky_sieve.web import words

PARTS = (("now", "Now"), ("today", "Today"), ("week", "This week"), ("later", "Later"))
LATER_SHOWN = 12


@dataclass(frozen=True)
class Entry:
    """A line of the agenda."""

    item: Item
    when: str
    key: str
    late: str
    do: str


@dataclass(frozen=True)
class Day:
    """A day of the month: what falls on it, by printer."""

    number: int
    inside: bool
    today: bool
    words: tuple[str, ...]


@dataclass(frozen=True)
class Upkeep:
    """A printer's intervals, and what its record says of standing idle."""

    record: PrinterRecord
    tasks: tuple[tuple[str, str, float], ...]
    idle: IdleRecord
    idle_words: str


@dataclass(frozen=True)
class CalendarView:
    """Everything the calendar page lays out."""

    heading: str
    parts: tuple[tuple[str, tuple[Entry, ...]], ...]
    month: str
    before: str
    after: str
    weeks: tuple[tuple[Day, ...], ...]
    upkeep: tuple[Upkeep, ...]


def calendar(store: Store, now: datetime, zone: tzinfo, month: str) -> CalendarView:
    """The view of the room's calendar; `month` as 2031-03, this one where it makes no sense."""
    items = services.agenda(store, now, zone)
    today = now.astimezone(zone).date()
    try:
        first = datetime.strptime(month, "%Y-%m").date()
    except ValueError:
        first = today.replace(day=1)
    parts = []
    for key, title in PARTS:
        lines = [_entry(i, now, zone) for i in items if i.where == key]
        parts.append((title, tuple(lines[:LATER_SHOWN] if key == "later" else lines)))
    return CalendarView(
        heading=_heading(items), parts=tuple(parts), month=first.strftime("%B %Y"),
        before=f"{first - timedelta(days=1):%Y-%m}", after=f"{(first + timedelta(days=32)).replace(day=1):%Y-%m}",
        weeks=_weeks(items, first, today, zone), upkeep=tuple(_upkeep(store, p) for p in store.printers()),
    )  # fmt: skip


def _heading(items: list[Item]) -> str:
    due = [i for i in items if i.where == "now"]
    if not due:
        later = [i for i in items if i.where == "today"]
        return f"{words.capital(words.plural(len(later), 'thing'))} later today." if later else "Nothing is due today."
    names = list(dict.fromkeys(i.printer.name for i in due))
    return f"{words.capital(words.plural(len(due), 'thing'))} {'is' if len(due) == 1 else 'are'} due on {words.listed(names)}."


def _entry(item: Item, now: datetime, zone: tzinfo) -> Entry:
    at, days = item.at.astimezone(zone), (now - item.at).days
    late = f"{words.plural(days, 'day')} late" if item.where == "now" and item.task and days >= 1 else ""
    when = f"{at:%H:%M}" if item.task is None and item.where in ("now", "today") else f"{at:%a} {at.day} {at:%b}"
    key = f"{item.printer.slug}-{item.task.name}" if item.task else ""
    return Entry(item, when, key, late, files.upkeep_table()[item.task.name].do if item.task else "")


def _weeks(items: list[Item], first: date, today: date, zone: tzinfo) -> tuple[tuple[Day, ...], ...]:
    found: dict[date, list[str]] = {}
    for item in items:
        days = [item.at]
        if item.task is not None:
            every = next(t for t in services.tasks_of(item.printer) if t.name == item.task.name)
            last = datetime.combine(first + timedelta(days=45), datetime.min.time(), zone)
            days = list(ahead(every, item.at, last)) if every.every_days >= 1 else days
        for at in days:
            words_of_day = found.setdefault(at.astimezone(zone).date(), [])
            said = f"{item.printer.name}: {item.title.lower()}"
            if said not in words_of_day:
                words_of_day.append(said)
    return tuple(
        tuple(Day(d.day, d.month == first.month, d == today, tuple(found.get(d, ()))) for d in week)
        for week in Weeks().monthdatescalendar(first.year, first.month)
    )


def _upkeep(store: Store, record: PrinterRecord) -> Upkeep:
    table = files.upkeep_table()
    own = {t.name: t.every_days for t in services.tasks_of(record)}
    idle = services.idle_of(store, record)
    tasks = tuple((name, facts.title, own.get(name, 0.0)) for name, facts in table.items())
    if idle.propose_days is None:
        said = f"{words.capital(words.plural(idle.stands, 'stand'))} on record: too few to say how long it may stand."
    else:
        chance = {int(d): p for d, p, _, _ in idle.chance}
        said = (
            f"From {idle.stands} stands: after a week idle {chance[7]:.0%} of its sheets have faults, after two {chance[14]:.0%}. "
            f"It may stand {idle.propose_days:.0f} days ({idle.propose_low:.0f} to {idle.propose_high:.0f}) before one sheet in five does."
        )
    return Upkeep(record, tasks, idle, said)
