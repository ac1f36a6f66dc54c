"""What a camera and a sheet of paper can do, fitted to how rows lie: tilt, lens and curl instead of a free warp.

Following strokes across travel tells how rows lie, and nothing of where marks lie along them where gaps do not show.
But rows lie so because of a camera: five of a homography's eight parameters, the lens and the curl are fixed by them,
and these say how far marks are apart along a row as well. Only a shift, a stretch and a shear along it stay open.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.compiled import add_row, compiled, in_rows, solved
from dusky_sieve.core.reading.inkmap import Lens
from dusky_sieve.core.reading.registration import TERMS, Registration, grid_over, inverse, project, warp_terms

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

    def __init__(self, start: Floats, size: tuple[float, float], lens: Lens) -> None:
        self.size, self.middle, self.corner = np.asarray(size), lens.middle, lens.corner
        self.lens = np.array([[lens.focal, 0, self.middle[0]], [0, lens.focal, self.middle[1]], [0, 0, 1]])
        self.from_lens = inverse(self.lens)
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
        up = _upright(own) @ self.lens.T
        return _placed(flat, up, in_rows(given[:, 8:]), in_rows(points), self.size, self.middle, self.corner)


@compiled
def _upright(own: Floats) -> Floats:
    """The sheet's normals (sets, 3) as the camera sees them, as long as a mm on it, from (sets, 3, 3)."""
    up = np.empty((len(own), 3))
    for s in range(len(own)):
        a, b = own[s, :, 0], own[s, :, 1]
        up[s, 0], up[s, 1], up[s, 2] = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
        length = np.sqrt(np.sqrt((a * a).sum()) * np.sqrt((b * b).sum()))
        up[s] /= length
    return up


@compiled
def _placed(
    flat: Floats, up: Floats, bends: Floats, points: Floats, size: Floats, middle: Floats, corner: float
) -> Floats:
    """_Camera.place: through matrices (sets, 3, 3), lifted along `up` (sets, 3) by the curl, bent by the lens (sets, 4)."""
    place = np.empty((len(flat), len(points), 2))
    for s in range(len(flat)):
        m, rise, bend = flat[s], up[s], bends[s]
        for n in range(len(points)):
            x, y = points[n, 0], points[n, 1]
            u, v = 2 * x / size[0] - 1, 2 * y / size[1] - 1
            height = bend[1] * u * u + bend[2] * u * v + bend[3] * v * v
            depth = m[2, 0] * x + m[2, 1] * y + m[2, 2] + height * rise[2]
            right = (m[0, 0] * x + m[0, 1] * y + m[0, 2] + height * rise[0]) / depth - middle[0]
            down = (m[1, 0] * x + m[1, 1] * y + m[1, 2] + height * rise[1]) / depth - middle[1]
            bent = 1 + bend[0] * (right * right + down * down) / corner**2
            place[s, n, 0], place[s, n, 1] = middle[0] + right * bent, middle[1] + down * bent
    return place


@compiled
def _pulled(places: Floats, aim: Floats, normal: Floats, held: Floats) -> tuple[Floats, Floats, Floats]:
    """Normal equations (p, p) and (p,) of distances across rows, and the Jacobian (n, 2, p).

    places : (1 + p, n, 2) as it is and with each parameter nudged; normal : (n, 2) across the rows, held : (n, 2) along them, by
    their weights
    """
    p, count = len(places) - 1, len(aim)
    matrix, pull, jacobian = np.zeros((p, p)), np.zeros(p), np.empty((count, 2, p))
    for n in range(count):
        for k in range(p):
            jacobian[n, 0, k] = (places[1 + k, n, 0] - places[0, n, 0]) / NUDGE
            jacobian[n, 1, k] = (places[1 + k, n, 1] - places[0, n, 1]) / NUDGE
        for way in (normal[n], held[n]):
            off = (aim[n, 0] - places[0, n, 0]) * way[0] + (aim[n, 1] - places[0, n, 1]) * way[1]
            row = jacobian[n, 0] * way[0] + jacobian[n, 1] * way[1]
            add_row(matrix, pull, row, 1.0, off)
    return matrix, pull, jacobian


def slack_of(rows: int, touching: bool) -> float:
    """Weight of a point along its row against across it, for a sheet of that many rows."""
    return float(np.clip(SLACK_ROWS / rows, LEAST_SLACK, SLACK)) if touching else SLACK


def squared(
    registration: Registration,
    points: Floats,
    along: Floats,
    lens: Lens,
    *,
    rest: bool = True,
    slack: Floats,
) -> Registration:
    """The registration that a camera would make of how rows lie; what it cannot say across travel stays in the warp.

    Without that `rest` it is the camera's alone, over the whole sheet: it leads on to where no row was followed yet.

    points : (n, 2) mm on rows; along : (n, 2) mm a little step along each one's row; lens : what took the photo, in its pixels;
    slack : (n,) see slack_of.
    Gauss-Newton on distances across rows, with usual phones and usual sheets as the prior of lens and curl.
    """
    if len(points) < LEAST_POINTS:
        return registration
    stride = -(-len(points) // MOST_POINTS)
    points, along, slack = points[::stride], along[::stride], slack[::stride, None]
    aim = registration.to_photo(points)
    step = registration.to_photo(points + along) - aim
    tangent = step / np.linalg.norm(step, axis=1, keepdims=True)
    normal = np.column_stack([-tangent[:, 1], tangent[:, 0]])
    camera = _Camera(registration.homography, registration.size, lens)
    given = np.zeros(12)
    held = 1e-9 * np.eye(12)
    held[8:, 8:] += np.diag(len(points) * (USUAL_SAYS / USUAL) ** 2)
    for _ in range(ROUNDS):
        places = camera.place(given + NUDGES, points)
        matrix, pull, jacobian = _pulled(places, aim, normal, slack * tangent)
        change = solved(matrix + held, pull - held @ given)
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
    normal_of_warp = basis.T @ basis + RIDGE**2 * len(points) * np.eye(len(TERMS))
    warp = np.linalg.solve(normal_of_warp, basis.T @ shift)
    return Registration(flat, np.asarray(warp), registration.size)
