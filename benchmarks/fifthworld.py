"""A fifth world: the layouts of all others, on pages that carry other prints, in ink that goes through and through.

Marks are chains of drops of ragged density, and ink takes of what light its own share again and again (Beer's law), so that half
the ink takes far more than half the light. Round the pattern stand texts, tables, codes, dashed lines and flights of steps that are no
part of it. The sensor sees one colour a pixel; lenses leave fringes, phones take noise for detail and sharpen both. The camera's geometry is
the third world's. Seeds from 200 on are held out.
"""

import cv2
import numpy as np
from numpy.typing import NDArray

from benchmarks import fourthlayouts, thirdlayouts, worlds
from benchmarks.fifthdesks import desk
from benchmarks.thirdworld import Camera, canvas_for, developed, printed, shaded
from benchmarks.worlds import Sheet
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, ink_rgb
from dusky_sieve.core.simulate import BlockTruth

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bytes = NDArray[np.uint8]
Rng = np.random.Generator
PAPERS = ((0.84, 0.83, 0.80), (0.80, 0.82, 0.86), (0.86, 0.80, 0.70), (0.78, 0.78, 0.78))
PRINTS = ("text", "bars", "lines", "gradient", "table", "code", "picture", "title", "steps", "dashes")
BLACKEST = 0.02  # of light, that the darkest ink lets pass
SHIFT = 4  # bits of a pixel in which OpenCV's outlines are given


def draw_sheet(rng: Rng) -> Sheet:
    """A layout of any other world."""
    kind = rng.random()
    if kind < 0.4:
        return worlds.draw_sheet(rng)
    return thirdlayouts.draw_layout(rng) if kind < 0.7 else fourthlayouts.draw_layout(rng)


def _cloudy(shape: tuple[int, ...], rng: Rng, cell_px: float, much: float) -> Singles:
    """Factors about 1 (rows, columns) that change from cell to cell."""
    cells = rng.standard_normal(tuple(max(2, int(side / cell_px) + 2) for side in shape[:2]), dtype=np.float32)
    return np.asarray(1 + much * cv2.resize(cells, shape[1::-1], interpolation=cv2.INTER_CUBIC), np.float32)


def _drops(canvas: Bytes, scale: float, off: Floats, block: MarksBlock, faults: BlockTruth, rng: Rng, dot: float, tails: bool) -> None:  # fmt: skip
    """One block's marks, each a chain of drops of `dot` mark thicknesses; some leave a satellite."""
    centre, dense, part = printed(block, faults, rng, 0.04)
    for i in np.flatnonzero(dense > 0):
        long, thick = block.mark[0] * part[i], block.mark[1] * float(np.clip(rng.normal(1, 0.06), 0.8, 1.2))
        left = centre[i, 0] - long / 2 + rng.uniform(-1, 1) * (block.mark[0] - long) / 2
        wide = thick * dot
        count = max(2, int(long / max(wide / 2, 1.2 / scale)))
        x = np.linspace(left + wide / 2, left + long - wide / 2, count) + rng.normal(0, 0.08 * wide, count)
        y = centre[i, 1] + rng.normal(0, 0.07 * wide, count) + rng.uniform(-1, 1, count) * (thick - wide) / 2
        ink = np.clip(255 * dense[i] * rng.normal(1, 0.08, count), 0, 255)
        if tails and rng.random() < 0.25:
            x, y, ink = np.append(x, left + long + rng.uniform(0.03, 0.35)), np.append(y, centre[i, 1]), np.append(ink, 130)  # fmt: skip
        spots = (np.stack([x + off[0], y + off[1]], axis=1) * scale * 2**SHIFT).astype(int).tolist()
        for k, (spot, amount) in enumerate(zip(spots, ink.astype(int).tolist(), strict=True)):
            half = wide / 2 if k < count else 0.02
            cv2.circle(canvas, spot, int(half * scale * 2**SHIFT), (amount,), -1, cv2.LINE_AA, SHIFT)


def _page(layout: Layout, faults: dict[str, BlockTruth], backing: Backing, rng: Rng, scale: float, edge: list[float], names: list[str]) -> Singles:  # fmt: skip
    """The flat page's share of the light, `scale` pixels a mm, with `edge` mm of paper left, above, right and below."""
    shape = int((layout.size[1] + edge[1] + edge[3]) * scale), int((layout.size[0] + edge[0] + edge[2]) * scale)
    light, u = backing == "light", rng.uniform
    page = np.empty((*shape, 3), np.float32)
    page[:] = PAPERS[int(rng.integers(len(PAPERS)))] if light else 0.035
    if light:
        page *= (_cloudy(shape, rng, 0.25 * scale, 0.012) * _cloudy(shape, rng, 20 * scale, 0.02))[..., None]
    dot, tails, most, bleed, ring = u(0.6, 1.0), rng.random() < 0.4, u(0.7, 1), u(0.006, 0.022), rng.random() < 0.3
    for block in layout.blocks:
        own = faults.get(block.id, BlockTruth())
        canvas, there, off = canvas_for(block, own, shape, scale, edge)
        if isinstance(block, MarksBlock) and not own.all_missing:
            _drops(canvas, scale, off, block, own, rng, float(dot), tails)
        amount = cv2.GaussianBlur(canvas, (0, 0), bleed * scale + 0.3).astype(np.float32) / 255
        if ring:  # ink gathers at a mark's rim
            amount = np.clip(1.15 * amount - 0.15 * cv2.GaussianBlur(amount, (0, 0), 2), 0, 1)
        amount = np.clip(amount * np.float32(most) * _cloudy(amount.shape, rng, 0.06 * scale, 0.08), 0, 1)[..., None]
        part, ink = page[there], ink_rgb(block.ink).astype(np.float32)
        if light:
            part *= np.maximum(ink if block.backing == "light" else np.float32(0.98), BLACKEST) ** amount
        else:
            part += amount * (0.75 * ink - part if block.backing == "dark" else 0.04 * ink)
    if light:
        _printed_round(page, layout, rng, scale, edge, names)
    return page


def _printed_round(page: Singles, layout: Layout, rng: Rng, scale: float, edge: list[float], names: list[str]) -> None:
    """What else the page carries, none of it nearer than 2.5 mm."""
    (w, h), gap = layout.size, rng.uniform(2.5, 6)
    mask, dark = np.zeros(page.shape[:2], np.uint8), np.float32(rng.uniform(0.05, 0.3))
    for left, top, right, foot in (
        (-edge[0], -edge[1], w + edge[2], -gap), (-edge[0], h + gap, w + edge[2], h + edge[3]), (-edge[0], 0, -gap, h),
        (w + gap, 0, w + edge[2], h),
    ):  # fmt: skip
        if min(right - left, foot - top) < 4 or rng.random() < 0.45:
            continue
        kind = str(rng.choice(PRINTS))
        names.append(f"page {kind}")
        part = np.s_[max(int((top + edge[1] + 1) * scale), 0) : int((foot + edge[1] - 1) * scale), max(int((left + edge[0] + 1) * scale), 0) : int((right + edge[0] - 1) * scale)]  # fmt: skip
        if kind in ("gradient", "picture"):
            _tinted(page[part], kind, rng, scale)
        else:
            _lettered(mask[part], kind, rng, scale)
    page *= 1 - (1 - dark) * mask.astype(np.float32)[..., None] / 255


def _tinted(part: Singles, kind: str, rng: Rng, scale: float) -> None:
    """A bar that fades, or a picture, in a part of the page."""
    part = part[: int(12 * scale)]
    if min(part.shape[:2]) > 8:
        cells = np.linspace(1, 0.1, 9)[None, :, None] * rng.uniform(0.3, 1, 3) if kind == "gradient" else rng.random((6, 9, 3))  # fmt: skip
        part *= np.clip(cv2.resize(cells.astype(np.float32), part.shape[1::-1], interpolation=cv2.INTER_CUBIC), 0.03, 1)


def _lettered(part: Bytes, kind: str, rng: Rng, scale: float) -> None:
    """Something printed in one colour in a part of the page."""
    (h, w), u, thin = part.shape, rng.uniform, max(1, int(0.12 * scale))
    if kind == "text":
        size = u(0.05, 0.11) * scale
        for y in range(int(2 * scale), h, max(int(32 * size), 8)):
            words = "".join(rng.choice(list("etaoin shrdlu cmfwyp"), int(rng.integers(10, 120))))
            cv2.putText(part, words, (0, y), int(rng.choice([0, 2, 3])), size, (255,), thin, cv2.LINE_AA)
    elif kind == "title":
        cv2.putText(
            part, "TEST 12", (0, min(h, int(12 * scale))), 0, 0.35 * scale, (255,), max(1, int(scale)), cv2.LINE_AA
        )
    elif kind in ("bars", "code"):
        x, high = 0.0, int(9 * scale)
        while x < w:
            wide = thin if kind == "bars" else u(0.2, 0.9) * scale
            part[:high, int(x) : int(x + wide)] = 255
            x += wide + u(0.3, 1.2) * scale
    elif kind == "steps":
        for k in range(int(w / scale / 2)):
            cv2.line(part, (int(2 * k * scale), int(0.1 * k * scale)), (int((2 * k + 1.7) * scale), int(0.1 * k * scale)), (255,), thin)  # fmt: skip
    else:  # lines, dashes, a table
        step = {"lines": u(0.6, 2), "dashes": u(0.8, 2.5), "table": 4.0}[kind] * scale
        for y in np.arange(0, h, step):
            part[int(y) : int(y) + thin] = 255
        if kind == "dashes":
            part[:, (np.arange(w) / scale) % 2.4 > 1.6] = 0
        elif kind == "table":
            for x in np.arange(0, w, 14 * scale):
                part[:, int(x) : int(x) + thin] = 255


def _lamp(h: int, w: int, rng: Rng, bad: bool, names: list[str]) -> Singles:
    """One lamp near by, blinds or a hand before it, and a lens that darkens the corners."""
    u = rng.uniform
    ys, xs = np.mgrid[0:192, 0:192].astype(np.float32) / 191 - 0.5
    warm = (5500 - (u(2700, 8000) if bad else u(3600, 7000))) / 3000
    at, high = u(-1, 1, 2), u(0.7, 1.4) if bad else u(1.3, 3)
    light = (1 + ((xs - at[0]) ** 2 + (ys - at[1]) ** 2) / high**2)[..., None] ** -1.5 * (1 + 0.28 * warm, 1, 1 - 0.38 * warm)  # fmt: skip
    if rng.random() < (0.35 if bad else 0.12):
        names.append("blinds")
        way, wave = u(0, np.pi), u(0.08, 0.35)
        stripes = np.sin(2 * np.pi * (xs * np.cos(way) + ys * np.sin(way)) / wave) * u(0.5, 2) + 0.5
        light *= (1 - u(0.1, 0.45) * np.clip(stripes, 0, 1))[..., None]
    if rng.random() < (0.45 if bad else 0.2):
        names.append("shadow")
        hand = cv2.convexHull(rng.integers(-20, 210, (5, 2)).astype(np.int32))
        shade = cv2.fillConvexPoly(np.zeros((192, 192), np.uint8), hand, (255,))
        light *= 1 - u(0.2, 0.6) * cv2.GaussianBlur(shade, (0, 0), u(0.8, 9))[..., None] / 255
    light *= 1 - u(0, 0.7) * (xs**2 + ys**2)[..., None]
    light *= u(0.55, 0.95) / light.max()
    return np.asarray(cv2.resize(light.astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC), np.float32)


def _sensed(light: Singles, rng: Rng, bad: bool, names: list[str]) -> Singles:
    """What a sensor of one colour a pixel makes of light through a lens that shakes and parts colours."""
    h, w = light.shape[:2]
    u = rng.uniform
    light = np.asarray(cv2.GaussianBlur(light, (0, 0), u(0.5, 1.25) if bad else u(0.35, 0.8)), np.float32)
    if rng.random() < 0.25:
        names.append("motion")
        kernel = np.zeros((4, 4), np.float32)
        cv2.line(kernel, (0, int(u(0, 4))), (3, int(u(0, 4))), (1.0,))
        light = np.asarray(cv2.filter2D(light, -1, kernel / kernel.sum()), np.float32)
    if rng.random() < 0.5:
        names.append("fringes")
        wider = u(0.0002, 0.0007)
        for band, z in ((0, 1 + wider), (2, 1 - wider)):
            grown = np.array([[z, 0, w / 2 * (1 - z)], [0, z, h / 2 * (1 - z)]])
            light[..., band] = cv2.warpAffine(np.ascontiguousarray(light[..., band]), grown, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
    raw, noise = np.empty((h, w), np.float32), float(u(0.005, 0.016) if bad else u(0.0015, 0.006))
    for y, x, band in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
        raw[y::2, x::2] = light[y::2, x::2, band]
    raw += rng.standard_normal((h, w), dtype=np.float32) * np.sqrt(np.maximum(raw, 0) * 1.3 * noise**2 + (0.3 * noise) ** 2)  # fmt: skip
    how = cv2.COLOR_BayerBG2RGB_EA if rng.random() < 0.6 else cv2.COLOR_BayerBG2RGB
    return np.asarray(cv2.cvtColor((np.clip(raw, 0, 1) * 60000).astype(np.uint16), how), np.float32) / 60000


def _phone(light: Singles, rng: Rng, bad: bool, names: list[str]) -> bytes:
    """JPEG of what a phone makes of it: white balance, a tone curve, less noise, local contrast, sharpening, blurred colours."""
    u = rng.uniform
    light = _sensed(light, rng, bad, names)
    white = np.quantile(light[::16, ::16].reshape(-1, 3), 0.93, axis=0)
    gain = np.clip(1 / np.maximum(white, 1e-3), 0.5, 3) ** u(0.1, 1)
    light = np.clip(light * (gain * u(0.85, 1) / max(0.4 * gain.mean(), float((white * gain).max()))).astype(np.float32), 0, 1)  # fmt: skip
    tone = np.linspace(0, 1, 4096) ** (1 / 2.2)
    tone = np.clip(tone - u(0, 0.12) * np.sin(2 * np.pi * tone) / np.pi, 0, 1)
    space = cv2.cvtColor((tone * 255 + 0.5).astype(np.uint8)[(light * 4095).astype(np.uint16)], cv2.COLOR_RGB2YCrCb)
    luma = np.ascontiguousarray(space[..., 0])
    if rng.random() < 0.4:
        names.append("denoised")
        luma = cv2.fastNlMeansDenoising(luma, None, float(u(2, 5)), 3, 7) if rng.random() < 0.3 else cv2.bilateralFilter(luma, 5, u(6, 20), 1.5)  # fmt: skip
    if rng.random() < 0.3:
        names.append("local contrast")
        luma = cv2.createCLAHE(u(1, 2.2), (6, 6)).apply(luma)
    sharper = luma.astype(np.float32)
    sharper += float(u(0.2, 1.6)) * (sharper - cv2.GaussianBlur(sharper, (0, 0), u(0.8, 1.8)))
    return developed(space, sharper, rng, 3, (50, 85) if bad else (75, 96))


def shot(layout: Layout, faults: dict[str, BlockTruth], camera: Camera, px: float, backing: Backing, rng: Rng, bad: bool, names: list[str]) -> bytes:  # fmt: skip
    """JPEG of one photograph."""
    (w, h), u = camera.size, rng.uniform
    edge = [float(v) for v in rng.uniform(6, 45, 4)]
    scale = float(np.clip(1.8 * px, 10, 5000 / (max(layout.size) + 90)))
    flat = cv2.GaussianBlur(
        _page(layout, faults, backing, rng, scale, edge, names), (0, 0), max(0.35, 0.4 * scale / px)
    )
    x, y = camera.sheet_at()
    seen = cv2.remap(flat, (x + edge[0]) * scale - 0.5, (y + edge[1]) * scale - 0.5, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
    there = (x > -edge[0]) & (y > -edge[1]) & (x < layout.size[0] + edge[2]) & (y < layout.size[1] + edge[3])
    on = cv2.GaussianBlur(there.astype(np.float32), (0, 0), 0.8)[..., None]
    under = cv2.resize(cv2.GaussianBlur(cv2.resize(there.astype(np.float32), None, fx=0.1, fy=0.1), (0, 0), u(0.5, 3)), (w, h))  # fmt: skip
    under = cv2.warpAffine(under, np.array([[1, 0, u(-25, 25)], [0, 1, u(-25, 25)]]), (w, h))[..., None]
    picture = desk(h, w, rng, names) * (1 - 0.5 * under) * (1 - on) + seen * on
    if rng.random() < 0.3:
        names.append("creases")
        for _ in range(int(rng.integers(1, 4))):
            way = u(0, np.pi)
            from_fold = x * np.cos(way) + y * np.sin(way) - u(0.1, 0.9) * max(layout.size)
            fold = np.tanh(from_fold / u(1, 6)) * np.exp(-np.abs(from_fold) / u(6, 30))
            picture *= 1 - on * u(0.04, 0.16) * fold[..., None]
    picture = np.asarray(picture * _lamp(h, w, rng, bad, names), np.float32)
    shaded(picture, camera, x, y, px)
    return _phone(picture, rng, bad, names)
