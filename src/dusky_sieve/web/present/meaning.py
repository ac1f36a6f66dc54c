"""What a case means and what next: stacks of strips, causes, the next step on its ladder, what is refused."""

from dataclasses import dataclass
from datetime import datetime

from dusky_sieve import files, services
from dusky_sieve.core.advice import Advice, Ladder, Proposal
from dusky_sieve.core.case import StepEvent
from dusky_sieve.core.ledger import Total
from dusky_sieve.drawing import sieve
from dusky_sieve.drawing.ladder import ladder_edge
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words
from dusky_sieve.web.present.band import NO_INK

MOST_SHEETS = 7  # in a stack; older ones are in the case's history
STOOD_HOURS = 6  # from which a pause between sheets is drawn as more air
MOST_CAUSES = 4


@dataclass(frozen=True)
class Stack:
    """A channel's strips over the case's sheets, and its movement in words."""

    channel: str
    svg: str
    says: str
    counts: tuple[int, ...]


@dataclass(frozen=True)
class CauseLine:
    """A likely cause with its odds in 100."""

    name: str
    in_hundred: int
    because: str


@dataclass(frozen=True)
class School:
    """What another ladder would do now."""

    id: str
    name: str
    step: str
    ink_ml: float
    waste_ml: float
    minutes: float
    why: str
    own: bool


@dataclass(frozen=True)
class Meaning:
    """Everything the page lays out."""

    record: PrinterRecord
    heading: str
    aside: str
    times: tuple[tuple[str, str, bool], ...]
    stacks: tuple[Stack, ...]
    quiet: tuple[str, ...]
    causes: tuple[CauseLine, ...]
    advice: Advice
    step: Proposal
    title: str
    button: str
    ink: float
    ladder_name: str
    ladder_svg: str
    running: EventRecord | None
    until: datetime | None
    waiting: bool
    spent: Total
    schools: tuple[School, ...]
    refused: tuple[tuple[str, str, datetime | None], ...]


def meaning(store: Store, case: CaseRecord, now: datetime) -> Meaning:
    """The view of one case at `now`."""
    record = store.printer_by_id(case.printer_id)
    assert record is not None  # the case's foreign key holds
    ladder = services.ladder_of(store, record.printer.ladder)
    advices = services.advice_by_school(store, case, now)
    advice = advices[ladder.id]
    sheets = store.sheets(record.id, case_id=case.id, accepted=True)[-MOST_SHEETS:]
    running = services.step_under_way(store, case)
    step = advice.next
    until = None
    if running is not None and isinstance(running.event, StepEvent):
        until = running.event.until
        step = next((p for p in (advice.next, *advice.alternatives) if p.step == running.event.step), step)
    shown = running.event.step if running is not None and isinstance(running.event, StepEvent) else step.step
    facts = files.step_table()[shown]
    taken: dict[str, int] = {}
    for event in store.events(record.id, case_id=case.id):
        if event.case_id == case.id and isinstance(event.event, StepEvent) and event.finished:
            taken[event.event.step] = taken.get(event.event.step, 0) + 1
    here = next((r.id for r in ladder.rungs if r.step == shown), None) if running else advice.next.rung
    stacks, quiet = _stacks(record, sheets, advice)
    return Meaning(
        record=record, heading=words.finding(advice), aside=_aside(advice, record, case, len(sheets)), times=_times(store, case, sheets, now), stacks=stacks,
        quiet=quiet, causes=cause_lines(advice), advice=advice, step=step, title=facts.title, button=facts.button, ink=sum(step.ink_ml.values()),
        ladder_name=ladder.name, ladder_svg=ladder_edge(ladder, here, taken, waiting=bool(until and until > now)), running=running, until=until,
        waiting=bool(until and until > now), spent=services.cost_so_far(store, case), schools=_schools(services.all_ladders(store), advices, record.printer.ladder), refused=_refused(advice),
    )  # fmt: skip


def _aside(advice: Advice, record: PrinterRecord, case: CaseRecord, sheets: int) -> str:
    bad = [(m.after, m) for n, m in advice.movement.items() if advice.severity.get(n) != "clear"]
    said = (
        words.capital(words.movement_words(max(bad, key=lambda item: item[0])[1])) + "." if bad else "Nothing to clean."
    )
    return f"{record.name}, case {case.number}, sheet {sheets}. {said}"


def _stacks(
    record: PrinterRecord, sheets: list[SheetRecord], advice: Advice
) -> tuple[tuple[Stack, ...], tuple[str, ...]]:
    gaps = [_stood(sheets, i) for i in range(len(sheets))]
    stacks, quiet = [], []
    for channel in record.printer.channels:
        holes = [sieve.holes_of_faults((s.faults or {}).get(channel.name), channel.nozzles) for s in sheets]
        if not any(h.states or h.absent for h in holes):
            if any(h.read for h in holes):
                quiet.append(words.display(channel.name))
            continue
        name = words.display(channel.name)
        movement = advice.movement.get(channel.name)
        svg = sieve.stack(holes, record.inks.get(channel.name, NO_INK), gaps, label=name)
        counts = tuple(channel.nozzles if h.absent else sum(s != "unsure" for s in h.states.values()) for h in holes)
        stacks.append(Stack(name, svg, words.movement_words(movement) if movement else "", counts))
    stacks.sort(key=lambda s: -s.counts[-1])
    return tuple(stacks), tuple(quiet)


def _times(
    store: Store, case: CaseRecord, sheets: list[SheetRecord], now: datetime
) -> tuple[tuple[str, str, bool], ...]:
    steps = [
        e
        for e in store.events(case.printer_id, case_id=case.id)
        if e.case_id == case.id and isinstance(e.event, StepEvent) and e.finished and e.event.step != "check"
    ]
    out = []
    for index, sheet in enumerate(sheets):
        since = sheets[index - 1].at if index else None
        between = [
            files.step_table()[e.event.step].title.lower()
            for e in steps
            if isinstance(e.event, StepEvent) and since is not None and since < e.event.at <= sheet.at
        ]
        out.append((words.day_time(sheet.at, now), ", ".join(between), _stood(sheets, index)))
    return tuple(out)


def _stood(sheets: list[SheetRecord], index: int) -> bool:
    """Whether the printer stood a good while before this sheet."""
    return index > 0 and (sheets[index].at - sheets[index - 1].at).total_seconds() > STOOD_HOURS * 3600


def _refused(advice: Advice) -> tuple[tuple[str, str, datetime | None], ...]:
    """Refusals with one line a reason: the steps it bars, the reason, its end."""
    lines: dict[tuple[str, datetime | None], list[str]] = {}
    for item in advice.refused:
        lines.setdefault((item.why, item.until), []).append(files.step_table()[item.step].title)
    said = {key: words.listed([names[0], *(n.lower() for n in names[1:])]) for key, names in lines.items()}
    return tuple((names, why, until) for (why, until), names in said.items())


def cause_lines(advice: Advice) -> tuple[CauseLine, ...]:
    """The likeliest causes with their reasons."""
    shown = [c for c in advice.causes[:MOST_CAUSES] if c.probability >= 0.02]
    return tuple(
        CauseLine(
            words.CAUSES[c.cause],
            round(c.probability * 100),
            "; ".join(c.because) or "nothing speaks for it but that it is common",
        )
        for c in shown
    )


def _schools(ladders: dict[str, Ladder], advices: dict[str, Advice], own: str) -> tuple[School, ...]:
    out = []
    for key, advice in advices.items():
        ladder, step = ladders[key], advice.next
        title = files.step_table()[step.step].title
        out.append(
            School(
                ladder.id,
                ladder.name,
                title,
                sum(step.ink_ml.values()),
                step.waste_ml,
                step.minutes,
                step.why[0] if step.why else "",
                ladder.id == own,
            )
        )
    return tuple(sorted(out, key=lambda s: (not s.own, s.name)))
