"""What a case comes down to at this moment: the facts that rules and ladders ask for."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any, Literal

from dusky_sieve.core.advice.ladder import SEVERITIES, FactValue
from dusky_sieve.core.case import Case, Channel, ChannelFaults, LevelEvent, NoteEvent, SheetEvent, StepEvent
from dusky_sieve.core.comparison import FEWER_SHARE, Movement, follow, unchanged
from dusky_sieve.core.ledger import channels_touched, levels_now, pad_used
from dusky_sieve.core.steps import CLEANS, WAITS, StepName, StepTable

Severity = Literal["clear", "few", "some", "most", "all"]
FEW_SHARE = 0.05  # of a channel's nozzles at fault, case contract
SOME_SHARE = 0.5  # the same
CHANGES_FAULTS = (*CLEANS, "deep_clean", "line_flush", "paper_flush", "rest", "seal_clean", "cap_soak", "head_soak", "syringe_flush", "air_assist", "replace_head")  # fmt: skip
# Steps after which cleaning may do what it could not before: the cap seals, the crust is soft, the line is full.
REARMS_CLEANING = ("deep_clean", "line_flush", "seal_clean", "cap_soak", "head_soak", "syringe_flush", "air_assist", "replace_head", "refill", "prepare")  # fmt: skip
LEAVES_SHEET = ("check", "hand_over", "carry_on")  # after these the last sheet still says how things stand
COUNTED: dict[str, StepName] = {
    "deep_cleans": "deep_clean", "line_flushes": "line_flush", "cap_soaks": "cap_soak", "seal_cleans": "seal_clean", "air_assists": "air_assist",
    "head_soaks": "head_soak", "paper_flushes": "paper_flush", "settings_checks": "settings_check", "prepares": "prepare", "refills": "refill",
    "remaps": "remap", "aligns": "align", "sensor_cleans": "sensor_clean", "heads_replaced": "replace_head", "checks": "check",
}  # fmt: skip


@dataclass(frozen=True)
class Situation:
    """A case boiled down. Faults are those of the last sheet that read each channel.

    faulty : nozzles at fault per channel read; unsure : nozzles to be settled; severity, movement : per channel
    unchanged : the last step that could change something changed nothing; helped : it left clearly fewer faults
    blocked : channels whose last clean changed nothing, with no other kind of step since that could
    vain : how often each step left no fewer faults than before it
    waiting : the rest or soak that still runs, `waited` the one that is over but not checked
    stale : something was done since the last sheet
    lines : light lines of the last sheet that counted them, per channel; pages : full pages printed since the last sheet
    covered : nozzles whose neighbours print for them since the last remap, per channel
    told : facts that notes carried, the latest of each, less those answered since
    """

    case: Case
    faulty: dict[str, frozenset[int]]
    unsure: int
    severity: dict[str, Severity]
    worst_ever: Severity
    movement: dict[str, Movement]
    unchanged: bool
    helped: bool
    blocked: frozenset[str]
    vain: dict[StepName, int]
    waiting: StepEvent | None
    waited: StepEvent | None
    stale: bool
    steps: tuple[StepEvent, ...]
    cleans_since_rest: dict[str, int]
    rests_without_change: int
    sheets: int
    lines: dict[str, int]
    pages: dict[str, tuple[int, ...]]
    flush_rounds: int
    covered: dict[str, frozenset[int]]
    told: dict[str, Any]
    levels: dict[str, float | None]
    pad_ml: float | None
    rest_hours: float

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

    def since(self, names: tuple[str, ...], *marks: str) -> int:
        """How often steps of `names` were done since the last of `marks`; in all where there was none."""
        last = max((i for i, step in enumerate(self.steps) if step.step in marks), default=-1)
        return sum(step.step in names for step in self.steps[last + 1 :])

    def cleans_of(self, channel: str) -> int:
        """Cleans of any kind that were meant for a channel in this case."""
        return sum(s.step in CLEANS and (not s.channels or channel in s.channels) for s in self.steps)

    def worst_first(self) -> list[str]:
        """Channels at fault, the worst first; equal ones by what they are and hold, so that no name or order decides."""

        def key(c: Channel) -> tuple[object, ...]:
            faults = self.faulty[c.name]
            return (
                -len(faults) / c.nozzles, -len(faults), sorted(faults), self.levels[c.name] or 0.0, c.capacity_ml or 0.0,
                c.price_per_ml, c.group or "", c.role or "",
            )  # fmt: skip

        return [c.name for c in sorted((c for c in self.case.printer.channels if c.name in self.bad_channels), key=key)]

    def facts(self) -> dict[str, FactValue]:
        """The facts a ladder's tests may name."""
        worst = max(self.severity.values(), key=SEVERITIES.index, default="clear")
        bad, printer = self.bad_channels, self.case.printer
        changing = self.last(*CHANGES_FAULTS)
        both = [n for n in bad if self.lines.get(n)]
        return {
            "worst": worst, "worst_ever": self.worst_ever, "faults": sum(len(v) for v in self.faulty.values()),
            "faulty_channels": len(bad), "spread": len(bad) / max(1, len(self.severity)), "unchanged": self.unchanged, "helped": self.helped,
            "movement": overall_movement(self), "last_step": changing.step if changing else "none",
            "cleans": self.count(*CLEANS), "cleans_since_rest": max((self.cleans_since_rest.get(name, 0) for name in bad), default=0),
            "cleans_since_seal": self.since(CLEANS, "seal_clean"), "cleans_since_soak": self.since(CLEANS, "cap_soak"),
            "cleans_since_air": self.since(CLEANS, "air_assist"), "rounds": min((self.cleans_of(n) for n in bad), default=0),
            "rests": self.count("rest"), "rests_without_change": self.rests_without_change,
            **{fact: self.count(step) for fact, step in COUNTED.items()},
            "checks_since_step": 0 if self.stale else 1, "first_fill": printer.first_fill or bool(self.told.get("new_printer")),
            "levels_known": all(self.levels[n] is not None for n in self.levels), "lines_known": any(n in self.lines for n in bad),
            "lines_and_gaps": len(both), "flush_rounds": self.flush_rounds, "covered": self.all_covered,
            "flushing": self.flushing is not None, "white": any(c.role == "white" for c in printer.channels),
        }  # fmt: skip

    @property
    def all_covered(self) -> bool:
        """Whether every nozzle at fault was remapped."""
        return bool(self.covered) and all(
            seen <= self.covered.get(name, frozenset()) for name, seen in self.faulty.items()
        )

    @property
    def flushing(self) -> str | None:
        """The channel whose last full page still had light lines."""
        last = self.steps[-1] if self.steps else None
        if last is None or last.step != "paper_flush" or not last.channels:
            return None
        name = last.channels[0]
        return name if self.lines.get(name) and self.pages.get(name) else None


def overall_movement(situation: Situation) -> str:
    """The movement of the channel with most faults, in which the others follow where they say more."""
    calls = [(m.after + m.before, m.call) for m in situation.movement.values()]
    told = [item for item in calls if item[1] not in ("too_few", "cleared")] or calls
    return max(told, default=(0, "first"))[1]


@dataclass
class _Walk:
    """What is carried from event to event."""

    nozzles: dict[str, int]
    history: dict[str, list[frozenset[int]]] = field(default_factory=dict)
    tries: dict[str, list[int]] = field(default_factory=dict)
    unsure: dict[str, int] = field(default_factory=dict)
    worst_ever: Severity = "clear"
    steps: list[StepEvent] = field(default_factory=list)
    since_sheet: list[StepEvent] = field(default_factory=list)
    idle_rests: int = 0
    unchanged: bool = False
    helped: bool = False
    blocked: set[str] = field(default_factory=set)
    vain: dict[StepName, int] = field(default_factory=dict)
    sheets: int = 0
    lines: dict[str, int] = field(default_factory=dict)
    pages: dict[str, tuple[int, ...]] = field(default_factory=dict)
    flush_rounds: int = 0
    covered: dict[str, frozenset[int]] = field(default_factory=dict)
    done: int = 0

    def step(self, event: StepEvent) -> None:
        self.steps.append(event)
        self.since_sheet.append(event)
        if event.step in CHANGES_FAULTS:
            self.done += 1
        if event.step in REARMS_CLEANING:
            self.blocked.clear()
        if event.step == "remap":
            self.covered = {name: seen[-1] for name, seen in self.history.items()}
        if event.step == "paper_flush":
            for name in event.channels or self.nozzles:
                self.pages[name] = (*self.pages.get(name, ()), event.sheets or 1)
                self.lines.pop(name, None)

    def sheet(self, event: SheetEvent) -> None:
        self.lines |= event.lines
        if not event.faults:
            return
        self.sheets += 1
        now = {name: _numbers(item, self.nozzles[name]) for name, item in event.faults.items()}
        last = {name: seen[-1] for name, seen in self.history.items()}
        tried = [s for s in self.since_sheet if s.step in CHANGES_FAULTS]
        if tried and last:
            self._outcome(tried, last, now)
        for name, faults in now.items():
            self.history.setdefault(name, []).append(faults)
            self.tries.setdefault(name, []).append(self.done)
        self.unsure |= {name: len(item.unsure) for name, item in event.faults.items()}
        severities = (severity_of(len(v), self.nozzles[n]) for n, v in now.items())
        self.worst_ever = max(self.worst_ever, *severities, key=SEVERITIES.index)
        self.flush_rounds += bool(self.pages)
        self.since_sheet = []
        self.pages = {}

    def _outcome(self, tried: list[StepEvent], last: dict[str, frozenset[int]], now: dict[str, frozenset[int]]) -> None:
        self.unchanged = unchanged(last, now)
        both = last.keys() & now.keys()
        before, after = (sum(len(seen[n]) for n in both) for seen in (last, now))
        self.helped = after < before and after <= FEWER_SHARE * before
        if not self.helped:
            self.vain[tried[-1].step] = self.vain.get(tried[-1].step, 0) + 1
        rested = any(s.step == "rest" for s in tried)
        self.idle_rests = (self.idle_rests + rested) if self.unchanged else 0
        for name in both:
            same = bool(now[name]) and unchanged({name: last[name]}, {name: now[name]})
            if same and tried[-1].step in CLEANS:
                self.blocked.add(name)
            elif not same:
                self.blocked.discard(name)


def size_up(case: Case, table: StepTable, rest_hours: float | None = None) -> Situation:
    """The situation of a case at its `now`. `rest_hours` is how long a rest takes on the ladder followed."""
    walk = _Walk({c.name: c.nozzles for c in case.printer.channels})
    hours = table["rest"].wait_hours if rest_hours is None else rest_hours
    for event in case.events:
        if isinstance(event, StepEvent):
            walk.step(event)
        elif isinstance(event, SheetEvent):
            walk.sheet(event)
    waits = [(s, _until(s, table, hours)) for s in walk.since_sheet if s.step in WAITS]
    running = next((s for s, until in waits if until > case.now), None)
    over = waits[-1][0] if waits and running is None and walk.since_sheet[-1] is waits[-1][0] else None
    faulty = {name: seen[-1] for name, seen in walk.history.items()}
    size = walk.nozzles
    return Situation(
        case=case, faulty=faulty, unsure=sum(walk.unsure.values()), severity={n: severity_of(len(v), size[n]) for n, v in faulty.items()},
        worst_ever=walk.worst_ever, movement={n: follow(seen, size[n], walk.tries[n]) for n, seen in walk.history.items()},
        unchanged=walk.unchanged, helped=walk.helped, blocked=frozenset(walk.blocked), vain=walk.vain, waiting=running, waited=over,
        stale=any(s.step not in LEAVES_SHEET for s in walk.since_sheet) or walk.sheets == 0, steps=tuple(walk.steps),
        cleans_since_rest=_cleans_since_rest(case, table, hours), rests_without_change=walk.idle_rests, sheets=walk.sheets,
        lines=walk.lines, pages=walk.pages, flush_rounds=walk.flush_rounds, covered=walk.covered, told=_told(case), levels=levels_now(case, table), pad_ml=pad_used(case, table), rest_hours=hours,
    )  # fmt: skip


def wait_over(step: StepEvent, table: StepTable, rest_hours: float | None = None) -> datetime:
    """When a rest or soak is over."""
    return _until(step, table, table["rest"].wait_hours if rest_hours is None else rest_hours)


def _until(step: StepEvent, table: StepTable, rest_hours: float) -> datetime:
    return step.until or step.at + timedelta(hours=rest_hours if step.step == "rest" else table[step.step].wait_hours)


def _numbers(item: ChannelFaults, nozzles: int) -> frozenset[int]:
    if item.all_missing:
        return frozenset(range(1, nozzles + 1))
    return frozenset((*item.missing, *item.deflected, *item.weak))


def severity_of(faults: int, nozzles: int) -> Severity:
    """How bad a channel is, case contract."""
    if faults == 0:
        return "clear"
    if faults >= nozzles:
        return "all"
    share = faults / nozzles
    return "few" if share <= FEW_SHARE else "some" if share <= SOME_SHARE else "most"


def _cleans_since_rest(case: Case, table: StepTable, rest_hours: float) -> dict[str, int]:
    """Cleans that touched each channel since the last rest or soak that was not cut short."""
    since: dict[str, int] = {}
    over: datetime | None = None
    for event in [*case.events, None]:
        now = event.at if event is not None else case.now
        if over is not None and now >= over:
            since, over = {}, None
        if not isinstance(event, StepEvent):
            continue
        if event.step in WAITS:
            over = _until(event, table, rest_hours)
        elif event.step in CLEANS:
            over = None  # a rest cut short by a clean was none
            for channel in channels_touched(case.printer, event.step, event.channels, table):
                since[channel.name] = since.get(channel.name, 0) + 1
    return since


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
