"""Fitting sheet to photo: a homography, and a smooth warp on top for curl and lens."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

TERMS = ((0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2), (3, 0), (2, 1), (1, 2), (0, 3))
RIDGE = 0.02  # pull of the smooth warp towards zero, per mark: few marks must not bend the sheet
ROBUST_STEPS = 6  # rounds of reweighting; more change nothing measurable


@dataclass(frozen=True)
class Registration:
    """Where sheet points lie on the photo.

    homography : (3, 3), sheet mm to upright photo pixels, first pixel's centre at 0, 0
    warp : (10, 2), coefficients in mm of a cubic in x and y scaled to -1..1 over the sheet
    size : sheet width and height, mm
    """

    homography: Floats
    warp: Floats
    size: tuple[float, float]

    def displaced(self, points: Floats) -> Floats:
        """Sheet points (n, 2) mm moved by the smooth warp."""
        return points + _terms(points, self.size) @ self.warp

    def to_photo(self, points: Floats) -> Floats:
        """Photo pixels (n, 2) of sheet points (n, 2) mm, warp included."""
        return project(self.homography, self.displaced(points))

    def px_per_mm(self, point: Floats) -> float:
        """Photo pixels per mm about one sheet point, geometric mean of both directions."""
        a, b, c = project(self.homography, np.asarray(point) + np.array([[0, 0], [0.5, 0], [0, 0.5]]))
        u, v = (b - a) * 2, (c - a) * 2
        return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))


def rigid(homography: Floats, size: tuple[float, float]) -> Registration:
    """A registration without a warp."""
    return Registration(homography, np.zeros((len(TERMS), 2)), size)


def project(homography: Floats, points: Floats) -> Floats:
    """Points (n, 2) through a homography."""
    if len(points) == 0:
        return np.zeros((0, 2))
    return np.asarray(
        cv2.perspectiveTransform(np.asarray(points, np.float64)[None], np.asarray(homography, np.float64))[0]
    )


def refit_homography(registration: Registration, centres: Floats, offsets: Floats) -> tuple[Registration, float]:
    """A new homography from where marks were found, and the share of them that it explains.

    centres : (n, 2) mm; offsets : (n, 2) mm found minus predicted. The share is 0 where nothing fits.
    """
    source = centres
    target = project(registration.homography, registration.displaced(source) + offsets)
    scale = registration.px_per_mm(np.array(registration.size) / 2)
    matrix, inliers = cv2.findHomography(
        source, target, cv2.RANSAC, max(1.5, 0.12 * scale), maxIters=800, confidence=0.999
    )
    if matrix is None:
        return registration, 0.0
    return Registration(np.asarray(matrix), registration.warp * 0, registration.size), float(inliers.mean())


def fit_warp(registration: Registration, centres: Floats, offsets: Floats, spread: Floats) -> Registration:
    """The same registration with its smooth warp moved by a robust fit to offsets (n, 2) mm.

    spread : (n,) one-sigma of each offset in mm. Deflected marks are outvoted: Tukey's biweight, c = 4.685
    (Beaton & Tukey 1974).
    """
    if len(centres) < 24:
        return registration
    basis = _terms(centres, registration.size)
    degree = 10 if len(centres) >= 120 else 6 if len(centres) >= 48 else 3
    basis = basis[:, :degree]
    total = registration.warp.copy()
    for axis in (0, 1):
        weight = 1 / np.maximum(spread, 1e-4) ** 2
        weight /= weight.mean()
        keep = np.ones(len(centres))
        solution = np.zeros(degree)
        for _ in range(ROBUST_STEPS):
            w = weight * keep
            ridge = RIDGE * w.sum() / 10 * np.diag([0.0, 0.1, 0.1] + [1.0] * 7)[:degree, :degree]
            solution = np.linalg.solve(
                (basis * w[:, None]).T @ basis + ridge, (basis * w[:, None]).T @ offsets[:, axis]
            )
            left = offsets[:, axis] - basis @ solution
            scale = 1.4826 * np.median(np.abs(left)) + 1e-6
            keep = np.maximum(0, 1 - (left / (4.685 * scale)) ** 2) ** 2
        total[:degree, axis] += solution
    return Registration(registration.homography, total, registration.size)


def _terms(points: Floats, size: tuple[float, float]) -> Floats:
    x = 2 * points[:, 0] / size[0] - 1
    y = 2 * points[:, 1] / size[1] - 1
    return np.stack([x**p * y**q for p, q in TERMS], axis=1)
