"""What hands do at the page: photographs made, photographs handed in."""

from functools import cache
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect
from tests.conftest import small_scene

from dusky_sieve import files
from dusky_sieve.core.layout import Backing
from dusky_sieve.core.simulate import BlockTruth, Truth, render


def photo(
    folder: Path, name: str, faults: dict[str, BlockTruth], seed: int, layout: str = "four-staircases", backing: Backing = "light", **scene: float
) -> Path:  # fmt: skip
    path = folder / name
    path.write_bytes(_taken(tuple(faults.items()), seed, layout, backing, tuple(scene.items())))
    return path


@cache
def _taken(
    faults: tuple[tuple[str, BlockTruth], ...], seed: int, layout: str, backing: Backing, scene: tuple[tuple[str, float], ...]
) -> bytes:  # fmt: skip
    truth = Truth(blocks=dict(faults), scene=small_scene(**dict(scene)))
    return files.encode_jpeg(render(files.shipped_layout(layout), truth, backing, np.random.default_rng(seed)), 90)


def hand_in(page: Page, path: Path) -> None:
    page.get_by_label("Choose the photo").set_input_files(path)
    expect(page.get_by_alt_text("The photo that will be read")).to_be_visible()
    page.get_by_role("button", name="Read this photo").click()


def listens(page: Page) -> None:
    """The light table has come, and hears keys: its own script uncovers this button."""
    expect(page.get_by_role("button", name="Larger")).to_be_visible()


def press(page: Page, key: str) -> None:
    """One key on the light table, however late its script comes."""
    listens(page)
    page.keyboard.press(key)
