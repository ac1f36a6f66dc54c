"""Which lattice is which block of the spec: reading order, counts and colours."""

from collections import Counter
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, ink_rgb
from dusky_sieve.core.teaching.grow import Grown, shared_out
from dusky_sieve.core.teaching.plane import Plane
from dusky_sieve.core.teaching.spec import KnownBlock

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]

LEAST_SHOWN = 0.78  # of a block's marks that must stand on its lattice: a good sheet with a handful of faults
FOREIGN = 0.04  # of a block's marks that may stand where it has none
COLOUR_SAYS = 0.3  # weight of the colour beside the share of marks in their places
RUNS_SAY = 0.7  # of a block found as whole runs, in place of the share of marks: single marks say more
UNEVEN_RUNS = 0.12  # share by which runs of one block may differ in length
SLENDER_RUN = 2.0  # thicknesses that each mark of a run is long, at least
DOUBLE = 0.4  # of the smaller box, and of the fewer strokes, from which two pieces are the same place
LEAST_LEVEL, ASLANT = 24, np.radians(1)  # marks that tell how level a plane is, and from where it is turned
SAME_STROKE = 1.5  # thicknesses by which a stroke may differ from itself, found at two sizes
# Of a block whose lattice is that of its like: more than the marks that a wrong one may hold (at 0.04 one did), less than its own one
# holds where its like has another (at 0.12 a piece with a tenth fewer marks was believed).
LIKE_SAYS = 0.07
RISES = 0.5  # of the step from run to run, by which a run must rise; a full staircase rises by all of it
# Of a full staircase, and of the step between columns, from which a row steps down or up: six sheets whose rows are level measured
# 0.009 and 0.0004 at most.
STEEP, LEVEL = 0.15, 0.01
LEAST_BEYOND = 2  # more marks of the last row beyond its end, counted from one side, that tell it begins at the other
SAME_LINE = 0.5  # overlap in height of two blocks side by side, of the lower one; in width of two in one place, of the narrower one


@dataclass(frozen=True)
class Piece:
    """A candidate for a block, in photo pixels, so that pieces found at several sizes can be held together.

    box : left, top, right, bottom in the sheet's plane; colour : (3,) of its ink, length 1
    ends : (n, 2, 2) of each stroke, wide : (n,); column, row : (n,) place on its lattice; for a fill its four corners
    kind : runs where each stroke is a whole row of marks that touch; like : found by the lattice of its like, which has
    `least_columns`, or runs of as many marks as most others have
    """

    box: tuple[float, float, float, float]
    colour: Floats
    ends: Floats
    wide: Floats
    column: Whole
    row: Whole
    kind: Literal["marks", "runs", "fill"] = "marks"
    like: bool = False
    least_columns: int = 0

    @property
    def columns(self) -> int:
        """Columns of the lattice; the rim's marks may all be missing where its like told how many there are."""
        return max(int(self.column.max()) + 1, self.least_columns)

    @property
    def rows(self) -> int:
        """Rows of the lattice."""
        return int(self.row.max()) + 1

    @cached_property
    def lengths(self) -> tuple[Floats, float, float]:
        """(n,) of each stroke, row by row; the usual one of all but the last; the usual width of strokes."""
        long = np.linalg.norm(self.ends[:, 1] - self.ends[:, 0], axis=1)[np.argsort(self.row)]
        return long, float(np.median(long[: max(len(long) - 1, 1)])), float(np.median(self.wide))


@dataclass(frozen=True)
class Assigned:
    """A spec block with its piece. `score` is the share of marks in place, and what the colour says."""

    known: KnownBlock
    piece: Piece
    score: float


def pieces_of(plane: Plane, blocks: list[Grown], counts: set[int], kind: Literal["marks", "runs"]) -> list[Piece]:
    """Lattices with their boxes; one that holds several blocks of a known count is shared out."""
    found = []
    for block in blocks:
        for part in (shared_out(plane, block, counts) if kind == "marks" else []) or [block]:
            ends = plane.ends[part.strokes].reshape(-1, 2)
            low, high = ends.min(axis=0), ends.max(axis=0)
            colour = np.median(plane.colour[part.strokes], axis=0)
            on_photo = plane.on_photo(ends).reshape(-1, 2, 2)
            found.append(Piece((low[0], low[1], high[0], high[1]), colour, on_photo, plane.wide[part.strokes] / plane.map.factor, part.column, part.row, kind))  # fmt: skip
    return found


def boxed(piece: Piece, plane: Plane) -> Piece:
    """The piece with its box in the plane of another size of the same photo."""
    ends = plane.from_photo(piece.ends.reshape(-1, 2))
    low, high = ends.min(axis=0), ends.max(axis=0)
    return replace(piece, box=(float(low[0]), float(low[1]), float(high[0]), float(high[1])))


def levelled(pieces: list[Piece], plane: Plane) -> Plane:
    """The plane, or one turned so that the pieces' marks lie level on it: grain and words may have set its direction, and rows of blocks are told by it."""
    ends = [piece.ends for piece in pieces if piece.kind == "marks"]
    if sum(map(len, ends)) < LEAST_LEVEL:
        return plane
    step = np.diff(plane.from_photo(np.concatenate(ends).reshape(-1, 2)).reshape(-1, 2, 2), axis=1)[:, 0]
    angle = float(np.median(np.arctan2(step[:, 1], step[:, 0])))
    return plane.turned(angle) if abs(angle) > ASLANT else plane


def like_most(pieces: list[Piece], known: list[KnownBlock]) -> list[Piece]:
    """The pieces, of runs those that have as many marks a row as most other rows told so: where one is broken or passed over, rows seem longer or shorter."""
    counts = {k.count for k in known if k.count}
    fits = [{(n, c) for n in counts if (c := columns_of_runs(p, n))} if p.kind == "runs" else set() for p in pieces]
    votes: Counter[int] = Counter()
    for piece, ways in zip(pieces, fits, strict=True):
        for columns in {c for _, c in ways}:
            votes[columns] += piece.rows - 1  # a lone run tells nothing
    every = set[tuple[int, int]]().union(*fits)
    usual = {max((way for way in every if way[0] == n), key=lambda way: votes[way[1]]) for n in {n for n, _ in every}}
    told = [bool(ways & usual) if p.kind == "runs" else p.like for p, ways in zip(pieces, fits, strict=True)]
    return [p if p.like == like else replace(p, like=like) for p, like in zip(pieces, told, strict=True)]


def without_doubles(pieces: list[Piece], known: list[KnownBlock], backing: Backing) -> list[Piece]:
    """Of pieces that cover the same place, the one that is most like any block of the spec; others that fit none go."""
    kinds = list({(k.kind, k.count, k.columns, k.column_pitch, k.ink): k for k in known}.values())
    worth = [max((fit(k, p, backing) or 0.0) for k in kinds) for p in pieces]
    kept: list[Piece] = []
    for i in np.argsort(-np.array(worth), kind="stable"):
        piece = pieces[int(i)]
        if worth[int(i)] > 0 and not any(_covers(piece, other) for other in kept):
            kept.append(piece)
    return kept


def _covers(a: Piece, b: Piece) -> bool:
    """Whether two pieces are of one place; blocks of marks whose rows stand between each other's are not."""
    shared = [min(a.box[k + 2], b.box[k + 2]) - max(a.box[k], b.box[k]) for k in (0, 1)]
    smaller = min((p.box[2] - p.box[0]) * (p.box[3] - p.box[1]) for p in (a, b))
    if min(shared) <= 0 or shared[0] * shared[1] <= DOUBLE * smaller:
        return False
    if {a.kind, b.kind} != {"marks"}:
        return True
    few, many = sorted((p.ends.mean(axis=1).astype(np.float32) for p in (a, b)), key=len)
    nearest = cv2.batchDistance(few, many, cv2.CV_32F, K=1)[0][:, 0]
    return bool((nearest < SAME_STROKE * min(float(np.median(p.wide)) for p in (a, b))).mean() > DOUBLE)


def in_reading_order(pieces: list[Piece]) -> list[Piece]:
    """Rows from the top, each from the left; of blocks whose rows stand between each other's the one that begins higher first."""
    ordered = []
    for line in _side_by_side(sorted(pieces, key=lambda p: p.box[1]), 1):
        for place in _side_by_side(sorted(line, key=lambda p: p.box[0]), 0):
            ordered += sorted(place, key=lambda p: p.box[1])
    return ordered


def _side_by_side(pieces: list[Piece], axis: int) -> list[list[Piece]]:
    """Pieces that share most of their extent along an axis, together."""
    lines: list[list[Piece]] = []
    for piece in pieces:
        for line in lines:
            low, high = max(p.box[axis] for p in line), min(p.box[axis + 2] for p in line)
            shared = min(piece.box[axis + 2], high) - max(piece.box[axis], low)
            if shared > SAME_LINE * min(piece.box[axis + 2] - piece.box[axis], high - low):
                line.append(piece)
                break
        else:
            lines.append([piece])
    return lines


def assign(known: list[KnownBlock], pieces: list[Piece], backing: Backing) -> list[Assigned | None]:
    """Each block of the spec with its piece, order kept, so that most is explained; None for those not found."""
    ordered = in_reading_order(pieces)
    fits = [[fit(k, p, backing) for p in ordered] for k in known]
    best = np.zeros((len(known) + 1, len(ordered) + 1))
    for i in range(1, len(known) + 1):
        for j in range(1, len(ordered) + 1):
            score = fits[i - 1][j - 1]
            matched = best[i - 1, j - 1] + score if score is not None else -1.0
            best[i, j] = max(best[i - 1, j], best[i, j - 1], matched)
    found: list[Assigned | None] = [None] * len(known)
    i, j = len(known), len(ordered)
    while i and j:
        score = fits[i - 1][j - 1]
        if score is not None and best[i, j] == best[i - 1, j - 1] + score:
            found[i - 1] = Assigned(known[i - 1], numbered(known[i - 1], ordered[j - 1]), score)
            i, j = i - 1, j - 1
        elif best[i, j] == best[i - 1, j]:
            i -= 1
        else:
            j -= 1
    return found


def fit(known: KnownBlock, piece: Piece, backing: Backing) -> float | None:
    """How well a piece is the block, about 0 to 1.3, or None where it cannot be."""
    if known.kind == "solid" or piece.kind == "fill":
        return 1 + _colour(known, piece, backing) if known.kind == "solid" and piece.kind == "fill" else None
    count = known.count
    columns = columns_of_runs(piece, count) if piece.kind == "runs" else piece.columns
    if columns is None or known.columns not in (None, columns):
        return None
    if piece.kind == "runs":
        return RUNS_SAY + _colour(known, piece, backing) + LIKE_SAYS * piece.like
    rows = -(-count // columns)
    if not rows - 1 <= piece.rows <= rows:
        return None
    index = piece.row * columns + numbered(known, piece).column
    share, foreign = len(np.unique(index[index < count])) / count, float((index >= count).sum()) / count
    if share < LEAST_SHOWN or foreign > FOREIGN:
        return None
    return share - 2 * foreign + _colour(known, piece, backing) + LIKE_SAYS * piece.like


def _colour(known: KnownBlock, piece: Piece, backing: Backing) -> float:
    """What the piece's colour says for the block, 0 to COLOUR_SAYS."""
    hint = ink_rgb(known.ink)
    seen = np.clip(1 - hint if backing == "light" else hint, 0.02, None)
    alike = float(piece.colour @ seen / np.linalg.norm(seen))
    return COLOUR_SAYS * float(np.clip((alike - 0.7) / 0.3, 0, 1))


def numbered(known: KnownBlock, piece: Piece) -> Piece:
    """The piece with its columns counted from the side at which its nozzles begin: they follow each other along the feed.

    Rows that rise to the right begin there, and rows of which the last, a short one, stands at the right. What the spec
    says of `column_pitch` goes before.
    """
    if piece.kind == "fill" or known.kind == "solid":
        return piece
    turn = _rises(piece) if known.column_pitch is None else _from_right(piece) != (known.column_pitch[0] < 0)
    if known.column_pitch is None and piece.kind == "marks":
        short = piece.row == -(-known.count // piece.columns) - 1
        beyond = known.count - (piece.rows - 1) * piece.columns  # the last row's marks, where it is a short one
        here, there = (int((column[short] >= beyond).sum()) for column in (piece.column, piece.columns - 1 - piece.column))  # fmt: skip
        turn = turn if abs(here - there) < LEAST_BEYOND else here > there
    if known.column_pitch is None and piece.kind == "runs":
        turn = _ends_at_right(piece, turn)
    return _from_other_side(piece) if turn else piece


def _from_other_side(piece: Piece) -> Piece:
    if piece.kind == "runs":
        return replace(piece, ends=piece.ends[:, ::-1])
    return replace(piece, column=piece.columns - 1 - piece.column)


def _from_right(piece: Piece) -> bool:
    """Whether a lattice's columns are counted from the right; strokes are given from left to right."""
    run = (piece.ends[:, 1] - piece.ends[:, 0]).mean(axis=0)
    return piece.kind == "marks" and bool(steps_of(piece.column, piece.row, piece.ends.mean(axis=1))[0] @ run < 0)


def _ends_at_right(piece: Piece, otherwise: bool) -> bool:
    """Whether the last run, where it is a short one, stands below the right end of the one before."""
    if piece.rows < 2:
        return otherwise
    run = piece.ends[:, 1] - piece.ends[:, 0]
    long = np.linalg.norm(run, axis=1)
    before, last = np.argsort(piece.row)[-2:]
    if long[last] > (1 - UNEVEN_RUNS) * long[before]:
        return otherwise
    at_left, at_right = np.abs((piece.ends[last] - piece.ends[before]) @ run[before])
    return bool(at_right < at_left)


def _rises(piece: Piece) -> bool:
    """Whether rows, from where their columns are counted, step up the sheet."""
    if piece.kind == "runs":
        _, down = steps_of(piece.column, piece.row, piece.ends[:, 0])  # middles would be those of a short run, too
        run = (piece.ends[:, 1] - piece.ends[:, 0]).mean(axis=0)
        return bool(run @ down < -RISES * (down @ down))
    across, down = steps_of(piece.column, piece.row, piece.ends.mean(axis=1))
    along = (piece.ends[:, 1] - piece.ends[:, 0]).mean(axis=0)
    feed = np.array([-along[1], along[0]]) / np.linalg.norm(along)
    return bool(across @ feed < -max(STEEP * float(down @ feed) / piece.columns, LEVEL * float(np.linalg.norm(across))))


def lattice_through(column: Whole, row: Whole, at: Floats) -> Floats:
    """Origin, column and row step (3, 2) of the lattice whose marks, in that column and row (n,), lie so (n, 2), by least squares."""
    basis = np.column_stack([np.ones(len(at)), column, row]).astype(np.float64)
    return np.asarray(np.linalg.lstsq(basis, at, rcond=None)[0])


def steps_of(column: Whole, row: Whole, at: Floats) -> tuple[Floats, Floats]:
    """Column and row step (2,) of that lattice."""
    _, across, down = lattice_through(column, row, at)
    return across, down


def columns_of_runs(piece: Piece, count: int) -> int | None:
    """Marks in each run, from their number and from how long the last run is; None where none fits."""
    rows = piece.rows
    if len(piece.ends) != rows or rows > count:
        return None
    long, full, wide = piece.lengths
    last = min(float(long[-1]) / full, 1.0)
    columns = round(count / (rows - 1 + last))
    if full < SLENDER_RUN * columns * wide:
        return None
    if -(-count // columns) != rows or (rows > 2 and np.abs(long[:-1] / full - 1).max() > UNEVEN_RUNS):
        return None
    return columns
