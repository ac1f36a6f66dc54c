"""Lattices grown from stroke to stroke: neighbours that agree with each other belong to one block."""

from collections.abc import Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.teaching.plane import Plane

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
Bools = NDArray[np.bool_]

LIKE_LENGTH = 0.35  # share by which a mark's length may differ from the usual one round it
LIKE_COLOUR = 0.93  # cosine between the ink colours of neighbours
AGREEING = 0.16  # of the step between marks, by which a neighbour may miss the usual step round it
WIDEST_STEP = 2.6  # mark lengths from a mark to the next in its row
HIGHEST_STEPS = (3.5, 12.0)  # mark lengths from a mark to the one below it: near first, then as far as short marks need
NEAR = 12  # links whose median a link is held against
ASTRAY = 0.5  # of the smaller step, by which a mark may lie off a plain lattice: tilt and lens are in it
LEAST_CELLS = 6  # strokes that may be a block
# Of the usual piece of a run, and of the usual run once its pieces are joined: a gap within one, a few missing marks wide.
JOINT, JOINT_OF_RUN = 0.12, 0.05
CUT = 0.035  # share by which a step between two columns (or rows) differs from those beside it, where two blocks meet
CUT_COLOUR = 0.985  # cosine between the ink colours of two columns (or rows), under which two blocks meet
# Rows of a lattice, and the share of them like every other one rather than those between, of two blocks woven together.
LEAST_WOVEN, WOVEN = 4, 0.9
LAST_RUN = 3.2  # log of how much shorter than the others a block's last run may be
SAME_INK = 0.97  # cosine between the colours of pieces of one run
STEPPED = 1.3  # of a stroke's width: how far a piece may step at a joint
BENT_FROM = (60, 200)  # strokes, from which squares and cubes tell what tilt and lens do to a lattice
PRINTED, TOO_MANY = 0.8, 1.04  # of the marks that blocks of a known count have, for strokes to be shared out among them


@dataclass(frozen=True)
class Grown:
    """A set of strokes on one lattice.

    strokes : (n,) rows of the plane; column, row : (n,) their place, from 0
    """

    strokes: Whole
    column: Whole
    row: Whole

    @property
    def columns(self) -> int:
        """Columns of the lattice."""
        return int(self.column.max()) + 1

    @property
    def rows(self) -> int:
        """Rows of the lattice."""
        return int(self.row.max()) + 1


def usual_lengths(plane: Plane) -> list[float]:
    """Lengths that many strokes share: by their number, and by all the ink they stand for."""
    if len(plane.long) < LEAST_CELLS:
        return []
    found: list[float] = []
    for weight in (np.ones(len(plane.long)), plane.long):
        mode = _mode(plane.long, weight)
        if all(abs(np.log(mode / other)) > 0.5 * LIKE_LENGTH for other in found):
            found.append(mode)
    return found


def as_long_as(plane: Plane, usual: float, shortest: float = LIKE_LENGTH) -> Plane:
    """The strokes of about that length: single marks, where marks stand apart. `shortest` is a log ratio."""
    ratio = np.log(np.maximum(plane.long, 1e-6) / usual)
    return plane.only((ratio < LIKE_LENGTH) & (ratio > -shortest))


def _mode(values: Floats, weight: Floats) -> float:
    """The commonest of positive values, to a few percent."""
    logs = np.log(np.maximum(values, 1e-6))
    count, edges = np.histogram(logs, bins=np.arange(logs.min() - 0.1, logs.max() + 0.2, 0.05), weights=weight)
    k = int(np.convolve(count, np.ones(5), "same").argmax())
    near = np.abs(logs - 0.5 * (edges[k] + edges[k + 1])) < 0.2
    return float(np.exp(np.median(logs[near]))) if near.any() else float(np.median(values))


def chained(plane: Plane) -> Iterator[Plane]:
    """Pieces of runs joined into one stroke each, for marks that touch leave whole rows, broken here and there; then once more, over wider gaps."""
    for share in (JOINT, JOINT_OF_RUN):
        plane = _joined(plane, share * float(np.average(plane.long, weights=plane.long)) if len(plane.long) else 0.0)
        yield plane


def _joined(plane: Plane, reach: float) -> Plane:
    """Each stroke and those that follow on it, no further than `reach` plane pixels apart, as one."""
    left, right = plane.ends[:, 0], plane.ends[:, 1]
    follower = np.full(len(left), -1)
    order = np.argsort(left[:, 0])
    starts = left[order, 0]
    for i in range(len(left)):
        lo, hi = np.searchsorted(starts, right[i, 0] - 0.5 * reach), np.searchsorted(starts, right[i, 0] + reach)
        some = order[lo:hi]
        step = left[some] - right[i]
        ok = (some != i) & (np.abs(step[:, 1]) < STEPPED * plane.wide[i] + 0.08 * np.abs(step[:, 0]))
        ok &= (plane.colour[some] @ plane.colour[i] > SAME_INK) & (right[some, 0] > right[i, 0])
        if ok.any():
            follower[i] = int(some[ok][np.abs(step[ok]).sum(axis=1).argmin()])
    taken: dict[int, int] = {}
    for longest in np.argsort(-plane.long).tolist():
        if follower[longest] >= 0:
            taken.setdefault(int(follower[longest]), longest)
    before = np.full(len(left), -1)
    for after, i in taken.items():
        before[after] = i
    ends, keep = plane.ends.copy(), np.ones(len(left), bool)
    after_of = {i: after for after, i in taken.items()}
    for first in np.flatnonzero(before < 0).tolist():
        k = first
        while k in after_of:
            k = after_of[k]
            keep[k] = False
        ends[first, 1] = plane.ends[k, 1]
    keep &= before < 0
    return Plane(plane.to_map, plane.map, ends, plane.wide, plane.colour, plane.paper, plane.on_map).only(keep)


def grown(plane: Plane, highest: float, beside: Whole) -> list[Grown]:
    """Every lattice of at least a few strokes, from the links of marks `beside` each other and of those below."""
    below = _links(plane.centre, plane.long, plane.colour, highest, below=True, rows_only=False)
    return _indexed(len(plane.long), beside, _agreeing(plane.centre, below))


def grown_rows(plane: Plane) -> list[Grown]:
    """Every column of at least a few strokes that are whole rows each."""
    left = plane.ends[:, 0]
    below = _links(left, plane.long, plane.colour, 1.0, below=True, rows_only=True)
    # At one side or the other: where an outermost mark is missing, a run begins or ends elsewhere than those round it.
    agreeing = np.unique(np.concatenate([_agreeing(plane.ends[:, side], below) for side in (0, 1)]), axis=0)
    return _indexed(len(left), np.zeros((0, 2), np.int64), agreeing)


def links_beside(plane: Plane) -> Whole:
    """Pairs (k, 2) of marks next to each other in a row."""
    return _agreeing(plane.centre, _links(plane.centre, plane.long, plane.colour, 0.0, below=False, rows_only=False))


def _links(at: Floats, long: Floats, colour: Floats, highest: float, *, below: bool, rows_only: bool) -> Whole:
    """Pairs (k, 2): each stroke and its next one in the row, or the one below it, where each is the other's nearest."""
    n = len(at)
    order = np.argsort(at[:, 1])
    heights = at[order, 1]
    best, back = np.full(n, -1), np.full(n, np.inf)
    nearest = np.full(n, -1)
    for i in range(n):
        reach = (1.0 if rows_only else highest) * long[i] if below else 0.5 * long[i]
        lo = np.searchsorted(heights, at[i, 1] + (0.02 * long[i] if below else -reach))
        some = order[lo : np.searchsorted(heights, at[i, 1] + reach)]
        step = at[some] - at[i]
        if below:
            ok = (np.abs(step[:, 0]) < (0.15 if rows_only else 0.45) * long[i]) & (some != i)
            far = step[:, 1] + 0.5 * np.abs(step[:, 0])
        else:
            ok = (step[:, 0] > 0.6 * long[i]) & (step[:, 0] < WIDEST_STEP * long[i])
            far = step[:, 0] + 4 * np.abs(step[:, 1])
        ratio = np.log(long[some] / long[i])
        ok &= (ratio < LIKE_LENGTH) & ((ratio > -LIKE_LENGTH) | rows_only) & (colour[some] @ colour[i] > LIKE_COLOUR)
        if not ok.any():
            continue
        k = int(far[ok].argmin())
        j, d = int(some[ok][k]), float(far[ok][k])
        best[i] = j
        if d < back[j]:
            back[j], nearest[j] = d, i
    mutual = [(i, j) for i, j in enumerate(best) if j >= 0 and nearest[j] == i]
    return np.array(mutual, np.int64).reshape(-1, 2)


def _agreeing(at: Floats, links: Whole) -> Whole:
    """The links whose step is like the median of the links nearest to them."""
    if len(links) < 3:
        return links
    step = at[links[:, 1]] - at[links[:, 0]]
    middle = 0.5 * (at[links[:, 1]] + at[links[:, 0]])
    places = middle.astype(np.float32)
    near = cv2.batchDistance(places, places, cv2.CV_32F, normType=cv2.NORM_L1, K=min(NEAR, len(links) - 1) + 1)[1]
    usual = np.median(step[near], axis=1)
    keep: Bools = np.linalg.norm(step - usual, axis=1) < AGREEING * np.linalg.norm(usual, axis=1)
    return links[keep]


def _indexed(n: int, beside: Whole, down: Whole) -> list[Grown]:
    """Connected strokes with their column and row, walked from link to link."""
    ways: list[list[tuple[int, int, int]]] = [[] for _ in range(n)]
    for links, (dc, dr) in ((beside, (1, 0)), (down, (0, 1))):
        for i, j in links.tolist():
            ways[i].append((j, dc, dr))
            ways[j].append((i, -dc, -dr))
    place: dict[int, tuple[int, int]] = {}
    found: list[Grown] = []
    for start in range(n):
        if start in place:
            continue
        place[start] = (0, 0)
        members = [start]
        for i in members:
            c, r = place[i]
            for j, dc, dr in ways[i]:
                if j not in place:
                    place[j] = (c + dc, r + dr)
                    members.append(j)
        if len(members) >= LEAST_CELLS or (len(members) >= 1 and not len(beside)):
            cells = np.array([place[i] for i in members])
            cells -= cells.min(axis=0)
            found.append(Grown(np.array(members), cells[:, 0], cells[:, 1]))
    return found


def unwoven(plane: Plane, block: Grown) -> list[Grown]:
    """The block as two whose rows stand between each other's, where every other row is of another ink."""
    if block.rows < LEAST_WOVEN:
        return [block]
    colours = np.array([plane.colour[block.strokes[block.row == k]].mean(axis=0) if (block.row == k).any() else np.zeros(3) for k in range(block.rows)])  # fmt: skip
    inks = np.array([colours[p::2].sum(axis=0) for p in (0, 1)])
    inks /= np.linalg.norm(inks, axis=1, keepdims=True) + 1e-9
    liker = colours @ (inks[0] - inks[1]) > 0
    own = np.r_[liker[::2], ~liker[1::2]]
    if inks[0] @ inks[1] > CUT_COLOUR or own.mean() < WOVEN:
        return [block]
    parts = [block.row % 2 == p for p in (0, 1)]
    return [_from_zero(Grown(block.strokes[k], block.column[k], block.row[k] // 2)) for k in parts]


def trimmed(plane: Plane, block: Grown) -> Grown:
    """Without strokes that a lattice through the others places elsewhere: links that led astray."""
    place, at = _terms(block), plane.centre[block.strokes]
    weight, off = np.ones(len(at)), np.zeros(len(at))
    fit: Floats = np.zeros((place.shape[1], 2))
    for _ in range(6):
        w = place * weight[:, None]
        fit = np.asarray(np.linalg.lstsq(w.T @ place, w.T @ at, rcond=None)[0], np.float64)
        off = np.linalg.norm(at - place @ fit, axis=1)
        weight = 1 / (1 + (off / (2 * float(np.median(off)) + 1e-6)) ** 2)
    told = [bool(np.ptp(block.column)), bool(np.ptp(block.row))]
    keep = off < ASTRAY * min((float(np.linalg.norm(step)) for step in fit[1:3][told]), default=1.0)
    if keep.sum() < LEAST_CELLS:
        return block
    return _from_zero(Grown(block.strokes[keep], block.column[keep], block.row[keep]))


def shared_out(plane: Plane, block: Grown, counts: set[int]) -> list[Grown]:
    """The block as one of a known count, or several that grew together side by side or one below the other; none where it cannot be.

    Of the ways that count leaves, the one with most gaps where parts meet, then that whose parts are the plainest lattices.
    """
    ways: list[tuple[int, int, list[Grown]]] = []
    for count, tiers in ((count, tiers) for count in sorted(counts) for tiers in range(1, block.rows + 1)):
        rows, uneven = divmod(block.rows, tiers)
        columns = -(-count // rows)
        beside, left = divmod(block.columns, columns)
        share = len(block.strokes) / max(1, beside * tiers * count)
        if uneven or left or -(-count // columns) != rows or not beside or not PRINTED <= share <= TOO_MANY:
            continue
        home = block.row // rows * beside + block.column // columns
        parts = [Grown(block.strokes[k], block.column[k] % columns, block.row[k] % rows) for k in (home == n for n in range(beside * tiers))]  # fmt: skip
        if all(len(part.strokes) >= LEAST_CELLS for part in parts):
            ways.append((columns, rows, parts))
    if len(ways) < 2:
        return ways[0][2] if ways else []
    across, down = (_steps(plane, block.strokes, *lines) for lines in ((block.column, block.row), (block.row, block.column)))  # fmt: skip

    def unlikely(way: tuple[int, int, list[Grown]]) -> tuple[int, float]:
        off = max(float(np.median(_off(plane, part))) for part in way[2])
        return _seamless(across, way[0]) + _seamless(down, way[1]), off

    return min(ways, key=unlikely)[2]


def _seamless(steps: Floats, size: int) -> int:
    """1 where parts of `size` lines meet without a gap among the steps (lines - 1,) from line to line, else 0."""
    meets = np.arange(1, len(steps) + 1) % size == 0
    within, between = (some[np.isfinite(some)] for some in (steps[~meets], steps[meets]))
    if not len(within) or not len(between):
        return 0  # one line each: there is no step within a part to hold the gap against
    return int(np.median(np.abs(between / np.median(within) - 1)) <= CUT)


def _steps(plane: Plane, strokes: Whole, line: Whole, other: Whole) -> Floats:
    """Median step (lines - 1,) from each line of a lattice to the next; NaN where under two strokes tell it."""
    grid = np.full((int(line.max()) + 1, int(other.max()) + 1), -1)
    grid[line, other] = strokes
    steps = np.full(len(grid) - 1, np.nan)
    for k in range(len(steps)):
        both = (grid[k : k + 2] >= 0).all(axis=0)
        if both.sum() >= 2:
            steps[k] = float(np.linalg.norm(np.median(plane.centre[grid[k + 1, both]] - plane.centre[grid[k, both]], axis=0)))  # fmt: skip
    return steps


def _terms(block: Grown) -> Floats:
    """Polynomial terms (n, k) about the block's middle, the plain lattice first: tilt and lens bend it, as far as enough strokes tell."""
    c, r = block.column - block.column.mean(), block.row - block.row.mean()
    degree = 1 + sum(len(c) >= enough for enough in BENT_FROM)
    return np.stack([c ** (total - k) * r**k for total in range(degree + 1) for k in range(total + 1)], axis=1)


def _off(plane: Plane, block: Grown) -> Floats:
    """How far strokes (n,) lie off the lattice through them."""
    place, at = _terms(block), plane.centre[block.strokes]
    return np.asarray(np.linalg.norm(at - place @ np.linalg.lstsq(place, at, rcond=None)[0], axis=1))


def cut(plane: Plane, block: Grown) -> list[Grown]:
    """The block cut where two have grown together: where the step or the ink changes from one line to the next."""
    for axis in (0, 1):
        line, other = (block.column, block.row) if axis == 0 else (block.row, block.column)
        edge = _seam(plane, block.strokes, line, other)
        if edge is not None:
            low = line <= edge
            parts = [Grown(block.strokes[k], block.column[k], block.row[k]) for k in (low, ~low)]
            return [piece for part in parts for piece in cut(plane, _from_zero(part))]
    return [block]


def _from_zero(block: Grown) -> Grown:
    return Grown(block.strokes, block.column - block.column.min(), block.row - block.row.min())


def _seam(plane: Plane, strokes: Whole, line: Whole, other: Whole) -> int | None:
    """The line after which the block should be cut: the clearest seam, or None."""
    count = int(line.max()) + 1
    if count < 2:
        return None
    steps, colours = _steps(plane, strokes, line, other), np.zeros((count, 3))
    for k in range(count):
        colours[k] = np.median(plane.colour[strokes[line == k]], axis=0) if (line == k).any() else 0.0
    colours /= np.linalg.norm(colours, axis=1, keepdims=True) + 1e-9
    best, worst = None, 1.0
    for k in range(count - 1):
        near = np.r_[steps[max(0, k - 4) : k], steps[k + 1 : k + 5]]
        near = near[np.isfinite(near)]
        if np.isfinite(steps[k]) and len(near) >= 3:
            usual = float(np.median(near))
            noise = 5 * 1.4826 * float(np.median(np.abs(near - usual))) / usual
            off = abs(steps[k] / usual - 1) / max(CUT, noise)
            if off > worst:
                best, worst = k, off
        left, right = colours[max(0, k - 2) : k + 1].sum(axis=0), colours[k + 1 : k + 4].sum(axis=0)
        alike = float(left @ right / (np.linalg.norm(left) * np.linalg.norm(right) + 1e-9))
        off = (1 - alike) / (1 - CUT_COLOUR)
        if off > worst:
            best, worst = k, off
    return best
