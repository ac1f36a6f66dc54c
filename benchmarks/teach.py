"""Teaching: the layout from one photo of a good sheet, then the next sheet read with it and with the hand-written one.

    python -m benchmarks.teach --sheets 30 --seed 0 --jobs 2
    python -m benchmarks.teach --sheets 30 --world third       # sheets and photographs of thirdworld.py; --world fourth: its photographs of other layouts

Says per layout family how many were taught, how far steps are off, and how both layouts read the next sheet.
"""

import argparse
import os
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from time import perf_counter

import cv2
import numpy as np

from benchmarks import fourthlayouts, thirdlayouts, thirdworld
from benchmarks.worlds import Sheet, draw_sheet, draw_truth
from dusky_sieve import files
from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Backing, Layout, MarksBlock
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Truth, random_faults, render
from dusky_sieve.core.teaching import KnownBlock, Spec, teach

TOLD = {"id", "channel", "head", "ink", "backing", "kind", "nozzles", "first_nozzle", "nozzle_step", "nozzle_pitch"}


@dataclass(frozen=True)
class Score:
    """Missing marks named rightly, passed over and named wrongly; blocks not read."""

    right: int = 0
    missed: int = 0
    wrong: int = 0
    unread: int = 0

    def __add__(self, other: "Score") -> "Score":
        return Score(*(a + b for a, b in zip(vars(self).values(), vars(other).values(), strict=True)))


@dataclass(frozen=True)
class Outcome:
    """What came of one sheet."""

    seed: int
    family: str
    why: str | None
    seconds: float
    step_off: float = 0.0
    own: Score = Score()
    taught: Score = Score()


@dataclass(frozen=True)
class Lesson:
    """A sheet, photos of a good print of it held upright as a careful person would, and the next print and its photos."""

    sheet: Sheet
    good: list[UprightPhoto]
    after: dict[str, BlockTruth]
    following: list[UprightPhoto]


def _lesson(seed: int, world: str) -> Lesson:
    if world != "own":
        drawn = {"third": thirdlayouts.draw_layout, "fourth": fourthlayouts.draw_layout}[world]
        sheet, good, after, following = thirdworld.lesson(seed, drawn)
        return Lesson(sheet, _decoded(good), after, _decoded(following))
    rng = np.random.default_rng([seed, 77])
    sheet = draw_sheet(rng)
    layout = sheet.layout
    later, shot = draw_truth(layout, rng, False)
    marks = {
        b.id: random_faults(b, rng, rate=float(rng.choice([0, 0.01, 0.03])))
        if isinstance(b, MarksBlock)
        else BlockTruth()
        for b in layout.blocks
    }
    long, short = max(shot.scene.width, shot.scene.height), min(shot.scene.width, shot.scene.height)
    wide, high = (short, long) if layout.size[0] < layout.size[1] else (long, short)
    change = {"roll_deg": float(rng.uniform(-20, 20)), "thumb": False, "pen": 0, "width": wide, "height": high}
    truth = Truth(blocks=marks, scene=shot.scene.model_copy(update=change))
    return Lesson(sheet, _photos(layout, truth, [seed, 1]), later.blocks, _photos(layout, later, [seed, 2]))


def _photos(layout: Layout, truth: Truth, seed: list[int]) -> list[UprightPhoto]:
    shown: list[tuple[Backing, bytes]] = []
    for backing in sorted({b.backing for b in layout.blocks}, reverse=True):
        pixels = render(layout, truth, backing, np.random.default_rng([*seed, backing == "dark"]))
        shown.append((backing, files.encode_jpeg(pixels, truth.scene.jpeg_quality)))
    return _decoded(shown)


def _decoded(shown: list[tuple[Backing, bytes]]) -> list[UprightPhoto]:
    return [UprightPhoto(files.decode_photo(content, f"{b}.jpg"), b, f"{b}.jpg") for b, content in shown]


def _scored(reading: Reading, truth: dict[str, BlockTruth], layout: Layout) -> Score:
    total = Score()
    for block in layout.blocks:
        if not isinstance(block, MarksBlock):
            continue
        read = next(b for b in reading.blocks if b.id == block.id)
        told = truth[block.id]
        want = set(block.numbers) if told.all_missing else set(told.missing)
        if not read.read:
            total += Score(unread=1)
            continue
        got = {f.nozzle for f in read.faults if f.state == "missing"}
        total += Score(len(got & want), len(want - got), len(got - want))
    return total


def measure(seed: int, world: str) -> Outcome:
    """One sheet taught and the next one read."""
    cv2.setNumThreads(1)
    lesson = _lesson(seed, world)
    sheet, layout = lesson.sheet, lesson.sheet.layout
    spec = Spec(name=layout.name, blocks=tuple(KnownBlock.model_validate({k: v for k, v in b.model_dump().items() if k in TOLD}) for b in layout.blocks))  # fmt: skip
    began = perf_counter()
    try:
        found = teach(spec, lesson.good).layout
    except SheetNotFound as reason:
        return Outcome(seed, sheet.family, str(reason), perf_counter() - began)
    seconds = perf_counter() - began
    pairs = [(a, b) for a, b in zip(layout.blocks, found.blocks, strict=True) if isinstance(a, MarksBlock) and isinstance(b, MarksBlock)]  # fmt: skip
    # Ratio of column step to row step: free of the scale, which a raster's photo does not tell.
    off = [abs((b.column_pitch[0] / b.row_pitch[1]) / (a.column_pitch[0] / a.row_pitch[1]) - 1) for a, b in pairs if a.nozzles > a.columns and a.row_pitch[1] and b.row_pitch[1]]  # fmt: skip
    own, taught = (_scored(read_sheet(plan, lesson.following), lesson.after, layout) for plan in (layout, found))
    return Outcome(seed, sheet.family, None, seconds, float(np.median(off)) if off else 0.0, own, taught)


def main() -> None:
    """Measures and prints."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sheets", type=int, default=30)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--world", choices=("own", "third", "fourth"), default="own")
    args = parser.parse_args()
    with ProcessPoolExecutor(args.jobs) as pool:
        outcomes = list(pool.map(partial(measure, world=args.world), range(args.seed, args.seed + args.sheets)))
    families: dict[str, list[Outcome]] = defaultdict(list)
    for o in outcomes:
        families[o.family].append(o)
        families["all"].append(o)
        if o.why:
            print(f"not taught: seed {o.seed}, {o.family}: {o.why}")
    print("family      taught  steps off   seconds   next sheet: right/missed/wrong/unread, own | taught")
    for name, some in families.items():
        done = [o for o in some if o.why is None]
        own, taught = sum((o.own for o in done), Score()), sum((o.taught for o in done), Score())
        shown = ["/".join(str(v) for v in vars(s).values()) for s in (own, taught)]
        off = np.median([o.step_off for o in done]) * 100 if done else 0
        print(
            f"{name:11s} {len(done):3d}/{len(some):<3d} {off:8.2f} % {np.median([o.seconds for o in some]):8.1f}   {shown[0]} | {shown[1]}"
        )


if __name__ == "__main__":
    main()
