"""From a rough place to a homography: intensity alignment of blurred strokes, coarse to fine."""

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, clear_of
from dusky_sieve.core.reading.compiled import add_row, compiled, on_picture, solved, straight_between
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.inkmap import shrunk
from dusky_sieve.core.reading.order import median
from dusky_sieve.core.reading.registration import project, through_matrix

Floats = NDArray[np.float64]
Image = NDArray[np.float32]
Bytes = NDArray[np.uint8]

COARSEST = 0.045  # blur of the first level over the pattern's longer side: only the blocks show
BLURS = (0.6, 0.3)  # of the widest lattice step, in the levels after it: rows show, then marks
FINER_FROM = 0.6  # of it, under which a block's own widest step is blurred to nothing there
ITERATIONS = (25, 15, 10)
HOLD = (0.6, 0.1, 0.0)  # pull back to the start per level, as a share of what the picture says: of perspective
HOLD_AFFINE = (0.1, 0.0, 0.0)  # and of scale and shear; the tilt is known about right, and absent blocks mislead
UNLIKE = (0.6, 0.5, -1.0)  # correlation at a level, under which none of 196 that were right or half right ended it
LIKE_ALL = 0.85  # correlation from which all blocks are there
LIKE_PART = 0.08  # by which it must be better without those of one side
BLUR_PX = 1.7  # the blur in raster pixels; finer rasters only cost time
PRESENT_SHARE = 0.25  # of the strongest block, under which a block is taken not to print
MARGIN_SHARE = 0.12  # bare border round the pattern that takes part, as a share of its longer side
MOST_RASTER_PX = 700  # longer side of a raster
# Of the template's steepest change, from which a pixel takes part; so many of them are enough.
TELLING, MOST_TELLING = 0.02, 15_000
DRAWN_POINTS = 60_000  # of all marks together, in a drawn pattern


@lru_cache(maxsize=16)
def widest_step(layout: Layout) -> float:
    """The widest lattice step of a layout's marks, mm, at most a tenth of the sheet."""
    steps = [
        np.hypot(*step) for b in layout.blocks if isinstance(b, MarksBlock) for step in (b.column_pitch, b.row_pitch)
    ]
    return float(min(max(steps, default=1.0), max(layout.size) / 10))


@lru_cache(maxsize=16)
def tightest_step(layout: Layout) -> float:
    """The least of the lattices' own widest steps, mm; single columns have none along travel, single rows none across."""
    lattices: dict[tuple[tuple[float, float], tuple[float, float]], list[float]] = {}
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    for b, clear in zip(blocks, clear_of(blocks), strict=True):
        own = lattices.setdefault((b.column_pitch, b.row_pitch), [])
        if b.columns > 1:
            own.append(min(float(np.hypot(*b.column_pitch)), b.mark[0] + clear.width))
        if b.nozzles > b.columns:
            own.append(float(np.hypot(*b.row_pitch)))
    return float(min((max(steps) for steps in lattices.values() if steps), default=widest_step(layout)))


def align(lines: Bytes, start: Floats, marks: Marks, layout: Layout) -> tuple[float, Floats] | None:
    """Homography (sheet mm to map pixels) refined from coarse to fine, with the correlation where the widest steps just show.

    Where a block's rows are much closer than the widest step they are seen in two levels more: it was laid a row aside.
    lines : (rows, columns) 255 where a stroke lies. None where the alignment runs away, or ends at a level where the
    picture is nothing like the pattern.
    """
    homography, score = start, 0.0
    margin = MARGIN_SHARE * max(layout.size)
    step, tight = widest_step(layout), tightest_step(layout)
    blurs = [max(COARSEST * max(layout.size), step), *(blur * step for blur in BLURS)]
    finer = [blur * tight for blur in BLURS] if tight < FINER_FROM * step else []
    for level, blur_mm in enumerate([*blurs, *finer]):
        own = _scale(homography, layout)
        if not np.isfinite(own) or own <= 0:
            return None
        scale = min(BLUR_PX / blur_mm, own, MOST_RASTER_PX / max(layout.size))
        blur = max(0.8, min(BLUR_PX, blur_mm * scale))
        factor = scale / own
        observed = _blurred(lines, factor, blur)
        printing = _printing(observed, shrunk(factor) @ homography, marks)
        kept = marks.only(printing) if printing.any() else marks
        template = np.sqrt(np.maximum(cv2.GaussianBlur(draw_marks(kept, scale, margin, layout.size), (0, 0), blur), 0))
        raster = np.array([[1 / scale, 0, -margin], [0, 1 / scale, -margin], [0, 0, 1]])
        reached, warp = _descend(template, observed, shrunk(factor) @ homography @ raster, min(level, len(BLURS)))
        refined = np.linalg.inv(shrunk(factor)) @ warp @ np.linalg.inv(raster)
        if not np.isfinite(refined).all() or not plausible(refined / refined[2, 2], layout):
            return None
        homography = refined / refined[2, 2]
        if level < len(blurs):  # how far a sharper picture is like it says less: marks are missing
            score = reached
            if score < UNLIKE[level]:
                return None
    return score, homography


def or_without(
    best: tuple[float, Floats] | None, lines: Bytes, start: Floats, parts: list[Marks], layout: Layout
) -> tuple[float, Floats] | None:
    """What alignment led to, or leads to with but one of the `parts` of the marks, where that correlates better.

    Where a channel at a side is absent, the whole pattern is stretched over what printed, and fits none of it.
    """
    if best is not None and best[0] >= LIKE_ALL:
        return best
    for part in parts:
        other = align(lines, start, part, layout)
        if other is not None and other[0] > (best[0] if best else 0.0) + LIKE_PART:
            best = other
    return best


def draw_marks(marks: Marks, scale: float, margin_mm: float, size: tuple[float, float]) -> Image:
    """Marks as coverage on a raster of `scale` px per mm, pixel (0, 0) at sheet point (-margin_mm, -margin_mm)."""
    shape = (int((size[1] + 2 * margin_mm) * scale) + 2, int((size[0] + 2 * margin_mm) * scale) + 2)
    along = 2 * max(1, int(np.ceil(marks.sizes[:, 0].max() / 2 * scale))) + 1
    stride = max(1, len(marks.centres) * along // DRAWN_POINTS)
    centres, sizes = marks.centres[::stride], marks.sizes[::stride]
    steps = np.linspace(-0.5, 0.5, along)
    x = ((centres[:, :1] + steps * sizes[:, :1] + margin_mm) * scale).ravel()
    y = np.repeat((centres[:, 1] + margin_mm) * scale, along)
    amount = np.repeat(sizes.prod(axis=1) * scale**2 / along * stride, along)
    column, row = np.round(x).astype(int), np.floor(y).astype(int)
    inside = (column >= 0) & (column < shape[1]) & (row >= 0) & (row < shape[0] - 1)
    column, row, part, amount = column[inside], row[inside], (y - row)[inside], amount[inside]
    cell = row * shape[1] + column
    size_flat = shape[0] * shape[1]
    canvas = np.bincount(cell, weights=(1 - part) * amount, minlength=size_flat)
    canvas += np.bincount(cell + shape[1], weights=part * amount, minlength=size_flat)
    return np.asarray(np.minimum(canvas, 1), np.float32).reshape(shape)


def _printing(observed: Image, to_level: Floats, marks: Marks) -> NDArray[np.bool_]:
    """Marks (n,) of the blocks that show on the photo at all: an absent channel must not pull at the others."""
    place = np.round(project(to_level, marks.centres)).astype(int)
    inside = (place >= 0).all(axis=1) & (place[:, 0] < observed.shape[1]) & (place[:, 1] < observed.shape[0])
    if not inside.any():
        return np.asarray(inside, np.bool_)
    seen = np.zeros(len(place))
    seen[inside] = observed[place[inside, 1], place[inside, 0]]
    count = np.bincount(marks.block[inside])
    share = np.bincount(marks.block[inside], weights=seen[inside]) / np.maximum(count, 1)
    shown: NDArray[np.bool_] = np.append(
        share >= PRESENT_SHARE * share.max(), np.zeros(int(marks.block.max()) + 1, bool)
    )
    return shown[marks.block].astype(np.bool_)


def _descend(template: Image, observed: Image, warp: Floats, level: int) -> tuple[float, Floats]:
    """Homography (template to observed pixels) of least robust difference, and the correlation reached.

    Inverse compositional Gauss-Newton (Baker & Matthews 2004, "Lucas-Kanade 20 years on") with Cauchy weights;
    a gain between the two pictures is fitted along.
    """
    height, width = template.shape[:2]
    # Coordinates scaled to about one, so that the eight parameters weigh alike.
    half = max(width, height) / 2
    gx = cv2.Sobel(template, cv2.CV_32F, 1, 0, scale=half / 8)
    gy = cv2.Sobel(template, cv2.CV_32F, 0, 1, scale=half / 8)
    to_unit = np.array([[1 / half, 0, -width / 2 / half], [0, 1 / half, -height / 2 / half], [0, 0, 1]])
    from_unit = np.linalg.inv(to_unit)
    at, slopes, wanted = _telling(template, np.asarray(gx), np.asarray(gy), half)
    got = wanted
    hold = np.array([HOLD_AFFINE[level]] * 6 + [HOLD[level]] * 2)
    hold[[2, 5]] = 0
    walked = np.zeros(8)
    for _ in range(ITERATIONS[level]):
        got, counted = _seen_at(observed, at, warp)
        gain = float((counted * got) @ wanted / (got @ got + 1e-9))
        off = gain * got - wanted
        normal, pull = _pulled(slopes, off, counted, 1.5 * float(median(np.abs(off))) + 0.02)
        weight = np.diag(normal)
        step = solved(normal + np.diag((1e-4 + hold) * weight + 1e-9), pull - hold * weight * walked)
        walked += step
        change = np.array([[1 + step[0], step[1], step[2]], [step[3], 1 + step[4], step[5]], [step[6], step[7], 1]])
        warp = warp @ from_unit @ np.linalg.inv(change) @ to_unit
        warp = warp / warp[2, 2]
        if np.abs(step).max() < 0.1 / half:  # a tenth of a pixel
            break
    together = np.corrcoef(got, wanted)[0, 1] if got.std() > 0 and wanted.std() > 0 else 0.0
    return float(together), warp


@compiled
def _telling(template: Image, gx: Image, gy: Image, half: float) -> tuple[Floats, Image, Image]:
    """Pixels where the template changes: places (n, 2), see _pulled for their slopes (n, 4), and values (n,)."""
    height, width = template.shape
    least = np.float32(0.0)
    for y in range(height):
        for x in range(width):
            least = max(least, abs(gx[y, x]) + abs(gy[y, x]))
    least *= np.float32(TELLING)
    count = 0
    for y in range(height):
        for x in range(width):
            count += abs(gx[y, x]) + abs(gy[y, x]) > least
    stride = count // MOST_TELLING + 1
    kept = -(-count // stride)
    at, slopes, values = np.empty((kept, 2)), np.empty((kept, 4), np.float32), np.empty(kept, np.float32)
    seen = 0
    for y in range(height):
        for x in range(width):
            if abs(gx[y, x]) + abs(gy[y, x]) > least:
                if seen % stride == 0:
                    n = seen // stride
                    at[n, 0], at[n, 1], values[n] = x, y, template[y, x]
                    slopes[n, 0], slopes[n, 1] = (x - width / 2) / half, (y - height / 2) / half
                    slopes[n, 2], slopes[n, 3] = gx[y, x], gy[y, x]
                seen += 1
    return at, slopes, values


@compiled
def _seen_at(picture: Image, at: Floats, warp: Floats) -> tuple[Image, Image]:
    """The picture's values (n,) where a homography takes points (n, 2), straight between its pixels, and 1 for those on it."""
    seen, inside = np.zeros(len(at), np.float32), np.zeros(len(at), np.float32)
    for n in range(len(at)):
        x, y = through_matrix(warp, at[n, 0], at[n, 1])
        if on_picture(picture, x, y):
            seen[n], inside[n] = straight_between(picture, x, y), 1.0
    return seen, inside


@compiled
def _pulled(slopes: Image, off: Image, counted: Image, spread: float) -> tuple[Floats, Floats]:
    """Normal equations (8, 8) and (8,) of a homography's parameters: what is off by more than the spread counts less.

    slopes : (n, 4), x and y of each point and the template's slope along them
    """
    normal, pull, row = np.zeros((8, 8)), np.zeros(8), np.zeros(8)
    for n in range(len(off)):
        if counted[n] == 0:
            continue
        x, y, u, v = slopes[n, 0], slopes[n, 1], slopes[n, 2], slopes[n, 3]
        weight = 1 / (1 + (off[n] / spread) ** 2)
        away = -(u * x + v * y)
        row[0], row[1], row[2], row[3], row[4], row[5] = u * x, u * y, u, v * x, v * y, v
        row[6], row[7] = away * x, away * y
        add_row(normal, pull, row, weight, off[n])
    return normal, pull


def _blurred(lines: Bytes, factor: float, blur: float) -> Image:
    """Strokes made smaller, blurred; the root brings faint and dense places closer."""
    small: NDArray[np.uint8] = lines
    while factor <= 0.5:  # by halves first, which is many times faster
        h, w = (side // 2 * 2 for side in small.shape)
        small = np.asarray(cv2.resize(small[:h, :w], (w // 2, h // 2), interpolation=cv2.INTER_AREA), np.uint8)
        factor *= 2
    if factor < 1:  # softened first, which with straight lines between is many times faster than by areas
        small = np.asarray(cv2.blur(small, (3, 3)), np.uint8)
        small = np.asarray(cv2.resize(small, None, fx=factor, fy=factor, interpolation=cv2.INTER_LINEAR), np.uint8)
    soft = cv2.GaussianBlur(small.astype(np.float32) / 255, (0, 0), blur)
    return np.asarray(np.sqrt(np.maximum(soft, 0)), np.float32)


def plausible(homography: Floats, layout: Layout) -> bool:
    """Whether a homography could be a photo of a sheet: not mirrored, not folded, tilted less than about 50 degrees."""
    w, h = layout.size
    corners = np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])
    depth = np.column_stack([corners, np.ones(4)]) @ homography[2]
    if (depth <= 0).any() or depth.max() / depth.min() > 2.0:
        return False
    seen = cv2.perspectiveTransform(corners[None], homography)[0]
    edges = np.roll(seen, -1, axis=0) - seen
    turn = edges[:, 0] * np.roll(edges[:, 1], -1) - edges[:, 1] * np.roll(edges[:, 0], -1)
    lengths = np.linalg.norm(edges, axis=1) / np.array([w, h, w, h])
    return bool((turn > 0).all() and lengths.max() / lengths.min() < 2.2)


def _scale(homography: Floats, layout: Layout) -> float:
    """Pixels per mm at the pattern's centre."""
    x, y = layout.size[0] / 2, layout.size[1] / 2
    a, b, c = cv2.perspectiveTransform(np.array([[[x, y], [x + 1, y], [x, y + 1]]]), homography)[0]
    u, v = b - a, c - a
    return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))
