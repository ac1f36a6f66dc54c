"""Marks hardly longer than wide: a dot shows no direction by itself, but the rows that dots stand in do."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading.compiled import compiled
from dusky_sieve.core.reading.inkmap import SLENDER, Strokes, find_strokes

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]

STUBBY = 4.0  # length over thickness of a mark, up to which a soft lens may leave no more than a dot of it
ROUND = 2.2  # length over width of a stroke, up to which the rows tell better than itself how it lies
ANOTHER_WAY = float(np.cos(np.radians(45)))  # of the angle between a dot's ways to the next ones


def strokes_of_marks(ink: Bytes, blocks: list[MarksBlock], within: Bytes | None) -> Strokes:
    """Strokes of an ink map that may be marks of some blocks; where most of these are dots round ones as well, as they lie in their rows.

    within : see find_strokes
    """
    short = sum(b.nozzles for b in blocks if may_be_dots(b))
    if 2 * short <= sum(b.nozzles for b in blocks):
        return find_strokes(ink, within)
    return _in_rows(find_strokes(ink, within, dots=True), max(blocks, key=lambda b: b.nozzles))


def may_be_dots(block: MarksBlock) -> bool:
    """Whether a block's marks are so short that they may look like dots."""
    return block.mark[0] < STUBBY * block.mark[1]


def _in_rows(strokes: Strokes, block: MarksBlock) -> Strokes:
    """The slender strokes, and the round ones in each of two ways in which the next ones stand: either may be along a block's rows.

    A grid of dots has no nearest neighbour but those of its rows and of its columns, and which of them are nearer the camera's tilt may change.
    """
    dots = np.flatnonzero(strokes.long < ROUND * strokes.wide)
    dots = dots[np.argsort(strokes.centre[dots, 0])]
    step = np.arctan2(block.column_pitch[1], block.column_pitch[0])  # by which marks of one row lie lower and lower
    ways = _next_ones(strokes.centre[dots], ANOTHER_WAY)
    slender = np.flatnonzero(strokes.long > SLENDER * strokes.wide)
    every = np.concatenate([slender, dots, dots])
    lean = np.concatenate([strokes.lean[slender], *(np.arctan2(ways[:, k, 1], ways[:, k, 0]) - step for k in (0, 1))])
    return replace(strokes.those(every), lean=lean)


@compiled
def _next_ones(points: Floats, another_way: float) -> Floats:
    """From each of the points (n, 2), sorted by x, to the nearest, and to the nearest in another way (n, 2, 2); 0 where there is none.

    another_way : cosine of the least angle between the two
    """
    found = np.zeros((len(points), 2, 2))
    for i in range(len(points)):
        for k in range(2):
            nearest = np.inf
            for side in (-1, 1):
                j = i + side
                while 0 <= j < len(points):
                    dx, dy = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1]
                    if dx * dx >= nearest:
                        break
                    far = dx * dx + dy * dy
                    along = abs(dx * found[i, 0, 0] + dy * found[i, 0, 1])
                    size = np.sqrt(far * (found[i, 0, 0] ** 2 + found[i, 0, 1] ** 2))
                    if far < nearest and (k == 0 or along <= another_way * size):
                        nearest, found[i, k, 0], found[i, k, 1] = far, dx, dy
                    j += side
    return found
