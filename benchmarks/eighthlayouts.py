"""Layouts of the eighth world: blocks anywhere on the sheet, rows and columns between each other's, tall lists, chevrons, one or two rows alone.

Printed and photographed as eighthworld.py says; seeds from 200 on are held out.
"""

from typing import Any

import numpy as np

from benchmarks.thirdlayouts import spread
from benchmarks.worlds import INKS, Sheet, drawn_in_style, layout_of
from dusky_sieve.core.layout import Layout

Rng = np.random.Generator
STYLES = ("rowbanks", "colbanks", "tall", "bars", "onerow", "few", "chevron", "scattered", "uneven", "steep", "lines", "ladder")  # fmt: skip
CHANNELS = {"few": (1, 3), "rowbanks": (1, 6), "colbanks": (1, 6), "lines": (1, 4), "onerow": (3, 14)}
NOZZLES = {"few": (20, 44), "onerow": (20, 64), "tall": (20, 64), "bars": (24, 100), "lines": (40, 160)}


def _lattice(style: str, pitch: float, nozzles: int, rng: Rng) -> dict[str, Any]:
    """Columns, steps and mark of one block."""
    u = rng.uniform
    thick = float(np.clip(u(0.6, 0.95) * pitch, 0.05, 0.16))
    columns, dx, share, down = (
        int(rng.integers(4, 16)),
        u(1.2, 3.6),
        u(0.62, 0.95),
        pitch * float(rng.choice([0, 1, 1])),
    )
    if style == "tall":
        columns, dx, down = int(rng.integers(1, 4)), u(3, 14), 0.0
    elif style == "bars":
        columns, dx, share = int(rng.integers(2, 6)), u(3.5, 9), u(0.75, 0.95)
    elif style == "onerow":
        columns, dx = nozzles // int(rng.integers(1, 3)), u(0.9, 2.6)
    elif style == "steep":  # a column starts several nozzles lower than the one before
        down = pitch * int(rng.integers(2, 4))
    elif style == "lines":
        columns, dx, share, down = 1, u(12, 40), 1.0, 0.0
    elif style == "colbanks":
        share = min(share, 0.42)
    columns = min(columns, nozzles)
    row = max(columns * down * float(rng.choice([1.0, 1.0, 1.25])), u(0.55, 1.9), 4 * thick)
    if style == "rowbanks":
        row = max(row, 8 * thick)
    return {"columns": columns, "column_pitch": [dx, down], "row_pitch": [0.0, row], "mark": [dx * share, thick]}


def draw_layout(rng: Rng) -> Sheet:
    """A sheet of one style, of a shape that a 12-megapixel photo can show."""
    return drawn_in_style(rng, STYLES, _layout, 4.0)


def _layout(style: str, rng: Rng) -> Layout:
    u = rng.uniform
    pitch = float(rng.choice([0.0847, 0.1058, 0.127, 0.1411, 0.1693, 0.2117]))
    names = [str(c) for c in rng.permutation(list(INKS))]
    inks = [names[i % len(names)] for i in range(int(rng.integers(*CHANNELS.get(style, (2, 11)))))]
    nozzles = int(rng.integers(*NOZZLES.get(style, (36, 260))))
    banks = 2 if style in ("rowbanks", "colbanks") else 1
    shared = _lattice(style, banks * pitch, nozzles, rng)
    # The second bank of nozzles stands between the first one's rows or columns.
    between = np.zeros(2)
    if style == "rowbanks":
        between[1] = shared["row_pitch"][1] / 2
    elif style == "colbanks":
        between[0] = shared["column_pitch"][0] / 2
    blocks: list[dict[str, Any]] = []
    x, y, deep, edge, gap = 0.0, 0.0, 0.0, float(u(35, 160)), rng.uniform(1.3, 6, 2)
    for i, ink in enumerate(inks):
        count, lattice = nozzles, dict(shared)
        if style == "uneven":
            count = max(20, int(nozzles * u(0.3, 1)))
            lattice["columns"] = min(lattice["columns"], count)
        if style == "chevron" and i % 2:
            lattice["column_pitch"] = [lattice["column_pitch"][0], -lattice["column_pitch"][1]]
        if style == "ladder" and i % 2:
            lattice["row_pitch"] = [0.0, 1.5 * lattice["row_pitch"][1]]
        left, top, right, bottom = spread(lattice, count)
        if x > 0 and x + right - left > edge:
            x, y, deep = 0.0, y + deep + float(gap[1]), 0.0
        jump = rng.uniform(0, 5, 2) if style == "scattered" else np.zeros(2)
        origin = np.array([x - left, y - top]) + jump
        for bank in range(banks):
            blocks.append({
                "id": f"{ink}-{i}-{bank}", "channel": f"{ink}-{i}", "ink": INKS[ink], "backing": "light", "kind": "marks", "origin": [float(v) for v in origin + bank * between],
                "nozzles": count, "first_nozzle": 1 + bank, "nozzle_step": banks, "nozzle_pitch": pitch, **lattice,
            })  # fmt: skip
        room = np.array([right - left, bottom - top]) + jump + between
        x, deep = x + float(room[0] + gap[0]), max(deep, float(room[1]))
    ends = [np.add(b["origin"], spread(b, b["nozzles"])[2:]) for b in blocks]
    return layout_of(f"eighth {style}", np.max(ends, axis=0), blocks)
