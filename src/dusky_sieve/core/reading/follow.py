"""From a homography that is about right to a smooth warp that lies on the strokes: curl and lens followed.

Points along every mark slide down the distance to the nearest stroke (Fitzgibbon 2003, "Robust registration of 2D
and 3D point sets"), first stiffly, then more and more supply. Marks that are missing lie far from any stroke and
take no part.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.registration import DEGREES, Registration, project, through, warp_terms

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]

MOST_POINTS = 5000
PLAN = ((1, 4), (2, 6), (3, 8), (4, 6))  # degree of the displacement, iterations
STIFF = 0.002  # pull towards the start, per point, of terms beyond the first degree
FAR_SHARE = 0.45  # of the lattice's clear height: beyond it a point belongs to no stroke


def follow(lines: Bytes, homography: Floats, marks: Marks, layout: Layout, clear_px: float) -> Registration:
    """Registration on the ink map from strokes (rows, columns) 255.

    clear_px : distance in map pixels between strokes of neighbouring rows; sets how far a point may look.
    """
    distance = cv2.distanceTransform(cv2.bitwise_not(lines), cv2.DIST_L2, 3)
    cap = float(np.clip(FAR_SHARE * clear_px, 2.0, 40.0))
    stride = max(1, len(marks.centres) * 3 // MOST_POINTS)
    centres, sizes = marks.centres[::stride], marks.sizes[::stride]
    points = np.concatenate([centres + sizes * (part, 0) for part in (-0.35, 0.0, 0.35)])
    base = project(homography, points)
    basis = warp_terms(points, layout.size)
    shift = np.zeros_like(base)
    for degree, rounds in PLAN:
        terms = basis[:, : DEGREES[degree]]
        stiff = np.diag([0.0] * 3 + [STIFF * len(points)] * (terms.shape[1] - 3)) + 1e-6 * np.eye(terms.shape[1])
        coefficients = np.linalg.lstsq(terms, shift, rcond=None)[0]
        for _ in range(rounds):
            place = base + terms @ coefficients
            value, slope = _sampled(distance, place)
            weight = 1 / (1 + (value / max(0.35 * cap, 1.0)) ** 2) * (value < cap)
            if weight.sum() < 12:
                break
            # One equation per point: walking `change` lowers the distance to nothing.
            count = terms.shape[1]
            rows = np.concatenate([terms * slope[:, :1], terms * slope[:, 1:]], axis=1)
            normal = (rows * weight[:, None]).T @ rows
            normal[:count, :count] += stiff
            normal[count:, count:] += stiff
            pull = -(rows * weight[:, None]).T @ np.maximum(value - 0.3, 0)
            pull[:count] -= stiff @ coefficients[:, 0]
            pull[count:] -= stiff @ coefficients[:, 1]
            change = np.linalg.solve(normal + 1e-3 * np.diag(np.diag(normal)) + 1e-9 * np.eye(2 * count), pull)
            coefficients = coefficients + np.clip(change, -cap, cap).reshape(2, count).T
        shift = terms @ coefficients
    grid = np.stack(np.meshgrid(np.linspace(0, layout.size[0], 9), np.linspace(0, layout.size[1], 9)), -1).reshape(
        -1, 2
    )
    moved = warp_terms(grid, layout.size)[:, : coefficients.shape[0]] @ coefficients
    return through(project(homography, grid) + moved, grid, layout.size)


def _sampled(distance: NDArray[np.float32], place: Floats) -> tuple[Floats, Floats]:
    """Distance (n,) and its slope (n, 2) at places (n, 2); far outside the map both are useless and large."""
    h, w = distance.shape
    x, y = np.clip(place[:, 0], 1, w - 2.001), np.clip(place[:, 1], 1, h - 2.001)
    column, row = x.astype(int), y.astype(int)
    fx, fy = x - column, y - row
    a, b = distance[row, column], distance[row, column + 1]
    c, d = distance[row + 1, column], distance[row + 1, column + 1]
    value = (a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy
    slope = np.stack([(b - a) * (1 - fy) + (d - c) * fy, (c - a) * (1 - fx) + (d - b) * fx], axis=1)
    outside = (place[:, 0] < 0) | (place[:, 1] < 0) | (place[:, 0] > w - 1) | (place[:, 1] > h - 1)
    value = np.where(outside, 1e6, value)
    return np.asarray(value, np.float64), np.asarray(slope, np.float64)
