"""What a camera and a sheet of paper can do, fitted to how rows lie: tilt, lens and curl instead of a free warp.

Following strokes across travel tells how rows lie, and nothing of where marks lie along them where gaps do not show.
But rows lie so because of a camera: five of a homography's eight parameters, the lens and the curl are fixed by them,
and these say how far marks are apart along a row as well. Only a shift, a stretch and a shear along it stay open.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.registration import TERMS, Registration, grid_over, inverse, project, warp_terms
from dusky_sieve.core.reading.tilt import FOCAL_SHARE

Floats = NDArray[np.float64]

LEAST_POINTS, MOST_POINTS = 12, 300
ROUNDS = 8  # of Gauss-Newton, at most
STILL_PX = 0.03  # a round that moves no point further is the last
# Weight of a point along its row against across it, where gaps show and alignment saw them; where they do not, the fewer
# the more rows say how the camera stands: two rows' directions are too little to move marks along them by.
SLACK, SLACK_ROWS, LEAST_SLACK = 0.1, 0.6, 0.02
USUAL = np.array(
    [0.05, 3.0, 3.0, 3.0]
)  # one-sigma of the lens (share at the corner) and of three bends (mm at the rim)
USUAL_SAYS = 0.02  # of a pixel a point: how much that weighs
NUDGE = 1e-5  # of a parameter, for slopes
NUDGES = np.concatenate([np.zeros((1, 12)), NUDGE * np.eye(12)])
RIDGE = 1e-3  # pull of the warp that is left towards none


class _Camera:
    """The camera and the sheet, as functions of 12 parameters about a start; of many sets of them at once."""

    def __init__(self, start: Floats, size: tuple[float, float], frame: tuple[int, int]) -> None:
        self.size = np.asarray(size)
        self.middle = np.array([frame[1] - 1, frame[0] - 1]) / 2
        focal = FOCAL_SHARE * max(frame)
        self.lens = np.array([[focal, 0, self.middle[0]], [0, focal, self.middle[1]], [0, 0, 1]])
        self.from_lens = inverse(self.lens)
        self.corner = float(np.hypot(*self.middle))
        self.to_unit = np.array([[2 / size[0], 0, -1], [0, 2 / size[1], -1], [0, 0, 1.0]])
        self.from_unit = start @ inverse(self.to_unit)

    def homography(self, given: Floats) -> Floats:
        """Sheet mm to map pixels (sets, 3, 3), lens and curl left out."""
        change = np.concatenate([given[:, :8], np.zeros((len(given), 1))], axis=1).reshape(-1, 3, 3) + np.eye(3)
        return np.asarray(self.from_unit @ change @ self.to_unit)

    def place(self, given: Floats, points: Floats) -> Floats:
        """Map pixels (sets, n, 2) of sheet points (n, 2) mm, for parameters (sets, 12)."""
        flat = self.homography(given)
        own = self.from_lens @ flat
        length = np.sqrt(np.linalg.norm(own[:, :, 0], axis=1) * np.linalg.norm(own[:, :, 1], axis=1))
        up = np.cross(own[:, :, 0], own[:, :, 1]) @ self.lens.T / length[:, None]
        u, v = (points * 2 / self.size - 1).T
        height = given[:, 9:] @ np.stack([u * u, u * v, v * v])
        w = np.column_stack([points, np.ones(len(points))]) @ flat.transpose(0, 2, 1) + height[:, :, None] * up[:, None]
        off = w[:, :, :2] / w[:, :, 2:] - self.middle
        bent = 1 + given[:, 8, None] * (off**2).sum(axis=2) / self.corner**2
        return np.asarray(self.middle + off * bent[:, :, None])


def slack_of(rows: int, touching: bool) -> float:
    """Weight of a point along its row against across it, for a sheet of that many rows."""
    return float(np.clip(SLACK_ROWS / rows, LEAST_SLACK, SLACK)) if touching else SLACK


def squared(
    registration: Registration,
    points: Floats,
    along: Floats,
    frame: tuple[int, int],
    *,
    rest: bool = True,
    slack: float,
) -> Registration:
    """The registration that a camera would make of how rows lie; what it cannot say across travel stays in the warp.

    Without that `rest` it is the camera's alone, over the whole sheet: it leads on to where no row was followed yet.

    points : (n, 2) mm on rows; along : (n, 2) mm a little step along each one's row; frame : rows, columns of the map;
    slack : see slack_of.
    Gauss-Newton on distances across rows, with usual phones and usual sheets as the prior of lens and curl.
    """
    if len(points) < LEAST_POINTS:
        return registration
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
        places = camera.place(given + NUDGES, points)
        place = places[0]
        jacobian = ((places[1:] - place) / NUDGE).transpose(1, 2, 0)
        across, held = (np.einsum("nij,ni->nj", jacobian, way) for way in (normal, slack * tangent))
        off = aim - place
        wanted = [(off * normal).sum(axis=1), slack * (off * tangent).sum(axis=1), -prior @ given]
        rows, aims = np.concatenate([across, held, prior]), np.concatenate(wanted)
        change = np.linalg.solve(rows.T @ rows + 1e-9 * np.eye(12), rows.T @ aims)
        given = given + change
        if not np.isfinite(given).all() or np.abs(given[:8]).max() > 1:
            return registration
        if np.abs(jacobian @ change).max() < STILL_PX:
            break
    if rest:
        place = camera.place(given[None], points)[0]
        place += ((aim - place) * normal).sum(axis=1, keepdims=True) * normal
    else:
        points = grid_over(registration.size, 9)
        place = camera.place(given[None], points)[0]
    flat = camera.homography(given[None])[0]
    flat = flat / flat[2, 2]
    shift = project(inverse(flat), place) - points
    basis = warp_terms(points, registration.size)
    ridge = RIDGE * np.sqrt(len(points)) * np.eye(len(TERMS))
    warp = np.linalg.lstsq(
        np.concatenate([basis, ridge]), np.concatenate([shift, np.zeros((len(TERMS), 2))]), rcond=None
    )[0]
    return Registration(flat, np.asarray(warp), registration.size)
