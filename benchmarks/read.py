"""Accuracy, doubt and speed of reading over sheets and photographs drawn at random (see worlds.py).

    .venv/bin/python -m benchmarks.read                      # 150 typical and 150 bad photographs, two processes
    .venv/bin/python -m benchmarks.read --grade bad --photos 40 --wrong
    .venv/bin/python -m benchmarks.read --perfect            # sheets without a fault: false alarms
    .venv/bin/python -m benchmarks.read --refuse             # photographs that must be refused
    .venv/bin/python -m benchmarks.read --world other        # of a second world of sheets and photographs (otherworld.py)
    .venv/bin/python -m benchmarks.read --world third        # and of a third (thirdworld.py)
    .venv/bin/python -m benchmarks.read --world fourth       # its photographs of other layouts again (fourthlayouts.py)
    .venv/bin/python -m benchmarks.read --world fifth        # all worlds' layouts on pages with other prints, in ink that goes through (fifthworld.py)
    .venv/bin/python -m benchmarks.read --world sixth        # all worlds' layouts, printed and photographed as plainly as can be (sixthworld.py)
    .venv/bin/python -m benchmarks.read --world seventh      # sheets whose blocks are unlike each other, as plainly (seventhlayouts.py)
    .venv/bin/python -m benchmarks.read --world eighth       # blocks anywhere, rows and columns between each other's, drawn straight into the frame (eighthworld.py)
    .venv/bin/python -m benchmarks.read --furnished [KIND]   # with frames, words, rules, scales round the pattern, or on ruled paper (furniture.py)
    .venv/bin/python -m benchmarks.read --printed [KIND]     # printed as other printers would (printing.py)
    .venv/bin/python -m benchmarks.read --after [KIND]       # photographs as other cameras and apps would leave them (afterwards.py)
    .venv/bin/python -m benchmarks.read --keep /tmp/photos   # rendered photographs are kept there and used again

Recall leaves marks out that were called unsure; their share stands beside it. The yardstick is a reader that is
told the true geometry and measures each mark by simple means (yardstick.py). Seeds from 5000 on are held out of tuning.
"""

import argparse
import itertools
import resource
import statistics
import time
from collections import Counter, defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from benchmarks import (
    afterwards,
    eighthlayouts,
    eighthworld,
    fifthworld,
    fourthlayouts,
    otherworld,
    printing,
    refusals,
    seventhlayouts,
    sixthworld,
    thirdworld,
    yardstick,
)
from benchmarks.furniture import ANY, KINDS, PAPERS, Place, furnish
from benchmarks.ties import lies_on_itself
from benchmarks.worlds import Sheet, photograph
from dusky_sieve import files
from dusky_sieve.core.layout import Layout, MarksBlock
from dusky_sieve.core.reading import Corners, Reading, UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Scene
from dusky_sieve.core.simulate.camera import place_on_photo

FOURTH = partial(thirdworld.photograph, draw=fourthlayouts.draw_layout, world="fourth")
FIFTH = partial(thirdworld.photograph, draw=fifthworld.draw_sheet, world="fifth", shot=fifthworld.shot)
SIXTH = partial(thirdworld.photograph, draw=fifthworld.draw_sheet, world="sixth", shot=sixthworld.shot)
SEVENTH = partial(thirdworld.photograph, draw=seventhlayouts.draw_layout, world="seventh", shot=sixthworld.shot)
EIGHTH = partial(thirdworld.photograph, draw=eighthlayouts.draw_layout, world="eighth", shot=eighthworld.shot)
WORLDS = {
    "other": otherworld.photograph, "third": thirdworld.photograph, "fourth": FOURTH, "fifth": FIFTH, "sixth": SIXTH, "seventh": SEVENTH, "eighth": EIGHTH,
}  # fmt: skip
STATES = ("missing", "deflected", "weak")
HELD_OUT = 5000
# Bare paper round a pattern that furniture may stand on: of this world's scenes but for their very edge, of the others' what is sure.
EDGE_MM, MOST_ROOM_MM, LEAST_ROOM_MM = 0.4, 14.0, 4.0
HAND_MISSES = 0.003  # of the photo's width: one-sigma of a corner set by hand under the glass


def truth_states(faults: BlockTruth, block: MarksBlock) -> dict[int, str]:
    """Nozzle to true state, faults only."""
    if faults.all_missing:
        return dict.fromkeys(block.numbers, "missing")
    states = dict.fromkeys(faults.missing, "missing") | {w.nozzle: "weak" for w in faults.weak}
    return states | {d.nozzle: "deflected" for d in faults.deflected}


def score(
    sheet: Sheet, truth: dict[str, BlockTruth], reading: Reading
) -> tuple[Counter[str], list[str], list[tuple[float, bool]], list[float]]:
    """Counts, what was wrong, (confidence, right) of every named fault, and offset errors in um."""
    counts: Counter[str] = Counter()
    wrong: list[str] = []
    sure: list[tuple[float, bool]] = []
    errors: list[float] = []
    by_id = {b.id: b for b in sheet.layout.blocks}
    for read in reading.blocks:
        block = by_id[read.id]
        if not isinstance(block, MarksBlock):
            _score_fill(truth.get(read.id, BlockTruth()), read, counts, wrong)
            continue
        faults = truth.get(block.id, BlockTruth())
        true = truth_states(faults, block)
        got = {f.nozzle: f for f in read.faults}
        counts["marks"] += block.nozzles
        counts["unread"] += 0 if read.read else block.nozzles
        if not read.read:
            continue
        thrown = {d.nozzle: d.offset_um for d in faults.deflected}
        for nozzle in true.keys() | got.keys():
            t, g = true.get(nozzle, "firing"), str(got[nozzle].state) if nozzle in got else "firing"
            counts["unsure"] += g == "unsure"
            for state in STATES:
                counts[f"{state} true"] += t == state and g != "unsure"
                counts[f"{state} said"] += g == state
                counts[f"{state} right"] += g == t == state
            if g in STATES:
                sure.append((float(got[nozzle].confidence or 0), g == t))
            if g == t == "deflected" and got[nozzle].offset_um is not None:
                errors.append(float(np.subtract(got[nozzle].offset_um, thrown[nozzle])[1]))
            if t != g and g != "unsure":
                wrong.append(f"{read.id} {nozzle}: {t} read as {g}")
    return counts, wrong, sure, errors


def _score_fill(faults: BlockTruth, read: Any, counts: Counter[str], wrong: list[str]) -> None:
    counts["fills"] += 1
    counts["fills unread"] += not read.read
    left = [line.y_mm for line in faults.lines]
    for line in read.lines or ():
        near = [y for y in left if abs(y - line.y_mm) < 0.15]
        counts["lines said"] += 1
        if near:
            left.remove(near[0])
            counts["lines right"] += 1
        else:
            wrong.append(f"{read.id}: a line at {line.y_mm} that is not there")
    counts["lines true"] += len(faults.lines)
    wrong += [f"{read.id}: the line at {y} was not seen" for y in left]


def one(seed: int, grade: str, perfect: bool, keep: Path | None, measure_yardstick: bool, world: str, furnished: str | None = None, after: str | None = None, printed: str | None = None) -> dict[str, Any]:  # fmt: skip
    """Renders, decodes, reads and scores one sheet."""
    cv2.setNumThreads(1)
    scene: Scene | None = None
    place: Place
    if world != "own":
        sheet, truth, conditions, shown, place = WORLDS[world](seed, grade, perfect, keep)
    else:
        sheet, drawn, conditions, shown = photograph(seed, grade, perfect, keep, printed)
        truth, scene = drawn.blocks, drawn.scene
        place = partial(place_on_photo, layout=sheet.layout, scene=scene)
    started = time.perf_counter()
    photos = [UprightPhoto(files.decode_photo(content, "photo"), backing, "photo") for backing, content in shown]
    decoded = time.perf_counter() - started
    if furnished:
        room = min(scene.margin_mm - EDGE_MM, MOST_ROOM_MM) if scene else LEAST_ROOM_MM
        photos, kinds = _furnished(sheet.layout, photos, place, room, np.random.default_rng([seed, 909]), furnished)
        conditions = (*conditions, *kinds)
    if after:
        seen = [afterwards.changed(p.pixels, after, seed) for p in photos]
        photos = [replace(p, pixels=pixels) for p, (pixels, _) in zip(photos, seen, strict=True)]
        conditions = (*conditions, seen[0][1])
    begun = time.perf_counter()
    reading = read_sheet(sheet.layout, photos)
    done = time.perf_counter()
    counts, wrong, sure, errors = score(sheet, truth, reading)
    hand = None
    if not all(p.found for p in reading.photos):  # as at the table: a person marks the corners where it was not found
        rng = np.random.default_rng([seed, 77])
        marked = [replace(p, corners=by_hand(sheet.layout, place, p, rng)) for p in photos]
        hand = read_sheet(sheet.layout, marked)
    ties = [
        lies_on_itself(sheet.layout, p.backing, truth) for p in reading.photos if p.why and "two ways round" in p.why
    ]
    simple = yardstick.read(sheet.layout, scene, photos) if measure_yardstick and scene else None
    return {
        "seed": seed, "family": sheet.family, "name": sheet.layout.name, "conditions": conditions, "found": [p.found for p in reading.photos],
        "why": [p.why for p in reading.photos if not p.found] + [f"{b.id}: {b.why}" for b in reading.blocks if not b.read], "counts": counts, "wrong": wrong, "sure": sure, "errors": errors, "decode": decoded,
        "read": done - begun, "marks": counts["marks"], "peak": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
        "hand": (all(p.found for p in hand.photos), *score(sheet, truth, hand)[:2]) if hand else None,
        "ties": ties, "yardstick": score(sheet, truth, simple)[0] if simple else Counter(),
    }  # fmt: skip


def _furnished(layout: Layout, photos: list[UprightPhoto], place: Place, room: float, rng: np.random.Generator, only: str) -> tuple[list[UprightPhoto], tuple[str, ...]]:  # fmt: skip
    """The photos with furniture round their patterns, and which kinds of it."""
    drawn = [furnish(layout, p.pixels, p.backing, place, room, rng, only) for p in photos]
    kinds = {kind for _, kinds in drawn for kind in kinds}
    return [replace(p, pixels=pixels) for p, (pixels, _) in zip(photos, drawn, strict=True)], tuple(sorted(kinds))


def by_hand(layout: Layout, place: Place, photo: UprightPhoto, rng: np.random.Generator) -> Corners:
    """The pattern's corners as a hand marks them: off by a normal of 0.3 % of the photo's width each way."""
    w, h = layout.size
    exact = place(np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]]))
    missed = exact + rng.normal(0, HAND_MISSES * photo.pixels.shape[1], (4, 2))
    return tuple((float(x), float(y)) for x, y in missed)


def table(title: str, total: Counter[str]) -> str:
    """One line of recall and precision per state."""
    cells = []
    for state in STATES:
        recall = total[f"{state} right"] / max(1, total[f"{state} true"])
        precision = total[f"{state} right"] / max(1, total[f"{state} said"])
        cells.append(f"{state} {recall:7.2%} / {precision:7.2%} ({total[f'{state} true']})")
    unsure = total["unsure"] / max(1, total["marks"])
    return f"{title:22} {'   '.join(cells)}   unsure {unsure:.2%}   not read {total['unread'] / max(1, total['marks']):.2%}"


def calibration(sure: list[tuple[float, bool]]) -> list[str]:
    """The reliability curve and the expected calibration error (Naeini et al. 2015)."""
    edges = (0.5, 0.7, 0.8, 0.9, 0.95, 0.98, 0.99, 0.9985, 1.01)
    lines, error = [], 0.0
    for low, high in itertools.pairwise(edges):
        inside = [(c, r) for c, r in sure if low <= c < high]
        if inside:
            said, right = statistics.mean(c for c, _ in inside), statistics.mean(r for _, r in inside)
            error += abs(said - right) * len(inside) / len(sure)
            lines.append(f"  said {said:.3f}  right {right:.3f}  ({len(inside)})")
    return [*lines, f"  expected calibration error {error:.4f}"]


def report(grade: str, results: list[dict[str, Any]], perfect: bool, show_wrong: bool) -> None:
    """Prints one grade."""
    total: Counter[str] = Counter()
    simple: Counter[str] = Counter()
    parts: defaultdict[str, Counter[str]] = defaultdict(Counter)
    own: defaultdict[str, tuple[list[float], list[tuple[float, bool]]]] = defaultdict(lambda: ([], []))
    for r in results:
        total.update(r["counts"])
        simple.update(r["yardstick"])
        for name in (f"family {r['family']}", *(f"with {c}" for c in r["conditions"])):
            parts[name].update(r["counts"])
            parts[name]["sheets"] += 1
            parts[name]["lost"] += not all(r["found"])
            own[name][0].extend(abs(e) for e in r["errors"])
            own[name][1].extend(r["sure"])
        if r["why"] or (show_wrong and r["wrong"]):
            print(r["seed"], r["name"], r["conditions"], r["why"][:3], len(r["wrong"]), r["wrong"][:6])
    found = sum(all(r["found"]) for r in results)
    print(
        f"== {grade}{' perfect sheets' if perfect else ''}: {len(results)} sheets, found {found} ({found / len(results):.1%})"
    )
    ties = [tie for r in results for tie in r["ties"]]
    if ties:
        print(f"refused for two ways round: {len(ties)}, of which {sum(ties)} do look the same upside down")
    if perfect:
        alarmed = sum(bool(r["wrong"]) for r in results)
        print(
            f"sheets with any false alarm: {alarmed} ({alarmed / len(results):.1%}), {sum(len(r['wrong']) for r in results)} marks of {total['marks']}; unsure {total['unsure'] / max(1, total['marks']):.3%}"
        )
    else:
        print(table("all: recall / precision", total))
        if simple:
            print(table("yardstick", simple))
        for name in sorted(parts):
            errors, sure = own[name]
            doubt = f"offsets {statistics.median(errors) if errors else 0:.1f} um, {calibration(sure)[-1].strip()}"
            print(table(f"{name} [{parts[name]['sheets']}, {parts[name]['lost']} lost]", parts[name]) + f"   {doubt}")
        if total["lines true"]:
            print(
                f"light lines: recall {total['lines right'] / total['lines true']:.1%}, precision {total['lines right'] / max(1, total['lines said']):.1%} ({total['lines true']}); fills not read {total['fills unread']} of {total['fills']}"
            )
        errors = np.abs([e for r in results for e in r["errors"]])
        if len(errors):
            print(
                f"offset across travel, error: median {np.median(errors):.1f} um, 95 % under {np.quantile(errors, 0.95):.1f} um"
            )
        print("\n".join(calibration([s for r in results for s in r["sure"]])))
    hands = [r["hand"] for r in results if r["hand"]]
    if hands:
        whole: Counter[str] = Counter()
        for _, counts, _ in hands:
            whole.update(counts)
        print(table(f"by corners {sum(h[0] for h in hands)} of {len(hands)}", whole))
    ratios = [r["read"] / r["decode"] for r in results]
    print(
        f"reading over decoding: median {statistics.median(ratios):.1f}, 90 % under {np.quantile(ratios, 0.9):.1f}, worst {max(ratios):.1f}; decode {statistics.median(r['decode'] for r in results):.3f} s; largest process {max(r['peak'] for r in results):.0f} MB (with rendering where not kept)"
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--photos", type=int, default=150, help="per grade")
    parser.add_argument("--seed", type=int, default=HELD_OUT)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--grade", choices=["typical", "bad", "both"], default="both")
    parser.add_argument("--perfect", action="store_true")
    parser.add_argument("--refuse", action="store_true")
    parser.add_argument(
        "--world",
        choices=("own", *WORLDS),
        default="own",
        help="whose sheets and photographs",
    )
    parser.add_argument(
        "--furnished",
        nargs="?",
        const=ANY,
        choices=(ANY, *sorted(KINDS), *PAPERS),
        help="draw frames, words, rules and scales round the pattern, or one kind",
    )
    parser.add_argument(
        "--printed", nargs="?", const=afterwards.EVERY, choices=(afterwards.EVERY, *sorted(printing.KINDS)),
        help="own world only: printed as other printers would",
    )  # fmt: skip
    parser.add_argument(
        "--after",
        nargs="?",
        const=afterwards.EVERY,
        choices=(afterwards.EVERY, *sorted(afterwards.EFFECTS)),
        help="as other cameras and apps would leave the photographs, each another way or all one way",
    )
    parser.add_argument("--yardstick", action="store_true")
    parser.add_argument("--wrong", action="store_true", help="list what was misread")
    parser.add_argument("--keep", type=Path)
    args = parser.parse_args()
    if args.keep:
        args.keep.mkdir(parents=True, exist_ok=True)
    if args.refuse:
        refusals.main(args.seed, args.jobs, args.photos)
        return
    for grade in ("typical", "bad") if args.grade == "both" else (args.grade,):
        with ProcessPoolExecutor(args.jobs) as pool:
            work = partial(
                one,
                grade=grade,
                perfect=args.perfect,
                keep=args.keep,
                measure_yardstick=args.yardstick,
                world=args.world,
                furnished=args.furnished,
                after=args.after,
                printed=args.printed,
            )
            report(grade, list(pool.map(work, range(args.seed, args.seed + args.photos))), args.perfect, args.wrong)


if __name__ == "__main__":
    main()
