"""The strokes of a good sheet on its own plane: seen squarely, marks along x, with the colour of their ink."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading.inkmap import InkMap, Strokes, find_strokes, ink_over
from dusky_sieve.core.reading.registration import inverse, project
from dusky_sieve.core.reading.tilt import Lean, leans

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

TEACHING_PX = (
    4200,
    2400,
    1600,
)  # longer sides tried: small joints show in the first, ragged marks hold together in the last
GROUND_PX = 41  # window of the paper round a stroke; thicker marks than that no sheet has at this size
TRIED = 3  # directions of strokes that are tried
FAINT_PEAK = 0.25  # of the strongest direction, under which another is not tried
STEEPEST = np.radians(9)  # of a mark against its direction, after the plane is seen squarely


@dataclass(frozen=True)
class Plane:
    """Strokes in the sheet's plane, in pixels of the ink map at its middle.

    to_map : (3, 3) plane to ink map; ends : (n, 2, 2) left and right end of each stroke's axis
    wide : (n,) thickness; colour : (n, 3) share of light taken (over dark: given) per band, length 1
    paper : (n, 3) brightness beside each stroke; on_map : (n, 2) its middle on the ink map
    """

    to_map: Floats
    map: InkMap
    ends: Floats
    wide: Floats
    colour: Floats
    paper: Floats
    on_map: Floats

    @property
    def centre(self) -> Floats:
        """Middle of each stroke (n, 2)."""
        return np.asarray(self.ends.mean(axis=1))

    @property
    def long(self) -> Floats:
        """Length (n,) of each stroke."""
        return np.asarray(np.linalg.norm(self.ends[:, 1] - self.ends[:, 0], axis=1))

    def on_photo(self, points: Floats) -> Floats:
        """Photo pixels (n, 2) of points of the plane."""
        return (project(self.to_map, points) + 0.5) / self.map.factor - 0.5

    def from_photo(self, points: Floats) -> Floats:
        """Points (n, 2) of the plane under photo pixels."""
        return project(inverse(self.to_map), (points + 0.5) * self.map.factor - 0.5)

    def turned(self, angle: float) -> "Plane":
        """The plane with its x along what lay at an angle to it, radians."""
        c, s = float(np.cos(angle)), float(np.sin(angle))
        turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        return replace(self, to_map=self.to_map @ turn, ends=self.ends @ turn[:2, :2])

    def only(self, keep: Bools) -> "Plane":
        """These strokes alone."""
        return Plane(self.to_map, self.map, self.ends[keep], self.wide[keep], self.colour[keep], self.paper[keep], self.on_map[keep])  # fmt: skip


def planes(photo: Photo, backing: Backing, longest: int) -> Iterator[Plane]:
    """The photo's strokes on each likely plane, likeliest first; each both ways round, the more upright first.

    The likeliest direction is tried for marks of one length and for blocks of unlike marks; how many there are before
    the others is the same at every size.
    """
    ink = ink_over(photo, backing, GROUND_PX, longest)
    strokes = find_strokes(ink.ink)
    # Traces of colours over black stand in rows as good as those of white: they tell the plane, and are no marks.
    marks = np.isin(strokes.number, strokes.judged_over(backing).number)
    shape = (ink.ink.shape[0], ink.ink.shape[1])
    colour, paper = _colours(ink, strokes, backing)
    for lean in _likely(strokes, shape):
        ways = [lean.direction, lean.direction + np.pi]
        ways.sort(key=lambda way: -float(np.cos(_on_map(lean, way, shape))))
        yield from (_plane(ink, strokes, marks & lean.follows, lean.to_map, way, colour, paper) for way in ways)


def _likely(strokes: Strokes, shape: tuple[int, int]) -> Iterator[Lean]:
    """Leans, likeliest first; the costlier one of unlike marks is worked out only where it is asked for."""
    alike = leans(strokes, shape, TRIED, FAINT_PEAK)
    yield from alike[:1]
    yield from leans(strokes, shape, 1, FAINT_PEAK, even=False)
    yield from alike[1:]


def _on_map(lean: Lean, way: float, shape: tuple[int, int]) -> float:
    """The direction `way` of the plane as it runs on the photo."""
    line = project(lean.to_map, np.array([[0.0, 0.0], [np.cos(way), np.sin(way)]]) * 20)
    step = line[1] - line[0]
    return float(np.arctan2(step[1], step[0]))


def _plane(
    ink: InkMap, strokes: Strokes, marks: Bools, level: Floats, way: float, colour: Floats, paper: Floats
) -> Plane:
    """The plane `level` (3, 3), turned so that `way` runs along x, with those strokes that are `marks` (n,) and lie along it."""
    turn = np.array([[np.cos(way), -np.sin(way), 0], [np.sin(way), np.cos(way), 0], [0, 0, 1]])
    to_map = level @ turn
    half = 0.5 * strokes.long[:, None] * np.stack([np.cos(strokes.lean), np.sin(strokes.lean)], axis=1)
    back = inverse(to_map)
    ends = np.stack([project(back, strokes.centre - half), project(back, strokes.centre + half)], axis=1)
    swapped = ends[:, 0, 0] > ends[:, 1, 0]
    ends[swapped] = ends[swapped][:, ::-1]
    step = ends[:, 1] - ends[:, 0]
    keep = marks & (np.abs(np.arctan2(step[:, 1], step[:, 0])) < STEEPEST)
    whole = Plane(to_map, ink, ends, strokes.wide, colour, paper, strokes.centre)
    return whole.only(keep)


def _colours(ink: InkMap, strokes: Strokes, backing: Backing) -> tuple[Floats, Floats]:
    """Colour (n, 3) of the ink at each stroke's middle, length 1; and the paper's (n, 3) beside it."""
    kernel = np.ones((GROUND_PX, GROUND_PX), np.uint8)
    shape = cv2.MORPH_CLOSE if backing == "light" else cv2.MORPH_OPEN
    ground = cv2.morphologyEx(ink.small, shape, kernel)
    soft = cv2.blur(ink.small, (3, 3))
    at = np.round(strokes.centre).astype(int)
    rows, columns = at[:, 1].clip(0, soft.shape[0] - 1), at[:, 0].clip(0, soft.shape[1] - 1)
    here, paper = soft[rows, columns].astype(np.float64), ground[rows, columns].astype(np.float64)
    taken = 1 - (here + 3) / (paper + 3) if backing == "light" else here - paper
    taken = np.clip(taken, 1e-3, None)
    colour = taken / np.linalg.norm(taken, axis=1, keepdims=True)
    return np.asarray(colour), np.asarray(paper)
