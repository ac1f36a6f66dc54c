"""Where the sheet of paper lies on a photo: the one large even, convex patch, whatever the desk under it looks like."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing

Bytes = NDArray[np.uint8]
Photo = NDArray[np.uint8]

LOOKED_AT_PX = 240  # longer side while looking: marks and ruled lines are gone at that, paper and desk are not
SPECKS_PX = 5  # of a median that takes what is left of them away
STEEPEST = (
    0.015,
    0.03,
    0.06,
)  # change of log brightness a pixel, below which ground is even; lamps and soft shadows stay below
LEAST_SHARE, MOST_SHARE = 0.03, 0.93  # of the frame: smaller is a solid fill, larger no other than the frame itself
CONVEX = 0.88  # area over that of the convex hull; a desk round a sheet has a hole
RIM_PX = 2  # of the patch's rim that is left out: the edge of paper is a stroke of its own
DARK = 8.0  # of 255 added to brightness, so that noise of dark places is no step


def paper_on(small: Photo, backing: Backing) -> Bytes | None:
    """Mask (rows, columns), 255 on the sheet of paper on a photo (rows, columns, 3): its convex hull; None where none stands out."""
    factor = LOOKED_AT_PX / max(small.shape[:2])
    size = (max(1, round(small.shape[1] * factor)), max(1, round(small.shape[0] * factor)))
    tiny = cv2.medianBlur(cv2.resize(small, size, interpolation=cv2.INTER_AREA), SPECKS_PX)
    log = np.log(tiny.astype(np.float32) + DARK)
    slopes = [np.abs(cv2.Sobel(log, cv2.CV_32F, *way, scale=1 / 8)) for way in ((1, 0), (0, 1))]
    steep = np.maximum(*slopes).reshape(*log.shape[:2], -1).max(axis=2)
    best, hull = 0.0, None
    for limit in STEEPEST:
        count, labels, stats, _ = cv2.connectedComponentsWithStats((steep < limit).astype(np.uint8), connectivity=4)
        for k in range(1, count):
            share = stats[k, cv2.CC_STAT_AREA] / labels.size
            if not LEAST_SHARE < share < MOST_SHARE:
                continue
            around = cv2.convexHull(np.argwhere(labels == k)[:, ::-1].astype(np.int32))
            convex = stats[k, cv2.CC_STAT_AREA] / (cv2.contourArea(around) + 1)
            light = float(tiny[labels == k].mean()) if backing == "light" else 1.0  # paper is brighter than most desks
            if convex > CONVEX and share * convex**4 * light > best:
                best, hull = share * convex**4 * light, around
    if hull is None:
        return None
    mask = cv2.fillConvexPoly(np.zeros(size[::-1], np.uint8), hull, (255,))
    mask = cv2.erode(mask, np.ones((2 * RIM_PX + 1,) * 2, np.uint8), borderValue=255)
    return np.asarray(cv2.resize(mask, small.shape[1::-1], interpolation=cv2.INTER_NEAREST), np.uint8)
