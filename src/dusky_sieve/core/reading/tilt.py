"""How the sheet leans, from its strokes alone: before anything is known of where the pattern lies.

All marks of a sheet are parallel and nearly all are equally long. Seen from a tilt their directions fan out and
their lengths shrink away from the camera; both give the vanishing line of the sheet's plane, and with the usual
width of a phone's lens the tilt itself. What is left to find is then a similarity.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.inkmap import Strokes

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

BINS = 90  # of the direction histogram, over half a turn
FANNED = np.radians(16)  # how far tilt and lens bend directions away from their median
CENTRAL = 0.3  # one-sigma of a stroke's say over the frame's longer side: people put the sheet in the middle
FOCAL_SHARE = 0.85  # focal length over the frame's longer side; phones' main lenses lie between 0.7 and 1.1
EVEN_LENGTHS = 0.3  # spread of log length up to which strokes are taken for single marks
LEAST_STROKES = 12  # strokes that a tilt can be told from
MOST_LEAN = 0.75  # tangent of the steepest tilt that is believed


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


def leans(strokes: Strokes, shape: tuple[int, int], most: int, faint: float) -> list[Lean]:
    """Likely leans, best first: at most `most`, of directions whose peak is not fainter than `faint` of the highest."""
    found: list[Lean] = []
    middle = np.array([shape[1] - 1, shape[0] - 1]) / 2
    near = np.exp(-0.5 * (((strokes.centre - middle) / (CENTRAL * max(shape))) ** 2).sum(axis=1))
    for peak in _peaks(strokes, near, most, faint):
        lean = _lean(strokes, near, shape, peak)
        if lean is not None:
            found.append(lean)
    return found


def _peaks(strokes: Strokes, near: Floats, most: int, faint: float) -> list[float]:
    """Directions (radians) that many strokes share, best first: many short ones, or fewer long ones."""
    if len(strokes.long) < LEAST_STROKES:
        return []
    chosen: list[float] = []
    capped = np.minimum(strokes.long, 4 * np.median(strokes.long))
    for weight in (capped * strokes.ink * near, strokes.long**2 * strokes.ink * near):
        histogram, _ = np.histogram(strokes.lean % np.pi, bins=BINS, range=(0, np.pi), weights=weight)
        wrapped = np.concatenate([histogram[-3:], histogram, histogram[:3]])
        smooth = np.convolve(wrapped, np.array([1, 2, 3, 4, 3, 2, 1]) / 16, "valid")
        for k in np.argsort(smooth)[::-1]:
            angle = (float(k) + 0.5) * np.pi / BINS
            if smooth[k] < faint * smooth.max() or len(chosen) == most:
                break
            if all(abs(_half_turn(angle - other)) > np.radians(12) for other in chosen):
                chosen.append(angle)
    return chosen


def _lean(strokes: Strokes, near: Floats, shape: tuple[int, int], peak: float) -> Lean | None:
    """Vanishing line by robust regression of direction and log length on place."""
    middle = np.array([shape[1] - 1, shape[0] - 1]) / 2
    off = _half_turn(strokes.lean - peak)
    follows = np.abs(off) < FANNED
    if follows.sum() < LEAST_STROKES:
        return None
    angle, place = off[follows], strokes.centre[follows] - middle
    length = strokes.long[follows]
    weight = np.minimum(length, np.median(length)) * near[follows]
    across = place @ np.array([-np.sin(peak), np.cos(peak)])
    fit, _ = _robust(np.column_stack([np.ones(len(angle)), across]), angle, weight, np.radians(1.5))
    turn, p1 = peak + float(fit[0]), -float(fit[1])
    x, y = np.array([np.cos(turn), np.sin(turn)]), np.array([-np.sin(turn), np.cos(turn)])
    like = np.abs(np.log(length / np.median(length))) < np.log(1.8)
    p2, typical = 0.0, None
    if like.sum() >= LEAST_STROKES:
        along, across = place[like] @ x, place[like] @ y
        value = np.log(length[like]) + 2 * p1 * along
        fit, spread = _robust(np.column_stack([np.ones(len(value)), across]), value, near[follows][like], 0.05)
        if spread < EVEN_LENGTHS and like.mean() > 0.4:
            typical = float(np.exp(fit[0]))
            noise = 3 * spread / (np.sqrt(len(value)) * across.std() + 1e-9)
            p2 = -float(fit[1]) if abs(fit[1]) > noise else 0.0
    focal = FOCAL_SHARE * max(shape)
    lean = np.array([p1, p2])
    steep = float(np.linalg.norm(lean)) * focal
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


def _robust(basis: Floats, value: Floats, weight: Floats, least: float) -> tuple[Floats, float]:
    """Coefficients of a linear fit by iterated Cauchy weights, and the robust spread left."""
    w: Floats = weight.astype(np.float64)
    spread = least
    fit: Floats = np.zeros(basis.shape[1], np.float64)
    for _ in range(8):
        scaled = basis * w[:, None]
        normal = scaled.T @ basis + 1e-9 * np.eye(basis.shape[1])
        fit = np.asarray(np.linalg.lstsq(normal, scaled.T @ value, rcond=None)[0], np.float64)
        left = value - basis @ fit
        spread = max(1.4826 * float(np.median(np.abs(left))), least)
        w = np.asarray(weight / (1 + (left / spread) ** 2), np.float64)
    return fit, spread


def _half_turn(angle: Floats | float) -> Floats:
    """Angles brought to -pi/2..pi/2."""
    return np.asarray((np.asarray(angle) + np.pi / 2) % np.pi - np.pi / 2)
