"""Fitting sheet to photo: a homography, and a smooth warp on top for curl and lens."""

import math
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import compiled, in_rows
from dusky_sieve.core.reading.surface import fitted

Floats = NDArray[np.float64]

TERMS = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2), (3, 0), (2, 1), (1, 2), (0, 3), (4, 0), (3, 1), (2, 2), (1, 3), (0, 4))  # fmt: skip
POWERS, DEGREE = np.array(TERMS), 4
# Each term but the first is an earlier one times x (where BY_X) or y.
BY_X = np.array([p > 0 for p, _ in TERMS])
EARLIER = np.array([0] + [TERMS.index((p - 1, q) if p else (p, q - 1)) for p, q in TERMS[1:]])
NOWHERE = 1e-7  # depth of a point that a homography takes to infinity
DEGREES = {1: 3, 2: 6, 3: 10, 4: 15}  # terms up to a degree
# Pull of the smooth warp's terms towards zero, of a hundredth of all marks' weight: few marks must not bend the sheet.
STIFF = np.array([0.0, 0.004, 0.004] + [0.04] * 7 + [0.08] * 5)
LEAST_SURE = 1e-3  # of the mean weight, under which a mark tells nothing
HELD = 0.02  # of the weight of one that does, that it then has for staying where it is
NODES_PX = 40  # between places worked out one by one where a grid of points is asked for
LEAST_BOX_MM = 1.0  # half of a side of the box that a single row's warp is scaled to: all of it about its middle
BEYOND_BOX_MM = 0.5  # how far past the outermost marks the warp is still believed
TIDIED_FROM = 60  # marks that tell a quartic by themselves
IN_LINE = 0.02  # of their spread one way the other way, under which they do not: a single row or column


@dataclass(frozen=True)
class Registration:
    """Where sheet points lie on the photo.

    homography : (3, 3), sheet mm to upright photo pixels, first pixel's centre at 0, 0
    warp : (15, 2), coefficients in mm of a quartic in x and y scaled to -1..1 over the sheet
    size, origin : the box of sheet mm that the warp is scaled to, width and height, and its top left corner
    """

    homography: Floats
    warp: Floats
    size: tuple[float, float]
    origin: tuple[float, float] = (0.0, 0.0)

    def displaced(self, points: Floats) -> Floats:
        """Sheet points (n, 2) mm moved by the smooth warp."""
        if not self.warp.any():
            return points
        return _displaced(in_rows(points), self.warp, np.array(self.origin), np.array(self.size))

    def terms(self, points: Floats) -> Floats:
        """The warp's polynomial terms (n, 15) at sheet points (n, 2) mm.

        Beyond the box it stays as at the rim: a quartic carried on to where no mark was seen swings wildly.
        """
        inner = np.clip(points - np.asarray(self.origin), -BEYOND_BOX_MM, np.asarray(self.size) + BEYOND_BOX_MM)
        return warp_terms(inner, self.size)

    def to_photo(self, points: Floats) -> Floats:
        """Photo pixels (n, 2) of sheet points (n, 2) mm, warp included."""
        return project(self.homography, self.displaced(points))

    def on_grid(self, x: Floats, y: Floats) -> Floats:
        """Photo pixels (rows, columns, 2) of the sheet points at every x (columns,) and y (rows,) mm.

        Places are worked out every so often and straight between: a lens bends by a hundredth of a pixel there.
        """
        scale = self.px_per_mm(np.array([x.mean(), y.mean()]))
        nodes = [np.linspace(v.min(), v.max(), 2 + int(np.ptp(v) * scale / NODES_PX)) for v in (x, y)]
        shares = [
            np.clip(1 - np.abs(v[:, None] - at) / (at[1] - at[0]), 0, 1) for v, at in zip((x, y), nodes, strict=True)
        ]
        places = self.to_photo(np.stack(np.meshgrid(*nodes), axis=-1).reshape(-1, 2)).reshape(
            len(nodes[1]), len(nodes[0]), 2
        )
        return np.stack([shares[1] @ places[..., k] @ shares[0].T for k in (0, 1)], axis=-1)

    def apart(self, other: "Registration") -> float:
        """The furthest distance between two places of one sheet point, as a share of the sheet's diagonal on the photo."""
        grid = grid_over(self.size, 3)
        here, there = self.to_photo(grid), other.to_photo(grid)
        return float(np.linalg.norm(here - there, axis=1).max() / np.linalg.norm(here[0] - here[-1]))

    def angle_deg(self) -> float:
        """Angle between the line of sight and the sheet's normal at the middle of its box, degrees.

        A plane seen at angle t by a camera that is far off keeps its length one way and is shortened by cos t the other:
        the ratio of the singular values of the local map (weak perspective).
        """
        middle = np.asarray(self.origin) + np.asarray(self.size) / 2
        here, across, down = self.to_photo(middle + np.array([[0, 0], [0.5, 0], [0, 0.5]]))
        long, short = np.linalg.svd(np.stack([across - here, down - here]), compute_uv=False)
        return float(np.degrees(np.arccos(min(1.0, short / long)))) if long > 0 else 0.0

    def px_per_mm(self, point: Floats) -> float:
        """Photo pixels per mm about one sheet point, geometric mean of both directions."""
        return _scale(self.homography, float(point[0]), float(point[1]))


def of_reading(
    homography: tuple[tuple[float, ...], ...], warp: tuple[tuple[float, ...], ...] | None, box: tuple[float, ...] | None
) -> Registration:
    """The registration as a photo's reading carries it; without a box the warp is left out."""
    if warp is None or box is None or len(warp) != len(TERMS):
        return rigid(np.array(homography, np.float64), (1.0, 1.0))
    return Registration(
        np.array(homography, np.float64), np.array(warp, np.float64), (box[2], box[3]), (box[0], box[1])
    )


def rigid(homography: Floats, size: tuple[float, float]) -> Registration:
    """A registration without a warp."""
    return Registration(homography, np.zeros((len(TERMS), 2)), size)


def grid_over(size: tuple[float, float], count: int) -> Floats:
    """`count` by `count` points (n, 2) spread evenly over a box of that size, mm."""
    return np.stack(np.meshgrid(*(np.linspace(0, side, count) for side in size)), -1).reshape(-1, 2)


def homography_of(registration: Registration) -> Floats:
    """The homography closest to a registration with its warp."""
    grid = grid_over(registration.size, 7)
    return through(registration.to_photo(grid), grid, registration.size).homography


def moved(registration: Registration, step: tuple[float, float]) -> Registration:
    """The registration with the sheet shifted by a step (mm)."""
    return led(registration, np.array([[0, 0, step[0]], [0, 0, step[1]]]))


def led(registration: Registration, way: Floats) -> Registration:
    """The registration with every sheet point (x, y) mm shifted by `way` (2, 3) of it, (x, y, 1)."""
    return replace(registration, homography=registration.homography @ (np.eye(3) + np.vstack([way, np.zeros(3)])))


def inverse(matrix: Floats) -> Floats:
    """The inverse of a 3x3 matrix."""
    return _inverse(in_rows(matrix))


def project(homography: Floats, points: Floats) -> Floats:
    """Points (n, 2) through a homography (3, 3)."""
    return _projected(in_rows(points), in_rows(homography))


def fit_warp(registration: Registration, centres: Floats, offsets: Floats, spread: Floats) -> Registration:
    """The same registration moved by a robust smooth fit to offsets (n, 2) mm, as supple as the marks allow.

    spread : (n, 2) one-sigma of each offset in mm. Deflected marks are outvoted by Cauchy weights, which never
    fall to nothing: a corner where all marks lie off together still draws the fit, for nothing there speaks against it.
    """
    n = len(centres)
    degree = 4 if n >= 50 else 3 if n >= 30 else 2 if n >= 20 else 1 if n >= 12 else 0
    if degree == 0:
        return registration
    count = DEGREES[degree]
    basis = registration.terms(centres)[:, :count]
    total = registration.warp.copy()
    for axis in (0, 1):
        if spread[:, axis].min() > 1:
            continue  # nothing is known in this direction
        weight = 1 / np.maximum(spread[:, axis], 1e-4) ** 2
        weight /= weight.mean()
        told = weight > LEAST_SURE
        # Marks that tell nothing stay where they were found: few that tell, at one side, would carry the others away.
        weight = np.where(told, weight, HELD * np.median(weight[told]))
        aim = np.where(told, offsets[:, axis], 0.0)
        total[:count, axis] += fitted(in_rows(basis.T), in_rows(aim[None]), STIFF[:count], weight, True)[0]
    return Registration(registration.homography, total, registration.size, registration.origin)


def tidied(registration: Registration, centres: Floats) -> Registration:
    """The same places of sheet points (n, 2) mm, with all that a homography can say said by the homography."""
    long, wide = np.linalg.svd(centres - centres.mean(axis=0), compute_uv=False)
    if (
        len(centres) < TIDIED_FROM or wide < IN_LINE * long
    ):  # too few, or none beside, to hold a plane and a quartic still between them
        centres = np.concatenate([centres, grid_over(registration.size, 9) + np.asarray(registration.origin)])
    places = registration.to_photo(centres)
    matrix, _ = cv2.findHomography(centres, places, 0)
    left = project(inverse(np.asarray(matrix, np.float64)), places) - centres
    warp = np.linalg.lstsq(registration.terms(centres), left, rcond=None)[0]
    return Registration(np.asarray(matrix / matrix[2, 2], np.float64), np.asarray(warp), registration.size, registration.origin)  # fmt: skip


def bent(registration: Registration, points: Floats, by: Floats) -> Registration:
    """The registration with sheet points (n, 2) mm, and what lies between them, moved by as much (n, 2) mm; its warp over their box alone."""
    half = np.maximum(np.ptp(points, axis=0) / 2, LEAST_BOX_MM)
    low, (wide, high) = (points.min(axis=0) + points.max(axis=0)) / 2 - half, (2 * half).tolist()
    aim = registration.displaced(points) + by - points
    warp = np.asarray(np.linalg.lstsq(warp_terms(points - low, (wide, high)), aim, rcond=None)[0], np.float64)
    return Registration(registration.homography, warp, (wide, high), (float(low[0]), float(low[1])))


def through(places: Floats, points: Floats, size: tuple[float, float], degree: int = 4) -> Registration:
    """The registration that takes sheet points (n, 2) mm to photo places (n, 2): homography, the rest as a warp of a degree."""
    matrix, _ = cv2.findHomography(points, places, 0)
    left = project(inverse(np.asarray(matrix, np.float64)), places) - points
    warp = np.zeros((len(TERMS), 2))
    count = DEGREES[degree]
    warp[:count] = np.linalg.lstsq(warp_terms(points, size)[:, :count], left, rcond=None)[0]
    return Registration(np.asarray(matrix / matrix[2, 2]), warp, size)


def warp_terms(points: Floats, size: tuple[float, float]) -> Floats:
    """Polynomial terms (n, 15) of sheet points (n, 2) mm, coordinates scaled to -1..1 over the sheet."""
    x = 2 * points[:, 0] / size[0] - 1
    y = 2 * points[:, 1] / size[1] - 1
    terms = np.empty((len(TERMS), len(points)))
    terms[0] = 1
    for k in range(1, len(TERMS)):
        np.multiply(terms[EARLIER[k]], x if BY_X[k] else y, out=terms[k])
    return terms.T


@compiled
def _displaced(points: Floats, warp: Floats, origin: Floats, size: Floats) -> Floats:
    """Registration.displaced, by Horner's rule."""
    moved = np.empty_like(points)
    power = np.zeros((DEGREE + 1, DEGREE + 1, 2))
    for k in range(len(POWERS)):
        power[POWERS[k, 0], POWERS[k, 1]] = warp[k]
    for n in range(len(points)):
        x = 2 * min(max(points[n, 0] - origin[0], -BEYOND_BOX_MM), size[0] + BEYOND_BOX_MM) / size[0] - 1
        y = 2 * min(max(points[n, 1] - origin[1], -BEYOND_BOX_MM), size[1] + BEYOND_BOX_MM) / size[1] - 1
        right = down = 0.0
        for q in range(DEGREE, -1, -1):
            along, across = power[DEGREE - q, q, 0], power[DEGREE - q, q, 1]
            for p in range(DEGREE - 1 - q, -1, -1):
                along = along * x + power[p, q, 0]
                across = across * x + power[p, q, 1]
            right, down = right * y + along, down * y + across
        moved[n, 0], moved[n, 1] = points[n, 0] + right, points[n, 1] + down
    return moved


@compiled
def through_matrix(homography: Floats, x: float, y: float) -> tuple[float, float]:
    """One point through a homography, in a compiled function's loop."""
    depth = homography[2, 0] * x + homography[2, 1] * y + homography[2, 2]
    part = 1 / depth if abs(depth) > NOWHERE else 0.0
    right = (homography[0, 0] * x + homography[0, 1] * y + homography[0, 2]) * part
    return right, (homography[1, 0] * x + homography[1, 1] * y + homography[1, 2]) * part


@compiled
def _projected(points: Floats, homography: Floats) -> Floats:
    """project()"""
    place = np.empty_like(points)
    for n in range(len(points)):
        place[n, 0], place[n, 1] = through_matrix(homography, points[n, 0], points[n, 1])
    return place


@compiled
def _scale(homography: Floats, x: float, y: float) -> float:
    """Registration.px_per_mm, over half a millimetre either way."""
    right, down = through_matrix(homography, x, y)
    u, v = through_matrix(homography, x + 0.5, y), through_matrix(homography, x, y + 0.5)
    return 2 * math.sqrt(abs((u[0] - right) * (v[1] - down) - (u[1] - down) * (v[0] - right)))


@compiled
def _inverse(m: Floats) -> Floats:
    """inverse(), by cofactors."""
    turned = np.empty((3, 3))
    for i in range(3):
        for j in range(3):
            a, b, c, d = (j + 1) % 3, (j + 2) % 3, (i + 1) % 3, (i + 2) % 3
            turned[i, j] = m[a, c] * m[b, d] - m[a, d] * m[b, c]
    turned /= m[0, 0] * turned[0, 0] + m[0, 1] * turned[1, 0] + m[0, 2] * turned[2, 0]
    return turned
