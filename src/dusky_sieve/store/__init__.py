"""SQLite through SQLModel: tables, queries, migrations. Photos lie beside the database, by content digest."""

from dusky_sieve.store.book import Store
from dusky_sieve.store.ledger import BookLine, TankBalance
from dusky_sieve.store.records import (
    CaseRecord,
    EventRecord,
    Habits,
    PhoneRecord,
    PhotoRecord,
    PrinterRecord,
    SheetRecord,
)

__all__ = [
    "BookLine",
    "CaseRecord",
    "EventRecord",
    "Habits",
    "PhoneRecord",
    "PhotoRecord",
    "PrinterRecord",
    "SheetRecord",
    "Store",
    "TankBalance",
]
