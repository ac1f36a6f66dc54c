"""A case from beginning to end, and lists of cases and sheets."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from itertools import groupby

from dusky_sieve import files, services
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.ledger import Entry, Total
from dusky_sieve.drawing import sieve
from dusky_sieve.drawing.course import Spent, course
from dusky_sieve.drawing.ladder import ladder_edge
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words
from dusky_sieve.web.present.band import NO_INK


@dataclass(frozen=True)
class Moment:
    """One thing that happened: a sheet with its strips, a step with what it took, a level read, a note."""

    at: datetime
    when: str
    kind: str
    title: str
    aside: str
    person: str
    strips: tuple[tuple[str, str, str], ...] = ()
    href: str = ""
    ink_ml: float = 0.0
    waste_ml: float = 0.0


@dataclass(frozen=True)
class Story:
    """A case's history."""

    record: PrinterRecord
    heading: str
    aside: str
    moments: tuple[Moment, ...]
    spent: Total
    ahead: float | None
    by_step: tuple[tuple[str, int, float, float, float], ...]
    hours: str
    ladder: str
    ladder_id: str
    ladder_svg: str
    way: tuple[tuple[str, int], ...]
    course: str
    turn: bool


def story(store: Store, case: CaseRecord, now: datetime) -> Story:
    """A case's moments in order of time, with what they took."""
    record = store.printer_by_id(case.printer_id)
    assert record is not None  # the case's foreign key holds
    sheets = store.sheets(record.id, case_id=case.id, accepted=True)
    moments = [_sheet_moment(record, s, i, now) for i, s in enumerate(sheets, 1)]
    entries = [e for e in store.entries(case_id=case.id) if e.step is not None]
    for event in store.events(record.id, case_id=case.id):
        if event.case_id != case.id or event.dropped:
            continue
        moments.append(_event_moment(event, entries, now))
    moments.sort(key=lambda m: m.at)
    names = sorted({e.step for e in entries if e.step}, key=lambda n: -sum(e.ink_ml for e in entries if e.step == n))
    table = []
    for name in names:
        of = [e for e in entries if e.step == name]
        table.append(
            (
                files.step_table()[name].title,
                len({e.at for e in of}),
                sum(e.ink_ml for e in of),
                sum(e.waste_ml for e in of),
                sum(e.cost for e in of),
            )
        )
    ladder = services.ladder_of(store, record.printer.ladder)
    done = [
        e.event
        for e in store.events(record.id, case_id=case.id)
        if e.case_id == case.id and e.finished and not e.dropped and isinstance(e.event, StepEvent)
    ]
    running = services.step_under_way(store, case)
    under_way = running.event if running is not None and isinstance(running.event, StepEvent) else None
    if under_way is not None:
        here = next((r.id for r in ladder.rungs if r.step == under_way.step), None)
        done.append(under_way)
    else:
        here = None if case.closed else services.advice_for(store, case, now).next.rung
    counted: dict[str, int] = {}
    for step in done:
        counted[step.step] = counted.get(step.step, 0) + 1
    spent = [Spent(e.at, files.step_table()[e.step or "check"].title, e.ink_ml) for e in _by_step(entries)]
    read = [(s.at, _faults(record, s)) for s in sheets if s.faults]
    ended = f" It was {case.outcome} {words.day_time(case.closed, now)}." if case.closed else ""
    return Story(
        record=record, heading=f"Case {case.number}: {_arc(sheets)}", aside=f"{record.name}, opened {words.day_time(case.opened, now)}.{ended}",
        moments=tuple(moments), spent=services.cost_so_far(store, case), ahead=services.cost_ahead(store, case, now), by_step=tuple(table),
        hours=words.span(((case.closed or now) - case.opened).total_seconds()), ladder=ladder.name, ladder_id=ladder.id, ladder_svg=ladder_edge(ladder, here, counted, waiting=under_way is not None),
        way=tuple(_way(done)), course=course(read, spent, f"Faults and ink of case {case.number} over {len(read)} sheets", lambda at: words.day_time(at, now)),
        turn=case.closed is None and not services.waiting(store, case, now),
    )  # fmt: skip


def _way(done: list[StepEvent]) -> Iterator[tuple[str, int]]:
    """Steps in the order they were done, equal ones in a row counted."""
    for name, group in groupby(done, key=lambda step: step.step):
        yield files.step_table()[name].title, len(list(group))


def _by_step(entries: list[Entry]) -> list[Entry]:
    """One entry a step: its channels' ink together."""
    whole: dict[tuple[datetime, str], Entry] = {}
    for entry in entries:
        key = (entry.at, entry.step or "")
        known = whole.get(key)
        whole[key] = entry if known is None else known.model_copy(update={"ink_ml": known.ink_ml + entry.ink_ml})
    return [whole[key] for key in sorted(whole)]


def _faults(record: PrinterRecord, sheet: SheetRecord) -> int:
    size = {c.name: c.nozzles for c in record.printer.channels}
    return sum(
        size[name] if f.all_missing else len({*f.missing, *f.weak, *f.deflected})
        for name, f in (sheet.faults or {}).items()
    )


def _arc(sheets: list[SheetRecord]) -> str:
    if not sheets:
        return "no sheet yet."
    first, last = words.sheet_says(sheets[0].faults), words.sheet_says(sheets[-1].faults)
    if len(sheets) == 1:
        return f"{first} on its first sheet."
    return f"{first} at first, {'still ' if first == last else ''}{last} after {words.plural(len(sheets), 'sheet')}."


def _sheet_moment(record: PrinterRecord, sheet: SheetRecord, index: int, now: datetime) -> Moment:
    strips = []
    for channel in record.printer.channels:
        faults = (sheet.faults or {}).get(channel.name)
        if faults is None:
            continue
        holes = sieve.holes_of_faults(faults, channel.nozzles)
        if holes.states or holes.absent:
            name = words.display(channel.name)
            strips.append(
                (name, sieve.strip(holes, record.inks.get(channel.name, NO_INK), label=name), sieve.describe(holes))
            )
    title = f"Sheet {index}: {words.sheet_says(sheet.faults)}"
    return Moment(
        sheet.at,
        words.day_time(sheet.at, now),
        "sheet",
        title,
        "read from a photo" if sheet.photo_ids else "told by hand",
        sheet.person,
        tuple(strips),
        f"/sheets/{sheet.id}",
    )


def _event_moment(record: EventRecord, entries: list[Entry], now: datetime) -> Moment:
    event = record.event
    when = words.day_time(event.at, now)
    if isinstance(event, StepEvent):
        facts = files.step_table()[event.step]
        took = [e for e in entries if e.step == event.step and e.at == event.at]
        state = "" if record.finished else "under way"
        if event.until:
            state = f"until {words.day_time(event.until, now)}"
        for_ = f"for {words.listed([words.display(c) for c in event.channels])}" if event.channels else ""
        return Moment(event.at, when, "step", facts.title, " ".join(p for p in (for_, state) if p), record.person, ink_ml=sum(e.ink_ml for e in took), waste_ml=sum(e.waste_ml for e in took))  # fmt: skip
    if event.kind == "level":
        return Moment(
            event.at,
            when,
            "note",
            f"{words.display(event.channel)} read off: {words.ml(event.level_ml)}",
            "",
            record.person,
        )
    told = ", ".join(
        f"{k.replace('_', ' ')}: {', '.join(map(str, v)) if isinstance(v, list) else v}" for k, v in event.facts.items()
    )
    return Moment(event.at, when, "note", "Told", told, record.person)


@dataclass(frozen=True)
class CaseLine:
    """A case in the list of all cases."""

    case: CaseRecord
    printer: str
    state: str
    opened: str
    spent: Total
    sheets: int


def case_lines(store: Store, now: datetime) -> list[CaseLine]:
    """All cases, newest first."""
    printers = {p.id: p for p in store.printers()}
    out = []
    counts, spent = store.sheet_counts(), store.spent()
    for case in store.cases():
        ink, waste, cost = spent.get(case.id, (0.0, 0.0, 0.0))
        state = case.outcome or "closed" if case.closed else "open"
        out.append(
            CaseLine(
                case,
                printers[case.printer_id].name,
                state,
                words.day_time(case.opened, now),
                Total(ink_ml=ink, waste_ml=waste, cost=cost),
                counts.get(case.id, 0),
            )
        )
    return out


SHEETS_SHOWN = 14  # of a printer's sheets, the newest


@dataclass(frozen=True)
class SheetLine:
    """A sheet in a printer's list."""

    sheet: SheetRecord
    when: str
    state: str


def sheet_lines(store: Store, record: PrinterRecord, now: datetime) -> list[SheetLine]:
    """A printer's sheets, newest first."""
    out = []
    for sheet in reversed(store.sheets(record.id, last=SHEETS_SHOWN)):
        unread = "not found on the photo" if sheet.why else "not looked at yet" if sheet.faults is None else ""
        state = unread or words.sheet_says(sheet.faults)
        out.append(SheetLine(sheet, words.day_time(sheet.at, now), state))
    return out
