"""Tanks and pad drawn to scale, and the use of ink by month and purpose."""

from dataclasses import dataclass
from html import escape

from dusky_sieve.drawing.sieve import shade

TANK_W, GAP, TALLEST, FOOT = 62, 22, 190, 62
PAD_H = 26
BAR, BAR_GAP, CHART_H = 62, 26, 200


@dataclass(frozen=True)
class Tank:
    """One tank: name, what it holds, what is in it with its range (ml), a word under it, the ink's colour."""

    name: str
    capacity: float
    level: float | None
    low: float | None
    high: float | None
    word: str
    ink: str


def tanks(row: list[Tank]) -> str:
    """Tanks side by side, as high as they hold much; a third and a tenth are ticked."""
    most = max((t.capacity for t in row), default=1.0)
    width = len(row) * (TANK_W + GAP) + GAP
    height = TALLEST + FOOT
    parts = []
    for k, tank in enumerate(row):
        x, full = GAP + k * (TANK_W + GAP), max(24.0, TALLEST * tank.capacity / most)
        top = TALLEST - full + 6
        base = TALLEST + 6
        parts.append(f'<rect x="{x}" y="{top:.1f}" width="{TANK_W}" height="{full:.1f}" class="tank-wall"/>')
        if tank.level is not None:
            deep = full * min(1.0, tank.level / tank.capacity)
            parts.append(f'<rect x="{x}" y="{base - deep:.1f}" width="{TANK_W}" height="{deep:.1f}" fill="{escape(tank.ink)}" class="tank-ink {shade(tank.ink)}"/>')  # fmt: skip
            if tank.low is not None and tank.high is not None:
                a, b = (base - full * min(1.0, v / tank.capacity) for v in (tank.high, tank.low))
                if b - a > 2:
                    parts.append(f'<path d="M{x + TANK_W / 2} {a:.1f}V{b:.1f}M{x + TANK_W / 2 - 7} {a:.1f}h14M{x + TANK_W / 2 - 7} {b:.1f}h14" class="tank-range"/>')  # fmt: skip
        for share in (1 / 3, 0.1):
            y = base - full * share
            parts.append(f'<path d="M{x} {y:.1f}h9" class="tank-tick"/>')
        amount = "not read" if tank.level is None else f"{tank.level:.0f} ml"
        middle = x + TANK_W / 2
        parts.append(
            f'<text x="{middle}" y="{base + 17}" text-anchor="middle" class="tank-name">{escape(tank.name)}</text>'
            f'<text x="{middle}" y="{base + 33}" text-anchor="middle" class="tank-ml">{amount}</text>'
            f'<text x="{middle}" y="{base + 48}" text-anchor="middle" class="no">{escape(tank.word)}</text>'
        )
    said = "; ".join(
        f"{t.name} {'not read' if t.level is None else f'{t.level:.0f} of {t.capacity:.0f} ml'}, {t.word}" for t in row
    )
    return f'<svg class="tanks" viewBox="0 0 {width} {height + 6}" width="{width}" height="{height + 6}" role="img" aria-label="{escape(said)}">{"".join(parts)}</svg>'


def pad(used: float, capacity: float, said: str, width: int = 520) -> str:
    """The pad as a bed that fills from the left, ticked where its filling is said."""
    share = min(1.0, used / capacity)
    ticks = "".join(f'<path d="M{width * s:.1f} {PAD_H}v6" class="tank-tick"/><text x="{width * s:.1f}" y="{PAD_H + 18}" text-anchor="middle" class="no">{s:.0%}</text>' for s in (0.8, 0.95))  # fmt: skip
    return (
        f'<svg class="pad-bed" viewBox="-2 0 {width + 24} {PAD_H + 22}" width="{width + 24}" height="{PAD_H + 22}" role="img" aria-label="{escape(said)}">'
        f'<rect y="1" width="{width * share:.1f}" height="{PAD_H - 2}" class="pad-soaked"/><rect y="1" width="{width}" height="{PAD_H - 2}" class="tank-wall"/>{ticks}</svg>'
    )


@dataclass(frozen=True)
class Bar:
    """One month: its name, and ml by purpose from the foot up."""

    name: str
    parts: tuple[tuple[str, float], ...]


def use(bars: list[Bar], words: dict[str, str]) -> str:
    """Months side by side, purposes on top of each other, told apart by pattern."""
    most = max((sum(v for _, v in b.parts) for b in bars), default=1.0) or 1.0
    step = _round_step(most)
    top = step * -(-most // step)
    width = 54 + len(bars) * (BAR + BAR_GAP)
    parts = []
    for k in range(int(top / step) + 1):
        y = CHART_H - CHART_H * k * step / top + 8
        parts.append(f'<path d="M44 {y:.1f}H{width}" class="use-line"/><text x="38" y="{y + 4:.1f}" text-anchor="end" class="no">{k * step:g}</text>')  # fmt: skip
    for k, bar in enumerate(bars):
        x, y = 54 + k * (BAR + BAR_GAP), float(CHART_H + 8)
        for name, ml in bar.parts:
            h = CHART_H * ml / top
            y -= h
            if h > 0:
                parts.append(f'<rect x="{x}" y="{y:.1f}" width="{BAR}" height="{h:.1f}" class="use-{name}"><title>{escape(f"{bar.name}, {words[name]}: {ml:.1f} ml")}</title></rect>')  # fmt: skip
        parts.append(f'<text x="{x + BAR / 2}" y="{CHART_H + 24}" text-anchor="middle" class="no">{escape(bar.name)}</text>')  # fmt: skip
    return (
        f'<svg class="use" viewBox="0 0 {width} {CHART_H + 32}" width="{width}" height="{CHART_H + 32}" role="img" aria-label="Ink by month and purpose; the table below has the figures">'
        f"{DEFS}{''.join(parts)}</svg>"
    )


DEFS = '<defs><pattern id="use-dots" width="5" height="5" patternUnits="userSpaceOnUse"><circle cx="2" cy="2" r="1.1" class="plug"/></pattern><pattern id="use-lines" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="1.6" height="5" class="plug"/></pattern></defs>'


def _round_step(most: float) -> float:
    for step in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000):
        if most / step <= 5:
            return float(step)
    return 10_000.0
