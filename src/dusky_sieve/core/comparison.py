"""Two sheets side by side: which faults stayed, which are new, and whether chance alone would do that."""

from collections.abc import Set
from fractions import Fraction
from math import comb
from typing import Literal

from dusky_sieve.core.layout import Frozen

MovementCall = Literal["first", "fixed", "moving", "mixed", "clearing", "cleared", "worse", "too_few"]

SURE_BELOW = 0.01  # chance of so large an overlap under pure wandering, below which it is no accident
SAME_SHARE = 0.6  # stayed over all faults seen on either sheet, from which the gaps "stand still"
UNCHANGED_SHARE = 0.8  # the same, from which a step is said to have changed nothing
FEWER_SHARE = 0.75  # after over before, at or below which the faults are getting fewer
WORSE_SHARE = 1.5  # after over before, at or above which they are getting more
LEAST_CHANGE = 2  # faults; one more or less is no trend
LEAST_TO_JUDGE = 5  # faults on both sheets together, below which wandering cannot be told from luck
WANDER_SHARE = 0.25  # stayed over the smaller sheet's faults, at or below which the gaps wander


class Movement(Frozen):
    """How one channel's faults moved from the sheet before to this one."""

    call: MovementCall
    before: int = 0
    after: int = 0
    stayed: int = 0
    expected_by_chance: float = 0.0
    p_value: float = 1.0


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
    a, stayed = len(before), len(before & after)
    if a == 0 or b == 0:
        call: MovementCall = "cleared" if a else "too_few" if b < LEAST_CHANGE else "worse"
        return Movement(call=call, before=a, after=b)
    chance = overlap_chance(nozzles, a, b, stayed)
    return Movement(
        call=_call(a, b, stayed, nozzles, chance), before=a, after=b, stayed=stayed,
        expected_by_chance=float(f"{a * b / nozzles:.4g}"), p_value=float(f"{chance:.4g}"),
    )  # fmt: skip


def _call(a: int, b: int, stayed: int, nozzles: int, chance: float) -> MovementCall:
    if a == b == stayed == nozzles:
        return "fixed"
    if b <= FEWER_SHARE * a and a - b >= LEAST_CHANGE:
        return "clearing"
    if b >= WORSE_SHARE * a and b - a >= LEAST_CHANGE:
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
    """Whether the faults of all channels read on both sheets are, but for a few, the same ones."""
    both = before.keys() & after.keys()
    stayed = sum(len(before[name] & after[name]) for name in both)
    either = sum(len(before[name] | after[name]) for name in both)
    return either > 0 and stayed / either >= UNCHANGED_SHARE
