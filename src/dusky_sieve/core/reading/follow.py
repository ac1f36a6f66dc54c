"""From a homography that is about right to a smooth warp that lies on the strokes: curl and lens followed.

First across travel: points along every mark slide down the distance to the nearest stroke (Fitzgibbon 2003, "Robust
registration of 2D and 3D point sets"). Marks that are missing lie far from any stroke and take no part. Then along
travel, where rows are nearly unbroken lines and distance says nothing: the brightness along each row is laid onto
the row's own pattern of marks and gaps, its two ends first.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, clear_width, extent
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.registration import DEGREES, TERMS, Registration, warp_terms

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]

STILL_MM = 0.015  # a round that moves nothing further ends a stage
MOST_POINTS = 2400
# Degree of the displacement, iterations, and the share of the pattern about its middle that takes part: it grows,
# so that the rim, where lens and curl bend most, is met from close by and not one row off.
PLAN = ((1, 3, 0.5), (2, 4, 0.5), (2, 4, 0.75), (3, 4, 0.75), (3, 5, 1.0), (4, 5, 1.0))
STIFF = 0.002  # pull towards the start, per point, of terms beyond the first degree
FAR_SHARE = 0.45  # of the lattice's clear height: beyond it a point belongs to no stroke

ROW_SAMPLES = 10  # per column step, along a row
MOST_ROWS = 150
SLIDES = ((0.45, 1, 6), (0.3, 2, 5), (0.16, 3, 5))  # blur in column steps, degree, iterations
TOUCHING_PX, TOUCHING_SHARE = (
    2.5,
    0.15,
)  # gaps narrower than these hardly show: then a row's ends tell most of where it lies
BEYOND = 1.3  # column steps looked at beyond a row's ends


def distance_to(lines: Bytes) -> Singles:
    """Distance (rows, columns) in pixels to the nearest stroke of `lines`, 255 where one lies."""
    return np.asarray(cv2.distanceTransform(cv2.bitwise_not(lines), cv2.DIST_L2, 3), np.float32)


def follow(distance: Singles, start: Registration, marks: Marks, clear_mm: float) -> Registration:
    """Registration (sheet mm to ink map) moved across travel onto strokes, from the distance to them.

    clear_mm : distance between strokes of neighbouring rows; sets how far a point may look.
    """
    size = start.size
    cap = float(np.clip(FAR_SHARE * clear_mm * start.px_per_mm(np.array(size) / 2), 2.0, 40.0))
    stride = max(1, len(marks.centres) * 3 // MOST_POINTS)
    centres, sizes = marks.centres[::stride], marks.sizes[::stride]
    points = np.concatenate([centres + sizes * (part, 0) for part in (-0.35, 0.0, 0.35)])
    base, basis = start.displaced(points), warp_terms(points, size)
    away = np.abs(points - np.median(points, axis=0)) / (np.ptp(points, axis=0) / 2 + 1e-9)
    rigid = Registration(start.homography, np.zeros_like(start.warp), size)
    total = np.zeros(len(TERMS))
    for degree, rounds, share in PLAN:
        count = DEGREES[degree]
        terms = basis[:, :count]
        part = (away < share * 1.05).all(axis=1) if share < 1 else np.ones(len(points), bool)
        stiff = np.array([0.0] * 3 + [1.0] * (count - 3)) * STIFF * len(points)
        for _ in range(rounds):
            moved = base + np.column_stack([np.zeros(len(points)), terms @ total[:count]])
            place = rigid.to_photo(moved)
            down = (rigid.to_photo(moved + (0, 0.1)) - place) / 0.1
            value, slope = _sampled(distance, place)
            steep = (slope * down).sum(axis=1)
            weight = 1 / (1 + (value / max(0.35 * cap, 1.0)) ** 2) * (value < cap) * part
            if weight.sum() < 12:
                break
            rows = terms * steep[:, None]
            normal = (rows * weight[:, None]).T @ rows
            scale = float(np.trace(normal)) / count
            normal += np.diag(stiff * scale / len(points) + 1e-3 * np.diag(normal) + 1e-9)
            pull = (
                -(rows * weight[:, None]).T @ np.maximum(value - 0.3, 0) - stiff * scale / len(points) * total[:count]
            )
            change = np.clip(np.linalg.solve(normal, pull), -clear_mm, clear_mm)
            total[:count] += change
            if np.abs(change).max() < STILL_MM:
                break
    warp = start.warp.copy()
    warp[:, 1] += total
    return Registration(start.homography, warp, size)


def slide(ink: Bytes, start: Registration, blocks: list[MarksBlock], layout: Layout) -> Registration:
    """Registration moved along travel, by the brightness along each row of the printing blocks."""
    rows = [_row_points(block, layout, len(blocks)) for block in blocks]
    points = np.concatenate([r[0] for r in rows])
    wanted, usable = np.concatenate([r[1] for r in rows]), np.concatenate([r[2] for r in rows])
    step = np.concatenate([np.full(len(r[1]), b.column_pitch[0] or 1.0) for r, b in zip(rows, blocks, strict=True)])
    line = np.concatenate([r[3] + 1_000_000 * k for k, r in enumerate(rows)])
    around = np.asarray(cv2.blur(cv2.dilate(ink, np.ones((3, 3), np.uint8)), (3, 3)), np.float32)
    basis = warp_terms(points, start.size)
    total = np.zeros(len(TERMS))
    rigid = Registration(start.homography, np.zeros_like(start.warp), start.size)
    base = start.displaced(points)
    starts = np.flatnonzero(np.append(True, np.diff(line) != 0))
    lengths = np.diff(np.append(starts, len(line)))
    scale = start.px_per_mm(np.array(start.size) / 2)
    gap, column = (float(np.median([v(b) for b in blocks])) for v in (clear_width, lambda b: b.column_pitch[0]))
    supple = 3 if gap > max(TOUCHING_PX / scale, TOUCHING_SHARE * column) else 1
    for blur, degree, rounds in SLIDES:
        count = DEGREES[min(degree, supple, 1 + int(len(starts) > 12) + int(len(starts) > 30))]
        aim = _smoothed(wanted, starts, lengths, blur * ROW_SAMPLES)
        for _ in range(rounds):
            moved = base + np.column_stack([basis[:, :count] @ total[:count], np.zeros(len(points))])
            seen, inside = _ink_at(around, rigid.to_photo(moved))
            soft = _smoothed(_levelled(seen, starts, lengths), starts, lengths, blur * ROW_SAMPLES)
            slope = np.gradient(soft) * ROW_SAMPLES / step
            slope[starts] = 0
            slope[starts + lengths - 1] = 0
            off = aim - soft
            weight = (usable & inside) / (1 + (off / 0.35) ** 2)
            terms = basis[:, :count] * slope[:, None]
            normal = (terms * weight[:, None]).T @ terms
            # Curvature and more only as far as many rows ask for it.
            stiff = (
                np.array([1e-4] * 3 + [0.02 if supple == 3 else 0.2] * (count - 3)) * float(np.trace(normal)) / count
            )
            pull = (terms * weight[:, None]).T @ off - stiff * total[:count]
            change = np.clip(np.linalg.solve(normal + np.diag(stiff + 1e-9), pull), -1, 1) * 0.9
            total[:count] += change
            if np.abs(change).max() < STILL_MM:
                break
    warp = start.warp.copy()
    warp[:, 0] += total
    return Registration(start.homography, warp, start.size)


def _row_points(block: MarksBlock, layout: Layout, blocks: int) -> tuple[Floats, Floats, NDArray[np.bool_], NDArray[np.int64]]:  # fmt: skip
    """Samples along a block's rows: places (n, 2) mm, whether a mark lies there (n,), whether they count, row number."""
    column, row = np.array(block.column_pitch), np.array(block.row_pitch)
    count = -(-block.nozzles // block.columns)
    every = max(1, count * blocks // MOST_ROWS)
    numbers = np.arange(0, count, every)
    last = block.nozzles - (count - 1) * block.columns
    u = np.arange(-BEYOND - 0.5, block.columns + BEYOND - 0.5, 1 / ROW_SAMPLES)
    places = np.array(block.origin) + numbers[:, None, None] * row + u[None, :, None] * column
    length = np.where(numbers == count - 1, last, block.columns)
    along = np.abs(u - np.rint(u)) * abs(column[0] or 1.0) <= 0.5 * block.mark[0]
    wanted = along[None] & (np.rint(u) >= 0)[None] & (np.rint(u)[None] < length[:, None])
    points = places.reshape(-1, 2)
    usable = np.ones(len(points), bool)
    for other in layout.blocks:
        if other.id != block.id:
            left, top, right, bottom = extent(other)
            x, y = points.T
            usable &= ~((x > left - 0.3) & (x < right + 0.3) & (y > top - 0.3) & (y < bottom + 0.3))
    return points, wanted.reshape(-1).astype(np.float64), usable, np.repeat(numbers, len(u))


def _levelled(seen: Floats, starts: NDArray[np.int64], lengths: NDArray[np.int64]) -> Floats:
    """Ink along rows as a share of the row's own strong ink, about 0..1."""
    width = int(lengths.max())
    if (lengths == width).all():
        top = np.maximum(np.quantile(seen.reshape(-1, width), 0.8, axis=1), 6.0)
        return np.asarray(np.minimum(seen / np.repeat(top, width), 1.2), np.float64)
    top = np.array([max(float(np.quantile(seen[a : a + n], 0.8)), 6.0) for a, n in zip(starts, lengths, strict=True)])
    return np.asarray(np.minimum(seen / np.repeat(top, lengths), 1.2), np.float64)


def _smoothed(value: Floats, starts: NDArray[np.int64], lengths: NDArray[np.int64], sigma: float) -> Floats:
    """Each row's values blurred along the row."""
    out = np.empty(len(value))
    for width in np.unique(lengths):
        which = starts[lengths == width][:, None] + np.arange(width)
        rows = np.ascontiguousarray(value[which], np.float32)
        size = 2 * int(3 * sigma) + 1
        out[which] = cv2.GaussianBlur(rows, (size, 1), sigma, borderType=cv2.BORDER_REPLICATE)
    return out


def _ink_at(ink: Singles, place: Floats) -> tuple[Floats, NDArray[np.bool_]]:
    """Ink (n,) at places (n, 2) and whether they lie on the map."""
    h, w = ink.shape
    inside = (place[:, 0] >= 0) & (place[:, 1] >= 0) & (place[:, 0] <= w - 1) & (place[:, 1] <= h - 1)
    spots = place.astype(np.float32)
    chunks = [cv2.remap(ink, part[:, :1], part[:, 1:], cv2.INTER_LINEAR)[:, 0] for part in np.array_split(spots, len(spots) // 30_000 + 1)]  # fmt: skip
    return np.concatenate(chunks).astype(np.float64), inside


def _sampled(distance: Singles, place: Floats) -> tuple[Floats, Floats]:
    """Distance (n,) and its slope (n, 2) at places (n, 2); far outside the map both are useless and large."""
    h, w = distance.shape
    x, y = np.clip(place[:, 0], 1, w - 2.001), np.clip(place[:, 1], 1, h - 2.001)
    column, row = x.astype(int), y.astype(int)
    fx, fy = x - column, y - row
    a, b = distance[row, column], distance[row, column + 1]
    c, d = distance[row + 1, column], distance[row + 1, column + 1]
    value = (a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy
    slope = np.stack([(b - a) * (1 - fy) + (d - c) * fy, (c - a) * (1 - fx) + (d - b) * fx], axis=1)
    outside = (place[:, 0] < 0) | (place[:, 1] < 0) | (place[:, 0] > w - 1) | (place[:, 1] > h - 1)
    value = np.where(outside, 1e6, value)
    return np.asarray(value, np.float64), np.asarray(slope, np.float64)
