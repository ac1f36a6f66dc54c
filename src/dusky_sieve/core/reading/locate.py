"""Which of the candidate places is the sheet: checked mark by mark, and refused where it is not there."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, mark_centres
from dusky_sieve.core.reading.align import align, shrunk
from dusky_sieve.core.reading.find import Candidate, Marks, gather_marks, similarities, stroke_colour
from dusky_sieve.core.reading.inkmap import FINDING_PX, Strokes, find_strokes, ink_map, shrink
from dusky_sieve.core.reading.registration import Registration, project, rigid

Floats = NDArray[np.float64]
Image = NDArray[np.float32]
Photo = NDArray[np.uint8]

WORTH_REFINING = 0.8  # of the best coarse correlation; candidates below it never win
CLEARLY_FOUND = 0.6  # agreement at which no further candidate is tried
FOUND_FROM = 0.45  # agreement of the blocks that show ink, below which nothing on the photo is the sheet
LEAST_FOUND = 0.12  # agreement over all blocks, absent ones too, below which the rest is luck
PRINTS_FROM = 0.02  # mean ink share of a block's places, from which it shows ink at all
RIVAL_SHARE = 0.93  # a different place this close to the best means that two ways round fit equally
SAMPLED_MARKS = 4000  # marks looked at when candidates are compared


def locate(photo: Photo, layout: Layout, backing: Backing, file: str) -> Registration:
    """Where the sheet lies on an upright photo, good to about a pixel of the finding map.

    Raises SheetNotFound where no place fits, or where two different ones fit equally.
    """
    small, factor = shrink(photo, FINDING_PX)
    ink = ink_map(small, layout, backing)
    marks = gather_marks(layout, backing)
    strokes = find_strokes(ink)
    tried = _follow(ink, strokes, similarities(ink, strokes, marks, layout), marks, layout, backing)
    if tried:
        best = max(tried, key=lambda item: item[0])[1]
        tried += [(agreement(ink, other, layout, backing), other) for other in _rivals(ink, best, layout, backing)]
    tried.sort(key=lambda item: -item[0])
    if not tried or tried[0][0] < LEAST_FOUND or _agreements(ink, tried[0][1], layout, backing)[1] < FOUND_FROM:
        raise SheetNotFound(
            f"{file}: no sheet of the layout “{layout.name}” was found. Photograph the whole printed pattern flat, "
            "sharp and filling most of the frame, or check that this is the right printer's sheet."
        )
    score, homography = tried[0]
    if any(rival > RIVAL_SHARE * score and _differ(homography, other, layout) for rival, other in tried[1:]):
        raise SheetNotFound(
            f"{file}: the sheet was found, but two ways round fit it equally well, so nothing was guessed. "
            "Too little of it printed to tell them apart: judge this sheet by eye."
        )
    full = np.linalg.inv(shrunk(factor)) @ homography
    return rigid(full / full[2, 2], layout.size)


def _follow(
    ink: Image, strokes: Strokes, candidates: list[Candidate], marks: Marks, layout: Layout, backing: Backing
) -> list[tuple[float, Floats]]:
    """Agreement and homography of the candidates that are worth refining; stops at one that is clearly it."""
    tried: list[tuple[float, Floats]] = []
    best_coarse = 0.0
    for candidate in candidates:
        lines = strokes.drawn(_like_marks(strokes, candidate.homography, candidate.direction, layout))
        coarse = align(lines, candidate.homography, marks, layout, range(2))
        if coarse is None or coarse[0] < WORTH_REFINING * best_coarse:
            continue
        best_coarse = max(best_coarse, coarse[0])
        refined = align(lines, coarse[1], marks, layout, range(2, 4))
        if refined is None:
            continue
        settled = settle_shift(ink, refined[1], layout, backing)
        tried.append((agreement(ink, settled, layout, backing), settled))
        if tried[-1][0] > CLEARLY_FOUND:
            break
    return tried


def _like_marks(strokes: Strokes, start: Floats, direction: float, layout: Layout) -> NDArray[np.bool_]:
    """Strokes (n,) that may be this candidate's marks: about as long and wide as most where the pattern should be.

    Paper edges, rules and table grain are few there and of other sizes. Compared with each other and not with
    the layout, because blur may join marks end to end.
    """
    running = strokes.running(direction)
    corners = project(
        start, np.array([[0, 0], [layout.size[0], 0], [layout.size[0], layout.size[1]], [0, layout.size[1]]])
    )
    middle, box = corners.mean(axis=0), cv2.convexHull(corners.astype(np.float32))
    near = running & (np.abs(strokes.centre - middle).max(axis=1) < 1.1 * np.abs(corners - middle).max())
    inside = np.array(
        [cv2.pointPolygonTest(box, (float(x), float(y)), False) >= 0 for x, y in strokes.centre[near]], bool
    )
    if inside.sum() < 8:
        return running
    long, wide = (float(np.median(v[near][inside])) for v in (strokes.long, strokes.wide))
    return np.asarray(near & (strokes.long < 2.2 * long + 3) & (strokes.wide < 2.2 * wide))


def agreement(ink: Image, homography: Floats, layout: Layout, backing: Backing) -> float:
    """How much of the ink expected under a homography is there and of the right colour, about 0..1.

    Per block: the share of marks with ink less the share of bare places with ink (between rows, one step
    outside the lattice), times how clearly the two differ, times the likeness of the colour to the layout's hint.
    Of all blocks, so that of two places the one that explains more ink wins.
    """
    return _agreements(ink, homography, layout, backing)[0]


def _agreements(ink: Image, homography: Floats, layout: Layout, backing: Backing) -> tuple[float, float]:
    """Agreement over all blocks, and over those that show ink: absent channels must not hide a sheet."""
    scores = [
        _block_agreement(ink, homography, b, backing, len(layout.blocks))
        for b in layout.blocks
        if isinstance(b, MarksBlock) and b.backing == backing
    ]
    shown = sum(n for _, prints, n in scores if prints)
    there = sum(score * n for score, prints, n in scores if prints) / shown if shown else 0.0
    return sum(score * n for score, _, n in scores) / sum(n for _, _, n in scores), there


def _block_agreement(
    ink: Image, homography: Floats, block: MarksBlock, backing: Backing, blocks: int
) -> tuple[float, bool, int]:
    """A block's agreement, whether it shows ink at all, and its marks."""
    centres = mark_centres(block)
    stride = max(1, len(centres) * blocks // SAMPLED_MARKS)
    marked, seen = _sample(
        ink, homography, np.concatenate([centres[::stride] + (dx * block.mark[0], 0) for dx in (-0.3, 0, 0.3)])
    )
    bare, _ = _sample(ink, homography, bare_places(block)[::stride])
    if seen.mean() < 0.3 or len(bare) == 0:
        return 0.0, False, len(centres)
    contrast = np.clip(marked.mean(axis=0) - bare.mean(axis=0), 0, None)
    hint = stroke_colour(block.ink, backing)
    likeness = max(0.0, float(contrast @ hint / (np.linalg.norm(contrast) * np.linalg.norm(hint) + 1e-6)))
    unit = contrast / (np.linalg.norm(contrast) + 1e-6)
    with_ink, without = marked @ unit, bare @ unit
    clear = float(np.clip((with_ink.mean() - without.mean()) / (without.std() + 0.02), 0, 1))
    middle = 0.5 * (np.quantile(with_ink, 0.85) + without.mean())
    hits = float((with_ink > middle).mean() * seen.mean() - (without > middle).mean())
    prints = bool(max(marked.max(axis=1).mean(), bare.max(axis=1).mean()) > PRINTS_FROM)
    return max(hits, 0) * clear * likeness**4, prints, len(centres)


def settle_shift(ink: Image, homography: Floats, layout: Layout, backing: Backing) -> Floats:
    """The homography moved by whole lattice steps to where the marks at the pattern's edges have ink.

    A lattice fits itself one step aside almost as well as in place; only its edges tell. The step that
    catches most ink over all marks wins.
    """
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing == backing]
    steps = {(0.0, 0.0)}
    for block in blocks:
        for i in (-2, -1, 0, 1, 2):
            for j in (-1, 0, 1):
                dx, dy = (i * c + j * r for c, r in zip(block.column_pitch, block.row_pitch, strict=True))
                steps.add((round(dx, 4), round(dy, 4)))
        if len(steps) > 60:
            break
    best, caught = (0.0, 0.0), -1.0
    places = [(b, mark_centres(b)[:: max(1, b.nozzles * len(blocks) // SAMPLED_MARKS)]) for b in blocks]
    for step in sorted(steps, key=lambda s: s[0] ** 2 + s[1] ** 2):
        total = 0.0
        for block, centres in places:
            sample, _ = _sample(
                ink,
                homography,
                np.concatenate([centres + step + (dx * block.mark[0], 0) for dx in (-0.25, 0.25)]),
            )
            hint = stroke_colour(block.ink, backing)
            total += float(np.minimum(sample @ (hint / np.linalg.norm(hint)), 0.25).sum())
        if total > caught * 1.002 + 1e-9:
            best, caught = step, total
    moved = homography @ np.array([[1, 0, best[0]], [0, 1, best[1]], [0, 0, 1]])
    return np.asarray(moved / moved[2, 2])


def bare_places(block: MarksBlock) -> Floats:
    """Points (n, 2) mm that carry no ink on a perfect sheet: half-way between rows, and one step outside."""
    centres = mark_centres(block)
    row, column = np.array(block.row_pitch), np.array(block.column_pitch)
    rows = -(-block.nozzles // block.columns)
    between = (
        centres + row / 2
        if rows > 1
        else np.concatenate([centres - (0, 3 * block.mark[1]), centres + (0, 3 * block.mark[1])])
    )
    r = np.arange(rows)[:, None]
    outside = [block.origin + r * row + c * column for c in (-1, block.columns)] if block.columns > 1 else []
    return np.concatenate([between, *outside])


def _sample(ink: Image, homography: Floats, points: Floats) -> tuple[Floats, NDArray[np.bool_]]:
    """Ink (m, 3) at the points (n, 2) mm that lie on the map, and which do (n,)."""
    place = np.round(project(homography, points)).astype(int)
    inside = (place >= 0).all(axis=1) & (place[:, 0] < ink.shape[1]) & (place[:, 1] < ink.shape[0])
    return np.asarray(ink[place[inside, 1], place[inside, 0]], np.float64), inside


def _rivals(ink: Image, homography: Floats, layout: Layout, backing: Backing) -> list[Floats]:
    """Homographies that lay the strongest printing block onto each block there is, both ways round.

    Like blocks, and patterns that look the same upside down, fit themselves there too: then nobody can say
    which it is, above all where channels are absent.
    """
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing == backing]
    middles = [0.5 * (mark_centres(b).min(axis=0) + mark_centres(b).max(axis=0)) for b in blocks]
    shares = [
        agreement(ink, homography, layout.model_copy(update={"blocks": (b,)}), backing) * b.nozzles for b in blocks
    ]
    anchor = middles[int(np.argmax(shares))]
    moves = []
    for middle in middles:
        (dx, dy), (sx, sy) = middle - anchor, middle + anchor
        moves.append(np.array([[-1, 0, sx], [0, -1, sy], [0, 0, 1.0]]))
        if dx or dy:
            moves.append(np.array([[1, 0, dx], [0, 1, dy], [0, 0, 1.0]]))
    return [homography @ move / (homography @ move)[2, 2] for move in moves]


def _differ(a: Floats, b: Floats, layout: Layout) -> bool:
    """Whether two homographies put the pattern's corners in different places (beyond 2 % of its size)."""
    w, h = layout.size
    corners = np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])
    seen, other = project(a, corners), project(b, corners)
    return bool(np.linalg.norm(seen - other, axis=1).max() > 0.02 * np.linalg.norm(seen[0] - seen[2]))
