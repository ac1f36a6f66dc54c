"""From a homography that is about right to a smooth warp that lies on the strokes: curl and lens followed.

First across travel: points along every mark slide down the distance to the nearest stroke (Fitzgibbon 2003, "Robust
registration of 2D and 3D point sets"). Marks that are missing lie far from any stroke and take no part. Then along
travel, where rows are nearly unbroken lines and distance says nothing: the brightness along each row is laid onto
the row's own pattern of marks and gaps, its two ends first.
"""

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, clear_height, clear_width, extent, near_by
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.registration import DEGREES, TERMS, Registration, warp_terms

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]

STILL_MM = 0.015  # a round that moves nothing further ends a stage
MOST_POINTS = 1500
# Degree of the displacement, iterations, and the share of the pattern about its middle that takes part: it grows,
# so that the rim, where lens and curl bend most, is met from close by and not one row off.
Stage = tuple[int, int, float]
PLANS: tuple[tuple[Stage, ...], ...] = (
    ((1, 3, 0.5), (2, 4, 0.5)),
    ((2, 3, 0.75), (3, 4, 0.75)),
    ((3, 4, 1.0), (4, 5, 1.0)),
)
# From a smaller part outwards, for many rows close by: half of the pattern may already be rows off at its rim.
FROM_CLOSE_BY: tuple[tuple[Stage, ...], ...] = (
    ((1, 3, 0.15), (1, 3, 0.22), (2, 3, 0.3), (2, 3, 0.4), (2, 4, 0.5)),
    ((2, 3, 0.62), (3, 4, 0.75)),
    ((3, 4, 0.87), (4, 5, 1.0)),
)
FINAL: tuple[Stage, ...] = ((2, 3, 0.75), (3, 4, 1.0), (4, 5, 1.0))
PARTS = 4  # of the sheet, each way, in looking for the one that is followed best
LEAST_OF_PART, WELL_FOLLOWED = 10, 0.6  # marks of a part, and the share of them that lie on strokes
ON_STROKE_PX = 1.5  # of the ink map
STIFF = 0.002  # pull towards the start, per point, of terms beyond the first degree
FAR_PX = 64  # from all strokes: no point looks so far, see `cap`
FAR_SHARE = 0.45  # of the lattice's clear height: beyond it a point belongs to no stroke

ROW_SAMPLES = 8  # per column step, along a row
MOST_ROWS = 48
LEAST_LEVEL = 6.0  # of 255: ink of a row that hardly prints
SLIDES = ((0.45, 1, 6), (0.3, 2, 5), (0.16, 3, 5))  # blur in column steps, degree, iterations
TOUCHING_PX, TOUCHING_SHARE = 2.5, 0.15  # of a map pixel, of a column: gaps narrower than these hardly show
END = 2.0  # columns from a row's first and last mark that count as its ends
BEYOND = 1.3  # column steps looked at beyond a row's ends
FRAME_SHARE = 0.7  # of ink beyond them, so much half a row above and below is a frame's: a mark has bare paper there
FRAME_AT = (-1.0, -0.6, 0.6, 1.0)  # half rows above and below: a rule may stand half-way between them
BARE_PX = 5.0  # of the map, which must be bare between rows to tell: ink is widened by two pixels all round


def away_from(points: Floats, seed: Floats | None) -> Floats:
    """How far points (n, 2) are from a seed, or from the middle of all, about 0..1 either way; about a seed, of the furthest."""
    off = np.abs(points - (np.median(points, axis=0) if seed is None else seed))
    return np.asarray(off / ((np.ptp(points, axis=0) / 2 if seed is None else off.max(axis=0)) + 1e-9))


def best_followed(distance: Singles, place: Registration, marks: Marks) -> Floats | None:
    """The middle (2,) mm of the part of the sheet whose marks lie on strokes best; None where no part does."""
    value, _ = _sampled(distance, place.to_photo(marks.centres))
    near = value < ON_STROKE_PX
    low, size = marks.centres.min(axis=0), np.ptp(marks.centres, axis=0) + 1e-9
    cell = np.minimum((marks.centres - low) / size * PARTS, PARTS - 1).astype(int) @ [1, PARTS]
    count = np.bincount(cell, minlength=PARTS**2)
    share = np.bincount(cell, weights=near, minlength=PARTS**2) / np.maximum(count, 1)
    share = np.where(count >= LEAST_OF_PART, share, 0.0)
    best = int(share.argmax())
    return np.asarray(marks.centres[cell == best].mean(axis=0)) if share[best] > WELL_FOLLOWED else None


def distance_to(lines: Bytes) -> Singles:
    """Distance (rows, columns) in pixels to the nearest stroke of `lines`, 255 where one lies; FAR_PX where none is near."""
    left, top, width, height = cv2.boundingRect(lines)
    near = np.s_[max(top - FAR_PX, 0) : top + height + FAR_PX, max(left - FAR_PX, 0) : left + width + FAR_PX]
    distance = np.full(lines.shape, np.float32(FAR_PX))
    distance[near] = cv2.distanceTransform(cv2.bitwise_not(lines[near]), cv2.DIST_L2, 3)
    return distance


def follow(
    distance: Singles, start: Registration, marks: Marks, clear_mm: float, plan: tuple[Stage, ...], seed: Floats | None = None
) -> Registration:  # fmt: skip
    """Registration (sheet mm to ink map) moved across travel onto strokes, from the distance to them.

    clear_mm : distance between strokes of neighbouring rows; sets how far a point may look. plan : what is done.
    seed : (2,) mm from where it grows, else from the middle.
    """
    size = start.size
    cap = float(np.clip(FAR_SHARE * clear_mm * start.px_per_mm(np.array(size) / 2), 2.0, 40.0))
    stride = max(1, len(marks.centres) * 3 // MOST_POINTS)
    centres, sizes = marks.centres[::stride], marks.sizes[::stride]
    points = np.concatenate([centres + sizes * (part, 0) for part in (-0.35, 0.0, 0.35)])
    base, basis = start.displaced(points), warp_terms(points, size)
    away = away_from(points, seed)
    rigid = Registration(start.homography, np.zeros_like(start.warp), size)
    total = np.zeros(len(TERMS))
    for degree, rounds, share in plan:
        count = DEGREES[degree]
        terms = basis[:, :count]
        part = (away < share * 1.05).all(axis=1) if share < 1 else np.ones(len(points), bool)
        stiff = np.array([0.0] * 3 + [1.0] * (count - 3)) * STIFF * len(points)
        moved = base.copy()
        moved[:, 1] += terms @ total[:count]
        down = (rigid.to_photo(moved + (0, 0.1)) - rigid.to_photo(moved)) / 0.1  # hardly changes from round to round
        for _ in range(rounds):
            moved[:, 1] = base[:, 1] + terms @ total[:count]
            place = rigid.to_photo(moved)
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


def touching(blocks: list[MarksBlock], scale: float) -> bool:
    """Whether gaps along travel hardly show at `scale` pixels a mm: then a row's ends tell most of where it lies."""
    gap, column = (float(np.median([v(b) for b in blocks])) for v in (clear_width, lambda b: b.column_pitch[0]))
    return gap <= max(TOUCHING_PX / scale, TOUCHING_SHARE * column)


@dataclass(frozen=True)
class _Rows:
    """Samples along a block's rows: places (rows, samples, 2) mm; where a mark lies and which count, (rows, samples)."""

    places: Floats
    wanted: Singles
    usable: Singles
    column_mm: float
    row: Floats  # row pitch, (2,) mm
    clear_mm: float
    beyond: NDArray[np.bool_]  # (rows, samples), beyond the row's ends


def slide(ink: Bytes, start: Registration, blocks: list[MarksBlock], layout: Layout) -> Registration:
    """Registration moved along travel, by the brightness along each row of the printing blocks."""
    scale = start.px_per_mm(np.array(start.size) / 2)
    ends_only = touching(blocks, scale)
    parts = [_rows_of(block, layout, len(blocks), ends_only) for block in blocks]
    points = np.concatenate([p.places.reshape(-1, 2) for p in parts])
    cuts = np.cumsum([p.wanted.size for p in parts])[:-1]
    usable = np.concatenate([p.usable.ravel() for p in parts])
    past = [p.beyond & (p.clear_mm * scale > BARE_PX) for p in parts]
    beyond = np.flatnonzero(np.concatenate([which.ravel() for which in past]))
    half_row = np.repeat([p.row / 2 for p in parts], [which.sum() for which in past], axis=0)
    around = np.asarray(cv2.blur(cv2.dilate(ink, np.ones((3, 3), np.uint8)), (3, 3)), np.float32)
    basis = warp_terms(points, start.size)
    total = np.zeros(len(TERMS))
    rigid = Registration(start.homography, np.zeros_like(start.warp), start.size)
    base = start.displaced(points)
    rows = sum(len(p.wanted) for p in parts)
    supple = 1 if ends_only else 3
    for blur, degree, rounds in SLIDES:
        count = DEGREES[min(degree, supple, 1 + int(rows > 12) + int(rows > 30))]
        terms = basis[:, :count].astype(np.float32)
        level: list[Singles] = []
        aim = np.concatenate([_smoothed(p.wanted, blur * ROW_SAMPLES).ravel() for p in parts])
        for _ in range(rounds):
            moved = base.copy()
            moved[:, 0] += terms @ total[:count]
            seen, inside = _ink_at(around, rigid.to_photo(moved))
            if len(beyond):
                between = [_ink_at(around, rigid.to_photo(moved[beyond] + k * half_row))[0] for k in FRAME_AT]
                seen[beyond[np.min(between, axis=0) > FRAME_SHARE * seen[beyond]]] = 0
            pieces = [v.reshape(p.wanted.shape) for v, p in zip(np.split(seen, cuts), parts, strict=True)]
            level = level or [_strong_ink(v, p) for v, p in zip(pieces, parts, strict=True)]
            shares = [np.minimum(v / top, 1.2) for v, top in zip(pieces, level, strict=True)]
            soft = [_smoothed(v, blur * ROW_SAMPLES) for v in shares]
            slope = np.concatenate([_slopes(v, p.column_mm).ravel() for v, p in zip(soft, parts, strict=True)])
            off = aim - np.concatenate([v.ravel() for v in soft])
            weight = usable * inside / (1 + (off / 0.35) ** 2)
            steep = terms * slope[:, None]
            weighted = (steep * weight[:, None]).T
            normal = (weighted @ steep).astype(np.float64)
            # Curvature and more only as far as many rows ask for it.
            stiff = (
                np.array([1e-4] * 3 + [0.02 if supple == 3 else 0.2] * (count - 3)) * float(np.trace(normal)) / count
            )
            pull = (weighted @ off).astype(np.float64) - stiff * total[:count]
            change = np.clip(np.linalg.solve(normal + np.diag(stiff + 1e-9), pull), -1, 1) * 0.9
            total[:count] += change
            if np.abs(change).max() < STILL_MM:
                break
    warp = start.warp.copy()
    warp[:, 0] += total
    return Registration(start.homography, warp, start.size)


@lru_cache(maxsize=128)
def _rows_of(block: MarksBlock, layout: Layout, blocks: int, ends_only: bool) -> _Rows:
    column, row = np.array(block.column_pitch), np.array(block.row_pitch)
    count = -(-block.nozzles // block.columns)
    numbers = np.arange(0, count, max(1, count * blocks // MOST_ROWS))
    last = block.nozzles - (count - 1) * block.columns
    # Samples lie alike to both sides of every mark's middle, and count by how much of them the mark covers.
    u = (
        np.arange(-round((BEYOND + 0.5) * ROW_SAMPLES), round((block.columns + BEYOND - 0.5) * ROW_SAMPLES) + 1)
        / ROW_SAMPLES
    )
    places = np.array(block.origin) + numbers[:, None, None] * row + u[None, :, None] * column
    length = np.where(numbers == count - 1, last, block.columns)
    half = 0.5 * block.mark[0] / abs(column[0] or 1.0)
    along = np.clip((half - np.abs(u - np.rint(u))) * ROW_SAMPLES + 0.5, 0, 1)
    wanted = along[None] * (np.rint(u) >= 0)[None] * (np.rint(u)[None] < length[:, None])
    usable = u[None] < length[:, None] + BEYOND - 0.5  # a short last row ends where its marks do
    if ends_only:  # between them a row whose gaps do not show says nothing but where it was followed badly
        usable &= (u[None] < END) | (u[None] > length[:, None] - 1 - END)
    x, y = places[..., 0], places[..., 1]
    banks = near_by(extent(block), layout.blocks)
    for other in near_by((x.min(), y.min(), x.max(), y.max()), layout.blocks, 0.3):
        if other not in banks:
            left, top, right, bottom = extent(other)
            usable &= ~((x > left - 0.3) & (x < right + 0.3) & (y > top - 0.3) & (y < bottom + 0.3))
    past = (u[None] < -0.5) | (u[None] > length[:, None] - 0.5)
    return _Rows(
        places,
        wanted.astype(np.float32),
        usable.astype(np.float32),
        column[0] or 1.0,
        row,
        clear_height(block),
        past & usable,
    )


def _strong_ink(seen: Singles, rows: _Rows) -> Singles:
    """The strong ink of each row, (rows, 1), of those samples that lie on it."""
    own = np.where(rows.usable > 0, seen, np.inf)
    order, count = np.sort(own, axis=1), (rows.usable > 0).sum(axis=1)
    top = order[np.arange(len(seen)), np.maximum((0.8 * count).astype(int) - 1, 0)]
    return np.asarray(np.clip(top, LEAST_LEVEL, 255.0)[:, None], np.float32)


def _slopes(soft: Singles, column_mm: float) -> Singles:
    """Change along each row, per mm; none at its two ends."""
    slope = np.zeros_like(soft)
    slope[:, 1:-1] = (soft[:, 2:] - soft[:, :-2]) * (0.5 * ROW_SAMPLES / column_mm)
    return slope


def _smoothed(rows: Singles, sigma: float) -> Singles:
    """Values blurred along each row."""
    size = 2 * int(3 * sigma) + 1
    return np.asarray(cv2.GaussianBlur(rows, (size, 1), sigma, borderType=cv2.BORDER_REPLICATE), np.float32)


def _ink_at(ink: Singles, place: Floats) -> tuple[Singles, NDArray[np.bool_]]:
    """Ink (n,) at places (n, 2) and whether they lie on the map."""
    h, w = ink.shape
    inside = (place[:, 0] >= 0) & (place[:, 1] >= 0) & (place[:, 0] <= w - 1) & (place[:, 1] <= h - 1)
    spots = place.astype(np.float32)
    chunks = [cv2.remap(ink, part[:, :1], part[:, 1:], cv2.INTER_LINEAR)[:, 0] for part in np.array_split(spots, len(spots) // 30_000 + 1)]  # fmt: skip
    return np.concatenate(chunks), inside


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
