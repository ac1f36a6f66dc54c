"""From strokes on a photo to lattices in millimetres: lens and tilt taken out, what blocks share held together."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.registration import Registration, inverse, project, rigid, through
from dusky_sieve.core.teaching.assign import Assigned, columns_of_runs, steps_of

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]

ROUNDS, SETTLED_PX = 100, 0.001  # of laying plane and lattices by turns, at most; until no mark moves more than that
WARPED_FROM = 120  # marks from which curl and lens are taken out
OUTLIER = 4.0  # robust spreads from its lattice, beyond which a mark takes no part
ALIKE = 0.15  # share by which the steps of two blocks may differ for one lattice to be taken for both: what tilt leaves at first is in it
UPRIGHT = np.radians(4)  # of the row step against the marks, within which it is taken for square
RUNS_UPRIGHT = np.radians(12)  # the same of runs, whose plane is seen less squarely: only their ends tell its tilt
# Of its length and of the distance to the next one, by which a run may be bent; strokes of it that tell how.
BENT, NEAR_RUN, LEAST_PARTS = 0.02, 0.3, 4
LEAST_LONE = 12  # single marks of runs that tell how marks lie; their shortest, and how far aside they may lie, of the step between columns
LEAST_OF_STEP, ON_RUN = 0.5, 0.6
CONTINUED = 0.12  # share by which a row may start off where the last ended, for a staircase taken to go on


@dataclass(frozen=True)
class Lattice:
    """A block's lattice in plane pixels, later in mm: mark i at origin + (i mod columns) across + (i div columns) down."""

    columns: int
    origin: Floats
    across: Floats
    down: Floats
    mark: tuple[float, float]


@dataclass(frozen=True)
class Cells:
    """Marks seen of one block: photo places (n, 2), column and row (n,), their ends (n, 2, 2) where single, and columns in all."""

    at: Floats
    column: Whole
    row: Whole
    ends: Floats | None
    wide: float
    columns: int


def lattices(assigned: list[Assigned], cells: list[Cells], start: Floats, strokes: Floats) -> tuple[list[Lattice], Registration]:  # fmt: skip
    """Each marks block's lattice on a straight plane, and where that plane lies on the photo.

    cells : where its marks are seen; start : (3, 3) plane to photo, seen squarely as far as the strokes told
    strokes : (n, 2, 2) ends of all of them on the photo
    """
    registration = rigid(start, (1.0, 1.0))
    seen = [_straight(registration, c.at) for c in cells]
    groups = _groups(assigned, cells, seen)
    at, model = np.concatenate([c.at for c in cells]), np.full((1, 2), np.inf)
    for _ in range(ROUNDS):
        straight = [_straight(registration, c.at) for c in cells]
        fits = _held(_fitted(cells, straight, groups), cells, np.concatenate(seen))
        before, model = model, _model(fits, cells)
        registration = laid(model, at, registration)
        # Where a block lies among the others is told by all between them at once, and settles slowly where tilt and lens are strong.
        if np.abs(model - before).max() < SETTLED_PX:
            break
    return _squared(fits, cells, registration, strokes)


def cells_of(assigned: Assigned, to_photo: Floats, strokes: Floats) -> Cells:
    """The marks of a block's piece; those of a run stand evenly on the plane (`to_photo`, (3, 3)) from one end of it to the other, along its strokes."""
    piece, count = assigned.piece, assigned.known.count
    middle = piece.ends.mean(axis=1)
    if piece.kind == "marks":
        inside = piece.row * piece.columns + piece.column < count
        return Cells(middle[inside], piece.column[inside], piece.row[inside], piece.ends[inside], float(np.median(piece.wide)), piece.columns)  # fmt: skip
    columns = columns_of_runs(piece, count) or 1
    back = inverse(to_photo)
    runs = project(back, piece.ends[np.argsort(piece.row)].reshape(-1, 2)).reshape(-1, 2, 2)
    parts = project(back, strokes.reshape(-1, 2)).reshape(-1, 2, 2)
    apart = np.linalg.norm(np.diff(runs[:, 0], axis=0), axis=1).min(initial=np.inf)
    there = [min(columns, count - r * columns) for r in range(len(runs))]
    places = [_along(run, (np.arange(n) + 0.5) / n, parts, float(apart)) for run, n in zip(runs, there, strict=True)]
    column, row = np.concatenate([np.arange(n) for n in there]), np.repeat(np.arange(len(runs)), there)
    return Cells(project(to_photo, np.concatenate(places)), column, row, None, float(np.median(piece.wide)), columns)


def _along(run: Floats, share: Floats, parts: Floats, apart: float) -> Floats:
    """Points (n, 2) at shares of a run, bent as the strokes (m, 2, 2) on it are: a lens bends a long run by more than marks are apart. `apart` : between runs."""
    step = run[1] - run[0]
    long = float(np.linalg.norm(step))
    side = np.array([-step[1], step[0]]) / long
    places = run[0] + share[:, None] * step
    at, off = (parts - run[0]) @ step / long**2, (parts - run[0]) @ side
    on = ((np.abs(off) < min(BENT * long, NEAR_RUN * apart)) & (at >= 0) & (at <= 1)).all(axis=1)
    if on.sum() < LEAST_PARTS:
        return np.asarray(places)
    bow, value = at[on].ravel(), off[on].ravel()
    fit = np.linalg.lstsq(_bows(bow), value, rcond=None)[0]
    return np.asarray(places + (_bows(share) @ fit)[:, None] * side)


def _bows(at: Floats) -> Floats:
    """Curves (n, 2) at shares of a run that are nothing at both its ends: a bow, and one that leans to one side."""
    return np.stack([at * (1 - at), at * (1 - at) * (2 * at - 1)], axis=1)


def _straight(registration: Registration, at: Floats) -> Floats:
    """Plane points under photo places: the homography's inverse, the warp taken out by fixed-point steps."""
    flat = project(inverse(registration.homography), at)
    points = flat
    for _ in range(3):
        points = flat - (registration.displaced(points) - points)
    return points


def _straight_ends(registration: Registration, ends: Floats) -> Floats:
    """The same of strokes' ends (n, 2, 2)."""
    return _straight(registration, ends.reshape(-1, 2)).reshape(-1, 2, 2)


def laid(model: Floats, at: Floats, before: Registration) -> Registration:
    """The plane laid onto the photo places, outliers left out."""
    off = np.linalg.norm(before.to_photo(model) - at, axis=1)
    kept = off <= OUTLIER * 1.4826 * np.median(off) + 0.5
    low = model.min(axis=0)
    size = np.maximum(np.ptp(model, axis=0), 1.0)
    shift = np.array([[1, 0, -low[0]], [0, 1, -low[1]], [0, 0, 1.0]])
    found = through(at[kept], model[kept] - low, (float(size[0]), float(size[1])))
    warp = found.warp if kept.sum() >= WARPED_FROM else np.zeros_like(found.warp)
    return Registration(found.homography @ shift, warp, found.size, (float(low[0]), float(low[1])))


def _groups(assigned: list[Assigned], cells: list[Cells], straight: list[Floats]) -> list[int]:
    """A number per block; blocks of one number share their steps."""
    keys: list[tuple[object, ...]] = []
    rough: list[float] = []
    found = []
    for a, c, at in zip(assigned, cells, straight, strict=True):
        step, from_right = _rough_step(c, at)
        key = (
            from_right,
            c.columns,
            a.known.nozzle_pitch,
            a.known.nozzle_step,
            a.known.column_pitch,
            a.known.row_pitch,
        )
        for k, (other, size) in enumerate(zip(keys, rough, strict=True)):
            if other == key and abs(np.log(step / size)) < ALIKE:
                found.append(k)
                break
        else:
            found.append(len(keys))
            keys.append(key)
            rough.append(step)
    return found


def _rough_step(cells: Cells, at: Floats) -> tuple[float, bool]:
    """The larger step of a block's lattice, and whether its columns are counted from the right."""
    across, down = steps_of(cells.column, cells.row, at)
    return max(float(np.linalg.norm(across)), float(np.linalg.norm(down)), 1e-6), bool(across[0] < 0)


def _fitted(cells: list[Cells], straight: list[Floats], groups: list[int]) -> list[Lattice]:
    """Robust least squares for the steps of every group and the origin of every block."""
    fits: list[Lattice | None] = [None] * len(cells)
    for group in set(groups):
        members = [k for k, g in enumerate(groups) if g == group]
        rows = []
        for n, k in enumerate(members):
            own = np.zeros((len(straight[k]), len(members)))
            own[:, n] = 1
            rows.append(np.column_stack([cells[k].column, cells[k].row, own]))
        basis, value = np.concatenate(rows).astype(np.float64), np.concatenate([straight[k] for k in members])
        weight = np.ones(len(basis))
        fit = np.zeros((basis.shape[1], 2))
        for _ in range(5):
            w = basis * weight[:, None]
            fit = np.linalg.lstsq(w.T @ basis, w.T @ value, rcond=None)[0]
            off = np.linalg.norm(value - basis @ fit, axis=1)
            weight = 1 / (1 + (off / (2 * float(np.median(off)) + 1e-6)) ** 2)
        if all(cells[k].row.max() == 0 for k in members):
            fit[1] = 0.0  # a single row tells nothing of the next
        for n, k in enumerate(members):
            fits[k] = Lattice(cells[k].columns, fit[2 + n], fit[0], fit[1], (0.0, 0.0))
    return [f for f in fits if f is not None]


def _held(fits: list[Lattice], cells: list[Cells], seen: Floats) -> list[Lattice]:
    """Lattices as turned, sheared and large as their marks (n, 2) were first seen: any such plane fits them as well, and they would wander from one to the next."""
    model = _model(fits, cells)
    basis = np.column_stack([np.ones(len(model)), model])
    moved = np.linalg.lstsq(basis, seen, rcond=None)[0]
    return [
        Lattice(f.columns, moved[0] + f.origin @ moved[1:], f.across @ moved[1:], f.down @ moved[1:], f.mark)
        for f in fits
    ]


def _model(fits: list[Lattice], cells: list[Cells]) -> Floats:
    """Where the marks seen (n, 2) of all blocks would lie exactly on their lattices."""
    return np.concatenate([f.origin + np.outer(c.column, f.across) + np.outer(c.row, f.down) for f, c in zip(fits, cells, strict=True)])  # fmt: skip


def _lone(fits: list[Lattice], cells: list[Cells], registration: Registration, strokes: Floats) -> Floats:
    """Ends (n, 2, 2) of strokes that are single marks of runs: shorter than their step, and on the run."""
    ends = _straight_ends(registration, strokes)
    long, middle = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1), ends.mean(axis=1).astype(np.float32)
    found = np.zeros(len(ends), bool)
    for lattice, some in zip(fits, cells, strict=True):
        step = float(np.linalg.norm(lattice.across))
        off = cv2.batchDistance(middle, _model([lattice], [some]).astype(np.float32), cv2.CV_32F, K=1)[0][:, 0]
        found |= (off < ON_RUN * step) & (long > LEAST_OF_STEP * step) & (long < step)
    return ends[found]


def _squared(fits: list[Lattice], cells: list[Cells], registration: Registration, strokes: Floats) -> tuple[list[Lattice], Registration]:  # fmt: skip
    """Turned so that marks lie along x, sheared so that rows stack along y where they nearly do; marks measured."""
    singles = [c.ends for c in cells if c.ends is not None]
    lying = _straight_ends(registration, np.concatenate(singles)) if singles else _lone(fits, cells, registration, strokes)  # fmt: skip
    stacked = [f.down for f, c in zip(fits, cells, strict=True) if c.row.max() > 0]
    down = np.median(np.array(stacked), axis=0) if stacked else np.array([0.0, 1.0])
    if singles or len(lying) >= LEAST_LONE:
        step = lying[:, 1] - lying[:, 0]
        flip = np.sign(step[:, 0])[:, None]
        turn = float(np.median(np.arctan2(*(step * flip).T[::-1])))
    else:
        turn = float(np.arctan2(-down[0], down[1]))
    c, s = np.cos(-turn), np.sin(-turn)
    matrix = np.array([[c, -s], [s, c]])
    leant = matrix @ down
    if abs(np.arctan2(leant[0], leant[1])) < (UPRIGHT if singles else RUNS_UPRIGHT):
        matrix = np.array([[1, -leant[0] / leant[1]], [0, 1]]) @ matrix
    found = []
    for f, some in zip(fits, cells, strict=True):
        across = matrix @ f.across
        if some.ends is not None:
            ends = _straight_ends(registration, some.ends) @ matrix.T
            long = float(np.median(np.abs(ends[:, 1, 0] - ends[:, 0, 0])))
        else:
            long = 0.94 * float(np.linalg.norm(across))
        scale = np.sqrt(abs(np.linalg.det(matrix))) / registration.px_per_mm(f.origin)
        found.append(Lattice(f.columns, matrix @ f.origin, across, matrix @ f.down, (long, some.wide * scale)))
    whole = np.eye(3)
    whole[:2, :2] = matrix
    return found, Registration(registration.homography @ inverse(whole), np.zeros_like(registration.warp), registration.size)  # fmt: skip
