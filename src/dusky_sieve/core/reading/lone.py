"""What marks tell that only one of two ways round has: where the two share most of them, these few decide."""

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, extent, lattice_middle, mark_centres, marks_over, near_by
from dusky_sieve.core.reading.beyond import gap_beside
from dusky_sieve.core.reading.hues import about_grey
from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import inverse, project
from dusky_sieve.core.reading.score import Judge
from dusky_sieve.core.reading.stray import standing

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

CLEAR_LEAD = 4.0  # marks by which the best place must explain more than any other way round
LEAD_SHARE = 0.02  # and the share of all that it explains
LEAD_ALONE = 0.5  # or, where the two share most marks, so much of what is explained of those that only one of them has
LEAST_ALONE = 4  # of such marks, below which they say nothing
MAY_BE_MISSING = 4  # of so many lone marks that tell, one
INKED = 0.5  # of a mark's ink, from which a place has a mark
CLEARLY_INKED = 0.35  # of it, by which one way's lone marks, but for those that may be missing, must stand over the other's: frames dim those beside them
LEAST_TOLD = 2.0  # marks by which what only one way has must then outweigh what only the other has
FINER_MAKES = 0.2  # of what a place explains, that laying it more finely may make more: 0.07 was seen
# Of the smallest lattice step, by which two ways may lie off each other and have the same marks: what one explains is laid finely, the other
# carried over; and a step that is wide for a mark.
LAID_APART, WIDE_STEP_MM = 0.35, 1.5
# Correlation with the layout's colours, as they lie about grey, by which the other way must follow them better for a lead that lone marks do not
# tell of to be none: colours that haze and blur wash out are like the layout's greys.
HUES_AGAINST = 0.1
SAME_INK = 0.05  # of unit vectors and of all light: how far two inks' colour and depth may be apart
SURELY_BARE = 0.2  # of a mark's ink, below which a place has none
ONE_BY_CHANCE = 0.05  # of so many places a stroke like a mark stands in, that is none
# Such strokes, and their share of all such places, from which ink that is no stroke says nothing for the other.
SURELY_NO_CHANCE, MOST_STAND = 2, 0.6


def leads(at: Locator, full: Judge, top: Found, other: Found) -> bool:
    """Whether a place explains so much more than another that it is no accident."""
    lead, share = top.fit.explained - other.fit.explained, LEAD_SHARE * top.fit.explained
    if lead <= 0:
        return False
    mine, others = lone_ink(at, full, top, other), lone_ink(at, full, other, top)
    if told_alone(others, mine):
        return False  # what explains more for being laid more finely is not the right way round
    alone, told = max(len(mine), len(others)), float(mine.sum() - others.sum())
    words = alone < LEAST_ALONE and 2 * _standing(at, top, lone_marks(at, top, other)) < len(mine)
    if told_alone(mine, others) and not words:
        return True
    finer = lead < FINER_MAKES * top.fit.explained
    if (told < LEAST_TOLD or words) and finer and _turned_in_same_inks(at, full, top, other):
        return False  # of what the two share, in the same inks, only a finer laying can make more
    if told < LEAST_TOLD and finer and about_grey(full, other) > about_grey(full, top) + HUES_AGAINST:
        return False
    clear = max(CLEAR_LEAD, share)
    if lead >= clear:
        return told > -clear  # of a block that hardly printed, bare paper speaks against the way that has its marks
    # Where half of all marks are missing, half of those that only one way has are missing as well. What a place explains
    # more though it has fewer such marks is no marks: a frame, a word.
    enough = max(LEAD_ALONE * top.fit.there * alone, min(CLEAR_LEAD, alone))
    return alone >= LEAST_ALONE and told > -enough and max(lead, told) >= enough


def _turned_in_same_inks(at: Locator, full: Judge, one: Found, other: Found) -> bool:
    """Whether two places lie the other way round, with blocks on blocks of the same ink alone, and no fill says which is right.

    Of one a lattice step aside the marks at its sides, and later looks, say more.
    """
    along = np.array([[0.0, 0.0], [at.layout.size[0], 0.0]])
    right, left = (np.diff(way.registration.to_photo(along), axis=0)[0] for way in (one, other))
    if right @ left > 0:
        return False
    if any(b.kind == "solid" and b.backing == at.backing for b in at.layout.blocks):
        return False
    middles = np.array([lattice_middle(b) for b in at.blocks])
    back = project(inverse(one.registration.homography), other.registration.to_photo(middles))
    onto = np.linalg.norm(back[:, None] - middles, axis=2).argmin(axis=1)
    shown = one.fit.printing[onto] | other.fit.printing
    ink = np.column_stack([full.plan.hints, full.plan.depths])
    return bool((np.abs(ink[onto] - ink)[shown] < SAME_INK).all())


def told_alone(mine: Floats, others: Floats) -> bool:
    """Whether the marks (n,) that only one way has are there, but for one in four that may be missing, and of the other's (m,) none."""
    there = float(np.sort(mine)[len(mine) // MAY_BE_MISSING]) if len(mine) else 1.0
    bare = float(others.max(initial=0.0))
    return len(mine) + len(others) >= LEAST_ALONE and bare < INKED and there - bare > CLEARLY_INKED


def lone_ink(at: Locator, full: Judge, way: Found, other: Found) -> Floats:
    """Ink (n,) as a share of a mark's, of the marks that one place has where the other has none; less what gaps beside them have.

    A frame or a word has ink between columns and rows as well.
    """
    centres, lone = at.marks.centres, lone_marks(at, way, other)
    gaps = _gaps(at.layout, at.backing)[:, lone]
    known = np.isfinite(gaps).all(axis=2)
    steps = np.concatenate([np.zeros_like(gaps[:1]), np.nan_to_num(gaps), -np.nan_to_num(gaps)])
    spots = way.registration.to_photo((centres[lone] + steps).reshape(-1, 2))
    ink = np.nan_to_num(full.ink_of(spots, way.fit, np.tile(at.block_of[lone], 5))).reshape(5, -1)
    # A frame beside a row has ink to one side of its marks only.
    between = np.where(known, np.minimum(ink[1:3], ink[3:]), 0.0)
    return np.asarray(np.clip(ink[0] - between.max(axis=0), 0, 1))


def lone_marks(at: Locator, way: Found, other: Found) -> Bools:
    """Marks (n,) that one place has where the other has none, nor would if it were laid more finely."""
    step = min(at.clear_mm, *(float(np.hypot(*b.column_pitch)) for b in at.blocks if b.columns > 1), WIDE_STEP_MM)
    room = round(LAID_APART * step * other.registration.px_per_mm(np.array(at.layout.size) / 2))
    mask = cv2.dilate(at.marks_drawn(other.registration), np.ones((2 * room + 1,) * 2, np.uint8))
    spots = np.rint(way.registration.to_photo(at.marks.centres)).astype(int)
    x, y = np.clip(spots.T, 0, np.array([mask.shape[::-1]]).T - 1)
    return np.asarray(mask[y, x] == 0)


def told_by_few(at: Locator, full: Judge, one: Found, other: Found) -> Found | None:
    """The way of two of whose own marks some stand there as strokes like marks do, while of the other's none shows; None where neither is.

    A speck or a letter just there, of a mark's length and direction, is rarer than marks that are missing.
    """
    own, others = lone_marks(at, one, other), lone_marks(at, other, one)
    if _few_tell(at, full, one, own, other, others):
        return one
    return other if _few_tell(at, full, other, others, one, own) else None


def _few_tell(at: Locator, full: Judge, way: Found, mine: Bools, other: Found, others: Bools) -> bool:
    """The same of one way, by the marks (n,) that only it has and those that only the other has."""
    there = _standing(at, way, mine)
    if there >= max(SURELY_NO_CHANCE, MOST_STAND * int(mine.sum())):
        return _standing(at, other, others) == 0  # a pen or a fold leaves ink there
    bare = full.ink_of(other.registration.to_photo(at.marks.centres[others]), other.fit, at.block_of[others])
    return bool((bare < SURELY_BARE).all()) and there > ONE_BY_CHANCE * int(mine.sum())  # nor where it is not seen


def _standing(at: Locator, way: Found, which: Bools) -> int:
    """In how many places of some marks (n,) a stroke like a mark stands."""
    own = ((block, mark_centres(block)[which[at.block_of == k]]) for k, block in enumerate(at.blocks))
    there = [standing(at.strokes, way.registration, block, at.clear_mm, marks) for block, marks in own if len(marks)]
    return sum(int(marks.sum()) for marks in there)


@lru_cache(maxsize=16)
def _gaps(layout: Layout, backing: Backing) -> Floats:
    """From each mark to half-way to the next column and to the next row, (2, marks, 2) mm; NaN where that is no bare paper."""
    found: list[Floats] = []
    blocks = marks_over(layout, backing)
    for block in blocks:
        gap = np.full((2, 2), np.nan)
        if (beside := gap_beside(block, layout)) is not None:
            gap[0] = beside
        if block.nozzles > block.columns and len(near_by(extent(block), blocks)) == 1:  # no bank between its rows
            gap[1] = np.array(block.row_pitch) / 2
        found.append(np.repeat(gap[:, None], block.nozzles, axis=1))
    return np.concatenate(found, axis=1)
