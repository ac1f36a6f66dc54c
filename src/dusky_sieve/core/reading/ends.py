"""Along travel, where marks touch, only the ends of the rows tell the place: ink up to them, bare paper beyond.

A lattice laid a column aside looks right everywhere else: one column along and one pitch down, a slanted run lies on
itself. So each block's rows are slid along themselves, and one smooth slip over the sheet is found that sets all ends
right together.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, extent
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.score import Fit, Place

Floats = NDArray[np.float64]

LOOKED_AT = 3  # columns to each side of a row's end that are looked at
FURTHEST, FINE = 2.5, 0.125  # columns by which rows are slid, and in what steps
TILTS = np.linspace(-1.75, 1.75, 15)  # columns by which the slip may differ between the sheet's middle and its rim
BETTER = 0.1  # share of an end's ink by which a slip must set the ends better than none
STEEPEST = 0.5  # columns: a slip that differs by less over the sheet, or from none, is what fitting finds by itself
ALONG_FROM = 2  # columns a block must have for its rows to have ends


@dataclass(frozen=True)
class Slip:
    """A slip along the rows, in columns: at the sheet's middle, and how much more at its right and lower rim.

    gain : how much better the rows' ends fit with it than without, as a share of an end's ink
    """

    middle: float
    right: float
    down: float
    gain: float

    @property
    def moves(self) -> bool:
        """Whether it is more than fitting sets right by itself."""
        return self.gain > BETTER and max(abs(self.middle), abs(self.right), abs(self.down)) >= STEEPEST


def find_slip(place: Place, blocks: list[MarksBlock], layout: Layout, near: NDArray[np.uint8], fit: Fit) -> Slip:
    """The slip that sets the ends of all rows best; `place` leads from sheet mm to pixels of `near`."""
    slides = np.arange(-FURTHEST - 2 * abs(TILTS).max(), FURTHEST + 2 * abs(TILTS).max() + FINE / 2, FINE)
    scores, weights, middles = [], [], []
    for k, block in enumerate(blocks):
        if not fit.printing[k] or min(block.columns, block.nozzles) <= ALONG_FROM:
            continue
        level = (fit.low[k], fit.high[k])
        scores.append(_ends(place, block, layout, near, level, slides))
        weights.append(float(-(-block.nozzles // block.columns)))
        box = np.array(extent(block))
        middles.append((box[:2] + box[2:]) / np.array(layout.size) - 1)
    if not scores:
        return Slip(0.0, 0.0, 0.0, 0.0)
    table, weight, at = np.array(scores), np.array(weights) / sum(weights), np.array(middles)
    steps = np.arange(-FURTHEST, FURTHEST + FINE / 2, FINE)
    a, b, c = (v.ravel() for v in np.meshgrid(steps, TILTS, TILTS, indexing="ij"))
    slip = a[:, None] + np.outer(b, at[:, 0]) + np.outer(c, at[:, 1])
    index = np.clip(np.rint((slip - slides[0]) / FINE).astype(int), 0, len(slides) - 1)
    total = (np.take_along_axis(table, index.T, axis=1) * weight[:, None]).sum(axis=0)
    # Among slips that fit alike the smallest is taken.
    total -= 0.01 * (np.abs(a) + np.abs(b) + np.abs(c))
    best = int(total.argmax())
    none = float((table[:, int(np.rint(-slides[0] / FINE))] * weight).sum())
    return Slip(float(a[best]), float(b[best]), float(c[best]), float(total[best]) - none)


def _ends(place: Place, block: MarksBlock, layout: Layout, near: NDArray[np.uint8], level: tuple[float, float], slides: Floats) -> Floats:  # fmt: skip
    """Ink inside the rows' ends less ink beyond them, -1..1, for every slide (n,)."""
    origin, column, row = np.array(block.origin), np.array(block.column_pitch), np.array(block.row_pitch)
    columns, rows = min(block.columns, block.nozzles), -(-block.nozzles // block.columns)
    r = np.arange(rows)
    last = np.full(rows, columns - 1)
    last[-1] = block.nozzles - 1 - (rows - 1) * columns
    depth = np.arange(min(LOOKED_AT, columns))
    inside = [(c, k) for k in r for c in (*depth, *(last[k] - depth)) if 0 <= c <= last[k]]
    beyond = [(c, k) for k in r for c in (*(-1 - np.arange(LOOKED_AT)), *(last[k] + 1 + np.arange(LOOKED_AT)))]
    boxes = np.array([extent(b) for b in layout.blocks if b.id != block.id]).reshape(-1, 4)
    free = [ck for ck in beyond if not _taken(origin + ck[0] * column + ck[1] * row, boxes, block.mark[0] / 2)]
    values = []
    for cells in (inside, free):
        if not cells:
            values.append(np.zeros(len(slides)))
            continue
        c, k = np.array(cells).T
        points = origin + (c[None, :] + slides[:, None])[..., None] * column + k[:, None] * row
        values.append(_ink(place, points.reshape(-1, 2), near, level).reshape(len(slides), -1).mean(axis=1))
    return np.asarray(values[0] - values[1])


def _taken(point: Floats, boxes: Floats, half: float) -> bool:
    x, y = point
    return bool(((x + half > boxes[:, 0] - 0.2) & (x - half < boxes[:, 2] + 0.2) & (y > boxes[:, 1] - 0.3) & (y < boxes[:, 3] + 0.3)).any())  # fmt: skip


def _ink(place: Place, points: Floats, near: NDArray[np.uint8], level: tuple[float, float]) -> Floats:
    at = np.rint(np.clip(place(points), -9.0, 99999.0)).astype(np.int64)
    h, w = near.shape
    seen = (at >= 0).all(axis=1) & (at[:, 0] < w) & (at[:, 1] < h)
    value = np.full(len(points), level[0])
    value[seen] = near[at[seen, 1], at[seen, 0]]
    return np.asarray(np.clip((value - level[0]) / (level[1] - level[0]), 0, 1))


def slipped(registration: Registration, slip: Slip, column: tuple[float, float], size: tuple[float, float]) -> Registration:  # fmt: skip
    """The registration with the sheet slid along its rows: p goes where p + slip(p) columns went."""
    step = np.array(column)
    shear = np.eye(3)
    shear[:2, 0] += step * slip.right * 2 / size[0]
    shear[:2, 1] += step * slip.down * 2 / size[1]
    shear[:2, 2] += step * (slip.middle - slip.right - slip.down)
    homography = registration.homography @ shear
    return Registration(homography / homography[2, 2], registration.warp, registration.size, registration.origin)
