"""Sheet in: the short list before printing, made from what the printer is; the phone's page; sheets that wait."""

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from dusky_sieve import files, services
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading import photo_verdict
from dusky_sieve.drawing import sieve
from dusky_sieve.store import PhoneRecord, PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words
from dusky_sieve.web.present.band import NO_INK

BULK_ML = 400.0  # a tank that holds this much hangs on a bulk supply with a switch
SHEET_ML = 1.0  # a tank with less may not print the whole sheet: some printers stop first
NEW_INK = timedelta(days=7)  # after a refill, vents and tape are worth a look


@dataclass(frozen=True)
class Tick:
    """One line of the list. `stays`: it does not change from sheet to sheet, so its tick is remembered."""

    key: str
    words: str
    stays: bool
    ticked: bool
    warns: bool = False


@dataclass(frozen=True)
class PhoneView:
    """What the phone shows of the sheet it sent: the finding, remarks, which photo comes next.

    mark : differs whenever the two screens should look again
    """

    heading: str
    faults: tuple[str, ...]
    remarks: tuple[str, ...]
    sheet_id: int | None
    accepted: bool
    refused: bool
    backing: Backing
    onto: int
    asks: str
    mark: str
    next_step: str = ""


BACKING_WORDS: dict[Backing, str] = {"light": "white paper", "dark": "black card"}


def backings(record: PrinterRecord) -> list[Backing]:
    """What a printer's sheet is photographed over, in the order in which it is asked for."""
    seen = {block.backing for block in record.layout.blocks}
    order: tuple[Backing, ...] = ("light", "dark")
    return [b for b in order if b in seen]


def missing_backings(record: PrinterRecord, sheet: SheetRecord) -> list[Backing]:
    """Backings over which this sheet was not photographed yet."""
    have = {p.backing for p in sheet.reading.photos} if sheet.reading else set()
    return [b for b in backings(record) if have and b not in have]


def waiting_sheets(store: Store, record: PrinterRecord) -> list[SheetRecord]:
    """Sheets that were read and that nobody has looked at, newest first."""
    return [s for s in reversed(store.sheets(record.id, accepted=False, last=40)) if s.read and not s.why][:9]


def before_printing(store: Store, record: PrinterRecord, now: datetime) -> tuple[Tick, ...]:
    """What to see to before a sheet is printed on this printer."""
    kept = set(record.habits.ticked)
    lines: list[tuple[str, str, bool, bool]] = []
    if "dark" in backings(record):
        lines.append(("film", "Clear film, not paper: white ink cannot be seen on white.", False, False))
    else:
        lines.append(("stock", "Cheap plain white paper, never the good stock.", True, False))
    alike = [p.name for p in store.printers() if p.id != record.id and p.layout == record.layout]
    about = f" ({record.about})" if record.about else ""
    other = f", not {words.listed(alike)}, which looks the same" if alike else ", not one that looks like it"
    lines.append(("which", f"It is {record.name}{about}{other}.", not alike, False))
    lines.append(
        ("corner", f"The sheet lies where {record.name} starts printing: corner, offset, head gap.", True, False)
    )
    if any((c.capacity_ml or 0) >= BULK_ML for c in record.printer.channels):
        lines.append(("supply", "The bulk ink supply is switched on.", False, False))
    lines.append(_ink(store, record, now))
    if record.printer.first_fill or _refilled(store, record, now):
        lines.append(("vents", "Vent plugs are out and tape is off the new ink.", False, False))
    return tuple(Tick(key, said, stays, stays and key in kept, warns) for key, said, stays, warns in lines)


def _ink(store: Store, record: PrinterRecord, now: datetime) -> tuple[str, str, bool, bool]:
    known = [(c.level_ml, c.name) for c in services.printer_now(store, record, now).channels if c.level_ml is not None]
    if not known:
        return "ink", "Enough ink: look at every tank, none was read off here yet.", False, False
    level, name = min(known)
    if level < SHEET_ML:
        return "ink", f"{words.display(name)} has {level:.1f} ml left: refill it first, or the sheet lies.", False, True
    return "ink", f"Enough ink: the lowest is {words.display(name)} with about {level:.0f} ml.", False, False


def _refilled(store: Store, record: PrinterRecord, now: datetime) -> bool:
    return any(
        isinstance(e.event, StepEvent) and e.event.step == "refill"
        for e in store.events(record.id, since=now - NEW_INK)
    )


def empty_meshes(record: PrinterRecord) -> tuple[str, ...]:
    """A mesh without faults for each channel, to click faults into."""
    return tuple(
        sieve.mesh(sieve.Holes(c.nozzles, {}), None, record.inks.get(c.name, NO_INK), label=words.display(c.name))
        for c in record.printer.channels
    )


def phone_view(store: Store, record: PrinterRecord, phone: PhoneRecord, now: datetime) -> PhoneView:
    """How far the phone's sheet is, and which photo it is asked for next."""
    sheet = store.sheet(phone.sheet_id) if phone.sheet_id else None
    asked = backings(record)
    if sheet is None or sheet.reading is None:
        asks = f"Over {BACKING_WORDS[asked[0]]}" if len(asked) > 1 else ""
        return PhoneView("", (), (), None, False, False, asked[0], 0, asks, phone.state)
    lost = [p.backing for p in sheet.reading.photos if not p.found]
    wanted = lost or missing_backings(record, sheet)
    further = bool(wanted) and len(asked) > 1 and sheet.faults is None
    reading = sheet.reading if sheet.why else services.reading_now(sheet, record)
    now_read = replace(sheet, reading=reading)
    size = {c.name: c.nozzles for c in record.printer.channels}
    said = [
        f"{words.display(b.channel)}: {sieve.describe(sieve.holes_of_blocks([b], size[b.channel]))}"
        for b in reading.blocks
        if b.kind == "marks" and b.read and b.faults
    ]
    remarks = [w for p in reading.photos for r in photo_verdict(p) for w in r.words] + (
        [sheet.why] if sheet.why else []
    )
    return PhoneView(
        heading=heading_of(now_read), faults=tuple(said), remarks=tuple(remarks), sheet_id=sheet.id,
        accepted=sheet.faults is not None, refused=bool(sheet.why) or nothing_read(now_read), backing=wanted[0] if further else asked[0],
        onto=sheet.id if further else 0, asks=f"Now over {BACKING_WORDS[wanted[0]]}" if further else "",
        next_step=_next_step(store, sheet, now), mark=f"{phone.state} {sheet.id} {sheet.photo_ids} {sheet.faults is not None} {len(sheet.changes)}",
    )  # fmt: skip


def _next_step(store: Store, sheet: SheetRecord, now: datetime) -> str:
    case = store.case(sheet.case_id) if sheet.faults is not None and sheet.case_id else None
    if case is None or case.closed is not None:
        return ""
    return files.step_table()[services.advice_for(store, case, now).next.step].title


def nothing_read(sheet: SheetRecord) -> bool:
    """Whether a sheet was found of which no block can be judged."""
    return sheet.reading is not None and not sheet.why and services.nothing_judged(sheet.reading)


def heading_of(sheet: SheetRecord) -> str:
    """What was read, in one sentence."""
    if sheet.why:
        return "The sheet could not be read from this photo."
    if sheet.reading is None:
        count = words.fault_count(sheet.faults)
        return f"{words.capital(words.plural(count, 'fault'))} {'was' if count == 1 else 'were'} told by hand."
    if nothing_read(sheet):
        return "Nothing on this photo can be judged."
    states = [f.state for b in sheet.reading.blocks for f in b.faults]
    unsure = sum(s == "unsure" for s in states)
    faults = len(states) - unsure
    said = (
        f"{words.capital(words.plural(faults, 'fault'))} {'is' if faults == 1 else 'are'} read."
        if faults
        else "No fault is read."
    )
    return said + (
        f" {words.capital(words.plural(unsure, 'mark'))} {'is' if unsure == 1 else 'are'} unsure." if unsure else ""
    )
