"""Where ink may lie: thin marks set apart from paper, lamp and desk, at a size fit for finding."""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock

Floats = NDArray[np.float64]
Image = NDArray[np.float32]
Photo = NDArray[np.uint8]

FINDING_PX = 1600  # longer side while finding; marks 2.2 px a pitch apart on 12 megapixels still leave a trace
LEAST_INK = 0.03  # share of light a stroke must take to be looked at
SLENDER = 2.2  # length over width of a stroke that may be a mark
RUN_WITHIN = np.radians(14)  # tilt bends directions over the frame by about as much
INK_CAP = 0.45  # beyond this a dark line says no more; text and desk edges must not outvote faint inks


def shrink(photo: Photo, longest: int) -> tuple[Photo, float]:
    """The photo with its longer side at most `longest` px, and the factor from photo to small pixels."""
    factor = min(1.0, longest / max(photo.shape[:2]))
    if factor == 1.0:
        return photo, 1.0
    size = (max(1, round(photo.shape[1] * factor)), max(1, round(photo.shape[0] * factor)))
    return np.asarray(cv2.resize(photo, size, interpolation=cv2.INTER_AREA), np.uint8), factor


def ink_map(small: Photo, layout: Layout, backing: Backing) -> Image:
    """Share of light that thin marks take (light backing) or add (dark), (rows, columns, 3) in 0..INK_CAP.

    The ground is a closing (over dark: an opening) wide enough to swallow the thickest mark at the largest
    scale at which the pattern still fits the frame, so lamp, shadow and solid areas divide out.
    """
    thickest = max((b.mark[1] for b in layout.blocks if isinstance(b, MarksBlock)), default=0.1)
    largest_scale = 1.3 * max(small.shape[:2]) / max(layout.size)
    width = int(np.clip(2 * thickest * largest_scale + 5, 7, 61)) | 1
    kernel = np.ones((width, width), np.uint8)
    if backing == "light":
        ground = cv2.morphologyEx(small, cv2.MORPH_CLOSE, kernel).astype(np.float32)
        ink = 1 - (small + np.float32(2)) / (ground + 2)
    else:
        ground = cv2.morphologyEx(small, cv2.MORPH_OPEN, kernel).astype(np.float32)
        ink = (small - ground) / np.float32(200)
    floor = 2 * np.median(ink[::4, ::4].reshape(-1, 3), axis=0)  # what noise and paper fibre alone leave
    return np.asarray(np.clip(ink - floor.astype(np.float32), 0, INK_CAP), np.float32)


@dataclass(frozen=True)
class Strokes:
    """Connected thin strokes of an ink map: marks, or marks that touch end to end, and clutter like them.

    labels : (rows, columns), stroke number per pixel, 0 for none
    centre : (n, 2) x, y in pixels; lean : (n,) radians over half a turn; long, wide : (n,) pixels
    colour : (n, 3) ink share per band, the strongest band 1, so that yellow counts as much as black
    Row 0 stands for "no stroke" and has no length.
    """

    labels: NDArray[np.int32]
    centre: Floats
    lean: Floats
    long: Floats
    wide: Floats
    colour: Floats

    def running(self, direction: float) -> NDArray[np.bool_]:
        """Which strokes (n,) run in a direction (radians), within what tilt bends over a frame."""
        off = np.abs((self.lean - direction + np.pi / 2) % np.pi - np.pi / 2)
        return np.asarray((off < RUN_WITHIN) & (self.long > 0))

    def drawn(self, keep: NDArray[np.bool_]) -> Image:
        """The kept strokes as a picture (rows, columns, 3)."""
        return np.where(keep[:, None], self.colour, 0).astype(np.float32)[self.labels]


def find_strokes(ink: Image) -> Strokes:
    """Slender connected strokes that stand out from their surroundings; words, grain and blots go."""
    strongest = ink.max(axis=2)
    around = cv2.blur(cv2.dilate(strongest, np.ones((9, 9), np.uint8)), (15, 15))
    stroke = (strongest > np.maximum(0.4 * around, LEAST_INK)).astype(np.uint8)
    count, labels = cv2.connectedComponents(stroke, connectivity=8)
    rows, columns = np.nonzero(labels)
    which = labels[rows, columns]

    def total(weights: NDArray[Any]) -> Floats:
        return np.asarray(np.bincount(which, weights=weights, minlength=count), np.float64)

    area = np.maximum(np.bincount(which, minlength=count), 1).astype(float)
    x, y = total(columns) / area, total(rows) / area
    dx, dy = columns - x[which], rows - y[which]
    xx, yy, xy = total(dx * dx) / area, total(dy * dy) / area, total(dx * dy) / area
    spread = np.hypot(xx - yy, 2 * xy)
    long = np.sqrt(6 * np.maximum(xx + yy + spread, 0))
    wide = np.sqrt(6 * np.maximum(xx + yy - spread, 0)) + 0.6
    taken = ink[rows, columns]
    colour = np.stack([total(taken[:, band]) / area for band in range(3)], axis=1)
    colour /= colour.max(axis=1, keepdims=True) + 1e-6
    slender = (area >= 3) & (long / wide > SLENDER)
    slender[0] = False
    return Strokes(
        labels,
        np.stack([x, y], axis=1),
        0.5 * np.arctan2(2 * xy, xx - yy),
        np.where(slender, long, 0),
        wide,
        colour,
    )


def lean_histogram(strokes: Strokes, bins: int = 90) -> Floats:
    """Total length of strokes by direction, (bins,) over half a turn from 0 (along x)."""
    capped = (
        np.minimum(strokes.long, 4 * np.median(strokes.long[strokes.long > 0]))
        if (strokes.long > 0).any()
        else strokes.long
    )
    histogram, _ = np.histogram(strokes.lean % np.pi, bins=bins, range=(0, np.pi), weights=capped)
    return np.asarray(histogram, np.float64)
