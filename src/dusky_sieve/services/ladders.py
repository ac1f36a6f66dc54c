"""Ladders: those that ship and those that people made or brought in."""

from datetime import datetime

from dusky_sieve import files
from dusky_sieve.core.advice import Ladder, check_ladder
from dusky_sieve.core.case import Printer
from dusky_sieve.core.errors import OutOfTurn, UnknownThing
from dusky_sieve.store import PrinterRecord, Store


def all_ladders(store: Store) -> dict[str, Ladder]:
    """Every ladder by id: shipped ones first, then the house's own."""
    return files.ladders() | {ladder.id: ladder for ladder in store.ladders()}


def ladder_of(store: Store, ladder_id: str) -> Ladder:
    """One ladder; UnknownThing names those there are."""
    known = all_ladders(store)
    if ladder_id not in known:
        raise UnknownThing(f"There is no ladder “{ladder_id}”. Known ladders: {', '.join(known)}.")
    return known[ladder_id]


def keep_ladder(store: Store, ladder: Ladder, person: str, now: datetime) -> None:
    """Keeps an own ladder once it can be climbed and comes to an end."""
    if ladder.id in files.ladders():
        raise OutOfTurn(f"“{ladder.id}” ships with the program and stays as it is. Give yours an id of its own.")
    check_ladder(ladder, files.step_table(), files.cause_table(), files.cure_table())
    store.keep_ladder(ladder, now, person)


def set_rules(store: Store, record: PrinterRecord, ladder_id: str, user_level: str, abilities: list[str]) -> None:
    """Which ladder a printer follows, who stands at it, what it can do."""
    ladder = ladder_of(store, ladder_id)
    change = {"ladder": ladder.id, "user_level": user_level, "abilities": tuple(abilities)}
    store.change_printer(record.id, Printer.model_validate(record.printer.model_dump() | change))
