"""Which of the candidate places is the sheet: checked mark by mark, and refused where it is not there."""

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, clear_heights, lattice_steps, marks_over
from dusky_sieve.core.reading.align import align, or_without
from dusky_sieve.core.reading.beyond import beyond
from dusky_sieve.core.reading.ends import Ends, ends_of, find_slip
from dusky_sieve.core.reading.find import (
    Candidate,
    Effort,
    Marks,
    boxed,
    corners_of,
    correlated,
    gather_marks,
    like_marks,
    stroke_ways,
    without_sides,
)
from dusky_sieve.core.reading.follow import (
    FINAL,
    FROM_CLOSE_BY,
    PLANS,
    Stage,
    away_from,
    best_followed,
    distance_to,
    follow,
)
from dusky_sieve.core.reading.inkmap import InkMap, Strokes, find_strokes, ink_map
from dusky_sieve.core.reading.kept import Kept, kept
from dusky_sieve.core.reading.registration import Registration, homography_of, moved, project, rigid
from dusky_sieve.core.reading.score import Fit, Judge, probes
from dusky_sieve.core.reading.slide import slide, touching
from dusky_sieve.core.reading.square import slack_of, squared
from dusky_sieve.core.reading.stray import beside_lattice, left_out, marks_drawn, on_lattice
from dusky_sieve.core.reading.tilt import Lean, leans
from dusky_sieve.core.reading.votes import voted
from dusky_sieve.core.reading.words import MarksAlone, MarksMap

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]
Corners = tuple[tuple[float, ...], ...]

CLEARLY_FOUND = 0.7  # share explained at which no further candidate is tried
FOUND_AGAIN = 0.5  # the same where two candidates or looks led to one place: faulty sheets explain no more
BEYOND_HAND = 1.1  # times as far from the middle as the corners set by hand, within which strokes are looked for
SAME_PLACE = 0.015  # of the pattern's diagonal by which one place may differ from itself
LIKELIEST = 1  # candidates of a search that are followed from where they lie as well as from where alignment took them
MOST_LIKELY = 3  # places whose blocks are laid onto others where none is clearly it
HALF_FOUND, WELL_FOUND = 0.25, 0.85  # between them a place is laid onto the strokes a second time
WELL_LAID = 0.025  # spill under which that gains nothing: marks are missing, not missed
# Spill under which strokes picked again tell nothing new: of 400 such places on 250 tuning sheets 4 explained a twentieth more.
LOOSE = 0.15
ONE_START_PX = 1.0  # of the map: candidates that alignment takes so near to each other lead to one place
AGREED = 0.3  # share explained, from which a place that two candidates led to is looked at closer before others are tried
FAINT = 0.03  # share explained once the middle was followed, under which the rest is not
FOUND_FROM = 0.42  # share explained of the blocks that show ink, below which nothing on the photo is the sheet
LEAST_MARKS = 8.0  # explained marks, below which the rest is luck
GLANCED = 600  # marks looked at while whole lattice steps are tried
GLIMPSE = 0.06  # share explained after following across travel, under which nothing is worth more work
FAR_STEPS = (-16, -4, 4, 16)  # columns that a run of many may lie along itself before whole steps are tried singly
UNLIKE_BEST = 0.6  # of the best such correlation that any candidate reached, likewise
MOST_OFF = 0.2  # of the marks of blocks that print nothing, which may lie off the paper that strokes were looked for on
MOST_LEFT_OUT = 0.25  # strokes like the explained ones, for each of these, that a clear place may leave out; wrong: one
# Of a mark's ink, one lattice step beyond a block's side: the lattice lies aside. Right places show 0.35 at most, nearly all under 0.3.
MOST_BEYOND, HARDLY_BEYOND = 0.45, 0.3
EVEN = 1.15  # times the shortest marks' length, up to which marks of all blocks are taken to be equally long
STEEPEST_DEG = 50.0  # from straight above: beyond it a pattern is squeezed onto others' marks, nobody photographs so
ASTRAY, SURELY_LIKE = 0.25, 0.8  # spill from which rows were not followed; correlation from which they are again
# Strokes that tell whether they stand on a lattice, how much those beside it count against a place, and what fewer make of it.
LEAST_TELLING, BESIDE_COUNTS, HARDLY_TOLD = 12, 0.5, 0.7
KEPT, MARKED = 6, 2  # places of which what was worked out is kept, and of which pictures of their marks are
UNLIKE = 0.25  # correlation of the finest alignment, under which a further candidate is dropped


@dataclass(frozen=True)
class Found:
    """A place on the ink map, how well it fits, and the strokes (n,) that may be its marks.

    `again` where another candidate led to it as well.
    """

    registration: Registration
    fit: Fit
    lean: Lean
    like: Bools
    again: bool = False

    def same(self, other: "Found") -> bool:
        """Whether two places on one map are one."""
        return self.registration.apart(other.registration) < SAME_PLACE


class Locator:
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
        self.whole, self.backing, self.file = layout, backing, file
        # All work is done on the box of the marks judged over this backing: fills and blocks that this photo cannot
        # show would only be bare paper where ink may well lie.
        self.layout, self.corner = boxed(layout, backing)
        layout = self.layout
        self.map: InkMap = seen or ink_map(photo, layout, backing)
        self.shape = (self.map.ink.shape[0], self.map.ink.shape[1])
        self.within = within
        strokes = find_strokes(self.map.ink, within if around is None else self._between(around))
        self.strokes: Strokes = strokes if backing == "light" else strokes.bright()
        self.marks: Marks = gather_marks(layout, backing)
        self.tried: list[Found] = []
        self.lines: tuple[Bools, Bytes] | None = None
        self.distance: Singles | None = None
        self.laid: list[tuple[Candidate, Floats | None, Found | None]] = []  # where alignment took candidates, and what they led to
        self.stood: Kept[Bools] = []
        self.marked: Kept[Bytes] = []
        self.liked = 0.0  # best correlation that any candidate reached; far worse ones are not followed
        self.judge = Judge(self.map, probes(layout, backing), backing)
        self.pass_words(None)
        self.blocks = marks_over(layout, backing)
        self.block_of = np.repeat(np.arange(len(self.blocks)), [b.nozzles for b in self.blocks])
        steps = np.array([b.column_pitch if b.columns > 1 else (1.0, 0.0) for b in self.blocks])
        self.along = (0.05 * steps / np.linalg.norm(steps, axis=1, keepdims=True))[self.block_of]
        far = [np.multiply(k, b.column_pitch) for b in self.blocks[:1] for k in FAR_STEPS if abs(k) * 3 < b.columns]
        self.steps = np.array([*lattice_steps(self.blocks), *far])
        self.longest_run_mm = max(length for _, length in stroke_ways(layout, self.marks))
        self.sides = without_sides(self.marks)
        lengths = [b.mark[0] for b in self.blocks]
        self.even = max(lengths) < EVEN * min(lengths)
        self.clear_mm = float(np.median(clear_heights(self.blocks)))
        self.alone = MarksAlone(self.map, self.judge, self.blocks, self.clear_mm)

    def _between(self, corners: Corners) -> Bytes:
        """Mask of the map, 255 between four corners on the photo and a little beyond them."""
        points = project(self.map.from_photo, np.array(corners, np.float64))
        middle = points.mean(axis=0)
        wider = np.rint(middle + BEYOND_HAND * (points - middle)).astype(np.int32)
        return np.asarray(cv2.fillConvexPoly(np.zeros_like(self.map.ink), cv2.convexHull(wider), (255,)), np.uint8)

    def search(self, effort: Effort) -> tuple[Found | None, list[Candidate]]:
        """The best place found by one effort, and the last places that were tried."""
        ways = leans(self.strokes, self.shape, effort.directions, effort.faint_peak, even=self.even, lens=self.map.lens)
        best: Found | None = None
        candidates: list[Candidate] = []
        # The direction that most strokes share is nearly always the marks' own: it is tried alone before the others.
        for some, votes in ((ways[:1], False), (ways[:1], True), (ways[1:], False)):
            if best is None or not (self.clear(best) or self.led_twice(best)):
                further = self._candidates(some, effort, votes=votes)
                best = self._best(further, best)
                candidates = further or candidates
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

    def pass_words(self, marks: MarksMap | None) -> None:
        """Goes by ink that is like marks from now on when it takes whole steps and slides along rows; None: by all ink again."""
        plan = probes(self.layout, self.backing, GLANCED, rims=True)
        self.sliding = marks or self.map
        self.glance = Judge(self.sliding, plan, self.backing, spots=1)

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
        if found.fit.there > CLEARLY_FOUND:
            return found.fit.explained
        beside = self._beside(found.registration)
        on = 1 - BESIDE_COUNTS * float(beside.mean()) if len(beside) >= LEAST_TELLING else HARDLY_TOLD
        return found.fit.explained * on * max(0.0, 1 - found.fit.spill)

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
            if self.clear(best, surely=True) or self.led_twice(best):
                break
        return best

    def led_twice(self, found: Found) -> bool:
        """Whether candidates agree on a place that, though not clear, nothing further at this size would show better."""
        return found.again and found.fit.there > AGREED

    def clear(self, found: Found, *, surely: bool = False) -> bool:
        """Whether nothing further needs to be tried: much is explained, and no like part of the picture is left out.

        `surely` : not because strokes stand on its lattice, nor, where blocks print nothing, because it was led to twice.
        """
        everything = bool(found.fit.printing.all())
        sooner = found.again and (everything or not surely)
        little = found.fit.there <= (FOUND_AGAIN if sooner else CLEARLY_FOUND)
        if little and (surely or found.fit.spill > 2 * WELL_LAID or not self.on_lattice(found)):
            return False
        if everything:
            return True
        if self._off_the_paper(found) > MOST_OFF:
            return False
        drawn = self.marks_drawn(found.registration)
        return left_out(self.strokes, found.lean.follows, drawn, found.registration) <= MOST_LEFT_OUT

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
            self.marked, MARKED, registration, lambda: marks_drawn(self.map.ink, registration, self.marks, self.blocks)
        )

    def confirmed(self, found: Found) -> Found:
        """A place that was led to twice, and so believed with fewer marks; not where ink stands one step beside a block."""
        place = found.registration.to_photo
        most = max(beyond(self.judge, place, found.fit, self.layout).values(), default=0.0)
        aside = most > HARDLY_BEYOND or find_slip(self.ends_at(found.registration, found.fit)).moves
        return found if aside else replace(found, again=True)

    def refined(self, candidate: Candidate, *, thorough: bool = True) -> Found | None:
        """The candidate laid onto the strokes, by alignment; None where the picture there is unlike the pattern's.

        `thorough` : straight from the candidate, too. Blurred pictures may mislead.
        """
        for before, _, led_to in self.laid:
            if before is candidate:
                return led_to
        like = like_marks(self.strokes, candidate, self.layout, self.longest_run_mm)
        aligned = None if candidate.laid else self._aligned(candidate, like, thorough=thorough)
        near = project(aligned[1], corners_of(*self.layout.size)) if aligned is not None else None
        for _, corners, led_to in self.laid:
            if near is not None and corners is not None and np.abs(near - corners).max() < ONE_START_PX:
                break
        else:
            led_to = self._laid_from(candidate, like, aligned, thorough=thorough)
        self.laid.append((candidate, near, led_to))
        return led_to

    def _laid_from(self, candidate: Candidate, like: Bools, aligned: tuple[float, Floats] | None, *, thorough: bool) -> Found | None:  # fmt: skip
        """The same, followed from where alignment took it: the best of a few ways."""
        found: Found | None = None
        starts: list[Floats] = [candidate.homography] if candidate.laid else []
        if aligned is not None and aligned[0] >= max(UNLIKE, UNLIKE_BEST * self.liked):
            self.liked = max(self.liked, aligned[0])
            starts = [aligned[1], candidate.homography] if thorough else [aligned[1]]
        for start in starts:
            straight = rigid(start, self.layout.size)
            place = self.followed(like, straight)
            if self.judge.of(straight).explained > self.judge.of(place).explained:
                place = straight  # few rows may be followed astray
            found = self._better(found, candidate.lean, like, place)
            if found.fit.there >= WELL_FOUND or (found.fit.there >= CLEARLY_FOUND and found.fit.spill < WELL_LAID):
                break
        if found is not None and aligned is not None and aligned[0] > SURELY_LIKE and found.fit.spill > ASTRAY:
            place = self.followed(like, rigid(aligned[1], self.layout.size), plans=FROM_CLOSE_BY)
            found = self._better(found, candidate.lean, like, place)
        if found is not None and HALF_FOUND <= found.fit.there < WELL_FOUND and found.fit.spill >= WELL_LAID:
            found = self._polished(found)
        return found

    def _aligned(self, candidate: Candidate, like: Bools, *, thorough: bool) -> tuple[float, Floats] | None:
        """Where alignment leads from a candidate, with its correlation; `thorough` : without the blocks of one side, too."""
        aligned = align(self.drawn(like), candidate.homography, candidate.marks, self.layout)
        if not thorough or candidate.marks is not self.marks:
            return aligned
        return or_without(aligned, self.drawn(like), candidate.homography, self.sides, self.layout)

    def _polished(self, found: Found) -> Found:
        """A half right place followed from the part that lies best, then onto strokes picked again, where that is better."""
        seed = best_followed(self._distance(found.like), found.registration, self.marks)
        if seed is not None:
            place = self.followed(found.like, found.registration, seed)
            found = self._better(found, found.lean, found.like, place)
        if found.fit.spill < LOOSE:
            return found
        again = Candidate(1.0, homography_of(found.registration), found.lean, self.marks)
        like = like_marks(self.strokes, again, self.layout, self.longest_run_mm)
        aligned = align(self.drawn(like), again.homography, self.marks, self.layout)
        if aligned is None:
            return found
        return self._better(found, found.lean, like, self.followed(like, rigid(aligned[1], self.layout.size)))

    def _better(self, found: Found | None, lean: Lean, like: Bools, place: Registration) -> Found:
        """The place found so far, or another that explains more once it is settled on whole lattice steps."""
        fit = self.judge.of(place)
        if fit.there >= GLIMPSE:
            place, fit = self.settled(place, fit)
        if found is not None and found.fit.explained >= fit.explained:
            return found
        return Found(place, fit, lean, like)

    def followed(self, like: Bools, start: Registration, seed: Floats | None = None, plans: tuple[tuple[Stage, ...], ...] = PLANS) -> Registration:  # fmt: skip
        """The registration laid onto those strokes (n,) across travel, made one a camera could make, then laid along travel.

        It grows from a `seed` (mm), else from the middle of what prints.
        """
        shown = self.judge.of(start).printing[self.block_of]
        if not shown.any():
            shown = np.ones(len(shown), bool)
        if seed is None and not shown.all():
            seed = np.asarray(np.median(self.marks.centres[shown], axis=0))
        away = away_from(self.marks.centres, seed).max(axis=1)
        scale = start.px_per_mm(np.array(self.layout.size) / 2)
        slack = slack_of(sum(-(-b.nozzles // b.columns) for b in self.blocks), touching(self.blocks, scale))
        distance, followed = self._distance(like), start
        for plan in plans:
            followed = follow(distance, followed, self.marks, self.clear_mm, plan, seed)
            if plan is plans[0] and self.judge.of(followed).there < FAINT:
                return followed
            if (share := plan[-1][2]) < 1:  # a free curve swings where nothing was followed yet; a camera leads on
                part = shown & (away < share * 1.05)
                followed = squared(
                    followed, self.marks.centres[part], self.along[part], self.map.lens, rest=False, slack=slack
                )
        fit = self.judge.of(followed)
        printing = [b for b, shown in zip(self.blocks, fit.printing, strict=True) if shown]
        if fit.there < GLIMPSE:
            return followed
        shown = fit.printing[self.block_of]
        square = squared(followed, self.marks.centres[shown], self.along[shown], self.map.lens, slack=slack)
        slid = slide(self.sliding.soft, square, printing, self.layout)
        return follow(distance, slid, self.marks, self.clear_mm, FINAL)

    def _distance(self, like: Bools) -> Singles:
        """Distance (rows, columns) px to the nearest of those strokes (n,); that of the last is kept."""
        lines = self.drawn(like)
        if self.distance is None:
            self.distance = distance_to(lines)
        return self.distance

    def drawn(self, like: Bools) -> Bytes:
        """Those strokes (n,) as a mask of the map; that of the last is kept."""
        if self.lines is None or not np.array_equal(self.lines[0], like):
            self.lines, self.distance = (like, self.strokes.drawn(like)), None
        return self.lines[1]

    def forget(self) -> None:
        """Lets go of pictures that are quickly drawn again: where a look fails, several locators are kept."""
        self.lines, self.distance, self.marked = None, None, []
        self.alone.forget()

    def settled(self, registration: Registration, levels: Fit | None = None) -> tuple[Registration, Fit]:
        """The registration moved by whole lattice steps to where the pattern's edges have ink.

        A lattice fits itself one step aside almost as well as in place; only its edges tell. `levels` has the
        photo's ink levels where the place itself cannot tell them yet.
        """
        fit = levels or self.judge.of(registration)
        settled = self.stepped(registration, fit)
        return settled, fit if settled is registration and levels is None else self.judge.of(settled)

    def stepped(self, registration: Registration, fit: Fit) -> Registration:
        """The place moved by whole lattice steps to where most marks are and least ink beside them."""
        at = np.zeros(2)
        best = float(self.glance.quick(registration.to_photo, at[None], fit)[0])
        for _ in range(10):
            values = self.glance.quick(registration.to_photo, at + self.steps, fit)
            top = int(np.argmax(values))
            if values[top] <= best * 1.001 + 1e-9:
                break
            at, best = at + self.steps[top], float(values[top])
        return moved(registration, (at[0], at[1])) if at.any() else registration
