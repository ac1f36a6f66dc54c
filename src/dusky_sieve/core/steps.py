"""The steps people do, and the table of what each takes, needs and warns of."""

from typing import Literal

from pydantic import Field

from dusky_sieve.core.layout import Frozen

StepName = Literal[
    "check", "clean", "group_clean", "channel_clean", "deep_clean", "line_flush", "paper_flush", "rest", "seal_clean",
    "cap_soak", "head_soak", "syringe_flush", "air_assist", "refill", "prepare", "settings_check", "remap", "align",
    "sensor_clean", "replace_head", "hand_over", "carry_on",
]  # fmt: skip
CLEANS: tuple[StepName, ...] = ("clean", "group_clean", "channel_clean")
WAITS: tuple[StepName, ...] = ("rest", "cap_soak")
DRAWS_INK: tuple[StepName, ...] = (*CLEANS, "deep_clean", "line_flush", "paper_flush", "align")


class Range(Frozen):
    """An estimate with its range."""

    low: float = Field(ge=0)
    typical: float = Field(ge=0)
    high: float = Field(ge=0)


class StepFacts(Frozen):
    """What one kind of step is, before this printer's own record is known.

    ink_ml : per channel touched, by level 1 to 4 where the step has strengths (one entry where it has none)
    waste_share : of that ink that ends in the pad
    reach : which channels it draws ink from
    wait_hours : how long the printer is left alone, where it is
    """

    title: str
    button: str
    ink_ml: tuple[Range, ...] = ()
    waste_share: float = Field(default=1.0, ge=0, le=1)
    reach: Literal["all", "group", "channels", "none"] = "none"
    minutes: float = Field(ge=0)
    attended_minutes: float = Field(ge=0)
    wait_hours: float = 0.0
    sheets: int = 0
    then: StepName | None = "check"
    needs: tuple[str, ...] = ()
    do: tuple[str, ...] = ()
    cautions: tuple[str, ...] = ()
    origin: str

    def ink(self, level: int | None) -> Range:
        """Ink per channel touched, ml; nothing where the step takes none."""
        if not self.ink_ml:
            return Range(low=0, typical=0, high=0)
        return self.ink_ml[min(max((level or 1) - 1, 0), len(self.ink_ml) - 1)]


StepTable = dict[StepName, StepFacts]
