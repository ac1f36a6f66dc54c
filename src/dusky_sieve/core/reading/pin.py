"""A place that a person gave: followed from there where enough printed, else moved onto the few marks that did.

Where whole channels are absent and most marks of the rest, nothing can be followed; but a hand marks corners to about a
hundredth of the sheet, and rows stand further apart than that. So each stroke belongs to the lattice place next to it,
or to none, and the strokes that belong say by how much the hand was off.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import MarksBlock, mark_centres
from dusky_sieve.core.reading.align import align, plausible
from dusky_sieve.core.reading.locate import FOUND_FROM, LEAST_MARKS, Bools, Corners, Locator
from dusky_sieve.core.reading.registration import Registration, inverse, project, rigid
from dusky_sieve.core.reading.tilt import Lean
from dusky_sieve.core.reading.votes import room_of

Floats = NDArray[np.float64]

ROUNDS = 3
FIRST, LAST = (
    0.45,
    0.25,
)  # of the distance to the next mark, within which a stroke belongs, in the first round and the last
LEAST_PINNED = 6  # strokes on the lattice, below which a person sees as much as the program
LEAST_SHARE = 0.6  # of the strokes within the pattern that must lie on it: else the corners are another sheet's
REACH = 3.0  # pixels of the ink map: residual from which a stroke is left out of a fit
HAND_TRUSTED = 0.025  # of the diagonal by which corners set by hand may be off


def by_corners(at: Locator, corners: Corners) -> Registration:
    """The registration from the pattern's four corners as a person marked them, laid onto the strokes near by.

    corners : top left, top right, bottom right, bottom left of the sheet, (x, y) in photo pixels. Raises
    SheetNotFound where they are no picture of a sheet, or where no marks lie between them.
    """
    w, h = at.whole.size
    source = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float32)
    given = np.asarray(cv2.getPerspectiveTransform(source, np.array(corners, np.float32)), np.float64)
    if not plausible(given, at.whole):
        raise SheetNotFound(
            f"{at.file}: the four corners are not those of a sheet. Mark the pattern's own top left corner first, "
            "then on clockwise."
        )
    return _near(at, given)


def _near(at: Locator, homography: Floats) -> Registration:
    """The registration close to a homography (sheet mm to photo pixels) that a person gave."""
    homography = at.of_photo(rigid(homography, at.layout.size)).homography
    along = project(homography, np.array([[0.0, 0.0], [at.layout.size[0], 0.0]]))
    direction = float(np.arctan2(*(along[1] - along[0])[::-1]))
    off = np.abs((at.strokes.lean - direction + np.pi / 2) % np.pi - np.pi / 2)
    lean = Lean(np.eye(3), direction, None, off < np.radians(25))
    like = at.like_at(homography, lean)
    aligned = align(at.drawn(like), homography, at.marks, at.layout)
    given = rigid(homography, at.layout.size)
    starts = [given] if aligned is None else [given, rigid(aligned[1], at.layout.size)]
    # Where few rows printed they may be followed astray, and what alignment says is better.
    ways = [at.settled(place) for start in starts for place in (at.followed(like, start), start)]
    close = [way for way in ways if way[0].apart(given) < HAND_TRUSTED and way[1].there >= FOUND_FROM]
    followed, fit = max(close, key=lambda way: way[1].explained, default=ways[0])
    if close and fit.explained >= LEAST_MARKS:
        return at.whole_sheet(followed)
    return at.whole_sheet(_pinned(at, homography, like))


def _pinned(at: Locator, homography: Floats, like: Bools) -> Registration:
    """Where too little printed to follow: the corners as given, moved onto the few marks that lie on the lattice."""
    pinned = pin(homography, at.strokes.centre[like], at.blocks)
    if pinned is None:
        raise SheetNotFound(
            f"{at.file}: no marks of the layout “{at.layout.name}” lie between the four corners. "
            "Mark the corners of the printed pattern, the top left one first."
        )
    return rigid(pinned, at.layout.size)


def pin(homography: Floats, strokes: Floats, blocks: list[MarksBlock]) -> Floats | None:
    """The homography (3, 3) sheet mm to pixels moved onto strokes (n, 2) px; None where too few lie on the lattice."""
    places = np.concatenate([mark_centres(b) for b in blocks])
    lowest, highest = places.min(axis=0), places.max(axis=0)
    room = np.concatenate([np.tile(room_of(b), (b.nozzles, 1)) for b in blocks])
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
