"""Sheets: a photo in, a reading vouched for, faults told by hand."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from dusky_sieve import files
from dusky_sieve.core.case import ChannelFaults, StepEvent
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.layout import Backing, Layout, MarksBlock
from dusky_sieve.core.ledger import book_step
from dusky_sieve.core.reading import (
    Change,
    Corners,
    MarkState,
    Reading,
    UprightPhoto,
    corrected,
    numbers_of,
    read_sheet,
    states_of,
    taken_back,
)
from dusky_sieve.services.cases import open_case_of, printer_now
from dusky_sieve.store import PhotoRecord, PrinterRecord, SheetRecord, Store


@dataclass(frozen=True)
class Arrival:
    """What became of an upload: its sheet, whether the same photo had come before, and the case where it was accepted."""

    sheet_id: int
    known: bool = False
    accepted: bool = False
    case_id: int | None = None


@dataclass(frozen=True)
class Upload:
    """A photo as somebody sent it."""

    content: bytes
    name: str
    backing: Backing


def take_photos(
    store: Store, printer: PrinterRecord, uploads: Sequence[Upload], person: str, now: datetime, onto: SheetRecord | None = None
) -> Arrival:  # fmt: skip
    """Keeps the photos of one sheet, then reads them together. One that came before leads to its sheet.

    onto : the sheet that they are further photos of; one over the same backing takes the place of the one before.
    The photos are safe on disk before any reading; one on which nothing is found is kept with the reason.
    """
    kept: list[PhotoRecord] = []
    seen: dict[int, NDArray[np.uint8]] = {}
    for upload in uploads:
        media = files.sniff_photo(upload.content, upload.name)
        pixels = files.decode_photo(upload.content, upload.name)
        photo, new = store.keep_photo(printer.id, upload.content, upload.name, media, upload.backing, now)
        before = None if new else store.sheet_of_photo(photo.id)
        if before is not None and (onto is None or before.id != onto.id):
            return Arrival(before.id, known=True)
        kept.append(photo)
        seen[photo.id] = pixels
    if onto is not None:
        _open_sheet(store, onto)
        new_sides = {photo.backing for photo in kept}
        kept = [p for p in photos_of(store, onto) if p.backing not in new_sides] + kept
        kept.sort(key=lambda p: p.backing == "dark")
    reading, why = _read(store, printer, kept, seen=seen)
    keys = tuple(photo.id for photo in kept)
    if onto is None:
        sheet_id = store.add_sheet(printer.id, now, person, photos=keys, reading=reading, why=why)
    else:
        sheet_id = onto.id
        store.read_again(sheet_id, reading, why, keys)
    if printer.habits.accept_sure and is_sure(reading, why):
        sheet = store.sheet(sheet_id)
        assert sheet is not None  # it was kept a moment ago
        return Arrival(sheet_id, accepted=True, case_id=accept_sheet(store, sheet, person, now))
    return Arrival(sheet_id)


def take_photo(
    store: Store, printer: PrinterRecord, content: bytes, name: str, backing: Backing, person: str, now: datetime
) -> Arrival:
    """Keeps and reads one photo that is a sheet of its own."""
    return take_photos(store, printer, [Upload(content, name, backing)], person, now)


def sheet_of(store: Store, printer: PrinterRecord, upload: Upload) -> SheetRecord | None:
    """The sheet that came from this very photo before, where nobody vouched for it yet."""
    photo = store.photo_of_content(printer.id, upload.content)
    found = store.sheet_of_photo(photo.id) if photo else None
    return found if found is not None and found.faults is None else None


def photos_of(store: Store, sheet: SheetRecord) -> list[PhotoRecord]:
    """A sheet's photos, in the order of its reading."""
    return [photo for key in sheet.photo_ids if (photo := store.photo(key)) is not None]


def pixels_of(store: Store, photo: PhotoRecord) -> NDArray[np.uint8]:
    """A stored photo, decoded and upright."""
    return files.decode_photo(files.read_bytes(store.photo_path(photo.digest)), photo.name)


def is_sure(reading: Reading, why: str | None) -> bool:
    """Whether every block was read, no mark is unsure, and nothing about the photo was warned of."""
    return (
        why is None
        and not any(photo.warnings for photo in reading.photos)
        and all(b.read and not (b.counts or {}).get("unsure") for b in reading.blocks)
    )


def _read(
    store: Store, printer: PrinterRecord, photos: list[PhotoRecord], *, seen: dict[int, NDArray[np.uint8]] | None = None,
    corners: dict[int, Corners] | None = None,
) -> tuple[Reading, str | None]:  # fmt: skip
    """A sheet's photos read together; `seen` are those that were decoded already, by key."""
    upright = []
    for photo in photos:
        pixels = seen[photo.id] if seen and photo.id in seen else pixels_of(store, photo)
        upright.append(UprightPhoto(pixels, photo.backing, photo.name, (corners or {}).get(photo.id)))
    reading = read_sheet(printer.layout, upright)
    return reading, next((note.why for note in reading.photos if not note.found), None)


def faults_of_reading(reading: Reading, layout: Layout) -> dict[str, ChannelFaults]:
    """Faulty nozzles per channel, blocks of one channel together. Channels not read are left out."""
    found: dict[str, dict[str, list[int]]] = {}
    firing: dict[str, int] = {}
    for block in reading.blocks:
        if not block.read or block.kind != "marks":
            continue
        lists = found.setdefault(block.channel, {"missing": [], "deflected": [], "weak": [], "unsure": []})
        counts = block.counts or {}
        firing[block.channel] = firing.get(block.channel, 0) + sum(
            counts.get(s, 0) for s in ("firing", "weak", "deflected", "unsure")
        )
        for fault in block.faults:
            lists[fault.state].append(fault.nozzle)
    return {
        channel: ChannelFaults(
            all_missing=firing[channel] == 0, **{state: tuple(sorted(v)) for state, v in lists.items()}
        )
        for channel, lists in found.items()
    }


def reading_now(sheet: SheetRecord, printer: PrinterRecord) -> Reading:
    """The sheet's reading with what was corrected."""
    assert sheet.reading is not None  # asked only of sheets that were read
    return corrected(sheet.reading, printer.layout, sheet.changes)


def nothing_judged(reading: Reading) -> bool:
    """Whether no block of a reading can be judged: nothing is known of the sheet, and nothing can be accepted."""
    return not any(block.read for block in reading.blocks)


def _open_sheet(store: Store, sheet: SheetRecord) -> PrinterRecord:
    printer = store.printer_by_id(sheet.printer_id)
    assert printer is not None  # the sheet's foreign key holds
    if sheet.faults is not None:
        raise OutOfTurn(f"Sheet {sheet.id} was accepted as it stands. A new photo makes a new sheet.")
    return printer


def correct_marks(
    store: Store, sheet: SheetRecord, chosen: dict[str, tuple[int, ...]], state: MarkState, person: str, now: datetime
) -> int:
    """Sets marks as a person sees them, in one act: block id to nozzles, none of them meaning the whole block.

    Gives how many marks were set.
    """
    printer = _open_sheet(store, sheet)
    if sheet.reading is None or sheet.why or not chosen:
        raise UnusableInput(f"Sheet {sheet.id} shows no such mark, so nothing was set.")
    now_read = {b.id: states_of(b) for b in reading_now(sheet, printer).blocks}
    kept = [c for c in sheet.changes if not c.undone]
    for block_id, nozzles in chosen.items():
        was: dict[int, MarkState] = {n: now_read[block_id].get(n, "firing") for n in nozzles}
        kept.append(Change(block=block_id, nozzles=nozzles, state=state, was=was, person=person, at=now))
    store.change_sheet(sheet.id, tuple(kept))
    return sum(len(v) for v in chosen.values())


def marks_named(printer: PrinterRecord, block_id: str, numbers: str) -> dict[str, tuple[int, ...]]:
    """The marks that somebody names by number, such as `40-43, 97`; UnusableInput where there are none such."""
    block = next((b for b in printer.layout.blocks if b.id == block_id and isinstance(b, MarksBlock)), None)
    if not isinstance(block, MarksBlock):
        raise UnusableInput(f"This sheet has no block “{block_id}” that could be corrected.")
    return {block_id: numbers_of(numbers, block.channel, block.numbers)}


def marks_of_channel(printer: PrinterRecord, channel: str) -> dict[str, tuple[int, ...]]:
    """Every block of a channel, whole."""
    found: dict[str, tuple[int, ...]] = {
        b.id: () for b in printer.layout.blocks if isinstance(b, MarksBlock) and b.channel == channel
    }
    if not found:
        raise UnusableInput(f"This sheet has no channel “{channel}” that could be corrected.")
    return found


def take_back(store: Store, sheet: SheetRecord, *, again: bool = False) -> None:
    """Takes the last correction back, or with `again` puts the one last taken back on again."""
    _open_sheet(store, sheet)
    changes = taken_back(sheet.changes, again=again)
    if changes is None:
        raise OutOfTurn("There is no correction to " + ("put back." if again else "take back."))
    store.change_sheet(sheet.id, changes)


def read_by_corners(store: Store, sheet: SheetRecord, corners: Corners, place: int = 0) -> None:
    """Reads a sheet's photos again, the one at `place` from the pattern's four corners as a person marked them."""
    printer, photos = _open_sheet(store, sheet), photos_of(store, sheet)
    if not 0 <= place < len(photos):
        raise OutOfTurn(f"Sheet {sheet.id} has no such photo.")
    reading, why = _read(store, printer, photos, corners={photos[place].id: corners})
    store.read_again(sheet.id, reading, why, sheet.photo_ids)


def told_by_hand(
    store: Store, printer: PrinterRecord, told: dict[str, dict[str, str]], person: str, now: datetime
) -> tuple[int, int | None]:
    """A sheet whose faults somebody typed, channel by channel, such as `40-43, 97`. Gives the sheet and its case."""
    faults: dict[str, ChannelFaults] = {}
    for channel in printer.printer.channels:
        typed = told.get(channel.name)
        if typed is None:
            continue
        every = range(1, channel.nozzles + 1)
        lists = {
            state: numbers_of(typed.get(state, ""), channel.name, every) for state in ("missing", "weak", "deflected")
        }
        faults[channel.name] = ChannelFaults(all_missing=bool(typed.get("absent")), **lists)
    if not faults:
        raise UnusableInput("Nothing was told: fill in the channels that were looked at, empty where they are clear.")
    sheet_id = store.add_sheet(printer.id, now, person)
    return sheet_id, _vouched(store, printer, sheet_id, now, faults, {}, person, now)


def lines_of_reading(reading: Reading) -> dict[str, int]:
    """Light lines per channel over its fills; channels without a fill that was read are left out."""
    lines: dict[str, int] = {}
    for block in reading.blocks:
        if block.read and block.kind == "solid":
            lines[block.channel] = lines.get(block.channel, 0) + len(block.lines or ())
    return lines


def accept_sheet(store: Store, sheet: SheetRecord, person: str, now: datetime) -> int | None:
    """Vouches for a sheet as read. Opens a case where there are faults; gives the case's key, None where all is clear.

    The sheet's own ink goes into the book.
    """
    printer = store.printer_by_id(sheet.printer_id)
    if printer is None or sheet.reading is None or sheet.why:
        raise OutOfTurn(f"Sheet {sheet.id} was not read, so there is nothing to accept. Photograph it again.")
    reading = reading_now(sheet, printer)
    if nothing_judged(reading):
        raise OutOfTurn(
            f"Nothing on sheet {sheet.id} could be judged, so there is nothing to accept. Photograph it again."
        )
    faults = faults_of_reading(reading, printer.layout)
    return _vouched(store, printer, sheet.id, sheet.at, faults, lines_of_reading(sheet.reading), person, now)


def _vouched(
    store: Store, printer: PrinterRecord, sheet_id: int, at: datetime, faults: dict[str, ChannelFaults], lines: dict[str, int],
    person: str, now: datetime,
) -> int | None:  # fmt: skip
    """Keeps a sheet's faults, opens a case where there are any, books the sheet's own ink; gives the case's key."""
    bad = any(f.missing or f.weak or f.deflected or f.all_missing for f in faults.values())
    current = open_case_of(store, printer.id)
    case_id = (
        current.id if current else store.open_case(printer.id, at, printer_now(store, printer, now)) if bad else None
    )
    if store.accept_sheet(sheet_id, faults, person, case_id, lines):
        event = StepEvent(kind="step", at=at, step="check", sheets=1)
        store.book(printer.id, case_id, book_step(printer.printer, event, files.step_table()))
    return case_id
