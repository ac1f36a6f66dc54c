"""What inks two ways round show in the layout's blocks: colours wash out and lamps tint them, but they differ among each other as the layout's do."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.score import Fit, Judge

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

COLOURS_APART = 0.005  # of unit vectors: about four degrees between two inks, below which they are one colour
# Correlation with the layout's colours, and by how much it leads the other way's.
COLOURS_FOLLOW, COLOURS_TRUER = 0.7, 0.6
OVERRULED = 1.05  # times what the other way explains, up to which colours that follow that one decide for it
COLOURS_MOVED = 0.03  # of unit vectors, between the inks that two ways show in one block, from which it is another ink
COLOURS_SWAPPED = 0.8  # correlation of such differences with the layout's
# Between the layout's inks, up to which two are one colour, and from which they are surely two.
SAME_HUE, OTHER_HUE = 0.05, 0.2
# Between what a block shows and what most of its ink do, from which it is another colour; and what most of another ink do, up to which it is theirs.
OFF_ITS_INK, AS_ANOTHERS = 0.1, 0.05


def truer(one: Found, other: Found, full: Judge) -> bool:
    """Whether one way's colours are those of the layout, and the other's not."""
    told = follows(one, other, full) or swapped(one, other, full)
    return told or (borrows(other.fit, full.plan.hints) and not off_their_ink(one.fit, full.plan.hints).any())


def follows(one: Found, other: Found, full: Judge) -> bool:
    """Whether one way's colours differ among each other as the layout's do, and the other's clearly less so."""
    told = []
    for way in (one, other):
        seen = coloured(way.fit)
        # What all blocks share is the lamp's colour, or hints that are all a little wrong.
        own, hints = (
            v[seen] - v[seen].mean(axis=0) if seen.any() else v[seen] for v in (way.fit.colours, full.plan.hints)
        )
        told.append(alike(own, hints))
    return told[0] > COLOURS_FOLLOW and told[0] - told[1] > COLOURS_TRUER


def swapped(one: Found, other: Found, full: Judge) -> bool:
    """Whether the inks that two ways show in different blocks differ as the layout says the one way round.

    Of inks little apart among others that stay where they are, all colours together hardly tell. Nothing is said against
    a way that explains far more.
    """
    if other.fit.explained > OVERRULED * one.fit.explained:
        return False
    apart = one.fit.colours - other.fit.colours
    moved_on = np.linalg.norm(apart, axis=1) > COLOURS_MOVED
    moved_on &= coloured(one.fit) & coloured(other.fit)
    if moved_on.sum() < 2:
        return False
    hints = full.plan.hints[moved_on] - full.plan.hints[moved_on].mean(axis=0)
    apart = apart[moved_on] - apart[moved_on].mean(axis=0)
    return alike(apart, hints) > COLOURS_SWAPPED


def about_grey(full: Judge, way: Found) -> float:
    """How well the colours that a way shows follow those of the layout about grey, -1..1; 0 where these are about grey."""
    seen = coloured(way.fit)
    return alike(*(colours[seen] - 1 / np.sqrt(3) for colours in (way.fit.colours, full.plan.hints)))


def off_their_ink(fit: Fit, hints: Floats) -> Bools:
    """Blocks (n,) that show another colour than most others of their ink."""
    apart, seen, off = _apart(hints), coloured(fit), np.zeros(len(hints), bool)
    for k in np.flatnonzero(seen):
        like = seen & (apart[k] < SAME_HUE)
        like[k] = False
        off[k] = like.any() and _distance(fit, k, like) > OFF_ITS_INK
    return off


def borrows(fit: Fit, hints: Floats) -> bool:
    """Whether some block shows the colour of another ink's blocks, and not of those of its own: the pattern lies on others' marks.

    Where a lamp or haze tints a part of the sheet no colour is just that of another ink.
    """
    apart, seen = _apart(hints), coloured(fit)
    for k in np.flatnonzero(off_their_ink(fit, hints)):
        others = np.flatnonzero(seen & (apart[k] > OTHER_HUE))
        if any(_distance(fit, k, seen & (apart[j] < SAME_HUE)) < AS_ANOTHERS for j in others):
            return True
    return False


def _apart(hints: Floats) -> Floats:
    return np.asarray(np.linalg.norm(hints[:, None] - hints, axis=2))


def _distance(fit: Fit, k: np.intp, others: Bools) -> float:
    """Between what a block shows and what most of others (n,) do."""
    return float(np.linalg.norm(fit.colours[k] - np.median(fit.colours[others], axis=0)))


def coloured(fit: Fit) -> Bools:
    """Blocks (n,) whose colour was seen."""
    return np.asarray(fit.colours.any(axis=1))


def alike(own: Floats, hints: Floats) -> float:
    """Correlation, -1..1, of what colours (n, 3) and those of the layout differ by from something; 0 where they hardly do."""
    size = float(np.linalg.norm(own) * np.linalg.norm(hints))
    return float((own * hints).sum()) / size if size > COLOURS_APART else 0.0
