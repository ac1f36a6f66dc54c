"""One sheet from its photos to its reading."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound, TwoWaysRound
from dusky_sieve.core.layout import (
    Backing,
    Layout,
    MarksBlock,
    SolidBlock,
    clear_of,
    grey_ink,
    lattice_middle,
    mark_centres,
    marks_over,
    overlaid,
)
from dusky_sieve.core.reading.along import along_travel, numbered_back
from dusky_sieve.core.reading.aside import lying_aside
from dusky_sieve.core.reading.compiled import on_one_core
from dusky_sieve.core.reading.cover import (
    STATE_DEFLECTED,
    STATE_UNSEEN,
    adrift,
    astray,
    between_rows,
    carried_off,
    ended,
    feigned,
    next_ones_ink,
    parted,
    printed_paper,
    spread,
    unsettled,
)
from dusky_sieve.core.reading.document import WARNINGS, BlockReading, PhotoReading, Reading, Warned
from dusky_sieve.core.reading.fills import read_fill
from dusky_sieve.core.reading.inklaw import amounts
from dusky_sieve.core.reading.judge import faults_of, judge_marks
from dusky_sieve.core.reading.laid import Placed, laid
from dusky_sieve.core.reading.locate import Corners, Locator
from dusky_sieve.core.reading.measure import DEAD, MarkMeasures
from dusky_sieve.core.reading.mingled import mingled
from dusky_sieve.core.reading.neighbours import Neighbours
from dusky_sieve.core.reading.passes import alternating, fed
from dusky_sieve.core.reading.pin import by_corners
from dusky_sieve.core.reading.place import places_of
from dusky_sieve.core.reading.refine import measured_closely, shared_offset
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.silent import all_faint, elsewhere
from dusky_sieve.core.reading.untraced import untraced
from dusky_sieve.core.reading.waves import Waves
from dusky_sieve.core.reading.ways import MIRROR_IMAGE

Floats = NDArray[np.float64]

# px per nozzle pitch, below which deflections are not surely told and small is said; and below which nothing of a block is read: of 14
# photos at 0.36 to 0.93 px 10 had marks read wrongly, up to one in twenty, of 9 at 1.03 to 2.6 px two, of two marks at most.
SMALLEST_PITCH_PX, LEAST_PITCH_PX = 1.4, 1.0
LEAST_CONTRAST = 4.0  # typical mark over the noise, below which a block is not judged
ON_ANOTHERS = (
    "by the layout its marks lie on another block's, and nobody can tell whose ink it is: check where both begin"
)
SMEARED = 0.42  # a mark's one-sigma over the clear height: beyond it marks run into each other
# Of 255, between the bands of one of a photo's pixels, of which one in so many each way is looked at: above, it has colours.
NO_COLOUR, LOOKED_AT = 3, 24


@dataclass(frozen=True)
class UprightPhoto:
    """A decoded photo: sRGB bytes (rows, columns, 3), EXIF orientation applied, and what lay behind the sheet.

    corners : the pattern's corners on the photo in pixels as a person marked them, from the sheet's own top left
    on clockwise; None has the sheet found.
    placed : where the sheet is known to lie, to a fraction of its rows; it is not looked for then.
    """

    pixels: NDArray[np.uint8]
    backing: Backing
    file: str
    corners: Corners | None = None
    placed: Registration | None = None


@on_one_core
def read_sheet(layout: Layout, photos: list[UprightPhoto]) -> Reading:
    """The reading of one sheet from one photo per backing.

    A photo on which the sheet is not found is reported with `found` False and its `why`; its blocks are not read.
    """
    as_read, pieces = along_travel(layout)
    return numbered_back(_read_along(as_read, photos), layout, pieces)


@dataclass(frozen=True)
class _Tried:
    """What one photo told: of itself, of its backing's blocks, and where the sheet lies on it, if that was found."""

    note: PhotoReading
    read: list[BlockReading]
    place: Registration | None


def _read_along(layout: Layout, photos: list[UprightPhoto]) -> Reading:
    """The same of a layout whose columns all lie along travel."""
    tried = [_tried(layout, photo) for photo in photos]
    for k, photo in enumerate(photos):
        if tried[k].place is None and photo.corners is None and photo.placed is None:
            absent = _absent(layout, photo.backing, photos, tried)
            tried[k] = _tried_without(layout, photo, absent, tried[k]) if absent else tried[k]
    notes = [one.note for one in tried]
    blocks = {item.id: item for one in tried for item in one.read}
    return Reading(
        layout=layout.name,
        photos=tuple(notes),
        blocks=tuple(blocks.get(b.id) or _unread(b, notes) for b in layout.blocks),
    )


def _tried(layout: Layout, photo: UprightPhoto) -> _Tried:
    try:
        return _read_photo(layout, photo)
    except SheetNotFound as reason:
        h, w = photo.pixels.shape[:2]
        note = PhotoReading(file=photo.file, width=w, height=h, backing=photo.backing, found=False, why=str(reason))
        return _Tried(note, [], None)


def _absent(layout: Layout, backing: Backing, photos: list[UprightPhoto], tried: list[_Tried]) -> set[str]:
    """Blocks (ids) of a backing that left no trace on a photo over the other, where others of them did."""
    for photo, one in zip(photos, tried, strict=True):
        if photo.backing != backing and one.place is not None:
            return untraced(photo.pixels, layout, one.place, photo.backing)
    return set()


def _tried_without(layout: Layout, photo: UprightPhoto, absent: set[str], before: _Tried) -> _Tried:
    """The same where the sheet lies by the blocks that printed; as it was where these do not tell."""
    shown = layout.model_copy(update={"blocks": tuple(b for b in layout.blocks if b.id not in absent)})
    try:
        place = _placed(_as_seen(shown, photo.pixels), photo).registration
    except SheetNotFound:
        return before
    again = _tried(layout, replace(photo, placed=place))
    return again if again.place is not None else before


def _unread(block: MarksBlock | SolidBlock, notes: list[PhotoReading]) -> BlockReading:
    over = [note for note in notes if note.backing == block.backing]
    if over:
        return _refused(block, over[0].why or "the sheet was not found")
    return _refused(block, f"no photo over a {block.backing} backing was given")


def _refused(block: MarksBlock | SolidBlock, why: str) -> BlockReading:
    return BlockReading(id=block.id, channel=block.channel, head=block.head, kind=block.kind, read=False, why=why)


def _as_seen(layout: Layout, pixels: NDArray[np.uint8]) -> Layout:
    """The layout, its inks without colour where the photo has none: else colours would tell which way round it lies."""
    bands = pixels[::LOOKED_AT, ::LOOKED_AT].astype(np.int16)
    if np.ptp(bands, axis=2).max() > NO_COLOUR:
        return layout
    grey = tuple(b.model_copy(update={"ink": grey_ink(b.ink)}) for b in layout.blocks)
    return layout.model_copy(update={"blocks": grey})


def _read_photo(layout: Layout, photo: UprightPhoto) -> _Tried:
    layout = _as_seen(layout, photo.pixels)
    blocks = marks_over(layout, photo.backing)
    if not blocks:
        raise SheetNotFound(
            f"{photo.file}: no block of the layout “{layout.name}” is judged over a {photo.backing} backing."
        )
    placed = _placed(layout, photo)
    registration, doubtful, blocks = placed.registration, placed.doubtful, placed.finished.blocks
    pitch_px = {b.id: b.nozzle_pitch * registration.px_per_mm(lattice_middle(b)) for b in blocks}
    if (most := max(pitch_px.values())) < LEAST_PITCH_PX:
        raise SheetNotFound(f"{photo.file}: {WARNINGS['small'].format(share=f'{most:.1f}')}")
    whole, expected = placed.finished.at.whole, placed.expected
    printed = {b.id: b for b in blocks}
    warnings: list[Warned] = []
    read: list[BlockReading] = []
    residuals: list[Floats] = []
    clear = dict(zip(printed, clear_of(blocks), strict=True))
    on_another = overlaid(blocks)
    measured = {
        b.id: measured_closely(photo.pixels, b, registration, photo.backing, expected=expected, clear=clear[b.id])
        for b in blocks
    }
    silent = {name for name, m in measured.items() if m.printing < DEAD}
    lost_ones = elsewhere(measured) if photo.backing == "light" else []
    # Ink on the map where not one mark can be measured: it is not the block's own, or the block lies elsewhere.
    at_odds = silent & {b.id for b in placed.finished.printing}
    for b in blocks:
        aside = lying_aside(photo.pixels, whole, b, measured[b.id], registration, photo.backing, expected, clear[b.id])
        if aside.any():
            doubtful[b.id] = aside | doubtful.get(b.id, False)
    slipped = mingled(blocks, measured, photo.backing)
    for name in {*lost_ones, *at_odds, *placed.finished.overlooked(silent), *slipped}:
        doubtful[name] = np.ones(len(measured[name].ink), bool)
    lie = {b.id: _lie_of(b, measured[b.id], doubtful.get(b.id), placed.moved.get(b.id, np.zeros(2))) for b in blocks}
    foreign = printed_paper({n: m.bare for n, m in measured.items()}, {n: m.strength for n, m in measured.items()})
    amount = dict(zip(printed, amounts(blocks, [lie[name].marks for name in printed], photo.backing), strict=True))
    near_by, finest = _near_by(blocks, lie), min(b.nozzle_pitch for b in blocks)
    if (waves := Waves.of(near_by, finest)) is not None:
        lie = {b.id: _flat(b, lie[b.id], waves) for b in blocks}
        near_by = _near_by(blocks, lie)
    for block in layout.blocks:
        if block.backing != photo.backing:
            continue
        if isinstance(block, SolidBlock):
            read.append(read_fill(photo.pixels, block, registration, photo.backing))
            continue
        if block.id in on_another:
            read.append(_refused(block, ON_ANOTHERS))
            continue
        if pitch_px[name := block.id] < LEAST_PITCH_PX:
            read.append(_refused(block, WARNINGS["small"].format(share=f"{pitch_px[name]:.1f}")))
            continue
        reading, left, said = _judge_block(
            printed[name], lie[name], amount[name], near_by, clear[name].height, doubtful.get(name), foreign[name]
        )
        read.append(reading)
        residuals.append(left)
        warnings += said
    note = _note(layout, photo, registration, residuals, warnings, finest)
    return _Tried(note, read, registration)


def _placed(layout: Layout, photo: UprightPhoto) -> Placed:
    """The first place whose marks lie as the layout says; raises SheetNotFound, why the first was refused."""
    if photo.placed is not None:
        locator = Locator(photo.pixels, layout, photo.backing, photo.file)
        return laid(photo.pixels, photo.placed, locator, by_hand=True)
    if photo.corners is not None:
        locator = Locator(photo.pixels, layout, photo.backing, photo.file, around=photo.corners)
        return laid(photo.pixels, by_corners(locator, photo.corners), locator, by_hand=True)
    refused: SheetNotFound | None = None
    best: Placed | None = None
    places = places_of(photo.pixels, layout, photo.backing, photo.file)
    while best is None or not best.finished.surely_told():
        try:
            if (place := next(places, None)) is None:
                break
            placed = laid(photo.pixels, *place)
        except SheetNotFound as reason:
            refused = refused or reason
        else:
            best = max(best or placed, placed, key=lambda way: way.finished.lead)
    if best is None:
        assert refused is not None  # there is one place at least, or a reason why not
        if not isinstance(refused, TwoWaysRound) and _on_its_face(layout, photo):
            raise SheetNotFound(f"{photo.file}: {MIRROR_IMAGE}")
        raise refused
    return best


def _on_its_face(layout: Layout, photo: UprightPhoto) -> bool:
    """Whether a sheet of film that cannot be read is clearly found in the photo's mirror image."""
    if all(block.backing == "light" for block in layout.blocks):
        return False
    mirrored = replace(photo, pixels=np.ascontiguousarray(photo.pixels[:, ::-1]))
    try:
        place = next(places_of(mirrored.pixels, layout, photo.backing, photo.file))
        return laid(mirrored.pixels, *place).finished.clearly_found()
    except (SheetNotFound, StopIteration):
        return False


def _note(
    layout: Layout, photo: UprightPhoto, registration: Registration, residuals: list[Floats], warnings: list[Warned], finest: float
) -> PhotoReading:  # fmt: skip
    scale = registration.px_per_mm(np.array(layout.size) / 2)
    if finest * scale < SMALLEST_PITCH_PX:
        warnings.append(Warned(code="small", message=WARNINGS["small"].format(share=f"{finest * scale:.1f}")))
    left = np.concatenate(residuals) if residuals else np.zeros((0, 2))
    height, width = photo.pixels.shape[:2]
    return PhotoReading(
        file=photo.file, width=width, height=height, backing=photo.backing, found=True,
        sheet_to_photo=tuple(tuple(float(v) for v in row) for row in registration.homography),
        warp_mm=tuple(tuple(round(float(v), 5) for v in row) for row in registration.warp),
        warp_box_mm=(*registration.origin, *registration.size),
        residual_um=round(float(np.sqrt(np.mean(left**2))) * 1000, 1) if len(left) else None,
        px_per_mm=round(scale, 2), warnings=tuple(warnings),
    )  # fmt: skip


@dataclass(frozen=True)
class _Lie:
    """A block's marks, which of them printed well (n,), and how far they lie off (n, 2) mm, beyond what those near by, every other row or column and each row share."""

    marks: MarkMeasures
    solid: NDArray[np.bool_]
    shift: Floats  # (2,) mm, of the block as a whole
    offset: Floats
    passes: Floats  # (n, 2) mm by which every other row or column is off


def _lie_of(block: MarksBlock, marks: MarkMeasures, doubtful: NDArray[np.bool_] | None, moved: Floats) -> _Lie:
    """doubtful : (n,) marks that may stand for their neighbours, for the place is in doubt there; moved : see Placed"""
    if doubtful is not None and doubtful.any():
        marks = replace(marks, judged=marks.judged & ~doubtful)
    solid = marks.solid
    common = shared_offset(block, marks.offset, solid)
    passes = alternating(block, marks.offset - common, solid)
    offset = marks.offset - common - passes
    by_feed, untold = fed(block, offset[:, 1], solid)
    offset[:, 1] -= by_feed
    marks = replace(marks, judged=marks.judged & ~untold)
    return _Lie(marks, solid, np.median(common, axis=0) + moved, offset, passes)


def _near_by(blocks: list[MarksBlock], lie: dict[str, _Lie]) -> Neighbours:
    return Neighbours.of([(b, lie[b.id].offset, lie[b.id].solid) for b in blocks])


def _flat(block: MarksBlock, lie: _Lie, waves: Waves) -> _Lie:
    """The same less what waves of the paper carry marks by."""
    value, sigma = waves.under(mark_centres(block))
    offset, known = lie.offset.copy(), lie.marks.offset_sigma.copy()
    offset[:, 1] -= value
    known[:, 1] = np.hypot(known[:, 1], sigma)
    return replace(lie, marks=replace(lie.marks, offset_sigma=known), offset=offset)


def _warned(block: MarksBlock, code: str, share: float = 0.0) -> Warned:
    message = WARNINGS[code].format(block=block.id, share=f"{100 * share:.0f}%")
    return Warned.model_validate({"code": code, "message": message, "block": block.id})


def _most_first(block: MarksBlock, hidden: dict[str, NDArray[np.bool_]]) -> list[Warned]:
    """What hides a block's marks, each (n,), what hides most of them first."""
    shares = {code: float(which.mean()) for code, which in hidden.items() if which.any()}
    return [_warned(block, code, shares[code]) for code in sorted(shares, key=lambda code: -shares[code])]


def _judge_block(
    block: MarksBlock,
    lie: _Lie,
    amount: tuple[Floats, Floats],
    near_by: Neighbours,
    clear: float,
    doubtful: NDArray[np.bool_] | None,
    foreign: float,
) -> tuple[BlockReading, Floats, list[Warned]]:
    """A block's reading, the residuals (n, 2) mm of its well printed marks, and warnings.

    amount : ink (n,) and one-sigma, see inklaw; clear : clear height, mm; doubtful : (n,) marks that may stand for their neighbours; foreign : ink of the paper's own
    """
    marks, solid, offset, (ink, ink_sigma) = lie.marks, lie.solid, lie.offset, amount
    hidden = {
        "cut_off": marks.outside,
        "glare": marks.glare & ~marks.outside,
        "covered": marks.covered & ~marks.outside,
    }
    if doubtful is not None:
        hidden["doubtful"] = doubtful
    nothing = np.zeros((0, 2))
    blurred = marks.printing >= 0.1 and marks.width > SMEARED * clear
    if blurred or marks.contrast < LEAST_CONTRAST or all_faint(marks):
        poor = _warned(block, "blurred" if blurred else "dim")
        return _refused(block, poor.message), nothing, [*_most_first(block, hidden), poor]
    pitches, known = offset / block.nozzle_pitch, marks.offset_sigma / block.nozzle_pitch
    judgement = judge_marks(ink, ink_sigma, pitches, known, marks.judged, dead=marks.printing < DEAD)
    state = np.where(marks.covered, STATE_UNSEEN, judgement.state)  # what lies over marks says nothing of the lattice
    lost = astray(block, state, pitches)
    lost |= carried_off(block, state, marks.offset[:, 1] / block.nozzle_pitch)
    lost |= between_rows(block, state, marks.beside)
    lost |= next_ones_ink(block, state, pitches, marks.ink, marks.at_one_end)
    lost |= ended(block, marks.ink, marks.at_one_end)
    # Rows laid aside by turns may be further aside than their marks' ends are looked for.
    straddles = marks.straddles & (lie.passes[:, 0] == 0)
    along = np.where(straddles, np.inf, marks.offset[:, 0] - lie.passes[:, 0])
    lost |= adrift(block, state, np.where(solid, along, np.nan))
    lost |= unsettled(pitches[solid, 1])
    thrown = np.flatnonzero(state == STATE_DEFLECTED)
    lost[thrown] |= near_by.carry(mark_centres(block)[thrown], offset[thrown], block.nozzle_pitch)
    lost = spread(block, lost, state)
    lost |= parted(block, lost, straddles)
    print_below = marks.cut | feigned(state, ink, pitches[:, 1], foreign)
    judgement = replace(judgement, judged=judgement.judged & ~lost & ~print_below)
    hidden["covered"] |= print_below & ~marks.outside
    if lost.any():
        hidden["doubtful"] = lost | hidden.get("doubtful", False)
    said = _most_first(block, hidden)
    faults, counts = faults_of(block, judgement, ink, offset * 1000)
    if counts["unsure"] == block.nozzles:
        why = said[0].message if said else "no mark of this block shows well enough to judge"
        return _refused(block, why), nothing, said
    reading = BlockReading(
        id=block.id, channel=block.channel, head=block.head, kind="marks", read=True,
        shift_um=(round(float(lie.shift[0] * 1000)), round(float(lie.shift[1] * 1000))), counts=counts, faults=faults,
    )  # fmt: skip
    inlier = solid & (np.abs(offset) < 0.5 * block.nozzle_pitch).all(axis=1)
    return reading, offset[inlier], said
