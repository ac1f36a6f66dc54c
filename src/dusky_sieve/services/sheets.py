"""Sheets: a photo in, a reading vouched for, faults told by hand."""

from dataclasses import dataclass
from datetime import datetime

from dusky_sieve import files
from dusky_sieve.core.case import ChannelFaults, StepEvent
from dusky_sieve.core.errors import OutOfTurn
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.ledger import book_step
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.services.cases import open_case_of, printer_now
from dusky_sieve.store import PrinterRecord, SheetRecord, Store


@dataclass(frozen=True)
class Arrival:
    """What became of an upload: the sheet it led to, and whether the same photo had come before."""

    sheet_id: int
    known: bool


def take_photo(
    store: Store, printer: PrinterRecord, content: bytes, name: str, backing: Backing, person: str, now: datetime
) -> Arrival:
    """Keeps an upload, then reads it. A photo that came before is recognised and leads to its sheet.

    The photo is safe on disk before any reading; one on which nothing is found is kept with the reason.
    """
    media = files.sniff_photo(content, name)
    pixels = files.decode_photo(content, name)
    photo, new = store.keep_photo(printer.id, content, name, media, backing, now)
    if not new:
        before = store.sheet_of_photo(photo.id)
        if before is not None:
            return Arrival(before.id, known=True)
    reading = read_sheet(printer.layout, [UprightPhoto(pixels, backing, name)])
    why = next((note.why for note in reading.photos if not note.found), None)
    sheet_id = store.add_sheet(printer.id, now, person, photo_id=photo.id, reading=reading, why=why)
    return Arrival(sheet_id, known=False)


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
    faults = faults_of_reading(sheet.reading, printer.layout)
    bad = any(f.missing or f.weak or f.deflected or f.all_missing for f in faults.values())
    current = open_case_of(store, printer.id)
    case_id = (
        current.id
        if current
        else store.open_case(printer.id, sheet.at, printer_now(store, printer, now))
        if bad
        else None
    )
    if store.accept_sheet(sheet.id, faults, person, case_id, lines_of_reading(sheet.reading)):
        event = StepEvent(kind="step", at=sheet.at, step="check", sheets=1)
        store.book(printer.id, case_id, book_step(printer.printer, event, files.step_table()))
    return case_id
