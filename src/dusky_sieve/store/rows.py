"""Between rows of the tables and the records that leave this package."""

import json
from datetime import UTC, datetime

from pydantic import TypeAdapter

from dusky_sieve.core.case import ChannelFaults, LevelEvent, NoteEvent, Printer, StepEvent
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.ledger import Entry
from dusky_sieve.core.reading import Change, Reading
from dusky_sieve.store import tables as t
from dusky_sieve.store.records import (
    CaseRecord,
    EventRecord,
    Habits,
    PhoneRecord,
    PhotoRecord,
    PrinterRecord,
    SheetRecord,
)

_EVENT: TypeAdapter[StepEvent | LevelEvent | NoteEvent] = TypeAdapter(StepEvent | LevelEvent | NoteEvent)
_FAULTS: TypeAdapter[dict[str, ChannelFaults]] = TypeAdapter(dict[str, ChannelFaults])
_HABITS: TypeAdapter[Habits] = TypeAdapter(Habits)
_CHANGES: TypeAdapter[tuple[Change, ...]] = TypeAdapter(tuple[Change, ...])


def key(value: int | None) -> int:
    """The key of a row that was flushed."""
    assert value is not None  # the row was flushed
    return value


def iso(at: datetime) -> str:
    """A moment as text, UTC."""
    return at.astimezone(UTC).isoformat(timespec="seconds")


def time_of(text: str) -> datetime:
    """The moment a text says."""
    return datetime.fromisoformat(text)


def faults_json(faults: dict[str, ChannelFaults] | None) -> str | None:
    """Faults per channel as text; nothing where nobody vouched for them."""
    return None if faults is None else _FAULTS.dump_json(faults).decode()


def changes_json(changes: tuple[Change, ...]) -> str:
    """Corrections of a sheet as text."""
    return _CHANGES.dump_json(changes).decode()


def entry_row(printer_id: int, case_id: int | None, event_id: int | None, entry: Entry, person: str) -> t.EntryRow:
    """A line of the book as a row: its document, and what is added up in columns of their own."""
    return t.EntryRow(
        printer_id=printer_id, case_id=case_id, event_id=event_id, document=entry.model_dump_json(exclude_defaults=True), what=entry.what,
        at=iso(entry.at), channel=entry.channel, ink_ml=entry.ink_ml, waste_ml=entry.waste_ml, cost=entry.cost, replaces=entry.replaces, person=person,
    )  # fmt: skip


def bad_of(faults: dict[str, ChannelFaults] | None) -> int | None:
    """Faults in all, an absent channel counted as one; nothing where nobody vouched for them."""
    if faults is None:
        return None
    return sum(1 if f.all_missing else len({*f.missing, *f.weak, *f.deflected}) for f in faults.values())


def printer_record(row: t.PrinterRow) -> PrinterRecord:
    """A printer's row as a record."""
    return PrinterRecord(
        id=key(row.id), slug=row.slug, name=row.name, about=row.about, printer=Printer.model_validate_json(row.document),
        layout=Layout.model_validate_json(row.layout), inks=json.loads(row.inks), sheet_note=row.sheet_note,
        habits=_HABITS.validate_json(row.habits),
    )  # fmt: skip


def habits_json(habits: Habits) -> str:
    """Habits as text."""
    return _HABITS.dump_json(habits).decode()


def phone_record(row: t.PhoneRow) -> PhoneRecord:
    """A paired phone's row as a record."""
    return PhoneRecord(row.digest, row.printer_id, time_of(row.until), row.state, row.sheet_id)


def photo_record(row: t.PhotoRow) -> PhotoRecord:
    """A photo's row as a record."""
    backing: Backing = "dark" if row.backing == "dark" else "light"
    return PhotoRecord(key(row.id), row.printer_id, row.digest, row.name, row.media, backing, time_of(row.arrived))


def _photos(row: t.SheetRow) -> tuple[int, ...]:
    return () if row.photo_id is None else (row.photo_id, *(json.loads(row.more_photos) if row.more_photos else ()))


def sheet_record(row: t.SheetRow, *, brief: bool | None = None) -> SheetRecord:
    """A sheet's row as a record; brief (whether it was read) leaves the reading itself out, which is most of it."""
    return SheetRecord(
        id=key(row.id), printer_id=row.printer_id, case_id=row.case_id, photo_ids=_photos(row), at=time_of(row.at),
        reading=Reading.model_validate_json(row.reading) if brief is None and row.reading else None,
        read=bool(row.reading) if brief is None else brief, bad=row.bad,
        faults=_FAULTS.validate_json(row.faults) if row.faults is not None else None,
        lines=json.loads(row.lines) if row.lines else {},
        changes=_CHANGES.validate_json(row.changes) if row.changes else (), why=row.why, person=row.person,
    )  # fmt: skip


def case_record(row: t.CaseRow) -> CaseRecord:
    """A case's row as a record."""
    return CaseRecord(
        id=key(row.id), printer_id=row.printer_id, number=row.number, opened=time_of(row.opened),
        closed=time_of(row.closed) if row.closed else None, outcome=row.outcome, start=Printer.model_validate_json(row.start),
    )  # fmt: skip


def event_record(row: t.EventRow) -> EventRecord:
    """An event's row as a record."""
    return EventRecord(
        id=key(row.id), printer_id=row.printer_id, case_id=row.case_id, event=_EVENT.validate_json(row.document),
        started=time_of(row.started) if row.started else None, finished=time_of(row.finished) if row.finished else None,
        dropped=time_of(row.dropped) if row.dropped else None, person=row.person,
    )  # fmt: skip
