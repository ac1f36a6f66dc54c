"""Ink one lattice step beyond a block's sides: a lattice laid one step aside prints there, where the sheet should be bare."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import (
    Backing,
    Layout,
    MarksBlock,
    boxes_besides,
    clear_width,
    extent,
    mark_centres,
    marks_over,
    on_boxes,
)
from dusky_sieve.core.reading.score import GAP_MM, Fit, Judge, Place

Floats = NDArray[np.float64]

LEAST_OF_SIDE = 3  # places of a side, below which it says something together with other blocks' alone
SPARSE = 0.6  # mean ink of a block's marks, below which a side aside is held against that
AS_SPARSE, LEAST_BEYOND = 0.7, 1.5  # of that, and marks' ink in all, that such a side must show
# Of a block's mean ink, under which its outermost marks at the opposite side are fewer than chance makes them.
BARE_OTHER = 0.5
AS_BARE = 0.7  # of their ink, that a side aside then shows


@dataclass(frozen=True)
class _Sides:
    """Places at all blocks' sides after each other: points (3, n, 2) mm, those themselves and half a lattice step aside of them.

    block : (n,) index; part : block index and name of each side; cut : where each begins, and the end
    """

    points: Floats
    block: NDArray[np.int64]
    part: tuple[tuple[int, str], ...]
    cut: tuple[int, ...]


@lru_cache(maxsize=32)
def _sides(layout: Layout, backing: Backing, *, opposite: bool = False) -> _Sides:
    """One step beyond every side, or the block's own marks at the side opposite to that."""
    points, part = [np.zeros((3, 0, 2))], []
    for k, block in enumerate(marks_over(layout, backing)):
        row = np.array(block.row_pitch) / 2
        for side, places in (_opposite(block, layout) if opposite else beyond_sides(block, layout)).items():
            # A frame or a word beside the pattern has ink between rows or columns as well; marks have not.
            gap = gap_beside(block, layout) if side in ("top", "bottom") else None
            points.append(np.stack([places, places + row, places + (row if gap is None else gap)]))
            part.append((k, side))
    sizes = [p.shape[1] for p in points[1:]]
    block_of = np.repeat([k for k, _ in part], sizes).astype(np.int64)
    return _Sides(np.concatenate(points, axis=1), block_of, tuple(part), (0, *np.cumsum(sizes).tolist()))


def gap_beside(block: MarksBlock, layout: Layout) -> Floats | None:
    """The way (2,) mm from a mark to bare paper beside it along travel: between columns, or next to the only one; None where there is none."""
    if block.columns > 1:
        return np.array(block.column_pitch) / 2 if clear_width(block) > GAP_MM else None
    left, top, right, bottom = extent(block)
    x0, y0, x1, y1 = boxes_besides(block, layout).T
    level, length = (y0 < bottom) & (y1 > top), block.mark[0]
    room = {
        side: float(apart[level & (apart >= 0)].min(initial=length))
        for side, apart in ((1, x0 - right), (-1, left - x1))
    }
    side = max(room, key=lambda way: room[way])
    return np.array([side * 0.5 * (length + room[side]), 0.0]) if room[side] > 2 * GAP_MM else None


def beyond_sides(block: MarksBlock, layout: Layout) -> dict[str, Floats]:
    """Points (n, 2) mm one lattice step beyond each of a block's sides, where no other block stands."""
    origin, column, row = np.array(block.origin), np.array(block.column_pitch), np.array(block.row_pitch)
    columns, rows = min(block.columns, block.nozzles), -(-block.nozzles // block.columns)
    full = block.nozzles // block.columns
    r, c = np.arange(full)[:, None], np.arange(columns)[:, None]
    sides: dict[str, Floats] = {}
    if block.columns > 1:
        sides |= {"left": origin - column + r * row, "right": origin + columns * column + r * row}
    if rows > 1:
        below = np.where(c < block.nozzles - full * columns, full + 1, full)  # the last row may be short
        sides |= {"top": origin + c * column - row, "bottom": origin + c * column + below * row}
    boxes = boxes_besides(block, layout)
    return {name: side[~on_boxes(side, boxes, 0.5 * block.mark[0])] for name, side in sides.items()}


def _opposite(block: MarksBlock, layout: Layout) -> dict[str, Floats]:
    """For each side the block's own outermost marks (n, 2) mm at the other one, but for those beyond which another block stands.

    A block that lies a step aside shows none there, unless it lies on the other block's.
    """
    step = {"left": block.column_pitch, "right": block.column_pitch, "top": block.row_pitch, "bottom": block.row_pitch}
    across = {"left": ("right", -1), "right": ("left", 1), "top": ("bottom", -1), "bottom": ("top", 1)}
    free = beyond_sides(block, layout)
    return {name: free[across[name][0]] + np.multiply(across[name][1], step[name]) for name in free}


def beyond(judge: Judge, place: Place, fit: Fit, layout: Layout) -> dict[str, float]:
    """Ink one lattice step beyond a block's sides, its worst side's mean as a share of a mark's, by block id.

    Sides of one or two marks are taken together, by side. Blocks that print nothing or have no free side are left out.
    """
    blocks = marks_over(layout, judge.backing)
    worst: dict[str, float] = {}
    short: dict[str, list[Floats]] = {}
    for k, side, of_marks, more in _ink_of_sides(judge, place, fit, layout):
        if not fit.printing[k]:
            continue
        if of_marks < LEAST_OF_SIDE:
            short.setdefault(side, []).append(more)
        elif len(more) >= LEAST_OF_SIDE:
            worst[blocks[k].id] = max(worst.get(blocks[k].id, 0.0), float(more.mean()))
    pooled = {f"all {side}": np.concatenate(parts) for side, parts in short.items()}
    return worst | {side: float(more.mean()) for side, more in pooled.items() if len(more) >= LEAST_OF_SIDE}


def sparse_aside(judge: Judge, place: Place, fit: Fit, layout: Layout) -> list[str]:
    """Blocks (ids) of which few marks print at all, or at one side, and about as many stand one lattice step beyond the other.

    Where a block that prints a third of its marks lies one step aside, a third of the places beyond it have ink: too
    little for `beyond`, which holds it against a whole mark's.
    """
    blocks = marks_over(layout, judge.backing)
    count = [b.nozzles for b in blocks]
    marks = judge.ink_of(place(np.concatenate([mark_centres(b) for b in blocks])), fit, np.repeat(np.arange(len(blocks)), count))  # fmt: skip
    own = [float(v.mean()) for v in np.split(np.nan_to_num(marks), np.cumsum(count)[:-1])]
    sides, opposite = (_ink_of_sides(judge, place, fit, layout, opposite=other) for other in (False, True))
    aside = {
        blocks[k].id
        for (k, _, _, more), (*_, other) in zip(sides, opposite, strict=True)
        if fit.printing[k]
        and len(more) >= LEAST_OF_SIDE
        and more.sum() > LEAST_BEYOND
        and ((own[k] < SPARSE and more.mean() > AS_SPARSE * own[k]) or _moved(more, other, own[k]))
    }
    return [b.id for b in blocks if b.id in aside]


def words_at_sides(all_ink: tuple[Judge, Fit], like_marks: tuple[Judge, Fit], place: Place, layout: Layout) -> float:
    """Ink that is not like marks at the sides of blocks that print, the worst one's mean as a share of a mark's.

    Where their outermost marks are, or one lattice step beyond; by a judge and fit of all ink and of such like marks alone.
    """
    worst = 0.0
    for within in (False, True):
        sides = _sides(layout, all_ink[0].backing, opposite=within)
        spots = place(sides.points[0])
        ink, marks = (judge.ink_of(spots, fit, sides.block) for judge, fit in (all_ink, like_marks))
        count = np.diff(sides.cut)
        side = np.repeat(np.arange(len(count)), count)
        words = np.where(all_ink[1].printing[sides.block], np.nan_to_num(ink - marks), 0.0)
        worst = max(worst, float((np.bincount(side, words, len(count)) / np.maximum(count, 1)).max(initial=0.0)))
    return worst


def _moved(more: Floats, other: Floats, own: float) -> bool:
    """Whether a side shows about as much as the block's outermost marks at the other one, which are fewer than chance makes them."""
    return len(other) > 0 and bool(other.mean() < BARE_OTHER * own and more.sum() > AS_BARE * other.sum())


def _ink_of_sides(judge: Judge, place: Place, fit: Fit, layout: Layout, *, opposite: bool = False) -> Iterator[tuple[int, str, int, Floats]]:  # fmt: skip
    """Each side: its block's index, its name, of how many places, and the ink (n,) of those on the map as a share of a mark's.

    opposite : of the block's own marks at the other side
    """
    sides = _sides(layout, judge.backing, opposite=opposite)
    spots = place(sides.points.reshape(-1, 2))
    on, *off = judge.ink_of(spots, fit, np.tile(sides.block, 3)).reshape(3, -1)
    more = on - np.maximum(*off)
    for (k, side), (start, end) in zip(sides.part, pairwise(sides.cut), strict=True):
        of_side = more[start:end]
        yield k, side, end - start, of_side[np.isfinite(of_side)]
