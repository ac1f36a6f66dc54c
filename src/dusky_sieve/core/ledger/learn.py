"""What each step really takes on this printer, from level readings and the steps between them.

Between two readings of a tank the total that left is known, and so is what was done. Per channel: least squares of the
totals against the counts of each kind of step and the days of printing, no amount below nothing, the starting
estimates as prior (Lawson & Hanson 1974, ch. 23, as a Gaussian posterior cut off at zero). A stretch that fits nothing is named and counts
less, it is not dropped.
"""

from collections.abc import Mapping
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.case import Printer
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.ledger.entries import Entry
from dusky_sieve.core.ledger.replay import Numbered, standing
from dusky_sieve.core.steps import StepName, StepTable

Floats = NDArray[np.float64]

PRINTS = "prints"  # the kind that stands for ink per day that nobody booked
PRINTS_PRIOR_ML = (0.4, 1.2)  # a day: mean and one-sigma before anything is known; a desktop printer in ordinary use
PRIOR_SPREAD = 0.5  # of the distance from low to high that is one-sigma of a starting estimate
LEAST_SPREAD = 0.35  # of the estimate itself: makers' figures differ by that much
SIGMA_ML = 2.0  # one-sigma of a reading that says none: the eye at a window
OUTLIER = 3.5  # sigmas from which a stretch is named and counts less
WIDE = 1.96  # sigmas to either side of an interval: 95 in 100 where noise is normal
ROUNDS = 6  # of reweighting; weights change by less than a hundredth after four


class Learnt(Frozen):
    """What one kind of step takes from one tank, ml each time (for `prints` ml a day).

    prior : the starting estimate; ml : what was learnt, low and high its interval; times : how often it lay between two readings
    """

    channel: str
    kind: str
    prior_ml: float
    ml: float
    low_ml: float
    high_ml: float
    times: float

    @property
    def sure(self) -> bool:
        """Whether readings say more than the estimate did."""
        return self.times > 0 and self.high_ml - self.low_ml < 0.8 * max(self.prior_ml, self.ml, 0.05)


class Stretch(Frozen):
    """Time between two readings of a tank: what left it, what was expected, how many sigmas that is off."""

    channel: str
    start: datetime
    end: datetime
    left_ml: float
    expected_ml: float
    sigmas: float

    @property
    def odd(self) -> bool:
        """Whether it fits nothing that is known."""
        return abs(self.sigmas) >= OUTLIER


class Lessons(Frozen):
    """Everything learnt about a printer's use of ink, and the stretches that it was learnt from."""

    learnt: tuple[Learnt, ...]
    stretches: tuple[Stretch, ...]

    def of(self, channel: str, kind: str) -> Learnt | None:
        """What is known of one kind of step on one channel."""
        return next((x for x in self.learnt if x.channel == channel and x.kind == kind), None)


class _Row(Frozen):
    start: datetime
    end: datetime
    total: float
    sigma: float
    counts: dict[str, float]


def learn(printer: Printer, lines: Numbered, table: StepTable) -> Lessons:
    """What this printer's steps take, per channel."""
    learnt: list[Learnt] = []
    stretches: list[Stretch] = []
    held = [entry for _, entry in standing(lines)]
    for channel in printer.channels:
        rows = _rows(channel.name, channel.level_ml, held)
        kinds = [*sorted({k for row in rows for k in row.counts if k != PRINTS}), PRINTS]
        prior = [_prior(kind, table) for kind in kinds]
        found, off = _fitted(rows, kinds, prior)
        for k, kind in enumerate(kinds):
            ml, sd = float(found[0][k]), float(found[1][k])
            learnt.append(
                Learnt(
                    channel=channel.name, kind=kind, prior_ml=round(prior[k][0], 4), ml=round(ml, 4), low_ml=round(max(0.0, ml - WIDE * sd), 4),
                    high_ml=round(ml + WIDE * sd, 4), times=round(sum(row.counts.get(kind, 0.0) for row in rows), 2),
                )
            )  # fmt: skip
        for row, sigmas in zip(rows, off, strict=True):
            expected = sum(float(found[0][k]) * row.counts.get(kind, 0.0) for k, kind in enumerate(kinds))
            stretches.append(
                Stretch(
                    channel=channel.name, start=row.start, end=row.end, left_ml=round(row.total, 3), expected_ml=round(expected, 3),
                    sigmas=round(float(sigmas), 2),
                )
            )  # fmt: skip
    return Lessons(learnt=tuple(learnt), stretches=tuple(stretches))


def _prior(kind: str, table: StepTable) -> tuple[float, float]:
    if kind == PRINTS:
        return PRINTS_PRIOR_ML
    names: Mapping[str, StepName] = {name: name for name in table}
    ink = table[names[kind]].ink(1)
    return ink.typical, max(PRIOR_SPREAD * (ink.high - ink.low), LEAST_SPREAD * ink.typical)


def _rows(channel: str, opening: float | None, held: list[Entry]) -> list[_Row]:
    """Stretches between readings of one tank, with what was done in each."""
    rows: list[_Row] = []
    at: datetime | None = None
    level, sigma, filled, measured = 0.0, SIGMA_ML, 0.0, 0.0
    counts: dict[str, float] = {}
    for entry in held:
        if entry.channel != channel:
            continue
        if entry.what == "level":
            now_sigma = entry.sigma_ml if entry.sigma_ml is not None else SIGMA_ML
            if at is not None:
                counts[PRINTS] = (entry.at - at).total_seconds() / 86_400
                total = level + filled - entry.ink_ml - measured
                rows.append(
                    _Row(start=at, end=entry.at, total=total, sigma=float(np.hypot(sigma, now_sigma)), counts=counts)
                )
            at, level, sigma, filled, measured, counts = entry.at, entry.ink_ml, now_sigma, 0.0, 0.0, {}
        elif at is None:
            continue  # what is in a tank before its first reading is only said, not read
        elif entry.what == "fill":
            if entry.step == "refill":
                at = None  # filled up: how much went in was not measured, so the stretch says nothing
            filled += entry.ink_ml
        elif entry.basis == "measured" or entry.step is None:
            measured += entry.ink_ml
        else:
            counts[entry.step] = counts.get(entry.step, 0.0) + entry.units
    return rows


def _fitted(
    rows: list[_Row], kinds: list[str], prior: list[tuple[float, float]]
) -> tuple[tuple[Floats, Floats], Floats]:
    """Amounts (k,), their one-sigma (k,), and how many sigmas each stretch is off (n,)."""
    mean, spread = np.array(prior).T
    counts = np.array([[row.counts.get(kind, 0.0) for kind in kinds] for row in rows]).reshape(-1, len(kinds))
    total = np.array([row.total for row in rows])
    sigma = np.array([row.sigma for row in rows])
    weight = np.ones(len(rows))
    ml, off = mean.copy(), np.zeros(len(rows))
    precision = np.diag(1 / spread**2)
    for _ in range(ROUNDS):
        scaled = counts * (np.sqrt(weight) / sigma)[:, None] if len(rows) else counts
        precision = scaled.T @ scaled + np.diag(1 / spread**2)
        pull = scaled.T @ (total * np.sqrt(weight) / sigma) + mean / spread**2 if len(rows) else mean / spread**2
        ml = not_below_zero(precision, pull)
        if not len(rows):
            break
        off = (total - counts @ ml) / sigma
        weight = 1 / (1 + (off / OUTLIER) ** 2) ** 2
    return (ml, np.sqrt(np.diag(np.linalg.inv(precision)))), off


def not_below_zero(normal: Floats, pull: Floats) -> Floats:
    """x (k,) of least 1/2 x'Ax - b'x with no entry below nothing, A (k, k) positive definite: one entry at a time.

    Coordinate descent; for a strictly convex problem it comes to the one least point (Tseng 2001).
    """
    x: Floats = np.maximum(np.linalg.solve(normal, pull), 0.0)
    for _ in range(500):
        before = x.copy()
        for k in range(len(x)):
            x[k] = max(0.0, (pull[k] - normal[k] @ x + normal[k, k] * x[k]) / normal[k, k])
        if np.abs(x - before).max() < 1e-9:
            break
    return x
