"""Two sheets side by side: which faults stayed, which are new, and whether chance alone would do that."""

from collections.abc import Sequence, Set
from fractions import Fraction
from math import comb
from typing import Literal

from dusky_sieve.core.layout import Frozen

MovementCall = Literal["first", "fixed", "moving", "mixed", "clearing", "cleared", "worse", "too_few"]

SURE_BELOW = 0.01  # chance of so large an overlap under pure wandering, below which it is no accident
SAME_SHARE = 0.6  # stayed over all faults seen on either sheet, from which the gaps "stand still"
FEWER_SHARE = 0.75  # after over before, at or below which the faults are getting fewer
WORSE_SHARE = 1.5  # after over before, at or above which they are getting more
LEAST_CHANGE = 2  # faults; one more or less is no trend
LEAST_TO_JUDGE = 5  # faults on both sheets together, below which wandering cannot be told from luck
LEAST_SLIPPED = 3  # faults that must stand beside where they stood, for a slip in numbering to be believed
WANDER_SHARE = 0.25  # stayed over the smaller sheet's faults, at or below which the gaps wander


class Trend(Frozen):
    """How a channel's number of faults went over the steps of a case.

    per_step : faults gained (below 0: lost) with each step; low, high : its 95 % interval, where three sheets or more say
    steps_left : steps until none is left at this rate; None where they do not get fewer
    """

    sheets: int
    per_step: float
    low: float | None = None
    high: float | None = None
    steps_left: float | None = None


class Movement(Frozen):
    """How one channel's faults moved from the sheet before to this one.

    renumbered : the overlap was found with one reading's numbers moved on by one; a slip in numbering, not in the head
    """

    call: MovementCall
    before: int = 0
    after: int = 0
    stayed: int = 0
    expected_by_chance: float = 0.0
    p_value: float = 1.0
    renumbered: int = 0
    trend: Trend | None = None


def overlap_chance(nozzles: int, before: int, after: int, stayed: int) -> float:
    """Probability that at least `stayed` faults stay when `after` faults fall anywhere among `nozzles`.

    Upper tail of the hypergeometric distribution, summed exactly.
    """
    ways = sum(comb(before, k) * comb(nozzles - before, after - k) for k in range(stayed, min(before, after) + 1))
    return float(Fraction(ways, comb(nozzles, after)))


def compare(before: Set[int] | None, after: Set[int], nozzles: int) -> Movement:
    """Movement of a channel's faulty nozzles between two sheets; `before` None where there is none to compare."""
    b = len(after)
    if before is None:
        return Movement(call="first", after=b)
    a = len(before)
    if a == 0 or b == 0:
        call: MovementCall = "cleared" if a else "too_few" if b < LEAST_CHANGE else "worse"
        return Movement(call=call, before=a, after=b)
    slip = _slip(before, after)
    stayed = len({n + slip for n in before} & after)
    chance = min(1.0, overlap_chance(nozzles, a, b, stayed) * (3 if slip else 1))  # three numberings were tried
    return Movement(
        call=_call(a, b, stayed, nozzles, chance), before=a, after=b, stayed=stayed, renumbered=slip,
        expected_by_chance=float(f"{a * b / nozzles:.4g}"), p_value=float(f"{chance:.4g}"),
    )  # fmt: skip


def _slip(before: Set[int], after: Set[int]) -> int:
    """-1 or 1 where nearly all faults stand beside where they stood and nearly none where they stood; else 0."""
    stayed = {slip: len({n + slip for n in before} & after) for slip in (0, 1, -1)}
    best = max((1, -1), key=lambda slip: stayed[slip])
    least = max(LEAST_SLIPPED, SAME_SHARE * min(len(before), len(after)))
    return best if stayed[best] >= least and stayed[0] <= 0.25 * stayed[best] else 0


def _stayed(before: Set[int], after: Set[int]) -> int:
    slip = _slip(before, after)
    return len({n + slip for n in before} & after)


def follow(sheets: Sequence[Set[int]], nozzles: int, steps: Sequence[int]) -> Movement:
    """Movement over all sheets of a case that read a channel: the last two compared, and the trend of all.

    sheets : faulty nozzles per sheet, in time; steps : how many steps had been done by each
    """
    movement = compare(sheets[-2] if len(sheets) > 1 else None, sheets[-1], nozzles)
    return movement.model_copy(update={"trend": trend([len(s) for s in sheets], steps)})


def trend(counts: Sequence[int], steps: Sequence[int]) -> Trend | None:
    """Least squares of counts over steps done; the interval from the residuals' spread and that of counting (Poisson)."""
    if len(counts) < 2 or len(set(steps)) < 2:
        return None
    n = len(counts)
    x, y = [s - sum(steps) / n for s in steps], [c - sum(counts) / n for c in counts]
    spread = sum(v * v for v in x)
    slope = sum(u * v for u, v in zip(x, y, strict=True)) / spread
    left = None if slope >= -1e-9 or counts[-1] == 0 else round(counts[-1] / -slope, 1)
    if n < 3:
        return Trend(sheets=n, per_step=round(slope, 2), steps_left=left)
    residual = sum((v - slope * u) ** 2 for u, v in zip(x, y, strict=True)) / (n - 2)
    error = 1.96 * (max(residual, sum(counts) / n) / spread) ** 0.5
    return Trend(sheets=n, per_step=round(slope, 2), low=round(slope - error, 2), high=round(slope + error, 2), steps_left=left)  # fmt: skip


def _call(a: int, b: int, stayed: int, nozzles: int, chance: float) -> MovementCall:
    if a == b == stayed == nozzles:
        return "fixed"
    if _fewer(a, b):
        return "clearing"
    if _more(a, b):
        return "worse"
    same = stayed / (a + b - stayed)
    if same >= SAME_SHARE and chance < SURE_BELOW:
        return "fixed"
    if a + b >= LEAST_TO_JUDGE and stayed <= max(WANDER_SHARE * min(a, b), a * b / nozzles):
        return "moving"
    if chance < SURE_BELOW and a + b >= LEAST_TO_JUDGE:
        return "mixed"
    return "too_few"


def unchanged(before: dict[str, frozenset[int]], after: dict[str, frozenset[int]]) -> bool:
    """Whether the faults of all channels read on both sheets stand still: mostly the same ones, neither fewer nor more."""
    both = before.keys() & after.keys()
    stayed = sum(_stayed(before[name], after[name]) for name in both)
    a, b = (sum(len(seen[name]) for name in both) for seen in (before, after))
    if a + b == 0 or _fewer(a, b) or _more(a, b):
        return False
    return stayed / (a + b - stayed) >= SAME_SHARE


def _fewer(a: int, b: int) -> bool:
    return b <= FEWER_SHARE * a and a - b >= LEAST_CHANGE


def _more(a: int, b: int) -> bool:
    return b >= WORSE_SHARE * a and b - a >= LEAST_CHANGE
