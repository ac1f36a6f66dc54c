"""Where a sheet of few strokes may lie: each stroke votes for the places that lay a mark onto it.

Correlation weighs how ink is spread, and where most marks are missing little of a pattern's spread is left; but what
printed still stands on its lattice. A generalised Hough transform (Ballard 1981) over place and two scales, both ways round.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock
from dusky_sieve.core.reading.compiled import compiled
from dusky_sieve.core.reading.find import Candidate, Marks, distinct
from dusky_sieve.core.reading.inkmap import Strokes
from dusky_sieve.core.reading.registration import inverse, project
from dusky_sieve.core.reading.tilt import Lean

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
Cells = NDArray[np.uint16]

MOST_PAIRS = 250_000  # of strokes and marks, that take part; more strokes than tell are left out
MOST_CELLS = 2_000_000  # in which votes are counted: 4 MB
LEAST_VOTING, ENOUGH_VOTING, MOST_VOTING = 12, 60, 160  # strokes; of more, some that are enough stand for all
# Step between scales as a share, and how many are tried to each side: of both directions together, and of across alone.
SCALE_STEP, SCALES_TRIED, ASPECTS_TRIED = 0.02, 8, 8
CELL = 0.2  # of the distance from a mark to the next; votes of three cells each way are one place's
WITHIN = 1.25  # of the pattern's longer side from the middle, within which strokes vote: a tilt throws some far out
# Of the pattern's size each way, and of its longer side: how far its middle may be from the strokes' median.
MIDDLE_OFF, LONGER_OFF = 0.8, 0.4
AGREEING = 0.35  # of the strokes, that must vote for a place
LEAST_ON = 0.42  # of the strokes, that must then surely be marks': a quarter are by chance
LAID, LAYINGS = 60, 5  # places that are laid onto their strokes, and rounds of that
# Of the distance to the next mark, within which a stroke is this one's: in the first round, in later ones, and surely.
FIRST, THEN, CLOSE = 0.45, 0.3, 0.25
HELD = (1e-4, 0.01, 0.01, 1e-4, 0.01, 0.01, 1.0, 1.0)  # how hard a laying is held back: place, size and shear, tilt


def voted(strokes: Strokes, lean: Lean, marks: Marks, layout: Layout, blocks: list[MarksBlock], most: int) -> list[Candidate]:  # fmt: skip
    """The places that most strokes of a lean agree on, laid onto them; at most `most`, best first.

    None where strokes are too few to tell, or more than can be tried.
    """
    at, scale, turn = _on_plane(strokes, lean, marks)
    middle = np.median(at, axis=0) if len(at) else np.zeros(2)
    near = (np.abs(at - middle) < WITHIN * max(layout.size)).all(axis=1)
    at, seen = at[near] - middle, strokes.centre[lean.follows][near]
    most_voting = min(MOST_VOTING, MOST_PAIRS // len(marks.centres))
    if len(at) < LEAST_VOTING or (len(at) > most_voting < ENOUGH_VOTING):
        return []
    stride = -(-len(at) // most_voting)
    at, seen = at[::stride], seen[::stride]
    half = np.array(layout.size) / 2
    room = np.concatenate([np.tile(room_of(b), (b.nozzles, 1)) for b in blocks])
    found: list[Candidate] = []
    for votes, stretch, way, shift in _places(at, marks.centres - half, CELL * np.median(room, axis=0))[:LAID]:
        if votes < AGREEING * len(at):
            break
        plane = np.eye(3)
        plane[:2, :2] = scale * turn @ (np.diag(way / stretch))
        plane[:2, 2] = scale * turn @ ((shift - way * half) / stretch + middle)
        share, homography = _laid(lean.to_map @ plane, seen, marks.centres, room, half)
        if share > LEAST_ON:
            found.append(Candidate(share, homography, lean, marks, laid=True))
    return distinct(sorted(found, key=lambda place: -place.score), layout, most)


def room_of(block: MarksBlock) -> Floats:
    """Distance along travel and across it (2,) mm from a mark to the next that could be taken for it."""
    along = abs(block.column_pitch[0]) if block.columns > 1 else 0.0
    steps = [abs(v[1]) for v in (block.column_pitch, block.row_pitch) if abs(v[1]) > block.mark[1]]
    down = abs(block.row_pitch[1]) if block.nozzles > block.columns else max(steps, default=1.0)
    return np.array([along if along >= block.mark[0] else 4 * block.mark[0], max(down, block.mark[1])])


def _laid(homography: Floats, strokes: Floats, marks: Floats, room: Floats, half: Floats) -> tuple[float, Floats]:
    """The homography (3, 3) sheet mm to pixels laid onto those strokes (n, 2) px that stand next to a mark, and their share.

    marks, room : (m, 2) mm; half : (2,) of the pattern's size
    """
    for k in range(LAYINGS):
        here = project(inverse(homography), strokes)
        nearest, off = _nearest(here, marks, room)
        mine = off < (FIRST if k == 0 else THEN)
        if k == LAYINGS - 1 or mine.sum() < LEAST_VOTING:
            break
        homography = homography @ _nudged(here[mine], marks[nearest[mine]], half)
    return float((off < CLOSE).mean()), homography


@compiled
def _nearest(here: Floats, marks: Floats, room: Floats) -> tuple[Whole, Floats]:
    """The mark (n,) nearest to each point (n, 2) mm and how far it is (n,), in rooms (m, 2) mm, along or across, whichever is more."""
    nearest, off = np.zeros(len(here), np.int64), np.full(len(here), np.inf)
    for n in range(len(here)):
        for m in range(len(marks)):
            along, across = abs(here[n, 0] - marks[m, 0]) / room[m, 0], abs(here[n, 1] - marks[m, 1]) / room[m, 1]
            apart = max(along, across)
            if apart < off[n]:
                nearest[n], off[n] = m, apart
    return nearest, off


def _nudged(here: Floats, marks: Floats, half: Floats) -> Floats:
    """The small homography (3, 3) of the sheet's plane that takes marks (n, 2) mm to where their strokes lie (n, 2) mm.

    By least squares: in a small one's inverse all eight numbers are linear.
    """
    x, y = ((here - half) / half.max()).T
    one, none = np.ones(len(here)), np.zeros(len(here))
    right = np.stack([one, x, y, none, none, none, x * x, x * y], axis=1)
    down = np.stack([none, none, none, one, x, y, x * y, y * y], axis=1)
    terms, aims = np.concatenate([right, down]), ((marks - here) / half.max()).T.ravel()
    a = np.linalg.solve(terms.T @ terms + np.diag(HELD), terms.T @ aims)
    back = np.array([[1 + a[1], a[2], a[0]], [a[4], 1 + a[5], a[3]], [-a[6], -a[7], 1.0]])
    units = np.array([[1.0, 0, -half[0]], [0, 1.0, -half[1]], [0, 0, half.max()]])
    return np.asarray(np.linalg.inv(units) @ np.linalg.inv(back) @ units)


def _on_plane(strokes: Strokes, lean: Lean, marks: Marks) -> tuple[Floats, float, Floats]:
    """Middles of a lean's strokes (n, 2) in mm along and across the rows, pixels of its plane a mm, and the turn (2, 2)."""
    follows = lean.follows
    centre, long, angle = (v[follows] for v in (strokes.centre, strokes.long, strokes.lean))
    half = 0.5 * long[:, None] * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    ends = [project(inverse(lean.to_map), centre + side * half) for side in (-1, 1)]
    scale = float(np.median(np.linalg.norm(ends[1] - ends[0], axis=1)) / np.median(marks.sizes[:, 0]))
    c, s = np.cos(lean.direction), np.sin(lean.direction)
    turn = np.array([[c, -s], [s, c]])
    return (ends[0] + ends[1]) / 2 @ turn / scale, scale, turn


def _places(at: Floats, marks: Floats, cell: Floats) -> list[tuple[int, Floats, int, Floats]]:
    """For every pair of scales and both ways round, most first: votes, stretch (2,), way 1 or -1, and shift (2,) mm.

    None where a pattern is so large to its steps that there are too many places.

    at : strokes (n, 2) mm; marks (m, 2) mm from the pattern's middle; cell (2,) mm
    """
    along = (1 + SCALE_STEP) ** np.arange(-SCALES_TRIED, SCALES_TRIED + 1.0)
    aspects = (1 + SCALE_STEP) ** np.arange(-ASPECTS_TRIED, ASPECTS_TRIED + 1.0)
    size = np.ptp(marks, axis=0)
    reach = np.maximum(MIDDLE_OFF * size, LONGER_OFF * size.max())
    wide, high = ((2 * reach / cell).astype(int) + 2).tolist()  # the outermost hold what lies beyond
    if wide * high > MOST_CELLS or max(wide, high) > np.iinfo(np.uint16).max:
        return []

    def cells(axis: int, stretch: float, way: int) -> Cells:
        first = reach[axis] + cell[axis]
        return _cells(at[:, axis] * stretch, way * marks[:, axis] - first, cell[axis], (wide, high)[axis])

    found = []
    for way in (1, -1):
        down = {k: cells(1, (1 + SCALE_STEP) ** k, way) for k in range(-SCALES_TRIED - ASPECTS_TRIED, SCALES_TRIED + ASPECTS_TRIED + 1)}  # fmt: skip
        for i, stretch in enumerate(along):
            across = cells(0, float(stretch), way)
            for j, aspect in enumerate(aspects):
                votes, x, y = _most(across, down[i - SCALES_TRIED + j - ASPECTS_TRIED], wide, high)
                found.append((votes, np.array([stretch, stretch * aspect]), way, (np.array([x, y]) - 0.5) * cell - reach))  # fmt: skip
    return sorted(found, key=lambda place: -place[0])


@compiled
def _cells(strokes: Floats, marks: Floats, cell: float, count: int) -> Cells:
    """In which of `count` cells, the outermost of which hold what lies beyond, every pair's distance (strokes * marks,) lies."""
    found = np.empty(len(strokes) * len(marks), np.uint16)
    for n in range(len(strokes)):
        for m in range(len(marks)):
            found[n * len(marks) + m] = min(max(int((strokes[n] - marks[m]) / cell), 0), count - 1)
    return found


@compiled
def _most(columns: Cells, rows: Cells, wide: int, high: int) -> tuple[int, int, int]:
    """The most pairs (k,) in any three cells each way of (high, wide), the outermost left out, and the column and row of their middle."""
    votes = np.zeros((high, wide), np.uint16)
    for k in range(len(columns)):
        votes[rows[k], columns[k]] += 1
    votes[0], votes[high - 1], votes[:, 0], votes[:, wide - 1] = 0, 0, 0, 0
    three, most, column, row = np.zeros(wide, np.int32), 0, 1, 1
    for y in range(1, high - 1):
        above, here, below, near = votes[y - 1], votes[y], votes[y + 1], 0
        for x in range(wide):
            three[x] = np.int32(above[x]) + np.int32(here[x]) + np.int32(below[x])
        for x in range(1, wide - 1):
            near = max(near, three[x - 1] + three[x] + three[x + 1])
        if near > most:  # seldom: where in the row is looked for apart
            most, row, column = near, y, 1
            while three[column - 1] + three[column] + three[column + 1] < near:
                column += 1
    return most, column, row
