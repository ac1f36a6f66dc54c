"""Where the pattern may lie: similarities by correlation, on the sheet's plane seen squarely."""

from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import chain

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import (
    Backing,
    Layout,
    MarksBlock,
    clear_heights,
    clear_width,
    extent,
    mark_centres,
    marks_over,
)
from dusky_sieve.core.reading.inkmap import Strokes
from dusky_sieve.core.reading.registration import inverse, project
from dusky_sieve.core.reading.tilt import Lean

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Waves = NDArray[np.float32]  # a real picture transformed, packed as OpenCV does

SEARCH_PX = 84  # longer side of the map in the search
GRID = 192  # its Fourier grid; the pattern may hang over the frame's edge
SCALE_RATIO = 1.14  # step between tried scales
SMALLEST_FILL, LARGEST_FILL = 0.15, 1.25  # whole sheet's and pattern's longer side over the frame's longer side
LONGEST_PARTED = 4.0  # times as long as its pieces mostly are, that a run is which gaps part
NEAR_SCALES = 2  # steps to each side where stroke lengths tell the scale
# Places tried of each scale and way round, and how far one reaches, search pixels.
PEAKS, ONE_PEAK = 2, np.arange(-4, 5)
LEVELLED = 75  # percentile of stroke density where there is any; denser places must not outvote a pattern's spread
OUTERMOST = 0.05  # of the spread of blocks, within which they are one side's
MOST_OUTER = 0.34  # of all blocks, that may be left out as one side's
HALF_OUTER = 0.5  # the same where nothing was found with them
MOST_POINTS = 1500  # along all marks together, that are followed
TOUCHING_SHARE = 0.25  # of a mark's length: gaps narrower than this may close by blur


@dataclass(frozen=True)
class Effort:
    """How much is tried: directions followed, how faint their peaks may be, every scale, candidates of each and in all.

    parts : the pattern without the blocks of one side, each side in turn, and not all of it
    """

    directions: int
    faint_peak: float
    every_scale: bool
    candidates: int
    in_all: int
    parts: bool = False


# Most sheets are found in the first; each later one is for what the earlier ones did not clearly find.
EFFORTS = (Effort(5, 0.2, False, 5, 10), Effort(8, 0.06, False, 4, 8), Effort(8, 0.06, True, 4, 10))
CLOSE = Effort(8, 0.06, False, 4, 8)  # on a larger map, where all takes longer
PARTS = Effort(2, 0.2, False, 2, 6, parts=True)


@dataclass(frozen=True)
class Marks:
    """All marks of a layout that can show over one backing: centres and sizes (n, 2) mm, block (n,) index, clear heights (n,) mm."""

    centres: Floats
    sizes: Floats
    block: NDArray[np.int64]
    clear: Floats

    @cached_property
    def points(self) -> tuple[Floats, Floats]:
        """Three points (n, 2) mm along every mark, of many marks along some of them, and the clear heights (n,) mm there."""
        stride = max(1, len(self.centres) * 3 // MOST_POINTS)
        centres, sizes = self.centres[::stride], self.sizes[::stride]
        along = [centres + sizes * (part, 0) for part in (-0.35, 0.0, 0.35)]
        return np.concatenate(along), np.tile(self.clear[::stride], len(along))

    def only(self, keep: NDArray[np.bool_]) -> "Marks":
        """These marks alone."""
        return Marks(self.centres[keep], self.sizes[keep], self.block[keep], self.clear[keep])


@dataclass(frozen=True)
class Candidate:
    """A place worth refining: its score (see similarities), sheet mm to ink map pixels, and the strokes that follow its direction.

    marks : those that it was looked for with
    laid : whether it lies on its strokes' lattice already, so that nothing need be aligned
    """

    score: float
    homography: Floats
    lean: Lean
    marks: Marks
    laid: bool = False


@lru_cache(maxsize=16)  # the same blocks each time, not others that are equal: what is kept of them is found at once
def boxed(layout: Layout, backing: Backing) -> tuple[Layout, tuple[float, float]]:
    """The layout moved so that the box of its marks over `backing` starts at 0, 0; and where that box stood."""
    boxes = np.array([extent(b) for b in marks_over(layout, backing)])
    x, y = float(boxes[:, 0].min()), float(boxes[:, 1].min())
    blocks = tuple(b.model_copy(update={"origin": (b.origin[0] - x, b.origin[1] - y)}) for b in layout.blocks)
    size = (float(boxes[:, 2].max()) - x, float(boxes[:, 3].max()) - y)
    return layout.model_copy(update={"blocks": blocks, "size": size}), (x, y)


def gather_marks(layout: Layout, backing: Backing) -> Marks:
    """Marks of every block judged over `backing`, in block order."""
    blocks = marks_over(layout, backing)
    names, counts = {b.id for b in blocks}, [b.nozzles for b in blocks]
    index = [k for k, item in enumerate(layout.blocks) if item.id in names]
    centres = np.concatenate([np.zeros((0, 2)), *(mark_centres(b) for b in blocks)])
    sizes = np.repeat(np.array([b.mark for b in blocks]).reshape(-1, 2), counts, axis=0)
    return Marks(centres, sizes, np.repeat(index, counts), np.repeat(clear_heights(blocks), counts))


def correlated(
    strokes: Strokes, leans: list[Lean], marks: Marks, layout: Layout, shape: tuple[int, int], effort: Effort, whole_mm: float
) -> list[Candidate]:  # fmt: skip
    """What one effort finds by correlation, of the whole pattern or of its parts, best first; see similarities."""
    every, most = effort.every_scale, effort.candidates
    patterns = without_sides(marks, HALF_OUTER) if effort.parts else [marks]
    found = [similarities(strokes, leans, some, layout, shape, every_scale=every, most=most, whole_mm=whole_mm) for some in patterns]  # fmt: skip
    return sorted(chain(*found), key=lambda place: -place.score)[: effort.in_all]


def similarities(
    strokes: Strokes,
    leans: list[Lean],
    marks: Marks,
    layout: Layout,
    shape: tuple[int, int],
    *,
    every_scale: bool,
    most: int,
    whole_mm: float,
) -> list[Candidate]:
    """The best places, best first, from correlating stroke density with the pattern's.

    Normalised cross-correlation over the pattern's rectangle by Fourier transform (Lewis 1995, "Fast normalized
    cross-correlation"), counted the more, the more of all strokes lie in it. Scales are tried round what stroke
    lengths say, or all of them.
    whole_mm : the longer side of the whole sheet, of which `layout` may be a small part that this backing shows
    """
    found: list[Candidate] = []
    for lean in leans:
        places: list[Candidate] = []
        seen, weight = _inked_places(strokes, lean)
        frame = project(inverse(lean.to_map), corners_of(shape[1] - 1.0, shape[0] - 1.0))
        low, high = frame.min(axis=0), frame.max(axis=0)
        factor = SEARCH_PX / max(shape)
        size = np.minimum(((high - low) * factor).astype(int) + 1, int(0.75 * GRID))
        cell = ((seen - low) * factor).astype(int)
        inside = (cell >= 0).all(axis=1) & (cell < size).all(axis=1)
        sky = np.zeros((GRID, GRID), np.float32)
        density = np.bincount(cell[inside, 1] * GRID + cell[inside, 0], weights=weight[inside], minlength=GRID * GRID)
        soft = cv2.GaussianBlur(density.reshape(GRID, GRID).astype(np.float32), (0, 0), 1.3)[: size[1], : size[0]]
        busy = soft[soft > 0.02 * soft.max()] if soft.max() > 0 else soft
        sky[: size[1], : size[0]] = np.minimum(soft, float(np.percentile(busy, LEVELLED)) + 1e-4)
        waves, energy = _waves(sky), _waves(sky**2)
        for number, (slant, length) in enumerate(stroke_ways(layout, marks)):
            for scale in _scales(lean, length, (whole_mm, max(layout.size)), shape, every_scale, parted=number > 0):
                way = lean.direction - slant
                for turn, score, centre in _best_places(waves, energy, marks, layout, way, scale * factor):
                    c, s = np.cos(turn) * scale, np.sin(turn) * scale
                    place = centre / factor + low - np.array([[c, -s], [s, c]]) @ (np.array(layout.size) / 2)
                    plane = np.array([[c, -s, place[0]], [s, c, place[1]], [0, 0, 1]])
                    places.append(Candidate(score, lean.to_map @ plane, lean, marks))
        found += distinct(sorted(places, key=lambda item: -item.score), layout, most)
    found.sort(key=lambda item: -item.score)
    return found


def _inked_places(strokes: Strokes, lean: Lean) -> tuple[Floats, Floats]:
    """Points (n, 2) along the strokes that follow a lean, on its plane, and the length each stands for (n,)."""
    centre, long, turn = (v[lean.follows] for v in (strokes.centre, strokes.long, strokes.lean))
    half = 0.4 * long[:, None] * np.stack([np.cos(turn), np.sin(turn)], axis=1)
    spots = np.concatenate([centre + part * half for part in (-1.0, -0.5, 0.0, 0.5, 1.0)])
    weight = np.minimum(long, max(3 * float(np.median(long)), float(np.quantile(long, 0.9))))
    return project(inverse(lean.to_map), spots), np.tile(weight / 5, 5)


def without_sides(marks: Marks, most: float = MOST_OUTER) -> list[Marks]:
    """The marks without the outermost blocks of each side in turn, where these are at most a share of all blocks."""
    blocks = np.unique(marks.block)
    middles = np.array([np.median(marks.centres[marks.block == b], axis=0) for b in blocks])
    reach = np.ptp(middles, axis=0)
    found = []
    for axis in (0, 1):
        for end in (middles[:, axis].min(), middles[:, axis].max()):
            outer = np.abs(middles[:, axis] - end) <= OUTERMOST * reach[axis]
            if reach[axis] > 0 and outer.sum() <= most * len(blocks):
                found.append(marks.only(~np.isin(marks.block, blocks[outer])))
    return found


def stroke_ways(layout: Layout, marks: Marks) -> list[tuple[float, float]]:
    """How strokes may lie to the sheet: slant (radians) and length (mm) of single marks, and of runs that touch."""
    ways = [(0.0, float(np.median(marks.sizes[:, 0])))]
    for block in layout.blocks:
        if isinstance(block, MarksBlock) and block.columns > 2 and clear_width(block) < TOUCHING_SHARE * block.mark[0]:
            dx, dy = block.column_pitch
            slant = float(np.arctan2(dy, dx))
            run = (block.columns - 1) * float(np.hypot(dx, dy)) + block.mark[0]
            if all(abs(slant - a) > 0.02 or abs(run - b) > 0.2 * b for a, b in ways):
                ways.append((slant, run))
    return ways[:3]


def _scales(
    lean: Lean, length: float, sides: tuple[float, float], shape: tuple[int, int], every: bool, *, parted: bool
) -> list[float]:
    """Map pixels per mm worth trying; `sides` are the longer ones, mm, of the whole sheet and of what is looked for.

    parted : where gaps part strokes of that length, they are longer than they seem
    """
    low, high = max(shape) / sides[0] * SMALLEST_FILL, max(shape) / sides[1] * LARGEST_FILL
    if lean.length is not None and not every:
        most = int(np.log(LONGEST_PARTED) / np.log(SCALE_RATIO)) if parted else NEAR_SCALES
        near = lean.length / length * SCALE_RATIO ** np.arange(-NEAR_SCALES, most + 1)
        return [float(s) for s in near if low <= s <= high]
    return [float(s) for s in low * SCALE_RATIO ** np.arange(int(np.log(high / low) / np.log(SCALE_RATIO)) + 1)]


def _best_places(
    sky: Waves, energy: Waves, marks: Marks, layout: Layout, turn: float, scale: float
) -> list[tuple[float, float, Floats]]:
    """The turn, the best correlations and where the pattern's centre then lies (search pixels), both ways round.

    A correlation counts by the root of the share of all strokes that lie where the pattern would. The window in which it
    is looked for is the same both ways, and so is what varies within it.
    """
    c, s = np.cos(turn) * scale, np.sin(turn) * scale
    rotate = np.array([[c, s], [-s, c]])
    half = np.array(layout.size) / 2 + 0.1 * max(layout.size)
    frame = corners_of(*(2 * half)) - half
    mask = np.zeros((GRID, GRID), np.uint8)
    cv2.fillConvexPoly(mask, np.round(frame @ rotate + GRID / 2).astype(np.int32), (1,))
    window = mask.astype(np.float32)
    count = float(window.sum()) + 1e-9
    shape = _waves(window)
    held = _correlated(sky, shape)
    variance = _correlated(energy, shape) - held**2 / count
    floor = 0.02 * float(variance.max()) + 1e-9  # nearly empty windows correlate by luck
    # A few strokes are easily like a pattern; it is likelier where most are. A transform's first number is the sum.
    worth = np.sqrt(np.clip(held / (sky[0, 0] + 1e-9), 0, 1) / np.maximum(variance, floor))
    found = []
    picture = _pictured(marks, layout, rotate)
    picture = (picture - picture.sum() / count) * window
    norm = float(np.sqrt((picture**2).sum())) + 1e-9
    waves = _waves(picture)
    for turned in (False, True):  # a picture turned half round about the middle has the conjugate transform
        correlation = _correlated(sky, waves, turned=turned) * worth
        for _ in range(PEAKS):
            y, x = divmod(int(np.argmax(correlation)), GRID)
            shift = np.array([x, y], float)
            shift[shift > GRID / 2] -= GRID  # the transform wraps round
            found.append((turn + np.pi * turned, float(correlation[y, x]) / norm, shift + GRID / 2))
            correlation[np.ix_((y + ONE_PEAK) % GRID, (x + ONE_PEAK) % GRID)] = -1.0
    return found


def _pictured(marks: Marks, layout: Layout, rotate: Floats) -> Singles:
    """The density of marks (GRID, GRID) that the pattern would show, its centre in the middle, turned and scaled so."""
    stride = max(1, len(marks.centres) // 6000)
    offset = marks.centres[::stride] - np.array(layout.size) / 2
    cell = np.round(offset @ rotate + GRID / 2).astype(int)
    inside = (cell >= 0).all(axis=1) & (cell < GRID).all(axis=1)
    area = marks.sizes[::stride, 0][inside]
    drawn = np.bincount(cell[inside, 1] * GRID + cell[inside, 0], weights=area, minlength=GRID * GRID)
    return np.asarray(cv2.GaussianBlur(drawn.reshape(GRID, GRID).astype(np.float32), (0, 0), 1.3), np.float32)


def _waves(picture: Singles) -> Waves:
    return np.asarray(cv2.dft(picture), np.float32)


def _correlated(one: Waves, other: Waves, *, turned: bool = False) -> Singles:
    """The correlation (GRID, GRID) of two pictures, or with the other one turned half round, from their transforms, as OpenCV packs those of real pictures."""
    return np.asarray(cv2.idft(cv2.mulSpectrums(one, other, 0, conjB=not turned), flags=cv2.DFT_SCALE), np.float32)


def corners_of(w: float, h: float) -> Floats:
    """Of a box of that size, (4, 2), from the top left one on, clockwise."""
    return np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])


def distinct(found: list[Candidate], layout: Layout, most: int) -> list[Candidate]:
    """The best few that put the pattern's corners in clearly different places."""
    kept: list[tuple[Candidate, Floats]] = []
    for candidate in found:
        seen = project(candidate.homography, corners_of(*layout.size))
        apart = 0.06 * np.linalg.norm(seen[0] - seen[2])
        if all(np.linalg.norm(seen - other, axis=1).max() > apart for _, other in kept):
            kept.append((candidate, seen))
        if len(kept) == most:
            break
    return [candidate for candidate, _ in kept]


def like_marks(strokes: Strokes, candidate: Candidate, layout: Layout, longest_run_mm: float) -> NDArray[np.bool_]:
    """Strokes (n,) that may be this candidate's marks: about as long and wide as most where the pattern should be.

    Paper edges, rules and table grain are few there and of other sizes. Compared with each other and not with
    the layout, because blur may join marks end to end.
    """
    running = candidate.lean.follows
    w, h = layout.size
    back = project(inverse(candidate.homography), strokes.centre) / (w, h)
    near = running & (np.abs(back - 0.5) < 0.65).all(axis=1)
    inside = near & (np.abs(back - 0.5) < 0.5).all(axis=1)
    if inside.sum() < 8:
        return running
    long, wide = float(np.median(strokes.long[inside])), float(np.median(strokes.wide[inside]))
    across = project(candidate.homography, np.array([[w / 2, h / 2], [w / 2 + 1, h / 2]]))
    longest = max(2.5 * long + 3, 1.3 * longest_run_mm * float(np.linalg.norm(across[1] - across[0])))
    return np.asarray(near & (strokes.long < longest) & (strokes.wide < 2.2 * wide + 1))
