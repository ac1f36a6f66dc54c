"""Which of the candidate places is the sheet: checked mark by mark, and refused where it is not there."""

from copy import copy
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, marks_over
from dusky_sieve.core.reading.beyond import beyond
from dusky_sieve.core.reading.dots import strokes_of_marks
from dusky_sieve.core.reading.ends import Ends, ends_of, find_slip
from dusky_sieve.core.reading.find import Candidate, Effort, boxed, correlated
from dusky_sieve.core.reading.inkmap import InkMap, ink_map
from dusky_sieve.core.reading.kept import Kept, kept
from dusky_sieve.core.reading.laying import CLEARLY_FOUND, HALF_FOUND, LOOSE, WELL_LAID, Found, Laying
from dusky_sieve.core.reading.registration import Registration, project
from dusky_sieve.core.reading.score import PRINTS_FROM, Fit
from dusky_sieve.core.reading.stray import MOST_STRAY, as_large, beside_lattice, left_out, marks_drawn, on_lattice
from dusky_sieve.core.reading.tilt import Lean, leans
from dusky_sieve.core.reading.votes import voted
from dusky_sieve.core.reading.words import MarksAlone

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]
Corners = tuple[tuple[float, ...], ...]

FOUND_AGAIN = 0.5  # CLEARLY_FOUND where two candidates or looks led to one place: faulty sheets explain no more
BEYOND_HAND = 1.1  # times as far from the middle as the corners set by hand, within which strokes are looked for
LIKELIEST = 1  # candidates of a search that are followed from where they lie as well as from where alignment took them
MOST_LIKELY = 3  # places whose blocks are laid onto others where none is clearly it
FOUND_FROM = 0.42  # share explained of the blocks that show ink, below which nothing on the photo is the sheet
LEAST_MARKS = 8.0  # explained marks, below which the rest is luck
MOST_OFF = 0.2  # of the marks of blocks that print nothing, which may lie off the paper that strokes were looked for on
MOST_LEFT_OUT = 0.25  # strokes like the explained ones, for each of these, that a clear place may leave out; wrong: one
# Of a mark's ink, one lattice step beyond a block's side: the lattice lies aside. Right places show 0.35 at most, nearly all under 0.3.
MOST_BEYOND, HARDLY_BEYOND = 0.45, 0.3
EVEN = 1.15  # times the shortest marks' length, up to which marks of all blocks are taken to be equally long
STEEPEST_DEG = 50.0  # from straight above: beyond it a pattern is squeezed onto others' marks, nobody photographs so
# Strokes that tell whether they stand on a lattice, how much those beside it count against a place, and what fewer make of it.
LEAST_TELLING, BESIDE_COUNTS, HARDLY_TOLD = 12, 0.5, 0.7
# Times the ink of a place's marks, that strokes show elsewhere which are rather the marks; how many, for each that it explains; and
# what it is then worth. White ink on paper takes a tenth of what black does, and a block of it lies as one of black.
FAR_MORE_INK, LEAST_OUTSHINING, OUTSHONE_COUNTS = 3.0, 0.4, 0.3
KEPT, MARKED = 6, 2  # places of which what was worked out is kept, and of which pictures of their marks are


class Locator(Laying):
    """Finds one layout on one photo; keeps what the stages share."""

    def __init__(
        self,
        photo: Photo,
        layout: Layout,
        backing: Backing,
        file: str,
        *,
        seen: InkMap | None = None,
        within: Bytes | None = None,
        around: Corners | None = None,
    ) -> None:
        """`seen` is the photo's ink map where there is one; strokes are looked for `within` a mask of it or `around` corners."""
        self.whole, self.file = layout, file
        # All work is done on the box of the marks judged over this backing: fills and blocks that this photo cannot
        # show would only be bare paper where ink may well lie.
        self.layout, self.corner = boxed(layout, backing)
        ink = seen or ink_map(photo, self.layout, backing)
        self.shape = (ink.ink.shape[0], ink.ink.shape[1])
        self.within = within
        area = within if around is None else self._between(around, ink)
        strokes = strokes_of_marks(ink.ink, marks_over(self.layout, backing), area)
        super().__init__(self.layout, backing, ink, strokes.judged_over(backing))
        self.tried: list[Found] = []
        self.stood: Kept[Bools] = []
        self.marked: Kept[Bytes] = []
        lengths = [b.mark[0] for b in self.blocks]
        self.even = max(lengths) < EVEN * min(lengths)
        self.alone = MarksAlone(self.map, self.judge, self.blocks, self.clear_mm)

    @staticmethod
    def _between(corners: Corners, ink: InkMap) -> Bytes:
        """Mask of the map, 255 between four corners on the photo and a little beyond them."""
        points = project(ink.from_photo, np.array(corners, np.float64))
        middle = points.mean(axis=0)
        wider = np.rint(middle + BEYOND_HAND * (points - middle)).astype(np.int32)
        return np.asarray(cv2.fillConvexPoly(np.zeros_like(ink.ink), cv2.convexHull(wider), (255,)), np.uint8)

    def among_darker(self, found: Found) -> "Locator":
        """The same that looks among strokes alone that show far more ink than a place which these outshine."""
        other = copy(self)
        other.strokes = self.strokes.inked(FAR_MORE_INK * self._level(found))
        other.lines, other.distance, other.led, other.tried, other.stood = None, None, [], [], []
        return other

    def search(self, effort: Effort) -> tuple[Found | None, list[Candidate]]:
        """The best place found by one effort, and the last places that were tried."""
        ways = leans(self.strokes, self.shape, effort.directions, effort.faint_peak, even=self.even, lens=self.map.lens)
        best: Found | None = None
        candidates: list[Candidate] = []
        # The direction that most strokes share is nearly always the marks' own: it is tried alone before the others.
        for some, votes in ((ways[:1], False), (ways[:1], True), (ways[1:], False)):
            if best is None or not (self.clear(best) or best.agreed):
                further = self._candidates(some, effort, votes=votes)
                best = self._best(further, best)
                candidates = further or candidates
        if best is not None and HALF_FOUND <= best.fit.there < FOUND_AGAIN and WELL_LAID <= best.fit.spill < LOOSE:
            best = replace(self.picked_again(best), again=best.again)  # of the others that was left out
        return best, candidates

    def _candidates(self, ways: list[Lean], effort: Effort, *, votes: bool) -> list[Candidate]:
        """Candidates by how many strokes stand on the lattice, or by how the ink of strokes is spread."""
        if not votes:
            return correlated(self.strokes, ways, self.marks, self.layout, self.shape, effort, max(self.whole.size))
        if effort.every_scale or effort.parts:  # the same strokes have voted before
            return []
        most, own = effort.candidates, (self.marks, self.layout, self.blocks)
        return [place for way in ways for place in voted(self.strokes, way, *own, most)]

    def ends_at(self, registration: Registration, fit: Fit) -> Ends:
        """How well the rows' ends fit about a place that fits so."""
        judge, like = self.alone.judged(registration, fit)
        return ends_of(registration.to_photo, self.blocks, self.layout, judge.near, like)

    def whole_sheet(self, registration: Registration) -> Registration:
        """The registration of the whole sheet on the photo, from the one of the marks' box on the ink map."""
        back = np.array([[1, 0, -self.corner[0]], [0, 1, -self.corner[1]], [0, 0, 1.0]])
        full = np.linalg.inv(self.map.from_photo) @ registration.homography @ back
        return Registration(full / full[2, 2], registration.warp, registration.size, self.corner)

    def of_photo(self, registration: Registration) -> Registration:
        """The registration of the marks' box on the ink map, from one of the whole sheet on the photo; see whole_sheet."""
        forth = np.array([[1, 0, self.corner[0]], [0, 1, self.corner[1]], [0, 0, 1.0]])
        small = self.map.from_photo @ registration.homography @ forth
        return Registration(small / small[2, 2], registration.warp, registration.size)

    def on_lattice(self, found: Found) -> bool:
        """Whether strokes stand on a place's lattice as they would not by chance, though many of its marks are missing."""
        return on_lattice(self._beside(found.registration))

    def explains(self, found: Found) -> float:
        """Marks that a place explains; where it is not clearly it the less, the more ink and strokes stand beside its lattice."""
        if self.outshone(found):
            return OUTSHONE_COUNTS * found.fit.explained
        if found.fit.there > CLEARLY_FOUND:
            return found.fit.explained
        beside = self._beside(found.registration)
        on = 1 - BESIDE_COUNTS * float(beside.mean()) if len(beside) >= LEAST_TELLING else HARDLY_TOLD
        return found.fit.explained * on * max(0.0, 1 - found.fit.spill)

    def outshone(self, found: Found) -> bool:
        """Whether many strokes as marks are, elsewhere, show far more ink than all it explains: traces of another ink, or of a print on the back."""
        if found.fit.there < HALF_FOUND or not found.like.any():
            return False
        least = LEAST_OUTSHINING * found.fit.explained
        far_more = found.lean.follows & (self.strokes.ink > FAR_MORE_INK * self._level(found))
        return bool(far_more.sum() > least and (far_more & as_large(self.strokes, found.like)).sum() > least)

    @staticmethod
    def _level(found: Found) -> float:
        """Ink of the darkest marks of a place, 0..255."""
        fit = found.fit
        return float((fit.high - fit.low)[fit.printing].max(initial=PRINTS_FROM))

    def _beside(self, registration: Registration) -> Bools:
        """Strokes like the marks that stand beside a place's lattice; of the last few places these are kept."""
        return kept(self.stood, KEPT, registration, lambda: beside_lattice(self.strokes, registration, self.blocks))

    def _best(self, candidates: list[Candidate], best: Found | None) -> Found | None:
        """The best of the candidates once refined; stops at one that is clearly it."""
        for number, candidate in enumerate(candidates):
            found = self.refined(candidate, thorough=number < LIKELIEST)
            if found is None or found.registration.angle_deg() > STEEPEST_DEG:
                continue
            if found.fit.there > HALF_FOUND:
                self.tried = sorted([*self.tried, found], key=lambda way: -way.fit.there)[:MOST_LIKELY]
            again = best is not None and found.same(best)
            if best is None or self.explains(found) > self.explains(best):
                best = found
            if again:
                best = self.confirmed(best)
            if self.clear(best, surely=True) or best.agreed:
                break
        return best

    def clear(self, found: Found, *, surely: bool = False) -> bool:
        """Whether nothing further needs to be tried: much is explained, and no like part of the picture is left out.

        `surely` : not because strokes stand on its lattice, nor, where blocks print nothing, because it was led to twice.
        """
        if self.outshone(found):
            return False
        everything = bool(found.fit.printing.all())
        sooner = found.again and (everything or not surely)
        little = found.fit.there <= (FOUND_AGAIN if sooner else CLEARLY_FOUND)
        if little and (surely or found.fit.spill > 2 * WELL_LAID or not self.on_lattice(found)):
            return False
        if everything:
            return True
        if self._off_the_paper(found) > MOST_OFF:
            return False
        return self.left_out(found) <= MOST_LEFT_OUT

    def left_out(self, found: Found) -> float:
        """Strokes like those a place explains that it does not, for each of these."""
        drawn = self.marks_drawn(found.registration)
        return left_out(self.strokes, found.lean.follows, drawn, found.registration)

    def _off_the_paper(self, found: Found) -> float:
        """Share of the marks of blocks that print nothing that lie where no strokes were looked for: they may stand elsewhere."""
        if self.within is None:
            return 0.0
        at = np.rint(found.registration.to_photo(self.marks.centres[~found.fit.printing[self.block_of]])).astype(int)
        x, y = at[((at >= 0) & (at < self.shape[::-1])).all(axis=1)].T
        return 1 - float((self.within[y, x] > 0).sum()) / len(at)

    def marks_drawn(self, registration: Registration) -> Bytes:
        """Where marks may lie on the map, 255, with as much room as a deflection needs."""
        return kept(
            self.marked,
            MARKED,
            registration,
            lambda: marks_drawn(self.map.ink, registration, self.marks, self.blocks, self.clear_mm),
        )

    def confirmed(self, found: Found) -> Found:
        """A place that was led to twice, and so believed with fewer marks; not where ink stands one step beside a block, or many strokes beside its lattice."""
        place, beside = found.registration.to_photo, self._beside(found.registration)
        stray = len(beside) >= LEAST_TELLING and beside.mean() > MOST_STRAY
        most = max(beyond(self.judge, place, found.fit, self.layout).values(), default=0.0)
        aside = stray or most > HARDLY_BEYOND or find_slip(self.ends_at(found.registration, found.fit)).moves
        return found if aside else replace(found, again=True)

    def forget(self) -> None:
        """Lets go of pictures that are quickly drawn again: where a look fails, several locators are kept."""
        self.lines, self.distance, self.marked = None, None, []
        self.alone.forget()
