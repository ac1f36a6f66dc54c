"""What all queries stand on: one data folder, reading and writing sessions."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import CursorResult
from sqlmodel import Session

from dusky_sieve.store.engine import open_database


class Base:
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


def changed(session: Session, statement: Any) -> bool:
    """Whether a statement touched exactly one row."""
    result: CursorResult[Any] = session.execute(statement)  # type: ignore[assignment]
    return result.rowcount == 1
