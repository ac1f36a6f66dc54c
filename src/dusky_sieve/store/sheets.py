"""Queries: photos and the sheets read from them."""

import hashlib
import json
from datetime import datetime
from pathlib import Path

from sqlalchemy import or_, text, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import defer
from sqlmodel import col, func, select

from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading import Change, Reading
from dusky_sieve.files import write_synced
from dusky_sieve.store import tables as t
from dusky_sieve.store.base import Base, changed
from dusky_sieve.store.records import PhotoRecord, SheetRecord
from dusky_sieve.store.rows import bad_of, changes_json, faults_json, iso, key, photo_record, sheet_record, time_of


class SheetQueries(Base):
    """Photos and sheets."""

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
            known = self.photo_of_content(printer_id, content)
            assert known is not None  # the row that was in the way
            return known, False

    def photo_path(self, digest: str) -> Path:
        """Where a photo's bytes lie."""
        return self.folder / "photos" / digest[:2] / digest

    def photo_of_content(self, printer_id: int, content: bytes) -> PhotoRecord | None:
        """The printer's stored photo of exactly these bytes."""
        digest = hashlib.sha256(content).hexdigest()
        with self._read() as s:
            row = s.exec(
                select(t.PhotoRow).where(t.PhotoRow.printer_id == printer_id, t.PhotoRow.digest == digest)
            ).first()
            return photo_record(row) if row else None

    def photo(self, photo_id: int) -> PhotoRecord | None:
        """A photo's facts."""
        with self._read() as s:
            row = s.get(t.PhotoRow, photo_id)
            return photo_record(row) if row else None

    def add_sheet(
        self, printer_id: int, at: datetime, person: str, *, photos: tuple[int, ...] = (), reading: Reading | None = None,
        faults: dict[str, ChannelFaults] | None = None, why: str | None = None, case_id: int | None = None,
        lines: dict[str, int] | None = None,
    ) -> int:  # fmt: skip
        """A sheet as it arrived; `faults` only where somebody vouches for them."""
        row = t.SheetRow(
            printer_id=printer_id, case_id=case_id, photo_id=photos[0] if photos else None, more_photos=json.dumps(photos[1:]) if photos[1:] else None, at=iso(at), person=person, why=why,
            reading=reading.model_dump_json(exclude_none=True) if reading else None, faults=faults_json(faults), bad=bad_of(faults),
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
            return changed(
                s,
                change.values(
                    faults=faults_json(faults),
                    bad=bad_of(faults),
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
            return changed(s, where.values(changes=text))

    def read_again(self, sheet_id: int, reading: Reading, why: str | None, photos: tuple[int, ...]) -> bool:
        """Another reading of a sheet that nobody vouched for yet, from these photos."""
        more = json.dumps(photos[1:]) if photos[1:] else None
        with self._write() as s:
            where = update(t.SheetRow).where(col(t.SheetRow.id) == sheet_id, col(t.SheetRow.faults).is_(None))
            return changed(
                s,
                where.values(
                    reading=reading.model_dump_json(exclude_none=True), why=why, photo_id=photos[0], more_photos=more
                ),
            )

    def sheet(self, sheet_id: int) -> SheetRecord | None:
        """One sheet."""
        with self._read() as s:
            row = s.get(t.SheetRow, sheet_id)
            return sheet_record(row) if row else None

    def sheet_of_photo(self, photo_id: int) -> SheetRecord | None:
        """The sheet read from a photo."""
        with self._read() as s:
            further = text("EXISTS (SELECT 1 FROM json_each(sheet.more_photos) WHERE value = :photo)")
            which = or_(col(t.SheetRow.photo_id) == photo_id, further.bindparams(photo=photo_id))
            row = s.exec(select(t.SheetRow).where(which).order_by(col(t.SheetRow.id))).first()
            return sheet_record(row) if row else None

    def sheets(
        self, printer_id: int, *, case_id: int | None = None, accepted: bool | None = None, last: int | None = None
    ) -> list[SheetRecord]:
        """A printer's sheets, oldest first, without their readings; those of a case, those accepted or not, the last few."""
        table, at = t.SheetRow, (col(t.SheetRow.at), col(t.SheetRow.id))
        query = select(table, col(table.reading).is_not(None)).options(defer(col(table.reading)))  # type: ignore[arg-type]
        query = query.where(table.printer_id == printer_id)
        if case_id is not None:
            query = query.where(table.case_id == case_id)
        if accepted is not None:
            query = query.where(col(table.faults).is_not(None) if accepted else col(table.faults).is_(None))
        query = query.order_by(*(c.desc() for c in at)) if last is not None else query.order_by(*at)
        with self._read() as s:
            found = [sheet_record(row, brief=bool(read)) for row, read in s.exec(query.limit(last))]
        return found[::-1] if last is not None else found

    def clear_streak(self, printer_id: int) -> int:
        """Accepted sheets since the last one with a fault."""
        table = t.SheetRow
        with self._read() as s:
            bad = select(func.max(table.at)).where(table.printer_id == printer_id, col(table.bad) > 0)
            since = s.exec(bad).one() or ""
            clear = select(func.count()).where(table.printer_id == printer_id, table.bad == 0, col(table.at) > since)
            return int(s.exec(clear).one())

    def sheet_counts(self) -> dict[int, int]:
        """Accepted sheets of each case, by its key."""
        table = t.SheetRow
        query = select(table.case_id, func.count()).where(col(table.faults).is_not(None)).group_by(col(table.case_id))
        with self._read() as s:
            return {case: count for case, count in s.exec(query) if case is not None}

    def sheet_times(self, printer_id: int) -> list[tuple[datetime, int]]:
        """When each accepted sheet was, and its faults in all; oldest first, nothing else read."""
        table = t.SheetRow
        query = select(table.at, table.bad).where(table.printer_id == printer_id, col(table.bad).is_not(None))
        with self._read() as s:
            return [(time_of(at), bad or 0) for at, bad in s.exec(query.order_by(col(table.at), col(table.id)))]
