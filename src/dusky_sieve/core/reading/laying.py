"""Candidates laid onto the strokes of one ink map: aligned, followed across travel and along it, settled on whole steps."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, clear_heights, lattice_steps, marks_over
from dusky_sieve.core.reading.align import align, or_without
from dusky_sieve.core.reading.ends import narrow
from dusky_sieve.core.reading.find import (
    Candidate,
    Marks,
    corners_of,
    gather_marks,
    like_marks,
    stroke_ways,
    without_sides,
)
from dusky_sieve.core.reading.follow import (
    AT_ONCE,
    FINAL,
    FROM_CLOSE_BY,
    PLANS,
    Stage,
    away_from,
    best_followed,
    distance_to,
    follow,
)
from dusky_sieve.core.reading.inkmap import InkMap, Strokes
from dusky_sieve.core.reading.registration import Registration, homography_of, moved, project, rigid
from dusky_sieve.core.reading.score import Fit, Judge, probes
from dusky_sieve.core.reading.slide import slide
from dusky_sieve.core.reading.square import slack_of, squared
from dusky_sieve.core.reading.tilt import Lean
from dusky_sieve.core.reading.words import MarksMap

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]

CLEARLY_FOUND = 0.7  # share explained at which no further candidate is tried
# Share explained, from which a place that two candidates led to is looked at closer before others are tried.
AGREED = 0.3
SAME_PLACE = 0.015  # of the pattern's diagonal by which one place may differ from itself
HALF_FOUND, WELL_FOUND = 0.25, 0.85  # between them a place is laid onto the strokes a second time
WELL_LAID = 0.025  # spill under which that gains nothing: marks are missing, not missed
# Spill under which strokes picked again tell nothing new: of 400 such places on 250 tuning sheets 4 explained a twentieth more.
LOOSE = 0.15
ONE_START_PX = 1.0  # of the map: candidates that alignment takes so near to each other lead to one place
FAINT = 0.03  # share explained once the middle was followed, under which the rest is not
GLANCED = 600  # marks looked at while whole lattice steps are tried
AS_MUCH = 0.8  # of what a place explains of which much shows, under which one by whole lattice steps aside explains too little to be right
GLIMPSE = 0.06  # share explained after following across travel, under which nothing is worth more work
FAR_STEPS = (-16, -4, 4, 16)  # columns that a run of many may lie along itself before whole steps are tried singly
UNLIKE = 0.25  # correlation of the finest alignment, under which a further candidate is dropped
UNLIKE_BEST = 0.6  # of the best such correlation that any candidate reached, likewise
PARTLY_ASTRAY = 0.05  # spill from which some rows were not followed
ASTRAY, SURELY_LIKE = 0.25, 0.8  # spill from which rows were not followed; correlation from which they are again


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

    @property
    def agreed(self) -> bool:
        """Whether candidates agree on it, so that, though it may not be clear, nothing further at this size shows it better."""
        return self.again and self.fit.there > AGREED

    def same(self, other: "Found") -> bool:
        """Whether two places on one map are one."""
        return self.registration.apart(other.registration) < SAME_PLACE


@dataclass(frozen=True)
class _Led:
    """Where alignment took a candidate, the pattern's corners (4, 2) px, and what it led to."""

    candidate: Candidate
    corners: Floats | None
    found: Found | None


class Laying:
    """Lays one layout's marks onto the strokes of one ink map; keeps what the stages share."""

    def __init__(self, layout: Layout, backing: Backing, ink: InkMap, strokes: Strokes) -> None:
        self.layout, self.backing, self.map, self.strokes = layout, backing, ink, strokes
        self.marks: Marks = gather_marks(layout, backing)
        self.lines: tuple[Bools, Bytes] | None = None
        self.distance: Singles | None = None
        self.led: list[_Led] = []
        self.liked = 0.0  # best correlation that any candidate reached; far worse ones are not followed
        self.judge = Judge(ink, probes(layout, backing), backing)
        self.pass_words(None)
        self.blocks = marks_over(layout, backing)
        self.block_of = np.repeat(np.arange(len(self.blocks)), [b.nozzles for b in self.blocks])
        steps = np.array([b.column_pitch if b.columns > 1 else (1.0, 0.0) for b in self.blocks])
        self.along = (0.05 * steps / np.linalg.norm(steps, axis=1, keepdims=True))[self.block_of]
        far = [np.multiply(k, b.column_pitch) for b in self.blocks[:1] for k in FAR_STEPS if abs(k) * 3 < b.columns]
        self.steps = np.array([*lattice_steps(self.blocks), *far])
        self.longest_run_mm = max(length for _, length in stroke_ways(layout, self.marks))
        self.sides = without_sides(self.marks)
        self.clear_mm = float(np.median(clear_heights(self.blocks)))

    def pass_words(self, marks: MarksMap | None) -> None:
        """Goes by ink that is like marks from now on when it takes whole steps and slides along rows; None: by all ink again."""
        plan = probes(self.layout, self.backing, GLANCED, rims=True)
        self.sliding = marks or self.map
        self.glance = Judge(self.sliding, plan, self.backing, spots=1)

    def refined(self, candidate: Candidate, *, thorough: bool = True) -> Found | None:
        """The candidate laid onto the strokes, by alignment; None where the picture there is unlike the pattern's.

        `thorough` : straight from the candidate, too. Blurred pictures may mislead.
        """
        for before in self.led:
            if before.candidate is candidate:
                return before.found
        like = like_marks(self.strokes, candidate, self.layout, self.longest_run_mm)
        aligned = None if candidate.laid else self._aligned(candidate, like, thorough=thorough)
        corners = project(aligned[1], corners_of(*self.layout.size)) if aligned is not None else None
        known = next((before for before in self.led if _one_start(before.corners, corners)), None)
        found = known.found if known else self._laid_from(candidate, like, aligned, thorough=thorough)
        self.led.append(_Led(candidate, corners, found))
        return found

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
        if found is not None and aligned is not None and aligned[0] > SURELY_LIKE:
            for plans, least in ((FROM_CLOSE_BY, ASTRAY), (AT_ONCE, PARTLY_ASTRAY)):
                if found.fit.spill > least:
                    place = self.followed(like, rigid(aligned[1], self.layout.size), plans=plans)
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
        """A half right place followed from the part that lies best, then, where much ink stands beside it, onto strokes picked again."""
        seed = best_followed(self._distance(found.like), found.registration, self.marks)
        if seed is not None:
            place = self.followed(found.like, found.registration, seed)
            found = self._better(found, found.lean, found.like, place)
        return found if found.fit.spill < LOOSE else self.picked_again(found)

    def like_at(self, homography: Floats, lean: Lean) -> Bools:
        """Strokes (n,) that may be the marks of the whole pattern, were it there: see like_marks."""
        return like_marks(self.strokes, Candidate(1.0, homography, lean, self.marks), self.layout, self.longest_run_mm)

    def picked_again(self, found: Found) -> Found:
        """A place laid onto strokes that are picked by it, where that is better."""
        homography = homography_of(found.registration)
        like = self.like_at(homography, found.lean)
        aligned = align(self.drawn(like), homography, self.marks, self.layout)
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
        rows = sum(-(-b.nozzles // b.columns) for b in self.blocks)
        slack = np.array([slack_of(rows, narrow(b, scale)) for b in self.blocks])[self.block_of]
        distance, followed = self._distance(like), start
        for plan in plans:
            followed = follow(distance, followed, self.marks, plan, seed)
            if plan is plans[0] and self.judge.of(followed).there < FAINT:
                return followed
            if (share := plan[-1][2]) < 1:  # a free curve swings where nothing was followed yet; a camera leads on
                part = shown & (away < share * 1.05)
                followed = squared(
                    followed, self.marks.centres[part], self.along[part], self.map.lens, rest=False, slack=slack[part]
                )
        fit = self.judge.of(followed)
        printing = [b for b, shown in zip(self.blocks, fit.printing, strict=True) if shown]
        if fit.there < GLIMPSE:
            return followed
        shown = fit.printing[self.block_of]
        square = squared(followed, self.marks.centres[shown], self.along[shown], self.map.lens, slack=slack[shown])
        slid = slide(self.sliding.soft, square, printing, self.layout)
        return follow(distance, slid, self.marks, FINAL)

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

    def settled(self, registration: Registration, levels: Fit | None = None) -> tuple[Registration, Fit]:
        """The registration moved by whole lattice steps to where the pattern's edges have ink.

        A lattice fits itself one step aside almost as well as in place; only its edges tell. `levels` has the
        photo's ink levels where the place itself cannot tell them yet.
        """
        fit = levels or self.judge.of(registration)
        settled = self.stepped(registration, fit)
        there = fit if settled is registration and levels is None else self.judge.of(settled)
        if levels is None and fit.there >= HALF_FOUND and there.explained < AS_MUCH * fit.explained:
            return registration, fit
        return settled, there

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


def _one_start(corners: Floats | None, others: Floats | None) -> bool:
    """Whether alignment took two candidates to one place, both given as the pattern's corners (4, 2) px."""
    return corners is not None and others is not None and bool(np.abs(corners - others).max() < ONE_START_PX)
