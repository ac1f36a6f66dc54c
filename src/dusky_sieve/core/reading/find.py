"""Finding the sheet: from nothing known to a homography good to a fraction of the lattice.

Three stages, each cheap enough to carry several candidates into the next: the direction the marks run in,
a similarity by correlation over scale and place, and eight parameters by intensity alignment coarse to fine.
"""

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, mark_centres
from dusky_sieve.core.reading.inkmap import Strokes, find_strokes, lean_histogram

Floats = NDArray[np.float64]
Image = NDArray[np.float32]

SEARCH_PX = 72  # longer side of the map in the similarity search
GRID = 160  # its Fourier grid; the pattern may hang over the frame's edge
SCALE_RATIO = 1.15  # step between tried scales
SMALLEST_FILL, LARGEST_FILL = 0.22, 1.25  # pattern's longer side over the frame's longer side
DIRECTIONS = 3  # peaks of the direction histogram that are followed, each both ways round
LEVELLED = 93  # percentile of blurred ink share; a pattern covers more of the frame than the words round it
CANDIDATES = 10  # similarities that are refined


@dataclass(frozen=True)
class Marks:
    """All marks of a layout that can show over one backing."""

    centres: Floats  # (n, 2) mm
    sizes: Floats  # (n, 2) mm
    colours: Floats  # (n, 3) share of light taken (light) or added (dark), 0..1
    block: NDArray[np.int64]  # (n,) index into layout.blocks

    def only(self, keep: NDArray[np.bool_]) -> "Marks":
        """These marks alone."""
        return Marks(self.centres[keep], self.sizes[keep], self.colours[keep], self.block[keep])


@dataclass(frozen=True)
class Candidate:
    """A similarity worth refining: its correlation, sheet mm to ink map pixels, and the strokes' direction."""

    score: float
    homography: Floats
    direction: float


def gather_marks(layout: Layout, backing: Backing) -> Marks:
    """Marks of every block judged over `backing`, in block order."""
    centres, sizes, colours, block = [], [], [], []
    for index, item in enumerate(layout.blocks):
        if isinstance(item, MarksBlock) and item.backing == backing:
            points = mark_centres(item)
            colour = stroke_colour(item.ink, backing)
            centres.append(points)
            sizes.append(np.tile(np.array(item.mark), (len(points), 1)))
            colours.append(np.tile(colour, (len(points), 1)))
            block.append(np.full(len(points), index))
    if not centres:
        return Marks(np.zeros((0, 2)), np.zeros((0, 2)), np.zeros((0, 3)), np.zeros(0, np.int64))
    return Marks(np.concatenate(centres), np.concatenate(sizes), np.concatenate(colours), np.concatenate(block))


def stroke_colour(ink: str, backing: Backing) -> Floats:
    """What an ink takes from (dark backing: adds to) each band of an sRGB photo, (3,), the strongest band 1."""
    srgb = np.array([int(ink[i : i + 2], 16) for i in (1, 3, 5)]) / 255.0
    share = np.clip(1 - srgb if backing == "light" else srgb, 0.02, 1)
    return np.asarray(share / share.max())


def level(strokes: NDArray[Any]) -> Image:
    """Blurred strokes with the densest places cut down: a crowd of desk grain must not outvote a block."""
    strongest = strokes.max(axis=2)
    return np.asarray(np.minimum(strokes, float(np.percentile(strongest, LEVELLED)) + 1e-4), np.float32)


def draw_marks(
    marks: Marks, scale: float, margin_mm: float, size: tuple[float, float], *, colours: bool = False
) -> Image:
    """Marks as ink share on a raster of `scale` px per mm, pixel (0, 0) at sheet point (-margin_mm, -margin_mm).

    One band, or three with `colours`.
    """
    shape = (int((size[1] + 2 * margin_mm) * scale) + 1, int((size[0] + 2 * margin_mm) * scale) + 1)
    bands = 3 if colours else 1
    canvas = np.zeros((shape[0] * shape[1], bands))
    along = 2 * max(1, int(np.ceil(marks.sizes[:, 0].max() / 2 * scale))) + 1
    # One sample of ink per step along each mark, as much ink as the step covers.
    amount = marks.sizes.prod(axis=1) * scale**2 / along
    for step in np.linspace(-1, 1, along):
        x = np.round((marks.centres[:, 0] + step * marks.sizes[:, 0] / 2 + margin_mm) * scale).astype(int)
        y = (marks.centres[:, 1] + margin_mm) * scale
        row = np.floor(y).astype(int)
        for dy in (0, 1):
            share = (1 - np.abs(y - row - dy)) * amount
            inside = (x >= 0) & (x < shape[1]) & (row + dy >= 0) & (row + dy < shape[0])
            cell = (row + dy)[inside] * shape[1] + x[inside]
            for band in range(bands):
                weight = share[inside] * (marks.colours[inside, band] if colours else 1)
                canvas[:, band] += np.bincount(cell, weights=weight, minlength=len(canvas))
    drawn = np.minimum(canvas, 1).astype(np.float32).reshape(*shape, bands)
    return drawn if colours else drawn[..., 0]


def directions(strokes: Strokes, marks: Marks, layout: Layout, scale: float) -> list[float]:
    """Likely angles (radians) of the sheet's x axis in the photo, best first, over half a turn."""
    observed = lean_histogram(strokes)
    drawn = lean_histogram(
        find_strokes(
            cv2.GaussianBlur(draw_marks(marks, scale, 1.0, layout.size), (0, 0), 0.7)[..., None]
            * np.ones(3, np.float32)
            * 0.4
        )
    )
    bins = len(observed)
    smooth = np.array([0.25, 0.5, 0.25])
    observed = np.convolve(np.concatenate([observed[-1:], observed, observed[:1]]), smooth, "valid")
    match = np.fft.irfft(np.fft.rfft(observed) * np.conj(np.fft.rfft(drawn)), bins)
    chosen: list[float] = []
    for turn in np.argsort(match)[::-1]:
        angle = float(turn) * np.pi / bins
        if all(abs((angle - other + np.pi / 2) % np.pi - np.pi / 2) > np.radians(9) for other in chosen):
            chosen.append(angle)
        if len(chosen) == DIRECTIONS or match[turn] < 0.15 * match.max():
            break
    return chosen


def similarities(ink: Image, strokes: Strokes, marks: Marks, layout: Layout) -> list[Candidate]:
    """The best similarities, best first, from correlating strokes with the drawn pattern.

    Normalised cross-correlation over the pattern's rectangle, colour by colour in one sum, by Fourier
    transform (Lewis 1995, "Fast normalized cross-correlation").
    """
    factor = SEARCH_PX / max(ink.shape[:2])
    longest = max(layout.size)
    steps = int(np.log(LARGEST_FILL / SMALLEST_FILL) / np.log(SCALE_RATIO)) + 1
    found: list[Candidate] = []
    for angle in directions(strokes, marks, layout, 0.7 * max(ink.shape[:2]) / longest):
        kept = strokes.running(angle)
        place = np.clip((strokes.centre[kept] * factor).astype(int), 0, GRID - 1)
        sky = np.zeros((GRID, GRID, 3), np.float32)
        for band in range(3):
            weight = strokes.long[kept] * strokes.colour[kept, band]
            sky[..., band] = np.bincount(
                place[:, 1] * GRID + place[:, 0], weights=weight, minlength=GRID * GRID
            ).reshape(GRID, GRID)
        frame = [int(side * factor) + 1 for side in ink.shape[:2]]
        seen = level(cv2.GaussianBlur(sky[: frame[0], : frame[1]], (0, 0), 1.3))
        sky = np.zeros((GRID, GRID, 3), np.float32)
        sky[: frame[0], : frame[1]] = seen
        waves = np.fft.rfft2(sky, axes=(0, 1))
        energy = np.fft.rfft2((sky**2).sum(axis=2))
        for turn in (angle, angle + np.pi):
            for scale in SEARCH_PX / longest * SMALLEST_FILL * SCALE_RATIO ** np.arange(steps):
                score, shift = _best_place(waves, energy, marks, layout, float(turn), float(scale))
                if score > 0:
                    c, s = np.cos(turn) * scale, np.sin(turn) * scale
                    centre = np.array([[c, -s], [s, c]]) @ (np.array(layout.size) / 2)
                    matrix = np.array([[c, -s, shift[0] - centre[0]], [s, c, shift[1] - centre[1]], [0, 0, 1]])
                    found.append(Candidate(score, np.diag([1 / factor, 1 / factor, 1]) @ matrix, angle))
    found.sort(key=lambda item: -item.score)
    return _distinct(found, layout)


def _best_place(
    sky: NDArray[np.complexfloating[Any, Any]],
    energy: NDArray[np.complexfloating[Any, Any]],
    marks: Marks,
    layout: Layout,
    turn: float,
    scale: float,
) -> tuple[float, Floats]:
    """Best correlation of the pattern turned and scaled so, and where its centre then lies (small pixels)."""
    c, s = np.cos(turn) * scale, np.sin(turn) * scale
    offset = marks.centres - np.array(layout.size) / 2
    place = offset @ np.array([[c, s], [-s, c]]) + GRID / 2
    cell = np.round(place).astype(int)
    inside = (cell >= 0).all(axis=1) & (cell < GRID).all(axis=1)
    drawn = np.zeros((GRID, GRID, 3), np.float32)
    area = marks.sizes.prod(axis=1)
    for band in range(3):
        drawn[..., band] = np.bincount(cell[inside, 1] * GRID + cell[inside, 0], weights=(area * marks.colours[:, band])[inside], minlength=GRID * GRID).reshape(GRID, GRID)  # fmt: skip
    drawn = np.asarray(cv2.GaussianBlur(drawn, (0, 0), 1.2), np.float32)
    half = np.array(layout.size) / 2 + 0.12 * max(layout.size)
    frame = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]]) * half @ np.array([[c, s], [-s, c]]) + GRID / 2
    mask = np.zeros((GRID, GRID), np.uint8)
    cv2.fillConvexPoly(mask, np.round(frame).astype(np.int32), (1,))
    window = mask.astype(np.float32)
    count = float(window.sum()) + 1e-9
    drawn = (drawn - drawn.sum(axis=(0, 1)) / count) * window[..., None]
    norm = float(np.sqrt((drawn**2).sum())) + 1e-9
    shape = np.conj(np.fft.rfft2(window))
    top = np.fft.irfft2((sky * np.conj(np.fft.rfft2(drawn, axes=(0, 1)))).sum(axis=2), (GRID, GRID))
    mean_energy = sum(np.fft.irfft2(sky[..., band] * shape, (GRID, GRID)) ** 2 for band in range(3)) / count
    variance = np.fft.irfft2(energy * shape, (GRID, GRID)) - mean_energy
    floor = 0.02 * float(variance.max()) + 1e-9  # nearly empty windows correlate by luck
    correlation = top / (norm * np.sqrt(np.maximum(variance, floor)))
    best = np.unravel_index(int(np.argmax(correlation)), correlation.shape)
    shift = np.array([best[1], best[0]], float)
    shift[shift > GRID / 2] -= GRID  # the transform wraps round
    return float(correlation[best]), shift + GRID / 2


def _distinct(found: list[Candidate], layout: Layout) -> list[Candidate]:
    """The best few that put the pattern's corners in clearly different places."""
    w, h = layout.size
    corners = np.array([[[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]]])
    kept: list[tuple[Candidate, Floats]] = []
    for candidate in found:
        seen = np.asarray(cv2.perspectiveTransform(corners, candidate.homography)[0])
        apart = 0.07 * np.linalg.norm(seen[0] - seen[2])
        if all(np.linalg.norm(seen - other, axis=1).max() > apart for _, other in kept):
            kept.append((candidate, seen))
        if len(kept) == CANDIDATES:
            break
    return [candidate for candidate, _ in kept]
