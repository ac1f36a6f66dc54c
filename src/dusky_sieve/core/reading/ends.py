"""Along travel, where marks touch, only the ends of the rows tell the place: ink up to them, bare paper beyond.

A lattice laid a column aside looks right everywhere else: one column along and one pitch down, a slanted run lies on
itself. So each block's rows are slid along themselves, and one smooth slip over the sheet is found that sets all ends
right together.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, boxes_besides, clear_width, on_boxes
from dusky_sieve.core.reading.compiled import compiled, in_rows
from dusky_sieve.core.reading.registration import Registration, warp_terms
from dusky_sieve.core.reading.score import Fit, Place

Floats = NDArray[np.float64]

LOOKED_AT = 3  # columns to each side of a row's end that are looked at
FURTHEST, FINE = 2.5, 0.125  # columns by which rows are slid, and in what steps
TILTS = np.linspace(-1.75, 1.75, 15)  # columns by which the slip may differ between the sheet's middle and its rim
# All columns by which a row may be slid: by the slip at the sheet's middle and what it differs by at two rims.
SLIDES = np.arange(-FURTHEST - 3 * abs(TILTS).max(), FURTHEST + 3 * abs(TILTS).max() + FINE / 2, FINE)
BETTER = 0.1  # share of an end's ink by which a slip must set the ends better than none
LEAST_TOLD = 0.47  # of the ends' ink: right places of sheets half missing reach 0.6, wrong ones 0.45
LEAST_FIT = 0.4  # share of the ends' ink: where fewer ends printed they say nothing
STEEPEST = 0.5  # columns: a slip that differs by less over the sheet, or from none, is what fitting finds by itself
SPLIT_FROM = 4  # rows from which upper and lower ones are asked apart
LEAST_FREE = 0.3  # of the places beyond an end, over which no other block stands
MOST_ASIDE = 3  # whole columns by which a single block is tried aside
CLEARLY_BETTER = 0.2  # share of an end's ink by which a block must fit better there to be in doubt
NARROW_PX, NARROW_SHARE = (
    3.5,
    0.2,
)  # gaps along travel wider than both, pixels and share of a column, show by themselves
ALONG_FROM = 2  # columns a block must have for its rows to have ends


@dataclass(frozen=True)
class Slip:
    """A slip along the rows, in columns (see Ends.column): at the sheet's middle, and how much more at its right and lower rim.

    gain : how much better the rows' ends fit with it than without, as a share of an end's ink; fit : how well with it
    """

    middle: float
    right: float
    down: float
    gain: float
    fit: float

    @property
    def moves(self) -> bool:
        """Whether it is more than fitting sets right by itself."""
        return (
            self.fit > LEAST_FIT
            and self.gain > BETTER
            and max(abs(self.middle), abs(self.right), abs(self.down)) >= STEEPEST
        )


@dataclass(frozen=True)
class Ends:
    """How well the rows' ends fit for every slide, group by group: the left or the right ends of a block's upper or lower rows.

    table : (groups, slides) ink inside the ends less ink beyond, -1..1; slides : (slides,) columns
    weight, at : (groups,) share of all rows, and (groups, 2) where the group's ends are, -1..1 over the sheet
    columns : (groups, 2) mm, a column of each one's block; block, side : (groups,) the block's id, and -1 for its left ends, 1 for its right ones
    gaps_show : whether all gaps between these marks are wide enough to be seen
    """

    table: Floats
    slides: Floats
    weight: Floats
    at: Floats
    columns: Floats
    block: tuple[str, ...]
    side: tuple[int, ...]
    gaps_show: bool = False

    @property
    def column(self) -> Floats:
        """The column (2,) mm in which slips are counted: the middle one of all groups'; blocks may have others."""
        return np.asarray(self.columns[np.argsort(np.abs(self.columns[:, 0]))[len(self.columns) // 2]])

    @property
    def told(self) -> bool:
        """Whether enough ends printed, where they are, to tell whole columns; True where gaps tell them anyway."""
        return self.gaps_show or not len(self.table) or float(self.score(np.zeros((3, 1)))[0]) > LEAST_TOLD

    def aside(self) -> list[str]:
        """Blocks whose rows' ends, the left and the right ones together, fit clearly better some whole columns aside."""
        found = []
        steps = np.round((np.arange(-MOST_ASIDE, MOST_ASIDE + 1) - self.slides[0]) / FINE).astype(int)
        for name in dict.fromkeys(self.block):
            own = [k for k, other in enumerate(self.block) if other == name]
            if {self.side[k] for k in own} == {-1, 1}:
                sides = [
                    np.mean([self.table[k] for k in own if self.side[k] == side], axis=0)[steps] for side in (-1, 1)
                ]
                fit = np.mean(sides, axis=0)
                if fit.max() > fit[MOST_ASIDE] + CLEARLY_BETTER:
                    found.append(name)
        return found

    def share(self, blocks: list[MarksBlock]) -> float:
        """Of the rows of some blocks, one at least, those whose ends these are: of the others gaps tell whole columns."""
        rows = [(block.id in self.block, -(-block.nozzles // block.columns)) for block in blocks]
        return sum(count for own, count in rows if own) / sum(count for _, count in rows)

    def without(self, blocks: set[str]) -> "Ends":
        """Those of all other blocks."""
        kept = [k for k, name in enumerate(self.block) if name not in blocks]
        weight = self.weight[kept] / (float(self.weight[kept].sum()) or 1.0)
        names, sides = tuple(self.block[k] for k in kept), tuple(self.side[k] for k in kept)
        return Ends(
            self.table[kept], self.slides, weight, self.at[kept], self.columns[kept], names, sides, self.gaps_show
        )

    def score(self, slips: Floats, column: float | None = None) -> Floats:
        """The fit of all ends (n,) for slips (k, n), the first k terms of a smooth warp over the sheet, in columns of so many mm along travel.

        Those of `column` where none is given; zero where there are no ends to see.
        """
        if not len(self.table):
            return np.zeros(slips.shape[1])
        basis = warp_terms(self.at + 1, (2.0, 2.0))[:, : len(slips)]
        own = (self.column[0] if column is None else column) / self.columns[:, :1]
        return _fits(self.table, self.weight, basis @ slips * own, float(self.slides[0]))


@compiled
def _fits(table: Floats, weight: Floats, slips: Floats, first: float) -> Floats:
    """The weighted sum (n,) of what a table (groups, slides) says of each group's slips (groups, n).

    first : the table's first slide, columns
    """
    groups, last = table.shape[0], table.shape[1] - 1
    fits = np.zeros(slips.shape[1])
    for g in range(groups):
        for j in range(len(fits)):
            at = min(max(np.rint((slips[g, j] - first) / FINE), 0.0), float(last))
            fits[j] += table[g, int(at)] * weight[g]
    return fits


def narrow(block: MarksBlock, scale: float) -> bool:
    """Whether gaps along travel are so narrow, at `scale` pixels a mm, that they hardly tell where a row lies."""
    return clear_width(block) < max(NARROW_PX / scale, NARROW_SHARE * abs(block.column_pitch[0]))


def ends_of(place: Place, blocks: list[MarksBlock], layout: Layout, near: NDArray[np.uint8], fit: Fit) -> Ends:
    """The ends of all rows whose gaps hardly show; `place` leads from sheet mm to pixels of `near`."""
    middle = np.array(layout.size) / 2
    scale = float(np.linalg.norm(np.diff(place(np.array([middle, middle + (1.0, 0.0)])), axis=0)))
    scores, weights, middles, columns, names = [], [], [], [], []
    gaps_show = True
    for k, block in enumerate(blocks):
        if not fit.printing[k] or min(block.columns, block.nozzles) <= ALONG_FROM or not narrow(block, scale):
            continue
        gaps_show &= clear_width(block) * scale >= NARROW_PX
        rows = -(-block.nozzles // block.columns)
        halves = [(0, (rows + 1) // 2), ((rows + 1) // 2, rows)] if rows >= SPLIT_FROM else [(0, rows)]
        for half in halves:
            for side in (-1, 1):
                values = _ends(place, block, layout, near, (fit.low[k], fit.high[k]), half, side)
                if values is not None:
                    column = 0 if side < 0 else block.columns - 1
                    scores.append(values)
                    weights.append(float(half[1] - half[0]))
                    names.append((block.id, side))
                    columns.append(block.column_pitch)
                    middles.append(
                        _places(block, np.array([[column, (half[0] + half[1] - 1) / 2]]))[0] / np.array(layout.size) * 2
                        - 1
                    )
    return Ends(
        np.array(scores).reshape(-1, len(SLIDES)), SLIDES, np.array(weights) / (sum(weights) or 1.0), np.array(middles).reshape(-1, 2),
        np.array(columns).reshape(-1, 2), tuple(name for name, _ in names), tuple(side for _, side in names), gaps_show,
    )  # fmt: skip


def _places(block: MarksBlock, cells: Floats) -> Floats:
    """Places (n, 2) mm of cells (n, 2) of a block's lattice, column and row."""
    return np.asarray(np.array(block.origin) + cells @ np.array([block.column_pitch, block.row_pitch]))


def find_slip(ends: Ends) -> Slip:
    """The slip that sets the ends of all rows best."""
    steps = np.arange(-FURTHEST, FURTHEST + FINE / 2, FINE)
    tried = np.stack([v.ravel() for v in np.meshgrid(steps, TILTS, TILTS, indexing="ij")])
    # Among slips that fit alike the smallest is taken.
    total = ends.score(tried) - 0.01 * np.abs(tried).sum(axis=0)
    best = int(total.argmax())
    middle, right, down = (float(v) for v in tried[:, best])
    none = float(ends.score(np.zeros((3, 1)))[0])
    return Slip(middle, right, down, float(total[best]) - none, float(total[best]))


@dataclass(frozen=True)
class _Cells:
    """Cells of a block's lattice, those inside rows' ends and those beyond them, and where ink is looked up for them at every slide.

    Whole columns are whole steps of a slide, so each row is looked up once, at every such step.

    nodes : (rows, columns, 2) mm, a column apart along the rows that cells stand on, from the first slide of the first cell on
    count : fine steps along each row from the first of them
    row, step : (n,) of each cell, its place among the rows and its fine steps at the first slide; inside : how many of them are inside
    """

    nodes: Floats
    count: int
    row: NDArray[np.int64]
    step: NDArray[np.int64]
    inside: int

    @classmethod
    def of(cls, block: MarksBlock, inside: Floats, beyond: Floats, down: float = 0.0) -> "_Cells":
        """Of cells (n, 2) and (m, 2), column and row, looked up so many rows further down."""
        columns, rows = np.concatenate([inside, beyond]).T
        own, row = np.unique(rows, return_inverse=True)
        steps = np.rint((columns - columns.min()) / FINE).astype(np.int64)
        count = int(steps.max()) + len(SLIDES)
        # No lens bends a column: places are worked out once a column and straight between.
        along = columns.min() + SLIDES[0] + np.arange(-(-count // round(1 / FINE)) + 1)
        nodes = _places(block, np.stack(np.meshgrid(along, own + down), axis=-1).reshape(-1, 2))
        return cls(nodes.reshape(len(own), -1, 2), count, row, steps, len(inside))


@lru_cache(maxsize=1024)
def _cells_at(block: MarksBlock, layout: Layout, part: tuple[int, int], side: int) -> tuple[_Cells, _Cells] | None:
    """Cells inside and beyond the left (side -1) or right ends of rows from one to another, and the places half a row below those beyond.

    None where another block stands so near that nothing beyond them should be bare.
    """
    rows = np.arange(*part)
    columns = min(block.columns, block.nozzles)
    last = np.minimum(columns, block.nozzles - rows * block.columns) - 1
    end = np.zeros(len(rows), np.int64) if side < 0 else last
    inside, beyond = (
        np.stack(np.broadcast_arrays(end[:, None] + side * steps, rows[:, None]), axis=-1).reshape(-1, 2).astype(float)
        for steps in (-np.arange(min(LOOKED_AT, columns)), np.arange(1, LOOKED_AT + 1))
    )
    free = beyond[~on_boxes(_places(block, beyond), boxes_besides(block, layout), block.mark[0] / 2)]
    if len(free) < LEAST_FREE * len(beyond):
        return None
    return _Cells.of(block, inside, free), _Cells.of(block, free[:0], free, 0.5)


def _ends(
    place: Place, block: MarksBlock, layout: Layout, near: NDArray[np.uint8], level: tuple[float, float], part: tuple[int, int], side: int
) -> Floats | None:  # fmt: skip
    """Ink inside the left (side -1) or right ends of rows from one to another less ink beyond them, -1..1, for every slide (n,).

    None where another block stands so near that nothing beyond them should be bare.
    """
    cells = _cells_at(block, layout, part, side)
    if cells is None:
        return None
    within, out = _inked(place, cells[0], near, level)
    if block.nozzles > block.columns:  # a frame beside the pattern has ink between the rows as well; marks have not
        out = np.maximum(out - _inked(place, cells[1], near, level)[1], 0)
    return within - out


def _inked(place: Place, cells: _Cells, near: NDArray[np.uint8], level: tuple[float, float]) -> tuple[Floats, Floats]:
    """Mean ink, 0..1 of a mark's, of cells inside rows' ends and of those beyond them, for every slide (n,) each."""
    nodes = place(cells.nodes.reshape(-1, 2)).reshape(cells.nodes.shape)
    return _means(_ink_between(in_rows(nodes), cells.count, near, *level), cells.row, cells.step, cells.inside, len(SLIDES))  # fmt: skip


@compiled
def _means(
    table: Floats, row: NDArray[np.int64], step: NDArray[np.int64], inside: int, count: int
) -> tuple[Floats, Floats]:
    """A table's (rows, steps) mean at the first cells, and at the others, for every slide (count,); of each cell its row and step (n,)."""
    means = np.zeros((2, count))
    for part, first, last in ((0, 0, inside), (1, inside, len(row))):
        for cell in range(first, last):
            for k in range(count):
                means[part, k] += table[row[cell], step[cell] + k]
        for k in range(count):
            means[part, k] /= max(last - first, 1)
    return means[0], means[1]


@compiled
def _ink_between(nodes: Floats, count: int, near: NDArray[np.uint8], low: float, high: float) -> Floats:
    """Ink (rows, count), `low` to `high` of the map as 0 to 1, at fine steps between nodes (rows, n, 2); none off the map."""
    height, width = near.shape
    fine = round(1 / FINE)
    ink = np.zeros((len(nodes), count))
    for r in range(len(nodes)):
        for k in range(count):
            share, c = (k % fine) * FINE, k // fine
            x = np.rint(nodes[r, c, 0] * (1 - share) + nodes[r, c + 1, 0] * share)
            y = np.rint(nodes[r, c, 1] * (1 - share) + nodes[r, c + 1, 1] * share)
            if x >= 0 and y >= 0 and x < width and y < height:
                ink[r, k] = min(max((near[int(y), int(x)] - low) / (high - low), 0.0), 1.0)
    return ink


def slipped(registration: Registration, slip: Slip, column: Floats, size: tuple[float, float]) -> Registration:
    """The registration with the sheet slid along its rows: p goes where p + slip(p) columns went."""
    shear = np.eye(3)
    shear[:2, 0] += column * slip.right * 2 / size[0]
    shear[:2, 1] += column * slip.down * 2 / size[1]
    shear[:2, 2] += column * (slip.middle - slip.right - slip.down)
    homography = registration.homography @ shear
    return Registration(homography / homography[2, 2], registration.warp, registration.size, registration.origin)
