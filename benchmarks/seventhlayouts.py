"""Layouts of the seventh world: sheets whose blocks are unlike each other, two lattices or more of any kind side by side.

Printed and photographed as plainly as the sixth world's (sixthworld.py); seeds from 200 on are held out.
"""

from typing import Any

import numpy as np

from benchmarks.fourthlayouts import lattice_of
from benchmarks.thirdlayouts import spread
from benchmarks.worlds import INKS, Sheet, drawn_in_style, layout_of
from dusky_sieve.core.layout import Layout

Rng = np.random.Generator
# How many lattices a sheet has; `banks` has odd and even nozzles apart, each bank in a lattice of its own.
STYLES = {"two": 2, "three": 3, "each": 12, "banks": 2}
KINDS = ("stairs", "stairs", "raster", "raster", "touching", "touching", "dashes", "slanting", "backwards", "combs")


def draw_layout(rng: Rng) -> Sheet:
    """A sheet of one style, of a shape that a 12-megapixel photo can show."""
    return drawn_in_style(rng, tuple(STYLES), _layout, 4.5)


def _layout(style: str, rng: Rng) -> Layout:
    u = rng.uniform
    pitch = float(rng.choice([0.0847, 0.1058, 0.1411, 0.1693, 0.2822]))
    names, count = [str(c) for c in rng.permutation(list(INKS))], int(rng.integers(2, 13))
    step = 2 if style == "banks" else 1
    drawn = []
    for _ in range(min(STYLES[style], count)):
        nozzles = int(rng.integers(20, 240))
        drawn.append((nozzles, lattice_of(str(rng.choice(KINDS)), step * pitch, nozzles, rng)))
    # One lattice is most blocks', as a rule: a photo black, or the inks that came later, differ.
    often = [k if k < len(drawn) else int(rng.integers(len(drawn)) * (rng.random() < 0.4)) for k in range(count)]
    blocks: list[dict[str, Any]] = []
    gap, edge, x, y, high = rng.uniform(1.2, 7, 2), float(u(30, 140)), 0.0, 0.0, 0.0
    for i, k in enumerate(rng.permutation(often)):
        nozzles, lattice = drawn[k]
        left, top, right, bottom = spread(lattice, nozzles)
        if x > 0 and x + right - left > edge:
            x, y, high = 0.0, y + high + float(gap[1]), 0.0
        ink = names[i // step % len(names)]
        blocks.append({
            "id": f"{i}-{ink}", "channel": f"{ink}-{i // step}", "ink": INKS[ink], "backing": "light", "kind": "marks", "origin": [x - left, y - top],
            "nozzles": nozzles, "first_nozzle": 1 + i % step, "nozzle_step": step, "nozzle_pitch": pitch, **lattice,
        })  # fmt: skip
        x, high = x + right - left + float(gap[0]), max(high, bottom - top)
    ends = [np.add(b["origin"], spread(b, b["nozzles"])[2:]) for b in blocks]
    return layout_of(f"seventh {style}", np.max(ends, axis=0), blocks)
