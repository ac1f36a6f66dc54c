"""From what was measured of a mark to its state and how sure that is."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading.document import Fault, State
from dusky_sieve.core.reading.order import median, one_sigma

Floats = NDArray[np.float64]

MISSING_BELOW = 0.15  # share of the block's typical mark, reading contract
WEAK_BELOW = 0.60  # share of the block's typical mark, reading contract
DEFLECTED_FROM = 0.50  # nozzle pitches from its place, reading contract
UNSURE_BELOW = 0.60  # probability of the likeliest state under which a person is asked; 0.5 is a coin
INK_FLOOR = 0.035  # share: what the profile model misses even on a clean photo; from benchmarks/read.py residuals
# One-sigma of ink among a block's firing marks that INK_FLOOR stands for, and how many one-sigmas of what they scatter more a mark's
# own ink is uncertain by, for scatter has a longer tail below: thin marks far away, smoothed or compressed away in part. Of what was
# called weak at the bad end of own tuning seeds 0-59 98.0 % was before and 98.8 % is with it, of coarse heads' sheets 96.7 and 98.1 %.
USUAL_SCATTER, SCATTERED = 0.05, 2.5
# The same of places across travel, nozzle pitches, for PLACE_FLOOR: where a pitch is a pixel and a half, places scatter by a quarter of one.
# On 334 tuning sheets of four worlds 6 of 147 wrong marks go with it, and on 80 perfect ones of another 12 of 34.
USUAL_OFF, OFF_SCATTERED = 0.1, 2.0
LEAST_FIRING = 12  # marks, from which their scatter is known
PLACE_FLOOR = 0.045  # nozzle pitches: the same for the place
# Odds, against those elsewhere, that a nozzle of a dead block printed nothing: one in twenty still does.
AMONG_DEAD = 20.0
THROW_ALONG = 0.25  # nozzle pitches: one-sigma of throws along travel; most go across it

STATES: tuple[State, ...] = ("firing", "missing", "deflected", "weak")


@dataclass(frozen=True)
class Judgement:
    """States of a block's marks: `state` (n,) as indices into STATES, `probability` (n,), `judged` (n,)."""

    state: NDArray[np.int64]
    probability: Floats
    judged: NDArray[np.bool_]


def judge_marks(
    ink: Floats,
    ink_sigma: Floats,
    offset_pitches: Floats,
    offset_sigma: Floats,
    judged: NDArray[np.bool_],
    *,
    dead: bool = False,
) -> Judgement:
    """The likeliest state of each mark and its probability.

    ink, ink_sigma : (n,) share of the typical mark
    offset_pitches, offset_sigma : (n, 2) in nozzle pitches, block shift and warp taken out; NaN where unprinted
    judged : (n,) False where the photo hides the mark
    dead : hardly any mark of the block printed, so that one which seems to is likelier noise than elsewhere

    Errors of ink and of both directions are taken as independent; the offset is the distance in any direction,
    its error that along the line to its place.
    """
    spread = np.hypot(ink_sigma, INK_FLOOR + 0.03 * np.clip(ink, 0, 1))
    spread = np.hypot(spread, SCATTERED * _scatter(ink[judged]) * np.clip(ink, 0, 1))
    p_missing = 1 - _above(ink, MISSING_BELOW, spread)
    p_full = _above(ink, WEAK_BELOW, spread)
    off = np.nan_to_num(offset_pitches, nan=0.0)
    sigma = np.hypot(np.nan_to_num(offset_sigma, nan=1.0), PLACE_FLOOR)
    sigma[:, 1] = np.hypot(sigma[:, 1], OFF_SCATTERED * _scatter_of_places(off[judged & (ink > WEAK_BELOW), 1]))
    # Along travel a long mark hardly tells its place: what is measured there counts by how well it is known.
    off[:, 0] *= THROW_ALONG**2 / (THROW_ALONG**2 + sigma[:, 0] ** 2)
    sigma[:, 0] = np.minimum(sigma[:, 0], THROW_ALONG)
    away = np.hypot(off[:, 0], off[:, 1])
    toward = np.abs(off) / np.maximum(away, 1e-9)[:, None]
    p_away = _above(away, DEFLECTED_FROM, np.hypot(toward[:, 0] * sigma[:, 0], toward[:, 1] * sigma[:, 1]) + 1e-6)
    p_away = np.where(np.isnan(offset_pitches).any(axis=1), 0.0, p_away)
    p_here = 1 - p_away
    p_weak = np.maximum(1 - p_missing - p_full, 0)
    table = np.stack([p_full * p_here, p_missing, (1 - p_missing) * p_away, p_weak * p_here], axis=1)
    table[:, 1] *= AMONG_DEAD if dead else 1.0
    table /= table.sum(axis=1, keepdims=True)
    state = table.argmax(axis=1)
    return Judgement(state, table[np.arange(len(state)), state], judged)


def _scatter(ink: Floats) -> float:
    """One-sigma of what ink (n,), shares of the typical mark, differs from mark to mark beyond what is usual.

    Of marks that fire, and above their middle: weak ones lie below it.
    """
    firing = ink[ink > WEAK_BELOW]
    if len(firing) < LEAST_FIRING:
        return 0.0
    usual = float(median(firing))
    return _beyond(one_sigma(firing[firing >= usual] - usual), USUAL_SCATTER)


def _scatter_of_places(off: Floats) -> float:
    """One-sigma of how far firing marks lie off (n,), nozzle pitches, beyond what is usual: most do not throw askew."""
    return _beyond(one_sigma(off), USUAL_OFF) if len(off) >= LEAST_FIRING else 0.0


def _beyond(sigma: float, usual: float) -> float:
    """What one-sigma is left of a scatter less the usual one."""
    return float(np.sqrt(max(sigma**2 - usual**2, 0.0)))


def faults_of(
    block: MarksBlock, judgement: Judgement, ink: Floats, offset_um: Floats
) -> tuple[tuple[Fault, ...], dict[str, int]]:
    """Every nozzle that is not firing, in nozzle order, and the counts, which add up to the block's nozzles."""
    counts = {"firing": 0, "missing": 0, "deflected": 0, "weak": 0, "unsure": 0}
    faults: list[Fault] = []
    for i, nozzle in enumerate(block.numbers):
        state = STATES[judgement.state[i]]
        if not judgement.judged[i] or judgement.probability[i] < UNSURE_BELOW:
            counts["unsure"] += 1
            faults.append(Fault(nozzle=nozzle, state="unsure"))
            continue
        counts[state] += 1
        if state == "firing":
            continue
        sure = round(float(min(judgement.probability[i], 0.999)), 3)
        amount = round(float(ink[i]), 2)
        if state == "missing":
            faults.append(Fault(nozzle=nozzle, state="missing", confidence=sure))
        elif state == "weak":
            faults.append(Fault(nozzle=nozzle, state="weak", confidence=sure, ink=amount))
        else:
            place = (round(float(offset_um[i, 0])), round(float(offset_um[i, 1])))
            faults.append(
                Fault(
                    nozzle=nozzle,
                    state="deflected",
                    confidence=sure,
                    offset_um=place,
                    ink=amount if amount < WEAK_BELOW else None,
                )
            )
    return tuple(faults), counts


def _above(value: Floats, limit: float, sigma: Floats) -> Floats:
    """Probability that the true value reaches the limit: logistic with a normal's variance, for its heavier tails."""
    z = np.clip((value - limit) / sigma * (np.pi / np.sqrt(3)), -50, 50)
    return np.asarray(1 / (1 + np.exp(-z)))
