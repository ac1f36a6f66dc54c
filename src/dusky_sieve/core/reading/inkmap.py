"""Where ink may lie: thin strokes set apart from paper, lamp and desk, at a size fit for finding."""

from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock
from dusky_sieve.core.reading.compiled import compiled
from dusky_sieve.core.reading.order import median, quantile

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]
Photo = NDArray[np.uint8]

FINDING_PX = 1600  # longer side while finding; marks 2.2 px a pitch apart on 12 megapixels still leave a trace
CLOSER_PX = 2600  # and where nothing is clearly found at that: small marks, coarse grounds
WIDEST_GROUND = 41  # pixels of the smaller map: wider windows swallow the edges of paper and shadow
LEAST_INK = 5  # of 255: share of the paper's brightness a stroke must take to be looked at
STANDS_OUT = 0.4  # of the strongest ink round it, from which a place belongs to a stroke
ROUND_PX = 11  # how far that is looked for: half of both its windows
SLENDER = 1.7  # length over width of a stroke that may be a mark
STRONGEST = 0.92  # quantile of the strokes' ink that stands for full ink: one block among a dozen still reaches it
TRACE = 0.4  # of full ink, below which a stroke over dark is a trace of another ink
OVER_GRAIN = 2.5  # times what a stroke has at least, that a round one has in the mean: specks of noise are round
GRAIN = 4.0  # of the map's own noise, below which nothing is a stroke
FOCAL_SHARE = 0.85  # focal length over the frame's longer side; phones' main lenses lie between 0.7 and 1.1


@dataclass(frozen=True)
class Lens:
    """A usual phone's lens, in pixels of a map: focal length, the middle (2,) of the frame, and how far that is from its corners."""

    focal: float
    middle: Floats
    corner: float

    @classmethod
    def of(cls, frame: tuple[int, ...]) -> "Lens":
        """The one that took a frame of so many rows and columns."""
        middle = np.array([frame[1] - 1, frame[0] - 1]) / 2
        return cls(FOCAL_SHARE * max(frame[:2]), middle, float(np.hypot(*middle)))


@dataclass(frozen=True)
class InkMap:
    """A small picture of what thin things take from the light round them.

    ink : (rows, columns) 0..255, share of brightness taken in the band that shows most (over dark: added)
    small : (rows, columns, 3) the photo at that size
    factor : map pixels per photo pixel; corner : x, y of the photo's pixel where the map begins
    frame : rows, columns of the photo that it is a part of; None of the whole photo
    """

    ink: Bytes
    small: Photo
    factor: float
    corner: tuple[int, int] = (0, 0)
    frame: tuple[int, int] | None = None

    @cached_property
    def from_photo(self) -> Floats:
        """Photo pixels to map pixels (3, 3)."""
        x, y = self.corner
        return np.asarray(shrunk(self.factor) @ np.array([[1.0, 0, -x], [0, 1.0, -y], [0, 0, 1.0]]))

    @cached_property
    def lens(self) -> Lens:
        """What took the photo."""
        if self.frame is None:
            return Lens.of(self.ink.shape)
        whole = Lens.of(self.frame)
        middle = self.from_photo[:2, :2] @ whole.middle + self.from_photo[:2, 2]
        return Lens(whole.focal * self.factor, middle, whole.corner * self.factor)

    @cached_property
    def near(self) -> Bytes:
        """The ink a pixel wider all round."""
        return np.asarray(cv2.dilate(self.ink, np.ones((3, 3), np.uint8)), np.uint8)

    @cached_property
    def soft(self) -> Bytes:
        """The same softened, as rows are slid on it."""
        return np.asarray(cv2.blur(self.near, (3, 3)), np.uint8)


@dataclass(frozen=True)
class Strokes:
    """Connected slender strokes of an ink map: marks, marks that touch end to end, and clutter like them.

    centre : (n, 2) x, y in map pixels; lean : (n,) radians over half a turn; long, wide : (n,) pixels
    ink : (n,) mean ink, 0..255
    shape : rows, columns of the map; pixel, label : (k,) every inked pixel, counted along rows, and the number of the
    stroke it belongs to; number : (n,) that of each row here
    """

    centre: Floats
    lean: Floats
    long: Floats
    wide: Floats
    ink: Floats
    shape: tuple[int, int]
    pixel: NDArray[np.int32]
    label: NDArray[np.int32]
    number: NDArray[np.int64]

    def judged_over(self, backing: Backing) -> "Strokes":
        """Over dark without those far fainter than the strongest: traces of the inks that only show over light."""
        if backing == "light" or len(self.ink) == 0:
            return self
        return self.inked(TRACE * float(np.quantile(self.ink, STRONGEST)))

    def inked(self, least: float) -> "Strokes":
        """Those of so much ink at least."""
        return self.those(self.ink >= least)

    def those(self, which: NDArray[np.bool_] | NDArray[np.int64]) -> "Strokes":
        """Some of them, by mask or number, perhaps more than once."""
        return replace(
            self, centre=self.centre[which], lean=self.lean[which], long=self.long[which], wide=self.wide[which],
            ink=self.ink[which], number=self.number[which],
        )  # fmt: skip

    def drawn(self, keep: NDArray[np.bool_]) -> Bytes:
        """The kept strokes as a mask, 255 where one lies."""
        table = np.zeros(int(self.label.max(initial=0)) + 1, np.uint8)
        table[self.number[keep]] = 255
        mask = np.zeros(self.shape, np.uint8)
        mask.ravel()[self.pixel] = table[self.label]
        return mask


def shrunk(factor: float) -> Floats:
    """Pixels of a picture to pixels of the same picture made smaller by `factor`; pixel centres are whole."""
    return np.array([[factor, 0, factor / 2 - 0.5], [0, factor, factor / 2 - 0.5], [0, 0, 1]])


def shrink(photo: Photo, longest: int) -> tuple[Photo, float]:
    """The photo with its longer side at most `longest` px, and the factor from photo to small pixels."""
    factor = min(1.0, longest / max(photo.shape[:2]))
    if factor == 1.0:
        return photo, 1.0
    size = (max(1, round(photo.shape[1] * factor)), max(1, round(photo.shape[0] * factor)))
    # By a whole number first, where one goes into both sides, which is many times faster.
    whole = next((k for k in range(int(1 / factor), 1, -1) if photo.shape[0] % k == photo.shape[1] % k == 0), 1)
    if whole > 1:
        halved = (photo.shape[1] // whole, photo.shape[0] // whole)
        photo = np.asarray(cv2.resize(photo, halved, interpolation=cv2.INTER_AREA), np.uint8)
    how = cv2.INTER_LINEAR if whole > 1 and factor * whole > 0.5 else cv2.INTER_AREA
    return np.asarray(cv2.resize(photo, size, interpolation=how), np.uint8), factor


def ink_map(photo: Photo, layout: Layout, backing: Backing, longest: int = FINDING_PX) -> InkMap:
    """What thin things take from (over dark: add to) the light round them.

    Bands are balanced to the paper's own colour, then the band that shows most counts, so that yellow weighs as
    much as black. The ground is a closing (over dark: an opening) wide enough to swallow the thickest mark at the
    largest scale at which the pattern still fits the frame, so lamp, shadow and solid areas divide out.
    """
    thickest = max((b.mark[1] for b in layout.blocks if isinstance(b, MarksBlock)), default=0.1)
    size = min(longest, max(photo.shape[:2]))
    most = WIDEST_GROUND * longest // FINDING_PX
    width = int(np.clip(2 * thickest * 1.3 * size / max(layout.size) + 7, 9, most)) | 1
    return ink_over(photo, backing, width, longest)


def ink_over(photo: Photo, backing: Backing, width: int, longest: int) -> InkMap:
    """The ink map against the paper within a window of `width` pixels, its longer side at most `longest`."""
    small, factor = shrink(photo, longest)
    kernel = np.ones((width, width), np.uint8)
    if backing == "light":
        paper = [max(float(quantile(small[::8, ::8, band].ravel(), 0.85)), 20.0) for band in range(3)]
        balanced = np.minimum(np.arange(256) * max(paper) / np.array(paper)[:, None], 255).astype(np.uint8)
        dim = _dimmest(small, balanced)
        three = np.full_like(dim, 3)
        ground = cv2.add(cv2.morphologyEx(dim, cv2.MORPH_CLOSE, kernel), three)
        ink = cv2.bitwise_not(cv2.divide(cv2.add(dim, three), ground, scale=255))
    else:
        bands = cv2.split(small)
        bright = cv2.max(cv2.max(bands[0], bands[1]), bands[2])
        ink = cv2.subtract(bright, cv2.morphologyEx(bright, cv2.MORPH_OPEN, kernel))
        ink = cv2.convertScaleAbs(ink, alpha=1.3)
    return InkMap(np.asarray(ink, np.uint8), small, factor)


def find_strokes(ink: Bytes, within: Bytes | None = None, *, dots: bool = False) -> Strokes:
    """Slender connected strokes that stand out from their surroundings; words, grain and blots go.

    within : mask of the same shape, 255 where strokes are looked for and where the ground's noise is taken from
    dots : whether round ones are kept as well
    """
    sampled = ink[::5, ::5] if within is None else ink[::5, ::5][within[::5, ::5] > 0]
    noise = float(median(sampled.ravel())) if sampled.size else 0.0
    floor = int(np.clip(GRAIN * 0.6 * noise + LEAST_INK, LEAST_INK, 60))
    shape, left, top = (ink.shape[0], ink.shape[1]), 0, 0
    if within is not None:  # beyond it there is nothing to look at
        x, y, width, height = cv2.boundingRect(within)
        # From an even row and column on: components are numbered by two of each at a time, in one order in all parts.
        left, top = (max(v - ROUND_PX, 0) // 2 * 2 for v in (x, y))
        part = np.s_[top : y + height + ROUND_PX, left : x + width + ROUND_PX]
        ink = np.asarray(cv2.bitwise_and(ink[part], within[part]), np.uint8)
    limit = cv2.blur(cv2.dilate(ink, np.ones((9, 9), np.uint8)), (15, 15))
    limit = cv2.max(cv2.convertScaleAbs(limit, alpha=STANDS_OUT), np.full_like(ink, floor))
    count, labels = cv2.connectedComponents((ink > limit).view(np.uint8), connectivity=8, ltype=cv2.CV_32S)
    del limit  # maps are large where it is looked closer
    where, which, sums = _moments(np.asarray(labels, np.int32), ink, count, (left, top, shape[1]))
    del labels
    area = np.maximum(sums[:, 0], 1e-9)
    size = np.bincount(which, minlength=count)
    x, y = (sums[:, 1:3] / area[:, None]).T
    xx, yy, xy = (sums[:, 3:] / area[:, None]).T
    spread = np.hypot(xx - yy, 2 * xy)
    long = np.sqrt(6 * np.maximum(xx + yy + spread, 0))
    wide = np.sqrt(6 * np.maximum(xx + yy - spread, 0)) + 0.6
    like = long / wide > SLENDER
    if dots:
        like |= area > OVER_GRAIN * floor * size
    kept = np.flatnonzero((size >= 3) & like & (np.arange(count) > 0))
    lean = 0.5 * np.arctan2(2 * xy, xx - yy)
    return Strokes(
        np.stack([x, y], axis=1)[kept],
        lean[kept],
        long[kept],
        wide[kept],
        area[kept] / size[kept],
        shape,
        where,
        which,
        kept.astype(np.int64),
    )


@compiled
def _dimmest(photo: Photo, balanced: Bytes) -> Bytes:
    """The darkest band (rows, columns) of every pixel, after a table of each band (3, 256)."""
    height, width, _ = photo.shape
    dim = np.empty((height, width), np.uint8)
    for y in range(height):
        for x in range(width):
            r, g, b = balanced[0, photo[y, x, 0]], balanced[1, photo[y, x, 1]], balanced[2, photo[y, x, 2]]
            dim[y, x] = min(r, g, b)
    return dim


@compiled
def _moments(
    labels: NDArray[np.int32], ink: Bytes, count: int, of: tuple[int, int, int]
) -> tuple[NDArray[np.int32], NDArray[np.int32], Floats]:
    """Every labelled pixel, counted along rows, its label, and each label's ink: in all, times x and y, times their squares (count, 6).

    The squares, xx, yy and xy, are taken about the label's own centre. Of a part of a map: `of` is its left, its top and the
    whole map's width.
    """
    left, top, whole = of
    height, width = labels.shape
    sums, inked = np.zeros((count, 6)), 0
    for y in range(height):
        for x in range(width):
            label = labels[y, x]
            if label > 0:
                weight = float(ink[y, x])
                inked += 1
                sums[label, 0] += weight
                sums[label, 1] += weight * (x + left)
                sums[label, 2] += weight * (y + top)
    where, which, k = np.empty(inked, np.int32), np.empty(inked, np.int32), 0
    for y in range(height):
        for x in range(width):
            label = labels[y, x]
            if label > 0:
                where[k], which[k] = (y + top) * whole + x + left, label
                k += 1
                weight = float(ink[y, x])
                dx = x + left - sums[label, 1] / sums[label, 0]
                dy = y + top - sums[label, 2] / sums[label, 0]
                sums[label, 3] += weight * dx * dx
                sums[label, 4] += weight * dy * dy
                sums[label, 5] += weight * dx * dy
    return where, which, sums
