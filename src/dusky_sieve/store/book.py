"""Queries: everything that is read from or written to the database and the photo folder."""

import hashlib
import json
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import CursorResult, update
from sqlalchemy.exc import IntegrityError
from sqlmodel import Session, col, func, select

from dusky_sieve.core.advice import Ladder, parse_ladder
from dusky_sieve.core.case import ChannelFaults, LevelEvent, NoteEvent, Printer, StepEvent
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.ledger import Entry
from dusky_sieve.core.reading import Change, Reading
from dusky_sieve.files import write_synced
from dusky_sieve.store import tables as t
from dusky_sieve.store.engine import open_database
from dusky_sieve.store.records import CaseRecord, EventRecord, PhotoRecord, PrinterRecord, SheetRecord
from dusky_sieve.store.rows import (
    case_record,
    changes_json,
    event_record,
    faults_json,
    iso,
    key,
    photo_record,
    printer_record,
    sheet_record,
)


class Store:
    """One data folder: `sieve.db` and `photos/`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.engine = open_database(folder / "sieve.db")

    def close(self) -> None:
        """Lets go of the database file."""
        self.engine.dispose()

    def _read(self) -> Session:
        return Session(self.engine)

    @contextmanager
    def _write(self) -> Iterator[Session]:
        with Session(self.engine.execution_options(writes=True)) as session, session.begin():
            yield session

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

    # Photos and sheets

    def keep_photo(
        self, printer_id: int, content: bytes, name: str, media: str, backing: Backing, at: datetime
    ) -> tuple[PhotoRecord, bool]:
        """Stores a photo by its digest, synced to disk before the row that names it. False: it was there already."""
        digest = hashlib.sha256(content).hexdigest()
        path = self.photo_path(digest)
        if not path.exists():
            write_synced(path, content)
        row = t.PhotoRow(
            printer_id=printer_id,
            digest=digest,
            name=name,
            media=media,
            size=len(content),
            backing=backing,
            arrived=iso(at),
        )
        try:
            with self._write() as s:
                s.add(row)
                s.flush()
                return photo_record(row), True
        except IntegrityError:
            with self._read() as s:
                known = s.exec(
                    select(t.PhotoRow).where(t.PhotoRow.printer_id == printer_id, t.PhotoRow.digest == digest)
                ).one()
                return photo_record(known), False

    def photo_path(self, digest: str) -> Path:
        """Where a photo's bytes lie."""
        return self.folder / "photos" / digest[:2] / digest

    def photo(self, photo_id: int) -> PhotoRecord | None:
        """A photo's facts."""
        with self._read() as s:
            row = s.get(t.PhotoRow, photo_id)
            return photo_record(row) if row else None

    def add_sheet(
        self, printer_id: int, at: datetime, person: str, *, photo_id: int | None = None, reading: Reading | None = None,
        faults: dict[str, ChannelFaults] | None = None, why: str | None = None, case_id: int | None = None,
        lines: dict[str, int] | None = None,
    ) -> int:  # fmt: skip
        """A sheet as it arrived; `faults` only where somebody vouches for them."""
        row = t.SheetRow(
            printer_id=printer_id, case_id=case_id, photo_id=photo_id, at=iso(at), person=person, why=why,
            reading=reading.model_dump_json(exclude_none=True) if reading else None, faults=faults_json(faults),
            lines=json.dumps(lines) if lines else None,
        )  # fmt: skip
        with self._write() as s:
            s.add(row)
            s.flush()
            return key(row.id)

    def accept_sheet(
        self,
        sheet_id: int,
        faults: dict[str, ChannelFaults],
        person: str,
        case_id: int | None,
        lines: dict[str, int] | None = None,
    ) -> bool:
        """Vouches for a sheet's faults. False: somebody did before."""
        with self._write() as s:
            table = t.SheetRow
            change = update(table).where(col(table.id) == sheet_id, col(table.faults).is_(None))
            return _changed(
                s,
                change.values(
                    faults=faults_json(faults),
                    person=person,
                    case_id=case_id,
                    lines=json.dumps(lines) if lines else None,
                ),
            )

    def change_sheet(self, sheet_id: int, changes: tuple[Change, ...]) -> bool:
        """Keeps what was corrected on a sheet. False: somebody vouched for it before."""
        text = changes_json(changes)
        with self._write() as s:
            where = update(t.SheetRow).where(col(t.SheetRow.id) == sheet_id, col(t.SheetRow.faults).is_(None))
            return _changed(s, where.values(changes=text))

    def read_again(self, sheet_id: int, reading: Reading, why: str | None) -> bool:
        """Another reading of a sheet that nobody vouched for yet."""
        with self._write() as s:
            where = update(t.SheetRow).where(col(t.SheetRow.id) == sheet_id, col(t.SheetRow.faults).is_(None))
            return _changed(s, where.values(reading=reading.model_dump_json(exclude_none=True), why=why))

    def sheet(self, sheet_id: int) -> SheetRecord | None:
        """One sheet."""
        with self._read() as s:
            row = s.get(t.SheetRow, sheet_id)
            return sheet_record(row) if row else None

    def sheet_of_photo(self, photo_id: int) -> SheetRecord | None:
        """The sheet read from a photo."""
        with self._read() as s:
            row = s.exec(select(t.SheetRow).where(t.SheetRow.photo_id == photo_id).order_by(col(t.SheetRow.id))).first()
            return sheet_record(row) if row else None

    def sheets(self, printer_id: int) -> list[SheetRecord]:
        """A printer's sheets, oldest first."""
        with self._read() as s:
            rows = s.exec(
                select(t.SheetRow)
                .where(t.SheetRow.printer_id == printer_id)
                .order_by(col(t.SheetRow.at), col(t.SheetRow.id))
            )
            return [sheet_record(row) for row in rows]

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
            return _changed(s, change.values(closed=iso(at), outcome=outcome))

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

    def change_printer(self, printer_id: int, printer: Printer) -> None:
        """Writes what a printer is and may do."""
        with self._write() as s:
            row = s.get(t.PrinterRow, printer_id)
            if row is not None:
                row.document, row.name = printer.model_dump_json(), printer.name

    # Events and the book

    def events(self, printer_id: int) -> list[EventRecord]:
        """A printer's steps, level readings and notes, oldest first."""
        with self._read() as s:
            rows = s.exec(
                select(t.EventRow)
                .where(t.EventRow.printer_id == printer_id)
                .order_by(col(t.EventRow.at), col(t.EventRow.id))
            )
            return [event_record(row) for row in rows]

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
            for entry in entries:
                s.add(
                    t.EntryRow(
                        printer_id=printer_id, case_id=case_id, event_id=row.id, document=entry.model_dump_json()
                    )
                )
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
            if row is None or not _changed(s, change.values(**values)):
                return False
            for entry in entries:
                s.add(
                    t.EntryRow(
                        printer_id=row.printer_id,
                        case_id=row.case_id,
                        event_id=event_id,
                        document=entry.model_dump_json(),
                    )
                )
            return True

    def drop_step(self, event_id: int, at: datetime) -> bool:
        """Marks a step under way as never done. False: it was not under way."""
        with self._write() as s:
            table = t.EventRow
            change = update(table).where(
                col(table.id) == event_id, col(table.started).is_not(None), col(table.finished).is_(None), col(table.dropped).is_(None)
            )  # fmt: skip
            return _changed(s, change.values(dropped=iso(at)))

    def book(self, printer_id: int, case_id: int | None, entries: Iterable[Entry]) -> None:
        """Adds entries that belong to no step, such as a sheet's own ink."""
        with self._write() as s:
            for entry in entries:
                s.add(t.EntryRow(printer_id=printer_id, case_id=case_id, document=entry.model_dump_json()))

    def entries(self, *, printer_id: int | None = None, case_id: int | None = None) -> list[Entry]:
        """Entries of the book, oldest first."""
        query = select(t.EntryRow).order_by(col(t.EntryRow.id))
        if printer_id is not None:
            query = query.where(t.EntryRow.printer_id == printer_id)
        if case_id is not None:
            query = query.where(t.EntryRow.case_id == case_id)
        with self._read() as s:
            return [Entry.model_validate_json(row.document) for row in s.exec(query)]

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


def _changed(session: Session, statement: Any) -> bool:
    result: CursorResult[Any] = session.execute(statement)  # type: ignore[assignment]
    return result.rowcount == 1
