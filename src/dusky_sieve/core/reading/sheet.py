"""One sheet from its photos to its reading."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, mark_centres
from dusky_sieve.core.reading.document import WARNINGS, BlockReading, PhotoReading, Reading, Warned
from dusky_sieve.core.reading.judge import faults_of, judge_marks
from dusky_sieve.core.reading.locate import locate
from dusky_sieve.core.reading.measure import MarkMeasures, measure_block
from dusky_sieve.core.reading.registration import Registration, fit_warp, refit_homography

Floats = NDArray[np.float64]

FITTED_MARKS = 700  # marks that take part in fitting the homography; more only cost time
LEAST_AGREEING = 0.88  # of well printed marks that one homography must explain; a wrong fit stays under it
PRINTING_FROM = 0.05  # share of a block's marks with ink, below which the block says nothing of sharpness
SMALLEST_PITCH_PX = 1.6  # px per nozzle pitch below which a deflection cannot be told; small is said


@dataclass(frozen=True)
class UprightPhoto:
    """A decoded photo: sRGB bytes (rows, columns, 3), EXIF orientation applied, and what lay behind the sheet."""

    pixels: NDArray[np.uint8]
    backing: Backing
    file: str


def read_sheet(layout: Layout, photos: list[UprightPhoto]) -> Reading:
    """The reading of one sheet from one photo per backing.

    A photo on which the sheet is not found is reported with `found` False and its `why`; its blocks are not read.
    """
    notes: list[PhotoReading] = []
    blocks: dict[str, BlockReading] = {}
    for photo in photos:
        try:
            note, read = _read_photo(layout, photo)
        except SheetNotFound as reason:
            h, w = photo.pixels.shape[:2]
            note, read = (
                PhotoReading(file=photo.file, width=w, height=h, backing=photo.backing, found=False, why=str(reason)),
                [],
            )
        notes.append(note)
        blocks |= {item.id: item for item in read}
    return Reading(
        layout=layout.name,
        photos=tuple(notes),
        blocks=tuple(blocks.get(b.id) or _unread(layout, b.id, notes) for b in layout.blocks),
    )


def _unread(layout: Layout, block_id: str, notes: list[PhotoReading]) -> BlockReading:
    block = next(b for b in layout.blocks if b.id == block_id)
    over = [note for note in notes if note.backing == block.backing]
    if block.kind == "solid":
        why = "fills are not read yet"
    elif not over:
        why = f"no photo over a {block.backing} backing was given"
    else:
        why = over[0].why or "the sheet was not found"
    return BlockReading(id=block.id, channel=block.channel, head=block.head, kind=block.kind, read=False, why=why)


def _read_photo(layout: Layout, photo: UprightPhoto) -> tuple[PhotoReading, list[BlockReading]]:
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock) and b.backing == photo.backing]
    if not blocks:
        raise SheetNotFound(
            f"{photo.file}: no block of the layout “{layout.name}” is judged over a {photo.backing} backing."
        )
    registration = locate(photo.pixels, layout, photo.backing, photo.file)
    registration, strength = _register(photo, blocks, registration)
    measured = [measure_block(photo.pixels, b, registration, photo.backing, expected_strength=strength) for b in blocks]
    height, width = photo.pixels.shape[:2]
    warnings: list[Warned] = []
    read: list[BlockReading] = []
    residuals: list[Floats] = []
    for block, marks in zip(blocks, measured, strict=True):
        reading, left, said = _judge_block(block, marks)
        read.append(reading)
        residuals.append(left)
        warnings += said
    scale = registration.px_per_mm(np.array(layout.size) / 2)
    finest = min(b.nozzle_pitch for b in blocks) * scale
    if finest < SMALLEST_PITCH_PX:
        warnings.append(Warned(code="small", message=WARNINGS["small"].format(share=f"{finest:.1f}")))
    note = PhotoReading(
        file=photo.file, width=width, height=height, backing=photo.backing, found=True,
        sheet_to_photo=tuple(tuple(float(v) for v in row) for row in registration.homography),
        warp_mm=tuple(tuple(round(float(v), 5) for v in row) for row in registration.warp),
        residual_um=round(float(np.sqrt(np.mean(np.concatenate(residuals) ** 2))) * 1000, 1) if residuals else None,
        px_per_mm=round(scale, 2), warnings=tuple(warnings),
    )  # fmt: skip
    return note, read


def _register(photo: UprightPhoto, blocks: list[MarksBlock], registration: Registration) -> tuple[Registration, float]:
    """The registration refined on the marks themselves, and the typical strength of a printing mark."""
    total = sum(b.nozzles for b in blocks)
    chosen = [np.arange(0, b.nozzles, max(1, total // FITTED_MARKS)) for b in blocks]
    strength = 0.6
    for round_ in range(2):
        centres, offsets, spread, strengths = [], [], [], []
        for block, rows in zip(blocks, chosen, strict=True):
            marks = measure_block(
                photo.pixels, block, registration, photo.backing, expected_strength=strength, rows=rows
            )
            if marks.printing < PRINTING_FROM:
                continue
            strengths.append(marks.strength)
            good = marks.judged & (marks.ink > 0.6) & (marks.ink < 1.6) & np.isfinite(marks.offset).all(axis=1)
            centres.append(mark_centres(block)[rows][good])
            offsets.append(np.stack([marks.centroid_x[good], marks.offset[good, 1]], axis=1))
            spread.append(marks.offset_sigma[good])
        if not centres or sum(len(c) for c in centres) < 8:
            raise SheetNotFound(
                f"{photo.file}: a pattern was found, but too few of its marks could be measured. "
                "Photograph it closer, sharper and evenly lit."
            )
        strength = float(np.median(strengths))
        where, off, sigma = np.concatenate(centres), np.concatenate(offsets), np.concatenate(spread)
        if round_ == 0:
            refit, agree = refit_homography(registration, where, off)
            if agree < LEAST_AGREEING:
                raise SheetNotFound(
                    f"{photo.file}: a pattern was found, but its marks do not lie as the layout says. "
                    "Check that this is the right printer's sheet, lay it flat and photograph it from straight above."
                )
            registration = refit
        else:
            registration = fit_warp(registration, where, off, sigma.max(axis=1))
    return registration, strength


def _judge_block(block: MarksBlock, marks: MarkMeasures) -> tuple[BlockReading, Floats, list[Warned]]:
    """A block's reading, the residuals (n, 2) mm of its well printed marks, and warnings."""
    said: list[Warned] = []
    for hidden, code in ((marks.outside, "cut_off"), (marks.glare, "glare")):
        if hidden.any():
            message = WARNINGS[code].format(block=block.id, share=f"{100 * hidden.mean():.0f}%")
            said.append(Warned.model_validate({"code": code, "message": message, "block": block.id}))
    solid = marks.judged & (marks.ink > 0.6) & np.isfinite(marks.offset).all(axis=1)
    shift = np.median(marks.offset[solid], axis=0) if solid.sum() >= 6 else np.zeros(2)
    offset = marks.offset - shift
    judgement = judge_marks(
        marks.ink,
        marks.ink_sigma,
        offset / block.nozzle_pitch,
        marks.offset_sigma / block.nozzle_pitch,
        marks.judged,
    )
    faults, counts = faults_of(block, judgement, marks.ink, offset * 1000)
    if counts["unsure"] == block.nozzles:
        why = said[0].message if said else "no mark of this block shows well enough to judge"
        return (
            BlockReading(id=block.id, channel=block.channel, head=block.head, kind="marks", read=False, why=why),
            np.zeros((0, 2)),
            said,
        )
    place = (round(float(shift[0] * 1000)), round(float(shift[1] * 1000)))
    reading = BlockReading(
        id=block.id,
        channel=block.channel,
        head=block.head,
        kind="marks",
        read=True,
        shift_um=place,
        counts=counts,
        faults=faults,
    )
    inlier = solid & (np.abs(offset) < 0.5 * block.nozzle_pitch).all(axis=1)
    return reading, offset[inlier], said
