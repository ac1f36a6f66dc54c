"""Upkeep that comes round: who needs what, when it was done, when it is due again."""

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from typing import Literal

from pydantic import Field

from dusky_sieve.core.case import Printer
from dusky_sieve.core.layout import Frozen

TaskName = Literal["check", "exercise", "care", "align", "idle"]
TASKS: tuple[TaskName, ...] = ("check", "exercise", "care", "align", "idle")
PRODUCTION_ML = 400.0  # a tank of this size belongs to a printer that earns its keep
EARLY = 0.25  # of an interval before its end, from which doing a task counts for the next time too
DAY = timedelta(days=1)


class TaskFacts(Frozen):
    """One kind of upkeep before a printer's own record is known. `counts` are what it is done by."""

    title: str
    every_days: float = Field(gt=0)
    daily_for: str = ""
    minutes: float
    counts: tuple[str, ...]
    do: str
    origin: str


UpkeepTable = dict[TaskName, TaskFacts]


class Task(Frozen):
    """A kind of upkeep of one printer. `proposed_days`: what its own record proposes instead, where it does."""

    name: TaskName
    every_days: float
    proposed_days: float | None = None


class Log(Frozen):
    """What was said about a task: done; skipped with a reason; moved to a day."""

    name: TaskName
    at: datetime
    what: Literal["done", "skipped", "moved"]
    until: datetime | None = None
    reason: str = ""


class Due(Frozen):
    """A task and when it is due. `last`: when it was last done."""

    name: TaskName
    at: datetime
    last: datetime | None
    moved: bool = False


def planned(printer: Printer, table: UpkeepTable, own: dict[TaskName, float]) -> tuple[Task, ...]:
    """A printer's tasks: its owner's intervals where there are any, else what its kind asks for. 0 days: not done here."""
    daily = any(c.role == "white" or (c.capacity_ml or 0) >= PRODUCTION_ML for c in printer.channels)
    tasks = []
    for name in TASKS:
        usual = 1.0 if name == "check" and daily else table[name].every_days
        days = own.get(name, usual)
        if days > 0:
            tasks.append(Task(name=name, every_days=days))
    return tuple(tasks)


def due(
    task: Task, table: UpkeepTable, done: Iterable[tuple[str, datetime]], logs: Iterable[Log], since: datetime
) -> Due:
    """When a task is due next.

    done : (what, when) of steps and sheets that count by themselves; since : when the printer was set up
    """
    counts = table[task.name].counts
    mine = [log for log in logs if log.name == task.name]
    times = [at for what, at in done if what in counts] + [log.at for log in mine if log.what == "done"]
    last = max(times, default=None)
    start = max([since if last is None else last, *(log.at for log in mine if log.what == "skipped")])
    moved = max((log for log in mine if log.what == "moved"), key=lambda log: log.at, default=None)
    if moved is not None and moved.until is not None and moved.at >= start:
        return Due(name=task.name, at=moved.until, last=last, moved=True)
    return Due(name=task.name, at=start + task.every_days * DAY, last=last)


def ahead(task: Task, first: datetime, until: datetime) -> Iterator[datetime]:
    """The days on which a task comes round, from its next one on."""
    at = first
    while at <= until:
        yield at
        at += task.every_days * DAY


def sort_out(at: datetime, now: datetime, midnight: datetime) -> Literal["now", "today", "week", "later"]:
    """Where a moment belongs on an agenda; `midnight` ends the room's own today."""
    if at <= now:
        return "now"
    if at < midnight:
        return "today"
    return "week" if at < midnight + 6 * DAY else "later"
