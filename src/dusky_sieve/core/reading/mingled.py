"""Inks whose marks stand between each other's: where the lattice slips, one's marks are measured at the other's places, and their colour says so."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, extent, near_by
from dusky_sieve.core.reading.cover import around
from dusky_sieve.core.reading.measure import MarkMeasures
from dusky_sieve.core.reading.score import stroke_colour

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

APART = 0.2  # between two inks' colours, unit vectors, from which one's marks can be told from the other's
# Of the way from the one's colour to the other's by the layout: by how much those next to a mark differ from most of its block, and how many such
# are a slip; and how much of it must lie between what the two blocks show. Of blocks of 49 sheets, typical and of the bad end, none of 151 that lay
# rightly is taken for slipped, and 37 of 42 that lay a quarter of a column off in a seventh of their marks or more are.
OF_THE_WAY, LEAST_SUCH, LEAST_BETWEEN = 0.25, 3, 0.05
# And up to which the two look alike: then both are the one's marks where places of the two print together more seldom than by chance, up to this share
# of it and by so many sigma. Of 91 pairs that lay rightly none came below 0.9 of it, of slipped ones whose other ink was absent two at 0.44 and 0.67.
ALIKE, SELDOM, NO_CHANCE = 0.2, 0.75, 3.0
LEAST_TOLD = 3  # of a mark and those next to it, that printed well


def mingled(blocks: list[MarksBlock], measured: dict[str, MarkMeasures], backing: Backing) -> set[str]:
    """Blocks (ids) of which some marks, or all, show the ink of another whose marks stand between theirs."""
    found = set()
    for block in blocks:
        for bank in near_by(extent(block), blocks):
            way = stroke_colour(bank.ink, backing) - stroke_colour(block.ink, backing)
            if np.linalg.norm(way) < APART:  # as of the block itself
                continue
            seen = [_colours(measured[b.id]) for b in (block, bank)]
            if any(np.isnan(colours).all() for colours in seen):
                continue
            own, other = (np.nanmedian(colours, axis=0) for colours in seen)
            windows = around((seen[0] - own) @ way / (way @ way), block)
            told = (~np.isnan(windows)).sum(axis=1) >= LEAST_TOLD
            slipped = np.abs(np.nanmean(windows[told], axis=1)) > OF_THE_WAY
            between = (other - own) @ way / (way @ way)
            next_to = between < ALIKE and block.columns == bank.columns
            in_turn = next_to and _print_in_turn(*(measured[b.id].solid for b in (block, bank)))
            if slipped.sum() >= LEAST_SUCH or between < LEAST_BETWEEN or in_turn:
                found |= {block.id, bank.id}
    return found


def _print_in_turn(one: Bools, other: Bools) -> bool:
    """Whether of places next to each other, marks (n,) and (m,) by their numbers, one prints mostly where the other does not."""
    many = min(len(one), len(other))
    both, p, q = float((one[:many] & other[:many]).sum()), float(one[:many].mean()), float(other[:many].mean())
    chance, spread = many * p * q, np.sqrt(many * p * (1 - p) * q * (1 - q))
    return bool(both < SELDOM * chance and both < chance - NO_CHANCE * spread)


def _colours(marks: MarkMeasures) -> Floats:
    """What each well printed mark takes of the three bands, as a unit vector (n, 3); NaN of the others."""
    share = marks.bands * marks.full
    share[~marks.solid] = np.nan
    return np.asarray(share / np.linalg.norm(share, axis=1, keepdims=True))
