"""Simulated printer and camera. A stranger to `reading`: they share the layout and nothing else."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.simulate.camera import photograph, place_on_photo, px_per_mm, sheet_to_photo
from dusky_sieve.core.simulate.printer import print_sheet
from dusky_sieve.core.simulate.truth import (
    BlockTruth,
    DeflectedMark,
    LightLine,
    Scene,
    Truth,
    WeakMark,
    parse_truth,
    random_faults,
)

__all__ = ["BlockTruth", "DeflectedMark", "LightLine", "Scene", "Truth", "WeakMark", "parse_truth", "place_on_photo", "px_per_mm", "random_faults", "render", "sheet_to_photo"]  # fmt: skip

OVERSAMPLING = 1.5  # sheet raster over photo scale: enough that the warp loses nothing before the lens blurs
MAX_RASTER = 60e6  # pixels of the sheet's raster; beyond it the raster is made coarser


def render(layout: Layout, truth: Truth, backing: Backing, rng: np.random.Generator) -> NDArray[np.uint8]:
    """A photo (rows, columns, 3) sRGB of the sheet with its true faults over one backing, before compression."""
    scene = truth.scene
    scale = px_per_mm(sheet_to_photo(layout, scene), layout) * OVERSAMPLING
    area = (layout.size[0] + 2 * scene.margin_mm) * (layout.size[1] + 2 * scene.margin_mm)
    scale = min(scale, float(np.sqrt(MAX_RASTER / area)))
    sheet = print_sheet(layout, truth.blocks, backing=backing, px_per_mm=scale, scene=scene, rng=rng)
    return photograph(sheet, scale, layout, scene, backing, rng)
