"""A second world of sheets and photographs, which shares nothing with the product's own renderer but the truth's format.

Marks are outlines or chains of drops drawn where a bent sheet's points fall on the sensor; paper is a cylinder, lens
and hand have terms of their own, and the picture goes through a colour mosaic, tone mapping and a phone's sharpening.
Layouts are of other shapes as well: rising steps, bricks, tall lists, unequal and interleaved blocks. What fails here and
not there shows where the reader has learnt a renderer and not the ink. Seeds from 200 on are held out of mending it.
"""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.worlds import INKS, Sheet, draw_faults, drawn_in_style, layout_of
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, SolidBlock, extent, ink_rgb, mark_centres
from dusky_sieve.core.simulate import BlockTruth, DeflectedMark

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
FINE = 2  # photo pixels are halved while outlines are drawn
SHIFT = 4  # bits of a pixel in which OpenCV's outlines are given
STYLES = ("rising", "bricks", "lists", "unequal", "interleaved", "run", "raster", "film", "fills")


def _style_lattice(style: str, pitch: float, nozzles: int, rng: np.random.Generator) -> dict[str, Any]:
    """Columns, steps and mark of one block."""
    u = rng.uniform
    thick = float(np.clip(u(0.6, 1.1) * pitch, 0.05, 0.14))
    columns, dx, share, down = int(rng.integers(5, 18)), u(1.3, 4.0), u(0.55, 0.9), pitch
    if style == "lists":
        columns, dx = int(rng.integers(1, 5)), u(3.0, 7.0)
    elif style == "rising":
        down = -pitch
    elif style == "run":
        columns, dx, share = int(rng.integers(16, 60)), u(0.5, 1.4), u(0.88, 0.99)
        down = float(rng.choice([-1, 1])) * pitch
    elif style == "raster":
        columns, down = int(rng.integers(8, 40)), 0.0
    columns = min(columns, nozzles)
    row = max(columns * abs(down) * float(rng.choice([1.0, 1.3])), u(0.5, 1.6), 4.5 * thick)
    across = u(-0.4, 0.4) * dx if style == "bricks" else 0.0
    return {"columns": columns, "column_pitch": [dx, down], "row_pitch": [across, row], "mark": [dx * share, thick]}


def _spread(lattice: dict[str, Any], nozzles: int) -> tuple[float, float, float, float]:
    """Box of a block's marks about its first mark, mm."""
    c = np.arange(nozzles) % lattice["columns"]
    r = np.arange(nozzles) // lattice["columns"]
    at = c[:, None] * np.array(lattice["column_pitch"]) + r[:, None] * np.array(lattice["row_pitch"])
    half = np.array(lattice["mark"]) / 2
    low, high = at.min(axis=0) - half, at.max(axis=0) + half
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def draw_layout(rng: np.random.Generator) -> Sheet:
    """A sheet of one style, of a shape that a 12-megapixel photo can show."""
    return drawn_in_style(rng, STYLES, _layout, 4, least_marks=40)


def _layout(style: str, rng: np.random.Generator) -> Layout:
    pitch = float(rng.uniform(0.06, 0.16))
    colours = [*(str(c) for c in rng.permutation(list(INKS))[: int(rng.integers(3 if style == "film" else 2, 9))])]
    nozzles = int(rng.integers(24, 320))
    shape = (
        style
        if style in ("rising", "bricks", "lists", "run", "raster")
        else str(rng.choice(["stairs", "raster", "rising"]))
    )
    lattice = _style_lattice(shape, pitch, nozzles, rng)
    blocks: list[dict[str, Any]] = []
    x = y = tallest = right = 0.0
    limit = float(rng.uniform(40, 150))
    for name in colours + (["white"] if style == "film" else []):
        count = int(nozzles * rng.uniform(0.4, 1.0)) if style == "unequal" else nozzles
        box = _spread(lattice, count)
        if x > 0 and x + box[2] - box[0] > limit:
            x, y, tallest = 0.0, y + tallest + float(rng.uniform(1.2, 6)), 0.0
        fields = {
            "id": name, "channel": name, "ink": "#f2f2ee" if name == "white" else INKS[name], "kind": "marks",
            "backing": "dark" if name == "white" else "light", "origin": [x - box[0], y - box[1]], "nozzles": count,
            "first_nozzle": 1, "nozzle_step": 1, "nozzle_pitch": pitch, **lattice,
        }  # fmt: skip
        blocks.append(fields)
        if style == "interleaved" and shape == "raster":
            beside = [fields["origin"][0], fields["origin"][1] + lattice["row_pitch"][1] / 2]
            blocks[-1] = fields | {"id": f"{name}-odd", "nozzle_step": 2}
            blocks.append(fields | {"id": f"{name}-even", "nozzle_step": 2, "first_nozzle": 2, "origin": beside})
            box = (*box[:3], box[3] + lattice["row_pitch"][1] / 2)
        right, tallest = max(right, x + box[2] - box[0]), max(tallest, box[3] - box[1])
        x += box[2] - box[0] + float(rng.uniform(1.2, 8))
    bottom = y + tallest
    if style == "fills":
        high, wide = float(rng.uniform(6, 22)), right / len(colours)
        for i, name in enumerate(colours):
            blocks.append({"id": f"{name}-fill", "channel": name, "ink": INKS[name], "backing": "light", "kind": "solid", "origin": [i * wide, bottom + 2.5], "size": [wide - 0.8, high], "nozzle_pitch": pitch})  # fmt: skip
        bottom += 2.5 + high
    return layout_of(f"other {style}", (right, bottom), blocks)


@dataclass(frozen=True)
class Camera:
    """A hand-held camera over a bent sheet: places of sheet points on the sensor."""

    size: tuple[int, int]
    focal: float
    turn: Floats
    away: Floats
    middle: Floats
    bend: float
    axis: float
    lens: tuple[float, float, float, float]

    def __call__(self, points: Floats) -> Floats:
        """Pixels (n, 2) of sheet points (n, 2) mm."""
        p = points - self.middle
        c, s = np.cos(self.axis), np.sin(self.axis)
        along, across = p @ [c, s], p @ [-s, c]
        rolled = np.sin(along * self.bend) / self.bend if self.bend else along
        lift = (1 - np.cos(along * self.bend)) / self.bend if self.bend else np.zeros(len(p))
        solid = np.stack([rolled * c - across * s, rolled * s + across * c, lift], axis=1) @ self.turn.T + self.away
        x, y = (solid[:, :2] / solid[:, 2:]).T * self.focal / max(self.size)
        k1, k2, p1, p2 = self.lens
        r = x * x + y * y
        bent = 1 + k1 * r + k2 * r * r
        u = x * bent + 2 * p1 * x * y + p2 * (r + 2 * x * x)
        v = y * bent + 2 * p2 * x * y + p1 * (r + 2 * y * y)
        return np.stack([u, v], axis=1) * max(self.size) + np.array(self.size) / 2 - 0.5


def draw_camera(layout: Layout, rng: np.random.Generator, bad: bool) -> tuple[Camera, list[str]]:
    """A camera that sees the whole pattern, its finest pitch at least 2.2 (typical: 3) pixels."""
    names: list[str] = []
    size = (4032, 3024) if rng.random() < 0.6 else (3024, 4032)
    focal = max(size) * float(rng.uniform(0.7, 1.05))
    tilt, towards, roll = np.radians([rng.uniform(8, 30) if bad else rng.uniform(0, 14), rng.uniform(0, 360), rng.uniform(0, 360)])  # fmt: skip
    turn = cv2.Rodrigues(np.array([np.cos(towards), np.sin(towards), 0]) * tilt)[0] @ cv2.Rodrigues(np.array([0, 0, roll]))[0]  # fmt: skip
    middle = np.array(layout.size) / 2
    bend = 0.0
    if rng.random() < (0.5 if bad else 0.25):
        names.append("bent")
        bend = float(rng.choice([-1, 1])) / (max(layout.size) ** 2 / 8 / rng.uniform(0.5, 4.0 if bad else 1.5))
    lens = tuple(float(v) for v in rng.normal(0, (0.05, 0.03, 0.002, 0.002)) * (1.0 if bad else 0.5))
    finest = min(b.nozzle_pitch for b in layout.blocks if isinstance(b, MarksBlock))
    corners = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]]) * layout.size
    fill = float(rng.uniform(0.3, 0.95) if bad else rng.uniform(0.55, 0.95))
    camera = Camera(size, focal, np.asarray(turn, np.float64), np.array([0, 0, 1.0]), middle, bend, float(rng.uniform(0, np.pi)), lens)  # fmt: skip
    distance = focal * max(layout.size) / max(size)
    for _ in range(30):
        distance *= 1.02
        camera = Camera(size, focal, camera.turn, np.array([0, 0, distance]), middle, bend, camera.axis, lens)  # type: ignore[arg-type]
        seen = camera(corners)
        share = (np.ptp(seen, axis=0) / size).max()
        inside = (seen > 12).all() and (seen < np.array(size) - 12).all()
        px = np.linalg.norm(camera(np.array([middle, middle + (0, 1.0)]))[1] - camera(middle[None])[0]) * finest
        if inside and (share < fill or px * 0.98 < (2.2 if bad else 3.0)):
            break
    return camera, names


def _outline(block: MarksBlock, centre: Floats, ink: Floats, rng: np.random.Generator, ragged: float) -> list[Floats]:
    """Outlines (k, 2) mm of the marks that print: rounded rods with uneven sides, thinner where there is less ink."""
    length, thick = block.mark
    parts = []
    for (x, y), share in zip(centre, ink, strict=True):
        half = thick / 2 * share
        t = np.linspace(-0.5, 0.5, 9)
        rough = ragged * half * rng.normal(0, 1, (2, 9))
        run = length - thick * 0.6
        up = np.stack([x + t * run, y - half + rough[0]], axis=1)
        low = np.stack([x + t[::-1] * run, y + half + rough[1]], axis=1)
        parts.append(np.concatenate([up, [[x + length / 2, y]], low, [[x - length / 2, y]]]))
    return parts


def _fill(canvas: NDArray[np.uint8], camera: Camera, shapes: list[Floats], value: float = 255) -> None:
    for shape in shapes:
        at = (camera(shape) + 0.5) * FINE - 0.5
        cv2.fillPoly(canvas, [np.rint(at * 2**SHIFT).astype(np.int32)], (value,), cv2.LINE_AA, SHIFT)


def _marks(canvas: NDArray[np.uint8], camera: Camera, block: MarksBlock, faults: BlockTruth, rng: np.random.Generator, ragged: float) -> None:  # fmt: skip
    number = {n: i for i, n in enumerate(block.numbers)}
    centre = (
        mark_centres(block)
        + np.array(faults.shift_um) / 1000
        + rng.normal(0, 0.05 * block.nozzle_pitch, (block.nozzles, 2))
    )
    width, pale = np.clip(rng.normal(1, 0.04, block.nozzles), 0.85, 1.15), np.ones(block.nozzles)
    broken: list[tuple[int, float]] = []
    for n in faults.missing:
        pale[number[n]] = 0
    for w in faults.weak:
        i = number[w.nozzle]
        if w.broken:
            broken.append((i, w.ink))
            pale[i] = 0
        else:  # smaller drops: a thinner and a paler mark
            width[i] *= w.ink**0.5
            pale[i] = w.ink**0.5
    for d in faults.deflected:
        centre[number[d.nozzle]] += np.array(d.offset_um) / 1000
        pale[number[d.nozzle]] *= min(d.ink, 1.0)
    full = pale >= 0.999
    _fill(canvas, camera, _outline(block, centre[full], width[full], rng, ragged))
    for i in np.flatnonzero((pale > 0) & ~full):
        _fill(canvas, camera, _outline(block, centre[i : i + 1], width[i : i + 1], rng, ragged), 255 * pale[i])
    for i, share in broken:
        part = block.model_copy(update={"mark": (block.mark[0] * share, block.mark[1])})
        aside = (rng.uniform(0, 1 - share) - (1 - share) / 2) * block.mark[0]
        _fill(canvas, camera, _outline(part, centre[i : i + 1] + (aside, 0), width[i : i + 1], rng, ragged))


def _texture(shape: tuple[int, int], rng: np.random.Generator) -> Singles:
    """A desk: noise of many sizes, stretched one way, in some colour."""
    h, w = shape
    total = np.zeros((h, w), np.float32)
    stretch = float(rng.choice([1, 1, 6, 20]))
    for size in (3, 8, 25, 80, 240):
        small = rng.standard_normal((h // size + 2, max(2, int(w / size / stretch)) + 2)).astype(np.float32)
        total += cv2.resize(small, (w, h), interpolation=cv2.INTER_CUBIC) * float(rng.uniform(0, 1))
    total /= total.std() + 1e-6
    base = np.array(rng.uniform(0.08, 0.7, 3), np.float32) * 0.5 + float(rng.uniform(0.05, 0.4))
    return np.asarray(np.clip(base * (1 + float(rng.uniform(0.03, 0.25)) * total[..., None]), 0, 1), np.float32)


def _prints(layout: Layout, rng: np.random.Generator, names: list[str]) -> list[Floats]:
    """Outlines (k, 2) mm of words, a frame and a logo round the pattern."""
    w, h = layout.size
    shapes: list[Floats] = []
    per_mm = 12
    lines = int(rng.integers(0, 5))
    if lines:
        names.append("text")
    for _ in range(lines):
        mask = np.zeros((8 * per_mm, int(90 * per_mm)), np.uint8)
        text = "".join(rng.choice(list("abcdefghiklmnoprstuvw 0123456789 ")) for _ in range(int(rng.integers(6, 50))))
        face = int(rng.choice([cv2.FONT_HERSHEY_COMPLEX, cv2.FONT_HERSHEY_DUPLEX, cv2.FONT_HERSHEY_TRIPLEX]))
        cv2.putText(mask, text, (2, 5 * per_mm), face, float(rng.uniform(0.6, 1.6)), (255,), int(rng.integers(1, 4)))
        left, top = float(rng.uniform(-5, w * 0.6)), float(rng.choice([-rng.uniform(8, 15), h + rng.uniform(-1, 9)]))
        found, tree = cv2.findContours(mask, cv2.RETR_CCOMP, cv2.CHAIN_APPROX_SIMPLE)
        shapes += [c[:, 0].astype(np.float64) / per_mm + (left, top) for c, t in zip(found, tree[0] if tree is not None else [], strict=True) if t[3] < 0]  # fmt: skip
    if rng.random() < 0.3:
        names.append("rules")
        for y in (-3.0, h + 3.0):
            shapes.append(np.array([[-2, y], [w + 2, y], [w + 2, y + 0.2], [-2, y + 0.2]]))
    if rng.random() < 0.3:
        names.append("logo")
        a = np.linspace(0, 2 * np.pi, 24)
        shapes.append(np.stack([w + 6 + 3 * np.cos(a), 3 * np.sin(a)], axis=1))
    return shapes


def photograph(seed: int, grade: str, perfect: bool, keep: Path | None) -> tuple[Sheet, dict[str, BlockTruth], tuple[str, ...], list[tuple[Backing, bytes]], Camera]:  # fmt: skip
    """A sheet of the other world, its faults, what is hard about the photo, JPEG bytes per backing, and its camera."""
    bad = grade == "bad"
    rng = np.random.default_rng([seed, bad, perfect, 31])
    sheet = draw_layout(rng)
    blocks = {b.id: b for b in sheet.layout.blocks}
    faults = {k: _clean(v, blocks[k], perfect) for k, v in draw_faults(sheet.layout, rng, bad).items()}
    camera, names = draw_camera(sheet.layout, rng, bad)
    prints = _prints(sheet.layout, rng, names)
    shown: list[tuple[Backing, bytes]] = []
    for backing in sorted({b.backing for b in sheet.layout.blocks}, reverse=True):
        kept = keep / f"other-{grade}-{seed}-{int(perfect)}-{backing}.jpg" if keep else None
        if kept and kept.exists():
            shown.append((backing, kept.read_bytes()))
            continue
        picture = _scene(sheet.layout, faults, camera, backing, prints, np.random.default_rng([seed, bad, 7]), bad)
        content = _sensor(picture, np.random.default_rng([seed, bad, 9]), bad)
        if kept:
            kept.write_bytes(content)
        shown.append((backing, content))
    return sheet, faults, tuple(names), shown, camera


def _clean(faults: BlockTruth, block: MarksBlock | SolidBlock, perfect: bool) -> BlockTruth:
    """What can be told: no throw onto another bank's mark, and white that prints, for over black it is all there is."""
    if perfect:
        return BlockTruth(shift_um=faults.shift_um)
    limit = 200 * abs(block.row_pitch[1]) if isinstance(block, MarksBlock) and block.nozzle_step == 2 else 1e9
    bent = tuple(
        DeflectedMark(nozzle=d.nozzle, offset_um=d.offset_um) for d in faults.deflected if abs(d.offset_um[1]) < limit
    )
    return faults.model_copy(update={"deflected": bent, "all_missing": faults.all_missing and block.backing == "light"})


def _scene(layout: Layout, faults: dict[str, BlockTruth], camera: Camera, backing: Backing, prints: list[Floats], rng: np.random.Generator, bad: bool) -> Singles:  # fmt: skip
    """Linear light (rows, columns, 3) that reaches the sensor."""
    w, h = camera.size
    light = backing == "light"
    picture = _texture((h, w), rng)
    edge = rng.uniform(4, 30, 4)
    box = np.array([[-edge[0], -edge[1]], [layout.size[0] + edge[2], layout.size[1] + edge[3]]])
    side = np.linspace(0, 1, 20)[:, None]
    rim = np.array([box[0], [box[1, 0], box[0, 1]], box[1], [box[0, 0], box[1, 1]]])
    ring = np.concatenate([a + side * (b - a) for a, b in zip(rim, np.roll(rim, -1, axis=0), strict=True)])
    ragged = float(rng.uniform(0.02, 0.25))
    sheet = np.full((h, w, 3), 0.035, np.float32) if not light else np.ones((h, w, 3), np.float32) * (0.8 + rng.normal(0, 0.03, 3)).astype(np.float32)  # fmt: skip
    if light:
        sheet *= 1 + 0.012 * cv2.GaussianBlur(rng.standard_normal((h, w), dtype=np.float32), (0, 0), 2.5)[..., None]
    px = float(np.linalg.norm(np.diff(camera(np.array([[0, 0], [0, 1.0]]) + camera.middle), axis=0)))
    gain = float(rng.uniform(0.01, 0.04)) * px  # optical dot gain: light wanders in paper under the ink's edge
    layers: dict[str, list[MarksBlock | SolidBlock]] = {}
    for block in layout.blocks:
        layers.setdefault(block.ink if block.backing == backing else f"ghost {block.ink}", []).append(block)
    for ink, blocks in layers.items():
        canvas = np.zeros((h * FINE, w * FINE), np.uint8)
        for block in blocks:
            own = faults.get(block.id, BlockTruth())
            if isinstance(block, SolidBlock):
                _solid(canvas, camera, block, own)
            elif not own.all_missing:
                _marks(canvas, camera, block, own, rng, ragged)
        cover = cv2.resize(canvas, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
        cover = cv2.GaussianBlur(cover, (0, 0), max(gain, 0.3))
        colour = ink_rgb(ink.split()[-1]).astype(np.float32)
        ghost = ink.startswith("ghost")
        if light:
            sheet *= 1 - cover[..., None] * (0.02 if ghost else 0.96) * (1 - colour)
        else:
            sheet += cover[..., None] * ((0.04 * colour) if ghost else (0.8 * colour - sheet))
    if prints and light:
        canvas = np.zeros((h * FINE, w * FINE), np.uint8)
        _fill(canvas, camera, prints)
        sheet *= 1 - 0.85 * cv2.resize(canvas, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32)[..., None] / 255
    canvas = np.zeros((h * FINE, w * FINE), np.uint8)
    _fill(canvas, camera, [ring])
    there = cv2.resize(canvas, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    under = cv2.GaussianBlur(np.roll(there, (25, 18), (0, 1)), (0, 0), 22)[..., None]
    picture = picture * (1 - 0.45 * under) * (1 - there[..., None]) + sheet * there[..., None]
    return picture * _lamp(h, w, rng, bad)


def _solid(canvas: NDArray[np.uint8], camera: Camera, block: SolidBlock, faults: BlockTruth) -> None:
    x0, y0, x1, y1 = extent(block)

    def band(top: float, bottom: float) -> Floats:
        xs = np.linspace(x0, x1, 12)
        return np.concatenate([np.stack([xs, np.full(12, top)], 1), np.stack([xs[::-1], np.full(12, bottom)], 1)])

    _fill(canvas, camera, [band(y0, y1)])
    for line in faults.lines:
        half = line.width_um / 2000
        _fill(canvas, camera, [band(y0 + line.y_mm - half, y0 + line.y_mm + half)], 255 * (1 - line.contrast))


def _lamp(h: int, w: int, rng: np.random.Generator, bad: bool) -> Singles:
    """A lamp near by (inverse square, cosine), a hand's shadow of straight edges, and the light's colour."""
    ys, xs = np.mgrid[0:96, 0:96].astype(np.float32) / 95 - 0.5
    at, high = rng.uniform(-0.9, 0.9, 2), float(rng.uniform(0.7, 1.2) if bad else rng.uniform(1.4, 3))
    light = (1 + ((xs - at[0]) ** 2 + (ys - at[1]) ** 2) / high**2) ** -1.5
    if rng.random() < (0.5 if bad else 0.2):
        mask = np.zeros((96, 96), np.uint8)
        cv2.fillConvexPoly(mask, cv2.convexHull(rng.integers(-40, 136, (5, 2)).astype(np.int32)), (255,))
        light = light * (
            1 - float(rng.uniform(0.2, 0.55)) * cv2.GaussianBlur(mask, (0, 0), float(rng.uniform(2, 6))) / 255
        )
    warm = float(rng.uniform(-0.35, 0.6) if bad else rng.uniform(-0.15, 0.3))
    cast = np.array([1 + 0.3 * warm, 1.0, 1 - 0.55 * warm], np.float32)
    spread = cv2.resize((light / light.max()).astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC)
    return np.asarray(spread[..., None] * cast / cast.max() * float(rng.uniform(0.45, 0.95) if bad else rng.uniform(0.65, 0.95)), np.float32)  # fmt: skip


def _sensor(light: Singles, rng: np.random.Generator, bad: bool) -> bytes:
    """JPEG of what a phone makes of it: lens, colour mosaic, noise, tone mapping, sharpening."""
    h, w = light.shape[:2]
    soft = float(rng.uniform(0.7, 1.5) if bad else rng.uniform(0.4, 1.0))
    light = cv2.GaussianBlur(light, (0, 0), soft)
    if rng.random() < (0.25 if bad else 0.05):  # the hand moves along a bow
        path = np.cumsum(rng.normal(0, 0.5, (6, 2)), axis=0)
        path = (path - path.mean(axis=0)) * min(1.0, 1.2 / np.abs(path).max())
        light = sum(cv2.warpAffine(light, np.array([[1, 0, x], [0, 1, y]]), (w, h), borderMode=cv2.BORDER_REPLICATE) for x, y in path) / 6  # type: ignore[assignment]  # fmt: skip
    raw = np.empty((h, w), np.float32)
    for dy, dx, band in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        raw[dy::2, dx::2] = light[dy::2, dx::2, band]
    full = float(rng.uniform(250, 900) if bad else rng.uniform(900, 5000))  # electrons a pixel holds at white
    raw = raw + rng.standard_normal((h, w), dtype=np.float32) * np.sqrt(np.maximum(raw, 0) / full + 1e-6)
    codes = (np.clip(raw, 0, 1) * 16000 + 300).astype(np.uint16)
    seen = np.clip((cv2.cvtColor(codes, cv2.COLOR_BayerBG2RGB).astype(np.float32) - 300) / 16000, 0, 1)
    mean = cv2.GaussianBlur(cv2.resize(seen.mean(axis=2), (126, 126), interpolation=cv2.INTER_AREA), (0, 0), 9)
    lift = (0.45 / np.maximum(mean, 0.04)) ** float(rng.uniform(0, 0.3))  # local tone mapping
    seen = np.clip(seen * cv2.resize(lift, (w, h), interpolation=cv2.INTER_LINEAR)[..., None], 0, 1)
    curve = np.linspace(0, 1, 2048) ** float(rng.uniform(0.4, 0.52))
    image = (curve[(seen * 2047).astype(np.int32)] * 255).astype(np.uint8)
    space = cv2.cvtColor(image, cv2.COLOR_RGB2YCrCb)
    for band in (1, 2):
        space[..., band] = cv2.medianBlur(np.ascontiguousarray(space[..., band]), 5)
    luma = space[..., 0].astype(np.float32)
    sharper = luma + float(rng.uniform(0, 1.2)) * (luma - cv2.GaussianBlur(luma, (0, 0), 1.6))
    space[..., 0] = np.clip(sharper, 0, 255).astype(np.uint8)
    quality = int(rng.integers(50, 85) if bad else rng.integers(78, 96))
    return bytes(cv2.imencode(".jpg", cv2.cvtColor(space, cv2.COLOR_YCrCb2BGR), [cv2.IMWRITE_JPEG_QUALITY, quality])[1])
