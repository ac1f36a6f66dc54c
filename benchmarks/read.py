"""Accuracy and speed of reading over a rendered set.

    .venv/bin/python benchmarks/read.py [--photos 40] [--seed 1000] [--jobs 2] [--bad]

Prints recall and precision of missing, weak and deflected marks, the share of unsure marks, sheets found, and
the time of reading a 12-megapixel photo as a ratio to decoding it, measured in this run. `--bad` goes to the
bad end: tilt to 20 degrees, strong shadow, noise, JPEG 60. Seeds from 1000 on were never used for tuning.
"""

import argparse
import statistics
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np

from dusky_sieve import files
from dusky_sieve.core.layout import Layout, MarksBlock
from dusky_sieve.core.reading import Reading, UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Scene, Truth, random_faults, render

LAYOUTS = ("four-staircases", "eight-slanted-runs", "six-bands-on-film", "two-heads-raster")
STATES = ("missing", "weak", "deflected")


def scene(rng: np.random.Generator, bad: bool) -> Scene:
    """A photo turned any way, tilted, unevenly lit."""

    def u(low: float, high: float) -> float:
        return float(rng.uniform(low, high))

    wide, high = (4032, 3024) if rng.random() < 0.8 else (3024, 4032)
    return Scene(
        width=wide, height=high, fill=u(0.62, 0.95), tilt_deg=u(8, 20) if bad else u(0, 14), tilt_towards_deg=u(0, 360),
        roll_deg=u(0, 360), shift=(u(-0.03, 0.03), u(-0.03, 0.03)), lamp_falloff=u(1.8, 3.2) if bad else u(1, 2.2),
        lamp_towards_deg=u(0, 360), shadow=u(0.3, 0.5) if bad else float(rng.choice([0, 0, 0.25])),
        lens_blur_px=u(1.2, 1.9) if bad else u(0.6, 1.3), noise=u(0.012, 0.02) if bad else u(0.003, 0.01),
        jpeg_quality=60 if bad else int(rng.integers(80, 95)), kelvin_cast=(u(0.8, 1.1), 1.0, u(0.7, 1.1)), margin_mm=u(4, 25),
    )  # fmt: skip


def truth_states(block: MarksBlock, faults: BlockTruth) -> dict[int, str]:
    """Nozzle to true state, faults only."""
    states = dict.fromkeys(faults.missing, "missing") | {w.nozzle: "weak" for w in faults.weak}
    return states | {d.nozzle: "deflected" for d in faults.deflected}


def one(seed: int, bad: bool) -> dict[str, object]:
    """Renders, decodes and reads one photo."""
    rng = np.random.default_rng(seed)
    layout: Layout = files.shipped_layout(LAYOUTS[seed % len(LAYOUTS)])
    rate = float(rng.choice([0.0, 0.02, 0.05, 0.25]))
    blocks = {b.id: random_faults(b, rng, rate=rate) for b in layout.blocks if isinstance(b, MarksBlock)}
    shown = scene(rng, bad)
    content = files.encode_jpeg(render(layout, Truth(blocks=blocks, scene=shown), "light", rng), shown.jpeg_quality)
    started = time.perf_counter()
    pixels = files.decode_photo(content, "photo")
    decoded = time.perf_counter()
    reading: Reading = read_sheet(layout, [UprightPhoto(pixels, "light", "photo")])
    done = time.perf_counter()
    counts: Counter[str] = Counter()
    wrong: list[str] = []
    for read in reading.blocks:
        block = next(b for b in layout.blocks if b.id == read.id)
        if block.backing != "light" or not isinstance(block, MarksBlock):
            continue
        if not read.read:
            counts["unread"] += block.nozzles
            continue
        true, got = truth_states(block, blocks[block.id]), {f.nozzle: str(f.state) for f in read.faults}
        counts["marks"] += block.nozzles
        for nozzle in true.keys() | got.keys():
            t, g = true.get(nozzle, "firing"), got.get(nozzle, "firing")
            counts["unsure"] += g == "unsure"
            for state in STATES:
                if g != "unsure":
                    counts[f"{state} true"] += t == state
                counts[f"{state} said"] += g == state
                counts[f"{state} right"] += g == t == state
            if t != g:
                wrong.append(f"{read.id} {nozzle}: {t} read as {g}")
        counts["clear blocks"] += not true
        counts["false alarms"] += not true and any(s != "unsure" for s in got.values())
    found = reading.photos[0].found
    return {
        "seed": seed,
        "layout": layout.name,
        "found": found,
        "counts": counts,
        "decode": decoded - started,
        "read": done - decoded,
        "wrong": wrong,
        "scene": shown,
    }


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--photos", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1000)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--bad", action="store_true")
    parser.add_argument("--wrong", action="store_true", help="list what was misread")
    args = parser.parse_args()
    total: Counter[str] = Counter()
    results = []
    with ProcessPoolExecutor(args.jobs) as pool:
        for result in pool.map(partial(one, bad=args.bad), range(args.seed, args.seed + args.photos)):
            results.append(result)
            total.update(result["counts"])
            if not result["found"] or (args.wrong and result["wrong"]):
                print(
                    result["seed"],
                    result["layout"],
                    "found" if result["found"] else "NOT FOUND",
                    result["wrong"][:12],
                    result["scene"] if not result["found"] else "",
                )
    found = sum(bool(r["found"]) for r in results)
    print(
        f"photos {len(results)}, sheets found {found} ({found / len(results):.1%}), marks judged {total['marks']}, unsure {total['unsure'] / max(1, total['marks']):.3%}"
    )
    for state in STATES:
        recall = total[f"{state} right"] / max(1, total[f"{state} true"])
        precision = total[f"{state} right"] / max(1, total[f"{state} said"])
        print(f"{state:10} recall {recall:7.2%}  precision {precision:7.2%}  ({total[f'{state} true']} true)")
    print(f"clear blocks with a false alarm: {total['false alarms']} of {total['clear blocks']}")
    one(args.seed, args.bad)  # warm
    pairs = [one(args.seed + k, args.bad) for k in range(4)]
    ratios = [float(p["read"]) / float(p["decode"]) for p in pairs]  # type: ignore[arg-type]
    print(
        f"12 megapixels, one process: decode {statistics.median(float(p['decode']) for p in pairs):.3f} s, reading takes {statistics.median(ratios):.1f} times that (range {min(ratios):.1f} to {max(ratios):.1f})"
    )  # type: ignore[arg-type]


if __name__ == "__main__":
    main()
