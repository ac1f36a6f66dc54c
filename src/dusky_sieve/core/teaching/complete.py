"""Blocks that did not grow by themselves, found by the lattice that their like have on the same sheet."""

from collections.abc import Sequence
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.teaching.assign import Assigned, Piece, boxed, lattice_through, steps_of
from dusky_sieve.core.teaching.plane import Plane
from dusky_sieve.core.teaching.spec import KnownBlock

Floats = NDArray[np.float64]

SURE = 1.1  # score from which a block's lattice is trusted for its like
UNLIKE_STEP = 0.12  # share by which a block's steps may differ from those of its like
LANDS = 0.3  # of the smaller step, within which a stroke is taken for a cell's mark
NEXT = ((1, 0), (-1, 0), (0, 1), (0, -1))
MOVES = ((0, 0), *((c * k, r * k) for k in (1, 4, 16) for c, r in NEXT))  # lattice steps tried, columns and rows
SAME_INK = 0.93  # cosine between a block's colour and that of strokes that may be its further marks
MOST_COLUMNS, LEAST_ROWS = 2, 3  # a side by which a lattice may be widened; rows it must have
RIM = 4  # columns next to a side, by which a further one is placed
MOSTLY = 0.6  # of the rows that must have a stroke in a further column
STROKE_LIKE = 0.45  # log of length by which a stroke may differ from the marks of its like


def widened(pieces: list[Piece], planes: list[Plane]) -> list[Piece]:
    """Of lattices beside which a further column of like strokes stands, those with it: growth may have missed a rim."""
    strokes = _strokes(planes)
    found = []
    for piece in pieces:
        wider = _wider(piece, strokes, planes[0]) if piece.kind == "marks" else piece
        if wider is not piece:
            found.append(boxed(wider, planes[0]))
    return found


def _strokes(planes: list[Plane]) -> tuple[Floats, Floats, Floats]:
    """Ends (n, 2, 2) in the first plane, colours (n, 3) and widths (n,) in photo pixels of all planes' strokes."""
    ends = np.concatenate([planes[0].from_photo(p.on_photo(p.ends.reshape(-1, 2))).reshape(-1, 2, 2) for p in planes])
    return ends, np.concatenate([p.colour for p in planes]), np.concatenate([p.wide / p.map.factor for p in planes])


def _wider(piece: Piece, strokes: tuple[Floats, Floats, Floats], plane: Plane) -> Piece:
    ends, colour, wide = strokes
    at = ends.mean(axis=1)
    like = np.abs(np.log(np.maximum(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1), 1e-6) / _length(piece, plane))) < STROKE_LIKE  # fmt: skip
    like &= colour @ piece.colour > SAME_INK
    for side in (-1, 1) * MOST_COLUMNS:
        if not like.any() or piece.rows < LEAST_ROWS:
            break
        column = -1 if side < 0 else piece.columns
        rim = np.abs(piece.column - column) <= RIM  # tilt and lens are in what is further off
        own = plane.from_photo(piece.ends.mean(axis=1))[rim]
        fit = lattice_through(piece.column[rim], piece.row[rim], own)
        rows = np.arange(piece.rows)
        cells = fit[0] + column * fit[1] + rows[:, None] * fit[2]
        off = np.linalg.norm(cells[:, None] - at[like][None], axis=2)
        near = off.min(axis=1) < LANDS * min(float(np.linalg.norm(v)) for v in fit[1:])
        if near.mean() < MOSTLY:
            continue
        some = np.flatnonzero(like)[off.argmin(axis=1)[near]]
        on_photo = plane.on_photo(ends[some].reshape(-1, 2)).reshape(-1, 2, 2)
        shift = 1 if side < 0 else 0
        piece = replace(
            piece, ends=np.concatenate([piece.ends, on_photo]), wide=np.concatenate([piece.wide, wide[some]]),
            column=np.concatenate([piece.column, np.full(len(some), column)]) + shift, row=np.concatenate([piece.row, rows[near]]),
        )  # fmt: skip
    return piece


def by_their_like(known: Sequence[KnownBlock], found: list[Assigned | None], planes: list[Plane]) -> list[Piece]:
    """Pieces with the lattice that most blocks of a count share, for as many blocks of that count as do not have it."""
    reference = planes[0]
    ends, colour, wide = _strokes(planes)
    own, at = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1), ends.mean(axis=1)
    pieces: list[Piece] = []
    for alike in sorted({(k.count, k.nozzle_pitch or 0.0, k.nozzle_step) for k in known if k.count}):
        members = [i for i, k in enumerate(known) if (k.count, k.nozzle_pitch or 0.0, k.nozzle_step) == alike]
        steps = {i: steps_of(a.piece.column, a.piece.row, reference.from_photo(a.piece.ends.mean(axis=1))) for i in members if (a := found[i]) is not None and a.piece.kind == "marks"}  # fmt: skip
        model = _commonest(steps, found)
        like = None if model is None else found[model]
        if model is None or like is None:
            continue
        across, down = steps[model]
        usable = np.abs(np.log(np.maximum(own, 1e-6) / _length(like.piece, reference))) < STROKE_LIKE
        settled = {i for i in steps if (a := found[i]) is not None and a.score > SURE and a.piece.columns == like.piece.columns and _agrees(steps[i], steps[model])}  # fmt: skip
        for i in settled:
            usable &= ~_inside(found[i], at)
        lefts = np.array([_left(a.piece, reference) for i in settled if (a := found[i]) is not None])
        for _ in range(len(members) - len(settled)):
            piece = _voted(ends[usable], colour[usable], wide[usable], across, down, like.piece.columns, alike[0], reference)  # fmt: skip
            if piece is None:
                break
            piece = boxed(_below(piece, lefts, across, reference), reference)
            usable &= ~_inside(Assigned(known[0], piece, 1.0), at)
            pieces.append(piece)
    return pieces


def _left(piece: Piece, plane: Plane) -> float:
    """Where a lattice's first column begins on the plane, pixels."""
    return float(lattice_through(piece.column, piece.row, plane.from_photo(piece.ends.mean(axis=1)))[0, 0])


def _below(piece: Piece, lefts: Floats, across: Floats, plane: Plane) -> Piece:
    """The piece counted from the column under which its like begin (`lefts`, (n,) pixels), where marks of an outer one are missing: seen alone, either side may lack it."""
    spare = piece.columns - 1 - int(piece.column.max())
    moves = np.arange(-int(piece.column.min()), spare + 1)
    if len(moves) < 2 or not len(lefts):
        return piece
    off = np.abs(_left(piece, plane) - moves[:, None] * across[0] - lefts).min(axis=1)
    best = int(off.argmin())
    return replace(piece, column=piece.column + moves[best]) if off[best] < LANDS * abs(across[0]) else piece


def _length(piece: Piece, plane: Plane) -> float:
    ends = plane.from_photo(piece.ends.reshape(-1, 2)).reshape(-1, 2, 2)
    return float(np.median(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)))


def _agrees(a: tuple[Floats, Floats], b: tuple[Floats, Floats]) -> bool:
    return all(np.linalg.norm(x - y) < UNLIKE_STEP * max(float(np.linalg.norm(y)), 1e-6) + 0.5 for x, y in zip(a, b, strict=True))  # fmt: skip


def _commonest(steps: dict[int, tuple[Floats, Floats]], found: list[Assigned | None]) -> int | None:
    """The block whose steps and columns most others share, if it is sure."""
    sure = [i for i in steps if (a := found[i]) is not None and a.score > SURE]
    columns = {i: a.piece.columns for i in steps if (a := found[i]) is not None}
    votes = {i: sum(columns[i] == columns[j] and _agrees(steps[i], steps[j]) for j in steps) for i in sure}
    return max(votes, key=lambda i: (votes[i], -i)) if votes else None


def _inside(block: Assigned | None, at: Floats) -> NDArray[np.bool_]:
    """Strokes (n,) that lie in the block's box."""
    if block is None:
        return np.zeros(len(at), bool)
    left, top, right, bottom = block.piece.box
    return (at[:, 0] > left) & (at[:, 0] < right) & (at[:, 1] > top) & (at[:, 1] < bottom)


def _voted(ends: Floats, colour: Floats, wide: Floats, across: Floats, down: Floats, columns: int, count: int, plane: Plane) -> Piece | None:  # fmt: skip
    """The place of the lattice that most strokes agree on (Hough 1962: each stroke votes for every cell it could be)."""
    if len(ends) < 0.5 * count:
        return None
    at = ends.mean(axis=1)
    index = np.arange(count)
    cells = np.outer(index % columns, across) + np.outer(index // columns, down)
    steps = [float(np.linalg.norm(v)) for v in (across, down) if v.any()]
    bin_px = LANDS * min(steps)
    votes = (at[:, None] - cells[None]).reshape(-1, 2)
    keys = np.floor(votes / bin_px).astype(np.int64)
    keys -= keys.min(axis=0)
    flat = keys[:, 0] * (keys[:, 1].max() + 2) + keys[:, 1]
    best = int(np.bincount(flat).argmax()) if flat.max() < 50_000_000 else -1
    if best < 0:
        return None
    origin = np.median(votes[flat == best], axis=0)
    matched = _settled(at, origin, across, down, columns, count, LANDS * 1.3 * min(steps))
    if matched is None:
        return None
    chosen, cell = matched
    ink = np.median(colour[chosen], axis=0)
    on_photo = plane.on_photo(ends[chosen].reshape(-1, 2)).reshape(-1, 2, 2)
    return Piece((0.0, 0.0, 0.0, 0.0), ink / np.linalg.norm(ink), on_photo, wide[chosen], cell % columns, cell // columns, like=True, least_columns=columns)  # fmt: skip


def _settled(at: Floats, origin: Floats, across: Floats, down: Floats, columns: int, count: int, reach: float) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:  # fmt: skip
    """Strokes and their cells, the lattice fitted to them by turns and moved on by a step where more then match."""
    index = np.arange(count)
    place = np.column_stack([np.ones(count), index % columns, index // columns]).astype(np.float64)
    fit, seen = np.stack([origin, across, down]), at.astype(np.float32)

    def match(lattice: Floats) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        off, nearest = cv2.batchDistance((place @ lattice).astype(np.float32), seen, cv2.CV_32F, normType=cv2.NORM_L2, K=1)  # fmt: skip
        good = off[:, 0] < reach
        return nearest[good, 0].astype(np.int64), index[good]

    for _ in range(6):
        shifts = [fit + np.array([c * fit[1] + r * fit[2], [0.0, 0.0], [0.0, 0.0]]) for c, r in MOVES]
        tried = [match(way) for way in shifts]
        best = max(range(len(MOVES)), key=lambda k: (len(tried[k][0]), -k))
        chosen, cell = tried[best]
        if len(chosen) < 0.5 * count:
            return None
        basis = place[cell]
        used = [0, 1, 2] if np.ptp(cell // columns) else [0, 1]
        fit = shifts[best].copy()
        fit[used] = np.linalg.lstsq(basis[:, used], at[chosen] - (0 if 2 in used else basis[:, 2:] @ fit[2:]), rcond=None)[0]  # fmt: skip
    return match(fit)
