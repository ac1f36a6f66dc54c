"""A phone paired with a printer for a few minutes: it may photograph a sheet, and nothing else."""

import hashlib
import secrets
from datetime import datetime, timedelta

from dusky_sieve.core.errors import UnknownThing
from dusky_sieve.store import PhoneRecord, PrinterRecord, Store

PAIRED_FOR = timedelta(minutes=15)  # long enough to print a sheet and walk back, short enough to forget


def pair_phone(store: Store, printer: PrinterRecord, now: datetime) -> str:
    """A new secret that lets a phone in for this printer's next sheet."""
    secret = secrets.token_urlsafe(24)
    store.pair_phone(_digest(secret), printer.id, now + PAIRED_FOR, now)
    return secret


def paired_phone(store: Store, secret: str, now: datetime) -> PhoneRecord:
    """The pairing of a secret; UnknownThing where it has run out or never was."""
    found = store.phone(_digest(secret))
    if found is None or found.until <= now:
        raise UnknownThing("This code has run out. Open “Sheet in” at the desk again and take the new code.")
    return found


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()
