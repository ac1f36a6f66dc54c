"""A tank's level as people read it: millilitres, a share, millimetres of its window, or weight."""

import re
from dataclasses import dataclass
from typing import Literal

from dusky_sieve.core.case import Channel
from dusky_sieve.core.errors import UnusableInput

Unit = Literal["ml", "%", "mm", "g"]
UNITS: tuple[Unit, ...] = ("ml", "%", "mm", "g")
INK_G_PER_ML = 1.06  # water-based ink: between 1.03 and 1.10
SIGMA: dict[Unit, float] = {"ml": 0.02, "%": 0.025, "mm": 1.0, "g": 0.5}  # one-sigma: share of the tank; share; mm; g
FINEST_ML = 0.3  # no eye and no scale on a desk does better


@dataclass(frozen=True)
class Reading:
    """A level in ml, its one-sigma in ml, and as it was read."""

    ml: float
    sigma_ml: float
    said: str


def in_ml(channel: Channel, value: float, unit: Unit) -> Reading:
    """A reading in millilitres; UnusableInput where the tank's shape does not allow it.

    mm : height of ink in a window that shows the whole tank, whose walls are taken as upright
    g : weight of tank or cartridge less its weight when empty
    """
    name, full = channel.name, channel.capacity_ml
    if unit == "g":
        if channel.empty_g is None:
            raise UnusableInput(f"{name}: a weight says nothing until its weight when empty is known. Set that for the printer.")  # fmt: skip
        ml, sigma = (value - channel.empty_g) / INK_G_PER_ML, SIGMA["g"] / INK_G_PER_ML
    elif unit == "ml":
        ml, sigma = value, SIGMA["ml"] * (full or 50.0)
    elif full is None:
        raise UnusableInput(f"{name}: “{value:g} {unit}” needs to know what its tank holds. Set that for the printer.")
    elif unit == "%":
        ml, sigma = full * value / 100, SIGMA["%"] * full
    else:
        if not channel.window_mm:
            raise UnusableInput(f"{name}: millimetres need to know how high its window is. Set that for the printer.")
        ml, sigma = full * value / channel.window_mm, SIGMA["mm"] / channel.window_mm * full
    if ml < 0 or (full is not None and ml > full * 1.001):
        most = f"{full:g} ml" if full is not None else "what the tank holds"
        raise UnusableInput(f"{name}: {value:g} {unit} would be {ml:.1f} ml, and a level lies between 0 and {most}. Read it again.")  # fmt: skip
    return Reading(round(ml, 3), round(max(sigma, FINEST_ML), 3), f"{value:g} {unit}")


def measured(text: str) -> tuple[float, Unit]:
    """A figure with its unit, such as `40 %`, `12,5 mm` or `33`; ml where none is said."""
    match = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*(ml|%|mm|g)?\s*", text.lower())
    if match is None:
        raise UnusableInput(f"“{text[:20]}” is no level: expected a figure with ml, %, mm or g, such as 40 %.")
    found = match[2] or "ml"
    return float(match[1].replace(",", ".")), next(u for u in UNITS if u == found)
