"""An eighth world: each mark a ragged outline drawn straight into the sensor's frame, faint ones both smaller and paler, paper that shines.

There is no flat raster that a camera looks up: outlines are taken through the camera point by point and filled at twice the sensor's
fineness. Ink creeps along fibres, the other side of the paper shows through, feed is uneven, gloss takes ink's place in streaks, lamps
flicker over the sensor's rows. Layouts are eighthlayouts.py's, the camera's geometry the third world's. Seeds from 200 on are held out.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.thirdworld import SHIFT, Camera, developed, shaded
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, in_light, ink_rgb, mark_centres
from dusky_sieve.core.simulate import BlockTruth

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Rng = np.random.Generator
FINE = 2  # times the sensor's pixels at which outlines are filled
SIDES = 14  # corners of an outline
SKIN = (0.52, 0.33, 0.24)


def _outlines(block: MarksBlock, faults: BlockTruth, rng: Rng, fed: Floats, ragged: float) -> tuple[Floats, Floats]:
    """Corners (n, SIDES, 2) mm of each mark, and how dense (n,); fed : height mm and phase of uneven feed."""
    number = {n: i for i, n in enumerate(block.numbers)}
    n = block.nozzles
    centre = mark_centres(block) + np.array(faults.shift_um) / 1000 + rng.normal(0, 0.05 * block.nozzle_pitch, (n, 2))
    dense, thick, part = np.clip(rng.normal(1, 0.03, n), 0, 1), np.clip(rng.normal(1, 0.05, n), 0.8, 1.2), np.ones(n)
    dense[[number[m] for m in faults.missing]] = 0
    for weak in faults.weak:
        i = number[weak.nozzle]
        if weak.broken:
            part[i] = weak.ink
        else:  # smaller drops: as much thinner as paler
            dense[i], thick[i] = np.sqrt(weak.ink), thick[i] * np.sqrt(weak.ink)
    for thrown in faults.deflected:
        i = number[thrown.nozzle]
        centre[i] += np.array(thrown.offset_um) / 1000
        dense[i] *= min(thrown.ink, 1)
    centre[:, 1] += fed[0] * np.sin(centre[:, 1] * 2 * np.pi / 17 + fed[1])
    half = np.stack([block.mark[0] * part / 2, block.mark[1] * thick / 2], axis=1)
    centre[:, 0] += rng.choice([-1, 1], n) * (block.mark[0] / 2 - half[:, 0])
    along = np.concatenate([np.linspace(-1, 1, SIDES // 2), np.linspace(1, -1, SIDES // 2)])
    across = np.repeat([-1.0, 1.0], SIDES // 2)
    shape = np.stack([along, across], axis=1) * half[:, None]
    shape[..., 1] += rng.normal(0, ragged * block.mark[1], (n, SIDES))
    shape[..., 0] += rng.normal(0, ragged * block.mark[1], (n, SIDES))
    return centre[:, None] + shape, dense


def _cover(block: MarksBlock, faults: BlockTruth, camera: Camera, rng: Rng, fed: Floats, ragged: float) -> tuple[Singles, tuple[slice, slice]] | None:  # fmt: skip
    """How much of each pixel a block's ink covers, and where in the frame that part is."""
    outlines, dense = _outlines(block, faults, rng, fed, ragged)
    kept = dense > 0
    if faults.all_missing or not kept.any():
        return None
    seen = (camera(outlines[kept].reshape(-1, 2)) + 0.5).reshape(-1, SIDES, 2)
    low = np.maximum(np.floor(seen.min(axis=(0, 1))).astype(int) - 3, 0)
    high = np.minimum(np.ceil(seen.max(axis=(0, 1))).astype(int) + 3, camera.size)
    canvas = np.zeros(((high[1] - low[1]) * FINE, (high[0] - low[0]) * FINE), np.uint8)
    for corners, full in zip((((seen - low) * FINE - 0.5) * 2**SHIFT).astype(np.int32), dense[kept], strict=True):
        cv2.fillPoly(canvas, [corners], (int(255 * full),), cv2.LINE_AA, SHIFT)
    small = cv2.resize(canvas, (high[0] - low[0], high[1] - low[1]), interpolation=cv2.INTER_AREA)
    return small.astype(np.float32) / 255, (slice(low[1], high[1]), slice(low[0], high[0]))


def _prints(layout: Layout, rng: Rng, edge: list[float], names: list[str]) -> tuple[Singles, float]:
    """What else is on the paper, as the share of light that is left, at `scale` pixels a mm: a title, names, what shows through."""
    scale = float(np.clip(3000 / (max(layout.size) + 80), 4, 14))
    shape = int((layout.size[1] + edge[1] + edge[3]) * scale), int((layout.size[0] + edge[0] + edge[2]) * scale)
    front, back = np.zeros(shape, np.uint8), np.zeros(shape, np.uint8)
    font = int(rng.choice([cv2.FONT_HERSHEY_DUPLEX, cv2.FONT_HERSHEY_COMPLEX, cv2.FONT_HERSHEY_PLAIN]))
    if rng.random() < 0.5 and edge[1] > 8:
        cv2.putText(front, "Check print  26-11-30  0417", (int(edge[0] * scale), int((edge[1] - 4) * scale)), font, 0.09 * scale, (255,), 2, cv2.LINE_AA)  # fmt: skip
    if rng.random() < 0.3 and edge[3] > 8:
        cv2.line(front, (int(edge[0] * scale), shape[0] - int(4 * scale)), (shape[1] - int(edge[2] * scale), shape[0] - int(4 * scale)), (255,), 2)  # fmt: skip
    if rng.random() < 0.3:
        names.append("shows through")
        for y in range(0, shape[0], int(7 * scale)):
            cv2.putText(back, "".join(rng.choice(list("anders moto linee "), 40)), (0, y), font, 0.12 * scale, (255,), 2, cv2.LINE_AA)  # fmt: skip
    through = cv2.GaussianBlur(back[:, ::-1], (0, 0), 0.4 * scale).astype(np.float32) / 255
    left = 1 - 0.9 * front.astype(np.float32) / 255 - float(rng.uniform(0.03, 0.12)) * through
    grain = cv2.resize(rng.standard_normal((shape[0] // 3, shape[1] // 3), dtype=np.float32), shape[::-1])
    return np.asarray(left * (1 + float(rng.uniform(0, 0.015)) * grain), np.float32), scale


def _table(h: int, w: int, rng: Rng, names: list[str]) -> Singles:
    """A table's light: even, boards, a carpet, a grid of slats."""
    kind = str(rng.choice(["even", "boards", "carpet", "slats"]))
    names.append(f"on {kind}")
    base = rng.uniform(0.03, 0.7, 3).astype(np.float32) * np.float32(rng.uniform(0.3, 1))
    ys, xs = np.mgrid[0:h:4, 0:w:4].astype(np.float32)
    way, wide = rng.uniform(0, np.pi), rng.uniform(90, 420)
    across = xs * np.cos(way) + ys * np.sin(way)
    tone = np.ones_like(xs)
    if kind == "boards":
        tone = (
            0.8
            + 0.1 * np.sin(across / 37 + 3 * np.sin(ys * np.cos(way) / 900))
            + 0.1 * np.sin(np.floor(across / wide) * 78.2)
        )
    elif kind == "carpet":
        tone = 1 + 0.25 * rng.standard_normal(xs.shape, dtype=np.float32)
    elif kind == "slats":
        tone = np.where(across % wide < 0.2 * wide, 0.35, 1.0)
    return (
        np.clip(cv2.resize(tone.astype(np.float32), (w, h), interpolation=cv2.INTER_LINEAR), 0.05, 2)[..., None] * base
    )


def _lit(h: int, w: int, rng: Rng, bad: bool, names: list[str]) -> tuple[Singles, Singles]:
    """What share of the light falls where and its colour, and the gloss that is added to it."""
    u = rng.uniform
    ys, xs = np.mgrid[0:90, 0:120].astype(np.float32) / 90 - 0.5
    lamp = 1 / (1 + ((xs - u(-1, 1)) ** 2 + (ys - u(-1, 1)) ** 2) * (u(0.3, 1.3) if bad else u(0, 0.4)))
    if rng.random() < (0.5 if bad else 0.2):
        names.append("shadow")  # of an arm: a band with a soft edge
        way, at = u(0, 2 * np.pi), u(-0.35, 0.35)
        off = np.abs(xs * np.cos(way) + ys * np.sin(way) - at) - u(0.05, 0.2)
        lamp *= 1 - u(0.2, 0.6) / (1 + np.exp(np.clip(off / u(0.006, 0.08), -50, 50)))
    gloss = np.zeros_like(lamp)
    if rng.random() < (0.35 if bad else 0.12):
        names.append("gloss")
        way, at = u(0, 2 * np.pi), u(-0.4, 0.4)
        gloss = u(0.05, 0.45) * np.exp(-(((xs * np.cos(way) + ys * np.sin(way) - at) / u(0.04, 0.2)) ** 2))
    cast = np.array([u(0.7, 1), 1, u(0.6, 1)], np.float32)
    lamp = cv2.resize((lamp / lamp.max()).astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC)
    if rng.random() < (0.3 if bad else 0.1):
        names.append("flicker")
        lamp *= (1 + u(0.02, 0.08) * np.sin(np.arange(h) * 2 * np.pi / u(300, 1500) + u(0, 6))).astype(np.float32)[
            :, None
        ]
    return lamp[..., None] * cast, cv2.resize(gloss.astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC)[
        ..., None
    ]


def _in_front(picture: Singles, rng: Rng, bad: bool, names: list[str]) -> None:
    """A finger at the rim, a cable across."""
    h, w = picture.shape[:2]
    u = rng.uniform
    if rng.random() < (0.15 if bad else 0.04):
        names.append("finger")
        at = np.array([(0, u(0, h)), (w, u(0, h)), (u(0, w), h)][int(rng.integers(3))])
        tip = at + 0.2 * (np.array([w, h]) / 2 - at)
        cv2.line(picture, [int(v) for v in at], [int(v) for v in tip], SKIN, int(u(120, 320)), cv2.LINE_AA)
    if rng.random() < (0.12 if bad else 0.03):
        names.append("cable")
        path = np.stack([np.linspace(0, w, 9), u(0, h) + np.cumsum(rng.normal(0, 0.05 * h, 9))], axis=1)
        cv2.polylines(picture, [path.astype(np.int32)], False, (0.04, 0.04, 0.05), int(u(14, 40)), cv2.LINE_AA)


def shot(layout: Layout, faults: dict[str, BlockTruth], camera: Camera, px: float, backing: Backing, rng: Rng, bad: bool, names: list[str]) -> bytes:  # fmt: skip
    """JPEG of one photograph."""
    (w, h), u = camera.size, rng.uniform
    edge = [float(v) for v in rng.uniform(4, 40, 4)]
    x, y = camera.sheet_at()
    there = (x > -edge[0]) & (y > -edge[1]) & (x < layout.size[0] + edge[2]) & (y < layout.size[1] + edge[3])
    prints, scale = _prints(layout, rng, edge, names)
    flat = cv2.remap(prints, (x + edge[0]) * scale - 0.5, (y + edge[1]) * scale - 0.5, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
    paper = np.clip(0.86 + rng.normal(0, 0.03, 3), 0.6, 0.95).astype(np.float32)
    sheet = flat[..., None] * paper
    fed = np.array([u(0, 0.25) * min(b.nozzle_pitch for b in layout.blocks if isinstance(b, MarksBlock)) if rng.random() < 0.4 else 0.0, u(0, 6.28)])  # fmt: skip
    ragged, creep = u(0, 0.14), u(0, 0.35)
    for block in layout.blocks:
        drawn = (
            _cover(block, faults.get(block.id, BlockTruth()), camera, rng, fed, ragged)
            if isinstance(block, MarksBlock)
            else None
        )
        if drawn:
            ink, part = in_light(ink_rgb(block.ink).astype(np.float32)), sheet[drawn[1]]
            wet = drawn[0] + creep * 0.25 * (cv2.GaussianBlur(drawn[0], (0, 0), 0.03 * px + 0.3) - drawn[0])
            part *= np.exp(np.log(np.maximum(ink, 0.01)) * 0.35 * wet[..., None] ** 1.5) * (
                1 - 0.8 * wet[..., None] * (1 - ink)
            )
    on = cv2.GaussianBlur(there.astype(np.float32), (0, 0), 0.8)[..., None]
    lamp, gloss = _lit(h, w, rng, bad, names)
    picture = np.ascontiguousarray((_table(h, w, rng, names) * (1 - on) + sheet * on) * lamp + gloss * on, np.float32)
    shaded(picture, camera, x, y, px)
    _in_front(picture, rng, bad, names)
    picture = np.asarray(cv2.GaussianBlur(picture, (0, 0), u(0.6, 1.5) if bad else u(0.4, 1.0)), np.float32)
    electrons = u(400, 3000) if bad else u(2000, 12000)
    picture += rng.standard_normal(picture.shape, dtype=np.float32) * np.sqrt(np.maximum(picture, 0.002) / electrons)
    white = float(np.quantile(picture[::16, ::16], 0.97))
    light = np.clip(picture * (u(0.75, 1.0) / max(white, 0.05)), 0, 1)
    steps = np.linspace(0, 1, 4096)
    tone = (1 - u(0, 0.5)) * steps ** (1 / 2.2) + u(0, 0.3) * (steps ** (1 / 1.8) - steps ** (1 / 2.4))
    space = cv2.cvtColor((np.clip(tone / tone[-1], 0, 1) * 255 + 0.5).astype(np.uint8)[(light * 4095).astype(np.uint16)], cv2.COLOR_RGB2YCrCb)  # fmt: skip
    luma = space[..., 0].astype(np.float32)
    if rng.random() < 0.5:
        luma += float(u(0.2, 1.2)) * (luma - cv2.GaussianBlur(luma, (0, 0), u(0.9, 2)))
    return developed(space, luma, rng, 2.2, (50, 85) if bad else (78, 96))
