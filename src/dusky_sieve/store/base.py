"""What all queries stand on: one data folder, reading and writing sessions."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import CursorResult, text
from sqlmodel import Session

from dusky_sieve.store.engine import open_database

Made = TypeVar("Made")


class Base:
    """One data folder: `sieve.db` and `photos/`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.engine = open_database(folder / "sieve.db")
        self._made: dict[tuple[int, Any], tuple[Any, Any]] = {}

    def stamp(self, printer_id: int) -> int:
        """A number that every change of what belongs to a printer moves on, in whatever process it is made."""
        with self._read() as s:
            asked = {"printer": printer_id}
            return (
                s.connection().execute(text("SELECT number FROM stamp WHERE printer_id = :printer"), asked).scalar()
                or 0
            )

    def remembered(self, printer_id: int, key: tuple[Any, ...], make: Callable[[], Made]) -> Made:
        """What `make` gives, worked out again only after something of the printer changed or the key is another.

        The first part of the key says what it is; only the newest of each is kept.
        """
        place, mark = (printer_id, key[0]), (self.stamp(printer_id), key)
        found = self._made.get(place)
        if found is None or found[0] != mark:
            found = self._made[place] = (mark, make())
        made: Made = found[1]
        return made

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
