"""A second look at where a first one led: the part of the photo round it, at its full size.

Of a sheet that is small in the frame, maps of the whole photo leave too little to tell whether its marks lie on the lattice.
"""

from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.inkmap import CLOSER_PX, ink_map
from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import Registration, homography_of, inverse
from dusky_sieve.core.reading.tilt import running_along

Photo = NDArray[np.uint8]

CLOSE_BY = 0.2  # of the longer side of where a look led, that is looked at round it
WORTH_CLOSER = 1.4  # times as many pixels a side, from which a further look tells more than one before


def close_up(before: Locator, photo: Photo, place: Registration) -> Locator | None:
    """The locator on the part of the photo round a place (sheet mm to photo pixels); None where maps of all of it show it about as well."""
    (rows, columns), (width, height) = photo.shape[:2], before.whole.size
    corners = place.to_photo(np.array([(0, 0), (width, 0), (width, height), (0, height)], np.float64))
    room = CLOSE_BY * float(np.ptp(corners, axis=0).max())
    x, y = np.clip(corners.min(axis=0) - room, 0, (columns - 1, rows - 1)).astype(int).tolist()
    right, below = np.clip(corners.max(axis=0) + room, (x + 1, y + 1), (columns, rows)).astype(int).tolist()
    seen_at = max(before.map.factor, min(1.0, CLOSER_PX / max(rows, columns)))
    if max(right - x, below - y) * WORTH_CLOSER * seen_at > CLOSER_PX:
        return None
    part = np.ascontiguousarray(photo[y:below, x:right])
    seen = ink_map(part, before.layout, before.backing, CLOSER_PX)
    seen = replace(seen, corner=(x, y), frame=(rows, columns))
    within = None
    if before.within is not None:
        back = before.map.from_photo @ inverse(seen.from_photo)
        how = cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP
        within = np.asarray(cv2.warpPerspective(before.within, back, seen.ink.shape[::-1], flags=how), np.uint8)
    return Locator(photo, before.whole, before.backing, before.file, seen=seen, within=within)


def carried(at: Locator, place: Registration) -> Found:
    """A place on the photo as `at` sees it, followed on its strokes where that explains more."""
    here = at.of_photo(place)
    lean = running_along(at.strokes, here.to_photo(np.array([[0.4, 0.5], [0.6, 0.5]]) * at.layout.size))
    like = at.like_at(homography_of(here), lean)
    ways = (here, at.followed(like, here))
    return max((Found(way, at.judge.of(way), lean, like) for way in ways), key=at.explains)
