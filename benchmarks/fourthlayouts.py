"""Layouts of the fourth world: lattices written down another way, coarse heads, one long flight of steps, blocks without a gap between them.

Photographed as the third world's are (thirdworld.py); seeds from 200 on are held out.
"""

from typing import Any

import numpy as np

from benchmarks.thirdlayouts import spread
from benchmarks.worlds import INKS, Sheet, drawn_in_style, layout_of
from dusky_sieve.core.layout import Layout

Rng = np.random.Generator
STYLES = (
    "coarse", "transposed", "diagonal", "abutting", "woven", "rows", "combs", "wide", "tiny", "slanting", "backwards", "thirds",
    "rods", "dashes", "clear", "plain",
)  # fmt: skip
CHANNELS = {"rows": (4, 12), "combs": (12, 65), "diagonal": (1, 5), "clear": (2, 5), "wide": (4, 12)}  # from and below
NOZZLES = {
    "rows": (20, 64),
    "combs": (20, 48),
    "tiny": (20, 60),
    "diagonal": (40, 200),
    "rods": (20, 70),
    "wide": (64, 600),
}


def lattice_of(kind: str, pitch: float, nozzles: int, rng: Rng) -> dict[str, Any]:
    """Columns, steps and mark of one block."""
    u = rng.uniform
    thick = float(np.clip(u(0.6, 1.0) * pitch, 0.05, 0.14))
    columns, dx, share, down, lean = int(rng.integers(5, 18)), u(1.4, 3.4), u(0.6, 0.92), pitch, 0.0
    if kind == "raster":
        columns, down = int(rng.integers(6, 30)), 0.0
    elif kind == "touching":
        columns, dx, share = int(rng.integers(14, 50)), u(0.7, 1.5), u(0.9, 0.98)
    elif kind == "diagonal":
        columns, dx, share = nozzles, u(0.6, 2.5), u(0.7, 0.98)
    elif kind == "rows":
        columns, dx, down = nozzles, u(1.0, 4.0), 0.0
    elif kind == "combs":
        columns, dx = int(rng.integers(1, 4)), u(1.5, 5)
    elif kind == "rods":
        columns, dx, share = int(rng.integers(1, 3)), u(8, 22), 0.92
    elif kind == "dashes":
        dx, share = u(0.5, 0.9), u(0.5, 0.75)
    elif kind == "slanting":
        lean = u(-0.5, 0.5) * dx
    elif kind == "backwards":
        dx, down = -dx, -pitch
    columns = min(columns, nozzles)
    row = max(columns * abs(down) * float(rng.choice([1.0, 1.0, 1.3])), u(0.5, 1.8), 4 * thick)
    step, next_row = [dx, down], [lean, row]
    if kind == "transposed":  # nozzles follow each other down the sheet, then the next column a little lower
        columns = -(-nozzles // columns)
        step, next_row = [0.0, max(u(0.6, 2.0), 4 * thick)], [dx, float(rng.choice([0.0, 1.0])) * pitch]
    return {"columns": columns, "column_pitch": step, "row_pitch": next_row, "mark": [abs(dx) * share, thick]}


def draw_layout(rng: Rng) -> Sheet:
    """A sheet of one style, of a shape that a 12-megapixel photo can show."""
    return drawn_in_style(rng, STYLES, _layout, 4.5)


def _layout(style: str, rng: Rng) -> Layout:
    u = rng.uniform
    pitch = float(rng.choice([0.0635, 0.0847, 0.1058, 0.1411, 0.1693]))
    if style in ("coarse", "wide"):
        pitch = float(u(0.18, 0.36))
    elif style == "tiny":
        pitch = float(u(0.03, 0.08))
    names = [str(c) for c in rng.permutation(list(INKS))]
    chosen = [names[i % len(names)] for i in range(int(rng.integers(*CHANNELS.get(style, (2, 9)))))]
    nozzles = int(rng.integers(*NOZZLES.get(style, (48, 320))))
    own = style in ("transposed", "diagonal", "rows", "combs", "slanting", "backwards", "rods", "dashes")
    kind = style if own else str(rng.choice(["stairs", "stairs", "raster", "touching"]))
    plan = [(ink, nozzles, 1, 1, "light") for ink in chosen]
    if style == "thirds":
        plan = [(ink, nozzles // 3, first, 3, "light") for ink in chosen[:4] for first in (1, 2, 3)]
    elif style == "clear":
        plan += [(white, nozzles, 1, 1, "dark") for white in ("white", "varnish", "pearl")[: int(rng.integers(1, 4))]]
    lattice = lattice_of(kind, pitch * plan[0][3], plan[0][1], rng)
    if style == "tiny":
        shorter = float(u(0.3, 0.6))
        lattice["column_pitch"][0] *= shorter
        lattice["mark"][0] *= shorter
    box = spread(lattice, plan[0][1])
    wide, high, dx = box[2] - box[0], box[3] - box[1], abs(lattice["column_pitch"][0]) or abs(lattice["row_pitch"][0])
    gap_x, gap_y = float(u(1.2, 8)), float(u(1.2, 6))
    if style == "abutting":  # one block's columns and rows go on in the next one's
        gap_x, gap_y = dx - lattice["mark"][0], lattice["row_pitch"][1] - lattice["mark"][1]
    elif style == "woven":  # rows of one channel half-way between another's
        gap_x = float(u(1.2, 6))
    across = int(np.clip(round(np.sqrt(len(plan) * high / wide * float(u(0.5, 2.5)))), 1, len(plan)))
    blocks: list[dict[str, Any]] = []
    for i, (ink, count, first, step, backing) in enumerate(plan):
        k = i // 2 if style == "woven" else i
        x, y = (k % across) * (wide + gap_x) - box[0], (k // across) * (high + gap_y) - box[1]
        if style == "woven" and i % 2:
            y += lattice["row_pitch"][1] / 2
        blocks.append({
            "id": f"{i}-{ink}", "channel": ink if step > 1 else f"{ink}-{i}", "ink": INKS.get(ink, "#f2f2ee"), "kind": "marks", "backing": backing,
            "origin": [x, y], "nozzles": count, "first_nozzle": first, "nozzle_step": step, "nozzle_pitch": pitch, **lattice,
        })  # fmt: skip
    ends = np.array([(b["origin"][0] + box[2], b["origin"][1] + box[3]) for b in blocks]).max(axis=0)
    return layout_of(f"fourth {style} {kind}", ends, blocks)
