"""Ink beside a place told on the full photo: marks that go on there, for the lattice lies aside, from words and numbers.

On a map of the photo bars of numerals look like marks. Measured as the block's own marks are, hardly any stands where a mark would, as
long and as dark as one. At the bad end 7 of 825 sides of blocks that lie right, numbers above the columns of all, show `LIKE_OWN` or more,
and of 785 that lie a step aside all but 23.
"""

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import (
    Backing,
    Clear,
    Layout,
    MarksBlock,
    boxes_besides,
    clear_of,
    mark_centres,
    marks_over,
    on_boxes,
)
from dusky_sieve.core.reading.beyond import LEAST_OF_SIDE, beyond_sides
from dusky_sieve.core.reading.ends import narrow
from dusky_sieve.core.reading.measure import Expected, MarkMeasures
from dusky_sieve.core.reading.refine import measured_closely
from dusky_sieve.core.reading.registration import Registration

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]
Step = tuple[float, float]

LIKE_OWN = 0.4  # of the share of a block's own marks that are good, that must be good beyond a side for its marks to go on there
# The same where the outermost row or column at the opposite side is bare paper: of a row of four one mark that stood there told so.
LIKE_OWN_OF_FEW = 0.15
OWN_TELL = 0.2  # of a block's own marks, that must be good for those beyond to be held against them
SURELY_MORE = 1.6  # of the typical mark's ink, above which it is a letter's
MOST_ROWS = 0.5  # of a block's rows, more than which must end where it does
# Of the typical mark's ink, from which one stands at a row's end: what a shadow or the rim leaves of it.
HALF_A_MARK = 0.5
BARE = 0.1  # of it, under which there is none
ROWS, COLUMNS = ("top", "bottom"), ("left", "right")  # the sides at which a place a row, a column aside has other marks
MOST_ROWS_ASIDE = 6  # rows of a block that are looked at one by one
# Of an outermost row's or column's marks, up to which these are good where the block may lie a step aside.
HARDLY_ANY = 0.2


@dataclass(frozen=True)
class _Side:
    """A block with a row or a column more at one side, which of all those marks (n,) these are, and the step (x, y) mm to them.

    first, last : (m,) of the block's own marks, the outermost at this side and at the opposite one
    """

    name: str
    block: MarksBlock
    more: Bools
    step: Step
    first: Bools
    last: Bools


def going_on(
    photo: Photo, layout: Layout, backing: Backing, names: set[str], registration: Registration, expected: Expected
) -> tuple[set[str], dict[str, Step]]:  # fmt: skip
    """Of the names of blocks, and of sides of single marks (see `beyond`), those where marks go on, or nothing tells; and by block the step (mm) to them."""
    blocks = marks_over(layout, backing)
    seen: dict[tuple[str, str], list[tuple[Bools, float, str, Step]]] = defaultdict(list)
    for block, clear in zip(blocks, clear_of(blocks), strict=True):
        free = beyond_sides(block, layout)
        for side in _sides(block):
            name = block.id if len(free[side.name]) >= LEAST_OF_SIDE else f"all {side.name}"
            if name in names:
                marks = measured_closely(photo, side.block, registration, backing, expected=expected, clear=clear)
                seen[name, side.name].append((*_beyond(marks, block, side, layout), block.id, side.step))
    marks_there: dict[str, bool] = {}
    steps: dict[str, Step] = {}
    for (name, _), parts in seen.items():
        good, own = np.concatenate([part[0] for part in parts]), float(np.mean([part[1] for part in parts]))
        if (told := _told(good, own)) is not None:
            marks_there[name] = marks_there.get(name, False) or told
            steps |= {block: step for *_, block, step in parts} if told else {}
    return {name for name in names if marks_there.get(name, True)}, steps


def moved_on(
    photo: Photo, layout: Layout, block: MarksBlock, marks: MarkMeasures, registration: Registration, backing: Backing, expected: Expected, clear: Clear
) -> bool:  # fmt: skip
    """Whether a block's outermost row or column hardly printed, if at all, and one more stands beyond the opposite side: it lies a step aside."""
    good = _good(marks, block)
    for side in _sides(block) if marks.printing >= OWN_TELL else ():
        last = side.last & ~marks.outside  # what letters cover there is no good mark either
        least = min(LEAST_OF_SIDE, int(side.more.sum()))  # a single column has one mark at its ends
        if last.sum() >= least and good[last].mean() <= HARDLY_ANY:
            more = measured_closely(photo, side.block, registration, backing, expected=expected, clear=clear)
            bare = marks.ink[last] < BARE  # and no rule
            if _told(*_beyond(more, block, side, layout), least, LIKE_OWN_OF_FEW if bare.all() else LIKE_OWN):
                return True
            # Where the lattice slips from row to row few at that side are good either, and what stands beyond may be one more.
            slips = good[side.first].mean() < MOST_ROWS and _mostly_inked(marks.ink[side.first])
            if slips and bare.mean() > 1 - HARDLY_ANY and _mostly_inked(more.ink[side.more]):
                return True
    return False


def lying_aside(
    photo: Photo, layout: Layout, block: MarksBlock, marks: MarkMeasures, registration: Registration, backing: Backing, expected: Expected, clear: Clear
) -> Bools:  # fmt: skip
    """Marks (n,) that lie a lattice step aside: all of a block, or those of single rows."""
    if moved_on(photo, layout, block, marks, registration, backing, expected, clear):
        return np.ones(block.nozzles, bool)
    return rows_aside(photo, layout, block, marks, registration, backing, expected, clear)


def rows_aside(
    photo: Photo, layout: Layout, block: MarksBlock, marks: MarkMeasures, registration: Registration, backing: Backing, expected: Expected, clear: Clear
) -> Bools:  # fmt: skip
    """Marks (n,) of single rows, gaps narrow, that show nothing at one end while one more stands beyond the other: such a row lies a column aside."""
    found = np.zeros(block.nozzles, bool)
    if marks.printing < OWN_TELL or not narrow(block, registration.px_per_mm(np.array(block.origin))):
        return found
    there, bare = _stands(marks, block), marks.judged & (marks.ink < BARE)
    rows = np.array_split(np.arange(block.nozzles), np.arange(block.columns, block.nozzles, block.columns))
    rows = [row for row in rows if len(row) >= LEAST_OF_SIDE and (bare[row[[0, -1]]] & there[row[[-1, 0]]]).any()]
    for row in rows if len(rows) <= MOST_ROWS_ASIDE else ():  # of many the whole block is asked
        longer = _row_and_more(block, int(row[0]), len(row))
        end = -1 if bare[row[0]] else 0
        seen = measured_closely(photo, longer, registration, backing, expected=expected, clear=clear)
        place = mark_centres(longer)[[end]]
        taken = on_boxes(place, boxes_besides(block, layout), 0.5 * block.mark[0])
        found[row] = bool(_stands(seen, longer)[end] and not taken[0])
    return found


def _row_and_more(block: MarksBlock, first: int, count: int) -> MarksBlock:
    """The row that begins with the mark `first`, with a column more at either end."""
    origin = mark_centres(block)[first] - block.column_pitch
    return block.model_copy(
        update={"origin": (float(origin[0]), float(origin[1])), "nozzles": count + 2, "columns": count + 2}
    )


def _mostly_inked(ink: Floats) -> bool:
    """Whether most of some marks (n,) have about a mark's ink, wherever it stands."""
    return bool(((ink > HALF_A_MARK) & (ink < SURELY_MORE)).mean() > MOST_ROWS)


def measured_lead(
    photo: Photo, layout: Layout, backing: Backing, ways: tuple[str, str], registration: Registration, expected: Expected
) -> int:  # fmt: skip
    """Marks fewer with all blocks a lattice step aside to either of two sides, whichever has more: what a map hardly shows is measured."""
    fewer: Counter[str] = Counter()
    blocks = marks_over(layout, backing)
    for block, clear in zip(blocks, clear_of(blocks), strict=True):
        fewer.update(_fewer(photo, block, clear, ways, registration, backing, expected))
    return min(fewer.values(), default=0)


def columns_told(
    photo: Photo, layout: Layout, backing: Backing, names: set[str], registration: Registration, expected: Expected
) -> set[str]:
    """Of the names of blocks those of which most rows have a mark fewer a column aside either way, measured likewise."""
    if not names:
        return set()  # nothing is measured for it
    told, blocks = set(), marks_over(layout, backing)
    for block, clear in zip(blocks, clear_of(blocks), strict=True):
        if block.id in names:
            fewer = _fewer(photo, block, clear, COLUMNS, registration, backing, expected)
            if min(fewer.values(), default=0) > MOST_ROWS * block.nozzles / block.columns:
                told.add(block.id)
    return told


def _fewer(
    photo: Photo, block: MarksBlock, clear: Clear, ways: tuple[str, str], registration: Registration, backing: Backing, expected: Expected
) -> Counter[str]:  # fmt: skip
    """Marks fewer with a block a lattice step aside, to each of two sides: of those that it would lose, less those that stand beyond."""

    def there(seen: MarksBlock) -> Bools:
        marks = measured_closely(photo, seen, registration, backing, expected=expected, clear=clear)
        shown = marks.judged & ~marks.cut & (marks.printing >= OWN_TELL)
        return shown & (marks.ink > HALF_A_MARK) & _in_place(marks, block)

    sides = [side for side in _sides(block) if side.name in ways]
    own = there(block) if sides else np.zeros(0, bool)  # a single row has none above
    return Counter({side.name: int(own[side.last].sum()) - int(there(side.block)[side.more].sum()) for side in sides})


def _good(marks: MarkMeasures, block: MarksBlock) -> Bools:
    """Which marks (n,) stand in their places, as long and as dark as a mark."""
    return marks.solid & _in_place(marks, block)


def _stands(marks: MarkMeasures, block: MarksBlock) -> Bools:
    """Which marks (n,) stand in their places, whatever lies over them."""
    return (marks.ink > HALF_A_MARK) & _in_place(marks, block)


def _in_place(marks: MarkMeasures, block: MarksBlock) -> Bools:
    """Which marks (n,), whole ones or not, are none of letters and stand where those of the block as a whole put them."""
    shift = np.median(marks.offset[marks.solid, 1]) if marks.solid.any() else 0.0
    return (marks.ink < SURELY_MORE) & (np.abs(marks.offset[:, 1] - shift) < 0.5 * block.nozzle_pitch)


def _beyond(marks: MarkMeasures, block: MarksBlock, side: _Side, layout: Layout) -> tuple[Bools, float]:
    """Of a side's places on the photo where no other block stands (n,), which have a good mark; and what share of the block's own is good."""
    free = ~on_boxes(mark_centres(side.block), boxes_besides(block, layout), 0.5 * block.mark[0])
    good = _good(marks, block)
    return good[side.more & free & ~marks.outside], float(good[~side.more].mean())


def _told(good: Bools, own: float, least: int = LEAST_OF_SIDE, like_own: float = LIKE_OWN) -> bool | None:
    """Whether marks go on at places, of which `good` (n,) have a good one; None where under `least` places or the block's own marks tell nothing."""
    return bool(good.mean() >= like_own * own) if len(good) >= least and own >= OWN_TELL else None


def _sides(block: MarksBlock) -> Iterator[_Side]:
    """A block with one row more above and below, where it has several, and one column more to the left and right of its full rows."""
    n, columns = block.nozzles, min(block.columns, block.nozzles)
    origin, column, row = (np.array(v) for v in (block.origin, block.column_pitch, block.row_pitch))

    def wider(start: Floats, count: int, wide: int) -> MarksBlock:
        return block.model_copy(
            update={"origin": (float(start[0]), float(start[1])), "nozzles": count, "columns": wide}
        )

    if n > columns:
        at = np.arange(n + columns)
        top, bottom = at[:n] < columns, at[:n] >= n - columns
        yield _Side("top", wider(origin - row, n + columns, columns), at < columns, _step(-row), top, bottom)
        yield _Side("bottom", wider(origin, n + columns, columns), at >= n, _step(row), bottom, top)
    if columns > 1:
        wide, count = columns + 1, (n // columns) * (columns + 1)
        at = np.arange(count) % wide
        left, right = np.arange(n) % columns == 0, np.arange(n) % columns == columns - 1
        yield _Side("left", wider(origin - column, count, wide), at == 0, _step(-column), left, right)
        yield _Side("right", wider(origin, count, wide), at == columns, _step(column), right, left)


def _step(step: Floats) -> Step:
    return float(step[0]), float(step[1])
