"""Queries: phones that are paired with a printer for a short time."""

from datetime import datetime

from sqlalchemy import delete, update
from sqlmodel import col

from dusky_sieve.store import tables as t
from dusky_sieve.store.base import Base, changed
from dusky_sieve.store.records import PhoneRecord
from dusky_sieve.store.rows import iso, phone_record


class PhoneQueries(Base):
    """Pairings, kept by the digest of their secret."""

    def pair_phone(self, digest: str, printer_id: int, until: datetime, now: datetime) -> None:
        """Keeps a new pairing and forgets those that have run out."""
        with self._write() as s:
            s.execute(delete(t.PhoneRow).where(col(t.PhoneRow.until) < iso(now)))
            s.add(t.PhoneRow(digest=digest, printer_id=printer_id, until=iso(until)))

    def phone(self, digest: str) -> PhoneRecord | None:
        """A pairing by the digest of its secret."""
        with self._read() as s:
            row = s.get(t.PhoneRow, digest)
            return phone_record(row) if row else None

    def phone_says(self, digest: str, state: str, sheet_id: int | None = None) -> bool:
        """Keeps how far a paired phone is. False: it is not paired any more."""
        values = {"state": state} if sheet_id is None else {"state": state, "sheet_id": sheet_id}
        with self._write() as s:
            return changed(s, update(t.PhoneRow).where(col(t.PhoneRow.digest) == digest).values(**values))
