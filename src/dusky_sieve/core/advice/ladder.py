"""A ladder as a document: the order of steps a school of practice follows, as data."""

from collections.abc import Mapping
from typing import Literal, Self

from pydantic import Field, model_validator

from dusky_sieve.core.errors import parsed
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.steps import StepName

Fact = Literal[
    "worst", "worst_ever", "faults", "faulty_channels", "spread", "unchanged", "helped", "movement", "last_step", "cleans", "cleans_since_rest",
    "cleans_since_seal", "cleans_since_soak", "cleans_since_air", "rounds", "rests", "rests_without_change", "deep_cleans", "line_flushes",
    "cap_soaks", "seal_cleans", "air_assists", "head_soaks", "paper_flushes", "settings_checks", "prepares", "refills", "remaps", "aligns",
    "sensor_cleans", "heads_replaced", "checks", "checks_since_step", "first_fill", "levels_known", "lines_known", "lines_and_gaps", "flush_rounds", "covered",
    "flushing", "white",
]  # fmt: skip
Aim = Literal["bad", "worst", "rated", "both", "one-or-all", "all"]
FactValue = int | float | bool | str
SEVERITIES = ("clear", "few", "some", "most", "all")


class Test(Frozen):
    """What one fact must be. Severities compare in their order: clear, few, some, most, all."""

    is_: FactValue | None = Field(default=None, alias="is")
    in_: tuple[str, ...] | None = Field(default=None, alias="in")
    at_least: float | str | None = None
    at_most: float | str | None = None

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.is_ is None and self.in_ is None and self.at_least is None and self.at_most is None:
            raise ValueError("expected one of is, in, at_least, at_most")
        for bound in (self.at_least, self.at_most):
            if isinstance(bound, str) and bound not in SEVERITIES:
                raise ValueError(f"expected a number or one of {', '.join(SEVERITIES)}, found {bound!r}")
        return self

    def holds(self, value: FactValue) -> bool:
        """Whether a fact's value passes."""
        if self.is_ is not None and value != self.is_:
            return False
        if self.in_ is not None and value not in self.in_:
            return False
        rank = _rank(value)
        if self.at_least is not None and not rank >= _rank(self.at_least):
            return False
        return self.at_most is None or rank <= _rank(self.at_most)


class Rung(Frozen):
    """One place on a ladder: taken when all its tests hold and no rule above the ladders refuses its step."""

    id: str = Field(pattern=r"^[a-z0-9-]{1,40}$")
    step: StepName
    short: str = Field(max_length=24)
    place: int = Field(default=0, ge=0, le=40, description="height at which it is drawn; rungs of one place are one")
    when: dict[Fact, Test] = {}
    narrow: bool = Field(
        default=False, description="clean only the cap group or channel at fault, where the printer can"
    )
    aim: Aim = Field(
        default="bad",
        description="channels: all at fault, the worst, those of the highest rate, those with gaps and light lines, the one at fault or all where several are, all",
    )
    level: int | Literal["rate"] | None = Field(
        default=None, description="strength: a number from 1 to 4, or by how bad the channel is"
    )
    pages: tuple[int, ...] = Field(default=(), description="batches of full pages, the last one again and again")
    short_of_ink: Literal["refill", "pass"] = Field(
        default="refill", description="what to do where a tank is too low for this rung: refill first, or pass it over"
    )
    why: str = Field(max_length=400)


class Limits(Frozen):
    """What a school allows; the rules above every ladder hold besides."""

    cleans_without_rest: int = Field(default=3, ge=1, le=6)
    cleans_in_all: int | None = Field(default=None, ge=0, le=50, description="cleans in a whole case")
    clean_after_no_change: Literal["refuse", "caution"] = "refuse"
    deep_clean_tank_share: float = Field(default=1 / 3, ge=1 / 3, le=1)
    rest_hours: float = Field(default=12, gt=0, le=168, description="how long a rest is")
    between_cleans_minutes: float = Field(default=0, ge=0, le=1440, description="wait from one clean to the next")
    never: dict[StepName, str] = Field(default={}, description="steps this school refuses, each with its reason")


class Ladder(Frozen):
    """A school's ladder. The first rung whose tests hold is the next step; the last one always holds."""

    format: Literal["dusky-sieve-ladder"]
    version: Literal[1]
    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,59}$")
    name: str = Field(max_length=80)
    about: str = Field(max_length=800)
    limits: Limits = Limits()
    chooses: Literal["first-open-rung", "least-cost"] = "first-open-rung"
    origin: str = Field(default="", max_length=400)
    rungs: tuple[Rung, ...] = Field(min_length=1, max_length=40)

    @model_validator(mode="after")
    def _can_be_climbed(self) -> Self:
        ids = [rung.id for rung in self.rungs]
        if len(set(ids)) != len(ids):
            raise ValueError("rungs: expected an id of its own for each rung, found one twice")
        if self.rungs[-1].when or self.rungs[-1].step not in ("hand_over", "carry_on"):
            raise ValueError("rungs: expected a last rung without conditions that hands over or carries on")
        for index, rung in enumerate(self.rungs[:-1]):
            if not rung.when:
                raise ValueError(f"rungs[{index}].when: expected a condition, or no later rung can be reached")
        return self


def parse_ladder(text: str | bytes, name: str = "ladder") -> Ladder:
    """A ladder from its JSON text; UnusableInput names the field at fault and what was expected there."""
    return parsed(Ladder, text, name)


def rungs_in_order(ladder: Ladder, facts: Mapping[str, FactValue]) -> list[Rung]:
    """Rungs whose tests hold on these facts, in the ladder's order."""
    return [rung for rung in ladder.rungs if all(test.holds(facts[name]) for name, test in rung.when.items())]


def _rank(value: FactValue) -> float:
    if isinstance(value, str):
        return SEVERITIES.index(value) if value in SEVERITIES else -1
    return float(value)
