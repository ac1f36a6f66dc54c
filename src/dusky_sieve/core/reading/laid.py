"""A place laid onto the marks of the full photo, and whether it is to be believed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Layout, MarksBlock, lattice_middle, marks_over
from dusky_sieve.core.reading.aside import COLUMNS, ROWS, Step, columns_told, going_on, measured_lead
from dusky_sieve.core.reading.ends import find_slip
from dusky_sieve.core.reading.finished import Finished
from dusky_sieve.core.reading.locate import MOST_BEYOND, STEEPEST_DEG, Locator
from dusky_sieve.core.reading.measure import Expected
from dusky_sieve.core.reading.refine import refine
from dusky_sieve.core.reading.registration import Registration, led, moved
from dusky_sieve.core.reading.runs import MOST_STRADDLING, runs_of, slid, straddling

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

MOST_IN_DOUBT = 0.4  # of the blocks that print, beyond which nothing tells where the others are
MOSTLY_DOUBTFUL = 0.4  # of a block's marks, from which the rest of it lies wrongly as well
MOST_STRAY_BLOCKS = 0.4  # of those that print, beside whose lattice strokes stand: beyond it the whole place is wrong
# Of the rows that print, which must have ends that tell, for these to say that the whole place is wrong.
MOST_OF_ROWS = 0.5
MOST_LED = 2  # times that marks which go on beside a place lead it there, a column at a time
MOST_ASIDE = 0.25  # of the blocks that can be told, which may lie a lattice step aside: the others are read


@dataclass(frozen=True)
class Placed:
    """Where the sheet lies, that held against the photo, what its marks look like, and marks (n,) of blocks whose place is in doubt.

    moved : (2,) mm by which blocks (ids) were printed beside where the layout has them, as those of `finished` are
    """

    registration: Registration
    finished: Finished
    expected: Expected
    doubtful: dict[str, Bools]
    moved: dict[str, Floats]

    @property
    def in_doubt(self) -> int:
        """Marks whose place is in doubt."""
        return sum(int(which.sum()) for which in self.doubtful.values())


class _LiesAside(SheetNotFound):
    """The whole place lies beside marks that go on there; `way` is where these lead to."""

    def __init__(self, message: str, way: Registration) -> None:
        super().__init__(message)
        self.way = way


def laid(photo: Photo, registration: Registration, locator: Locator, *, by_hand: bool = False) -> Placed:
    """A place, or the one that marks lead to which go on beside it; raises SheetNotFound where they do not lie as the layout says."""
    best: Placed | None = None
    refused: SheetNotFound | None = None
    way: Registration | None = registration
    for turn in range(MOST_LED + 1):
        if way is None:
            break
        try:
            placed, way = _laid(photo, way, locator, by_hand, again=turn > 0)
        except _LiesAside as aside:
            refused, way = refused or aside, aside.way
        except SheetNotFound as reason:
            refused, way = refused or reason, None
        else:
            if best is None or placed.in_doubt < best.in_doubt:
                best = placed
    if best is None:
        assert refused is not None  # no place without a reason
        raise refused
    return best


def _laid(
    photo: Photo, registration: Registration, locator: Locator, by_hand: bool, *, again: bool = False
) -> tuple[Placed, Registration | None]:
    """The same of a place as it is, and where marks lead to that go on beside it; `again` where it was led there, some of it perhaps not far enough."""
    file, backing = locator.file, locator.backing
    before = Finished(locator, registration)
    blocks, printing = before.blocks, before.printing
    if again or runs_of(printing, registration):
        # Blocks whose gaps show hold what lies beside them: one run's ends say little of all the sheet.
        registration = slid(photo, printing, registration, backing, before.ends)
    registration, expected, moved_blocks = refine(photo, blocks, registration, backing, file)
    if moved_blocks:
        locator = Locator(
            photo, _as_printed(locator.whole, moved_blocks), backing, file, seen=locator.map, within=locator.within
        )
        shown = {b.id for b in printing}
        printing = [b for b in marks_over(locator.whole, backing) if b.id in shown]
    if (steep := registration.angle_deg()) > STEEPEST_DEG or (not by_hand and before.too_steep(steep)):
        raise SheetNotFound(
            f"{file}: a pattern was found, but only as if it were seen from far aside, so its place is in doubt and nothing "
            "was read. Photograph the whole sheet from straight above."
        )
    finished = Finished(locator, registration)
    doubtful, way = _held(photo, finished, registration, expected, printing, by_hand)
    if not by_hand and not _steps_told(photo, finished, registration, expected):
        raise SheetNotFound(
            f"{file}: the sheet was found, but too few marks tell whether it lies a column or a row aside, so "
            "nothing was guessed. Mark its four corners by hand, the top left one first."
        )
    return Placed(registration, finished, expected, doubtful, moved_blocks), way


def _steps_told(photo: Photo, finished: Finished, registration: Registration, expected: Expected) -> bool:
    """Whether it explains clearly more than a place a column or a row aside: by the map, or by what stands at the blocks' sides on the photo."""
    at = finished.at

    def measured(ways: tuple[str, str]) -> bool:
        return measured_lead(photo, at.whole, at.backing, ways, registration, expected) > 0

    columns = finished.steps_told() or (finished.steps_tied() and measured(COLUMNS))
    return columns and (finished.row_told() or measured(ROWS))


def _held(
    photo: Photo, finished: Finished, registration: Registration, expected: Expected, printing: list[MarksBlock], by_hand: bool
) -> tuple[dict[str, Bools], Registration | None]:  # fmt: skip
    """Marks (n,) of blocks (ids) whose place is in doubt, and where marks lead to that go on beside some; raises SheetNotFound where all of it is."""
    at, blocks = finished.at, finished.blocks
    aside, doubtful = straddling(photo, printing, registration, at.backing)
    for name, which in finished.between_places(printing).items():
        doubtful[name] = which | doubtful.get(name, False)
    doubtful = {name: which | (which.mean() > MOSTLY_DOUBTFUL) for name, which in doubtful.items()}
    ends, stray = finished.ends, finished.stray(printing)
    beside, way, all_aside = _beside(photo, finished, registration, expected, printing)
    alone = set() if by_hand else finished.slidable()
    # Of a block that may lie a column aside the ends say nothing of the others, nor do those of a few rows among many.
    sure = ends.without(alone)
    slipped = set(sure.block) if find_slip(sure).moves else set()
    all_slipped = bool(slipped) and sure.share(printing) > MOST_OF_ROWS
    slidable = alone | (set() if all_slipped else slipped)
    untold_alone = slidable - columns_told(photo, at.whole, at.backing, slidable, registration, expected)
    whole = {b.id: np.ones(b.nozzles, bool) for b in blocks}
    for name in {*ends.aside(), *stray, *beside, *finished.sparse_aside(), *untold_alone}:
        doubtful[name] = whole[name]
    # Where one block lies wrongly, or many may, one that seems to print nothing may stand where nothing was looked for.
    if stray or sum(bool(which.all()) for which in doubtful.values()) > MOST_IN_DOUBT * len(printing):
        doubtful |= {b.id: whole[b.id] for b in blocks if b not in printing}
    lost = aside > MOST_STRADDLING or len(stray) > MOST_STRAY_BLOCKS * len(printing)
    # Where gaps are narrow and hardly any ends printed, nothing but a hand can tell whole columns, or marks that stand alone.
    untold = not by_hand and not ends.told and not finished.told_alone()
    wrong = not by_hand and finished.explains_little()
    if all_aside or lost or untold or wrong or all_slipped:
        refused = (
            f"{at.file}: a pattern was found, but ink stands beside it where the layout “{at.whole.name}” has none, so its "
            "place is in doubt and nothing was read. Photograph it flatter and from straight above, or mark its four corners by hand."
        )
        raise SheetNotFound(refused) if way is None else _LiesAside(refused, way)
    return doubtful, way


def _beside(
    photo: Photo, finished: Finished, registration: Registration, expected: Expected, printing: list[MarksBlock]
) -> tuple[set[str], Registration | None, bool]:
    """Blocks (ids) one lattice step beside which marks go on, where these lead to, and whether all of it lies wrongly."""
    at, sides = finished.at, finished.ink_beside()
    inked = {name for name, ink in sides.items() if ink > MOST_BEYOND}
    if not inked:
        return set(), None, False  # nothing is measured for it
    aside, steps = going_on(photo, at.whole, at.backing, inked, registration, expected)
    blocks = aside & {b.id for b in finished.blocks}
    all_aside = aside != blocks or len(aside) > MOST_ASIDE * len(sides)
    if all_aside and len(set(steps.values())) == 1:
        return blocks, moved(registration, next(iter(steps.values()))), True
    return blocks, _stretched(registration, steps, printing) if steps else None, all_aside


def _stretched(registration: Registration, steps: dict[str, Step], printing: list[MarksBlock]) -> Registration:
    """The place moved, turned and stretched as the steps (mm) of blocks (ids) say, those of one side perhaps other than those of the other."""
    middles = np.array([(*lattice_middle(b), 1.0) for b in printing])
    by = np.array([steps.get(b.id, (0.0, 0.0)) for b in printing])
    return led(registration, np.linalg.lstsq(middles, by, rcond=None)[0].T)


def _as_printed(layout: Layout, moved_blocks: dict[str, Floats]) -> Layout:
    """The layout with some blocks (ids) moved by (2,) mm: what is looked for beside them stands where they really lie."""
    blocks = tuple(
        b.model_copy(update={"origin": tuple(np.add(b.origin, moved_blocks[b.id]))}) if b.id in moved_blocks else b
        for b in layout.blocks
    )
    return layout.model_copy(update={"blocks": blocks})
