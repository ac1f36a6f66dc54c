"""Cases: everything known about one, what it means, what it cost, and its end."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from dusky_sieve import files
from dusky_sieve.core.advice import Advice, Ladder, advise
from dusky_sieve.core.advice.situation import CHANGES_FAULTS
from dusky_sieve.core.case import Case, LevelEvent, NoteEvent, Outcomes, Printer, SheetEvent, StepEvent
from dusky_sieve.core.errors import OutOfTurn, UnknownThing, UnusableInput
from dusky_sieve.core.ledger import Entry, Total, add_up, replay
from dusky_sieve.core.steps import WAITS, StepName
from dusky_sieve.services.ladders import all_ladders, ladder_of
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


def open_case_of(store: Store, printer_id: int) -> CaseRecord | None:
    """The printer's open case."""
    return next((c for c in store.cases(printer_id) if c.closed is None), None)


def case_document(store: Store, case: CaseRecord, now: datetime) -> Case:
    """Everything known about a case, as the document that advice is worked out from.

    Levels and pad are as of its start; what the printer can do, who stands at it, its ladder and its record of steps
    in earlier cases are as of now.
    """
    events: list[AnyEvent] = []
    for sheet in store.sheets(case.printer_id, case_id=case.id, accepted=True):
        events.append(SheetEvent(kind="sheet", at=sheet.at, faults=sheet.faults or {}, lines=sheet.lines))
    for e in store.events(case.printer_id, case_id=case.id):
        if _happened(e) and not isinstance(e.event, LevelEvent):
            events.append(e.event)
    events += levels_of_case(store, case, now)
    order = {"note": 0, "level": 1, "step": 2, "sheet": 3}
    events.sort(key=lambda e: (e.at, order[e.kind]))
    record = store.printer_by_id(case.printer_id)
    assert record is not None  # the case's foreign key holds
    today = record.printer
    printer = case.start.model_copy(
        update={
            "abilities": today.abilities,
            "user_level": today.user_level,
            "ladder": today.ladder,
            "record": step_record(store, case),
        }
    )
    return Case(printer=printer, events=tuple(events), now=max([now, *(e.at for e in events)]))


def step_record(store: Store, case: CaseRecord) -> dict[StepName, Outcomes]:
    """How each step did in this printer's other cases: how often it was done, how often the next sheet was clear."""
    done: dict[StepName, int] = {}
    cleared: dict[StepName, int] = {}
    for name, bad in store.outcomes(case.printer_id, case.id):
        step = next((n for n in CHANGES_FAULTS if n == name), None)
        if step is not None:
            done[step] = done.get(step, 0) + 1
            cleared[step] = cleared.get(step, 0) + (bad == 0)
    return {name: Outcomes(done=count, cleared=cleared[name]) for name, count in done.items()}


def _happened(record: EventRecord) -> bool:
    """Steps count once finished; a wait counts from its start, because it is under way."""
    if record.dropped is not None:
        return False
    waits = isinstance(record.event, StepEvent) and record.event.step in WAITS
    return record.started is None or record.finished is not None or waits


def advice_for(store: Store, case: CaseRecord, now: datetime, ladder_id: str | None = None) -> Advice:
    """What to do next in a case, by the ladder that its printer follows, or by another."""
    document = case_document(store, case, now)
    return _advice(document, ladder_of(store, ladder_id or document.printer.ladder))


def cost_ahead(store: Store, case: CaseRecord, now: datetime) -> float | None:
    """What finishing an open case will probably take, in money for ink, waste, hours and risk, by the least costly way."""
    return None if case.closed else advice_for(store, case, now, "least-cost").next.expected_total


def advice_by_school(store: Store, case: CaseRecord, now: datetime) -> dict[str, Advice]:
    """What each ladder would do next in a case, by the ladder's id."""
    document = case_document(store, case, now)
    return {ladder.id: _advice(document, ladder) for ladder in all_ladders(store).values()}


def _advice(document: Case, ladder: Ladder) -> Advice:
    return advise(document, ladder, files.step_table(), files.cause_table(), files.cure_table())


def printer_now(store: Store, printer: PrinterRecord, now: datetime) -> Printer:
    """The printer with its tanks and pad as the book has them now."""
    names = [c.name for c in printer.printer.channels]
    tanks, (pad_said, since) = store.tanks(printer.id, names), store.pad(printer.id)
    channels = []
    for channel in printer.printer.channels:
        known = tanks[channel.name]
        base = channel.level_ml if known.level_ml is None else known.level_ml
        level = None if base is None else round(max(0.0, base + known.since_ml), 3)
        channels.append(channel.model_copy(update={"level_ml": level}))
    pad = printer.printer.waste
    if pad is not None:
        pad = pad.model_copy(update={"used_ml": round((pad.used_ml if pad_said is None else pad_said) + since, 3)})
    return printer.printer.model_copy(update={"channels": tuple(channels), "waste": pad})


def levels_of_case(store: Store, case: CaseRecord, now: datetime) -> list[LevelEvent | NoteEvent]:
    """What the book knows of a case's tanks beyond its steps: levels read, what was in them after a fill, a new pad."""
    found: list[LevelEvent | NoteEvent] = []
    for entry in store.readings(case.printer_id, case.opened, case.closed or now):
        if entry.what == "pad" and entry.ink_ml == 0:
            found.append(NoteEvent(kind="note", at=entry.at, facts={"pad_replaced": True}))
        elif entry.what == "level":
            found.append(LevelEvent(kind="level", at=entry.at, channel=entry.channel, level_ml=entry.ink_ml))
        elif entry.what == "fill" and entry.step is None:
            level = _level_then(store, case.printer_id, entry)
            if level is not None:
                found.append(LevelEvent(kind="level", at=entry.at, channel=entry.channel, level_ml=level))
    return found


def _level_then(store: Store, printer_id: int, fill: Entry) -> float | None:
    """What a tank held once it was filled."""
    record = store.printer_by_id(printer_id)
    assert record is not None  # the case's foreign key holds
    return replay(record.printer, store.numbered(printer_id), fill.at).levels[fill.channel]


def cost_so_far(store: Store, case: CaseRecord) -> Total:
    """What a case has taken out of the tanks so far."""
    return add_up(store.entries(case_id=case.id))


def step_under_way(store: Store, case: CaseRecord) -> EventRecord | None:
    """The case's step that was started and not yet finished."""
    return next((e for e in reversed(store.events(case.printer_id, case_id=case.id)) if e.under_way), None)


def waiting(store: Store, case: CaseRecord, now: datetime) -> bool:
    """Whether the case's printer rests or soaks, so that nobody is needed."""
    running = step_under_way(store, case)
    return (
        running is not None
        and isinstance(running.event, StepEvent)
        and bool(running.event.until and running.event.until > now)
    )


def close_case(store: Store, case: CaseRecord, now: datetime, outcome: str) -> None:
    """Closes a case; a step under way must be finished first."""
    if step_under_way(store, case) is not None:
        raise OutOfTurn(f"A step of case {case.number} is still under way. Finish or drop it first.")
    if not store.close_case(case.id, now, outcome):
        raise OutOfTurn(f"Case {case.number} was closed before.")


def reopen_case(store: Store, case: CaseRecord) -> None:
    """Opens a closed case again."""
    if not store.reopen_case(case.id):
        raise OutOfTurn(f"Case {case.number} cannot be opened again: it is open, or its printer has another open case.")


FACTS: Mapping[str, type] = {
    "idle_days": float, "humidity_pct": float, "temperature_c": float, "ink_changed_days_ago": float, "new_printer": bool, "refilled_ink": bool,
    "low_ink_message": bool, "cap_dirty": bool, "lockout_warning": bool, "symptom_gone": bool, "pad_replaced": bool, "air_in_line": list,
    "print_symptom": str, "accepted": list,
}  # fmt: skip


def tell(store: Store, case: CaseRecord, facts: Mapping[str, Any], person: str, now: datetime) -> None:
    """Keeps what somebody says about a case."""
    if case.closed is not None:
        raise OutOfTurn(f"Case {case.number} is closed. Open it again to add to it.")
    unknown = [name for name in facts if name not in FACTS and name != "text"]
    if unknown or not facts:
        raise UnusableInput(
            f"{unknown[0]}: expected one of the facts that the page lists."
            if unknown
            else "Nothing was said: fill in at least one field."
        )
    store.add_event(case.printer_id, case.id, NoteEvent(kind="note", at=now, facts=dict(facts)), person)
