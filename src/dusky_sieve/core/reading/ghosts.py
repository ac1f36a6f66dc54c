"""Faint traces of the blocks that this backing does not show, for telling which way round the sheet lies.

Film over black shows white ink; two like blocks of it look the same upside down. The colours beside them are next to
invisible there, but hundreds of marks together still leave a trace, and only one way round are they where it is.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, mark_centres, marks_over
from dusky_sieve.core.reading.score import Place

Floats = NDArray[np.float64]

WINDOW = 15  # pixels of the surroundings that a trace stands out from
ACROSS, ALONG = range(-8, 9), (-5, 0, 5)  # pixels by which a block seen only from afar may be misplaced
BY_CHANCE = 2.0  # standard errors that the best of the places tried reaches where there is nothing
SURE = 4.0  # standard errors beyond those, of all blocks together, from which a trace is no accident
CLEARER = 2.0  # times the other way's trace
DARKEST = 6.0  # of 255, added before grounds are compared: near black a few codes are nothing
OTHER_GROUND = 2.2  # times as bright or dark as where the sheet's own blocks lie: it is not the sheet's ground


def trace(small: NDArray[np.uint8], place: Place, layout: Layout, backing: Backing) -> float:
    """Standard errors, beyond those of chance, by which marks of the other backing differ from the bare places beside them.

    Those of all blocks together: the root of the sum of their squares. 0 where a block would lie beside the sheet.
    """
    if beside_sheet(small, place, layout, backing) > 0:
        return 0.0
    light = small.mean(axis=2).astype(np.float32)
    detail = light - cv2.blur(light, (WINDOW, WINDOW))
    limit = 4 * float(np.median(np.abs(detail))) * 1.4826 + 1.0
    detail = np.clip(cv2.blur(detail, (3, 1)), -limit, limit)
    squares = 0.0
    for block in _others(layout, backing):
        marks, bare = mark_centres(block), _bare(block)
        squares += max(_contrast(detail, place(marks), place(bare)) - BY_CHANCE, 0.0) ** 2
    return float(np.sqrt(squares))


def beside_sheet(small: NDArray[np.uint8], place: Place, layout: Layout, backing: Backing) -> float:
    """Share of the other backing's blocks that would lie on ground unlike that about the sheet's own marks."""
    light = small.mean(axis=2).astype(np.float32)
    own = marks_over(layout, backing)
    ground = np.median([_level(light, place(_bare(b))) for b in own]) + DARKEST
    ratios = [(_level(light, place(_bare(b))) + DARKEST) / ground for b in _others(layout, backing)]
    return sum(not 1 / OTHER_GROUND < ratio < OTHER_GROUND for ratio in ratios) / max(1, len(ratios))


def _others(layout: Layout, backing: Backing) -> list[MarksBlock]:
    """The blocks of the other backing that have marks enough to leave a trace."""
    return [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing != backing and b.nozzles >= 12]


def _bare(block: MarksBlock) -> Floats:
    """Places (n, 2) mm half a row on from each mark."""
    return np.asarray(mark_centres(block) + np.array(block.row_pitch) / 2)


def _level(light: NDArray[np.float32], spots: Floats) -> float:
    """Middle brightness at map places (n, 2)."""
    x, y = np.clip(np.rint(spots), 0, np.array(light.shape[::-1]) - 1).astype(np.int64).T
    return float(np.median(light[y, x]))


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
