"""Layouts of the third world (thirdworld.py): blocks unlike each other, mirrored, thick or short marks, single columns, rows close by."""

from typing import Any

import numpy as np

from benchmarks.worlds import INKS, Sheet, drawn_in_style, layout_of
from dusky_sieve.core.layout import Layout

Rng = np.random.Generator
STYLES = ("mixed", "mirror", "thick", "short", "stairs", "touching", "list", "bars", "banks", "heads", "film", "fills", "big", "tiny", "many")  # fmt: skip
CHANNELS = {"tiny": (1, 4), "many": (10, 25), "big": (1, 6), "film": (2, 6)}  # how many, from and below
NOZZLES = {"tiny": (20, 50), "many": (24, 90), "big": (600, 2500)}


def _lattice(kind: str, pitch: float, nozzles: int, rng: Rng) -> dict[str, Any]:
    """Columns, steps and mark of one block."""
    u = rng.uniform
    thick = float(np.clip(u(0.6, 0.95) * pitch, 0.05, 0.15))
    columns, dx, share, down = int(rng.integers(5, 21)), u(1.2, 3.5), u(0.6, 0.9), pitch
    if kind == "thick":
        thick = u(0.16, 0.3)
    elif kind == "short":
        dx, share = u(0.6, 1.1), u(0.5, 0.7)
    elif kind == "touching":
        columns, dx, share = int(rng.integers(12, 64)), u(0.6, 1.6), u(0.9, 0.99)
    elif kind == "list":
        columns, dx, share = 1, u(2, 10), 0.9
    elif kind == "bars":
        columns, dx, share, down = int(rng.integers(2, 7)), u(4, 9), u(0.7, 0.93), float(rng.choice([0, 1])) * pitch
    elif kind == "raster":
        down = 0.0
    columns = min(columns, nozzles)
    row = max(columns * down * float(rng.choice([1.0, 1.0, 1.2])), u(0.6, 1.8), 4 * thick)
    return {"columns": columns, "column_pitch": [-dx if kind == "mirror" else dx, down], "row_pitch": [0.0, row], "mark": [dx * share, thick]}  # fmt: skip


def spread(lattice: dict[str, Any], nozzles: int) -> tuple[float, float, float, float]:
    """Box of a block's marks about its first mark, mm."""
    c, r = np.arange(nozzles) % lattice["columns"], np.arange(nozzles) // lattice["columns"]
    at = c[:, None] * np.array(lattice["column_pitch"]) + r[:, None] * np.array(lattice["row_pitch"])
    half = np.array(lattice["mark"]) / 2
    low, high = at.min(axis=0) - half, at.max(axis=0) + half
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def draw_layout(rng: Rng) -> Sheet:
    """A sheet of one style, of a shape that a 12-megapixel photo can show."""
    return drawn_in_style(rng, STYLES, _layout, 4.2)


def _layout(style: str, rng: Rng) -> Layout:
    pitch = float(rng.choice([0.0706, 0.0847, 0.0941, 0.1058, 0.127, 0.1411, 0.1693]))
    names = [str(c) for c in rng.permutation(list(INKS))]
    chosen = [names[i % len(names)] for i in range(int(rng.integers(*CHANNELS.get(style, (2, 9)))))]
    nozzles = int(rng.integers(*NOZZLES.get(style, (48, 320))))
    own = style in ("mirror", "thick", "short", "touching", "list", "bars")
    kind = style if own else str(rng.choice(["stairs", "raster", "touching", "bars"]))
    shared = _lattice(kind, pitch, nozzles, rng)
    plan = [(ink, 1, nozzles, 1, 1, "light") for ink in chosen]
    if style == "banks":
        plan = [(ink, 1, nozzles // 2, first, 2, "light") for ink in chosen[:5] for first in (1, 2)]
    elif style == "heads":
        plan = [(ink, head, nozzles, 1, 1, "light") for head in (1, 2) for ink in chosen[:5]]
    elif style == "film":
        plan.append(("white", 1, nozzles, 1, 1, "dark"))
    blocks: list[dict[str, Any]] = []
    x = y = tallest = right = 0.0
    limit = float(rng.uniform(45, 170))
    for i, (ink, head, count, first, step, backing) in enumerate(plan):
        lattice, own_pitch = shared, pitch
        if style == "mixed":
            own_pitch = pitch * float(rng.choice([1, 1, 2]))
            lattice = _lattice(str(rng.choice(["stairs", "raster", "touching"])), own_pitch, count, rng)
        box = spread(lattice, count)
        if x > 0 and x + box[2] - box[0] > limit:
            x, y, tallest = 0.0, y + tallest + float(rng.uniform(1.5, 6)), 0.0
        channel = ink if step == 2 or style == "heads" else f"{ink}-{i}"
        blocks.append({
            "id": f"{i}-{ink}", "channel": channel, "head": head, "ink": INKS.get(ink, "#f2f2ee"), "kind": "marks", "backing": backing,
            "origin": [x - box[0], y - box[1]], "nozzles": count, "first_nozzle": first, "nozzle_step": step, "nozzle_pitch": own_pitch, **lattice,
        })  # fmt: skip
        right, tallest = max(right, x + box[2] - box[0]), max(tallest, box[3] - box[1])
        x += box[2] - box[0] + float(rng.uniform(1.5, 8))
    bottom = y + tallest
    if style == "fills":
        high, wide = nozzles * pitch if nozzles * pitch < 26 else 20.0, right / len(chosen)
        for i, ink in enumerate(chosen):
            blocks.append({"id": f"{i}-fill", "channel": f"{ink}-{i}", "ink": INKS[ink], "backing": "light", "kind": "solid", "origin": [i * wide, bottom + 3], "size": [wide - 1, high], "nozzle_pitch": pitch})  # fmt: skip
        bottom += 3 + high
    return layout_of(f"third {style} {kind}", (right, bottom), blocks)
