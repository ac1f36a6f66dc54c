"""Queries: the book's lines, what they add up to, upkeep, and the secrets of feeds."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import text
from sqlmodel import Session, col, select

from dusky_sieve.core.ledger import Entry
from dusky_sieve.core.upkeep import Log
from dusky_sieve.store import tables as t
from dusky_sieve.store.base import Base
from dusky_sieve.store.rows import entry_row, iso, key, time_of

HOLDS = "e.what != 'void' AND NOT EXISTS (SELECT 1 FROM entry r WHERE r.replaces = e.id)"
# Each tank from its last reading on: that reading, what was filled in after it, what was used after it.
TANKS = text(f"""
WITH held AS (SELECT e.* FROM entry e WHERE e.printer_id = :printer AND {HOLDS}),
last AS (SELECT channel, max(at) AS at FROM held WHERE what = 'level' GROUP BY channel)
SELECT h.channel, max(l.at), max(CASE WHEN h.what = 'level' AND h.at = l.at THEN h.ink_ml END),
  sum(CASE WHEN h.what = 'fill' AND (l.at IS NULL OR h.at > l.at) THEN h.ink_ml ELSE 0 END)
  - sum(CASE WHEN h.what IN ('step', 'print') AND (l.at IS NULL OR h.at > l.at) THEN h.ink_ml ELSE 0 END)
FROM held h LEFT JOIN last l ON l.channel = h.channel WHERE h.channel != '' GROUP BY h.channel
""")
PAD = text(f"""
WITH held AS (SELECT e.* FROM entry e WHERE e.printer_id = :printer AND {HOLDS}),
last AS (SELECT at, ink_ml FROM held WHERE what = 'pad' ORDER BY at DESC, id DESC LIMIT 1)
SELECT (SELECT ink_ml FROM last), coalesce((SELECT sum(waste_ml) FROM held WHERE what = 'step' AND at >= coalesce((SELECT at FROM last), '')), 0)
""")
SPENT = text(f"""
SELECT e.case_id, sum(e.ink_ml), sum(e.waste_ml), sum(e.cost) FROM entry e
WHERE e.case_id IS NOT NULL AND e.what IN ('step', 'print') AND {HOLDS} GROUP BY e.case_id
""")


@dataclass(frozen=True)
class TankBalance:
    """A tank by the book: its last reading in ml and when, and what came and went since."""

    level_ml: float | None
    read_at: datetime | None
    since_ml: float


@dataclass(frozen=True)
class BookLine:
    """One line of the book with its number, who wrote it, and whether it still holds."""

    number: int
    entry: Entry
    person: str
    case_id: int | None
    holds: bool


class LedgerQueries(Base):
    """The book, upkeep, secrets."""

    def _add_lines(
        self, s: Session, printer_id: int, case_id: int | None, event_id: int | None, entries: Iterable[Entry], person: str = ""
    ) -> None:  # fmt: skip
        for entry in entries:
            s.add(entry_row(printer_id, case_id, event_id, entry, person))

    def book(self, printer_id: int, case_id: int | None, entries: Iterable[Entry], person: str = "") -> None:
        """Adds lines that belong to no step, such as a sheet's own ink or a level read off."""
        with self._write() as s:
            self._add_lines(s, printer_id, case_id, None, entries, person)

    def lines(self, printer_id: int) -> list[BookLine]:
        """Every line of a printer's book, in the order they were written."""
        with self._read() as s:
            rows = list(
                s.exec(select(t.EntryRow).where(t.EntryRow.printer_id == printer_id).order_by(col(t.EntryRow.id)))
            )
            gone = {row.replaces for row in rows if row.replaces is not None}
            return [
                BookLine(key(r.id), Entry.model_validate_json(r.document), r.person, r.case_id, r.id not in gone and r.what != "void")
                for r in rows
            ]  # fmt: skip

    def entries(self, *, printer_id: int | None = None, case_id: int | None = None) -> list[Entry]:
        """Lines that hold and say what ink was spent, in the order they were written."""
        query = select(t.EntryRow).where(col(t.EntryRow.what).in_(("step", "print"))).order_by(col(t.EntryRow.id))
        if printer_id is not None:
            query = query.where(t.EntryRow.printer_id == printer_id)
        if case_id is not None:
            query = query.where(t.EntryRow.case_id == case_id)
        with self._read() as s:
            gone = set(s.exec(select(t.EntryRow.replaces).where(col(t.EntryRow.replaces).is_not(None))))
            return [Entry.model_validate_json(row.document) for row in s.exec(query) if row.id not in gone]

    def tanks(self, printer_id: int) -> dict[str, TankBalance]:
        """Each tank's last reading and what came and went since; tanks without a line are left out."""
        with self._read() as s:
            rows = s.connection().execute(TANKS, {"printer": printer_id}).all()
        return {name: TankBalance(ml, time_of(at) if at else None, since or 0.0) for name, at, ml, since in rows}

    def pad(self, printer_id: int) -> tuple[float | None, float]:
        """What the pad held when that was last said, None where never, and what went into it since."""
        with self._read() as s:
            row = s.connection().execute(PAD, {"printer": printer_id}).one()
        return row[0], row[1]

    def spent(self) -> dict[int, tuple[float, float, float]]:
        """Ink, waste and money of every case, by its key."""
        with self._read() as s:
            return {row[0]: (row[1], row[2], row[3]) for row in s.connection().execute(SPENT).all()}

    # Upkeep

    def upkeep(self, printer_id: int) -> list[Log]:
        """What was said about a printer's upkeep, oldest first."""
        with self._read() as s:
            rows = s.exec(select(t.UpkeepRow).where(t.UpkeepRow.printer_id == printer_id).order_by(col(t.UpkeepRow.id)))
            return [Log.model_validate_json(row.document) for row in rows]

    def add_upkeep(self, printer_id: int, log: Log, person: str) -> int:
        """Keeps what somebody said about a task."""
        row = t.UpkeepRow(printer_id=printer_id, task=log.name, at=iso(log.at), document=log.model_dump_json(exclude_none=True), person=person)  # fmt: skip
        with self._write() as s:
            s.add(row)
            s.flush()
            return key(row.id)

    def forget_upkeep(self, printer_id: int, name: str) -> bool:
        """Takes back what was last said about a task. False: nothing was."""
        with self._write() as s:
            query = select(t.UpkeepRow).where(t.UpkeepRow.printer_id == printer_id, t.UpkeepRow.task == name)
            row = s.exec(query.order_by(col(t.UpkeepRow.id).desc())).first()
            if row is not None:
                s.delete(row)
            return row is not None

    # Secrets of feeds

    def secret(self, name: str) -> str | None:
        """The secret of a feed, where there is one."""
        with self._read() as s:
            row = s.get(t.SecretRow, name)
            return row.value if row else None

    def keep_secret(self, name: str, value: str) -> None:
        """Puts a feed's secret in the place of the one before."""
        with self._write() as s:
            s.merge(t.SecretRow(name=name, value=value))
