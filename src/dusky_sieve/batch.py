"""Many sheets at once, on all cores; one that fails does not stop the rest. For the command line and other programs.

if __name__ == "__main__":  # processes start by importing the script again
    for result in read_many(layout, [SheetPhotos(light=Path("a.jpg")), SheetPhotos(light=Path("b.jpg"))]):
        print(result.name, result.reading or result.error)
"""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from multiprocessing import get_context
from pathlib import Path

import cv2

from dusky_sieve import files
from dusky_sieve.core.errors import DuskySieveError, UnusableInput
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.reading import Corners, Reading, UprightPhoto, read_sheet

SHEETS_A_PROCESS = 4  # a process takes a second to start, most sheets a third of one to read


@dataclass(frozen=True)
class SheetPhotos:
    """One sheet's photos, at most one over each backing; corners as in `UprightPhoto` where a person marked them."""

    light: Path | None = None
    dark: Path | None = None
    corners: Corners | None = None


@dataclass(frozen=True)
class SheetResult:
    """What became of one sheet: its reading, or what was wrong with its files."""

    name: str
    reading: Reading | None
    error: UnusableInput | None = None


def read_many(
    layout: Layout,
    sheets: list[SheetPhotos],
    *,
    jobs: int | None = None,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> Iterator[SheetResult]:
    """Readings in the order of `sheets`, each as soon as it and those before it are done.

    jobs : processes; where left out as many as there are cores, and no more than have four sheets each. `progress` is told
    how many of how many are done.
    """
    worthwhile = min(os.cpu_count() or 1, -(-len(sheets) // SHEETS_A_PROCESS))
    jobs = min(jobs or worthwhile, len(sheets)) or 1
    if jobs == 1:
        for done, photos in enumerate(sheets, 1):
            yield read_one(layout, photos)
            progress(done, len(sheets))
        return
    # Started afresh: a copy of a program whose threads hold a lock at that moment would wait for it for ever.
    with ProcessPoolExecutor(jobs, get_context("spawn"), initializer=cv2.setNumThreads, initargs=(1,)) as pool:
        for done, result in enumerate(pool.map(partial(read_one, layout), sheets), 1):
            yield result
            progress(done, len(sheets))


def read_one(layout: Layout, photos: SheetPhotos) -> SheetResult:
    """One sheet from its files; a file that cannot be used is told, not raised."""
    over: list[tuple[Path, Backing]] = []
    if photos.light is not None:
        over.append((photos.light, "light"))
    if photos.dark is not None:
        over.append((photos.dark, "dark"))
    name = over[0][0].name if over else "no photo"
    try:
        shown = [UprightPhoto(files.decode_photo(files.read_bytes(p), p.name), backing, p.name, photos.corners) for p, backing in over]  # fmt: skip
    except DuskySieveError as error:
        return SheetResult(name, None, UnusableInput(str(error)))
    return SheetResult(name, read_sheet(layout, shown))
