"""The registration refined on the marks themselves, measured on the full photo."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Backing, Clear, MarksBlock, clear_of, mark_centres
from dusky_sieve.core.reading.cover import colour_of
from dusky_sieve.core.reading.measure import Expected, MarkMeasures, measure_block
from dusky_sieve.core.reading.order import median
from dusky_sieve.core.reading.registration import Registration, bent, fit_warp, tidied
from dusky_sieve.core.reading.surface import smooth_surface

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

FITTED_MARKS = 300  # marks that take part in fitting; more only cost time
LEAST_OF_BLOCK = 16  # of them: a block's typical mark is made of its own
ROUNDS = 3
SHIFT_ROUNDS = 4  # in which a warp and the shifts of blocks out of line are told apart
SETTLED = 0.4  # nozzle pitches: a round that moves marks by less ends the fitting; what it leaves is a tenth of that
BLUR_CLOSES_PX = 3.5  # gaps between marks along travel, narrower than which their ends cannot be told apart
PRINTING_FROM = 0.05  # share of a block's marks with ink, below which the block says nothing
OUT_OF_LINE = 0.8  # nozzle pitches by which a block lies off where all others put it, from which that bends no paper
LEAST_AGREEING = 0.6  # of well printed marks that must lie within half a pitch of the smooth fit
# Well printed marks, from which a smooth rest of curl and lens, linear up to quartic, is taken out block by block: paper has waves of a few
# centimetres.
BENT_FROM = (24, 40, 50, 120)
BENT = 0.5  # nozzle pitches by which a block bends, along travel gaps if these are wider, from which it is measured again where it lies
LESS_INK = 0.01  # share of all its marks' ink, by which it may then seem to print less
BEST_BLOCKS = 0.4  # of the best block's contrast, from which a block tells how sharp the photo is


def refine(
    photo: Photo, blocks: list[MarksBlock], registration: Registration, backing: Backing, file: str
) -> tuple[Registration, Expected, dict[str, Floats]]:
    """Registration good to a fraction of a pitch, what a printing mark of this photo looks like, and how far blocks are out of line.

    The last (2,) mm by id, of those that lie far off where the others put them, as an unaligned head's blocks do.

    Raises SheetNotFound where the marks do not lie as the layout says.
    """
    total = sum(b.nozzles for b in blocks)
    stride = max(1, total // FITTED_MARKS)
    chosen = [np.arange(0, b.nozzles, max(1, min(stride, b.nozzles // LEAST_OF_BLOCK))) for b in blocks]
    clears = clear_of(blocks)
    expected = Expected()
    pitch = min(b.nozzle_pitch for b in blocks)
    scale = registration.px_per_mm(mark_centres(blocks[0]).mean(axis=0))
    for _ in range(ROUNDS):
        measured = [
            measure_block(photo, b, registration, backing, expected=expected, clear=clear, rows=rows)
            for b, rows, clear in zip(blocks, chosen, clears, strict=True)
        ]
        centres, offsets, sigmas, owner = _good(blocks, clears, chosen, measured, BLUR_CLOSES_PX / scale)
        if len(centres) < 8:
            raise SheetNotFound(
                f"{file}: a pattern was found, but too few of its marks could be measured. "
                "Photograph it closer, sharper and evenly lit."
            )
        expected = _expected(measured)
        moved, step, shift = _in_line(registration, centres, offsets, sigmas, owner, OUT_OF_LINE * pitch)
        registration = moved
        if np.quantile(np.linalg.norm(step, axis=1), 0.9) < SETTLED * pitch:
            break
    if (np.abs(offsets - step - shift)[:, 1] < 0.5 * max(b.nozzle_pitch for b in blocks)).mean() < LEAST_AGREEING:
        raise SheetNotFound(
            f"{file}: a pattern was found, but its marks do not lie as the layout says. "
            "Check that this is the right printer's sheet, lay it flat and photograph it from straight above."
        )
    everything = np.concatenate([mark_centres(b)[rows] for b, rows in zip(blocks, chosen, strict=True)])
    apart = {blocks[k].id: shift[owner == k][0] for k in np.unique(owner)}
    far = {name: off for name, off in apart.items() if np.abs(off).max() > OUT_OF_LINE * pitch}
    return tidied(registration, everything), expected, far


def shared_offset(block: MarksBlock, offset: Floats, solid: Bools) -> Floats:
    """What all marks near by share (n, 2) mm: the block's own shift, and what of curl and lens the warp left over.

    offset : (n, 2) mm; solid : (n,) marks that printed well
    """
    degree = sum(int(solid.sum()) >= enough for enough in BENT_FROM)
    if degree == 0:
        shift = np.median(offset[solid], axis=0) if solid.sum() >= 6 else np.zeros(2)
        return np.asarray(np.broadcast_to(shift, offset.shape))
    known = np.where(solid[:, None], offset, 0.0)
    return smooth_surface(mark_centres(block), known, solid, degree, apart=True)


def measured_closely(
    photo: Photo, block: MarksBlock, registration: Registration, backing: Backing, *, expected: Expected, clear: Clear
) -> MarkMeasures:  # fmt: skip
    """What measure_block finds; where the sheet bends within the block as its smooth warp does not, on the marks followed there.

    A patch half a column aside sees parts of two marks. Offsets are against where the block then lies, but for what it is off as a
    whole: that speaks of alignment.
    """
    marks = measure_block(photo, block, registration, backing, expected=expected, clear=clear)
    most = BENT * max(block.nozzle_pitch, clear.width), BENT * block.nozzle_pitch
    for _ in range(ROUNDS):
        bend = shared_offset(block, np.stack([marks.centroid_x, marks.offset[:, 1]], axis=1), marks.solid)
        bend = bend - np.median(bend, axis=0)
        if (np.abs(bend) < most).all():
            break
        registration = bent(registration, mark_centres(block), bend)
        again = measure_block(photo, block, registration, backing, expected=expected, clear=clear)
        if np.minimum(again.ink, 1).mean() < np.minimum(marks.ink, 1).mean() - LESS_INK:
            break
        marks = again
    return marks


def _good(
    blocks: list[MarksBlock],
    clears: list[Clear],
    chosen: list[NDArray[np.int64]],
    measured: list[MarkMeasures],
    touching: float,
) -> tuple[Floats, Floats, Floats, NDArray[np.int64]]:
    """Places (n, 2), offsets (n, 2) and one-sigmas (n, 2), all mm, of well printed marks, and whose they are (n,)."""
    centres, offsets, sigmas = [np.zeros((0, 2))], [np.zeros((0, 2))], [np.zeros((0, 2))]
    owner = [np.zeros(0, np.int64)]
    for k, (block, clear, rows, marks) in enumerate(zip(blocks, clears, chosen, measured, strict=True)):
        good = marks.solid & (marks.ink < 1.6)
        if marks.printing < PRINTING_FROM or good.sum() < 3:
            continue
        sigma = marks.offset_sigma[good].copy()
        if clear.width < touching or (sigma[:, 0] >= block.mark[0]).any():
            sigma[:, 0] = 20.0  # marks that touch, or that blur closes, tell nothing along travel
        centres.append(mark_centres(block)[rows][good])
        offsets.append(np.stack([marks.centroid_x[good], marks.offset[good, 1]], axis=1))
        sigmas.append(sigma)
        owner.append(np.full(len(sigma), k))
    return np.concatenate(centres), np.concatenate(offsets), np.concatenate(sigmas), np.concatenate(owner)


def _in_line(
    registration: Registration, centres: Floats, offsets: Floats, sigmas: Floats, owner: NDArray[np.int64], far: float
) -> tuple[Registration, Floats, Floats]:
    """The registration with the smooth warp that `offsets` (n, 2) mm tell, and of each mark what that takes out and its block's shift.

    Where a block lies `far` from where all others put it, the warp is fitted to what shifts of whole blocks leave.
    """
    shift = np.zeros_like(offsets)
    for _ in range(SHIFT_ROUNDS):
        moved = fit_warp(registration, centres, offsets - shift, sigmas)
        step = moved.displaced(centres) - registration.displaced(centres)
        before, shift = shift, _by_block(offsets - step, owner)
        if np.abs(shift - before)[:, 1].max() < far:
            break
    return moved, step, shift


def _by_block(left: Floats, owner: NDArray[np.int64]) -> Floats:
    """The median (n, 2) of what is left of the marks of each one's block: heads and colours out of line bend no paper."""
    shift = np.empty_like(left)
    for k in np.unique(owner):
        shift[owner == k] = np.median(left[owner == k], axis=0)
    return shift


def _expected(measured: list[MarkMeasures]) -> Expected:
    """Typical peak and width of a printing mark, from the blocks that show best, and the colour of the paper."""
    printing = [m for m in measured if m.printing > 0.2]
    if not printing:
        return Expected()
    best = max(m.contrast for m in printing)
    clear = [m for m in printing if m.contrast >= BEST_BLOCKS * best]
    paper = median(colour_of(np.array([m.ground for m in printing])), axis=0)
    return Expected(float(np.median([m.strength for m in clear])), float(np.median([m.width for m in clear])), paper)
