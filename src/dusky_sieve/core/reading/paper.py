"""Where the sheet of paper lies on a photo: a large even, convex patch, whatever the desk under it looks like."""

from functools import reduce

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading.inkmap import shrink

Bytes = NDArray[np.uint8]
Photo = NDArray[np.uint8]

LOOKED_AT_PX = 240  # longer side while looking: marks and ruled lines are gone at that, paper and desk are not
UNRULED_AT_PX = 480  # longer side at which rules are narrower than three pixels
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
LOG = np.log(np.arange(256, dtype=np.float32) + DARK)
NEXT_TO = np.ones((3, 3), np.uint8)
# Of a desk as bright as the sheet but full of print or weave: window, px of the unruled picture, over which steps of log brightness are
# averaged; quantiles of that which are the calm sheet's and the desk's; how many times as much the latter must be.
TEXTURE_PX, CALM, BUSY, CLEARLY_BUSIER, LEAST_TEXTURE = 13, 0.03, 0.75, 2.5, 0.004
BETWEEN = (0.4, 0.6, 0.8)  # of the way from one to the other, in logs, below which ground is calm
STRAIT_PX = 17  # narrower straits of calm ground, as between lines of print, part patches
# Of a calm patch, and of all that lies beyond its rim: a plain desk is calm as well.
CALM_CONVEX, BUSY_ROUND = 0.9, 0.85
TURNED_IN_PX = 5  # of the rim that windows, and the rounding off of straits, take


def papers_on(small: Photo, backing: Backing) -> list[Bytes]:
    """Masks (rows, columns), 255 on what may be the sheet of paper on a photo (rows, columns, 3): convex hulls, likeliest first."""
    picture = shrink(small, UNRULED_AT_PX)[0]
    found = _even_patches(picture, backing)
    if not found:  # a rule may part the sheet, and a desk as bright as it run into it where their edge is faint
        fill = cv2.MORPH_CLOSE if backing == "light" else cv2.MORPH_OPEN
        unruled = np.asarray(cv2.morphologyEx(picture, fill, NEXT_TO), np.uint8)
        found = [*_even_patches(unruled, backing), *_even_patches(picture, backing, apart=True), *_even_patches(unruled, backing, apart=True)]  # fmt: skip
    if all(patch.mean() > 255 * MOST_SHARE for _, patch in found):
        found = _calm_patches(picture) or found
    found.sort(key=lambda item: -item[0])
    kept: list[Bytes] = []
    for _, patch in found:
        if len(kept) < MOST_PAPERS and not any(_alike(patch, other) for other in kept):
            kept.append(patch)
    rim = np.ones((2 * RIM_PX + 1,) * 2, np.uint8)
    return [enlarged(np.asarray(cv2.erode(patch, rim, borderValue=255), np.uint8), small) for patch in kept]


def _even_patches(picture: Photo, backing: Backing, *, apart: bool = False) -> list[tuple[float, Bytes]]:
    """Convex hulls of large even patches as masks (rows, columns), with how likely each is the sheet.

    apart : whether a bridge of two pixels does not make two patches one
    """
    tiny = cv2.medianBlur(shrink(picture, LOOKED_AT_PX)[0], SPECKS_PX)
    log = LOG[tiny]
    slopes = [np.abs(cv2.Sobel(log, cv2.CV_32F, *way, scale=1 / 8)) for way in ((1, 0), (0, 1))]
    steep = reduce(cv2.max, [band for slope in slopes for band in cv2.split(slope)])
    grey = np.asarray(cv2.transform(tiny.astype(np.float32), np.full((1, 3), 1 / 3, np.float32)), np.float32)
    found: list[tuple[float, Bytes]] = []
    for limit in STEEPEST:
        even = (steep < limit).astype(np.uint8)
        _, labels, stats, _ = cv2.connectedComponentsWithStats(
            cv2.erode(even, NEXT_TO) if apart else even, connectivity=4
        )
        shares = stats[1:, cv2.CC_STAT_AREA] / labels.size
        for k in 1 + np.flatnonzero((shares > LEAST_SHARE) & (shares < MOST_SHARE)):
            part = (labels == k).astype(np.uint8)
            convex, light, patch = _patch_of(
                np.asarray(cv2.dilate(part, NEXT_TO) if apart else part, np.uint8), grey, backing
            )
            if convex > CONVEX:
                found.append((float(shares[k - 1] * convex**4 * light * (STEEPEST[0] / limit) ** EVENNESS), patch))
    return found


def _calm_patches(picture: Photo) -> list[tuple[float, Bytes]]:
    """Large convex patches that are calm where all round them is busy, as masks (rows, columns), with how likely each is the sheet.

    Ink within them is enclosed by calm ground.
    """
    log = LOG[cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)]
    texture = cv2.blur(cv2.morphologyEx(log, cv2.MORPH_GRADIENT, NEXT_TO), (TEXTURE_PX, TEXTURE_PX))
    texture = cv2.resize(texture, shrink(picture, LOOKED_AT_PX)[0].shape[1::-1], interpolation=cv2.INTER_AREA)
    calm, busy = (max(float(np.quantile(texture, share)), LEAST_TEXTURE) for share in (CALM, BUSY))
    if busy < CLEARLY_BUSIER * calm:
        return []
    strait = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (STRAIT_PX, STRAIT_PX))
    found: list[tuple[float, Bytes]] = []
    for part in BETWEEN:
        limit = calm * (busy / calm) ** part
        rims, _ = cv2.findContours((texture < limit).view(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
        whole = cv2.drawContours(np.zeros(texture.shape, np.uint8), rims, -1, (255,), cv2.FILLED)
        for rim in cv2.findContours(cv2.erode(whole, strait), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)[0]:
            one = cv2.dilate(cv2.drawContours(np.zeros_like(whole), [rim], -1, (255,), cv2.FILLED), strait)
            patch = _hull(np.asarray(one, np.uint8))
            share, convex = float(patch.mean()) / 255, cv2.countNonZero(one) / cv2.countNonZero(patch)
            patch = np.asarray(cv2.dilate(patch, NEXT_TO, iterations=TURNED_IN_PX), np.uint8)
            beyond = texture[patch == 0]
            if LEAST_SHARE < share < MOST_SHARE and convex > CALM_CONVEX and (beyond > limit).mean() > BUSY_ROUND:
                found.append((share * convex**4, patch))
    return found


def _patch_of(even: Bytes, grey: NDArray[np.float32], backing: Backing) -> tuple[float, float, Bytes]:
    """Of an even patch (rows, columns): how convex it is, how much brightness counts for it, and its convex hull as a mask."""
    patch = _hull(even)
    bright = float(cv2.mean(grey, even)[0])
    # Ink is darker than paper, white ink brighter than what lies behind it.
    ink = grey < INKED * bright if backing == "light" else grey > bright / INKED
    inked = np.count_nonzero((patch > 0) & (even == 0) & ink)
    convex = (cv2.countNonZero(even) + inked) / cv2.countNonZero(patch)
    return convex, bright if backing == "light" else 1.0, patch  # paper is brighter than most desks


def _hull(part: Bytes) -> Bytes:
    """The convex hull of what is not 0 in a mask, as one."""
    rims, _ = cv2.findContours(part, cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_SIMPLE)
    return np.asarray(cv2.fillConvexPoly(np.zeros_like(part), cv2.convexHull(np.concatenate(rims)), (255,)), np.uint8)


def enlarged(mask: Bytes, like: Bytes) -> Bytes:
    """A mask at the size of another picture."""
    return np.asarray(cv2.resize(mask, like.shape[1::-1], interpolation=cv2.INTER_NEAREST), np.uint8)


def _alike(a: Bytes, b: Bytes) -> bool:
    return bool(((a > 0) & (b > 0)).sum() > SAME_PATCH * ((a > 0) | (b > 0)).sum())
