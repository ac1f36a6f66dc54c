"""A third world of sheets and photographs: other layouts than the first two, and paper, light and phone made another way.

A flat raster of the sheet, marks drawn as drops or bars, is looked up for each pixel of the sensor through a lens that is
given the other way round; paper has waves, two lamps have colours of their own, sharpness falls off over the picture, and
the phone smooths, lifts local contrast and sharpens. Blocks of one sheet may be unlike each other, run from right to left,
have thick or short marks, or a single column; rows may stand so close that a frame's rule is one row step away. Half of
what it showed first had nothing to do with how a print looks: it is the layouts that tell. Seeds from 200 on are held out.
"""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks.thirdlayouts import draw_layout
from benchmarks.worlds import Sheet, draw_faults
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, SolidBlock, extent, ink_rgb, mark_centres
from dusky_sieve.core.simulate import BlockTruth, random_faults

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]
Rng = np.random.Generator
SIZES = ((4032, 3024), (3024, 4032), (4000, 3000), (4608, 2592))
DESKS = ("white", "stripes", "checks", "lined", "letters", "speckle", "wood", "plain")
STEP = 8  # pixels between which the camera is interpolated
SHIFT = 4  # bits of a pixel in which OpenCV's outlines are given


@dataclass(frozen=True)
class Camera:
    """A camera over a waving sheet. `lens` leads from where the sensor sees a ray to where it comes from.

    waves : height mm, (2,) radians a mm, and phase of each
    """

    size: tuple[int, int]
    focal: float
    turn: Floats
    away: Floats
    middle: Floats
    centre: Floats
    lens: tuple[float, float]
    waves: tuple[tuple[float, Floats, float], ...]

    def height(self, points: Floats) -> Floats:
        """How high the sheet waves at points (..., 2) mm."""
        return np.sum([a * np.sin((points - self.middle) @ k + phase) for a, k, phase in self.waves] or [np.zeros(points.shape[:-1])], axis=0)  # fmt: skip

    def __call__(self, points: Floats) -> Floats:
        """Pixels (n, 2) of sheet points (n, 2) mm."""
        solid = np.concatenate([points - self.middle, -self.height(points)[:, None]], axis=1) @ self.turn.T + self.away
        ray = solid[:, :2] / solid[:, 2:]
        seen = ray.copy()
        for _ in range(20):
            r = (seen**2).sum(axis=1, keepdims=True)
            seen = ray / (1 + self.lens[0] * r + self.lens[1] * r * r)
        return np.asarray(seen * self.focal + self.centre)

    def sheet_at(self) -> tuple[Singles, Singles]:
        """Sheet x and y, mm, that each pixel sees."""
        w, h = self.size
        grid = np.stack(np.meshgrid(np.arange(0, w + STEP, STEP), np.arange(0, h + STEP, STEP)), axis=-1).astype(float)
        seen = (grid - self.centre) / self.focal
        r = (seen**2).sum(axis=-1, keepdims=True)
        ray = (
            np.concatenate([seen * (1 + self.lens[0] * r + self.lens[1] * r * r), np.ones_like(r)], axis=-1) @ self.turn
        )
        start, z = -self.turn.T @ self.away, np.zeros(ray.shape[:2])
        for _ in range(12):
            points = start[:2] + ray[..., :2] * ((z - start[2]) / ray[..., 2])[..., None] + self.middle
            z = -self.height(points)
        xs, ys = np.meshgrid(np.arange(w, dtype=np.float32) / STEP, np.arange(h, dtype=np.float32) / STEP)
        x, y = (cv2.remap(points[..., i].astype(np.float32), xs, ys, cv2.INTER_CUBIC) for i in (0, 1))
        return np.asarray(x, np.float32), np.asarray(y, np.float32)


# One photo's JPEG, of a layout, its faults, a camera, its pixels a mm, a backing, chance, whether it is a bad one, and names for what is hard.
Shot = Callable[[Layout, dict[str, BlockTruth], Camera, float, Backing, Rng, bool, list[str]], bytes]


def draw_camera(layout: Layout, rng: Rng, bad: bool, names: list[str], upright: bool = False) -> tuple[Camera, float]:
    """A camera that sees the whole pattern, its finest pitch at least 2.3 (typical: 3) pixels; and its pixels a mm."""
    u = rng.uniform
    size = SIZES[int(rng.integers(len(SIZES)))]
    if upright and (size[0] < size[1]) != (layout.size[0] < layout.size[1]):
        size = size[::-1]
    focal = max(size) * float(u(0.68, 0.95))
    tilt, towards, roll = np.radians([u(8, 29) if bad else u(0, 16), u(0, 360), u(-20, 20) if upright else u(0, 360)])
    turn = cv2.Rodrigues(np.array([np.cos(towards), np.sin(towards), 0]) * tilt)[0] @ cv2.Rodrigues(np.array([0, 0, roll]))[0]  # fmt: skip
    lens = (float(u(-0.06, 0.05)), float(u(-0.02, 0.02))) if rng.random() < 0.6 else (0.0, 0.0)
    waves: list[tuple[float, Floats, float]] = []
    if rng.random() < (0.5 if bad else 0.3):
        names.append("waves")
        for high, long in (
            (u(0.5, 3.5 if bad else 1.5), u(1.3, 2.6)),
            *((u(0.05, 0.3), u(0.5, 1.0)) for _ in range(2)),
        ):
            way = u(0, 2 * np.pi)
            waves.append((float(high), np.array([np.cos(way), np.sin(way)]) * 2 * np.pi / (max(layout.size) * long), float(u(0, 6.28))))  # fmt: skip
    fill = float(u(0.28, 0.95) if bad else u(0.55, 0.95))
    finest = min(b.nozzle_pitch for b in layout.blocks if isinstance(b, MarksBlock))
    shift, middle = rng.normal(0, 0.015, 2), np.array(layout.size) / 2
    centre = np.array(size) / 2 + rng.normal(0, 15, 2)
    corners = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]]) * layout.size
    distance = focal * max(layout.size) / max(size)
    while True:
        distance *= 1.02
        camera = Camera(size, focal, np.asarray(turn), distance * np.array([*shift, 1.0]), middle, centre, lens, tuple(waves))  # fmt: skip
        seen = camera(corners)
        px = float(np.linalg.norm(np.diff(camera(np.array([middle, middle + (0, 1.0)])), axis=0)))
        inside = (seen > 10).all() and (seen < np.array(size) - 10).all()
        share = (np.ptp(seen, axis=0) / size).max()
        if inside and (share < fill or 0.98 * px * finest < (2.3 if bad else 3.0)):
            return camera, px


def printed(block: MarksBlock, faults: BlockTruth, rng: Rng, spread: float) -> tuple[Floats, Floats, Floats]:
    """Where each mark of a block is laid (n, 2) mm, how dense (n,), and how much of its length (n,); spread : one-sigma of its place, pitches."""
    number = {n: i for i, n in enumerate(block.numbers)}
    centre = mark_centres(block) + np.array(faults.shift_um) / 1000 + rng.normal(0, spread * block.nozzle_pitch, (block.nozzles, 2))  # fmt: skip
    dense, part = np.ones(block.nozzles), np.ones(block.nozzles)
    dense[[number[n] for n in faults.missing]] = 0
    for weak in faults.weak:
        (part if weak.broken else dense)[number[weak.nozzle]] = weak.ink
    for thrown in faults.deflected:
        centre[number[thrown.nozzle]] += np.array(thrown.offset_um) / 1000
        dense[number[thrown.nozzle]] *= min(thrown.ink, 1)
    return centre, dense, part


def canvas_for(block: MarksBlock | SolidBlock, faults: BlockTruth, shape: tuple[int, ...], scale: float, edge: list[float]) -> tuple[Bytes, tuple[slice, slice], Floats]:  # fmt: skip
    """A canvas round a block, empty but for a fill, the part (rows, columns) of the flat sheet that it is, and the mm from sheet to canvas."""
    box = extent(block)
    low = np.maximum(((np.array(box[:2]) - 1.5 + edge[:2]) * scale).astype(int), 0)
    high = np.minimum(((np.array(box[2:]) + 1.5 + edge[:2]) * scale).astype(int), shape[1::-1])
    canvas = np.zeros((high[1] - low[1], high[0] - low[0]), np.uint8)
    off = np.array(edge[:2]) - low / scale
    if isinstance(block, SolidBlock):
        _fill(canvas, scale, off, block, faults)
    return canvas, (slice(low[1], high[1]), slice(low[0], high[0])), off


def _fill(canvas: Bytes, scale: float, off: Floats, block: SolidBlock, faults: BlockTruth) -> None:
    """A fill and its light lines."""
    box = extent(block)
    (x0, y0), (x1, y1) = (np.rint((np.array(v) + off) * scale).astype(int) for v in (box[:2], box[2:]))
    canvas[y0:y1, x0:x1] = 255
    for line in faults.lines:
        top, foot = ((box[1] + line.y_mm + s * line.width_um / 2000 + off[1]) * scale for s in (-1, 1))
        canvas[round(top) : max(round(foot), round(top) + 1), x0:x1] = int(255 * (1 - line.contrast))


def _drops(canvas: Bytes, scale: float, off: Floats, block: MarksBlock, faults: BlockTruth, rng: Rng, drops: bool, satellites: bool) -> None:  # fmt: skip
    """One block's marks: each a chain of drops, or a bar."""
    centre, dense, part = printed(block, faults, rng, 0.05)
    wide = np.clip(rng.normal(1, 0.05, block.nozzles), 0.8, 1.2)

    def px(x: float, y: float) -> tuple[int, int]:
        return int((x + off[0]) * scale * 2**SHIFT), int((y + off[1]) * scale * 2**SHIFT)

    for i in np.flatnonzero(dense > 0):
        (x, y), thick, full = centre[i], block.mark[1] * wide[i], (int(255 * dense[i]),)
        long = block.mark[0] * part[i]
        left = x + rng.uniform(-1, 1) * (block.mark[0] - long) / 2 - long / 2
        if drops:
            count = max(2, int(long / (0.45 * thick)))
            for at in np.linspace(left + thick / 2, left + long - thick / 2, count):
                spot = px(at, y + rng.normal(0, 0.06 * thick))
                cv2.circle(canvas, spot, int(thick / 2 * scale * 2**SHIFT), full, -1, cv2.LINE_AA, SHIFT)
        else:
            ends = [px(left, y - thick / 2), px(left + long, y - thick / 2), px(left + long, y + thick / 2), px(left, y + thick / 2)]  # fmt: skip
            cv2.fillPoly(canvas, [np.array(ends, np.int32)], full, cv2.LINE_AA, SHIFT)
        if satellites and rng.random() < 0.3:
            spot = px(x + block.mark[0] / 2 + rng.uniform(0, 0.3), y + rng.normal(0, 0.03))
            cv2.circle(canvas, spot, int(0.018 * scale * 2**SHIFT), (160,), -1, cv2.LINE_AA, SHIFT)


def _sheet(layout: Layout, faults: dict[str, BlockTruth], backing: Backing, rng: Rng, bad: bool, scale: float, edge: list[float]) -> Singles:  # fmt: skip
    """The flat sheet's share of the light, `scale` pixels a mm, with `edge` mm of paper left, above, right and below."""
    w, h = layout.size
    shape = int((h + edge[1] + edge[3]) * scale), int((w + edge[0] + edge[2]) * scale)
    light = backing == "light"
    sheet = np.empty((*shape, 3), np.float32)
    sheet[:] = 0.81 + rng.normal(0, 0.02, 3) if light else 0.03
    if light:
        coarse = cv2.GaussianBlur(rng.standard_normal((shape[0] // 3 + 1, shape[1] // 3 + 1), dtype=np.float32), (0, 0), 0.03 * scale)  # fmt: skip
        sheet *= 1 + 0.02 * cv2.resize(coarse / coarse.std(), shape[::-1])[..., None]
    drops, satellites = bool(rng.random() < 0.5), bool(rng.random() < 0.4)
    most, bleed = float(rng.uniform(0.75, 1)), float(rng.uniform(0.008, 0.02))
    for block in layout.blocks:
        own = faults.get(block.id, BlockTruth())
        canvas, there, off = canvas_for(block, own, shape, scale, edge)
        if isinstance(block, MarksBlock) and not own.all_missing:
            _drops(canvas, scale, off, block, own, rng, drops, satellites)
        cover = cv2.GaussianBlur(canvas, (0, 0), bleed * scale + 0.3).astype(np.float32)[..., None] / 255 * most
        part, ink = sheet[there], ink_rgb(block.ink).astype(np.float32)
        if light:
            part *= 1 - cover * (1 - (ink if block.backing == "light" else np.float32(0.98)))
        else:
            part += cover * (0.75 * ink - part if block.backing == "dark" else 0.04 * ink)
    return _written(sheet, layout, rng, bad, scale, edge) if light else sheet


def _written(sheet: Singles, layout: Layout, rng: Rng, bad: bool, scale: float, edge: list[float]) -> Singles:
    """Words, a frame and pen strokes on the flat sheet."""
    (w, h), u = layout.size, rng.uniform

    def px(x: float, y: float) -> tuple[int, int]:
        return int((x + edge[0]) * scale), int((y + edge[1]) * scale)

    mask = np.zeros(sheet.shape[:2], np.uint8)
    for _ in range(int(rng.integers(0, 6))):
        text = "".join(rng.choice(list("aeinortslcudm ABCDE 0123456789.-:")) for _ in range(int(rng.integers(4, 40))))
        at = px(u(-edge[0], 0.7 * w), rng.choice([-u(2, edge[1]), h + u(3, edge[3])]))
        cv2.putText(mask, text, at, int(rng.choice([0, 2, 3, 4, 6])), u(0.04, 0.12) * scale, (255,), max(1, int(scale * u(0.1, 0.3))), cv2.LINE_AA)  # fmt: skip
    if rng.random() < 0.3:
        gap = u(1.2, 3)
        cv2.rectangle(mask, px(-gap, -gap), px(w + gap, h + gap), (255,), max(1, int(u(0.1, 0.4) * scale)), cv2.LINE_AA)
    sheet *= 1 - float(u(0.7, 0.95)) * mask.astype(np.float32)[..., None] / 255
    mask[:] = 0
    for _ in range(int(rng.integers(1, 4)) if rng.random() < (0.35 if bad else 0.15) else 0):
        ring = np.stack([np.cos(np.linspace(0, 6.5, 40)), u(0.4, 1) * np.sin(np.linspace(0, 6.5, 40))], axis=1) * u(
            1, 5
        )
        path = (u(0, w), u(0, h)) + (ring if rng.random() < 0.6 else np.cumsum(rng.normal(0, 0.6, (40, 2)), axis=0))
        cv2.polylines(mask, [np.array([px(*p) for p in path], np.int32)], False, (255,), max(1, int(0.35 * scale)), cv2.LINE_AA)  # fmt: skip
    pen = np.array([[0.05, 0.08, 0.4], [0.6, 0.04, 0.04], [0.03, 0.03, 0.03]], np.float32)[rng.integers(0, 3)]
    return np.asarray(sheet * (1 - (1 - pen) * mask.astype(np.float32)[..., None] / 255))


def _desk(h: int, w: int, rng: Rng, names: list[str]) -> Singles:
    """What the sheet lies on: even, patterned, or printed itself."""
    kind = str(rng.choice(DESKS))
    names.append(f"on {kind}")
    tone = rng.uniform(0.1, 0.75, 3) * 0.4 + rng.uniform(0.05, 0.45) if kind not in ("white", "lined", "letters") else np.full(3, 0.79)  # fmt: skip
    desk = np.empty((h, w, 3), np.float32)
    desk[:] = tone
    way, period = rng.uniform(0, np.pi), rng.uniform(14, 120)
    xs, ys = np.meshgrid(np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32))
    c, s = np.float32(np.cos(way)), np.float32(np.sin(way))
    along, across = xs * c + ys * s, ys * c - xs * s
    dark = float(rng.uniform(0.3, 0.85))
    if kind == "stripes":
        desk[along % period < 0.4 * period] *= dark
    elif kind == "checks":
        desk[(along // period + across // period) % 2 > 0] *= dark
    elif kind == "lined":
        desk[along % period < 3] *= dark
    elif kind == "letters":
        page = np.zeros((h, w), np.uint8)
        for y in range(30, h, int(rng.integers(34, 80))):
            cv2.putText(page, "".join(rng.choice(list("etaoin shrdlu cmfwyp")) for _ in range(240)), (0, y), 2, rng.uniform(0.6, 1.3), (255,), 2, cv2.LINE_AA)  # fmt: skip
        turned = cv2.warpAffine(page, cv2.getRotationMatrix2D((w / 2, h / 2), np.degrees(way), 1.4), (w, h), borderMode=cv2.BORDER_REFLECT)  # fmt: skip
        desk *= 1 - 0.85 * turned.astype(np.float32)[..., None] / 255
    elif kind in ("speckle", "wood"):
        rough = (h // 3 + 1, w // 3 + 1) if kind == "speckle" else (h // 120 + 2, w // 4)
        noise = cv2.resize(rng.standard_normal(rough, dtype=np.float32), (w, h), interpolation=cv2.INTER_CUBIC)
        desk *= np.clip(1 + float(rng.uniform(0.1, 0.35)) * noise, 0.1, 2)[..., None]
    return desk


def _light(h: int, w: int, rng: Rng, bad: bool, names: list[str]) -> Singles:
    """Two lamps near by of different colours, and what stands in their way."""
    u = rng.uniform
    ys, xs = np.mgrid[0:64, 0:64].astype(np.float32) / 63 - 0.5
    total = np.zeros((64, 64, 3), np.float32)
    for strength in (1.0, u(0, 0.7)):
        warm = (5500 - (u(2700, 8000) if bad else u(3800, 7000))) / 3000
        at, high = u(-1, 1, 2), u(0.7, 1.5) if bad else u(1.3, 3)
        near = (1 + ((xs - at[0]) ** 2 + (ys - at[1]) ** 2) / high**2) ** -1.5
        total += (near[..., None] * np.array([1 + 0.25 * warm, 1, 1 - 0.4 * warm]) * strength).astype(np.float32)
    if rng.random() < (0.5 if bad else 0.2):
        names.append("shadow")
        mask = np.zeros((64, 64), np.uint8)
        cv2.ellipse(
            mask, (int(u(0, 64)), int(u(0, 64))), (int(u(10, 30)), int(u(6, 18))), u(0, 180), 0, 360, (255,), -1
        )
        total *= 1 - float(u(0.25, 0.6)) * cv2.GaussianBlur(mask, (0, 0), u(1, 6)).astype(np.float32)[..., None] / 255
    total *= float(u(0.5, 0.95) if bad else u(0.7, 0.97)) / total.max()
    return np.asarray(cv2.resize(total, (w, h), interpolation=cv2.INTER_CUBIC), np.float32)


def _in_the_way(picture: Singles, rng: Rng, bad: bool, names: list[str]) -> Singles:
    """A lamp's reflection, and a finger."""
    h, w = picture.shape[:2]
    u = rng.uniform
    if rng.random() < (0.2 if bad else 0.06):
        names.append("gloss")
        ys, xs = np.mgrid[0:h:8, 0:w:8].astype(np.float32)
        r = u(0.04, 0.12) * w
        spot = np.exp(-(((xs - u(0.2, 0.8) * w) / r) ** 2 + ((ys - u(0.2, 0.8) * h) / (r * u(0.5, 2))) ** 2))
        picture += cv2.resize(spot.astype(np.float32), (w, h))[..., None] * float(u(0.1, 0.8))
    if rng.random() < (0.15 if bad else 0.04):
        names.append("finger")
        mask = np.zeros((h, w), np.uint8)
        edge = [(int(u(0, w)), 0), (w, int(u(0, h))), (int(u(0, w)), h), (0, int(u(0, h)))][int(rng.integers(0, 4))]
        tip = (int(0.75 * edge[0] + w / 8), int(0.75 * edge[1] + h / 8))
        cv2.line(mask, edge, tip, (255,), int(u(150, 350)), cv2.LINE_AA)
        over = cv2.GaussianBlur(mask, (0, 0), 5).astype(np.float32)[..., None] / 255
        picture = picture * (1 - over) + over * np.array([0.5, 0.32, 0.25], np.float32) * float(u(0.6, 1))
    return picture


def photograph(
    seed: int, grade: str, perfect: bool, keep: Path | None, draw: Callable[[Rng], Sheet] = draw_layout, world: str = "third", shot: Shot | None = None
) -> tuple[Sheet, dict[str, BlockTruth], tuple[str, ...], list[tuple[Backing, bytes]], Camera]:  # fmt: skip
    """A sheet of this world, its faults, what is hard about the photo, JPEG bytes per backing, and its camera."""
    bad = grade == "bad"
    rng = np.random.default_rng([seed, bad, perfect, 333])
    sheet = draw(rng)
    faults = _faults(sheet.layout, rng, bad, perfect)
    names: list[str] = []
    camera, px = draw_camera(sheet.layout, rng, bad, names)
    shown: list[tuple[Backing, bytes]] = []
    for backing in sorted({b.backing for b in sheet.layout.blocks}, reverse=True):
        kept = keep / f"{world}-{grade}-{seed}-{int(perfect)}-{backing}.jpg" if keep else None
        own = np.random.default_rng([seed, bad, 5, backing == "dark"])
        content = kept.read_bytes() if kept and kept.exists() else (shot or _shot)(sheet.layout, faults, camera, px, backing, own, bad, names)  # fmt: skip
        if kept:
            kept.write_bytes(content)
        shown.append((backing, content))
    return sheet, faults, tuple(names), shown, camera


def lesson(
    seed: int, draw: Callable[[Rng], Sheet] = draw_layout
) -> tuple[Sheet, list[tuple[Backing, bytes]], dict[str, BlockTruth], list[tuple[Backing, bytes]]]:
    """A sheet, a good print of it held upright, and the next print's faults and photos of any way round."""
    rng = np.random.default_rng([seed, 444])
    sheet = draw(rng)
    few = float(rng.choice([0, 0.01, 0.03]))
    good = {b.id: random_faults(b, rng, rate=few) if isinstance(b, MarksBlock) else BlockTruth() for b in sheet.layout.blocks}  # fmt: skip
    after = _faults(sheet.layout, rng, False, False)
    shown: list[list[tuple[Backing, bytes]]] = []
    for faults, upright in ((good, True), (after, False)):
        camera, px = draw_camera(sheet.layout, rng, False, [], upright)
        shown.append([(backing, _shot(sheet.layout, faults, camera, px, backing, rng, False, [])) for backing in sorted({b.backing for b in sheet.layout.blocks}, reverse=True)])  # fmt: skip
    return sheet, shown[0], after, shown[1]


def _faults(layout: Layout, rng: Rng, bad: bool, perfect: bool) -> dict[str, BlockTruth]:
    drawn = draw_faults(layout, rng, bad).values()
    return {b.id: _clean(draw, b, perfect, rng) for draw, b in zip(drawn, layout.blocks, strict=True)}


def _clean(faults: BlockTruth, block: MarksBlock | SolidBlock, perfect: bool, rng: Rng) -> BlockTruth:
    """White that prints, for over black it is all there is; and sometimes a run of neighbours gone."""
    if perfect:
        return BlockTruth(shift_um=faults.shift_um)
    if isinstance(block, SolidBlock):
        return faults
    gone: set[int] = set()
    if rng.random() < 0.15 and not faults.all_missing:
        first = int(rng.integers(0, block.nozzles))
        gone = set(block.numbers[first : first + int(rng.integers(2, 25))])
    left = {kind: tuple(f for f in getattr(faults, kind) if f.nozzle not in gone) for kind in ("weak", "deflected")}
    return faults.model_copy(update={**left, "missing": tuple(sorted({*faults.missing, *gone})), "all_missing": faults.all_missing and block.backing == "light"})  # fmt: skip


def _shot(layout: Layout, faults: dict[str, BlockTruth], camera: Camera, px: float, backing: Backing, rng: Rng, bad: bool, names: list[str]) -> bytes:  # fmt: skip
    """JPEG of one photograph."""
    w, h = camera.size
    edge = [float(v) for v in rng.uniform(4, 25, 4)]
    scale = float(np.clip(1.7 * px, 10, 5200 / (max(layout.size) + 50)))
    flat = cv2.GaussianBlur(_sheet(layout, faults, backing, rng, bad, scale, edge), (0, 0), max(0.35, 0.4 * scale / px))
    x, y = camera.sheet_at()
    seen = cv2.remap(flat, (x + edge[0]) * scale - 0.5, (y + edge[1]) * scale - 0.5, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)  # fmt: skip
    there = (x > -edge[0]) & (y > -edge[1]) & (x < layout.size[0] + edge[2]) & (y < layout.size[1] + edge[3])
    on = cv2.GaussianBlur(there.astype(np.float32), (0, 0), 0.7)[..., None]
    under = cv2.resize(cv2.GaussianBlur(cv2.resize(on, None, fx=0.125, fy=0.125), (0, 0), 1.5), (w, h))[..., None]
    picture = _desk(h, w, rng, names) * (1 - 0.4 * under) * (1 - on) + seen * on
    picture *= _light(h, w, rng, bad, names)
    shaded(picture, camera, x, y, px)
    return _phone(_in_the_way(picture, rng, bad, names), rng, bad, names)


def shaded(picture: Singles, camera: Camera, x: Singles, y: Singles, px: float) -> None:
    """Slopes of a waving sheet turn away from the lamp; x, y : sheet mm of each pixel."""
    if camera.waves:
        heights = camera.height(np.stack([x[::STEP, ::STEP], y[::STEP, ::STEP]], axis=-1).astype(float))
        slope = cv2.Sobel(heights.astype(np.float32), cv2.CV_32F, 1, 0) / 8 / STEP * px
        picture *= cv2.resize(np.clip(1 + 0.4 * slope, 0.7, 1.3), picture.shape[1::-1])[..., None]


def _phone(light: Singles, rng: Rng, bad: bool, names: list[str]) -> bytes:
    """JPEG of what a phone makes of it: focus that falls off, a shake, noise, its own colours, smoothing, contrast, sharpening."""
    h, w = light.shape[:2]
    u = rng.uniform
    base = u(0.6, 1.4) if bad else u(0.4, 1.0)
    near, far = (cv2.GaussianBlur(light, (0, 0), base + more) for more in (0.0, u(0, 0.9 if bad else 0.4)))
    ys, xs = np.mgrid[0:64, 0:64].astype(np.float32) / 63 - 0.5
    way = u(0, 2 * np.pi)
    blend = cv2.resize(np.clip(0.5 + 1.4 * (xs * np.cos(way) + ys * np.sin(way)), 0, 1).astype(np.float32), (w, h))[..., None]  # fmt: skip
    light = near * (1 - blend) + far * blend
    if rng.random() < (0.2 if bad else 0.05):
        names.append("shake")
        kernel = np.zeros((5, 5), np.float32)
        cv2.line(kernel, (0, int(u(0, 5))), (4, int(u(0, 5))), (1.0,))
        light = cv2.filter2D(light, -1, kernel / kernel.sum())
    noise = float(u(0.006, 0.02) if bad else u(0.002, 0.008))
    light += rng.standard_normal((h, w, 3), dtype=np.float32) * np.sqrt(np.maximum(light, 0) * 1.2 * noise**2 + (0.3 * noise) ** 2)  # fmt: skip
    white = np.quantile(light[::16, ::16].reshape(-1, 3), 0.95, axis=0)
    light *= (np.clip(1 / np.maximum(white, 1e-3), 0.5, 2) ** u(0, 1) * u(0.8, 0.97)).astype(np.float32)
    vivid = u(0, 0.25)
    light = np.clip(light @ (np.eye(3) * (1 + vivid) - vivid / 3).astype(np.float32), 0, 1)
    tone = np.linspace(0, 1, 4096) ** u(0.42, 0.5)
    tone = np.clip(tone + u(-0.05, 0.1) / np.pi * np.sin(2 * np.pi * (tone - 0.5)), 0, 1)
    space = cv2.cvtColor((tone * 255 + 0.5).astype(np.uint8)[(light * 4095).astype(np.uint16)], cv2.COLOR_RGB2YCrCb)
    luma = np.ascontiguousarray(space[..., 0])
    if rng.random() < 0.35:
        names.append("smoothed")
        luma = cv2.bilateralFilter(luma, 5, u(8, 22), 2)
    if rng.random() < 0.25:
        names.append("local contrast")
        luma = cv2.createCLAHE(u(1.0, 2.0), (8, 8)).apply(luma)
    sharper = luma.astype(np.float32)
    if rng.random() < 0.6:
        sharper += float(u(0.2, 1.3)) * (sharper - cv2.GaussianBlur(sharper, (0, 0), u(0.8, 2)))
    return developed(space, sharper, rng, 2.5, (50, 85) if bad else (78, 96))


def developed(space: Bytes, luma: Singles, rng: Rng, softest: float, quality: tuple[int, int]) -> bytes:
    """JPEG of a picture's luma and its colours, red and blue apart (YCrCb), which phones soften; its quality between two."""
    space[..., 0] = np.clip(luma, 0, 255).astype(np.uint8)
    for band in (1, 2):
        space[..., band] = cv2.GaussianBlur(np.ascontiguousarray(space[..., band]), (0, 0), rng.uniform(1, softest))
    how = [cv2.IMWRITE_JPEG_QUALITY, int(rng.integers(*quality))]
    return bytes(cv2.imencode(".jpg", cv2.cvtColor(space, cv2.COLOR_YCrCb2BGR), how)[1])
