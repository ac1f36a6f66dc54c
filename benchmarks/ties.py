"""Whether a printed pattern looks the same upside down: then no reader can tell which way round it lies, and one must say so."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, ink_rgb, lattice_middle, mark_centres
from dusky_sieve.core.simulate import BlockTruth

Floats = NDArray[np.float64]

NEAR_PITCHES = 0.6  # nozzle pitches within which a mark lies on another's place
SAME_INK = 0.12  # of the light in any band, by which two inks differ that look alike
TELLING = 1  # mark that has no place of its own upside down, with which it still is a tie: one may be a fault


def lies_on_itself(layout: Layout, backing: Backing, truth: dict[str, BlockTruth]) -> bool:
    """Whether what printed over a backing lies on places of the layout, in the same inks, when turned by 180 degrees."""
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing == backing]
    if any(b.backing == backing and not isinstance(b, MarksBlock) for b in layout.blocks):
        return False  # fills tell
    shown = [(b, _printed(b, truth.get(b.id, BlockTruth()))) for b in blocks]
    shown = [(b, at) for b, at in shown if len(at)]
    if not shown:
        return True
    every = np.concatenate([mark_centres(b) for b in blocks])
    owner = np.repeat(np.arange(len(blocks)), [b.nozzles for b in blocks])
    for target in blocks:
        turn = lattice_middle(target) + lattice_middle(shown[0][0])
        lone = 0
        for block, at in shown:
            off, index = _nearest(turn - at, every)
            inks = np.array([np.abs(ink_rgb(block.ink) - ink_rgb(b.ink)).max() for b in blocks])
            lone += int(((off > NEAR_PITCHES * block.nozzle_pitch) | (inks[owner[index]] > SAME_INK)).sum())
        if lone <= TELLING:
            return True
    return False


def _nearest(points: Floats, places: Floats) -> tuple[Floats, NDArray[np.int64]]:
    """Distance (n,) mm of each point (n, 2) to the nearest place (m, 2), and which that is (n,)."""
    off, index = [], []
    for some in np.array_split(points, len(points) // 200 + 1):
        apart = np.linalg.norm(some[:, None] - places[None], axis=2)
        index.append(apart.argmin(axis=1))
        off.append(apart.min(axis=1))
    return np.concatenate(off), np.concatenate(index)


def _printed(block: MarksBlock, faults: BlockTruth) -> Floats:
    gone = np.isin(np.array(list(block.numbers)), list(faults.missing)) | faults.all_missing
    return mark_centres(block)[~gone]
