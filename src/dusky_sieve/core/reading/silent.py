"""Blocks that seem to print nothing, and whether that is to be believed."""

import numpy as np

from dusky_sieve.core.reading.cover import OTHER_COLOUR
from dusky_sieve.core.reading.measure import DEAD, MarkMeasures

# Of a printing mark's ink, in most places of a block that seems to print nothing: of 170 that did print nothing at the bad end none shows 0.04.
FAINT = 0.08


def elsewhere(measured: dict[str, MarkMeasures]) -> list[str]:
    """Blocks that print next to nothing on ground of another colour than where others print: it may not be the sheet."""
    colour = {name: np.log(m.ground) - np.log(m.ground).mean() for name, m in measured.items()}
    known = [colour[name] for name, m in measured.items() if m.printing >= DEAD]
    if not known:
        return []
    silent = [name for name, m in measured.items() if m.printing < DEAD]
    return [name for name in silent if np.abs(colour[name] - np.median(known, axis=0)).max() > OTHER_COLOUR]


def all_faint(marks: MarkMeasures) -> bool:
    """Whether a block that seems to print nothing shows a little ink in most places all the same: it prints, too faintly to be judged."""
    return marks.printing < DEAD and bool(marks.judged.any()) and float(np.median(marks.ink[marks.judged])) > FAINT
