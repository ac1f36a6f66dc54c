"""Random sheets and photographs for measuring: layouts of every family, faults of every kind, scenes of every sort.

Two grades: "typical", what a phone gives by day on a table, and "bad", the far end of what a person would still
try. Families and conditions are drawn apart from each other and named, so that the weakest place shows.
"""

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks import printing
from dusky_sieve import files
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, parse_layout
from dusky_sieve.core.simulate import (
    BlockTruth,
    DeflectedMark,
    LightLine,
    Scene,
    Truth,
    random_faults,
    render,
)

INKS = {
    "black": "#1d1c20", "cyan": "#1c84b8", "magenta": "#b83a72", "yellow": "#e0c22e", "light-cyan": "#8cc4dc",
    "light-magenta": "#dc9cbc", "grey": "#77777a", "light-grey": "#b4b4b6", "orange": "#e07b30", "green": "#3a8c4c",
    "red": "#c03434", "violet": "#5a4a9c",
}  # fmt: skip
FAMILIES = ("staircase", "slanted", "raster", "banks", "heads", "twice", "small", "large", "many", "film", "fills")
PITCHES_MM = (0.1411, 0.0847, 0.0706, 0.1058)


@dataclass(frozen=True)
class Sheet:
    """A layout with the family it was drawn from."""

    family: str
    layout: Layout


def _lattice(kind: str, nozzles: int, pitch: float, rng: np.random.Generator) -> dict[str, object]:
    """Lattice fields of a block and its size in mm."""
    if kind == "slanted":
        columns = int(rng.integers(18, 50))
        dx = float(rng.uniform(0.7, 1.5))
        step = [round(dx, 4), pitch]
        row = [0.0, round(max(columns * pitch, 1.0), 4)]
        mark = [round(dx * float(rng.uniform(0.86, 0.98)), 4), round(min(0.1, 0.9 * pitch), 4)]
    elif kind == "raster":
        columns = int(rng.integers(8, 40))
        dx = float(rng.uniform(0.9, 3.0))
        step = [round(dx, 4), 0.0]
        row = [0.0, round(float(rng.uniform(0.7, 2.2)), 4)]
        mark = [round(dx * float(rng.uniform(0.6, 0.9)), 4), round(float(rng.uniform(0.07, 0.13)), 4)]
    else:  # staircase
        columns = int(rng.integers(6, 21))
        dx = float(rng.uniform(1.2, 3.2))
        step = [round(dx, 4), pitch]
        row = [0.0, round(columns * pitch * float(rng.choice([1.0, 1.0, 1.25])), 4)]
        if row[1] < 0.6:
            row[1] = 0.8
        mark = [round(dx * float(rng.uniform(0.7, 0.92)), 4), round(min(0.11, 0.9 * pitch), 4)]
    columns = min(columns, nozzles)
    rows = -(-nozzles // columns)
    size = ((columns - 1) * step[0] + mark[0], (columns - 1) * step[1] + (rows - 1) * row[1] + mark[1])
    return {"columns": columns, "column_pitch": step, "row_pitch": row, "mark": mark, "size": size}


def draw_sheet(rng: np.random.Generator, family: str | None = None) -> Sheet:
    """A layout nobody wrote by hand, of a shape that a 12-megapixel photo can show."""
    while True:
        sheet = _drawn(rng, family)
        (w, h), pitch = sheet.layout.size, min(b.nozzle_pitch for b in sheet.layout.blocks if isinstance(b, MarksBlock))
        if (
            max(w, h) < 3.2 * min(w, h)
            and 2.2 / pitch * max(w, h) < 0.9 * 4032
            and 2.2 / pitch * min(w, h) < 0.9 * 3024
        ):
            return sheet


def _drawn(rng: np.random.Generator, family: str | None) -> Sheet:
    family = family or str(rng.choice(FAMILIES))
    kind = (
        family if family in ("staircase", "slanted", "raster") else str(rng.choice(["staircase", "slanted", "raster"]))
    )
    pitch = float(rng.choice(PITCHES_MM))
    names = list(INKS)
    nozzles = int(rng.choice([48, 59, 90, 128, 180, 192, 256, 360]))
    channels = ["black", *rng.permutation(names[1:])[: int(rng.integers(2, 8))]]
    plan: list[tuple[str, str, int, int, int, int, str]] = []  # id, channel, head, nozzles, first, step, backing
    if family == "banks":
        for name in channels[:5]:
            half = nozzles // 2
            plan += [(f"{name}-odd", name, 1, half, 1, 2, "light"), (f"{name}-even", name, 1, half, 2, 2, "light")]
    elif family == "heads":
        plan = [(f"{name}-{head}", f"{name}", head, nozzles, 1, 1, "light") for head in (1, 2) for name in channels[:4]]
    elif family == "twice":
        plan = [(f"{name}-{ab}", f"{name}-{ab}", 1, nozzles, 1, 1, "light") for name in channels[:4] for ab in "ab"]
    elif family == "small":
        plan = [(c, c, 1, int(rng.integers(20, 40)), 1, 1, "light") for c in channels[: int(rng.integers(1, 5))]]
    elif family == "large":
        if rng.random() < 0.4:
            plan = [("black", "black", 1, int(rng.integers(2000, 4097)), 1, 1, "light")]
        else:
            plan = [(c, c, 1, int(rng.integers(500, 1200)), 1, 1, "light") for c in channels[:4]]
    elif family == "many":
        count = int(rng.integers(24, 65))
        plan = [
            (f"b{i}", f"{names[i % len(names)]}-{i // len(names)}", 1, int(nozzles // 4), 1, 1, "light")
            for i in range(count)
        ]
    elif family == "film":
        plan = [(c, c, 1, nozzles, 1, 1, "light") for c in channels[:4]]
        plan += [(w, w, 1, nozzles, 1, 1, "dark") for w in ("white-a", "white-b")]
    else:
        plan = [(c, c, 1, nozzles, 1, 1, "light") for c in channels]
    if family in ("large", "many") and kind == "staircase":
        kind = "raster"
    # Every other nozzle alone in a block: its marks step down by two pitches.
    lattice = _lattice(kind, plan[0][3], pitch * plan[0][5], rng)
    sizes = [_lattice_size(lattice, p[3]) for p in plan]
    wide, high = max(s[0] for s in sizes), max(s[1] for s in sizes)
    gap_x, gap_y = float(rng.uniform(1.5, 6)), float(rng.uniform(1.5, 5))
    across = int(np.clip(round(np.sqrt(len(plan) * high / wide * float(rng.uniform(0.6, 2.5)))), 1, len(plan)))
    if family == "banks":
        across = max(2, across - across % 2)
    blocks: list[dict[str, object]] = []
    for i, (key, channel, head, count, first, step, backing) in enumerate(plan):
        mark = lattice["mark"]
        x = (i % across) * (wide + gap_x) + mark[0] / 2  # type: ignore[index]
        y = (i // across) * (high + gap_y) + mark[1] / 2  # type: ignore[index]
        ink = "#f4f4f0" if backing == "dark" else INKS[channel.rsplit("-", 1)[0] if channel not in INKS else channel]
        blocks.append({
            "id": key, "channel": channel, "head": head, "ink": ink, "backing": backing, "kind": "marks",
            "origin": [round(x, 4), round(y, 4)], "nozzles": count, "first_nozzle": first, "nozzle_step": step, "nozzle_pitch": pitch,
            **{k: v for k, v in lattice.items() if k != "size"}, "columns": min(lattice["columns"], count),  # type: ignore[call-overload]
        })  # fmt: skip
    rows = -(-len(plan) // across)
    size = [across * (wide + gap_x) - gap_x, rows * (high + gap_y) - gap_y]
    if family == "fills":
        fill_h = min(25.4, nozzles * pitch)
        for i, c in enumerate(channels):
            w = (size[0] - 1.0 * (len(channels) - 1)) / len(channels)
            blocks.append({
                "id": f"{c}-fill", "channel": c, "ink": INKS[c], "backing": "light", "kind": "solid",
                "origin": [round(i * (w + 1.0), 3), round(size[1] + 3, 3)], "size": [round(w, 3), round(fill_h, 3)],
                "nozzles": int(fill_h / pitch), "first_nozzle": 1, "nozzle_pitch": pitch,
            })  # fmt: skip
        size[1] += 3 + fill_h
    document = {"format": "dusky-sieve-layout", "version": 1, "name": f"drawn {family} {kind}", "size": [round(v + 0.2, 3) for v in size], "blocks": blocks}  # fmt: skip
    return Sheet(family, Layout.model_validate(document))


def _lattice_size(lattice: dict[str, object], nozzles: int) -> tuple[float, float]:
    columns = min(int(lattice["columns"]), nozzles)  # type: ignore[call-overload]
    rows = -(-nozzles // columns)
    step, row, mark = lattice["column_pitch"], lattice["row_pitch"], lattice["mark"]
    return (
        (columns - 1) * step[0] + mark[0],  # type: ignore[index]
        (columns - 1) * step[1] + (rows - 1) * row[1] + mark[1],  # type: ignore[index]
    )


def layout_of(name: str, ends: Iterable[float], blocks: list[dict[str, Any]]) -> Layout:
    """The layout of drawn blocks that end at (right, bottom) mm, as its document would be read; raises UnusableInput where that is none."""
    document = {"format": "dusky-sieve-layout", "version": 1, "name": name, "size": [float(v) + 0.1 for v in ends], "blocks": blocks}  # fmt: skip
    return parse_layout(json.dumps(document))


def drawn_in_style(
    rng: np.random.Generator, styles: tuple[str, ...], layout: Callable[[str, np.random.Generator], Layout], slender: float, least_marks: int = 0
) -> Sheet:  # fmt: skip
    """A sheet of one of the styles, `layout` of it, no more `slender` than so, of a shape that a 12-megapixel photo can show."""
    while True:
        style = str(rng.choice(styles))
        try:
            found = layout(style, rng)
        except UnusableInput:
            continue
        marks = [b for b in found.blocks if isinstance(b, MarksBlock)]
        finest = min(b.nozzle_pitch for b in marks)
        small, large = sorted(found.size)
        shown = large < slender * small and 2.4 / finest * large < 3600 and 2.4 / finest * small < 2700
        if shown and sum(b.nozzles for b in marks) >= least_marks:
            return Sheet(style, found)


def draw_faults(layout: Layout, rng: np.random.Generator, bad: bool) -> dict[str, BlockTruth]:
    """Faults of a sheet: mostly few, sometimes half of everything, sometimes whole channels absent."""
    marks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    rate = float(rng.choice([0.0, 0.01, 0.03, 0.08, 0.25]))
    faults = {b.id: _along_too(b, random_faults(b, rng, rate=rate), rng) for b in marks}
    for b in marks:
        shift = rng.normal(0, 0.2 * b.nozzle_pitch * 1000, 2)
        faults[b.id] = faults[b.id].model_copy(
            update={"shift_um": (round(float(shift[0]), 1), round(float(shift[1]), 1))}
        )
    if bad and rng.random() < 0.25 and len(marks) > 2:
        for b in marks[: len(marks) // 2]:
            gone = rng.random(b.nozzles) < 0.65
            kept = faults[b.id]
            more = {n for n, g in zip(b.numbers, gone, strict=True) if g}
            more -= {w.nozzle for w in kept.weak} | {d.nozzle for d in kept.deflected}
            faults[b.id] = kept.model_copy(update={"missing": tuple(sorted(more | set(kept.missing)))})
    if rng.random() < (0.3 if bad else 0.12) and len(marks) > 2:
        for b in rng.permutation(np.array(marks, object))[: max(1, int(len(marks) * rng.uniform(0.1, 0.4)))]:
            faults[b.id] = BlockTruth(all_missing=True)
    for b in layout.blocks:
        if b.kind == "solid":
            tall = b.size[1]
            count = int(rng.integers(0, 4))
            places = sorted(float(v) for v in rng.uniform(0.06 * tall, 0.94 * tall, count))
            faults[b.id] = BlockTruth(
                lines=tuple(
                    LightLine(y_mm=round(p, 3), width_um=round(float(rng.uniform(1.0, 2.0)) * 1000 * (b.nozzle_pitch or 0.1), 1), contrast=round(float(rng.uniform(0.35, 0.9)), 2))
                    for i, p in enumerate(places)
                    if i == 0 or p - places[i - 1] > 1.0
                )
            )  # fmt: skip
    return faults


def _along_too(block: MarksBlock, faults: BlockTruth, rng: np.random.Generator) -> BlockTruth:
    """Never a throw that lays a mark onto its neighbour: nobody could tell which is which."""
    apart = max(abs(block.row_pitch[1]), abs(block.column_pitch[1]))  # whichever of them leads down the sheet
    limit = 0.42 * min(apart or 9.0, 3.0) * 1000
    kept = tuple(
        DeflectedMark(
            nozzle=d.nozzle, offset_um=(d.offset_um[0], float(np.clip(d.offset_um[1], -limit, limit))), ink=d.ink
        )
        for d in faults.deflected
    )
    return faults.model_copy(
        update={"deflected": tuple(d for d in kept if np.hypot(*d.offset_um) >= 0.6 * block.nozzle_pitch * 1000)}
    )


@dataclass(frozen=True)
class Shot:
    """A scene and the names of what is hard about it."""

    scene: Scene
    conditions: tuple[str, ...]


def draw_scene(
    layout: Layout, rng: np.random.Generator, bad: bool, backing: Backing = "light", megapixels: float = 12.0
) -> Shot:
    """How the sheet is photographed. Fine lattices are photographed closer, as far as a person would see the need."""

    def u(low: float, high: float) -> float:
        return float(rng.uniform(low, high))

    names: list[str] = []

    def maybe(name: str, chance: float) -> bool:
        happens = bool(rng.random() < chance)
        if happens:
            names.append(name)
        return happens

    side = np.sqrt(megapixels / 12.192768)
    wide, high = (4032, 3024) if rng.random() < 0.75 else (3024, 4032)
    wide, high = int(wide * side), int(high * side)
    # Below about 2.2 px a pitch (typical: 3) marks that should stay apart run together.
    finest = min(b.nozzle_pitch for b in layout.blocks if isinstance(b, MarksBlock))
    roll = u(0, 360)
    c, s = abs(np.cos(np.radians(roll))), abs(np.sin(np.radians(roll)))
    span = max((layout.size[0] * c + layout.size[1] * s) / wide, (layout.size[0] * s + layout.size[1] * c) / high)
    least = (2.2 if bad else 3.0) / finest * span
    fill = u(0.25, 0.95) if bad else u(0.55, 0.95)
    fill = min(max(fill, least), 0.95)
    kelvin = u(2700, 8000) if bad else u(3800, 6800)
    warm = (6000 - kelvin) / 3300
    cast = (1 + 0.25 * warm, 1.0, 1 - 0.45 * warm) if warm > 0 else (1 + 0.2 * warm, 1.0, 1 - 0.25 * warm)
    brightest = max(cast)
    return Shot(
        Scene(
            width=wide, height=high, fill=fill, roll_deg=roll, tilt_deg=u(10, 30) if bad else u(0, 15), tilt_towards_deg=u(0, 360),
            shift=(u(-0.02, 0.02), u(-0.02, 0.02)), margin_mm=u(3, 30) if bad else u(6, 22), kelvin_cast=tuple(v / brightest for v in cast),
            paper=tuple(float(v) for v in np.clip(0.84 + rng.normal(0, 0.025, 3), 0.6, 0.93)),
            lamp_falloff=u(1.5, 4.0) if bad else u(1, 2), lamp_towards_deg=u(0, 360),
            shadow=u(0.3, 0.6) if maybe("shadow", 0.5 if bad else 0.2) else 0.0,
            lens_blur_px=u(0.8, 1.7) if bad else u(0.5, 1.2), motion_px=u(1, 2.5) if maybe("motion", 0.2 if bad else 0.05) else 0.0,
            noise=u(0.008, 0.022) if bad else u(0.002, 0.01), chroma_noise=u(0, 0.02) if bad else 0.0,
            exposure=u(0.5, 0.95) if bad else u(0.7, 0.95), jpeg_quality=int(rng.integers(50, 85)) if bad else int(rng.integers(80, 96)),
            curl_mm=u(-4, 4) if maybe("curl", 0.4 if bad else 0.15) else 0.0, lens_k1=u(-0.06, 0.06) if maybe("lens", 0.4 if bad else 0.3) else 0.0,
            words=maybe("words", 0.6), border=maybe("border", 0.3), grain=u(0.02, 0.15),
            desk=str(rng.choice(["wood", "plain", "tiles", "weave", "print", "dark"])), pen=int(rng.integers(1, 6)) if maybe("pen", 0.3 if bad else 0.1) else 0,
            ruler=maybe("ruler", 0.15 if bad else 0.05), thumb=maybe("thumb", 0.12 if bad else 0.03),
            haze=u(0.02, 0.15) if backing == "dark" and maybe("haze", 0.6) else 0.0,
            vignette=u(0, 0.4), contrast=u(-0.1, 0.5), sharpen=u(0, 1.0) if maybe("sharpened", 0.5) else 0.0,
            denoise=int(rng.integers(1, 3)) if maybe("denoised", 0.4) else 0,
            ink_law="density" if maybe("density", 0.4) else "coverage", ragged=u(0, 0.8), bleed_um=u(0, 30),
            ink_spread=u(0.02, 0.08), place_spread_um=min(u(3, 9), finest * 1000 * 0.09),
        ),
        tuple(names),
    )  # fmt: skip


def draw_truth(layout: Layout, rng: np.random.Generator, bad: bool, backing: Backing = "light") -> tuple[Truth, Shot]:
    """Faults and a scene together."""
    blocks = draw_faults(layout, rng, bad)
    shot = draw_scene(layout, rng, bad, backing)
    return Truth(blocks=blocks, scene=shot.scene), shot


def photograph(
    seed: int, grade: str, perfect: bool, keep: Path | None, kind: str | None = None
) -> tuple[Sheet, Truth, tuple[str, ...], list[tuple[Backing, bytes]]]:
    """A drawn sheet, its truth, what is hard about the photo, and JPEG bytes per backing.

    kind : of printer (printing.py), where it is another than this world's
    """
    rng = np.random.default_rng([seed, grade == "bad", perfect])
    sheet = draw_sheet(rng)
    truth, shot = draw_truth(sheet.layout, rng, grade == "bad")
    if perfect:
        truth = truth.model_copy(
            update={"blocks": {k: BlockTruth(shift_um=v.shift_um) for k, v in truth.blocks.items()}}
        )
    shown: list[tuple[Backing, bytes]] = []
    layout, conditions, name, which = sheet.layout, shot.conditions, f"{grade}-{seed}-{int(perfect)}", ""
    if kind:
        layout, truth, which = printing.printed(layout, truth, kind, seed)
        conditions, name = (*conditions, which), f"{name}-{which}"
    for backing in sorted({b.backing for b in sheet.layout.blocks}, reverse=True):
        kept = keep / f"{name}-{backing}.jpg" if keep else None
        if kept and kept.exists():
            shown.append((backing, kept.read_bytes()))
            continue
        pixels = render(layout, truth, backing, rng)
        if which == printing.MIRRORED:
            pixels = np.ascontiguousarray(pixels[:, ::-1])
        content = files.encode_jpeg(pixels, shot.scene.jpeg_quality)
        if kept:
            kept.write_bytes(content)
        shown.append((backing, content))
    return sheet, truth, conditions, shown


__all__ = [
    "FAMILIES",
    "Sheet",
    "Shot",
    "draw_faults",
    "draw_scene",
    "draw_sheet",
    "draw_truth",
    "photograph",
]
