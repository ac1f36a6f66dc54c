"""Fitting sheet to photo: a homography, and a smooth warp on top for curl and lens."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

TERMS = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2), (3, 0), (2, 1), (1, 2), (0, 3), (4, 0), (3, 1), (2, 2), (1, 3), (0, 4))  # fmt: skip
# Each term is an earlier one times x or y.
FACTORS = {k: (TERMS.index((p - 1, q)), True) if p else (TERMS.index((p, q - 1)), False) for k, (p, q) in enumerate(TERMS) if k}  # fmt: skip
DEGREES = {1: 3, 2: 6, 3: 10, 4: 15}  # terms up to a degree
RIDGE = 0.004  # pull of the smooth warp towards zero, per mark: few marks must not bend the sheet
NODES_PX = 40  # between places worked out one by one where a grid of points is asked for
BEYOND_BOX_MM = 0.5  # how far past the outermost marks the warp is still believed
TIDIED_FROM = 60  # marks that tell a quartic by themselves
ROBUST_STEPS = 6  # rounds of reweighting; more change nothing measurable


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
        return np.asarray(points + self.terms(points) @ self.warp)

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
        a, b, c = project(self.homography, np.asarray(point) + np.array([[0, 0], [0.5, 0], [0, 0.5]]))
        u, v = (b - a) * 2, (c - a) * 2
        return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))


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
    shift = np.array([[1, 0, step[0]], [0, 1, step[1]], [0, 0, 1.0]])
    return Registration(registration.homography @ shift, registration.warp, registration.size)


def inverse(matrix: Floats) -> Floats:
    """The inverse of a 3x3 matrix."""
    return np.asarray(np.linalg.inv(matrix), np.float64)


def project(homography: Floats, points: Floats) -> Floats:
    """Points (n, 2) through a homography."""
    if len(points) == 0:
        return np.zeros((0, 2))
    return np.asarray(
        cv2.perspectiveTransform(np.asarray(points, np.float64)[None], np.asarray(homography, np.float64))[0]
    )


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
    stiff = np.array([0.0, 0.1, 0.1] + [1.0] * 7 + [2.0] * 5)[:count]
    for axis in (0, 1):
        weight = 1 / np.maximum(spread[:, axis], 1e-4) ** 2
        if spread[:, axis].min() > 1:
            continue  # nothing is known in this direction
        weight /= weight.mean()
        keep = (weight > 1e-3).astype(np.float64)
        solution = np.zeros(count)
        for _ in range(ROBUST_STEPS):
            w = weight * keep
            ridge = RIDGE * w.sum() / 10 * np.diag(stiff)
            solution = np.linalg.solve((basis * w[:, None]).T @ basis + ridge, (basis * w[:, None]).T @ offsets[:, axis])  # fmt: skip
            left = offsets[:, axis] - basis @ solution
            scale = 2.0 * 1.4826 * float(np.median(np.abs(left[weight > 1e-3]))) + 2e-3
            keep = (weight > 1e-3) / (1 + (left / scale) ** 2)
        total[:count, axis] += solution
    return Registration(registration.homography, total, registration.size, registration.origin)


def tidied(registration: Registration, centres: Floats) -> Registration:
    """The same places of sheet points (n, 2) mm, with all that a homography can say said by the homography."""
    if len(centres) < TIDIED_FROM:  # too few to hold a quartic still between them
        centres = np.concatenate([centres, grid_over(registration.size, 9) + np.asarray(registration.origin)])
    places = registration.to_photo(centres)
    matrix, _ = cv2.findHomography(centres, places, 0)
    left = project(inverse(np.asarray(matrix, np.float64)), places) - centres
    warp = np.linalg.lstsq(registration.terms(centres), left, rcond=None)[0]
    return Registration(np.asarray(matrix / matrix[2, 2], np.float64), np.asarray(warp), registration.size, registration.origin)  # fmt: skip


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
        factor, by_x = FACTORS[k]
        np.multiply(terms[factor], x if by_x else y, out=terms[k])
    return terms.T
