"""A printer's trouble as a document: what it can do, what was seen, what was done, when."""

from collections.abc import Mapping
from datetime import datetime
from typing import Annotated, Any, Literal, Self

from pydantic import AwareDatetime, Field, model_validator

from dusky_sieve.core.errors import parsed
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.steps import StepName

Ability = Literal["clean", "group_clean", "channel_clean", "deep_clean", "line_flush", "remap", "head_soak", "removable_head", "replace_head", "replaceable_head"]  # fmt: skip
UserLevel = Literal["member", "owner", "technician"]
LadderId = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,59}$")]
Millilitres = Annotated[float, Field(ge=0, le=1_000_000, allow_inf_nan=False)]


class Channel(Frozen):
    """One ink on one head.

    window_mm : height of the tank's window from empty to full; empty_g : weight of the empty tank or cartridge
    """

    name: str = Field(min_length=1, max_length=80)
    nozzles: int = Field(ge=1, le=100_000)
    group: str | None = None
    capacity_ml: Millilitres | None = None
    level_ml: Millilitres | None = None
    price_per_ml: float = Field(default=0.0, ge=0, le=1000, allow_inf_nan=False)
    role: Literal["white", "light"] | None = None
    window_mm: Annotated[float, Field(gt=0, le=2000)] | None = None
    empty_g: Annotated[float, Field(ge=0, le=100_000)] | None = None


class Waste(Frozen):
    """The pad where cleaning ink goes."""

    capacity_ml: Millilitres
    used_ml: Millilitres = 0.0
    replaceable: bool = True


class Outcomes(Frozen):
    """How often a step was done on this printer in earlier cases, and how often the next sheet was clear."""

    done: int = Field(ge=0, le=1_000_000)
    cleared: int = Field(ge=0, le=1_000_000)


class Printer(Frozen):
    """What a printer is and can do, as of the case's first event."""

    name: str = Field(min_length=1, max_length=80)
    channels: tuple[Channel, ...] = Field(min_length=1, max_length=64)
    waste: Waste | None = None
    abilities: tuple[Ability, ...] = ("clean",)
    user_level: UserLevel = "owner"
    ladder: LadderId = "watch-the-gaps"
    first_fill: bool = False
    record: dict[StepName, Outcomes] = {}


class ChannelFaults(Frozen):
    """Faulty nozzle numbers of one channel; empty lists mean that it is clear."""

    missing: tuple[int, ...] = ()
    deflected: tuple[int, ...] = ()
    weak: tuple[int, ...] = ()
    unsure: tuple[int, ...] = ()
    all_missing: bool = False


class SheetEvent(Frozen):
    """A sheet that was read. A channel left out was not printed or not read, which is not the same as clear."""

    kind: Literal["sheet"]
    at: AwareDatetime
    faults: dict[str, ChannelFaults] = {}
    lines: dict[str, int] = {}


class StepEvent(Frozen):
    """A step that was done. `channels` left out means all; `until` is when a wait is over."""

    kind: Literal["step"]
    at: AwareDatetime
    step: StepName
    channels: tuple[str, ...] | None = None
    level: int | None = Field(default=None, ge=1, le=4)
    ink_ml: dict[str, Millilitres] | None = None
    waste_ml: Millilitres | None = None
    sheets: int | None = Field(default=None, ge=0, le=10_000)
    until: AwareDatetime | None = None


class LevelEvent(Frozen):
    """A tank's level read off."""

    kind: Literal["level"]
    at: AwareDatetime
    channel: str
    level_ml: Millilitres


class NoteEvent(Frozen):
    """Something told: known facts by name, anything else kept as it is."""

    kind: Literal["note"]
    at: AwareDatetime
    facts: dict[str, Any] = {}


Event = Annotated[SheetEvent | StepEvent | LevelEvent | NoteEvent, Field(discriminator="kind")]


class Case(Frozen):
    """Everything known about one printer's trouble up to `now`."""

    format: Literal["dusky-sieve-case"] = "dusky-sieve-case"
    version: Literal[1] = 1
    printer: Printer
    events: tuple[Event, ...] = Field(default=(), max_length=20_000)
    now: AwareDatetime

    @model_validator(mode="after")
    def _events_fit_the_printer(self) -> Self:
        channels = {c.name: c for c in self.printer.channels}
        if len(channels) != len(self.printer.channels):
            raise ValueError("printer.channels: expected a name of its own for each channel, found one twice")
        before: datetime | None = None
        for index, event in enumerate(self.events):
            if before is not None and event.at < before:
                raise ValueError(
                    f"events[{index}].at: expected events in order of time, found {event.at.isoformat()} after {before.isoformat()}"
                )
            before = event.at
            for name in _names(event):
                if name not in channels:
                    raise ValueError(f"events[{index}]: expected a channel of {self.printer.name}, found {name!r}")
            if isinstance(event, SheetEvent):
                _check_numbers(index, event.faults, channels)
        if before is not None and before > self.now:
            raise ValueError(
                f"now: expected a time not before the last event, found {self.now.isoformat()} before {before.isoformat()}"
            )
        return self


def _names(event: SheetEvent | StepEvent | LevelEvent | NoteEvent) -> list[str]:
    if isinstance(event, SheetEvent):
        return [*event.faults, *event.lines]
    if isinstance(event, StepEvent):
        return [*(event.channels or ()), *(event.ink_ml or {})]
    if isinstance(event, LevelEvent):
        return [event.channel]
    air = event.facts.get("air_in_line")
    return [str(name) for name in air] if isinstance(air, list) else []


def _check_numbers(index: int, faults: Mapping[str, ChannelFaults], channels: Mapping[str, Channel]) -> None:
    for name, item in faults.items():
        for number in (*item.missing, *item.deflected, *item.weak, *item.unsure):
            if not 1 <= number <= channels[name].nozzles:
                raise ValueError(
                    f"events[{index}].faults.{name}: expected nozzle numbers from 1 to {channels[name].nozzles}, found {number}"
                )


def parse_case(text: str | bytes, name: str = "case") -> Case:
    """A case from its JSON text; UnusableInput names the field at fault and what was expected there."""
    return parsed(Case, text, name)
