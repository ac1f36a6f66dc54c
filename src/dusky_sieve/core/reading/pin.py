"""A place that a person gave, moved onto the few marks that printed.

Where whole channels are absent and most marks of the rest, nothing can be followed; but a hand marks corners to about a
hundredth of the sheet, and rows stand further apart than that. So each stroke belongs to the lattice place next to it,
or to none, and the strokes that belong say by how much the hand was off.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock, mark_centres
from dusky_sieve.core.reading.registration import inverse, project

Floats = NDArray[np.float64]

ROUNDS = 3
FIRST, LAST = (
    0.45,
    0.25,
)  # of the distance to the next mark, within which a stroke belongs, in the first round and the last
LEAST_PINNED = 6  # strokes on the lattice, below which a person sees as much as the program
LEAST_SHARE = 0.6  # of the strokes within the pattern that must lie on it: else the corners are another sheet's
REACH = 3.0  # pixels of the ink map: residual from which a stroke is left out of a fit


def pin(homography: Floats, strokes: Floats, blocks: list[MarksBlock]) -> Floats | None:
    """The homography (3, 3) sheet mm to pixels moved onto strokes (n, 2) px; None where too few lie on the lattice."""
    places = np.concatenate([mark_centres(b) for b in blocks])
    lowest, highest = places.min(axis=0), places.max(axis=0)
    room = np.concatenate([np.tile(_steps(b), (b.nozzles, 1)) for b in blocks])
    for k in range(ROUNDS):
        allowed = FIRST + (LAST - FIRST) * k / (ROUNDS - 1)
        here = project(inverse(homography), strokes)
        inside = ((here > lowest - 1) & (here < highest + 1)).all(axis=1)
        if inside.sum() < LEAST_PINNED:
            return None
        seen, at = strokes[inside], here[inside]
        apart = np.abs(at[:, None] - places[None]) / room[None]
        nearest = apart.max(axis=2).argmin(axis=1)
        mine = apart[np.arange(len(at)), nearest].max(axis=1) < allowed
        if mine.sum() < LEAST_PINNED or mine.mean() < LEAST_SHARE:
            return None
        laid = project(homography, places[nearest[mine]])
        moved, _ = cv2.estimateAffinePartial2D(laid, seen[mine], ransacReprojThreshold=REACH)
        if moved is None:
            return None
        homography = np.vstack([moved, [0.0, 0.0, 1.0]]) @ homography
    return np.asarray(homography)


def _steps(block: MarksBlock) -> Floats:
    """Distance along travel and across it (2,) mm from a mark to the next that could be taken for it."""
    along = block.column_pitch[0] if block.columns > 1 else 4 * block.mark[0]
    steps = [abs(v[1]) for v in (block.column_pitch, block.row_pitch) if abs(v[1]) > block.mark[1]]
    down = abs(block.row_pitch[1]) if block.nozzles > block.columns else max(steps, default=1.0)
    return np.array([abs(along), max(down, block.mark[1])])
