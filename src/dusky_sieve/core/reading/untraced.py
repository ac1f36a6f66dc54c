"""Which blocks of one backing printed at all, by the traces that they leave on the photo over the other.

Of two like blocks of white one of which is absent, a photo over black shows one, and nothing on it tells which. Over white
its ink is next to invisible, but hundreds of marks are measured there together, on a sheet whose place is known.
"""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Clear, Layout, MarksBlock, clear_of, marks_over
from dusky_sieve.core.reading.order import quantile
from dusky_sieve.core.reading.patches import cut_patches
from dusky_sieve.core.reading.registration import Registration

Floats = NDArray[np.float64]
Photo = NDArray[np.uint8]

# Standard errors by which a block's marks stand out from the paper beside them, from which it surely printed, under which it did not
# where another of its backing did, and of the clearest the share under which. On 33 sheets of film of six worlds absent ones reached
# 3.0, and of the others beside one that reached 5 none was under 4.1.
PRINTED_FROM, ABSENT_BELOW, FAR_LESS = 5.0, 3.5, 0.5
REACH_PITCHES = 1.5  # nozzle pitches across travel, by which a block may lie off where the other backing's blocks lead
FLANKS = (1.0, 1.6)  # of a mark's thickness: from and to which paper beside it counts
OUTLIERS = 0.95  # quantile of ink, to which what is more is held back: a pen, a word
LEAST_SEEN = 12  # marks, below which they say nothing


def untraced(photo: Photo, layout: Layout, registration: Registration, backing: Backing) -> set[str]:
    """Blocks (ids) of the other backing without a trace on a photo of this one, on which others of them leave one: they did not print.

    registration : where the whole sheet lies on the photo
    """
    others = marks_over(layout, "dark" if backing == "light" else "light")
    traces = {
        block.id: _trace(photo, block, registration, backing, clear)
        for block, clear in zip(others, clear_of(others), strict=True)
    }
    most = max(traces.values(), default=0.0)
    least = min(ABSENT_BELOW, FAR_LESS * most) if most >= PRINTED_FROM else 0.0
    return {name for name, trace in traces.items() if trace < least}


def _trace(photo: Photo, block: MarksBlock, registration: Registration, backing: Backing, clear: Clear) -> float:
    """Standard errors by which a block's marks differ from the paper above and below them; infinite where they are not seen."""
    patches = cut_patches(photo, block, registration, backing, None, clear)
    profile = patches.across_ink.mean(axis=0)[patches.seen]
    step, thick = float(patches.across[1] - patches.across[0]), block.mark[1]
    off = np.arange(-int(FLANKS[1] * thick / step + 1), int(FLANKS[1] * thick / step + 1) + 1) * step
    on, beside = np.abs(off) <= max(thick, step) / 2, np.abs(off) >= FLANKS[0] * thick
    if len(profile) < LEAST_SEEN or len(off) >= len(patches.across):
        return float(np.inf)
    profile = profile - profile.mean(axis=1, keepdims=True)
    most = float(quantile(np.abs(profile).ravel(), OUTLIERS))
    held = np.clip(profile, -most, most)
    stands_out = np.lib.stride_tricks.sliding_window_view(held, len(off), axis=1) @ (
        on / on.sum() - beside / beside.sum()
    )
    error = stands_out.std(axis=0) / np.sqrt(len(profile)) + 1e-9
    half = len(off) // 2
    near = np.abs(patches.across[half:-half]) <= REACH_PITCHES * block.nozzle_pitch
    return float((np.abs(stands_out.mean(axis=0)) / error)[near].max(initial=0.0))
