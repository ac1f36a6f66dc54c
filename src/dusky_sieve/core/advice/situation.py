"""What a case comes down to at this moment: the facts that rules and ladders ask for."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from dusky_sieve.core.advice.ladder import SEVERITIES, FactValue
from dusky_sieve.core.case import Case, ChannelFaults, LevelEvent, NoteEvent, SheetEvent, StepEvent
from dusky_sieve.core.comparison import Movement, compare, unchanged
from dusky_sieve.core.ledger import levels_now, pad_used
from dusky_sieve.core.steps import CLEANS, WAITS, StepTable

Severity = Literal["clear", "few", "some", "most", "all"]
FEW_SHARE = 0.05  # of a channel's nozzles at fault, case contract
SOME_SHARE = 0.5  # the same
CHANGES_FAULTS = (*CLEANS, "deep_clean", "line_flush", "paper_flush", "rest", "seal_clean", "cap_soak", "head_soak", "syringe_flush", "air_assist")  # fmt: skip


@dataclass(frozen=True)
class Situation:
    """A case boiled down. Faults are those of the last sheet that read each channel.

    faulty : nozzles at fault per channel read; unsure : nozzles to be settled; severity, movement : per channel
    unchanged : the last step that could change something changed nothing
    waiting : the rest or soak that still runs, `waited` the one that is over but not checked
    stale : something was done since the last sheet
    told : facts that notes carried, the latest of each, less those answered since
    """

    case: Case
    faulty: dict[str, frozenset[int]]
    unsure: int
    severity: dict[str, Severity]
    worst_ever: Severity
    movement: dict[str, Movement]
    unchanged: bool
    waiting: StepEvent | None
    waited: StepEvent | None
    stale: bool
    steps: tuple[StepEvent, ...]
    cleans_since_rest: dict[str, int]
    rests_without_change: int
    sheets: int
    told: dict[str, Any]
    levels: dict[str, float | None]
    pad_ml: float | None

    @property
    def bad_channels(self) -> tuple[str, ...]:
        """Channels at fault, in the printer's order."""
        return tuple(c.name for c in self.case.printer.channels if self.faulty.get(c.name))

    def count(self, *names: str) -> int:
        """How often a step was done in this case."""
        return sum(step.step in names for step in self.steps)

    def last(self, *names: str) -> StepEvent | None:
        """The last time one of these steps was done."""
        return next((step for step in reversed(self.steps) if step.step in names), None)

    def facts(self) -> dict[str, FactValue]:
        """The facts a ladder's tests may name."""
        worst = max(self.severity.values(), key=SEVERITIES.index, default="clear")
        return {
            "worst": worst, "worst_ever": self.worst_ever, "faults": sum(len(v) for v in self.faulty.values()),
            "faulty_channels": len(self.bad_channels), "unchanged": self.unchanged, "cleans": self.count(*CLEANS),
            "cleans_since_rest": max((self.cleans_since_rest.get(name, 0) for name in self.bad_channels), default=0),
            "rests": self.count("rest"), "rests_without_change": self.rests_without_change,
            "deep_cleans": self.count("deep_clean"), "line_flushes": self.count("line_flush"), "cap_soaks": self.count("cap_soak"),
            "seal_cleans": self.count("seal_clean"), "checks_since_step": 0 if self.stale else 1,
            "movement": overall_movement(self), "first_fill": self.case.printer.first_fill,
        }  # fmt: skip


def overall_movement(situation: Situation) -> str:
    """The movement of the channel with most faults, in which the others follow where they say more."""
    calls = [
        (situation.movement[n].after + situation.movement[n].before, situation.movement[n].call)
        for n in situation.movement
    ]
    told = [item for item in calls if item[1] not in ("too_few", "cleared")] or calls
    return max(told, default=(0, "first"))[1]


def size_up(case: Case, table: StepTable) -> Situation:
    """The situation of a case at its `now`."""
    nozzles = {c.name: c.nozzles for c in case.printer.channels}
    last: dict[str, frozenset[int]] = {}
    before: dict[str, frozenset[int]] = {}
    unsure: dict[str, int] = {}
    worst_ever: Severity = "clear"
    steps: list[StepEvent] = []
    since_rest: dict[str, int] = {}
    since_sheet: list[StepEvent] = []
    idle_rests, same, sheets = 0, False, 0
    for event in case.events:
        if isinstance(event, StepEvent):
            steps.append(event)
            since_sheet.append(event)
            _count_cleans(since_rest, event, list(nozzles))
        elif isinstance(event, SheetEvent) and event.faults:
            sheets += 1
            now = {name: _numbers(item, nozzles[name]) for name, item in event.faults.items()}
            tried = [s for s in since_sheet if s.step in CHANGES_FAULTS]
            if tried and last:
                same = unchanged(last, now)
                idle_rests = (idle_rests + any(s.step == "rest" for s in tried)) if same else 0
            unsure |= {name: len(item.unsure) for name, item in event.faults.items()}
            before |= {name: last[name] for name in now if name in last}
            last |= now
            worst_ever = max(worst_ever, *(_severity(len(v), nozzles[n]) for n, v in now.items()), key=SEVERITIES.index)
            since_sheet = []
    waits = [(s, _until(s, table)) for s in since_sheet if s.step in WAITS]
    running = next((s for s, until in waits if until > case.now), None)
    over = waits[-1][0] if waits and running is None and since_sheet[-1] is waits[-1][0] else None
    told = _told(case)
    return Situation(
        case=case, faulty=last, unsure=sum(unsure.values()), severity={n: _severity(len(v), nozzles[n]) for n, v in last.items()},
        worst_ever=worst_ever, movement={n: compare(before.get(n), v, nozzles[n]) for n, v in last.items()}, unchanged=same,
        waiting=running, waited=over, stale=any(s.step != "check" for s in since_sheet) or (sheets == 0), steps=tuple(steps),
        cleans_since_rest=since_rest, rests_without_change=idle_rests, sheets=sheets, told=told,
        levels=levels_now(case, table), pad_ml=pad_used(case, table),
    )  # fmt: skip


def wait_over(step: StepEvent, table: StepTable) -> datetime:
    """When a rest or soak is over."""
    return _until(step, table)


def _until(step: StepEvent, table: StepTable) -> datetime:
    return step.until or step.at + timedelta(hours=table[step.step].wait_hours)


def _numbers(item: ChannelFaults, nozzles: int) -> frozenset[int]:
    if item.all_missing:
        return frozenset(range(1, nozzles + 1))
    return frozenset((*item.missing, *item.deflected, *item.weak))


def _severity(faults: int, nozzles: int) -> Severity:
    if faults == 0:
        return "clear"
    if faults >= nozzles:
        return "all"
    share = faults / nozzles
    return "few" if share <= FEW_SHARE else "some" if share <= SOME_SHARE else "most"


def _count_cleans(since_rest: dict[str, int], event: StepEvent, every: list[str]) -> None:
    if event.step in WAITS:
        since_rest.clear()
    elif event.step in CLEANS:
        touched = every if event.step == "clean" or not event.channels else event.channels
        for name in touched:
            since_rest[name] = since_rest.get(name, 0) + 1


def _told(case: Case) -> dict[str, Any]:
    """The latest value of every fact told, less those that a later event answered."""
    told: dict[str, Any] = {}
    for event in case.events:
        if isinstance(event, NoteEvent):
            told |= event.facts
        elif isinstance(event, LevelEvent):
            continue
        elif isinstance(event, StepEvent):
            if event.step == "refill":
                told.pop("low_ink_message", None)
            elif event.step == "line_flush":
                told.pop("air_in_line", None)
            elif event.step == "prepare":
                told.pop("new_printer", None)
            elif event.step == "seal_clean":
                told.pop("cap_dirty", None)
    if told.get("symptom_gone"):
        told.pop("print_symptom", None)
    return told
