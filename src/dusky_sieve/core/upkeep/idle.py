"""What standing idle costs this printer: faults on the sheet after against the days it stood.

A nozzle dries at some rate while nothing moves, so the chance of a faulty sheet after d days is
1 - (1 - p) exp(-r d), p the chance after no time at all. Both are worked out on a grid from all stands of the record
(Bayes, flat in p to a quarter, exponential in r with a mean of one in thirty days).
"""

from collections.abc import Callable, Iterable
from datetime import timedelta

import numpy as np

from dusky_sieve.core.layout import Frozen

ACCEPTED = 0.2  # chance of a faulty sheet that is put up with; owners can set their own interval instead
MEAN_RATE = 1 / 30  # a day, before anything is known
LEAST_STANDS = 8  # below which nothing is proposed
STOOD = timedelta(hours=18)  # shorter than this is work and not a stand
LONGEST = 60.0  # days: nothing is proposed beyond
BANDS = ((0.75, 2), (2, 4), (4, 8), (8, 15), (15, 1e9))  # days of a table beside the drawing


class Stand(Frozen):
    """Days a printer stood, and whether the sheet after had faults."""

    days: float
    faulty: bool


class IdleRecord(Frozen):
    """What the record says. `chance` of a faulty sheet by days stood, with its range; `propose_days` with its own.

    bands : (from, to, stands, faulty) in days
    """

    stands: int
    chance: tuple[tuple[float, float, float, float], ...]
    propose_days: float | None
    propose_low: float | None
    propose_high: float | None
    bands: tuple[tuple[float, float, int, int], ...]


def idle_record(stands: Iterable[Stand]) -> IdleRecord:
    """Chances and a proposed interval from a printer's stands."""
    known = list(stands)
    days = np.array([s.days for s in known], np.float64)
    faulty = np.array([s.faulty for s in known], np.bool_)
    base = np.linspace(0.0, 0.25, 26)[:, None]
    rate = np.concatenate([[0.0], np.geomspace(1e-4, 1.5, 160)])[None, :]
    log = -rate / MEAN_RATE + np.zeros_like(base)
    for d, bad in zip(days, faulty, strict=True):
        p = np.clip(1 - (1 - base) * np.exp(-rate * d), 1e-6, 1 - 1e-6)
        log = log + np.log(p if bad else 1 - p)
    width = np.gradient(rate[0])[None, :]
    weight = np.exp(log - log.max()) * width
    weight /= weight.sum()

    def chance(d: float) -> tuple[float, float, float, float]:
        values = (1 - (1 - base) * np.exp(-rate * d)).ravel()
        order = np.argsort(values)
        below = np.cumsum(weight.ravel()[order])
        low, high = (float(values[order][np.searchsorted(below, q)]) for q in (0.05, 0.95))
        return d, float((weight.ravel() * values).sum()), low, high

    curve = tuple(chance(float(d)) for d in (0.5, 1, 2, 3, 5, 7, 10, 14, 21, 30, 45, 60))
    propose, low, high = (_reach(chance, k) for k in (1, 3, 2)) if len(known) >= LEAST_STANDS else (None, None, None)
    bands = tuple(
        (a, b, int(((days >= a) & (days < b)).sum()), int((faulty & (days >= a) & (days < b)).sum())) for a, b in BANDS
    )
    return IdleRecord(
        stands=len(known), chance=curve, propose_days=propose, propose_low=low, propose_high=high, bands=bands
    )


def _reach(chance: Callable[[float], tuple[float, float, float, float]], which: int) -> float:
    """Days after which the chance (1 the mean, 2 the low, 3 the high end) passes what is put up with."""
    low, high = 0.5, LONGEST
    if chance(high)[which] < ACCEPTED:
        return LONGEST
    if chance(low)[which] > ACCEPTED:
        return low
    for _ in range(24):
        middle = (low + high) / 2
        low, high = (middle, high) if chance(middle)[which] < ACCEPTED else (low, middle)
    return round(low, 1)
