"""Inks whose marks stand between each other's: where the lattice slips, one's marks are measured at the other's places, and their colour says so."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, extent, near_by
from dusky_sieve.core.reading.cover import around
from dusky_sieve.core.reading.measure import MarkMeasures
from dusky_sieve.core.reading.score import stroke_colour

Floats = NDArray[np.float64]

APART = 0.2  # between two inks' colours, unit vectors, from which one's marks can be told from the other's
# Of the way from the one's colour to the other's by the layout: by how much those next to a mark differ from most of its block, and how many such
# are a slip; and how much of it must lie between what the two blocks show. Of blocks of 49 sheets, typical and of the bad end, none of 151 that lay
# rightly is taken for slipped, and 37 of 42 that lay a quarter of a column off in a seventh of their marks or more are.
OF_THE_WAY, LEAST_SUCH, LEAST_BETWEEN = 0.25, 3, 0.05
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
            if slipped.sum() >= LEAST_SUCH or (other - own) @ way < LEAST_BETWEEN * (way @ way):
                found |= {block.id, bank.id}
    return found


def _colours(marks: MarkMeasures) -> Floats:
    """What each well printed mark takes of the three bands, as a unit vector (n, 3); NaN of the others."""
    share = marks.bands * marks.full
    share[~marks.solid] = np.nan
    return np.asarray(share / np.linalg.norm(share, axis=1, keepdims=True))
