"""Faint traces of the blocks that this backing does not show, for telling which way round the sheet lies.

Film over black shows white ink; two like blocks of it look the same upside down. The colours beside them are next to
invisible there, but hundreds of marks together still leave a trace, and only one way round are they where it is.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, mark_centres
from dusky_sieve.core.reading.score import Place

Floats = NDArray[np.float64]

WINDOW = 15  # pixels of the surroundings that a trace stands out from
ACROSS, ALONG = range(-8, 9), (-5, 0, 5)  # pixels by which a block seen only from afar may be misplaced
BY_CHANCE = 2.0  # standard errors that the best of the places tried reaches where there is nothing
SURE = 4.0  # standard errors beyond those, of all blocks together, from which a trace is no accident
CLEARER = 2.0  # times the other way's trace


def trace(small: NDArray[np.uint8], place: Place, layout: Layout, backing: Backing) -> float:
    """Standard errors, beyond those of chance, by which marks of the other backing differ from the bare places beside them.

    Those of all blocks together: the root of the sum of their squares.
    """
    light = small.mean(axis=2).astype(np.float32)
    detail = light - cv2.blur(light, (WINDOW, WINDOW))
    limit = 4 * float(np.median(np.abs(detail))) * 1.4826 + 1.0
    detail = np.clip(cv2.blur(detail, (3, 1)), -limit, limit)
    squares = 0.0
    for block in layout.blocks:
        if not isinstance(block, MarksBlock) or block.backing == backing or block.nozzles < 12:
            continue
        marks = mark_centres(block)
        bare = marks + np.array(block.row_pitch) / 2
        squares += max(_contrast(detail, place(marks), place(bare)) - BY_CHANCE, 0.0) ** 2
    return float(np.sqrt(squares))


def _contrast(detail: NDArray[np.float32], marks: Floats, bare: Floats) -> float:
    h, w = detail.shape
    best = 0.0
    for dy in ACROSS:
        for dx in ALONG:
            values = []
            for points in (marks, bare):
                at = np.rint(points + (dx, dy)).astype(np.int64)
                seen = (at >= 0).all(axis=1) & (at[:, 0] < w) & (at[:, 1] < h)
                values.append(detail[at[seen, 1], at[seen, 0]])
            on, off = values
            if min(len(on), len(off)) < 12:
                continue
            error = np.sqrt(on.var() / len(on) + off.var() / len(off)) + 1e-3
            best = max(best, abs(float(on.mean() - off.mean())) / float(error))
    return best


def clearer(mine: float, other: float) -> bool:
    """Whether one way's trace decides against the other's."""
    return mine > SURE and mine > CLEARER * other
