"""What a camera and a sheet of paper can do, fitted to how rows lie: tilt, lens and curl instead of a free warp.

Following strokes across travel tells how rows lie, and nothing of where marks lie along them where gaps do not show.
But rows lie so because of a camera: five of a homography's eight parameters, the lens and the curl are fixed by them,
and these say how far marks are apart along a row as well. Only a shift, a stretch and a shear along it stay open.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.registration import TERMS, Registration, inverse, project, warp_terms
from dusky_sieve.core.reading.tilt import FOCAL_SHARE

Floats = NDArray[np.float64]

MOST_POINTS = 300
ROUNDS = 8  # of Gauss-Newton, at most
STILL_PX = 0.03  # a round that moves no point further is the last
SLACK = 0.01  # weight of a point along its row against across it: shift, stretch and shear stay as they were
USUAL = np.array(
    [0.05, 3.0, 3.0, 3.0]
)  # one-sigma of the lens (share at the corner) and of three bends (mm at the rim)
USUAL_SAYS = 0.02  # of a pixel a point: how much that weighs
RIDGE = 1e-3  # pull of the warp that is left towards none


class _Camera:
    """The camera and the sheet, as functions of 12 parameters about a start."""

    def __init__(self, start: Floats, size: tuple[float, float], frame: tuple[int, int]) -> None:
        self.start, self.size = start, np.asarray(size)
        self.middle = np.array([frame[1] - 1, frame[0] - 1]) / 2
        focal = FOCAL_SHARE * max(frame)
        self.lens = np.array([[focal, 0, self.middle[0]], [0, focal, self.middle[1]], [0, 0, 1]])
        self.corner = float(np.hypot(*self.middle))
        self.to_unit = np.array([[2 / size[0], 0, -1], [0, 2 / size[1], -1], [0, 0, 1.0]])

    def homography(self, given: Floats) -> Floats:
        """Sheet mm to map pixels, lens and curl left out."""
        change = np.eye(3) + np.append(given[:8], 0.0).reshape(3, 3)
        return np.asarray(self.start @ inverse(self.to_unit) @ change @ self.to_unit)

    def place(self, given: Floats, points: Floats) -> Floats:
        """Map pixels (n, 2) of sheet points (n, 2) mm."""
        flat = self.homography(given)
        own = inverse(self.lens) @ flat
        up = self.lens @ np.cross(own[:, 0], own[:, 1]) / np.sqrt(np.linalg.norm(own[:, 0]) * np.linalg.norm(own[:, 1]))
        u, v = (points * 2 / self.size - 1).T
        height = given[9] * u * u + given[10] * u * v + given[11] * v * v
        w = np.column_stack([points, np.ones(len(points))]) @ flat.T + height[:, None] * up
        off = w[:, :2] / w[:, 2:] - self.middle
        return np.asarray(self.middle + off * (1 + given[8] * (off**2).sum(axis=1, keepdims=True) / self.corner**2))


def squared(registration: Registration, points: Floats, along: Floats, frame: tuple[int, int]) -> Registration:
    """The registration that a camera would make of how rows lie; what it cannot say across travel stays in the warp.

    points : (n, 2) mm on rows; along : (n, 2) mm a little step along each one's row; frame : rows, columns of the map.
    Gauss-Newton on distances across rows, with usual phones and usual sheets as the prior of lens and curl.
    """
    stride = -(-len(points) // MOST_POINTS)
    points, along = points[::stride], along[::stride]
    aim = registration.to_photo(points)
    step = registration.to_photo(points + along) - aim
    tangent = step / np.linalg.norm(step, axis=1, keepdims=True)
    normal = np.column_stack([-tangent[:, 1], tangent[:, 0]])
    camera = _Camera(registration.homography, registration.size, frame)
    given = np.zeros(12)
    prior = np.zeros((4, 12))
    prior[:, 8:] = np.diag(USUAL_SAYS * np.sqrt(len(points)) / USUAL)
    for _ in range(ROUNDS):
        place = camera.place(given, points)
        nudged = [(camera.place(given + tiny, points) - place) / tiny.max() for tiny in np.eye(12) * 1e-5]
        jacobian = np.stack(nudged, axis=2)
        across, slack = (np.einsum("nij,ni->nj", jacobian, way) for way in (normal, SLACK * tangent))
        off = aim - place
        wanted = [(off * normal).sum(axis=1), SLACK * (off * tangent).sum(axis=1), -prior @ given]
        rows, aims = np.concatenate([across, slack, prior]), np.concatenate(wanted)
        change = np.linalg.solve(rows.T @ rows + 1e-9 * np.eye(12), rows.T @ aims)
        given = given + change
        if not np.isfinite(given).all() or np.abs(given[:8]).max() > 1:
            return registration
        if np.abs(jacobian @ change).max() < STILL_PX:
            break
    place = camera.place(given, points)
    left = ((aim - place) * normal).sum(axis=1, keepdims=True) * normal
    flat = camera.homography(given)
    flat = flat / flat[2, 2]
    shift = project(inverse(flat), place + left) - points
    basis = warp_terms(points, registration.size)
    ridge = RIDGE * np.sqrt(len(points)) * np.eye(len(TERMS))
    warp = np.linalg.lstsq(
        np.concatenate([basis, ridge]), np.concatenate([shift, np.zeros((len(TERMS), 2))]), rcond=None
    )[0]
    return Registration(flat, np.asarray(warp), registration.size)
