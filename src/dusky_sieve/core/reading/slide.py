"""Along travel, where rows are nearly unbroken lines and the distance to strokes says nothing.

The brightness along each row is laid onto the row's own pattern of marks and gaps, its two ends first.
"""

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, clear_height, extent, level_with, mark_centres, near_by
from dusky_sieve.core.reading.compiled import add_row, compiled, in_rows, on_picture, ranked, solved, straight_between
from dusky_sieve.core.reading.ends import narrow
from dusky_sieve.core.reading.follow import STILL_MM
from dusky_sieve.core.reading.registration import DEGREES, TERMS, Registration, through_matrix, warp_terms

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Whole = NDArray[np.int64]
Bytes = NDArray[np.uint8]
Bools = NDArray[np.bool_]

LONG_ROW = 8  # marks with gaps between them
ROW_SAMPLES = 8  # per column step, along a row
MOST_ROWS = 48
LEAST_LEVEL = 6.0  # of 255: ink of a row that hardly prints
STRONG = 0.8  # of a row's samples, below which its strong ink lies
SLIDES = ((0.45, 1, 6), (0.3, 2, 5), (0.16, 3, 5))  # blur in column steps, degree, iterations
END = 2.0  # columns from a row's first and last mark that count as its ends
BEYOND = 1.3  # column steps looked at beyond a row's ends
FRAME_SHARE = 0.7  # of ink beyond them, so much above and below is a frame's: a mark has bare paper there
FRAME_AT = (-1.0, -0.6, 0.6, 1.0)  # half rows above and below: a rule may stand half-way between them
BARE_PX = 5.0  # of the map, which must be bare between rows to tell: ink is widened by two pixels all round
APART_PX = 3.0  # of the map, from a mark's edge to the next one's middle a column further down: both are widened by two all round
FAR_OFF = 0.35  # of a mark's ink, from which a sample counts half


@dataclass(frozen=True)
class _Rows:
    """Samples along rows, one row after the other: `start` (rows + 1,) is where each begins.

    places : (n, 2) mm; terms : (n, t) of a warp over the sheet, as many as any stage asks for; wanted, usable : (n,) how much of each a mark covers, and 1 for
    those that count; seen : (n,) those that are looked at, for they count or what counts is blurred with them; beyond : (n,) beyond the row's ends
    column_mm : (rows,); half_row : (rows, 2) mm to half-way to the next row; clear_mm : (rows,); ends_only : (rows,) whether gaps do not show
    """

    places: Floats
    terms: Floats
    wanted: Singles
    usable: Singles
    seen: Bools
    beyond: Bools
    start: Whole
    column_mm: Floats
    half_row: Floats
    clear_mm: Floats
    ends_only: Bools


def slide(soft_ink: Bytes, start: Registration, blocks: list[MarksBlock], layout: Layout) -> Registration:
    """Registration moved along travel, by the brightness along each row of the printing blocks, on the map's soft ink."""
    scale = start.px_per_mm(np.array(start.size) / 2)
    alone = tuple(_stand_alone(block, scale) for block in blocks)
    ends_only = tuple(narrow(block, scale) and not by_itself for block, by_itself in zip(blocks, alone, strict=True))
    rows = _rows_of(tuple(blocks), layout, ends_only, alone)
    base, matrix = start.displaced(rows.places), in_rows(start.homography)
    row_of = np.repeat(np.arange(len(rows.column_mm)), np.diff(rows.start))
    beyond = np.flatnonzero(rows.beyond & (rows.clear_mm * scale > BARE_PX)[row_of])
    half_row = rows.half_row[row_of[beyond]]
    total = np.zeros(len(TERMS))
    # Where some have gaps these say how the sheet bends, those without only where its rows end.
    telling, supple = (len(rows.column_mm), 1) if all(ends_only) else (int((~rows.ends_only).sum()), 3)
    # A row of many marks tells by itself how it bends.
    long = any(min(b.columns, b.nozzles) >= LONG_ROW for b, ends in zip(blocks, ends_only, strict=True) if not ends)
    for blur, degree, rounds in SLIDES:
        count = DEGREES[min(degree, supple, 1 + int(long or telling > 12) + int(telling > 30))]
        level: Singles | None = None
        taps = _taps(blur * ROW_SAMPLES)
        aim = _smoothed(rows.wanted, rows.start, taps)
        for _ in range(rounds):
            seen, inside = _ink_along(soft_ink, base, rows.seen, rows.terms, total[:count], matrix, beyond, half_row)
            if level is None:
                level = _strong_ink(seen, rows.usable, rows.start)
            soft = _smoothed(np.minimum(seen / level, np.float32(1.2)), rows.start, taps)
            normal, pull = _pulled(rows.terms, soft, aim, rows.usable * inside, rows.start, rows.column_mm, count)
            # Curvature and more only as far as many rows ask for it.
            stiff = (
                np.array([1e-4] * 3 + [0.02 if supple == 3 else 0.2] * (count - 3)) * float(np.trace(normal)) / count
            )
            change = np.clip(solved(normal + np.diag(stiff + 1e-9), pull - stiff * total[:count]), -1, 1) * 0.9
            total[:count] += change
            if np.abs(change).max() < STILL_MM:
                break
    warp = start.warp.copy()
    warp[:, 0] += total
    return Registration(start.homography, warp, start.size)


@lru_cache(maxsize=4)
def _rows_of(
    blocks: tuple[MarksBlock, ...], layout: Layout, ends_only: tuple[bool, ...], alone: tuple[bool, ...]
) -> _Rows:
    """Samples along the rows of all blocks together, thinned to about MOST_ROWS."""
    kinds = zip(blocks, ends_only, alone, strict=True)
    parts = [_rows_of_block(block, layout, len(blocks), ends, by_itself) for block, ends, by_itself in kinds]
    places = np.concatenate([place.reshape(-1, 2) for place, *_ in parts])
    wanted, usable, beyond = (np.concatenate([part[k].ravel() for part in parts]) for k in (1, 2, 3))
    lengths = np.concatenate([np.full(part[1].shape[0], part[1].shape[1]) for part in parts])
    count = [len(part[1]) for part in parts]
    # What is blurred with those that count is looked at, and one more to each side for the slope.
    around = np.ones((1, len(_taps(SLIDES[0][0] * ROW_SAMPLES)) + 2), np.uint8)
    seen = np.concatenate([cv2.dilate(part[2].astype(np.uint8), around).ravel() for part in parts]) > 0
    return _Rows(
        places, in_rows(warp_terms(places, layout.size)[:, : DEGREES[SLIDES[-1][1]]]), wanted.astype(np.float32), usable.astype(np.float32),
        seen, beyond, np.append(0, np.cumsum(lengths)), np.repeat([b.column_pitch[0] or 1.0 for b in blocks], count),
        np.repeat([part[4] for part in parts], count, axis=0),
        np.repeat([clear_height(b) for b in blocks], count), np.repeat(ends_only, count),
    )  # fmt: skip


@lru_cache(maxsize=128)
def _rows_of_block(
    block: MarksBlock, layout: Layout, blocks: int, ends_only: bool, alone: bool
) -> tuple[Floats, Floats, Bools, Bools, Floats]:
    """Samples (rows, samples) along a block's rows: places (rows, samples, 2) mm, covered by a mark, usable, and beyond the ends.

    And half of the step (2,) mm from one row to the next.
    """
    starts, lengths, column, row = _rows_as_seen(block, alone)
    some = np.arange(0, len(starts), max(1, len(starts) * blocks // MOST_ROWS))
    starts, length = starts[some], lengths[some, None]
    # Samples lie alike to both sides of every mark's middle, and count by how much of them the mark covers.
    first, end = -round((BEYOND + 0.5) * ROW_SAMPLES), round((lengths.max() + BEYOND - 0.5) * ROW_SAMPLES)
    u = np.arange(first, end + 1) / ROW_SAMPLES
    places = starts[:, None] + u[None, :, None] * column
    half = 0.5 * block.mark[0] / abs(column[0] or 1.0)
    along = np.clip((half - np.abs(u - np.rint(u))) * ROW_SAMPLES + 0.5, 0, 1)
    wanted = along * (np.rint(u) >= 0) * (np.rint(u) < length)
    usable = u < length + BEYOND - 0.5  # a short last row ends where its marks do
    if ends_only:  # between them a row whose gaps do not show says nothing but where it was followed badly
        usable &= (u < END) | (u > length - 1 - END)
    x, y = places[..., 0], places[..., 1]
    banks = near_by(extent(block), layout.blocks)
    for other in near_by((x.min(), y.min(), x.max(), y.max()), layout.blocks, 0.3):
        if other not in banks:
            left, top, right, bottom = extent(other)
            usable &= ~((x > left - 0.3) & (x < right + 0.3) & (y > top - 0.3) & (y < bottom + 0.3))
    past = (u < -0.5) | (u > length - 0.5)
    return places, wanted, usable, past & usable, row / 2


def _stand_alone(block: MarksBlock, scale: float) -> bool:
    """Whether columns step down so far that from one mark to the next there is bare paper, at `scale` pixels a mm, and no row."""
    step = abs(block.column_pitch[1])
    return step >= level_with(block) or (narrow(block, scale) and step >= block.mark[1] / 2 + APART_PX / scale)


def _rows_as_seen(block: MarksBlock, alone: bool) -> tuple[Floats, Whole, Floats, Floats]:
    """Where a block's rows begin (n, 2) mm, how many marks each has (n,), and the steps (2,) mm to the next mark and to the next row.

    alone : each of its marks is a row
    """
    centres, column = mark_centres(block), np.array(block.column_pitch)
    if alone:
        return centres, np.ones(len(centres), np.int64), column * (1, 0), column * (0, 1)
    lengths = np.full(-(-block.nozzles // block.columns), block.columns)
    lengths[-1] = block.nozzles - (len(lengths) - 1) * block.columns
    return centres[:: block.columns], lengths, column, np.array(block.row_pitch)


def _taps(sigma: float) -> Singles:
    """A Gaussian's weights (taps,), an odd number of them."""
    return np.asarray(cv2.getGaussianKernel(2 * int(3 * sigma) + 1, sigma), np.float32).ravel()


@compiled
def _strong_ink(seen: Singles, usable: Singles, start: Whole) -> Singles:
    """The strong ink of each sample's row, (n,), of those samples that lie on it."""
    level = np.empty_like(seen)
    for r in range(len(start) - 1):
        own = seen[start[r] : start[r + 1]][usable[start[r] : start[r + 1]] > 0]
        rank = max(int(STRONG * len(own)) - 1, 0)
        strong = ranked(own, rank) if len(own) > 0 else 0.0
        level[start[r] : start[r + 1]] = min(max(strong, LEAST_LEVEL), 255.0)
    return level


@compiled
def _smoothed(values: Singles, start: Whole, taps: Singles) -> Singles:
    """Values (n,) blurred along each row; beyond its ends they stay as there."""
    soft, half = np.zeros_like(values), len(taps) // 2
    for r in range(len(start) - 1):
        first, count = start[r], start[r + 1] - start[r]
        padded = np.empty(count + 2 * half, np.float32)
        for k in range(len(padded)):
            padded[k] = values[first + min(max(k - half, 0), count - 1)]
        for t in range(len(taps)):
            for k in range(count):
                soft[first + k] += taps[t] * padded[k + t]
    return soft


@compiled
def _ink_along(
    ink: Bytes, base: Floats, looked_at: Bools, terms: Floats, total: Floats, homography: Floats, beyond: Whole, half_row: Floats
) -> tuple[Singles, Bools]:  # fmt: skip
    """Ink (n,) at places (n, 2) mm moved along travel by `total` (t,) of the `terms`, and whether they lie on the map.

    looked_at : (n,) of the others there is none
    beyond, half_row : (k,) which of them lie beyond their row's ends, and (k, 2) mm of that row: a frame's ink is left out there
    """
    seen, inside, x = np.zeros(len(base), np.float32), np.zeros(len(base), np.bool_), base[:, 0].copy()
    for n in range(len(base)):
        if not looked_at[n]:
            continue
        for k in range(len(total)):
            x[n] += terms[n, k] * total[k]
        right, down = through_matrix(homography, x[n], base[n, 1])
        inside[n] = on_picture(ink, right, down)
        seen[n] = straight_between(ink, right, down) if inside[n] else 0.0
    for k in range(len(beyond)):
        n, least = beyond[k], np.inf
        for share in FRAME_AT:
            right, down = through_matrix(homography, x[n] + share * half_row[k, 0], base[n, 1] + share * half_row[k, 1])
            least = min(least, straight_between(ink, right, down) if on_picture(ink, right, down) else 0.0)
        if least > FRAME_SHARE * seen[n]:
            seen[n] = 0.0
    return seen, inside


@compiled
def _pulled(
    terms: Floats, soft: Singles, aim: Singles, usable: Singles, start: Whole, column_mm: Floats, count: int
) -> tuple[Floats, Floats]:
    """Normal equations, (count, count) and (count,), of one round; what is far off counts less."""
    normal, pull, row = np.zeros((count, count)), np.zeros(count), np.zeros(count)
    for r in range(len(column_mm)):
        per_mm = 0.5 * ROW_SAMPLES / column_mm[r]
        for n in range(start[r] + 1, start[r + 1] - 1):
            off, slope = aim[n] - soft[n], (soft[n + 1] - soft[n - 1]) * per_mm
            weight = usable[n] / (1 + (off / FAR_OFF) ** 2)
            if weight * slope == 0:
                continue
            for k in range(count):
                row[k] = terms[n, k] * slope
            add_row(normal, pull, row, weight, off)
    return normal, pull
