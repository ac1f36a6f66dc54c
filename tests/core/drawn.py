"""Sheets of a few blocks put together by hand, their photographs and what is read of them."""

from functools import cache

import numpy as np
from tests.conftest import small_scene

from dusky_sieve.core.layout import Layout
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Truth, render

Step = tuple[float, float]
INKS = ("#1d1c20", "#1c84b8", "#b83a72", "#3a8c4c")
PITCH = 0.127


def block(name: str, at: Step, ink: str, *, nozzles: int, columns: int, step: Step, down: float, mark: Step) -> dict:
    return {
        "id": name, "channel": name, "ink": ink, "backing": "light", "kind": "marks", "origin": at, "nozzles": nozzles, "first_nozzle": 1,
        "nozzle_step": 1, "nozzle_pitch": PITCH, "columns": columns, "column_pitch": step, "row_pitch": (0.0, down), "mark": mark,
    }  # fmt: skip


def sheet(size: Step, *blocks: dict) -> Layout:
    return Layout.model_validate({"format": "dusky-sieve-layout", "version": 1, "name": "Unlike", "size": size, "blocks": blocks})  # fmt: skip


@cache
def photo(layout: Layout, faults: tuple[tuple[str, BlockTruth], ...] = (), **scene) -> np.ndarray:
    shot = small_scene(**({"fill": 0.9, "margin_mm": 10} | scene))
    return render(layout, Truth(blocks=dict(faults), scene=shot), "light", np.random.default_rng(8))


def read(layout: Layout, pixels: np.ndarray) -> Reading:
    return read_sheet(layout, [UprightPhoto(pixels, "light", "p")])


def states(reading: Reading) -> dict[str, dict[int, str]]:
    return {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in reading.blocks}


LIKE = tuple(
    block(name, (1.5, 0.5 + 13.0 * k), INKS[k], nozzles=60, columns=6, step=(5.0, 0.0), down=1.1, mark=(3.8, 0.1))
    for k, name in enumerate("abcd")
)
# Close runs: their gaps hardly show on the map, and a column of the one is no step of the other.
SHORT_AND_LONG = sheet(
    (33.0, 42.0),
    block("short", (0.5, 0.5), INKS[0], nozzles=256, columns=16, step=(0.5834, 0.0847), down=1.3547, mark=(0.49, 0.08)),
    block("long", (0.5, 28.0), INKS[0], nozzles=128, columns=48, step=(0.6594, 0.0847), down=4.3089, mark=(0.62, 0.08)),
)
