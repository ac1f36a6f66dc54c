"""Words, numbers and frames beside a pattern told from its marks: these run on along travel and have bare paper above and below.

Numbers before the rows stand about where another column would. Taken for marks, they draw the lattice a column aside, or the
right place is refused because ink stands beside it.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading.inkmap import InkMap
from dusky_sieve.core.reading.kept import Kept, kept
from dusky_sieve.core.reading.registration import Registration, inverse, project
from dusky_sieve.core.reading.score import Fit, Judge

Bytes = NDArray[np.uint8]
Floats = NDArray[np.float64]
Step = tuple[int, int]

RUNS_ON = 0.3  # of the shortest mark's length, that ink must run on for both ways
BARE_PX, LEAST_BARE_PX = 3.0, 2.0  # of the map beside its edge, where it must be bare; the nearer where rows are close
# Parts each way, in which the map is looked at: from one side of a tilted sheet to the other marks turn by ten degrees.
PARTS = 4
FURTHEST_PX = 400.0  # a step on the map: where a place leads further, it is no sheet
MOST_UNSEEN = 0.3  # of the blocks that print, whose marks may not be seen as such where the others' are
# Of the share of marks explained, that must be explained by ink like marks, too: where the lattice lies badly it is half as much.
AS_WELL = 0.62
SAME_MARKS = 0.003  # of the pattern's diagonal, by which places may differ about which marks look alike
KEPT = 3  # places whose fits are kept
AROUND = 0.15  # of the pattern's size, by which the map is looked at beyond it


@dataclass(frozen=True)
class MarksMap(InkMap):
    """An ink map of what is like marks alone; `parts` of it are made each with the marks' own direction there."""

    parts: tuple["_Part", ...] = ()

    @cached_property
    def near(self) -> Bytes:
        """The ink, which was widened before."""
        return self.ink

    @cached_property
    def soft(self) -> Bytes:
        """The same as long as marks are, softened, as rows are slid on it."""
        whole = self.ink.copy()
        for part in self.parts:
            longer = _both_ways(self.ink, part, part.along, cv2.max)
            whole[part.rows, part.columns] = cv2.max(whole[part.rows, part.columns], longer)
        return np.asarray(cv2.blur(whole, (3, 3)), np.uint8)


@dataclass(frozen=True)
class _Part:
    """A part of the map, and steps in pixels (x, y) there: along a mark, and across it to bare paper."""

    rows: slice
    columns: slice
    along: Step
    across: Step


class MarksAlone:
    """Judges places by ink that is like marks alone; keeps the map of the last one, and the fits of a few."""

    def __init__(self, ink: InkMap, judge: Judge, blocks: list[MarksBlock], clear_mm: float) -> None:
        """`judge` is the one of all ink; `clear_mm` lie between rows, whichever blocks they belong to."""
        self.ink, self.judge, self.blocks, self.clear_mm = ink, judge, blocks, clear_mm
        self.seen: tuple[Registration, MarksMap | None] | None = None
        self.known: Kept[tuple[Judge, Fit]] = []

    def map(self, place: Registration) -> MarksMap | None:
        """The map of such ink about a place, where rows are far enough apart."""
        if self.seen is None or self.seen[0].apart(place) > SAME_MARKS:
            self.seen = place, marks_map(self.ink, place, self.blocks, self.clear_mm)
        return self.seen[1]

    def judged(self, place: Registration, fit: Fit) -> tuple[Judge, Fit]:
        """The judge of such ink and its fit at a place that fits so by all ink; those of all ink where marks are not seen as such."""
        return kept(self.known, KEPT, place, lambda: self._judged(place, fit))

    def _judged(self, place: Registration, fit: Fit) -> tuple[Judge, Fit]:
        marks = self.map(place)
        judge = Judge(marks, self.judge.plan, self.judge.backing) if marks is not None else self.judge
        like = judge.of(place)
        # Faint marks are not, nor those that lie beside the lattice or too close to others.
        unseen = float((fit.printing & ~like.printing).sum())
        told = unseen <= MOST_UNSEEN * float(fit.printing.sum()) and like.there >= AS_WELL * fit.there
        return (judge, like) if told else (self.judge, fit)

    def forget(self) -> None:
        """Lets go of the pictures."""
        self.seen, self.known = None, []


def marks_map(ink: InkMap, place: Registration, blocks: list[MarksBlock], clear_mm: float) -> MarksMap | None:
    """What of the ink about a place runs on both ways along travel, less what stands to either side; None where rows are too close to tell."""
    middle = np.array(place.size) / 2
    scale = place.px_per_mm(middle)
    edge = 0.5 * max(b.mark[1] for b in blocks)
    if edge + LEAST_BARE_PX / scale > 0.5 * clear_mm:
        return None
    bare = min(edge + BARE_PX / scale, 0.5 * clear_mm)
    steps = np.array([[0.0, 0.0], [RUNS_ON * min(b.mark[0] for b in blocks), 0.0], [0.0, bare]])
    marks, parts = np.zeros_like(ink.near), _parts(place, ink.near.shape, steps)
    for part in parts:
        own = ink.near[part.rows, part.columns]
        runs_on = cv2.min(_both_ways(ink.near, part, part.along, cv2.min), own)
        marks[part.rows, part.columns] = cv2.subtract(runs_on, _both_ways(ink.near, part, part.across, cv2.max))
    return MarksMap(marks, ink.small, ink.factor, ink.corner, ink.frame, parts)


def _parts(place: Registration, shape: tuple[int, ...], steps: Floats) -> tuple[_Part, ...]:
    """The map about a place in PARTS parts each way, with where three points (3, 2) mm at a part's middle lead."""
    size = np.array(place.size)
    seen = place.to_photo(np.array([[-AROUND, -AROUND], [1 + AROUND, -AROUND], [1 + AROUND, 1 + AROUND], [-AROUND, 1 + AROUND]]) * size)  # fmt: skip
    low, high = (np.clip(np.nan_to_num(v), 0, shape[::-1]) for v in (seen.min(axis=0), seen.max(axis=0)))
    x, y = (np.rint(np.linspace(low[k], high[k], PARTS + 1)).astype(int).tolist() for k in (0, 1))
    back, found = inverse(place.homography), []
    for rows in (slice(*v) for v in pairwise(y)):
        for columns in (slice(*v) for v in pairwise(x) if v[1] > v[0] and rows.stop > rows.start):
            at = np.array([[(columns.start + columns.stop) / 2, (rows.start + rows.stop) / 2]])
            here, ahead, below = place.to_photo(np.clip(project(back, at), 0, size) + steps)
            found.append(_Part(rows, columns, _whole(ahead - here), _whole(below - here)))
    return tuple(found)


def _whole(step: Floats) -> Step:
    x, y = np.clip(np.nan_to_num(step), -FURTHEST_PX, FURTHEST_PX)
    return round(float(x)), round(float(y))


def _both_ways(picture: Bytes, part: _Part, step: Step, pick: Callable[[Bytes, Bytes], Any]) -> Bytes:
    """Of every pixel of a part the lesser, or the greater, of what stands a step to one side of it and to the other."""
    dx, dy = step
    x, y = abs(dx), abs(dy)
    rows, columns = part.rows, part.columns
    height, width = rows.stop - rows.start, columns.stop - columns.start
    wide = _with_rim(picture, rows, columns, x, y)
    one, other = (wide[y + k * dy : y + k * dy + height, x + k * dx : x + k * dx + width] for k in (-1, 1))
    return np.asarray(pick(one, other), np.uint8)


def _with_rim(picture: Bytes, rows: slice, columns: slice, x: int, y: int) -> Bytes:
    """A part of a picture with so many pixels more to each side; beyond the picture its outermost ones."""
    height, width = picture.shape
    top, bottom, left, right = rows.start - y, rows.stop + y, columns.start - x, columns.stop + x
    inside = picture[max(top, 0) : min(bottom, height), max(left, 0) : min(right, width)]
    out = max(-top, 0), max(bottom - height, 0), max(-left, 0), max(right - width, 0)
    return np.asarray(cv2.copyMakeBorder(inside, *out, cv2.BORDER_REPLICATE), np.uint8) if any(out) else inside
