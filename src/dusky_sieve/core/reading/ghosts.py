"""Faint traces of the blocks that this backing does not show, for telling which way round the sheet lies.

Film over black shows white ink; two like blocks of it look the same upside down. The colours beside them are next to
invisible there, but hundreds of marks together still leave a trace, and only one way round are they where it is.
"""

from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, lattice_middle, mark_centres, marks_over
from dusky_sieve.core.reading.compiled import compiled, in_rows
from dusky_sieve.core.reading.order import median
from dusky_sieve.core.reading.score import Place

Floats = NDArray[np.float64]

WINDOW = 15  # pixels of the surroundings that a trace stands out from
EVERY = 4  # pixels, of which one tells how much places differ
ACROSS, ALONG = 8, (-5, 0, 5)  # pixels either way, and pixels, by which a block seen only from afar may be misplaced
MISPLACED = float(np.hypot(ACROSS, ALONG[-1]))  # pixels, up to which two blocks' marks lie in one place
LEAST_SEEN = 12  # places on the photo, below which they say nothing
BY_CHANCE = 2.0  # standard errors that the best of the places tried reaches where there is nothing
SURE = 4.0  # standard errors beyond those, of all blocks together, from which a trace is no accident
CLEARER = 2.0  # times the other way's trace
DARKEST = 6.0  # of 255, added before grounds are compared: near black a few codes are nothing
OTHER_GROUND = 2.2  # times as bright or dark as where the sheet's own blocks lie: it is not the sheet's ground


class Ground:
    """What a small photo (rows, columns, 3) shows where its strokes are not looked for."""

    def __init__(self, small: NDArray[np.uint8]) -> None:
        self.small = small

    @cached_property
    def light(self) -> NDArray[np.float32]:
        """Brightness (rows, columns), 0..255, the mean of the bands."""
        one, two, three = cv2.split(self.small)  # all three as floats would be the largest picture of a reading
        total = cv2.add(cv2.add(one, two, dtype=cv2.CV_32F), three, dtype=cv2.CV_32F)
        return np.asarray(np.multiply(total, np.float32(1 / 3), out=total), np.float32)

    @cached_property
    def detail(self) -> NDArray[np.float32]:
        """How much brighter each place is than what is round it, (rows, columns), what stands out far held back."""
        detail = cv2.subtract(self.light, cv2.blur(self.light, (WINDOW, WINDOW)))
        limit = 4 * float(median(np.abs(detail[::EVERY, ::EVERY]).ravel())) * 1.4826 + 1.0
        soft = cv2.blur(detail, (3, 1))
        return np.asarray(np.clip(soft, -limit, limit, out=soft), np.float32)

    def trace(self, place: Place, layout: Layout, backing: Backing, rival: Place) -> float:
        """Standard errors, beyond those of chance, by which marks of the other backing differ from the bare places beside them.

        Those of all blocks together: the root of the sum of their squares. 0 where a block would lie beside the sheet. A block that lies
        where by a rival place another does tells nothing: that one leaves as much of a trace there, and more where it is laid more finely.
        """
        if self.beside_sheet(place, layout, backing) > 0:
            return 0.0
        others = _others(layout, backing)
        middles = np.array([lattice_middle(b) for b in others]).reshape(-1, 2)
        apart = np.linalg.norm(place(middles)[:, None] - rival(middles), axis=2)
        squares = 0.0
        for block, from_rivals in zip(others, apart, strict=True):
            if from_rivals.min() < MISPLACED:
                continue
            marks, bare = mark_centres(block), _bare(block)
            squares += max(_contrast(self.detail, in_rows(place(marks)), in_rows(place(bare))) - BY_CHANCE, 0.0) ** 2
        return float(np.sqrt(squares))

    def beside_sheet(self, place: Place, layout: Layout, backing: Backing) -> float:
        """Share of the other backing's blocks that would lie on ground unlike that about the sheet's own marks."""
        times = self._times(place, layout, backing)
        return sum(ratio > OTHER_GROUND for ratio in times) / max(1, len(times))

    def unlike_sheet(self, place: Place, layout: Layout, backing: Backing) -> float:
        """How many times as bright or dark the ground is on which one of these blocks would lie, at most; 1 where there is none."""
        return max(self._times(place, layout, backing), default=1.0)

    def _times(self, place: Place, layout: Layout, backing: Backing) -> list[float]:
        """How many times as bright or dark, 1 at least, the ground of each of them is as that about the sheet's own marks."""
        if not (others := _others(layout, backing)):
            return []  # no picture is made for it
        own = marks_over(layout, backing)
        ground = np.median([_level(self.light, place(_bare(b))) for b in own]) + DARKEST
        ratios = [float((_level(self.light, place(_bare(b))) + DARKEST) / ground) for b in others]
        return [max(ratio, 1 / ratio) for ratio in ratios]


def _others(layout: Layout, backing: Backing) -> list[MarksBlock]:
    """The blocks of the other backing that have marks enough to leave a trace."""
    return [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing != backing and b.nozzles >= 12]


def _bare(block: MarksBlock) -> Floats:
    """Places (n, 2) mm half a row on from each mark."""
    return np.asarray(mark_centres(block) + np.array(block.row_pitch) / 2)


def _level(light: NDArray[np.float32], spots: Floats) -> float:
    """Middle brightness at map places (n, 2)."""
    x, y = np.clip(np.rint(spots), 0, np.array(light.shape[::-1]) - 1).astype(np.int64).T
    return float(np.median(light[y, x]))


@compiled
def _contrast(detail: NDArray[np.float32], marks: Floats, bare: Floats) -> float:
    """The most standard errors by which a picture differs between map places (n, 2) and (m, 2), all moved a little together."""
    height, width = detail.shape
    best = 0.0
    for dy in range(-ACROSS, ACROSS + 1):
        for dx in ALONG:
            mean, error = np.zeros(2), 0.0
            for side, points in enumerate((marks, bare)):
                count, total, squares = 0, 0.0, 0.0
                for k in range(len(points)):
                    x, y = np.rint(points[k, 0] + dx), np.rint(points[k, 1] + dy)
                    if x >= 0 and y >= 0 and x < width and y < height:
                        value = detail[int(y), int(x)]
                        count += 1
                        total += value
                        squares += value * value
                if count < LEAST_SEEN:
                    error = np.inf
                    break
                mean[side] = total / count
                error += (squares / count - mean[side] ** 2) / count
            best = max(best, abs(mean[0] - mean[1]) / (np.sqrt(error) + 1e-3))
    return best


def clearer(mine: float, other: float) -> bool:
    """Whether one way's trace decides against the other's."""
    return mine > SURE and mine > CLEARER * other
