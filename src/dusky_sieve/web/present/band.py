"""One printer as the room board shows it: state in a sentence, strips, tanks, the one next action."""

from dataclasses import dataclass
from datetime import datetime

from dusky_sieve import files, services
from dusky_sieve.core.advice import Advice
from dusky_sieve.core.case import ChannelFaults, Printer, StepEvent
from dusky_sieve.core.upkeep import Due
from dusky_sieve.drawing import sieve
from dusky_sieve.store import CaseRecord, EventRecord, PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words

LOW_SHARE = 0.34  # of a tank, under which its level is set in bold: no deep clean below a third
NO_INK = "#8e9197"


@dataclass(frozen=True)
class ChannelLine:
    """A channel on a board: its strip, faults and tank."""

    name: str
    strip: str
    faults: int
    level_ml: float | None
    share: float | None
    low: bool
    apart: bool
    state: str


@dataclass(frozen=True)
class Action:
    """The one thing to do next; `turn` means that a person is waited for."""

    label: str
    aside: str
    href: str
    turn: bool


@dataclass(frozen=True)
class Band:
    """A printer on the room board."""

    record: PrinterRecord
    printer: Printer
    sentence: str
    detail: str
    channels: tuple[ChannelLine, ...]
    pad_share: float | None
    pad_words: str
    pad_size: str
    pad_grave: bool
    action: Action
    due: tuple[tuple[str, str], ...]
    order: tuple[int, int]
    case: CaseRecord | None
    rest_ends: datetime | None
    nozzles: int
    last_sheet: SheetRecord | None


def band(store: Store, record: PrinterRecord, now: datetime) -> Band:
    """A printer's state at `now`; where nothing runs it is worked out once a quarter of an hour, or when it changes."""
    quarter = now.replace(minute=now.minute // 15 * 15, second=0, microsecond=0)
    found = store.remembered(record.id, ("band", quarter), lambda: _band(store, record, now))
    return found if found.rest_ends is None else _band(store, record, now)


def _band(store: Store, record: PrinterRecord, now: datetime) -> Band:
    printer = services.printer_now(store, record, now)
    accepted = store.sheets(record.id, accepted=True, last=1)
    unseen = store.sheets(record.id, accepted=False, last=20)
    waiting = next((s for s in reversed(unseen) if s.read and not s.why), None)
    case = services.open_case_of(store, record.id)
    last = accepted[-1] if accepted else None
    running = services.step_under_way(store, case) if case else None
    advice = services.advice_for(store, case, now) if case else None
    ends = running.event.until if running and isinstance(running.event, StepEvent) else None
    closed = next((c for c in store.cases(record.id) if c.closed), None)
    sentence = _sentence(waiting, running, advice, closed, last, store.clear_streak(record.id), now)
    action = _action(record, waiting, running, advice, case, closed, now)
    rank = 0 if action.turn else 1 if ends and ends > now else 2 if case else 3
    pad = printer.waste
    share = pad.used_ml / pad.capacity_ml if pad and pad.capacity_ml else None
    return Band(
        record=record, printer=printer, sentence=sentence, detail=_detail(store, case, closed, record, now), channels=_channels(printer, record, last),
        pad_share=share, pad_words=f"{share:.0%}" if pad and share is not None else "not known",
        pad_size=f"of {pad.capacity_ml:.0f} ml" if pad and share is not None else "",
        pad_grave=bool(share is not None and share >= 0.9), action=action, due=_due(running, printer, last, services.due_of(store, record, now), now), order=(rank, record.id),
        case=case, rest_ends=ends if ends and ends > now else None, nozzles=max(c.nozzles for c in printer.channels), last_sheet=last,
    )  # fmt: skip


def _channels(printer: Printer, record: PrinterRecord, last: SheetRecord | None) -> tuple[ChannelLine, ...]:
    lines = []
    group = printer.channels[0].group
    for channel in printer.channels:
        faults = (last.faults or {}).get(channel.name) if last else None
        holes = sieve.holes_of_faults(faults, channel.nozzles)
        share = channel.level_ml / channel.capacity_ml if channel.level_ml is not None and channel.capacity_ml else None
        lines.append(
            ChannelLine(
                name=words.display(channel.name), strip=sieve.strip(holes, record.inks.get(channel.name, NO_INK), label=words.display(channel.name)),
                faults=_count(faults), level_ml=channel.level_ml, share=share, low=bool(share is not None and share < LOW_SHARE),
                apart=channel.group != group, state=sieve.describe(holes),
            )
        )  # fmt: skip
        group = channel.group
    return tuple(lines)


def _count(faults: ChannelFaults | None) -> int:
    return 0 if faults is None or faults.all_missing else len({*faults.missing, *faults.weak, *faults.deflected})


def _sentence(
    waiting: SheetRecord | None,
    running: EventRecord | None,
    advice: Advice | None,
    closed: CaseRecord | None,
    last: SheetRecord | None,
    clear: int,
    now: datetime,
) -> str:
    if waiting is not None:
        return "A sheet was read and nobody has looked at it yet."
    if running is not None and isinstance(running.event, StepEvent):
        title = files.step_table()[running.event.step].title
        found = words.finding(advice) if advice else ""
        if running.event.until and running.event.until > now:
            return f"Resting, off and capped. {found}" if running.event.step == "rest" else f"{title} runs. {found}"
        return f"{title} is over: check without cleaning." if running.event.until else f"{title} is under way. {found}"
    if advice is not None:
        return words.finding(advice)
    if closed is not None and closed.outcome == "handed over" and last is not None and last.bad:
        names = [words.display(n) for n, f in (last.faults or {}).items() if f.all_missing]
        gone = f"{words.listed(names)} {'prints' if len(names) == 1 else 'print'} nothing. " if names else ""
        return f"{gone}Handed over; leave it alone until it was seen to."
    if clear:
        return f"Clear for {words.plural(clear, 'sheet')}." if clear > 1 else "Clear."
    return "No sheet yet: print one and photograph it."


def _detail(
    store: Store, case: CaseRecord | None, closed: CaseRecord | None, record: PrinterRecord, now: datetime
) -> str:
    ladder = services.ladder_of(store, record.printer.ladder).name.lower()
    if case is not None:
        spent = services.cost_so_far(store, case)
        return (
            f"Case {case.number}, day {(now - case.opened).days + 1} · est. {words.ml(spent.ink_ml)} spent · {ladder}"
        )
    if closed is not None and closed.closed is not None:
        return f"Case {closed.number} {closed.outcome} {words.day_time(closed.closed, now)} · {ladder}"
    return f"No case yet · {ladder}"


def _action(
    record: PrinterRecord,
    waiting: SheetRecord | None,
    running: EventRecord | None,
    advice: Advice | None,
    case: CaseRecord | None,
    closed: CaseRecord | None,
    now: datetime,
) -> Action:
    if waiting is not None:
        return Action(
            "Look at the sheet", f"photographed {words.day_time(waiting.at, now)}", f"/sheets/{waiting.id}", True
        )
    if case is not None and advice is not None:
        here = f"/cases/{case.id}/next"
        if running is not None and isinstance(running.event, StepEvent):
            if running.event.until and running.event.until > now:
                return Action(
                    f"Rests until {words.day_time(running.event.until, now)}",
                    f"{words.span((running.event.until - now).total_seconds())} left",
                    here,
                    False,
                )
            return Action(
                f"Finish: {files.step_table()[running.event.step].title.lower()}", "then print a sheet", here, True
            )
        step = advice.next
        ink = sum(step.ink_ml.values())
        aside = (
            f"{words.span(step.attended_minutes * 60)} of your time, {'no ink' if not ink else 'est. ' + words.ml(ink)}"
        )
        return Action(files.step_table()[step.step].title, aside, here, True)
    if closed is not None and closed.outcome == "handed over":
        return Action("Read the hand-over", f"case {closed.number}", f"/cases/{closed.id}", False)
    return Action("Check: sheet in", "print, photograph, read", f"/printers/{record.slug}/sheet-in", False)


def _due(
    running: EventRecord | None, printer: Printer, last: SheetRecord | None, upkeep: list[Due], now: datetime
) -> tuple[tuple[str, str], ...]:
    lines: list[tuple[str, str]] = []
    if (
        running is not None
        and isinstance(running.event, StepEvent)
        and running.event.until
        and running.event.until > now
    ):
        lines.append((words.day_time(running.event.until, now), "rest ends; then check without cleaning"))
    if last is not None:
        lines.append((words.day_time(last.at, now), "last sheet"))
    next_up = min(upkeep, key=lambda d: d.at, default=None)
    if next_up is not None:
        title = files.upkeep_table()[next_up.name].title.lower()
        more = sum(d.at <= now for d in upkeep) - 1
        lines.append(("due" if next_up.at <= now else words.day_time(next_up.at, now), title + (f", and {words.number(more)} more" if more > 0 else "")))  # fmt: skip
    pad = printer.waste
    if pad is not None:
        left = max(0.0, pad.capacity_ml - pad.used_ml)
        lines.append(("pad", f"{words.ml(left)} left" + ("" if pad.replaceable else ", cannot be replaced")))
    return tuple(lines)


def room_heading(bands: list[Band]) -> str:
    """Who needs somebody, in one sentence."""
    if not bands:
        return "No printer is set up yet."
    turn = [b.record.name for b in bands if b.action.turn]
    if not turn:
        return "Nobody is needed now."
    return f"{words.listed(turn)} {'waits' if len(turn) == 1 else 'wait'} for you."


def room_aside(bands: list[Band], now: datetime) -> str:
    """What else there is to know at a glance."""
    parts = [
        f"{b.record.name}'s rest ends in {words.span((b.rest_ends - now).total_seconds())}."
        for b in bands
        if b.rest_ends
    ]
    idle = sum(1 for b in bands if not b.action.turn and not b.rest_ends)
    if idle:
        parts.append(f"{words.capital(words.number(idle))} need{'s' if idle == 1 else ''} nobody.")
    return " ".join(parts)
