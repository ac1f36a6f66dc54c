"""Steps: started, finished, dropped, done outside; levels read off."""

from collections.abc import Iterable
from datetime import datetime

from dusky_sieve import files
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.ledger import Entry, book_step, fills_to
from dusky_sieve.core.steps import WAITS, StepName
from dusky_sieve.services.cases import advice_for, find_case, step_under_way
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, Store


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
    until = chosen.until if step in WAITS else None
    pages = chosen.sheets if step == "paper_flush" else None
    event = StepEvent(
        kind="step", at=now, step=step, channels=chosen.channels, level=chosen.level, sheets=pages, until=until
    )
    return store.add_event(case.printer_id, case.id, event, person, started=now)


def finish_step(
    store: Store, event_id: int, person: str, now: datetime, *, early: bool = False, lines: int | None = None
) -> EventRecord:
    """Finishes a step under way and books its estimated ink and waste.

    lines : light lines counted on the last full page, where pages were printed

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
    entries = [*book_step(printer.printer, done, files.step_table()), *_filled(store, printer, done)]
    if not store.finish_step(event_id, done, now, entries, person):
        raise OutOfTurn(
            f"{title} was finished or dropped before, by {record.person or 'somebody'}. Nothing was booked twice."
        )
    if lines is not None and done.step == "paper_flush" and done.channels:
        counted = dict.fromkeys(done.channels, lines)
        store.add_sheet(record.printer_id, now, person, faults={}, case_id=case.id, lines=counted)
    if record.event.step in ("hand_over", "carry_on"):
        store.close_case(case.id, now, "handed over" if record.event.step == "hand_over" else "clear")
    finished = store.event(event_id)
    assert finished is not None
    return finished


def step_was_done(
    store: Store,
    case: CaseRecord,
    step: StepName,
    channels: tuple[str, ...] | None,
    at: datetime,
    person: str,
    now: datetime,
) -> None:
    """Books a step that was done outside the program, in its right place in time."""
    if case.closed is not None:
        raise OutOfTurn(f"Case {case.number} is closed. Open it again to add to it.")
    if not case.opened <= at <= now:
        raise UnusableInput(
            f"The step lies between the case's first sheet, {case.opened:%d %b %H:%M} UTC, and now; found {at:%d %b %H:%M}."
        )
    record = store.printer_by_id(case.printer_id)
    assert record is not None  # the case's foreign key holds
    unknown = set(channels or ()) - {c.name for c in record.printer.channels}
    if unknown:
        raise UnusableInput(f"{record.name} has no channel “{sorted(unknown)[0]}”.")
    event = StepEvent(kind="step", at=at, step=step, channels=channels)
    entries = [*book_step(record.printer, event, files.step_table()), *_filled(store, record, event)]
    store.add_event(case.printer_id, case.id, event, person, entries=entries)


def _filled(store: Store, printer: PrinterRecord, step: StepEvent) -> Iterable[Entry]:
    """Lines for tanks that a refill filled up."""
    if step.step != "refill":
        return ()
    return fills_to(
        printer.printer,
        store.numbered(printer.id),
        step.channels or [c.name for c in printer.printer.channels],
        step.at,
    )


def drop_step(store: Store, event_id: int, now: datetime) -> EventRecord:
    """Says that a started step was not done; nothing is booked."""
    record = store.event(event_id)
    if record is None or not store.drop_step(event_id, now):
        raise OutOfTurn("This step is not under way, so there is nothing to take back.")
    return record
