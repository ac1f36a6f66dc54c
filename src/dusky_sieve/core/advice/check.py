"""Whether a ladder can be climbed: every rung can be reached, and following it always comes to an end."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

from dusky_sieve.core.advice.choose import advise
from dusky_sieve.core.advice.ladder import Ladder
from dusky_sieve.core.advice.leastcost import CureTable
from dusky_sieve.core.case import Case, Channel, ChannelFaults, Event, Printer, SheetEvent, StepEvent
from dusky_sieve.core.diagnosis import CauseTable
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.steps import StepTable

MOST_STEPS = 60  # by which every school has come to its end on a printer that nothing mends
START = datetime(2031, 1, 1, 8, 0, tzinfo=UTC)
ABLE = ("clean", "group_clean", "channel_clean", "deep_clean", "line_flush", "remap", "head_soak", "removable_head", "replace_head", "replaceable_head")  # fmt: skip
# Sheets of a printer that nothing mends: gaps that stand, that wander, many, nothing at all, fewer and back again.
STUBBORN: tuple[tuple[range, ...], ...] = (
    (range(40, 43),), (range(7, 160, 50), range(20, 170, 55), range(3, 140, 47)), (range(1, 130),), (range(1, 181),),
    (range(10, 90, 9), range(10, 60, 9), range(50, 52)),
)  # fmt: skip


def check_ladder(ladder: Ladder, table: StepTable, causes: CauseTable, cures: CureTable) -> None:
    """UnusableInput where a rung stands in the shadow of one above it, or where following the ladder never ends."""
    for index, rung in enumerate(ladder.rungs):
        for above in ladder.rungs[:index]:
            if above.step == rung.step and above.when.items() <= rung.when.items():
                raise UnusableInput(
                    f"rungs[{index}] ({rung.id}): can never be reached, for {above.id} above it asks for less and takes the same step."
                )
    for sheets in STUBBORN:
        _climb(ladder, sheets, table, causes, cures)


def _climb(
    ladder: Ladder, sheets: tuple[Iterable[int], ...], table: StepTable, causes: CauseTable, cures: CureTable
) -> None:
    channels = tuple(Channel(name=n, nozzles=180, group=n, capacity_ml=10_000, level_ml=10_000) for n in ("a", "b"))
    printer = Printer(name="test", channels=channels, abilities=ABLE, user_level="technician", ladder=ladder.id)
    at, turn, steps = START, 0, list[str]()
    events: list[Event] = [_sheet(at, sheets[0])]
    while len(steps) < MOST_STEPS:
        at += timedelta(hours=13)
        step = advise(Case(printer=printer, events=tuple(events), now=at), ladder, table, causes, cures).next
        if step.step in ("hand_over", "carry_on", "align"):
            return
        if step.step == "check":
            turn += 1
            events.append(_sheet(at, sheets[turn % len(sheets)]))
            continue
        steps.append(step.rung or step.step)
        events.append(
            StepEvent(
                kind="step", at=at, step=step.step, channels=step.channels, level=step.level, sheets=step.sheets or None
            )
        )
    raise UnusableInput(
        f"rungs: following this ladder never ends; it goes round {', '.join(dict.fromkeys(steps[-6:]))}. Give one of them a limit."
    )


def _sheet(at: datetime, faults: Iterable[int]) -> SheetEvent:
    return SheetEvent(kind="sheet", at=at, faults={"a": ChannelFaults(missing=tuple(faults)), "b": ChannelFaults()})
