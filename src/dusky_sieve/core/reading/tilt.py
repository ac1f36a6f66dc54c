"""How the sheet leans, from its strokes alone: before anything is known of where the pattern lies.

All marks of a sheet are parallel and nearly all are equally long. Seen from a tilt their directions fan out and
their lengths shrink away from the camera; both give the vanishing line of the sheet's plane, and with the usual
width of a phone's lens the tilt itself. What is left to find is then a similarity.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import solved
from dusky_sieve.core.reading.inkmap import Lens, Strokes
from dusky_sieve.core.reading.order import one_sigma

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

BINS = 90  # of the direction histogram, over half a turn
FANNED = np.radians(16)  # how far tilt and lens bend directions away from their median
CENTRAL = 0.3  # one-sigma of a stroke's say over the frame's longer side: people put the sheet in the middle
EVEN_LENGTHS = 0.3  # spread of log length up to which strokes are taken for single marks
LEAST_STROKES = 12  # strokes that a tilt can be told from; a run of touching marks says as much as its pieces would
PIECE_PX, MOST_PIECES = (
    25.0,
    6.0,
)  # length of a piece whose direction is as sure as a mark's, and how many a run counts for
LONG_SHARE = 0.4  # of the length (ink) that long strokes have, from which a stroke is one of them: words are not
THREADLIKE = 8.0  # length over width, which no letter's stroke has
MORE_OF_RUNS = 2  # hypotheses beyond one a direction
SAME_STROKES = 0.8  # of the strokes of two hypotheses: where they share that many, they are one
TOLD = 3.0  # one-sigmas of a slope, from which it is told from none
MOST_LEAN = 0.75  # tangent of the steepest tilt that is believed
NEAR_BY = 0.12  # of the frame's longer side: strokes so near each other are mostly of one block
PAIRED = 4000  # pairs of them that are enough
ALIKE = 0.2  # between two strokes' log lengths, up to which they are marks of one length: no tilt shrinks them more over that distance


@dataclass(frozen=True)
class Lean:
    """A hypothesis of how the sheet leans.

    to_map : (3, 3) from a plane seen squarely to ink map pixels; same scale as the map at its middle
    direction : radians of the strokes in that plane
    length : typical stroke length in that plane, pixels; None where lengths say nothing
    follows : (n,) strokes that run that way
    """

    to_map: Floats
    direction: float
    length: float | None
    follows: Bools


def leans(strokes: Strokes, shape: tuple[int, int], most: int, faint: float, *, even: bool = True, lens: Lens | None = None) -> list[Lean]:  # fmt: skip
    """Likely leans, best first: at most `most` directions whose peak is not fainter than `faint` of the highest.

    A direction that letters or table grain share with a few long runs of marks is two hypotheses, with a frame three.
    even : whether all blocks have marks of one length; else strokes are compared only with those near by
    lens : what took the photo, where the map is but a part of it
    """
    found: list[Lean] = []
    lens = lens or Lens.of(shape)
    thin = strokes.long > np.maximum(PIECE_PX, THREADLIKE * strokes.wide)
    middle = np.array([shape[1] - 1, shape[0] - 1]) / 2
    near = np.exp(-0.5 * (((strokes.centre - middle) / (CENTRAL * max(shape))) ** 2).sum(axis=1))
    for peak in _peaks(strokes, near, most, faint):
        follows = np.abs(_half_turn(strokes.lean - peak)) < FANNED
        long = _long_ones(strokes, follows)
        # A frame's two sides may be longer than all else that runs their way, and specks more than marks.
        rest = _long_ones(strokes, follows & ~long) if long.sum() < LEAST_STROKES else long
        # Runs of touching marks that gaps part are of any length, and thin.
        parted = [follows & thin] if rest.sum() < LEAST_STROKES else []
        for those in (follows, long, rest, *parted):
            lean = (
                None
                if any(_same(those, other.follows) for other in found)
                else _lean(strokes, near, shape, peak, those, even, lens)
            )
            found += [lean] if lean is not None else []
    return found[: most + MORE_OF_RUNS]


def running_along(strokes: Strokes, line: Floats) -> Lean:
    """Those of the strokes that run about as a line (2, 2) on the map does; of how the sheet leans it says nothing."""
    ((right, down),) = np.diff(line, axis=0)
    way = float(np.arctan2(down, right))
    return Lean(np.eye(3), way, None, np.abs(_half_turn(strokes.lean - way)) < FANNED)


def _same(a: Bools, b: Bools) -> bool:
    return float((a & b).sum()) > SAME_STROKES * float((a | b).sum())


def _long_ones(strokes: Strokes, follows: Bools) -> Bools:
    """Those of some strokes (n,) that are about as long and dark as the ones that make up most of their ink."""
    if not follows.any():
        return follows
    weight = strokes.long**2 * strokes.ink * follows
    long, ink = (_weighted_median(v, weight) for v in (strokes.long, strokes.ink))
    return np.asarray(follows & (strokes.long > LONG_SHARE * long) & (strokes.ink > LONG_SHARE * ink))


def _weighted_median(value: Floats, weight: Floats) -> float:
    order = np.argsort(value)
    total = np.cumsum(weight[order])
    return float(value[order][np.searchsorted(total, total[-1] / 2)])


def _peaks(strokes: Strokes, near: Floats, most: int, faint: float) -> list[float]:
    """Directions (radians) that many strokes share, best first: many short ones, or fewer long ones."""
    lean, long, ink = strokes.lean, strokes.long, strokes.ink
    if _pieces(long).sum() < LEAST_STROKES:
        return []
    chosen: list[float] = []
    capped = np.minimum(long, 4 * np.median(long))
    for weight in (capped * ink * near, long**2 * ink * near):
        histogram, _ = np.histogram(lean % np.pi, bins=BINS, range=(0, np.pi), weights=weight)
        wrapped = np.concatenate([histogram[-3:], histogram, histogram[:3]])
        smooth = np.convolve(wrapped, np.array([1, 2, 3, 4, 3, 2, 1]) / 16, "valid")
        for k in np.argsort(smooth)[::-1]:
            angle = (float(k) + 0.5) * np.pi / BINS
            if smooth[k] < faint * smooth.max() or len(chosen) == most:
                break
            if all(abs(_half_turn(angle - other)) > np.radians(12) for other in chosen):
                chosen.append(angle)
    return chosen


def _lean(strokes: Strokes, near: Floats, shape: tuple[int, int], peak: float, follows: Bools, even: bool, lens: Lens) -> Lean | None:  # fmt: skip
    """Vanishing line by robust regression of direction and log length on place, of strokes near a direction."""
    middle = lens.middle
    off = _half_turn(strokes.lean - peak)
    if _pieces(strokes.long[follows]).sum() < LEAST_STROKES:
        return None
    angle, place = off[follows], strokes.centre[follows] - middle
    length = strokes.long[follows]
    weight = np.minimum(length, np.median(length)) * near[follows]
    across = place @ np.array([-np.sin(peak), np.cos(peak)])
    fit, spread = _robust(np.column_stack([np.ones(len(angle)), across]), angle, weight, np.radians(1.5))
    if abs(fit[1]) < _slope_sigma(spread, len(angle), across):
        # A few rows close together say how they run and not how that changes across them.
        fit = np.array([np.median(angle), 0.0])
    turn, p1 = peak + float(fit[0]), -float(fit[1])
    x, y = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
    like = np.abs(np.log(length / np.median(length))) < np.log(1.8)
    p2, typical = 0.0, None
    if not even:
        along, across = place @ x, place @ y
        p2 = _shrinking(place, np.log(length) + 2 * p1 * along, across, NEAR_BY * max(shape))
    elif like.sum() >= LEAST_STROKES:  # of runs cut by gaps lengths say little
        along, across = place[like] @ x, place[like] @ y
        value = np.log(length[like]) + 2 * p1 * along
        fit, spread = _robust(np.column_stack([np.ones(len(value)), across]), value, near[follows][like], 0.05)
        if spread < EVEN_LENGTHS and like.mean() > 0.4:
            typical = float(np.exp(fit[0]))
            told = abs(fit[1]) > TOLD * _slope_sigma(spread, len(value), across)
            p2 = -float(fit[1]) if told else 0.0
    lean = np.array([p1, p2])
    steep = float(np.linalg.norm(lean)) * lens.focal
    if steep > MOST_LEAN:
        lean *= MOST_LEAN / steep
        steep = MOST_LEAN
    stretch = np.eye(2)
    if steep > 1e-6:
        d = lean / np.linalg.norm(lean)
        stretch += (1 / np.hypot(1, steep) - 1) * np.outer(d, d)  # cosine of the tilt
    flat = np.eye(3)
    flat[:2, :2] = stretch
    plane = np.array([[1, 0, 0], [0, 1, 0], [lean[0], lean[1], 1.0]])
    frame = np.array([[x[0], y[0], middle[0]], [x[1], y[1], middle[1]], [0, 0, 1]])
    along = np.linalg.inv(stretch) @ np.array([1.0, 0.0])
    return Lean(np.asarray(frame @ plane @ flat, np.float64), float(np.arctan2(along[1], along[0])), None if typical is None else typical * float(np.linalg.norm(along)), follows)  # fmt: skip


def _shrinking(place: Floats, value: Floats, across: Floats, reach: float) -> float:
    """How fast log lengths (n,) shrink across the strokes, a pixel, by pairs of like strokes near by; 0 where noise hides it."""
    rng = np.random.default_rng(len(value))
    one, other = rng.integers(0, len(value), (2, 20 * PAIRED))
    kept = (one != other) & (np.abs(place[one] - place[other]) < reach).all(axis=1)
    kept &= np.abs(value[one] - value[other]) < ALIKE  # a block of short marks above one of long ones is no tilt
    one, other = one[kept][:PAIRED], other[kept][:PAIRED]
    if len(one) < LEAST_STROKES:
        return 0.0
    apart = across[one] - across[other]
    fit, spread = _robust(apart[:, None], value[one] - value[other], np.ones(len(one)), 0.05)
    noise = _slope_sigma(spread, min(len(one), len(value)), apart)
    return -float(fit[0]) if abs(fit[0]) > TOLD * noise else 0.0


def _slope_sigma(spread: float, count: int, along: Floats) -> float:
    """One-sigma of a slope fitted to `count` values that scatter by a spread about it, at places (n,)."""
    return spread / float(np.sqrt(count) * along.std() + 1e-9)


def _pieces(long: Floats) -> Floats:
    """How many marks' worth each stroke of a length (n,) px says about directions."""
    return np.asarray(np.clip(long / PIECE_PX, 1.0, MOST_PIECES))


def _robust(basis: Floats, value: Floats, weight: Floats, least: float) -> tuple[Floats, float]:
    """Coefficients of a linear fit by iterated Cauchy weights, and the robust spread left."""
    w: Floats = weight.astype(np.float64)
    spread = least
    fit: Floats = np.zeros(basis.shape[1], np.float64)
    for _ in range(8):
        scaled = basis * w[:, None]
        fit = solved(scaled.T @ basis + 1e-9 * np.eye(basis.shape[1]), scaled.T @ value)
        left = value - basis @ fit
        spread = max(one_sigma(left), least)
        w = np.asarray(weight / (1 + (left / spread) ** 2), np.float64)
    return fit, spread


def _half_turn(angle: Floats | float) -> Floats:
    """Angles brought to -pi/2..pi/2."""
    return np.asarray((np.asarray(angle) + np.pi / 2) % np.pi - np.pi / 2)
