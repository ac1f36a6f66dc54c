"""Figures that people type, with either decimal mark."""

from dusky_sieve.core.errors import UnusableInput

MOST = 1_000_000.0


def figure(said: str, value: str, usual: float | None) -> float | None:
    """A figure from 0 up, `usual` where nothing was typed; UnusableInput names the field and what was typed there."""
    if not value.strip():
        return usual
    try:
        found = float(value.strip().replace(",", "."))
    except ValueError:
        found = -1.0
    if not 0 <= found <= MOST:
        raise UnusableInput(f"{said}: expected a figure from 0 up, found “{value[:20]}”.")
    return found
