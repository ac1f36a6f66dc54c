"""Numbers drawn from a layout: mark centres, nearest neighbours, ink colours as densities."""

from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout.document import Backing, Layout, MarksBlock, SolidBlock, extent

Floats = NDArray[np.float64]
B = TypeVar("B", MarksBlock, MarksBlock | SolidBlock)


@lru_cache(maxsize=256)
def mark_centres(block: MarksBlock) -> Floats:
    """Centres of a block's marks, (nozzles, 2) as (x, y) in mm, in the order of the marks; kept, and so not to be written to."""
    i = np.arange(block.nozzles)
    column, row = i % block.columns, i // block.columns
    steps = np.outer(column, block.column_pitch) + np.outer(row, block.row_pitch)
    centres = np.asarray(steps + np.asarray(block.origin), dtype=np.float64)
    centres.setflags(write=False)
    return centres


@lru_cache(maxsize=512)
def clear_height(block: MarksBlock) -> float:
    """Distance in mm along y from a mark's centre to the nearest other mark that shares its x range.

    A deflected mark can be followed at most half this far before it might be a neighbour. Where a block
    has no such neighbour (one row), eight nozzle pitches are taken.
    """
    length = block.mark[0]
    rows = -(-block.nozzles // block.columns)
    nearest = 8.0 * max(block.nozzle_pitch, block.mark[1])
    for r in range(min(rows, 4)):
        for c in range(-min(block.columns - 1, 64), min(block.columns, 65)):
            dx = c * block.column_pitch[0] + r * block.row_pitch[0]
            dy = abs(c * block.column_pitch[1] + r * block.row_pitch[1])
            if (r or c) and abs(dx) < length and dy > 0:
                nearest = min(nearest, dy)
    return nearest


def near_by(box: Sequence[float], blocks: Iterable[B], reach: float = 0.0) -> list[B]:
    """The blocks whose own box comes within `reach` mm of a box (left, top, right, bottom in mm).

    Those within none of a block's own are the block itself and banks that stand between its rows.
    """
    every = tuple(blocks)
    left, top, right, bottom = boxes_of(every).T
    near = (left < box[2] + reach) & (right > box[0] - reach) & (top < box[3] + reach) & (bottom > box[1] - reach)
    return [every[k] for k in np.flatnonzero(near)]


def marks_over(layout: Layout, backing: Backing) -> list[MarksBlock]:
    """The blocks of marks that are judged over a backing, in the layout's order."""
    return [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing == backing]


@lru_cache(maxsize=64)
def boxes_of(blocks: tuple[MarksBlock | SolidBlock, ...]) -> Floats:
    """Left, top, right and bottom (n, 4) of blocks' ink in mm."""
    return np.array([extent(block) for block in blocks]).reshape(-1, 4)


@lru_cache(maxsize=256)
def boxes_besides(block: MarksBlock | SolidBlock, layout: Layout) -> Floats:
    """The boxes (n, 4) of all blocks but that one."""
    return boxes_of(layout.blocks)[[other.id != block.id for other in layout.blocks]]


def on_boxes(points: Floats, boxes: Floats, half: float) -> NDArray[np.bool_]:
    """Which points (n, 2), middles of marks that reach `half` to either side, lie on or next to one of the boxes (k, 4)."""
    x, y = points[:, :1], points[:, 1:]
    beside = (x + half > boxes[:, 0] - 0.2) & (x - half < boxes[:, 2] + 0.2)
    return np.asarray((beside & (y > boxes[:, 1] - 0.3) & (y < boxes[:, 3] + 0.3)).any(axis=1))


SOME_MARKS = 200  # of a block, that are held against those of a block it is interleaved with
ON_EACH_OTHER = 0.9  # of two marks' mean length and thickness, nearer than which they lie on each other


class Clear(NamedTuple):
    """Across travel and along it, mm: from a mark's middle to the next row's, and from its end to the next mark's."""

    height: float
    width: float


def clear_of(blocks: list[MarksBlock]) -> list[Clear]:
    """What is clear about each block's marks among all that are judged together: banks may stand between each other's rows and columns."""
    return [clear for clear, _ in _among_others(tuple(blocks))]


def clear_heights(blocks: list[MarksBlock]) -> list[float]:
    """The clear height (mm) of each block among all of them."""
    return [clear.height for clear in clear_of(blocks)]


def overlaid(blocks: list[MarksBlock]) -> set[str]:
    """The blocks (ids) of all that are judged together whose marks lie on another's."""
    return {b.id for b, (_, on_another) in zip(blocks, _among_others(tuple(blocks)), strict=True) if on_another}


@lru_cache(maxsize=32)
def _among_others(blocks: tuple[MarksBlock, ...]) -> tuple[tuple[Clear, bool], ...]:
    found = []
    for block in blocks:
        (height, width), on_another = Clear(clear_height(block), clear_width(block)), False
        for bank in near_by(extent(block), blocks):
            if bank.id != block.id:
                own = mark_centres(block)
                own = own[:: -(-len(own) // SOME_MARKS)]
                apart = np.abs(own[:, None] - mark_centres(bank)[None])
                both = (np.array(block.mark) + bank.mark) / 2
                other_row = apart[..., 1] >= ON_EACH_OTHER * both[1]
                beside = other_row & (apart[..., 0] < both[0])
                height = float(min(height, apart[..., 1][beside].min(initial=height)))
                level = (apart[..., 1] < level_with(block)) & (apart[..., 0] >= both[0])
                width = float(min(width, (apart[..., 0] - both[0])[level].min(initial=width)))
                on_another |= bool((~other_row & (apart[..., 0] < ON_EACH_OTHER * both[0])).any())
        found.append((Clear(height, width), on_another))
    return tuple(found)


@lru_cache(maxsize=512)
def clear_width(block: MarksBlock) -> float:
    """Gap in mm along x between a mark's end and the nearest mark at about the same height (0 or more)."""
    length, level = block.mark[0], level_with(block)
    rows = -(-block.nozzles // block.columns)
    nearest = length
    for r in range(min(rows, 4)):
        for c in range(-min(block.columns - 1, 64), min(block.columns, 65)):
            dx = abs(c * block.column_pitch[0] + r * block.row_pitch[0])
            dy = abs(c * block.column_pitch[1] + r * block.row_pitch[1])
            if (r or c) and dx >= length * 0.999 and dy < level:
                nearest = min(nearest, max(dx - length, 0.0))
    return nearest


def level_with(block: MarksBlock) -> float:
    """How far (mm) from a mark's height others are still seen beside it."""
    return 2.5 * block.mark[1] + block.nozzle_pitch


def cells_of(block: MarksBlock, points: Floats) -> Floats | None:
    """Column and row (n, 2) of sheet points (n, 2) mm on a block's lattice, fractions kept; None where it has but one direction."""
    basis = np.array([block.column_pitch, block.row_pitch])
    if abs(np.linalg.det(basis)) < 1e-9:
        return None
    return np.asarray((points - block.origin) @ np.linalg.inv(basis))


def lattice_middle(block: MarksBlock) -> Floats:
    """The point (2,) mm about which a block's lattice, its last row taken as full, is laid onto itself by half a turn."""
    columns, rows = min(block.columns, block.nozzles), -(-block.nozzles // block.columns)
    across, down = np.array(block.column_pitch), np.array(block.row_pitch)
    return np.asarray(np.array(block.origin) + 0.5 * ((columns - 1) * across + (rows - 1) * down))


def ink_codes(ink: str) -> NDArray[np.int64]:
    """The ink's colour as sRGB bytes, (3,) in 0..255, red green blue."""
    return np.array([int(ink[i : i + 2], 16) for i in (1, 3, 5)])


def ink_rgb(ink: str) -> Floats:
    """The ink's colour as linear reflectance, (3,) in 0..1, red green blue (IEC 61966-2-1 decoding)."""
    return in_light(ink_codes(ink) / 255.0)


def in_light(srgb: Floats) -> Floats:
    """Shares of the light, 0..1, that sRGB values of 0..1 stand for (IEC 61966-2-1 decoding)."""
    return np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4)


def grey_ink(ink: str) -> str:
    """The same ink as a photo without colour shows it: the luma (ITU-R BT.601) that cameras and converters take."""
    luma = round(float(ink_codes(ink) @ (0.299, 0.587, 0.114)))
    return f"#{luma:02x}{luma:02x}{luma:02x}"


STEPS = ((1, 0), (0, 1), (1, 1), (1, -1), (2, 0))  # columns and rows by which a lattice may lie aside unseen
ENOUGH_STEPS = 24  # different ones; more blocks bring hardly any new


def lattice_steps(blocks: list[MarksBlock]) -> list[tuple[float, float]]:
    """Whole lattice steps (x, y) mm, both ways, by which a pattern of these blocks nearly fits itself."""
    steps: set[tuple[float, float]] = set()
    for block in blocks:
        for i, j in STEPS:
            dx, dy = (i * c + j * r for c, r in zip(block.column_pitch, block.row_pitch, strict=True))
            steps |= {(round(dx, 3), round(dy, 3)), (round(-dx, 3), round(-dy, 3))}
        if len(steps) > ENOUGH_STEPS:
            break
    return sorted(steps)
