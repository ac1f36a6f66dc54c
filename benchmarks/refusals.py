"""Photographs that must be refused: nothing on them may be read as a sheet, or as more than it is."""

from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import cv2
import numpy as np

from benchmarks.worlds import draw_faults, draw_scene, draw_sheet
from dusky_sieve import files
from dusky_sieve.core.layout import Backing, MarksBlock
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Truth, render

KINDS = (
    "another sheet",
    "nothing printed",
    "no sheet at all",
    "out of focus",
    "far too small",
    "mostly cut off",
    "wrong backing",
)


def one(seed: int) -> tuple[str, str, bool, str]:
    """Kind, the layout's name, whether it was refused, and what was said."""
    cv2.setNumThreads(1)
    kind = KINDS[seed % len(KINDS)]
    rng = np.random.default_rng([seed, 77])
    layout = draw_sheet(rng, str(rng.choice(["staircase", "slanted", "raster", "heads", "banks"]))).layout
    shown, blocks = layout, draw_faults(layout, rng, False)
    scene = draw_scene(layout, rng, False).scene
    changes: dict[str, Any] = {}
    if kind == "another sheet":
        shown = draw_sheet(rng, str(rng.choice(["staircase", "slanted", "raster", "many"]))).layout
        blocks = draw_faults(shown, rng, False)
        changes = {"fill": 0.85}
    elif kind == "nothing printed":
        blocks = {b.id: BlockTruth(all_missing=True) for b in layout.blocks if isinstance(b, MarksBlock)}
    elif kind == "no sheet at all":
        blocks = {b.id: BlockTruth(all_missing=True) for b in layout.blocks if isinstance(b, MarksBlock)}
        changes = {"margin_mm": 0.0, "fill": 0.06, "words": False, "border": False, "grain": 0.2}
    elif kind == "out of focus":
        changes = {"lens_blur_px": 18.0}
    elif kind == "far too small":
        changes = {"fill": 0.07}
    elif kind == "mostly cut off":
        changes = {"shift": (0.75, 0.6), "fill": 0.95}
    backing: Backing = "light"
    if kind == "wrong backing":  # a sheet of colours over white, handed in as white ink over black
        backing = "dark"
        layout = layout.model_copy(update={"blocks": tuple(b.model_copy(update={"backing": "dark", "ink": "#f4f4f0"}) for b in layout.blocks)})  # fmt: skip
    truth = Truth(blocks=blocks, scene=scene.model_copy(update=changes))
    content = files.encode_jpeg(render(shown, truth, "light", rng), scene.jpeg_quality)
    reading = read_sheet(layout, [UprightPhoto(files.decode_photo(content, "photo"), backing, "photo")])
    # A photo is refused where no block is read as sure: marks called unsure claim nothing.
    claims = sum(sum(v for k, v in (b.counts or {}).items() if k != "unsure") for b in reading.blocks if b.read)
    marks = sum(b.nozzles for b in layout.blocks if isinstance(b, MarksBlock))
    return kind, layout.name, claims < 0.02 * marks, reading.photos[0].why or f"{claims} of {marks} marks were read"


def main(seed: int, jobs: int, photos: int) -> None:
    """Prints how many of each kind were refused, and what was said of the others."""
    seen, refused = Counter[str](), Counter[str]()
    with ProcessPoolExecutor(jobs) as pool:
        for kind, name, right, said in pool.map(one, range(seed, seed + photos)):
            seen[kind] += 1
            refused[kind] += right
            if not right:
                print(f"NOT REFUSED ({kind}) {name}: {said}")
    for kind in KINDS:
        if seen[kind]:
            print(f"{kind:18} refused {refused[kind]} of {seen[kind]}")
