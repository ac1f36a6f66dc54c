"""What marks near by say of how the sheet lies under one of them, whichever blocks they belong to.

Paper has waves that no smooth warp of a block follows, least of all at its rim or where few of its marks printed. A wave
carries all marks near by, a nozzle that throws askew only its own.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import MarksBlock, mark_centres

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

# Of 3,822 thrown marks of 218 tuning sheets of the bad end four are taken for carried ones, and of 130 others that lay as
# far off 44 (with `cover.unsettled`).
NEAREST = 14  # marks that tell
MOST_AT_ONCE = 1_000_000  # distances: 16 MB
ROUNDS, OUTLYING = 4, 2.0  # of reweighting; robust one-sigmas, from which a mark counts less
LEVEL, SLOPE = 1e-6, 0.3  # how hard the plane through them is held back, over the furthest of them
LEAST_SCATTER = 0.06  # nozzle pitches, one-sigma: well printed marks lie no closer to a plane
SURELY = 1.5  # one-sigmas from nothing, from which neighbours lie off
CARRIED = 0.25  # nozzle pitches that they lie off the same way, from which a mark is no thrown one
THROWN = 0.5  # the same that a thrown one must lie from them, reading contract


@dataclass(frozen=True)
class Neighbours:
    """The well printed marks of all blocks over one backing: places (n, 2) mm, and how far off across travel (n,) mm."""

    places: Floats
    across: Floats

    @staticmethod
    def of(parts: list[tuple[MarksBlock, Floats, Bools]]) -> "Neighbours":
        """From blocks, their marks' offsets (n, 2) mm less what each block shares, and which of them printed well (n,)."""
        places = [np.zeros((0, 2)), *(mark_centres(block)[solid] for block, _, solid in parts)]
        return Neighbours(np.concatenate(places), np.concatenate([np.zeros(0), *(o[s, 1] for _, o, s in parts)]))

    def carry(self, places: Floats, offset: Floats, pitch: float) -> Bools:
        """Which marks at places (n, 2) mm lie off (n, 2) mm because those near by do; pitch : of nozzles, mm.

        None that lies off as far along travel: of that its neighbours tell next to nothing.
        """
        if len(self.places) <= NEAREST or not len(places):
            return np.zeros(len(places), bool)
        near = np.concatenate([nearest(part, self.places, NEAREST) for part in in_parts(places, len(self.places))])
        there, spread = _plane(self.places[near] - places[:, None], self.across[near] / pitch)
        along, across = np.abs(offset / pitch).T
        there = there * np.sign(offset[:, 1])
        near = (there > CARRIED) | (across - there < THROWN)
        return np.asarray((there > SURELY * spread) & near & (along < THROWN))


def in_parts(places: Floats, count: int) -> list[Floats]:
    """Places (n, 2) in parts, of which the distances to `count` others fit into memory."""
    return np.array_split(places, max(1, -(-len(places) * count // MOST_AT_ONCE)))


def nearest(places: Floats, others: Floats, count: int) -> NDArray[np.int64]:
    """Which of others (m, 2) are nearest to each place (n, 2), `count` of them, but not those that stand at it."""
    right, down = (others[:, k] - places[:, k, None] for k in (0, 1))
    apart = right * right + down * down
    apart[apart < 1e-9] = np.inf
    return np.argpartition(apart, count, axis=1)[:, :count]


def _plane(places: Floats, value: Floats) -> tuple[Floats, Floats]:
    """Height at 0, 0 of a robust plane through values (n, k) at places (n, k, 2), and its one-sigma, (n,) each."""
    far = np.abs(places).max(axis=(1, 2), keepdims=True) + 1e-9
    terms = np.concatenate([np.ones((*value.shape, 1)), places / far], axis=2)
    held = np.diag([LEVEL, SLOPE, SLOPE])
    weight = np.ones_like(value)
    for _ in range(ROUNDS):
        scaled = (terms * weight[..., None]).swapaxes(1, 2)
        normal = scaled @ terms + held
        fit = np.linalg.solve(normal, scaled @ value[..., None])
        left = np.abs(value - (terms @ fit)[..., 0])
        scatter = np.maximum(1.4826 * np.median(left, axis=1), LEAST_SCATTER)
        weight = 1 / (1 + (left / (OUTLYING * scatter[:, None])) ** 2)
    return fit[:, 0, 0], scatter * np.sqrt(np.linalg.inv(normal)[:, 0, 0])
