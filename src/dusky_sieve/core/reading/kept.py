"""What was worked out of the last few places of a sheet: a third of all is asked for again."""

from collections.abc import Callable
from typing import TypeVar

from dusky_sieve.core.reading.registration import Registration

T = TypeVar("T")
Kept = list[tuple[Registration, T]]


def kept(known: Kept[T], most: int, place: Registration, make: Callable[[], T]) -> T:
    """What is known of a place; made where it is not, and kept with that of the last `most` places."""
    found = next((value for other, value in known if other is place), None)
    if found is None:
        found = make()
        known[:] = [*known, (place, found)][-most:]
    return found
