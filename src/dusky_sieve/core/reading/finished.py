"""A finished registration held once more against the ink map and the strokes that it was found on."""

from functools import cached_property

import cv2
import numpy as np
from numpy.typing import ArrayLike, NDArray

from dusky_sieve.core.layout import MarksBlock, extent, mark_centres, marks_over
from dusky_sieve.core.reading.beyond import beyond, sparse_aside
from dusky_sieve.core.reading.ends import Ends
from dusky_sieve.core.reading.laying import CLEARLY_FOUND
from dusky_sieve.core.reading.locate import FOUND_FROM, Locator
from dusky_sieve.core.reading.registration import Registration, project
from dusky_sieve.core.reading.stray import beside_lattice, between_places, on_lattice, overlooked, stray_blocks

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

# Marks fewer a step aside: one that printed at the very side makes 1, and where none did it is 0.1 at most.
STEPS_LEAD = 0.7
# And of each mark that the outermost rows or columns have: so much ink letters, a frame or the paper feign there (0.043 was seen), and where
# it leads by no more, what stands there is measured on the photo.
OF_EACH = 0.06
# The same of a sheet of so few rows, under which it is looked on: words beside two of them make as much ink.
SMALL_ROWS, SMALL_LEAD = 8, 1.2
# Degrees from straight above from which such a sheet must lead by more: words beside rows lead to 34.5 to 37 by 0.9 to 2.3, while the
# steepest such sheet on 316 photos of the bad end, tilted by up to 30, came out at 35.4 and led by 4.
SMALL_STEEPEST_DEG, STEEP_LEAD = 34.0, 3.0
FAR_ASIDE = (-2, -1, 1, 2)  # columns by which it is held against itself
FEW_ROWS = 4  # that print, up to which each is followed along itself with hardly anything to hold it
AS_FAR = 1.1  # times as far from the nearest of others as these are apart, that a row may be which they lead
LED = 0.3  # of a column, from where others lead it, within which a row lies that one of its ends does not tell
LEAD_ALONE = 2.0  # the same where rows' ends should tell, and too few of them printed


class Finished:
    """A registration of the whole sheet on the photo. `blocks` are all of its backing, `printing` those that show ink."""

    def __init__(self, at: Locator, registration: Registration) -> None:
        self.at = at
        self.mapped = at.of_photo(registration)  # of the marks' box on the ink map
        self.place = self.mapped.to_photo
        self.fit = at.judge(self.place)
        self.alone = at.alone.judged(self.mapped, self.fit)  # by ink that is like marks
        small = at.map.from_photo @ registration.homography
        self.whole = Registration(small, registration.warp, registration.size, registration.origin)
        self.blocks = marks_over(at.whole, at.backing)
        self.printing = [b for b, shown in zip(self.blocks, self.fit.printing, strict=True) if shown]

    @cached_property
    def rows(self) -> int:
        """Rows of all blocks that show ink."""
        return sum(-(-b.nozzles // b.columns) for b in self.printing)

    @cached_property
    def ends(self) -> Ends:
        """How well the rows' ends fit."""
        return self.at.ends_at(self.mapped, self.fit)

    def stray(self, printing: list[MarksBlock]) -> list[str]:
        """Blocks beside whose lattice many strokes stand."""
        return stray_blocks(self.at.strokes, self.whole, self.blocks, {b.id for b in printing})

    def between_places(self, printing: list[MarksBlock]) -> dict[str, Bools]:
        """Marks (n,) of blocks (ids) next to strokes that stand between two places of their row."""
        return between_places(self.at.strokes, self.whole, printing)

    @cached_property
    def lead(self) -> float:
        """Marks explained more than a column or two aside; of a sheet of which little printed, than any lattice step aside."""
        wide = [b for b in self.at.blocks if b.columns > 1]
        columns = sorted({b.column_pitch for b in wide if not self._steps_alone(b)})
        along = [np.multiply(k, pitch) for pitch in columns for k in FAR_ASIDE]
        if len({b.column_pitch for b in wide}) < 2:
            return self._lead_over([*self.at.steps] if self.fit.there < FOUND_FROM else along)
        # A step along one block's columns is none along another's, which is moved by as many of its own as are nearest to it.
        moved = [(k, b) for k, b in enumerate(self.at.blocks) if self.fit.printing[k] and b.columns > 1]
        own = [self._along(k, np.rint([step[0] / b.column_pitch[0] for step in along])) for k, b in moved]
        lead = [float(np.sum(own, axis=0).min())] if own else []
        if self.fit.there < FOUND_FROM or not own:
            lead.append(self._lead_over([*self.at.steps]))
        return min(lead)

    def row_told(self) -> bool:
        """Whether a place a row aside explains surely fewer marks: where nothing of the first or the last row printed, both fit alike."""
        rows = [b for b in self.printing if b.nozzles > b.columns]
        steps = [np.multiply(k, pitch) for pitch in sorted({b.row_pitch for b in rows}) for k in (-1, 1)]
        return not steps or self._lead_over(steps) >= STEPS_LEAD + OF_EACH * sum(b.columns for b in rows)

    def _lead_over(self, steps: list[Floats]) -> float:
        """Marks explained more than with the sheet moved by any of some steps (2,) mm."""
        judge, fit = self.alone
        here, *aside = judge.quick(self.place, np.array([(0.0, 0.0), *steps]), fit)
        return float(here - max(aside, default=0.0))

    @cached_property
    def on_lattice(self) -> bool:
        """Whether strokes stand on its lattice as they would not by chance."""
        return on_lattice(beside_lattice(self.at.strokes, self.whole, self.blocks))

    def steps_told(self) -> bool:
        """Whether it explains surely more than a place a column or, where little printed, a row aside."""
        rim = sum(-(-b.nozzles // b.columns) for b in self.printing if b.columns > 1)
        return self.lead >= STEPS_LEAD + OF_EACH * rim

    def steps_tied(self) -> bool:
        """Whether no place a column or a row aside explains clearly more."""
        return self.lead >= -STEPS_LEAD

    def clearly_found(self) -> bool:
        """Whether most of it printed where it should."""
        return self.fit.there >= CLEARLY_FOUND

    def surely_told(self) -> bool:
        """Whether words beside a sheet of few rows cannot be what tells it from a place a column or a row aside."""
        return self.rows > SMALL_ROWS or self.lead >= SMALL_LEAD

    def too_steep(self, angle_deg: float) -> bool:
        """Whether a sheet of so few rows lies on the photo as if it were seen from further aside than photos are taken, and not surely so."""
        return self.rows <= SMALL_ROWS and angle_deg > SMALL_STEEPEST_DEG and self.lead < STEEP_LEAD

    def explains_little(self) -> bool:
        """Whether it explains less, laid onto its marks, than a place must to be found: another sheet's marks lead on to none of its own."""
        return self.fit.there < FOUND_FROM and not self.on_lattice

    def told_alone(self) -> bool:
        """Whether marks that stand alone tell whole columns: nearly all on the lattice, and some at its very sides."""
        return self.lead > LEAD_ALONE and self.on_lattice

    def slidable(self) -> set[str]:
        """Blocks that show as much a column or two aside and that nothing else holds, of a sheet of so few rows or far from all others that print.

        And those that show clearly more there, whose columns are none of the others'.
        """
        found: set[str] = set()
        tied: list[MarksBlock] = []
        for k, block in enumerate(self.at.blocks):
            if not self.fit.printing[k] or block.columns == 1:
                continue
            held = self.rows > FEW_ROWS and not self._far_off(self.blocks[k])
            if held and not self._steps_alone(block):
                continue
            least = self._along(k, FAR_ASIDE).min()
            if least < (-STEPS_LEAD if held else STEPS_LEAD):
                found.add(block.id)
                tied += [block] if least >= -STEPS_LEAD else []
        shown = [b for b, prints in zip(self.at.blocks, self.fit.printing, strict=True) if prints and b.columns > 1]
        told = [b for b in shown if b.id not in found]
        while led := [b for b in tied if self._led(b, told)]:
            tied = [b for b in tied if b not in led]
            told += led
        return found - {b.id for b in told}

    def _led(self, block: MarksBlock, others: list[MarksBlock]) -> bool:
        """Whether a block lies where two others at least, no further off than these are apart, lead it by a homography."""
        heights = [mark_centres(b)[:, 1].mean() for b in others]
        own = mark_centres(block)
        if not others or np.abs(np.subtract(heights, own[:, 1].mean())).min() >= AS_FAR * np.ptp(heights):
            return False
        known = np.concatenate([mark_centres(b) for b in others])
        plane, _ = cv2.findHomography(known, self.place(known))
        if plane is None:
            return False
        there = self.place(own)
        column = self.place(own + block.column_pitch) - there
        off = ((project(np.asarray(plane, np.float64), own) - there) * column).sum(axis=1) / (column**2).sum(axis=1)
        return bool(np.abs(off).max() < LED)

    def _along(self, k: int, columns: ArrayLike) -> Floats:
        """Of block k the ink of its marks less than with it moved by so many of its columns (m,), in marks."""
        judge, fit = self.alone
        block = self.at.blocks[k]
        steps = np.multiply.outer(np.append(0.0, columns), block.column_pitch)
        spots = self.place((mark_centres(block) + steps[:, None]).reshape(-1, 2))
        ink = np.nan_to_num(judge.ink_of(spots, fit, np.full(len(spots), k))).reshape(len(steps), -1).sum(axis=1)
        return np.asarray(ink[0] - ink[1:])

    def _steps_alone(self, block: MarksBlock) -> bool:
        """Whether a column of a block is none of those of most rows that print: where it lies a column aside they need not."""
        own = abs(block.column_pitch[0])
        rows = [(abs(b.column_pitch[0]) > 2 * own, -(-b.nozzles // b.columns)) for b in self.printing if b.columns > 1]
        return 2 * sum(count for wider, count in rows if wider) > sum(count for _, count in rows)

    def _far_off(self, block: MarksBlock) -> bool:
        """Whether a block lies further from all others that print than it is wide: how the sheet bends there nothing tells but its own marks."""
        left, top, right, bottom = extent(block)
        boxes = (extent(b) for b in self.printing if b.id != block.id)
        apart = (max(x0 - right, left - x1, y0 - bottom, top - y1) for x0, y0, x1, y1 in boxes)
        return min(apart, default=np.inf) > right - left

    def overlooked(self, silent: set[str]) -> set[str]:
        """Blocks of those `silent` in whose box ink stands, and the next ones."""
        return overlooked(self.at.map.ink, self.whole, self.blocks, silent)

    def sparse_aside(self) -> list[str]:
        """Blocks of which few marks print, that may lie one lattice step aside."""
        judge, fit = self.alone
        return sparse_aside(judge, self.place, fit, self.at.layout)

    def ink_beside(self) -> dict[str, float]:
        """Ink one lattice step beyond blocks' sides, as `beyond` has it, by what is like marks where these are seen as such."""
        judge, fit = self.alone
        sides = beyond(judge, self.place, fit, self.at.layout)
        unseen = {b.id for b, own, like in zip(self.blocks, self.fit.printing, fit.printing, strict=True) if own > like}
        if unseen:
            by_all = beyond(self.at.judge, self.place, self.fit, self.at.layout)
            sides |= {name: ink for name, ink in by_all.items() if name in unseen}
        return sides
