"""What rows or columns of a block are off by together: passes of both directions, a head's two rows of nozzles, paper fed unevenly."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading.order import median, one_sigma

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

# Rows or columns, and well printed marks of either kind, below which nothing alternates surely.
LEAST_LINES, LEAST_OF_EACH = 4, 12
LEAST_OF_LINE = 3  # well printed marks, from which a row or column says which kind it is like
APART = 0.3  # nozzle pitches between the two kinds, below which it is scatter
CLEARLY_APART = 2.5  # one-sigmas of a mark's own scatter between them
AS_ITS_KIND = 0.9  # of the rows or columns, that must lie nearer to their own kind
MEDIANS = 1.25  # one-sigma of a median over that of a mean, of normal deviates: the root of half pi
MOST_ACROSS = 0.5  # nozzle pitches off across travel: beyond, a mark is thrown, whatever its neighbours do
# Well printed marks of a row, from which its median says how far the paper was fed there; nozzle pitches between rows, and one-sigmas of such
# medians by chance, under which they are not fed unevenly.
LEAST_OF_ROW, UNEVEN, NO_CHANCE = 5, 0.15, 4.0


def fed(block: MarksBlock, offset: Floats, solid: Bools) -> tuple[Floats, Bools]:
    """What marks (n,) mm across travel are off by because the paper was fed unevenly from row to row, and marks (n,) of which that cannot be told.

    No nozzle throws for it; a row that is off by half a pitch and more may as well lie wrongly, and one of few marks be fed so or thrown.

    offset : (n,) mm beyond what all marks near by, and every other row, share; solid : (n,) marks that printed well
    """
    nothing = np.zeros_like(offset), np.zeros(len(offset), bool)
    row = np.arange(len(offset)) // block.columns
    counts = np.bincount(row[solid], minlength=int(row[-1]) + 1)
    told = counts >= LEAST_OF_ROW
    if told.sum() < LEAST_LINES:
        return nothing
    off = np.array([median(offset[solid & (row == k)]) if told[k] else 0.0 for k in range(len(told))])
    scatter = one_sigma((offset - off[row])[solid & told[row]])
    by_chance = MEDIANS * scatter / float(np.sqrt(np.median(counts[told])))
    if one_sigma(off[told]) < max(UNEVEN * block.nozzle_pitch, NO_CHANCE * by_chance):
        return nothing
    of_few = ~told[row] & (np.abs(offset) >= UNEVEN * block.nozzle_pitch)
    return off[row], (np.abs(off) >= MOST_ACROSS * block.nozzle_pitch)[row] | of_few


def alternating(block: MarksBlock, offset: Floats, solid: Bools) -> Floats:
    """What marks (n, 2) mm are off by because every other row or column is: it speaks of alignment, not of nozzles.

    offset : (n, 2) mm beyond what all marks near by share; solid : (n,) marks that printed well
    """
    shared = np.zeros_like(offset)
    index = np.arange(len(offset))
    for line in (index // block.columns, index % block.columns):
        if line.max() + 1 < LEAST_LINES:
            continue
        for axis, most in ((0, np.inf), (1, MOST_ACROSS * block.nozzle_pitch)):
            kinds = _kinds(line, offset[:, axis] - shared[:, axis], solid, APART * block.nozzle_pitch)
            if max(abs(kind) for kind in kinds) < most:
                shared[:, axis] += np.array(kinds)[line % 2]
    return shared


def _kinds(line: NDArray[np.int64], off: Floats, solid: Bools, least: float) -> tuple[float, float]:
    """What lines of even and of odd numbers are off by, mm; zero where they do not alternate surely.

    line : (n,) each mark's; off : (n,) mm; least : between the two, mm
    """
    odd = line % 2 == 1
    parts = off[solid & ~odd], off[solid & odd]
    if min(len(part) for part in parts) < LEAST_OF_EACH:
        return 0.0, 0.0
    kinds = float(median(parts[0])), float(median(parts[1]))
    apart = kinds[1] - kinds[0]
    if abs(apart) < least:
        return 0.0, 0.0
    scatter = max(one_sigma(part - kind) for part, kind in zip(parts, kinds, strict=True))
    if abs(apart) < CLEARLY_APART * scatter:
        return 0.0, 0.0
    lines = [k for k in range(int(line.max()) + 1) if (solid & (line == k)).sum() >= LEAST_OF_LINE]
    nearer = [(median(off[solid & (line == k)]) - sum(kinds) / 2) * apart * (1 if k % 2 else -1) > 0 for k in lines]
    return kinds if len(lines) >= LEAST_LINES and np.mean(nearer) >= AS_ITS_KIND else (0.0, 0.0)
