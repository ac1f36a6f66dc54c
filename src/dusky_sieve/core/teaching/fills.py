"""Solid rectangles of a good sheet, on the plane of its strokes."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading.registration import inverse, project
from dusky_sieve.core.teaching.assign import Piece
from dusky_sieve.core.teaching.plane import Plane

Floats = NDArray[np.float64]

LOOKED_AT_PX = 900  # longer side at which fills are looked for
INKED = 0.1  # share of the paper's light that a fill takes at least
RECTANGULAR = 0.86  # of its upright box that a fill covers
SMALLEST, LARGEST = 0.0008, 0.3  # of the frame
EDGE_LOST = 0.75  # pixels at that size by which a fill is found too small on each side
WIDER = 3.0  # mark thicknesses that a fill is wider than, at least


def solid_pieces(plane: Plane, backing: Backing) -> list[Piece]:
    """Filled upright rectangles of the plane, as pieces."""
    factor = LOOKED_AT_PX / max(plane.map.small.shape[:2])
    if len(plane.on_map) < 12:
        return []
    small = cv2.resize(plane.map.small, None, fx=factor, fy=factor, interpolation=cv2.INTER_AREA).astype(np.float64)
    ink = _taken(small, plane, backing, factor)
    strongest = ink.max(axis=2)
    width = max(3, round(WIDER * float(np.median(plane.wide)) * factor)) | 1
    solid = cv2.morphologyEx((strongest > INKED).astype(np.uint8), cv2.MORPH_OPEN, np.ones((width, width), np.uint8))
    # Fills of different inks side by side touch after opening; their edges are where the ink changes.
    code = cv2.blur(ink, (3, 3))
    change = np.maximum(np.abs(np.diff(code, axis=1, prepend=code[:, :1])), np.abs(np.diff(code, axis=0, prepend=code[:1]))).max(axis=2)  # fmt: skip
    solid[change > 0.06] = 0
    _, labels, stats, _ = cv2.connectedComponentsWithStats(solid, connectivity=4)
    back = inverse(plane.to_map)
    found = []
    size = stats[:, cv2.CC_STAT_AREA] / solid.size
    for k in np.flatnonzero((size > SMALLEST) & (size < LARGEST)):
        rows, columns = np.nonzero(labels == k)
        if k == 0 or rows.min() == 0 or columns.min() == 0:
            continue
        places = project(back, (np.stack([columns, rows], axis=1) + 0.5) / factor - 0.5)
        low, high = np.quantile(places, 0.004, axis=0), np.quantile(places, 0.996, axis=0)
        one = abs(np.linalg.det(_stretch(back, places.mean(axis=0), plane.to_map))) / factor**2
        box = float(np.prod(high - low))
        if len(rows) * one > RECTANGULAR * box:
            colour = np.median(ink[rows, columns], axis=0)
            edge = EDGE_LOST / factor
            left, top, right, bottom = (float(v) for v in (*(low - edge), *(high + edge)))
            corners = plane.on_photo(np.array([[left, top], [right, top], [left, bottom], [right, bottom]]))
            none = np.zeros(0, np.int64)
            found.append(Piece((left, top, right, bottom), colour / np.linalg.norm(colour), corners.reshape(2, 2, 2), np.zeros(0), none, none, "fill"))  # fmt: skip
    return found


def _stretch(back: Floats, at: Floats, forth: Floats) -> Floats:
    """Derivative (2, 2) of map to plane about a point of the plane."""
    here = project(forth, at[None])[0]
    moved = project(back, here + np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]))
    return np.stack([moved[1] - moved[0], moved[2] - moved[0]], axis=1)


def _taken(small: Floats, plane: Plane, backing: Backing, factor: float) -> Floats:
    """Share of the paper's light taken (over dark: brightness added), per band; paper from round the strokes."""
    at = plane.on_map * factor
    size = np.array(small.shape[1::-1], np.float64)
    x, y = (2 * at / size - 1).T
    basis = np.stack([np.ones_like(x), x, y, x * x, x * y, y * y], axis=1)
    rows, columns = np.mgrid[: small.shape[0], : small.shape[1]]
    gx, gy = 2 * columns / size[0] - 1, 2 * rows / size[1] - 1
    taken = np.zeros_like(small)
    for band in range(3):
        value = np.log(np.maximum(plane.paper[:, band], 4.0))
        weight = np.ones(len(value))
        for _ in range(4):
            w = basis * weight[:, None]
            fit = np.linalg.solve(w.T @ basis + 1e-3 * np.diag([0, 1, 1, 1, 1, 1.0]), w.T @ value)
            left = np.abs(value - basis @ fit)
            weight = 1 / (1 + (left / (0.02 + 1.5 * np.median(left))) ** 2)
        paper = np.exp(fit[0] + fit[1] * gx + fit[2] * gy + fit[3] * gx * gx + fit[4] * gx * gy + fit[5] * gy * gy)
        taken[..., band] = 1 - small[..., band] / paper if backing == "light" else (small[..., band] - paper) / 255
    return taken
