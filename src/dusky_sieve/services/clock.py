"""The clock: what is due over all printers, what was said about it, and the feed that calendars subscribe to."""

import secrets
from dataclasses import dataclass, replace
from datetime import datetime, timedelta, tzinfo
from typing import Literal

import icalendar

from dusky_sieve import files
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.errors import UnknownThing, UnusableInput
from dusky_sieve.core.steps import WAITS
from dusky_sieve.core.upkeep import (
    Due,
    IdleRecord,
    Log,
    Stand,
    Task,
    TaskName,
    ahead,
    due,
    idle_record,
    planned,
    sort_out,
)
from dusky_sieve.core.upkeep.idle import STOOD
from dusky_sieve.services.cases import open_case_of, step_under_way
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, Store

FEED = "calendar"
AHEAD = timedelta(weeks=10)  # of upkeep in the feed


@dataclass(frozen=True)
class Item:
    """One thing on the agenda: upkeep of a printer, or the end of a rest or soak."""

    printer: PrinterRecord
    at: datetime
    where: Literal["now", "today", "week", "later"]
    title: str
    aside: str
    task: Due | None
    href: str


def tasks_of(printer: PrinterRecord) -> tuple[Task, ...]:
    """A printer's upkeep with its own intervals."""
    return planned(printer.printer, files.upkeep_table(), dict(printer.habits.intervals))


def due_of(store: Store, printer: PrinterRecord, now: datetime) -> list[Due]:
    """When each of a printer's tasks is due."""
    return store.remembered(printer.id, ("due", now.date()), lambda: _due_of(store, printer, now))


def _due_of(store: Store, printer: PrinterRecord, now: datetime) -> list[Due]:
    done = list(store.last_done(printer.id).items())
    logs = store.upkeep(printer.id)
    done += [("exercise", log.at) for log in logs if log.name == "exercise" and log.what == "done"]
    since = min((at for _, at in done), default=now)
    return [due(task, files.upkeep_table(), done, logs, since) for task in tasks_of(printer)]


def agenda(store: Store, now: datetime, zone: tzinfo) -> list[Item]:
    """Everything that is due or will be, soonest first."""
    today = now.astimezone(zone)
    midnight = (today + timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0)
    items: list[Item] = []
    for printer in store.printers():
        case, running = store.remembered(printer.id, ("running",), lambda printer=printer: _running(store, printer))  # type: ignore[misc]
        resting = False
        if case is not None and running is not None and isinstance(running.event, StepEvent) and running.event.until:
            resting = running.event.step in WAITS and running.event.until > now
            title = f"{files.step_table()[running.event.step].title} ends"
            items.append(Item(printer, running.event.until, sort_out(running.event.until, now, midnight), title, "then check without cleaning", None, f"/cases/{case.id}/next"))  # fmt: skip
        for task in due_of(store, printer, now):
            facts = files.upkeep_table()[task.name]
            said = f"last {task.last.astimezone(zone):%-d %b}" if task.last else "not done here yet"
            aside = "it rests; afterwards" if resting else "moved" if task.moved else said
            href = f"/printers/{printer.slug}/sheet-in" if task.name == "check" else ""
            items.append(Item(printer, task.at, sort_out(task.at, now, midnight), facts.title, aside, task, href))
    return sorted(items, key=lambda i: i.at)


def _running(store: Store, printer: PrinterRecord) -> tuple[CaseRecord | None, EventRecord | None]:
    case = open_case_of(store, printer.id)
    return case, step_under_way(store, case) if case else None


def say_of_task(
    store: Store, printer: PrinterRecord, name: TaskName, what: Literal["done", "skipped", "moved"], person: str, now: datetime,
    *, until: datetime | None = None, reason: str = "",
) -> None:  # fmt: skip
    """Keeps that a task was done, skipped with a reason, or moved to a day."""
    if name not in {t.name for t in tasks_of(printer)}:
        raise UnusableInput(f"{printer.name} has no such task as “{name}”.")
    if what == "skipped" and not reason.strip():
        raise UnusableInput("Skipped: say why in a word, so that the next person knows.")
    if what == "moved" and (until is None or until <= now):
        raise UnusableInput("Moved: to which day? It must lie ahead.")
    store.add_upkeep(printer.id, Log(name=name, at=now, what=what, until=until, reason=reason.strip()[:200]), person)


def keep_intervals(store: Store, printer: PrinterRecord, days: dict[TaskName, float]) -> None:
    """Sets a printer's own intervals; tasks left out follow its kind."""
    for name, every in days.items():
        if 0 < every < 0.5 or every > 400:
            raise UnusableInput(f"{name}: between half a day and 400 days, or 0 for never; found {every:g}.")
    store.keep_habits(printer.id, replace(printer.habits, intervals=days))


def idle_of(store: Store, printer: PrinterRecord) -> IdleRecord:
    """What standing idle cost this printer: each accepted sheet that came after it had stood."""
    return store.remembered(printer.id, ("idle",), lambda: _idle_of(store, printer))


def _idle_of(store: Store, printer: PrinterRecord) -> IdleRecord:
    events: list[tuple[datetime, int | None]] = [(at, None) for at, _ in store.step_times(printer.id)]
    events += store.sheet_times(printer.id)
    before: datetime | None = None
    stands: list[Stand] = []
    for at, bad in sorted(events, key=lambda e: e[0]):
        if bad is not None and before is not None and at - before >= STOOD:
            stands.append(Stand(days=(at - before).total_seconds() / 86_400, faulty=bad > 0))
        before = at
    return idle_record(stands)


def feed_secret(store: Store, *, renew: bool = False) -> str:
    """The secret in the feed's address; renewing it shuts out whoever had the old one."""
    known = None if renew else store.secret(FEED)
    if known is None:
        known = secrets.token_urlsafe(24)
        store.keep_secret(FEED, known)
    return known


def feed(store: Store, secret: str, now: datetime, zone: tzinfo, room: str) -> bytes:
    """The agenda as an iCalendar document (RFC 5545); UnknownThing where the secret is not today's."""
    known = store.secret(FEED)
    if known is None or not secrets.compare_digest(known.encode(), secret.encode()):
        raise UnknownThing("This calendar address is not valid any more. The calendar page has the new one.")
    calendar = icalendar.Calendar()
    calendar.add("prodid", "-//Dusky Sieve//room calendar//EN")
    calendar.add("version", "2.0")
    calendar.add("x-wr-calname", room)
    for item in agenda(store, now, zone):
        if item.task is None:
            _event(
                calendar,
                f"rest-{item.href.strip('/').replace('/', '-')}-{item.at:%Y%m%d%H%M}",
                f"{item.printer.name}: {item.title.lower()}",
                item.at,
                now,
                item.aside,
            )
            continue
        days = next(t.every_days for t in tasks_of(item.printer) if t.name == item.task.name)
        first = max(item.at, now)
        for at in ahead(Task(name=item.task.name, every_days=max(1.0, days)), first, now + AHEAD):
            uid = f"{item.printer.slug}-{item.task.name}-{at.astimezone(zone):%Y%m%d}"
            _event(calendar, uid, f"{item.printer.name}: {item.title.lower()}", at.astimezone(zone).date(), now, files.upkeep_table()[item.task.name].do)  # fmt: skip
    return bytes(calendar.to_ical())


def _event(calendar: icalendar.Calendar, uid: str, title: str, at: object, now: datetime, about: str) -> None:
    event = icalendar.Event()
    event.add("uid", f"{uid}@dusky-sieve")
    event.add("dtstamp", now)
    event.add("dtstart", at)
    event.add("summary", title)
    event.add("description", about)
    calendar.add_component(event)
