"""From a homography that is about right to a smooth warp that lies on the strokes: curl and lens followed.

First across travel: points along every mark slide down the distance to the nearest stroke (Fitzgibbon 2003, "Robust
registration of 2D and 3D point sets"). Marks that are missing lie far from any stroke and take no part. Along travel
see `slide`.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import add_row, compiled, in_rows, on_picture, solved
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.order import median
from dusky_sieve.core.reading.registration import DEGREES, TERMS, Registration, through_matrix, warp_terms

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]
Bools = NDArray[np.bool_]

STILL_MM = 0.015  # a round that moves nothing further ends a stage
# Degree of the displacement, iterations, and the share of the pattern about its middle that takes part: it grows,
# so that the rim, where lens and curl bend most, is met from close by and not one row off.
Stage = tuple[int, int, float]
PLANS: tuple[tuple[Stage, ...], ...] = (
    ((1, 3, 0.5), (2, 4, 0.5)),
    ((2, 3, 0.75), (3, 4, 0.75)),
    ((3, 4, 1.0), (4, 5, 1.0)),
)
# From a smaller part outwards, for many rows close by: half of the pattern may already be rows off at its rim.
FROM_CLOSE_BY: tuple[tuple[Stage, ...], ...] = (
    ((1, 3, 0.15), (1, 3, 0.22), (2, 3, 0.3), (2, 3, 0.4), (2, 4, 0.5)),
    ((2, 3, 0.62), (3, 4, 0.75)),
    ((3, 4, 0.87), (4, 5, 1.0)),
)
# All of it at once: where alignment lies everywhere within a row, nothing led on from the middle lies better.
AT_ONCE: tuple[tuple[Stage, ...], ...] = (((2, 3, 1.0), (3, 4, 1.0), (4, 5, 1.0)),)
FINAL: tuple[Stage, ...] = ((2, 3, 0.75), (3, 4, 1.0), (4, 5, 1.0))
PARTS = 4  # of the sheet, each way, in looking for the one that is followed best
LEAST_OF_PART, WELL_FOLLOWED = 10, 0.6  # marks of a part, and the share of them that lie on strokes
ON_STROKE_PX = 1.5  # of the ink map
STIFF, FREE_TERMS = 0.002, 3  # pull towards the start, per point, of terms beyond those of the first degree
LEAST_HEARD = 12  # points that strokes are near to, under which they say nothing
FAR_PX = 64  # from all strokes: no point looks so far, see `cap`
FAR_SHARE = 0.45  # of the lattice's clear height: beyond it a point belongs to no stroke


def away_from(points: Floats, seed: Floats | None) -> Floats:
    """How far points (n, 2) are from a seed, or from the middle of all, about 0..1 either way; about a seed, of the furthest."""
    off = np.abs(points - (median(points, axis=0) if seed is None else seed))
    return np.asarray(off / ((np.ptp(points, axis=0) / 2 if seed is None else off.max(axis=0)) + 1e-9))


def best_followed(distance: Singles, place: Registration, marks: Marks) -> Floats | None:
    """The middle (2,) mm of the part of the sheet whose marks lie on strokes best; None where no part does."""
    near = _values(distance, place.to_photo(marks.centres)) < ON_STROKE_PX
    low, size = marks.centres.min(axis=0), np.ptp(marks.centres, axis=0) + 1e-9
    cell = np.minimum((marks.centres - low) / size * PARTS, PARTS - 1).astype(int) @ [1, PARTS]
    count = np.bincount(cell, minlength=PARTS**2)
    share = np.bincount(cell, weights=near, minlength=PARTS**2) / np.maximum(count, 1)
    share = np.where(count >= LEAST_OF_PART, share, 0.0)
    best = int(share.argmax())
    return np.asarray(marks.centres[cell == best].mean(axis=0)) if share[best] > WELL_FOLLOWED else None


def distance_to(lines: Bytes) -> Singles:
    """Distance (rows, columns) in pixels to the nearest stroke of `lines`, 255 where one lies; FAR_PX where none is near."""
    left, top, width, height = cv2.boundingRect(lines)
    near = np.s_[max(top - FAR_PX, 0) : top + height + FAR_PX, max(left - FAR_PX, 0) : left + width + FAR_PX]
    distance = np.full(lines.shape, np.float32(FAR_PX))
    cv2.distanceTransform(cv2.bitwise_not(lines[near]), cv2.DIST_L2, 3, dst=distance[near])
    return distance


def follow(
    distance: Singles, start: Registration, marks: Marks, plan: tuple[Stage, ...], seed: Floats | None = None
) -> Registration:
    """Registration (sheet mm to ink map) moved across travel onto strokes, from the distance to them.

    The next row of a mark's own block sets how far it may look: of two blocks with unlike rows the one's points would find the other
    row of theirs. plan : what is done. seed : (2,) mm from where it grows, else from the middle.
    """
    size = start.size
    points, clear = marks.points
    cap = np.clip(FAR_SHARE * clear * start.px_per_mm(np.array(size) / 2), 2.0, 40.0)
    most = float(np.median(clear))
    base, basis = start.displaced(points), in_rows(warp_terms(points, size))
    away = away_from(points, seed)
    total, matrix = np.zeros(len(TERMS)), in_rows(start.homography)
    for degree, rounds, share in plan:
        part = np.asarray((away < share * 1.05).all(axis=1) | (share >= 1))
        total = _stage(distance, base, basis, part, matrix, total, DEGREES[degree], rounds, cap, most)
    warp = start.warp.copy()
    warp[:, 1] += total
    return Registration(start.homography, warp, size)


@compiled
def _stage(
    distance: Singles, base: Floats, basis: Floats, part: Bools, matrix: Floats, total: Floats, count: int, rounds: int, cap: Floats,
    most: float,
) -> Floats:  # fmt: skip
    """Coefficients (15,) of the displacement across travel after some rounds of Gauss-Newton on the first `count` of them.

    base : (n, 2) mm, moved by the terms (n, 15) of `basis`; part : (n,) those that take part; matrix : sheet mm to map pixels;
    cap : (n,) px, beyond which a stroke is not a point's own; most : mm, that a round moves a term
    """
    down = _down(base, basis, matrix, total, count)  # hardly changes from round to round
    total = total.copy()
    for _ in range(rounds):
        normal, pull, heard = _pulled(distance, base, basis, part, down, matrix, total, count, cap)
        if heard < LEAST_HEARD:
            break
        scale = np.trace(normal) / count
        for k in range(count):
            stiff = STIFF * scale if k >= FREE_TERMS else 0.0
            pull[k] -= stiff * total[k]
            normal[k, k] += stiff + 1e-3 * normal[k, k] + 1e-9
        change = solved(normal, pull)
        moved = 0.0
        for k in range(count):
            step = min(max(change[k], -most), most)
            total[k] += step
            moved = max(moved, abs(step))
        if moved < STILL_MM:
            break
    return total


@compiled
def _down(base: Floats, basis: Floats, matrix: Floats, total: Floats, count: int) -> Floats:
    """Map pixels (n, 2) a mm across travel."""
    down = np.empty_like(base)
    for n in range(len(base)):
        across = base[n, 1]
        for k in range(count):
            across += basis[n, k] * total[k]
        x, y = through_matrix(matrix, base[n, 0], across)
        right, below = through_matrix(matrix, base[n, 0], across + 0.1)
        down[n, 0], down[n, 1] = (right - x) / 0.1, (below - y) / 0.1
    return down


@compiled
def _pulled(
    distance: Singles, base: Floats, basis: Floats, part: Bools, down: Floats, matrix: Floats, total: Floats, count: int, cap: Floats
) -> tuple[Floats, Floats, float]:  # fmt: skip
    """Normal equations, (count, count) and (count,), of one round down the distance to strokes, and how many points heard them."""
    heard = 0.0
    normal, pull, row = np.zeros((count, count)), np.zeros(count), np.zeros(count)
    for n in range(len(base)):
        if not part[n]:
            continue
        across = base[n, 1]
        for k in range(count):
            across += basis[n, k] * total[k]
        x, y = through_matrix(matrix, base[n, 0], across)
        if not on_picture(distance, x, y):
            continue
        value, right, below = _slope(distance, x, y)
        if value >= cap[n]:
            continue
        weight = 1 / (1 + (value / max(0.35 * cap[n], 1.0)) ** 2)
        heard += weight
        steep = right * down[n, 0] + below * down[n, 1]
        for k in range(count):
            row[k] = basis[n, k] * steep
        add_row(normal, pull, row, weight, -max(value - 0.3, 0.0))
    return normal, pull, heard


@compiled
def _slope(picture: Singles, x: float, y: float) -> tuple[float, float, float]:
    """A picture's value at a place on it, straight between its pixels, and its change to the right and down."""
    height, width = picture.shape
    x, y = min(max(x, 1.0), width - 2.001), min(max(y, 1.0), height - 2.001)
    column, row = int(x), int(y)
    fx, fy = x - column, y - row
    a, b = picture[row, column], picture[row, column + 1]
    c, d = picture[row + 1, column], picture[row + 1, column + 1]
    value = (a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy
    return value, (b - a) * (1 - fy) + (d - c) * fy, (c - a) * (1 - fx) + (d - b) * fx


@compiled
def _values(picture: Singles, places: Floats) -> Floats:
    """A picture's values (n,) at places (n, 2); far too large off it."""
    found = np.full(len(places), 1e6)
    for n in range(len(places)):
        x, y = places[n, 0], places[n, 1]
        if on_picture(picture, x, y):
            found[n] = _slope(picture, x, y)[0]
    return found
