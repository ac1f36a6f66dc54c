"""One function per thing a person does: load, call the core, save. Time comes in as `now`."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from dusky_sieve import files
from dusky_sieve.core.advice import Advice, advise
from dusky_sieve.core.case import Case, ChannelFaults, LevelEvent, NoteEvent, Printer, SheetEvent, StepEvent
from dusky_sieve.core.errors import OutOfTurn, UnknownThing, UnusableInput
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.ledger import Entry, Total, add_up, book_step
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.steps import WAITS, StepName
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, SheetRecord, Store

AnyEvent = SheetEvent | StepEvent | LevelEvent | NoteEvent


def find_printer(store: Store, slug: str) -> PrinterRecord:
    """A printer by its address; UnknownThing names those there are."""
    found = store.printer(slug)
    if found is None:
        known = ", ".join(p.name for p in store.printers()) or "none yet"
        raise UnknownThing(f"There is no printer “{slug}” here. Known printers: {known}.")
    return found


def find_case(store: Store, case_id: int) -> CaseRecord:
    """A case by its key."""
    found = store.case(case_id)
    if found is None:
        raise UnknownThing(f"There is no case {case_id}. The room lists the open ones.")
    return found


def find_sheet(store: Store, sheet_id: int) -> SheetRecord:
    """A sheet by its key."""
    found = store.sheet(sheet_id)
    if found is None:
        raise UnknownThing(f"There is no sheet {sheet_id}. The printer's page lists its sheets.")
    return found


# Sheet in


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
    if store.accept_sheet(sheet.id, faults, person, case_id):
        event = StepEvent(kind="step", at=sheet.at, step="check", sheets=1)
        store.book(printer.id, case_id, book_step(printer.printer, event, files.step_table()))
    return case_id


# Cases


def open_case_of(store: Store, printer_id: int) -> CaseRecord | None:
    """The printer's open case."""
    return next((c for c in store.cases(printer_id) if c.closed is None), None)


def case_document(store: Store, case: CaseRecord, now: datetime) -> Case:
    """Everything known about a case, as the document that advice is worked out from."""
    events: list[AnyEvent] = []
    for sheet in store.sheets(case.printer_id):
        if sheet.case_id == case.id and sheet.faults is not None:
            events.append(SheetEvent(kind="sheet", at=sheet.at, faults=sheet.faults))
    events += [e.event for e in store.events(case.printer_id) if e.case_id == case.id and _happened(e)]
    order = {"note": 0, "level": 1, "step": 2, "sheet": 3}
    events.sort(key=lambda e: (e.at, order[e.kind]))
    return Case(printer=case.start, events=tuple(events), now=max([now, *(e.at for e in events)]))


def _happened(record: EventRecord) -> bool:
    """Steps count once finished; a wait counts from its start, because it is under way."""
    if record.dropped is not None:
        return False
    waits = isinstance(record.event, StepEvent) and record.event.step in WAITS
    return record.started is None or record.finished is not None or waits


def advice_for(
    store: Store, case: CaseRecord, now: datetime, ladder_id: str | None = None, *, schools: bool = False
) -> Advice:
    """What to do next in a case."""
    document = case_document(store, case, now)
    ladder = files.ladder(ladder_id or document.printer.ladder)
    tables = (files.step_table(), files.cause_table(), files.cure_table())
    return advise(document, ladder, *tables, files.ladders().values() if schools else ())


def printer_now(store: Store, printer: PrinterRecord, now: datetime) -> Printer:
    """The printer with its tanks and pad as the book has them now."""
    entries = store.entries(printer_id=printer.id)
    total = add_up(entries)
    events = tuple(
        e.event
        for e in store.events(printer.id)
        if isinstance(e.event, LevelEvent)
        or (isinstance(e.event, StepEvent) and e.event.step == "refill" and e.finished)
    )
    levels = {c.name: c.level_ml for c in printer.printer.channels}
    since: dict[str, datetime | None] = dict.fromkeys(levels)
    full = {c.name: c.capacity_ml for c in printer.printer.channels}
    for event in events:
        names = (event.channel,) if isinstance(event, LevelEvent) else event.channels or tuple(levels)
        for name in names:
            levels[name] = event.level_ml if isinstance(event, LevelEvent) else full[name]
            since[name] = event.at
    used = {name: sum(e.ink_ml for e in entries if e.channel == name and _after(e, since[name])) for name in levels}
    channels = tuple(
        c.model_copy(
            update={
                "level_ml": None if levels[c.name] is None else round(max(0.0, (levels[c.name] or 0) - used[c.name]), 3)
            }
        )
        for c in printer.printer.channels
    )
    pad = printer.printer.waste
    waste = pad.model_copy(update={"used_ml": round(pad.used_ml + total.waste_ml, 3)}) if pad else None
    return printer.printer.model_copy(update={"channels": channels, "waste": waste})


def _after(entry: Entry, at: datetime | None) -> bool:
    return at is None or entry.at > at


def cost_so_far(store: Store, case: CaseRecord) -> Total:
    """What a case has taken out of the tanks so far."""
    return add_up(store.entries(case_id=case.id))


# Steps


def step_under_way(store: Store, case: CaseRecord) -> EventRecord | None:
    """The case's step that was started and not yet finished."""
    return next((e for e in reversed(store.events(case.printer_id)) if e.case_id == case.id and e.under_way), None)


def waiting(store: Store, case: CaseRecord, now: datetime) -> bool:
    """Whether the case's printer rests or soaks, so that nobody is needed."""
    running = step_under_way(store, case)
    return (
        running is not None
        and isinstance(running.event, StepEvent)
        and bool(running.event.until and running.event.until > now)
    )


def start_step(store: Store, case: CaseRecord, step: StepName, person: str, now: datetime) -> int:
    """Starts the step that the advice proposes (or one of its alternatives); refused ones are not started."""
    if case.closed is not None:
        raise OutOfTurn(f"Case {case.number} is closed. A new bad sheet opens the next one.")
    running = step_under_way(store, case)
    if running is not None and isinstance(running.event, StepEvent):
        title = files.step_table()[running.event.step].title
        raise OutOfTurn(f"{title} is still under way. Finish it, or say that it was not done.")
    advice = advice_for(store, case, now)
    chosen = next((p for p in (advice.next, *advice.alternatives) if p.step == step), None)
    if chosen is None:
        reason = next((r.why for r in advice.refused if r.step == step), "The advice does not propose it now.")
        raise OutOfTurn(f"{files.step_table()[step].title} was not started. {reason}")
    wait = files.step_table()[step].wait_hours
    until = now + timedelta(hours=wait) if wait else None
    event = StepEvent(kind="step", at=now, step=step, channels=chosen.channels, level=chosen.level, until=until)
    return store.add_event(case.printer_id, case.id, event, person, started=now)


def finish_step(store: Store, event_id: int, person: str, now: datetime, *, early: bool = False) -> EventRecord:
    """Finishes a step under way and books its estimated ink and waste.

    OutOfTurn where it was never started, is finished already, or is a wait that has not run its time.
    """
    record = store.event(event_id)
    if record is None or not isinstance(record.event, StepEvent) or record.started is None:
        raise OutOfTurn("This step was never started, so nothing was booked. Start it from the case first.")
    printer, case = store.printer_by_id(record.printer_id), find_case(store, record.case_id or 0)
    title = files.step_table()[record.event.step].title
    if record.under_way and record.event.until and record.event.until > now and not early:
        raise OutOfTurn(
            f"{title} runs until {record.event.until:%d %b %H:%M} UTC. Leave it alone, or end it early on purpose."
        )
    done = record.event.model_copy(update={"at": record.started if record.event.step in WAITS else now})
    if early and record.event.until:
        done = done.model_copy(update={"until": now})
    assert printer is not None  # the event's foreign key holds
    entries = book_step(printer.printer, done, files.step_table())
    if not store.finish_step(event_id, done, now, entries, person):
        raise OutOfTurn(
            f"{title} was finished or dropped before, by {record.person or 'somebody'}. Nothing was booked twice."
        )
    if record.event.step in ("hand_over", "carry_on"):
        store.close_case(case.id, now, "handed over" if record.event.step == "hand_over" else "clear")
    finished = store.event(event_id)
    assert finished is not None
    return finished


def drop_step(store: Store, event_id: int, now: datetime) -> EventRecord:
    """Says that a started step was not done; nothing is booked."""
    record = store.event(event_id)
    if record is None or not store.drop_step(event_id, now):
        raise OutOfTurn("This step is not under way, so there is nothing to take back.")
    return record


def close_case(store: Store, case: CaseRecord, now: datetime, outcome: str) -> None:
    """Closes a case; a step under way must be finished first."""
    if step_under_way(store, case) is not None:
        raise OutOfTurn(f"A step of case {case.number} is still under way. Finish or drop it first.")
    if not store.close_case(case.id, now, outcome):
        raise OutOfTurn(f"Case {case.number} was closed before.")


def level_read(store: Store, printer: PrinterRecord, channel: str, level_ml: float, person: str, now: datetime) -> None:
    """Books a tank level that somebody read off."""
    found = next((c for c in printer.printer.channels if c.name == channel), None)
    if found is None:
        raise UnusableInput(f"{printer.name} has no channel “{channel}”.")
    if found.capacity_ml is not None and not 0 <= level_ml <= found.capacity_ml:
        raise UnusableInput(
            f"{channel}: a level lies between 0 and {found.capacity_ml:g} ml, found {level_ml:g}. Read it again."
        )
    case = open_case_of(store, printer.id)
    store.add_event(
        printer.id,
        case.id if case else None,
        LevelEvent(kind="level", at=now, channel=channel, level_ml=level_ml),
        person,
    )
