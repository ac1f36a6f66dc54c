"""Strokes like a block's marks that stand beside its lattice: where many do, the lattice lies wrongly there.

A lattice that is a row off at one end of a block and right at the other fits nothing in between. Marks read there would
be a confident reading of the wrong thing, whatever explains the rest of the sheet.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock, cells_of, clear_heights, extent, mark_centres, near_by
from dusky_sieve.core.reading.dots import may_be_dots
from dusky_sieve.core.reading.ends import narrow
from dusky_sieve.core.reading.find import Marks
from dusky_sieve.core.reading.inkmap import Strokes
from dusky_sieve.core.reading.registration import Registration, grid_over, inverse, project

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]

LIKE_LONG, LIKE_WIDE = (0.55, 1.6), 0.5  # of a mark's length, and of that across: what may be one of a block's marks
OFF = 0.3  # of a column or of the clear height, beyond which a stroke is beside the lattice
IN_PLACE = 0.2  # of either, within which it stands in its mark's place
LEAST_CLEAR_PX = 6.0  # of the map: where rows are closer, a stroke's middle does not tell which it belongs to
LEAST_STROKES = 6  # of a block, below which chance puts them aside
LEAST_OF_SILENT = 0.15  # strokes for each nozzle of a block that seems to print nothing, from which something does
# So many strokes, of which at most this share may stand beside the lattice; by chance half of them do.
NO_ACCIDENT = ((40, 0.15), (25, 0.04))
OWN_ROOM = 0.45  # of the clear height, that marks have for themselves above and below
LIKE_EXPLAINED = 2.0  # times as long or wide, either way, that strokes may be which are like the explained ones
ABOUT = 4.0  # times its size about a place, within which strokes may be its marks: it may be shrunk to a third
OVER_BOX = 60  # points each way, over a block's box
NEXT_TO = 1.5  # of a block's shorter side, within which others are next to it
INKED_TIMES = (
    2.5  # times the box's middle ink, that a tenth of it must reach to be more than noise, which reaches twice;
)
INKED_FROM = 10.0  # and so much more, of 255: 8 was seen
MOST_ROWS = 0.4  # quantile over a block's rows: a rule or a word crosses one or two
ROW_STEP_PX = 0.5  # of the map, between places looked at across rows
MOST_STRAY = 0.35  # of them: nozzles that throw so far askew are few


def stray_blocks(strokes: Strokes, place: Registration, blocks: list[MarksBlock], printing: set[str]) -> list[str]:
    """The blocks (ids) that many strokes like their marks stand beside the lattice of, or in that seem to print nothing.

    strokes : in pixels of the map that `place` leads to, from sheet mm. Blocks whose marks touch are left out.
    """
    found = []
    for about in _about(strokes, place, blocks):
        if not about.enough:
            continue
        banks = near_by(extent(about.block), blocks)
        if any(bank.id in printing for bank in banks):
            stray = about.rows_apart and about.beside.mean() > MOST_STRAY
        else:
            stray = len(about.beside) > LEAST_OF_SILENT * about.block.nozzles
        if stray:
            found.append(about.block.id)
    return found


def between_places(strokes: Strokes, place: Registration, blocks: list[MarksBlock]) -> dict[str, NDArray[np.bool_]]:
    """Marks (n,) of blocks (ids) beside which, in their row, strokes like theirs stand between two places: nozzles throw across travel, lattices lie aside along it."""
    found = {}
    for about in _about(strokes, place, blocks):
        block, cell = about.block, cells_of(about.block, about.at[about.beside])
        if block.columns < 2 or cell is None:
            continue
        column, row = np.floor(cell[:, 0]).astype(int), np.rint(cell[:, 1]).astype(int)
        columns, rows = min(block.columns, block.nozzles), -(-block.nozzles // block.columns)
        level = np.abs(cell[:, 1] - row) * abs(block.row_pitch[1]) < OFF * about.clear
        level &= (column >= -1) & (column < columns) & (row >= 0) & (row < rows)
        grid = np.zeros((rows, columns), bool)
        for side in (0, 1):
            grid[row[level], np.clip(column[level] + side, 0, columns - 1)] = True
        beside = grid.ravel()[: block.nozzles]
        if beside.any():
            found[block.id] = beside
    return found


def overlooked(ink: Bytes, place: Registration, blocks: list[MarksBlock], silent: set[str]) -> set[str]:
    """Blocks (ids) that seem to print nothing, in whose box ink stands all the same: the lattice may lie between their rows.

    With them those next to them, where it leads from right to wrong. ink : the map that `place` leads to, from sheet mm.
    A bank that stands between the rows of one that prints is left out.
    """
    found: set[str] = set()
    if not silent:
        return found
    h, w = ink.shape
    for block, clear in zip(blocks, clear_heights(blocks), strict=True):
        box = np.array(extent(block)).reshape(2, 2)
        if not {b.id for b in near_by(extent(block), blocks)} <= silent:
            continue
        at = np.rint(place.to_photo(box[0] + grid_over(tuple(box[1] - box[0]), OVER_BOX))).astype(int)
        inside = ((at >= 0) & (at < (w, h))).all(axis=1)
        if inside.any():
            half, most = np.quantile(ink[at[inside, 1], at[inside, 0]], (0.5, 0.9))
            least = INKED_TIMES * half + INKED_FROM
            if most > least:
                reach = NEXT_TO * float((box[1] - box[0]).min())
                found |= {b.id for b in near_by(extent(block), blocks, reach)}
            elif _between_rows(ink, place, block, clear) > least:
                found.add(block.id)
    return found


def _between_rows(ink: Bytes, place: Registration, block: MarksBlock, clear: float) -> float:
    """The most ink that stands along most rows of a block, all of them as far above or below where they should be.

    Thin rows far apart fill hardly any of their block's box.
    """
    marks, row = mark_centres(block), np.arange(block.nozzles) // block.columns
    reach = clear * (2 if row[-1] else 1)  # of a single row, one of the next block would be all of them
    steps = np.linspace(-reach, reach, 2 * int(reach * place.px_per_mm(marks.mean(axis=0)) / ROW_STEP_PX) + 1)
    spots = marks[:, None] + np.multiply.outer(steps, (0.0, 1.0))
    at = np.rint(place.to_photo(spots.reshape(-1, 2))).astype(int)
    h, w = ink.shape
    value = ink[np.clip(at[:, 1], 0, h - 1), np.clip(at[:, 0], 0, w - 1)].reshape(len(marks), -1).astype(np.float64)
    sums = np.stack([np.bincount(row, weights=column) for column in value.T])
    return float(np.quantile(sums / np.bincount(row), MOST_ROWS, axis=1, method="lower").max())


def beside_lattice(strokes: Strokes, place: Registration, blocks: list[MarksBlock]) -> NDArray[np.bool_]:
    """Which of the strokes (n,) that are like the marks of a block, and about it, stand beside its lattice."""
    parts = [about.beside for about in _about(strokes, place, blocks, runs=True) if about.enough and about.rows_apart]
    return np.concatenate(parts) if parts else np.zeros(0, bool)


def on_lattice(beside: NDArray[np.bool_]) -> bool:
    """Whether so many strokes (n,) stand on a lattice, and so few beside it, that it is no accident, however few they are."""
    return any(len(beside) >= enough and bool(beside.mean() < few) for enough, few in NO_ACCIDENT)


def left_out(strokes: Strokes, follows: NDArray[np.bool_], drawn: Bytes, place: Registration) -> float:
    """Strokes like the explained ones that no mark explains, for each explained one; one block for another leaves the rest out.

    follows : (n,) strokes in the marks' direction; drawn : where the marks lie by `place`, on the same map
    """
    spots = np.clip(np.rint(strokes.centre).astype(int), 0, np.array(drawn.shape)[::-1] - 1)
    on = follows & (drawn[spots[:, 1], spots[:, 0]] > 0)
    if not on.any():
        return float(follows.any())
    about = (np.abs(project(inverse(place.homography), strokes.centre) / place.size - 0.5) < ABOUT).all(axis=1)
    like = follows & about & as_large(strokes, on)
    return float((like & ~on).sum() / on.sum())


def as_large(strokes: Strokes, some: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which strokes (n,) are about as long and wide as some of them (n,), one at least."""
    like = np.ones(len(some), bool)
    for measure in (strokes.long, strokes.wide):
        typical = float(np.median(measure[some]))
        like &= (measure > typical / LIKE_EXPLAINED) & (measure < typical * LIKE_EXPLAINED)
    return like


def marks_drawn(ink: Bytes, place: Registration, marks: Marks, blocks: list[MarksBlock], clear_mm: float) -> Bytes:
    """Where marks may lie on the ink map, 255, with as much room as a deflection needs and the next row, `clear_mm` away, leaves."""
    lines = np.zeros_like(ink)
    room = min(max(b.mark[1] + b.nozzle_pitch for b in blocks), OWN_ROOM * clear_mm)
    thick = max(3, round(2 * place.px_per_mm(np.array(place.size) / 2) * room))
    along = (marks.sizes[:, :1] / 2) * (1.0, 0.0)
    ends = np.stack([place.to_photo(marks.centres - along), place.to_photo(marks.centres + along)], axis=1)
    cv2.polylines(lines, list(np.rint(np.clip(ends, -1e4, 1e5)).astype(np.int32)), False, (255,), thick)
    return lines


@dataclass(frozen=True)
class _About:
    """A block, its clear height in mm and in pixels, and strokes like its marks about it: where (n, 2) mm, and which (n,) stand beside its lattice."""

    block: MarksBlock
    clear: float
    clear_px: float
    at: Floats
    beside: NDArray[np.bool_]

    @property
    def enough(self) -> bool:
        """Whether they are more than chance puts aside."""
        return len(self.beside) >= LEAST_STROKES

    @property
    def rows_apart(self) -> bool:
        """Whether a stroke's middle tells which row it belongs to."""
        return self.clear_px >= LEAST_CLEAR_PX


def _about(strokes: Strokes, place: Registration, blocks: list[MarksBlock], *, runs: bool = False) -> Iterator[_About]:
    """Each block and the strokes about it.

    runs : also where gaps are narrow; single marks between missing ones are seen there as well
    """
    at = _on_sheet(place, strokes.centre)
    for block, clear, (banks, others) in zip(blocks, clear_heights(blocks), _surroundings(tuple(blocks)), strict=True):
        scale = place.px_per_mm(np.array(block.origin))
        if not runs and narrow(block, scale):
            continue
        own = at[_like_marks(strokes, at, place, block, clear, others)]
        yield _About(block, clear, clear * scale, own, np.all([_beside(own, bank, clear) for bank in banks], axis=0))


def standing(
    strokes: Strokes, place: Registration, block: MarksBlock, clear: float, marks: Floats
) -> NDArray[np.bool_]:
    """Of which of a block's marks (n, 2) mm a stroke stands in its place, as long as marks are; clear : mm between rows."""
    at = _on_sheet(place, strokes.centre)
    at = at[_like_marks(strokes, at, place, block, clear, np.zeros((0, 4)))]
    off = np.abs(at[:, None] - marks) / (abs(block.column_pitch[0]) or block.mark[0], clear)
    return np.asarray((off < IN_PLACE).all(axis=2).any(axis=0))


def _on_sheet(place: Registration, points: Floats) -> Floats:
    """Sheet points (n, 2) mm of places (n, 2); the warp is small, so a few rounds turn it round."""
    flat = project(inverse(place.homography), points)
    on_sheet = flat
    for _ in range(4):
        on_sheet = flat - (place.displaced(on_sheet) - on_sheet)
    return np.asarray(on_sheet)


@lru_cache(maxsize=8)
def _surroundings(blocks: tuple[MarksBlock, ...]) -> list[tuple[list[MarksBlock], Floats]]:
    """Of each block itself and the banks between its rows, and the boxes (k, 4) mm of others that are near."""
    found = []
    for block, clear in zip(blocks, clear_heights(list(blocks)), strict=True):
        banks = near_by(extent(block), blocks)
        near = near_by(extent(block), blocks, clear / 2 + float(_step_beyond(block, clear).max()))
        others = [extent(other) for other in near if other not in banks]
        found.append((banks, np.array(others).reshape(-1, 4)))
    return found


def _step_beyond(block: MarksBlock, clear: float) -> Floats:
    """A lattice step (2,) mm along and across travel, of a block and what stands between its rows."""
    return np.array([abs(block.column_pitch[0]), max(abs(block.row_pitch[1]), clear)])


def _like_marks(strokes: Strokes, at: Floats, place: Registration, block: MarksBlock, clear: float, others: Floats) -> NDArray[np.int64]:  # fmt: skip
    """Which strokes lie in the block's box and a step beyond it, but for other blocks' boxes (k, 4), and are about as long as its marks and lie as they do."""
    left, top, right, bottom = extent(block)
    beyond = _step_beyond(block, clear)
    inside = ((at > np.array([left, top]) - beyond) & (at < np.array([right, bottom]) + beyond)).all(axis=1)
    some = np.flatnonzero(inside)
    for box in others:
        spots = at[some]
        some = some[(spots < box[:2] - clear / 2).any(axis=1) | (spots > box[2:] + clear / 2).any(axis=1)]
    middle = np.array([[(left + right) / 2, (top + bottom) / 2]])
    ends = place.to_photo(np.concatenate([middle, middle + (block.mark[0], 0)]))
    way = ends[1] - ends[0]
    long, wide = strokes.long[some], strokes.wide[some]
    off = (strokes.lean[some] - np.arctan2(way[1], way[0]) + np.pi / 2) % np.pi - np.pi / 2
    share = long / np.linalg.norm(way)
    widest = np.inf if may_be_dots(block) else LIKE_WIDE
    like = (np.abs(off) < 0.35) & (share > LIKE_LONG[0]) & (share < LIKE_LONG[1]) & (wide < widest * long)
    return np.asarray(some[like])


def _beside(at: Floats, block: MarksBlock, clear: float) -> NDArray[np.bool_]:
    """Which sheet points (n, 2) mm lie beside all of a block's lattice places."""
    cell = cells_of(block, at)
    if cell is None:
        return np.zeros(len(at), bool)
    rows, columns = -(-block.nozzles // block.columns), min(block.columns, block.nozzles)
    nearest = np.clip(np.rint(cell), 0, [columns - 1, rows - 1])
    off = np.abs((cell - nearest) @ np.array([block.column_pitch, block.row_pitch]))
    return np.asarray((off[:, 0] > OFF * abs(block.column_pitch[0] or 9.0)) | (off[:, 1] > OFF * clear))
