"""Queries: the book's lines, what they add up to, upkeep, and the secrets of feeds."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from threading import Lock

from sqlalchemy import text
from sqlmodel import Session, col, select

from dusky_sieve.core.ledger import Entry
from dusky_sieve.core.upkeep import Log
from dusky_sieve.store import tables as t
from dusky_sieve.store.base import Base
from dusky_sieve.store.rows import entry_row, iso, key

HOLDS = "e.what != 'void' AND NOT EXISTS (SELECT 1 FROM entry r WHERE r.replaces = e.id)"
READ = text(f"""
SELECT e.at, e.ink_ml FROM entry e WHERE e.printer_id = :printer AND e.channel = :channel AND e.what = 'level' AND {HOLDS}
ORDER BY e.at DESC, e.id DESC LIMIT 1
""")
SINCE = text(f"""
SELECT sum(CASE e.what WHEN 'fill' THEN e.ink_ml WHEN 'step' THEN -e.ink_ml WHEN 'print' THEN -e.ink_ml ELSE 0 END) FROM entry e
WHERE e.printer_id = :printer AND e.channel = :channel AND e.at > :since AND {HOLDS}
""")
PAD_SAID = text(
    f"SELECT e.at, e.ink_ml FROM entry e WHERE e.printer_id = :printer AND e.what = 'pad' AND {HOLDS} ORDER BY e.at DESC, e.id DESC LIMIT 1"
)
# What went into the pad: all of it less the lines that were put right, which are few.
PAD_SINCE = text("""
SELECT coalesce((SELECT sum(waste_ml) FROM entry WHERE printer_id = :printer AND waste_ml > 0 AND at >= :since), 0)
- coalesce((SELECT sum(waste_ml) FROM entry WHERE id IN (SELECT replaces FROM entry WHERE replaces IS NOT NULL) AND printer_id = :printer AND at >= :since), 0)
""")
LINES = text("SELECT id, document, person, case_id FROM entry WHERE printer_id = :printer AND id > :after ORDER BY id")
READINGS = text(f"""
SELECT e.document FROM entry e WHERE e.printer_id = :printer AND e.what IN ('level', 'fill', 'pad') AND e.at > :since AND e.at <= :until
AND {HOLDS} ORDER BY e.at, e.id
""")
SPENT = text("""
SELECT case_id, sum(ink_ml), sum(waste_ml), sum(cost) FROM entry
WHERE case_id IS NOT NULL AND what IN ('step', 'print') GROUP BY case_id
""")
PUT_RIGHT = text("""
SELECT case_id, sum(ink_ml), sum(waste_ml), sum(cost) FROM entry
WHERE id IN (SELECT replaces FROM entry WHERE replaces IS NOT NULL) AND case_id IS NOT NULL AND what IN ('step', 'print') GROUP BY case_id
""")


@dataclass(frozen=True)
class TankBalance:
    """A tank by the book: its last reading in ml, and what came and went since."""

    level_ml: float | None
    since_ml: float


@dataclass(frozen=True)
class BookLine:
    """One line of the book with its number, who wrote it, and whether it still holds."""

    number: int
    entry: Entry
    person: str
    case_id: int | None
    holds: bool = True


class LedgerQueries(Base):
    """The book, upkeep, secrets."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self._known: dict[int, list[BookLine]] = {}
        self._lock = Lock()

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
        """Every line of a printer's book, in the order they were written.

        Lines never change, so those that were read once are kept, and only what was written since is read.
        """
        with self._lock:
            known = self._known.setdefault(printer_id, [])
            after = known[-1].number if known else 0
            with self._read() as s:
                rows = s.connection().execute(LINES, {"printer": printer_id, "after": after}).all()
            known += [BookLine(r.id, Entry.model_validate_json(r.document), r.person, r.case_id) for r in rows]
            gone = {x.entry.replaces for x in known if x.entry.replaces is not None}
            return [replace(x, holds=False) if x.number in gone or x.entry.what == "void" else x for x in known]

    def numbered(self, printer_id: int) -> dict[int, Entry]:
        """Every line of a printer's book by its number, as the core takes it."""
        return {line.number: line.entry for line in self.lines(printer_id)}

    def readings(self, printer_id: int, since: datetime, until: datetime) -> list[Entry]:
        """Lines that hold and say what lay in a tank or the pad, or what was filled in, within a time; oldest first."""
        asked = {"printer": printer_id, "since": iso(since), "until": iso(until)}
        with self._read() as s:
            return [Entry.model_validate_json(row[0]) for row in s.connection().execute(READINGS, asked)]

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

    def tanks(self, printer_id: int, channels: Iterable[str]) -> dict[str, TankBalance]:
        """Each tank's last reading and what came and went since."""
        found: dict[str, TankBalance] = {}
        with self._read() as s:
            run = s.connection().execute
            for channel in channels:
                asked = {"printer": printer_id, "channel": channel}
                read = run(READ, asked).first()
                since = run(SINCE, asked | {"since": read[0] if read else ""}).scalar()
                found[channel] = TankBalance(read[1] if read else None, since or 0.0)
        return found

    def pad(self, printer_id: int) -> tuple[float | None, float]:
        """What the pad held when that was last said, None where never, and what went into it since."""
        with self._read() as s:
            said = s.connection().execute(PAD_SAID, {"printer": printer_id}).first()
            asked = {"printer": printer_id, "since": said[0] if said else ""}
            since = s.connection().execute(PAD_SINCE, asked).scalar() or 0.0
        return said[1] if said else None, float(since)

    def spent(self) -> dict[int, tuple[float, float, float]]:
        """Ink, waste and money of every case, by its key."""
        with self._read() as s:
            whole = {row[0]: row[1:] for row in s.connection().execute(SPENT)}
            less = {row[0]: row[1:] for row in s.connection().execute(PUT_RIGHT)}
        return {
            case: (ink - off[0], waste - off[1], cost - off[2])
            for case, (ink, waste, cost) in whole.items()
            for off in [less.get(case, (0.0, 0.0, 0.0))]
        }

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
