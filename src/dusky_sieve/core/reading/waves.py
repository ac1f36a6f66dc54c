"""Waves of the paper that no smooth surface of a block follows, foretold under every mark by those near by.

Cockled paper rises and falls over a centimetre or two. A wave carries the marks near by alike, a nozzle that throws askew only its
own: what neighbours foretell by kriging (Matheron 1963) speaks of the paper, what is left of the nozzle.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.reading.neighbours import Neighbours, in_parts, nearest
from dusky_sieve.core.reading.order import one_sigma

Floats = NDArray[np.float64]

NEAREST = 16  # marks that foretell one
LENGTHS_MM = (2.5, 5.0, 10.0)  # over which a wave's height is alike, of which one is chosen
WAVY = 0.12  # nozzle pitches that well printed marks lie off, one-sigma, from which the paper may have waves
FORETOLD = 0.8  # of that, under which what neighbours do not foretell must stay for it to be waves
SCATTER = 0.06  # nozzle pitches, one-sigma: what marks lie off beyond any wave
OUTLYING = 2.0  # one-sigmas beyond which a mark says the less of the paper, the further off it lies
TALLER = 1.5  # times what most marks lie off: at a rim, where paper lifts, waves are higher
# Times what the best length leaves, up to which a shorter one is taken: that foretells less beyond a rim.
ABOUT_AS_WELL = 1.1
# Marks in all, below which nothing is foretold; of them, some that tell whether anything is.
LEAST_MARKS, TRIED = 24, 200


@dataclass(frozen=True)
class Waves:
    """Marks that tell of the paper under each other, and how much each does, one-sigma (m,) mm.

    length, height : over which a wave's height is alike, and how high it is, one-sigma, mm
    """

    marks: Neighbours
    scatter: Floats
    length: float
    height: float

    @staticmethod
    def of(marks: Neighbours, pitch: float) -> "Waves | None":
        """From well printed marks, what each block shares taken out; None where the paper has no waves. pitch : of nozzles, mm"""
        across, places = marks.across, marks.places
        height = one_sigma(across) if len(across) >= LEAST_MARKS else 0.0
        if height < WAVY * pitch:
            return None
        scatter = _doubted(across, SCATTER * pitch, height)
        ways = [Waves(marks, scatter, length, TALLER * height) for length in LENGTHS_MM]
        some = np.arange(0, len(places), -(-len(places) // TRIED))
        left = [one_sigma(across[some] - way.under(places[some])[0]) for way in ways]
        if min(left) > FORETOLD * height:
            return None
        best = next(way for way, rest in zip(ways, left, strict=True) if rest <= ABOUT_AS_WELL * min(left))
        unlike = across - best.under(places)[0]
        return replace(best, scatter=_doubted(unlike, SCATTER * pitch, one_sigma(unlike)))

    def under(self, places: Floats) -> tuple[Floats, Floats]:
        """How far the paper carries marks at places (n, 2) mm across travel, as others foretell it, and its one-sigma, (n,) mm each."""
        parts = [self._under(part) for part in in_parts(places, len(self.marks.places))]
        value, sigma = (np.concatenate(found) for found in zip(*parts, strict=True))
        return value, sigma

    def _under(self, places: Floats) -> tuple[Floats, Floats]:
        near = nearest(places, self.marks.places, NEAREST)
        seen = self.marks.places[near]
        alike = self._alike(seen[:, :, None] - seen[:, None])
        alike[:, np.arange(near.shape[1]), np.arange(near.shape[1])] += self.scatter[near] ** 2
        here = self._alike(seen - places[:, None])
        weight = np.linalg.solve(alike, here[..., None])[..., 0]
        value = (weight * self.marks.across[near]).sum(axis=1)
        return value, np.sqrt(np.maximum(self.height**2 - (weight * here).sum(axis=1), 0.0))

    def _alike(self, apart: Floats) -> Floats:
        """Covariance (...) mm2 of the paper's height at places so far apart (..., 2) mm."""
        return np.asarray(self.height**2 * np.exp(-0.5 * (apart**2).sum(axis=-1) / self.length**2))


def _doubted(off: Floats, scatter: float, usual: float) -> Floats:
    """One-sigma (n,) by which a mark's place speaks of the paper: the more, the further it lies off (n,) beyond what is usual."""
    return np.hypot(scatter, np.maximum(np.abs(off) - OUTLYING * usual, 0.0))
