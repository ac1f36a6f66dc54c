"""Shared truths: rendered sheets with known faults, and a printer to follow ladders with."""

from collections.abc import Callable
from datetime import UTC, datetime
from functools import cache
from typing import Any

import cv2
import numpy as np
import pytest
from numpy.typing import NDArray

from dusky_sieve import files
from dusky_sieve.core.layout import Layout
from dusky_sieve.core.simulate import BlockTruth, DeflectedMark, Scene, Truth, WeakMark, render

cv2.setNumThreads(1)  # tests run side by side: threads of one would only wait for another's
NOON = datetime(2031, 3, 2, 12, 0, tzinfo=UTC)

# Faults that every kind of sheet in these tests carries, by block of the staircase layout.
FAULTS = {
    "black": BlockTruth(missing=(1, 12, 13, 180), deflected=(DeflectedMark(nozzle=90, offset_um=(0, 110.0)),)),
    "cyan": BlockTruth(weak=(WeakMark(nozzle=77, ink=0.38), WeakMark(nozzle=140, ink=0.4, broken=True))),
    "yellow": BlockTruth(missing=(71,), deflected=(DeflectedMark(nozzle=119, offset_um=(0, -120.0)),)),
}
TRUE_STATES = {
    "black": {1: "missing", 12: "missing", 13: "missing", 180: "missing", 90: "deflected"},
    "cyan": {77: "weak", 140: "weak"},
    "magenta": {},
    "yellow": {71: "missing", 119: "deflected"},
}


LARGER = {"width": 2016, "height": 1512}  # for what does not show on a photo of the small scene


def small_scene(**changes: Any) -> Scene:
    """A 2-megapixel photo, which keeps the tests quick."""
    return Scene(width=1712, height=1284, fill=0.85, lens_blur_px=0.6, margin_mm=8).model_copy(update=changes)


@cache
def photo_of(layout_name: str, faults: tuple[tuple[str, BlockTruth], ...], scene: Scene, seed: int = 5) -> bytes:
    """JPEG of a rendered sheet."""
    layout = files.shipped_layout(layout_name)
    pixels = render(layout, Truth(blocks=dict(faults), scene=scene), "light", np.random.default_rng(seed))
    return files.encode_jpeg(pixels, scene.jpeg_quality)


@pytest.fixture(scope="session")
def staircases() -> Layout:
    return files.shipped_layout("four-staircases")


@pytest.fixture(scope="session")
def faulty_photo() -> bytes:
    """The staircase sheet with FAULTS, a little tilted."""
    return photo_of("four-staircases", tuple(FAULTS.items()), small_scene(tilt_deg=6, roll_deg=4))


@pytest.fixture(scope="session")
def desk_photo() -> bytes:
    """A photo with no sheet on it: blotches and streaks."""
    rng = np.random.default_rng(3)
    rough: NDArray[np.float64] = rng.random((40, 60, 3))
    picture = np.kron(rough, np.ones((20, 20, 1))) * 200 + rng.random((800, 1200, 3)) * 50
    return files.encode_jpeg(picture.astype(np.uint8), 90)


@pytest.fixture
def decode() -> Callable[[bytes], NDArray[np.uint8]]:
    return lambda content: files.decode_photo(content, "sheet.jpg")
