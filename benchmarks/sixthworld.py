"""A sixth world, as plain as can be: even bars of even colour on even paper, laid over each other in light or in the picture's own numbers.

No drops, no texture, no phone: where the others show more than is likely, this one shows less. Half the sheets are mixed in the picture's
numbers (sRGB), where half the ink takes four fifths of the light and lamp, shadow and noise act on numbers too; half in light. Colours
clip, noise may be none at all, and desk and paper may have the same tone. Layouts are any other world's, the camera's geometry the third's.
Seeds from 200 on are held out.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.thirdworld import SHIFT, Camera, canvas_for, printed
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, extent, in_light, ink_rgb
from dusky_sieve.core.simulate import BlockTruth

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]
Rng = np.random.Generator
PAPERS = ((252, 252, 252), (246, 244, 238), (228, 230, 236), (238, 228, 206), (255, 255, 255))
SKIN = (203, 152, 126)


def _numbers(light: Singles) -> Singles:
    light = np.clip(light, 0, 1)
    return np.asarray(np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055), np.float32)


def _bars(canvas: Bytes, scale: float, off: Floats, block: MarksBlock, faults: BlockTruth, rng: Rng) -> None:
    """One block's marks, each a bar; what is left of a broken one begins where the whole does."""
    centre, dense, part = printed(block, faults, rng, float(rng.choice([0.0, 0.03, 0.06])))
    for i in np.flatnonzero(dense > 0):
        x, y = centre[i] - np.array(block.mark) / 2 + off
        right, foot = x + block.mark[0] * part[i], y + block.mark[1]
        box = np.array([[x, y], [right, y], [right, foot], [x, foot]]) * scale * 2**SHIFT
        cv2.fillPoly(canvas, [box.astype(np.int32)], (int(255 * dense[i]),), cv2.LINE_AA, SHIFT)


def _page(layout: Layout, faults: dict[str, BlockTruth], backing: Backing, rng: Rng, scale: float, edge: list[float], linear: bool) -> Singles:  # fmt: skip
    """The flat page in light or in numbers, `scale` pixels a mm, with `edge` mm of paper left, above, right and below."""
    shape = int((layout.size[1] + edge[1] + edge[3]) * scale), int((layout.size[0] + edge[0] + edge[2]) * scale)
    told = in_light if linear else np.float32
    paper = np.array(PAPERS[int(rng.integers(len(PAPERS)))] if backing == "light" else (28, 27, 30), np.float32) / 255
    page = np.empty((*shape, 3), np.float32)
    page[:] = told(paper)
    for block in layout.blocks:
        own = faults.get(block.id, BlockTruth())
        if block.backing != backing:
            continue
        canvas, there, off = canvas_for(block, own, shape, scale, edge)
        if isinstance(block, MarksBlock) and not own.all_missing:
            _bars(canvas, scale, off, block, own, rng)
        cover, ink = canvas.astype(np.float32)[..., None] / 255, _numbers(ink_rgb(block.ink).astype(np.float32))
        page[there] += cover * (told(ink if backing == "light" else 0.85 * ink) - page[there])
    if backing == "light":
        _captions(page, layout, rng, scale, edge)
    return page


def _captions(page: Singles, layout: Layout, rng: Rng, scale: float, edge: list[float]) -> None:
    """A title, a name over every block where there is room, a frame."""
    mask, (w, h) = np.zeros(page.shape[:2], np.uint8), layout.size

    def px(x: float, y: float) -> tuple[int, int]:
        return int((x + edge[0]) * scale), int((y + edge[1]) * scale)

    thin = max(1, round(0.2 * scale))
    if rng.random() < 0.6 and edge[1] > 9:
        cv2.putText(mask, "NOZZLE CHECK 2026-11", px(0, -4), cv2.FONT_HERSHEY_SIMPLEX, 0.11 * scale, (255,), 2 * thin, cv2.LINE_AA)  # fmt: skip
    if rng.random() < 0.3:
        boxes = np.array([extent(b) for b in layout.blocks])
        for block, box in zip(layout.blocks, boxes, strict=True):
            if not ((boxes[:, 3] < box[1]) & (boxes[:, 3] > box[1] - 3.2)).any():
                cv2.putText(mask, block.channel[:3], px(box[0], box[1] - 0.9), cv2.FONT_HERSHEY_SIMPLEX, 0.06 * scale, (255,), thin, cv2.LINE_AA)  # fmt: skip
    if rng.random() < 0.3:
        cv2.rectangle(mask, px(-2.5, -2.5), px(w + 2.5, h + 2.5), (255,), thin, cv2.LINE_AA)
    page *= 1 - 0.9 * mask.astype(np.float32)[..., None] / 255


def _ground(h: int, w: int, rng: Rng) -> Singles:
    """A desk of one colour, of two, or with faint clouds, in numbers."""
    u = rng.uniform
    kind, colour = rng.random(), rng.uniform(0.1, 0.95, 3).astype(np.float32)
    ground = np.empty((h, w, 3), np.float32)
    ground[:] = colour
    if kind < 0.25:
        ground[:, int(u(0.2, 0.8) * w) :] = rng.uniform(0.1, 0.95, 3)
    elif kind < 0.6:
        clouds = cv2.resize(rng.standard_normal((int(u(4, h / 4)), int(u(4, w / 4))), dtype=np.float32), (w, h))
        ground *= np.clip(1 + u(0.02, 0.2) * clouds, 0, 2)[..., None]
    return ground


def _lamp(h: int, w: int, rng: Rng, bad: bool, names: list[str]) -> Singles:
    """What share of the light falls where, and its colour: a slope, a shadow, dark corners."""
    u = rng.uniform
    ys, xs = np.mgrid[0:96, 0:96].astype(np.float32) / 95 - 0.5
    way, fall = u(0, 2 * np.pi), u(0.3, 0.75) if bad else u(0, 0.4)
    lamp = 1 - fall * (0.5 + (xs * np.cos(way) + ys * np.sin(way)) / 1.42)
    if rng.random() < (0.6 if bad else 0.2):
        names.append("shadow")
        r = np.hypot((xs - u(-0.5, 0.5)) / u(0.1, 0.4), (ys - u(-0.5, 0.5)) / u(0.1, 0.4))
        lamp *= 1 - u(0.2, 0.55) / (1 + np.exp(np.minimum((r - 1) / u(0.04, 0.4), 50)))
    lamp *= 1 - u(0, 0.5) * (xs**2 + ys**2)
    cast = np.array([1, u(0.86, 1), u(0.6, 1)] if rng.random() < 0.5 else [u(0.75, 1), u(0.9, 1), 1], np.float32)
    return np.asarray(cv2.resize(lamp.astype(np.float32), (w, h), interpolation=cv2.INTER_LINEAR)[..., None] * cast, np.float32)  # fmt: skip


def _over(picture: Singles, rng: Rng, bad: bool, names: list[str]) -> None:
    """A thumb at the edge, pen strokes, in numbers."""
    h, w = picture.shape[:2]
    if rng.random() < (0.2 if bad else 0.05):
        names.append("thumb")
        at = (int(rng.uniform(0, w)), int(rng.choice([0, h])))
        cv2.ellipse(picture, at, (int(0.06 * w), int(0.12 * h)), float(rng.uniform(-30, 30)), 0, 360, tuple(v / 255 for v in SKIN), -1, cv2.LINE_AA)  # fmt: skip
    for _ in range(int(rng.integers(1, 4)) if rng.random() < (0.25 if bad else 0.08) else 0):
        names.append("pen")
        path = np.cumsum(rng.normal(0, 0.03 * w, (6, 2)), axis=0) + rng.uniform(0.2, 0.8, 2) * (w, h)
        cv2.polylines(picture, [path.astype(np.int32)], False, (0.1, 0.12, 0.5), int(rng.integers(3, 9)), cv2.LINE_AA)


def shot(layout: Layout, faults: dict[str, BlockTruth], camera: Camera, px: float, backing: Backing, rng: Rng, bad: bool, names: list[str]) -> bytes:  # fmt: skip
    """JPEG of one photograph."""
    (w, h), u = camera.size, rng.uniform
    edge = [float(v) for v in rng.uniform(3, 40, 4)]
    linear = bool(np.random.default_rng([round(1000 * px), 6]).random() < 0.5)  # film's two photos alike
    names.append("mixed in light" if linear else "mixed in numbers")
    scale = float(np.clip(2.5 * px, 12, 6000 / (max(layout.size) + 80)))
    flat = cv2.GaussianBlur(_page(layout, faults, backing, rng, scale, edge, linear), (0, 0), max(0.3, 0.4 * scale / px))  # fmt: skip
    x, y = camera.sheet_at()
    seen = cv2.remap(flat, (x + edge[0]) * scale - 0.5, (y + edge[1]) * scale - 0.5, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
    there = (x > -edge[0]) & (y > -edge[1]) & (x < layout.size[0] + edge[2]) & (y < layout.size[1] + edge[3])
    on = cv2.GaussianBlur(there.astype(np.float32), (0, 0), 0.6)[..., None]
    ground = _ground(h, w, rng)
    picture = (in_light(ground) if linear else ground) * (1 - on) + seen * on
    picture = np.asarray(picture * _lamp(h, w, rng, bad, names) * np.float32(u(0.75, 1.08)), np.float32)
    picture = np.ascontiguousarray(_numbers(picture) if linear else picture)
    _over(picture, rng, bad, names)
    picture = np.asarray(cv2.GaussianBlur(picture, (0, 0), u(0.6, 1.2) if bad else u(0.3, 0.8)), np.float32)
    noise = u(0.01, 0.04) if bad else float(rng.choice([0.0, 0.004, 0.012]))
    picture += np.float32(noise) * rng.standard_normal(picture.shape, dtype=np.float32)
    how = [cv2.IMWRITE_JPEG_QUALITY, int(rng.integers(50, 85) if bad else rng.integers(80, 99))]
    return bytes(cv2.imencode(".jpg", (np.clip(picture, 0, 1)[..., ::-1] * 255 + 0.5).astype(np.uint8), how)[1])
