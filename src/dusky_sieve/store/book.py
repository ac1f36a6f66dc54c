"""Queries: printers, cases, ladders, events, the book, forms already acted on."""

import json
from collections.abc import Iterable
from datetime import datetime
from typing import Any

from sqlalchemy import update
from sqlmodel import col, func, select

from dusky_sieve.core.advice import Ladder, parse_ladder
from dusky_sieve.core.case import LevelEvent, NoteEvent, Printer, StepEvent
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.ledger import Entry
from dusky_sieve.store import tables as t
from dusky_sieve.store.base import changed
from dusky_sieve.store.ledger import LedgerQueries
from dusky_sieve.store.phones import PhoneQueries
from dusky_sieve.store.records import CaseRecord, EventRecord, Habits, PrinterRecord
from dusky_sieve.store.rows import (
    case_record,
    event_record,
    habits_json,
    iso,
    key,
    printer_record,
    time_of,
)
from dusky_sieve.store.sheets import SheetQueries


class Store(SheetQueries, LedgerQueries, PhoneQueries):
    """Everything that is kept in one data folder."""

    # Printers

    def printers(self) -> list[PrinterRecord]:
        """All printers in the room's order."""
        with self._read() as s:
            return [
                printer_record(row)
                for row in s.exec(select(t.PrinterRow).order_by(col(t.PrinterRow.position), col(t.PrinterRow.id)))
            ]

    def printer(self, slug: str) -> PrinterRecord | None:
        """A printer by its address."""
        with self._read() as s:
            row = s.exec(select(t.PrinterRow).where(t.PrinterRow.slug == slug)).first()
            return printer_record(row) if row else None

    def printer_by_id(self, printer_id: int) -> PrinterRecord | None:
        """A printer by its key."""
        with self._read() as s:
            row = s.get(t.PrinterRow, printer_id)
            return printer_record(row) if row else None

    def add_printer(
        self,
        slug: str,
        printer: Printer,
        layout: Layout,
        inks: dict[str, str],
        *,
        about: str = "",
        sheet_note: str = "",
        position: int = 0,
    ) -> int:
        """Sets a printer up; its levels and pad count as of now."""
        row = t.PrinterRow(
            slug=slug, name=printer.name, about=about, document=printer.model_dump_json(), layout=layout.model_dump_json(),
            inks=json.dumps(inks), sheet_note=sheet_note, position=position,
        )  # fmt: skip
        with self._write() as s:
            s.add(row)
            s.flush()
            return key(row.id)

    # Cases

    def cases(self, printer_id: int | None = None) -> list[CaseRecord]:
        """Cases, newest first, of one printer or of all."""
        query = select(t.CaseRow).order_by(col(t.CaseRow.opened).desc(), col(t.CaseRow.id).desc())
        if printer_id is not None:
            query = query.where(t.CaseRow.printer_id == printer_id)
        with self._read() as s:
            return [case_record(row) for row in s.exec(query)]

    def case(self, case_id: int) -> CaseRecord | None:
        """One case."""
        with self._read() as s:
            row = s.get(t.CaseRow, case_id)
            return case_record(row) if row else None

    def open_case(self, printer_id: int, at: datetime, start: Printer) -> int:
        """Opens a case, or gives the one that is open."""
        with self._write() as s:
            known = s.exec(
                select(t.CaseRow).where(t.CaseRow.printer_id == printer_id, col(t.CaseRow.closed).is_(None))
            ).first()
            if known:
                return key(known.id)
            number = 1 + (s.exec(select(func.max(t.CaseRow.number))).one() or 0)
            row = t.CaseRow(printer_id=printer_id, number=number, opened=iso(at), start=start.model_dump_json())
            s.add(row)
            s.flush()
            return key(row.id)

    def close_case(self, case_id: int, at: datetime, outcome: str) -> bool:
        """Closes a case. False: it was closed before."""
        with self._write() as s:
            change = update(t.CaseRow).where(col(t.CaseRow.id) == case_id, col(t.CaseRow.closed).is_(None))
            return changed(s, change.values(closed=iso(at), outcome=outcome))

    def reopen_case(self, case_id: int) -> bool:
        """Opens a closed case again. False: it is open, or its printer has another open one."""
        with self._write() as s:
            row = s.get(t.CaseRow, case_id)
            if row is None or row.closed is None:
                return False
            other = select(t.CaseRow).where(t.CaseRow.printer_id == row.printer_id, col(t.CaseRow.closed).is_(None))
            if s.exec(other).first() is not None:
                return False
            row.closed = row.outcome = None
            return True

    # Ladders that people made

    def ladders(self) -> list[Ladder]:
        """Own ladders, by id."""
        with self._read() as s:
            return [
                parse_ladder(row.document, row.id) for row in s.exec(select(t.LadderRow).order_by(col(t.LadderRow.id)))
            ]

    def keep_ladder(self, ladder: Ladder, at: datetime, person: str) -> None:
        """Keeps a ladder, in place of one of the same id."""
        text = ladder.model_dump_json(by_alias=True, exclude_none=True)
        with self._write() as s:
            s.merge(t.LadderRow(id=ladder.id, document=text, at=iso(at), person=person))

    def keep_habits(self, printer_id: int, habits: Habits, sheet_note: str | None = None) -> None:
        """Writes what a printer's room does the same way each time, and how a sheet is printed on it."""
        with self._write() as s:
            row = s.get(t.PrinterRow, printer_id)
            if row is not None:
                row.habits = habits_json(habits)
                row.sheet_note = row.sheet_note if sheet_note is None else sheet_note

    def change_layout(self, printer_id: int, layout: Layout) -> None:
        """Writes another layout of a printer's sheet."""
        with self._write() as s:
            row = s.get(t.PrinterRow, printer_id)
            if row is not None:
                row.layout = layout.model_dump_json()

    def change_printer(self, printer_id: int, printer: Printer) -> None:
        """Writes what a printer is and may do."""
        with self._write() as s:
            row = s.get(t.PrinterRow, printer_id)
            if row is not None:
                row.document, row.name = printer.model_dump_json(), printer.name

    # Events and the book

    def events(
        self, printer_id: int, *, case_id: int | None = None, since: datetime | None = None
    ) -> list[EventRecord]:
        """A printer's steps, level readings and notes, oldest first; those of a case, those since a moment."""
        query = select(t.EventRow).where(t.EventRow.printer_id == printer_id)
        if case_id is not None:
            query = query.where(t.EventRow.case_id == case_id)
        if since is not None:
            query = query.where(col(t.EventRow.at) >= iso(since))
        with self._read() as s:
            return [event_record(row) for row in s.exec(query.order_by(col(t.EventRow.at), col(t.EventRow.id)))]

    def step_times(self, printer_id: int) -> list[tuple[datetime, str]]:
        """When each finished step was, and its name; oldest first, nothing else read."""
        table, name = t.EventRow, func.json_extract(t.EventRow.document, "$.step")
        with self._read() as s:
            query = select(table.at, name).where(*self._over(printer_id)).order_by(col(table.at), col(table.id))
            return [(time_of(at), step) for at, step in s.exec(query)]

    def last_done(self, printer_id: int) -> dict[str, datetime]:
        """When each kind of step was last finished, and under `check` the last accepted sheet."""
        table, name = t.EventRow, func.json_extract(t.EventRow.document, "$.step")
        with self._read() as s:
            query = select(name, func.max(table.at)).where(*self._over(printer_id)).group_by(name)
            found = {step: time_of(at) for step, at in s.exec(query)}
            sheet = select(func.max(t.SheetRow.at)).where(t.SheetRow.printer_id == printer_id, col(t.SheetRow.bad).is_not(None))  # fmt: skip
            last = s.exec(sheet).one()
        if last is not None:
            found["check"] = max(time_of(last), found.get("check", time_of(last)))
        return found

    def outcomes(self, printer_id: int, but_case: int) -> list[tuple[str, int]]:
        """Each finished step of the printer's other cases that a sheet came after in its case, and that sheet's faults."""
        table, sheet = t.EventRow, t.SheetRow
        after = (
            select(sheet.bad)
            .where(sheet.case_id == table.case_id, col(sheet.bad).is_not(None), col(sheet.at) > table.at)
            .order_by(col(sheet.at))
            .limit(1)
            .scalar_subquery()
        )
        name = func.json_extract(table.document, "$.step")
        with self._read() as s:
            query = select(name, after).where(*self._over(printer_id), col(table.case_id) != but_case)
            return [(step, bad) for step, bad in s.exec(query) if bad is not None]

    def _over(self, printer_id: int) -> tuple[Any, ...]:
        table = t.EventRow
        over = col(table.finished).is_not(None) | col(table.started).is_(None)
        return table.printer_id == printer_id, table.kind == "step", col(table.dropped).is_(None), over

    def event(self, event_id: int) -> EventRecord | None:
        """One event."""
        with self._read() as s:
            row = s.get(t.EventRow, event_id)
            return event_record(row) if row else None

    def add_event(
        self,
        printer_id: int,
        case_id: int | None,
        event: StepEvent | LevelEvent | NoteEvent,
        person: str,
        *,
        started: datetime | None = None,
        entries: Iterable[Entry] = (),
    ) -> int:
        """Adds an event; a step with `started` is under way until it is finished or dropped. `entries` go into the book."""
        row = t.EventRow(
            printer_id=printer_id, case_id=case_id, kind=event.kind, at=iso(event.at), document=event.model_dump_json(exclude_none=True),
            started=iso(started) if started else None, person=person,
        )  # fmt: skip
        with self._write() as s:
            s.add(row)
            s.flush()
            self._add_lines(s, printer_id, case_id, row.id, entries, person)
            return key(row.id)

    def finish_step(
        self, event_id: int, event: StepEvent, finished: datetime, entries: Iterable[Entry], person: str
    ) -> bool:
        """Marks a step under way as finished and books its ink, in one transaction. False: it was not under way."""
        with self._write() as s:
            table = t.EventRow
            row = s.get(table, event_id)
            change = update(table).where(
                col(table.id) == event_id, col(table.started).is_not(None), col(table.finished).is_(None), col(table.dropped).is_(None)
            )  # fmt: skip
            values = {
                "finished": iso(finished),
                "at": iso(event.at),
                "document": event.model_dump_json(exclude_none=True),
                "person": person,
            }
            if row is None or not changed(s, change.values(**values)):
                return False
            self._add_lines(s, row.printer_id, row.case_id, event_id, entries, person)
            return True

    def drop_step(self, event_id: int, at: datetime) -> bool:
        """Marks a step under way as never done. False: it was not under way."""
        with self._write() as s:
            table = t.EventRow
            change = update(table).where(
                col(table.id) == event_id, col(table.started).is_not(None), col(table.finished).is_(None), col(table.dropped).is_(None)
            )  # fmt: skip
            return changed(s, change.values(dropped=iso(at)))

    # Forms sent twice

    def went_to(self, token: str) -> str | None:
        """Where a form with this token led, if it was acted on before."""
        with self._read() as s:
            row = s.get(t.DoneRow, token)
            return row.went_to if row else None

    def remember_form(self, token: str, went_to: str, at: datetime) -> None:
        """Remembers that a form was acted on."""
        with self._write() as s:
            if s.get(t.DoneRow, token) is None:
                s.add(t.DoneRow(token=token, went_to=went_to, at=iso(at)))
