"""Whether marks that touch end to end are laid on the right ones: each mark is level, its neighbours a step up and down.

Where gaps do not show, a run looks the same wherever it is laid along itself, but a mark that straddles two steps has
its right part a nozzle pitch below its left. Near the right place every part of a mark is level with the other.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, clear_width
from dusky_sieve.core.reading.patches import LINEAR, cut_patches, ink_weights
from dusky_sieve.core.reading.registration import Registration

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

LOOKED_AT_PX = 3.5  # gaps along travel wider than this show by themselves
LEAST_STEP_PX = 1.7  # a step lower than this cannot be seen
INNER, OUTER = 0.14, 0.44  # of a mark's length from its middle: the parts that are held against each other
SEGMENT = 6  # columns looked at together
LEAST_MARKS = 5  # printing marks of a segment that say something
STRADDLES = 0.5  # of a nozzle's step between a mark's parts, from which it straddles two
MOST_STRADDLING = (
    0.2  # of all marks looked at, beyond which the whole place is in doubt; fewer are unsure by themselves
)


def straddling(
    photo: Photo, blocks: list[MarksBlock], registration: Registration, backing: Backing
) -> tuple[float, dict[str, Bools]]:
    """Share of the marks looked at that straddle two steps, and per block which marks stand where some do or next to it.

    Nothing where gaps show by themselves or steps are too low to see.
    """
    looked = straddle = 0
    doubtful: dict[str, Bools] = {}
    for block in blocks:
        scale = registration.px_per_mm(np.array(block.origin))
        step = abs(block.column_pitch[1])
        if block.columns < SEGMENT or clear_width(block) * scale > LOOKED_AT_PX or step * scale < LEAST_STEP_PX:
            continue
        rise, printing = _rise(photo, block, registration, backing)
        segment = np.arange(block.nozzles) % block.columns // SEGMENT
        count = -(-block.columns // SEGMENT)
        bad = np.zeros(count + 2, bool)  # one more at either side, for neighbours
        for k in range(count):
            some = (segment == k) & printing
            if some.sum() >= LEAST_MARKS:
                looked += int(some.sum())
                bad[k + 1] = np.median(rise[some]) * np.sign(block.column_pitch[1]) > STRADDLES * step
                straddle += int(some.sum()) * bool(bad[k + 1])
        near = bad[:-2] | bad[1:-1] | bad[2:]
        doubtful[block.id] = near[segment]
    return straddle / looked if looked else 0.0, doubtful


def _rise(
    photo: Photo, block: MarksBlock, registration: Registration, backing: Backing
) -> tuple[Floats, NDArray[np.bool_]]:
    """How far (n,) mm the right part of each mark lies below the left one, and which marks print well enough to say."""
    patches = cut_patches(photo, block, registration, backing, None)
    weights, _ = ink_weights(patches, block, backing)
    n, across, along = patches.codes.shape[:3]
    light = cv2.LUT(patches.codes.reshape(-1, along, 3), LINEAR).reshape(n, across, along, 3)
    length = block.mark[0]
    heights, amounts = [], []
    for side in (-1, 1):
        part = (side * patches.along >= INNER * length) & (side * patches.along <= OUTER * length)
        if not part.any():
            return np.zeros(n), np.zeros(n, bool)
        profile = light[:, :, part].mean(axis=2, dtype=np.float64)
        ink = (
            1 - profile / patches.ground[:, None] if backing == "light" else profile - patches.ground[:, None]
        ) @ weights
        ink = np.maximum(ink - 0.15 * ink.max(axis=1, keepdims=True), 0)
        best = ink.argmax(axis=1)
        near = (
            np.abs(patches.across[None] - patches.across[best][:, None]) <= 1.5 * block.nozzle_pitch + block.mark[1] / 2
        )
        ink = ink * near
        amounts.append(ink.sum(axis=1))
        heights.append((ink * patches.across).sum(axis=1) / np.maximum(amounts[-1], 1e-9))
    least = np.minimum(*amounts)
    seen = patches.seen & (least > 0.4 * np.median(np.maximum(*amounts)))
    return heights[1] - heights[0], np.asarray(seen, np.bool_)
