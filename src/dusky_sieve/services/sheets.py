"""Sheets: a photo in, a reading vouched for, faults told by hand."""

from dataclasses import dataclass
from datetime import datetime

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
)
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


def reading_now(sheet: SheetRecord, printer: PrinterRecord) -> Reading:
    """The sheet's reading with what was corrected."""
    assert sheet.reading is not None  # asked only of sheets that were read
    return corrected(sheet.reading, printer.layout, sheet.changes)


def _open_sheet(store: Store, sheet: SheetRecord) -> PrinterRecord:
    printer = store.printer_by_id(sheet.printer_id)
    assert printer is not None  # the sheet's foreign key holds
    if sheet.faults is not None:
        raise OutOfTurn(f"Sheet {sheet.id} was accepted as it stands. A new photo makes a new sheet.")
    return printer


def correct_marks(
    store: Store, sheet: SheetRecord, block_id: str, numbers: str, state: MarkState, person: str, now: datetime
) -> tuple[int, ...]:
    """Sets marks of a block as a person sees them; no numbers mean the whole block. Gives the nozzles set."""
    printer = _open_sheet(store, sheet)
    block = next((b for b in printer.layout.blocks if b.id == block_id and isinstance(b, MarksBlock)), None)
    if not isinstance(block, MarksBlock) or sheet.reading is None or sheet.why:
        raise UnusableInput(f"Sheet {sheet.id} shows no block “{block_id}” that could be corrected.")
    chosen = numbers_of(numbers, block.channel, block.numbers)
    before = states_of(next(b for b in reading_now(sheet, printer).blocks if b.id == block_id))
    was: dict[int, MarkState] = {n: before.get(n, "firing") for n in chosen}
    change = Change(block=block_id, nozzles=chosen, state=state, was=was, person=person, at=now)
    store.change_sheet(sheet.id, (*(c for c in sheet.changes if not c.undone), change))
    return chosen


def take_back(store: Store, sheet: SheetRecord, *, again: bool = False) -> None:
    """Takes the last correction back, or with `again` puts the one last taken back on again."""
    _open_sheet(store, sheet)
    changes = list(sheet.changes)
    at = [k for k, c in enumerate(changes) if c.undone == again]
    if not at:
        raise OutOfTurn("There is no correction to " + ("put back." if again else "take back."))
    k = at[0] if again else at[-1]
    changes[k] = changes[k].model_copy(update={"undone": not again})
    store.change_sheet(sheet.id, tuple(changes))


def read_by_corners(store: Store, sheet: SheetRecord, corners: Corners) -> None:
    """Reads a sheet's photo again from the pattern's four corners as a person marked them."""
    printer = _open_sheet(store, sheet)
    photo = store.photo(sheet.photo_id) if sheet.photo_id else None
    if photo is None:
        raise OutOfTurn(f"Sheet {sheet.id} was told by hand and has no photo.")
    pixels = files.decode_photo(files.read_bytes(store.photo_path(photo.digest)), photo.name)
    backing: Backing = "dark" if photo.backing == "dark" else "light"
    reading = read_sheet(printer.layout, [UprightPhoto(pixels, backing, photo.name, corners)])
    store.read_again(sheet.id, reading, next((note.why for note in reading.photos if not note.found), None))


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
    bad = any(f.missing or f.weak or f.deflected or f.all_missing for f in faults.values())
    return sheet_id, _vouched(store, printer, sheet_id, now, faults, {}, bad, person, now)


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
    faults = faults_of_reading(reading_now(sheet, printer), printer.layout)
    bad = any(f.missing or f.weak or f.deflected or f.all_missing for f in faults.values())
    return _vouched(store, printer, sheet.id, sheet.at, faults, lines_of_reading(sheet.reading), bad, person, now)


def _vouched(
    store: Store, printer: PrinterRecord, sheet_id: int, at: datetime, faults: dict[str, ChannelFaults], lines: dict[str, int], bad: bool,
    person: str, now: datetime,
) -> int | None:  # fmt: skip
    """Keeps a sheet's faults, opens a case where there are any, books the sheet's own ink; gives the case's key."""
    current = open_case_of(store, printer.id)
    case_id = (
        current.id if current else store.open_case(printer.id, at, printer_now(store, printer, now)) if bad else None
    )
    if store.accept_sheet(sheet_id, faults, person, case_id, lines):
        event = StepEvent(kind="step", at=at, step="check", sheets=1)
        store.book(printer.id, case_id, book_step(printer.printer, event, files.step_table()))
    return case_id
