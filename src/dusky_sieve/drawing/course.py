"""A case's course: faults on every sheet against time, and below it the ink that went meanwhile."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from html import escape
from itertools import pairwise

WIDE, LEFT, RIGHT = 900, 44, 24
TOP, FAULTS, GAP, INK = 38, 120, 52, 62
SHORTENED = 0.35  # power of minutes by which stretches of time are drawn
ROOM_FOR_TIME = 90


@dataclass(frozen=True)
class Spent:
    """A step that took ink, or waited."""

    at: datetime
    title: str
    ink_ml: float


def course(sheets: list[tuple[datetime, int]], steps: list[Spent], label: str, said: Callable[[datetime], str]) -> str:
    """SVG of faults per sheet over time, steps between them, ink added up below; nothing where there is no sheet.

    Long waits are drawn shorter than they were, or a night would leave no room for the minutes about a clean; `said`
    puts the time beside each sheet.
    """
    if not sheets:
        return ""
    moments = sorted({at for at, _ in sheets} | {s.at for s in steps})
    places, far = {moments[0]: 0.0}, 0.0
    for before, at in pairwise(moments):
        far += max((at - before).total_seconds() / 60, 1.0) ** SHORTENED
        places[at] = far
    most = max(max(count for _, count in sheets), 1)
    total = max(sum(s.ink_ml for s in steps), 0.001)

    def x(at: datetime) -> float:
        return round(LEFT + (WIDE - LEFT - RIGHT) * places[at] / max(far, 1e-9), 1)

    def y(count: int) -> float:
        return round(TOP + FAULTS * (1 - count / most), 1)

    base, floor = TOP + FAULTS, TOP + FAULTS + GAP + INK
    parts = [f'<path d="M{LEFT} {TOP}V{base}H{WIDE - RIGHT}M{LEFT} {base + GAP}V{floor}H{WIDE - RIGHT}" class="net"/>']
    parts.append(
        f'<text x="{LEFT - 8}" y="{TOP + 5}" text-anchor="end" class="no">{most}</text><text x="{LEFT - 8}" y="{base + 4}" text-anchor="end" class="no">0</text>'
    )
    parts.append(
        f'<text x="{LEFT}" y="12" class="no">faults on each sheet</text><text x="{LEFT}" y="{base + GAP - 8}" class="no">ink taken so far, ml</text>'
    )
    parts.append(
        f'<text x="{LEFT - 8}" y="{base + GAP + 6}" text-anchor="end" class="no">{total:.0f}</text>'
        if total >= 1
        else ""
    )
    for step in steps:
        parts.append(f'<path d="M{x(step.at)} {base}v-5" class="wire"><title>{escape(step.title)}</title></path>')
    ink, path = 0.0, f"M{LEFT} {floor}"
    for step in steps:
        path += f"H{x(step.at)}"
        ink += step.ink_ml
        path += f"V{round(floor - INK * ink / total, 1)}"
    parts.append(f'<path d="{path}H{WIDE - RIGHT}V{floor}H{LEFT}" class="course-ink"/>')
    line = " ".join(f"{'M' if k == 0 else 'L'}{x(at)} {y(count)}" for k, (at, count) in enumerate(sheets))
    parts.append(f'<path d="{line}" class="course-line"/>')
    shown = -99.0
    told = -99.0
    for at, count in sheets:
        parts.append(
            f'<circle cx="{x(at)}" cy="{y(count)}" r="4" class="{"ring" if count else "plug"}"><title>{count} faults</title></circle>'
        )
        if x(at) - shown > 24:
            parts.append(f'<text x="{x(at) + 6}" y="{y(count) - 6}" class="no">{count}</text>')
            shown = x(at)
        if x(at) - told > ROOM_FOR_TIME:
            end = x(at) > WIDE - ROOM_FOR_TIME
            parts.append(
                f'<text x="{x(at)}" y="{base + 15}" text-anchor="{"end" if end else "start"}" class="no">{escape(said(at))}</text>'
            )
            told = x(at)
    return f'<svg class="sieve course" viewBox="0 0 {WIDE} {floor + 6}" width="{WIDE}" role="img" aria-label="{escape(label)}">{"".join(parts)}</svg>'
