"""The advice as a document: what it means, what next, what it costs, and what not to do."""

from datetime import datetime
from typing import Literal

from dusky_sieve.core.comparison import Movement
from dusky_sieve.core.diagnosis import Cause
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.steps import StepName


class Proposal(Frozen):
    """A step with what it takes. `channels` left out means all; amounts are estimates with their range.

    clears, expected_total : chance that the next sheet is clear, and money until it is, where they were worked out
    """

    step: StepName
    level: int | None = None
    channels: tuple[str, ...] | None = None
    not_before: datetime | None = None
    until: datetime | None = None
    then: StepName | None = None
    ink_ml: dict[str, float] = {}
    ink_low_ml: float = 0.0
    ink_high_ml: float = 0.0
    waste_ml: float = 0.0
    sheets: int = 0
    minutes: float = 0.0
    attended_minutes: float = 0.0
    cost: float = 0.0
    clears: float | None = None
    expected_total: float | None = None
    rung: str | None = None
    why: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    do: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()


class Refusal(Frozen):
    """A step that should not be done now, why, and from when it may be where there is such a time.

    remedy : the step that would allow it; channels : those that stand against it
    """

    step: StepName
    why: str
    until: datetime | None = None
    remedy: StepName | None = None
    channels: tuple[str, ...] = ()


class School(Frozen):
    """What another ladder would do now."""

    ladder: str
    name: str
    step: StepName
    channels: tuple[str, ...] | None = None
    why: str
    agrees: bool


class Advice(Frozen):
    """What a case means and what to do next."""

    format: Literal["dusky-sieve-advice"] = "dusky-sieve-advice"
    version: Literal[1] = 1
    ladder: str
    severity: dict[str, Literal["clear", "few", "some", "most", "all"]]
    movement: dict[str, Movement]
    causes: tuple[Cause, ...]
    next: Proposal
    alternatives: tuple[Proposal, ...]
    refused: tuple[Refusal, ...]
    schools: tuple[School, ...] = ()
