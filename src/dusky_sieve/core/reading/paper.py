"""Where the sheet of paper lies on a photo: a large even, convex patch, whatever the desk under it looks like."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading.inkmap import shrink

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
CONVEX = 0.88  # area over that of the convex hull, ink within it counted in; a desk round a sheet has a hole
INKED = 0.85  # of the patch's brightness, below which (over dark: 1 over it, beyond which) a hole in it is ink
RIM_PX = 2  # of the patch's rim that is left out: the edge of paper is a stroke of its own
EVENNESS = 0.5  # power with which an evener patch counts for more than a larger one
SAME_PATCH = 0.7  # of two patches together that both cover, beyond which they are one
MOST_PAPERS = 2  # that are looked at; a desk can be as even as the sheet on it
DARK = 8.0  # of 255 added to brightness, so that noise of dark places is no step


def papers_on(small: Photo, backing: Backing) -> list[Bytes]:
    """Masks (rows, columns), 255 on what may be the sheet of paper on a photo (rows, columns, 3): convex hulls, likeliest first."""
    tiny = cv2.medianBlur(shrink(small, LOOKED_AT_PX)[0], SPECKS_PX)
    log = np.log(tiny.astype(np.float32) + DARK)
    slopes = [np.abs(cv2.Sobel(log, cv2.CV_32F, *way, scale=1 / 8)) for way in ((1, 0), (0, 1))]
    steep = np.maximum(*slopes).reshape(*log.shape[:2], -1).max(axis=2)
    grey = tiny.mean(axis=2)
    side = 1 if backing == "light" else -1  # ink is darker than paper, white ink brighter than what lies behind it
    found: list[tuple[float, Bytes]] = []
    for limit in STEEPEST:
        count, labels, stats, _ = cv2.connectedComponentsWithStats((steep < limit).astype(np.uint8), connectivity=4)
        for k in range(1, count):
            share = stats[k, cv2.CC_STAT_AREA] / labels.size
            if not LEAST_SHARE < share < MOST_SHARE:
                continue
            even = labels == k
            rims, _ = cv2.findContours(even.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
            hull = cv2.convexHull(np.concatenate(rims))
            patch = np.asarray(cv2.fillConvexPoly(np.zeros(log.shape[:2], np.uint8), hull, (255,)), np.uint8)
            bright = float(grey[even].mean())
            inked = (patch > 0) & ~even & (grey * side < INKED**side * bright * side)
            convex = (even.sum() + inked.sum()) / (patch > 0).sum()
            light = bright if backing == "light" else 1.0  # paper is brighter than most desks
            if convex > CONVEX:
                found.append((float(share * convex**4 * light * (STEEPEST[0] / limit) ** EVENNESS), patch))
    found.sort(key=lambda item: -item[0])
    kept: list[Bytes] = []
    for _, patch in found:
        if len(kept) < MOST_PAPERS and not any(_alike(patch, other) for other in kept):
            kept.append(patch)
    rim = np.ones((2 * RIM_PX + 1,) * 2, np.uint8)
    return [enlarged(np.asarray(cv2.erode(patch, rim, borderValue=255), np.uint8), small) for patch in kept]


def enlarged(mask: Bytes, like: Bytes) -> Bytes:
    """A mask at the size of another picture."""
    return np.asarray(cv2.resize(mask, like.shape[1::-1], interpolation=cv2.INTER_NEAREST), np.uint8)


def _alike(a: Bytes, b: Bytes) -> bool:
    return bool(((a > 0) & (b > 0)).sum() > SAME_PATCH * ((a > 0) | (b > 0)).sum())
