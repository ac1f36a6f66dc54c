"""The simulated printer: lays dots of ink on paper or film and returns what the sheet reflects."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, SolidBlock, ink_rgb, mark_centres
from dusky_sieve.core.simulate.bands import chance, in_colour, lead, scale
from dusky_sieve.core.simulate.truth import BlockTruth, Scene

Floats = NDArray[np.float64]
Image = NDArray[np.float32]

DOT_STEP_MM = 0.03  # dots along one mark; near the addressability of ordinary heads
DARK_BACKING = 0.03  # reflectance of black card under film
FILM_HAZE = 0.015  # light that clear film scatters back
FIBRE = 0.006  # one sigma of paper's brightness
ROUGH_PX = 1024  # side of the piece of paper whose unevenness is drawn by chance
FULL_COVER = 0.95  # of the paper in a whole mark's middle
FILL_COVERAGE = 0.95  # of a fill's paper that ink hides


def print_sheet(
    layout: Layout,
    truth: dict[str, BlockTruth],
    *,
    backing: Backing,
    px_per_mm: float,
    scene: Scene,
    rng: np.random.Generator,
) -> Image:
    """Linear reflectance (rows, columns, 3) in 0..1 of the sheet lying on `backing`.

    Sheet point (x, y) mm lands at pixel ((x + margin) * px_per_mm - 0.5, ...). White ink shows over dark only.
    """
    margin_mm = scene.margin_mm
    width = int(np.ceil((layout.size[0] + 2 * margin_mm) * px_per_mm))
    height = int(np.ceil((layout.size[1] + 2 * margin_mm) * px_per_mm))
    ground = np.array(scene.paper) if backing == "light" else np.full(3, DARK_BACKING + FILM_HAZE + scene.haze)
    fine = 0.06 * px_per_mm + 0.5
    sheet = in_colour(
        _rough(height, width, fine, rng) if backing == "light" else np.ones((height, width), np.float32), ground
    )
    for block in layout.blocks:
        mass = _coverage(block, truth.get(block.id, BlockTruth()), (height, width), px_per_mm, scene, rng)
        if mass is None:
            continue
        (y0, x0), coverage = mass
        region = sheet[y0 : y0 + coverage.shape[0], x0 : x0 + coverage.shape[1]]
        ink = _shown(block.ink, block.backing, backing)
        if backing == "dark":
            lead(region, ink, np.minimum(coverage, 1))
        elif scene.ink_law == "coverage":
            covered = np.minimum(coverage, 1)
            scale(region, (1 + covered * band for band in (ink - 1).astype(np.float32)))
        else:  # Beer and Lambert: layers multiply
            layers = np.minimum(coverage, 1.6)
            scale(region, (np.exp(layers * band) for band in np.log(np.maximum(ink, 0.015)).astype(np.float32)))
    if scene.words:
        _write_words(sheet, px_per_mm, margin_mm, layout, backing)
    if scene.border:
        _draw_border(sheet, px_per_mm, margin_mm, layout, backing, rng)
    return sheet


def _rough(height: int, width: int, fine: float, rng: np.random.Generator) -> Image:
    """Paper's brightness (height, width) about 1: one piece of it, mirrored on and on, for nothing in a photo tells."""
    h, w = min(height, ROUGH_PX), min(width, ROUGH_PX)
    piece = cv2.GaussianBlur(chance((h, w), rng), (0, 0), fine)
    piece = 1 + FIBRE * (piece / (piece.std() + 1e-6))
    return np.asarray(cv2.copyMakeBorder(piece, 0, height - h, 0, width - w, cv2.BORDER_REFLECT), np.float32)


def _shown(ink: str, wanted: Backing, backing: Backing) -> Floats:
    """The ink's reflectance over this backing; a colour over black is a ghost, white over white is nothing."""
    colour = ink_rgb(ink)
    if backing == "light":
        return np.full(3, 0.985) if wanted == "dark" else np.maximum(colour, 0.015)
    return colour * 0.85 if wanted == "dark" else DARK_BACKING + FILM_HAZE + 0.05 * colour


def _dots(block: MarksBlock, faults: BlockTruth, scene: Scene, rng: np.random.Generator) -> tuple[Floats, Floats]:
    """Dot centres (n, 2) in mm and their weights (n,), where 1 is a whole mark's share."""
    number = {nozzle: i for i, nozzle in enumerate(block.numbers)}
    n = block.nozzles
    centre = mark_centres(block) + np.array(faults.shift_um) / 1000
    centre[:, 1] += rng.normal(0, scene.place_spread_um / 1000, n)
    centre[:, 0] += rng.normal(0, scene.place_spread_um / 1000, n)
    ink = np.clip(rng.normal(1.0, scene.ink_spread, n), 0.7, 1.3)
    kept_from, kept_to = np.zeros(n), np.ones(n)
    for nozzle in faults.missing:
        ink[number[nozzle]] = 0
    for mark in faults.weak:
        i = number[mark.nozzle]
        if mark.broken:
            start = rng.uniform(0, 1 - mark.ink)
            kept_from[i], kept_to[i] = start, start + mark.ink
        else:
            ink[i] = _layer(mark.ink, block, scene)
    for bent in faults.deflected:
        i = number[bent.nozzle]
        centre[i] += np.array(bent.offset_um) / 1000
        ink[i] *= _layer(bent.ink, block, scene) if bent.ink < 1 else bent.ink
    if faults.all_missing:
        ink[:] = 0
    length, thickness = block.mark
    run = max(length - thickness, 0.2 * length)
    count = max(3, round(run / DOT_STEP_MM))
    along = np.linspace(0, 1, count)
    rough = 1 + 2.5 * scene.ragged
    x = centre[:, :1] + (along - 0.5) * run + rng.normal(0, 0.004 * rough, (n, count))
    y = centre[:, 1:] + rng.normal(0, 0.006 * rough, (n, count))
    weight = np.broadcast_to(ink[:, None], (n, count)) * ((along >= kept_from[:, None]) & (along <= kept_to[:, None]))
    wobble = 0.15 + 0.35 * scene.ragged
    weight = weight * rng.uniform(1 - wobble, 1 + wobble, (n, count)) * (run / count)
    used = weight > 0
    dots, weight = np.stack([x[used], y[used]], axis=1), weight[used]
    if scene.ragged > 0:  # satellites: a small drop that lands late, a little further along travel
        late = rng.random(len(dots)) < 0.25 * scene.ragged
        dots = np.concatenate([dots, dots[late] + rng.normal((0.05, 0.0), (0.02, 0.02), (int(late.sum()), 2))])
        weight = np.concatenate([np.where(late, 0.9, 1.0) * weight, 0.1 * weight[late]])
    return dots, weight


def _layer(share: float, block: MarksBlock, scene: Scene) -> float:
    """How thick a layer takes this share of the light that a whole mark takes: where layers multiply, far less.

    Summed over the mark's profile across travel, whose foot is thinner than its middle.
    """
    if scene.ink_law == "coverage" or block.backing == "dark":
        return share
    through = float(np.maximum(ink_rgb(block.ink), 0.015).min())
    step = 0.002  # mm
    across = np.arange(-4 * _creep(scene) - block.mark[1] / 2, 4 * _creep(scene) + block.mark[1] / 2 + step, step)
    spread = np.exp(-0.5 * (np.arange(-4 * _creep(scene), 4 * _creep(scene) + step, step) / _creep(scene)) ** 2)
    cover = FULL_COVER * np.convolve(np.abs(across) <= block.mark[1] / 2, spread / spread.sum(), "same")
    layers = np.linspace(0, 1, 101)
    taken = (1 - through ** (layers[:, None] * cover)).sum(axis=1)
    return float(np.interp(share * taken[-1], taken, layers))


def _creep(scene: Scene) -> float:
    """How far ink spreads from where it landed, one sigma in mm."""
    return float(np.hypot(0.015, scene.bleed_um / 1000))


def _coverage(
    block: MarksBlock | SolidBlock,
    faults: BlockTruth,
    shape: tuple[int, int],
    px_per_mm: float,
    scene: Scene,
    rng: np.random.Generator,
) -> tuple[tuple[int, int], Image] | None:
    """Share of paper covered by the block's ink, with the top left pixel of that piece of the sheet."""
    margin_mm = scene.margin_mm
    if isinstance(block, SolidBlock):
        return _fill(block, faults, px_per_mm, scene, rng)
    dots, weight = _dots(block, faults, scene, rng)
    if len(dots) == 0:
        return None
    pad = 3 * max(block.mark[1], 1.0 / px_per_mm)
    x0, y0 = (max(0, int((v - pad + margin_mm) * px_per_mm)) for v in dots.min(axis=0))
    x1 = min(shape[1], int((dots[:, 0].max() + pad + margin_mm) * px_per_mm) + 1)
    y1 = min(shape[0], int((dots[:, 1].max() + pad + margin_mm) * px_per_mm) + 1)
    place = (dots + margin_mm) * px_per_mm - 0.5 - (x0, y0)
    inside = (place[:, 0] >= 0) & (place[:, 1] >= 0) & (place[:, 0] < x1 - x0 - 1) & (place[:, 1] < y1 - y0 - 1)
    place, weight = place[inside], weight[inside]
    cell = np.floor(place).astype(int)
    part = place - cell
    mass = np.zeros((y1 - y0, x1 - x0))
    for dx in (0, 1):
        for dy in (0, 1):
            share = np.abs(1 - dx - part[:, 0]) * np.abs(1 - dy - part[:, 1])
            np.add.at(mass, (cell[:, 1] + dy, cell[:, 0] + dx), share * weight)
    # A line of `weight` per mm, one mark thick: spread evenly over the thickness it covers the paper once.
    creep = _creep(scene)
    blunt = cv2.getGaussianKernel(2 * int(px_per_mm * 3 * creep + 2) + 1, max(0.35, creep * px_per_mm))
    thick = block.mark[1] * px_per_mm
    reach = int(thick / 2 + 1)
    bar = np.clip(thick / 2 + 0.5 - np.abs(np.arange(-reach, reach + 1)), 0, 1)
    bar = np.convolve(bar / bar.sum(), blunt[:, 0])
    coverage = cv2.sepFilter2D(mass, -1, blunt, bar) * px_per_mm**2 * block.mark[1]
    return (y0, x0), (FULL_COVER * coverage).astype(np.float32)


def _fill(
    block: SolidBlock, faults: BlockTruth, px_per_mm: float, scene: Scene, rng: np.random.Generator
) -> tuple[tuple[int, int], Image]:
    """Coverage of a solid fill with its light lines, and its top left pixel."""
    x0, y0 = (int(round((v + scene.margin_mm) * px_per_mm)) for v in block.origin)
    w, h = (max(1, int(round(v * px_per_mm))) for v in block.size)
    y = (np.arange(h * 8) + 0.5) / 8 / px_per_mm
    ink = np.ones(h * 8)
    for line in faults.lines:
        ink[np.abs(y - line.y_mm) < line.width_um / 2000] *= 1 - line.contrast
    soft = cv2.GaussianBlur(ink.reshape(1, -1), (0, 0), 8 * px_per_mm * np.hypot(0.012, scene.bleed_um / 1000))
    rows = soft.reshape(h, 8).mean(axis=1)
    grain = cv2.GaussianBlur(chance((h, w), rng), (0, 0), 1.0)
    return (y0, x0), (FILL_COVERAGE * rows[:, None] * (1 + 0.05 * (1 + 2 * scene.ragged) * grain)).astype(np.float32)


def _write_words(sheet: Image, px_per_mm: float, margin_mm: float, layout: Layout, backing: Backing) -> None:
    """A heading above and a number below the pattern, as printers add them."""
    if margin_mm < 6:
        return
    left, above, below = (round(v * px_per_mm) for v in (margin_mm, margin_mm - 3, margin_mm + layout.size[1] + 5))
    thick = max(1, round(px_per_mm * 0.25))
    for text, y, size in ((layout.name[:40], above, 0.1), ("Sheet 0421  p. 1", below, 0.08)):
        tall = round(px_per_mm * size * 40)  # above and below the base line: more than any letter
        top = max(0, y - tall)
        strip = sheet[top : y + tall]
        mask = np.zeros(strip.shape[:2], np.uint8)
        cv2.putText(mask, text, (left, y - top), cv2.FONT_HERSHEY_SIMPLEX, px_per_mm * size, (255,), thick, cv2.LINE_AA)
        _draw(strip, mask, backing, 0.9, 3.0)


def _draw_border(
    sheet: Image, px_per_mm: float, margin_mm: float, layout: Layout, backing: Backing, rng: np.random.Generator
) -> None:
    """A frame round the pattern, rules and small numbers beside it, where there is room."""
    gap = 0.4 * margin_mm
    thick = max(1, round(px_per_mm * float(rng.uniform(0.1, 0.35))))
    mask = np.zeros(sheet.shape[:2], np.uint8)

    def px(x: float, y: float) -> tuple[int, int]:
        return round((x + margin_mm) * px_per_mm), round((y + margin_mm) * px_per_mm)

    w, h = layout.size
    cv2.rectangle(mask, px(-gap, -gap), px(w + gap, h + gap), (255,), thick, cv2.LINE_AA)
    for k in range(int(rng.integers(0, 12))):
        y = float(rng.uniform(0, h))
        cv2.putText(mask, f"{k * 7 + 3}", px(-0.3 * margin_mm, y), cv2.FONT_HERSHEY_SIMPLEX, px_per_mm * 0.05, (255,), max(1, thick // 2), cv2.LINE_AA)  # fmt: skip
    for at in rng.uniform(0, w, int(rng.integers(0, 20))):
        cv2.line(mask, px(float(at), h + 0.1 * margin_mm), px(float(at), h + 0.25 * margin_mm), (255,), thick, cv2.LINE_AA)  # fmt: skip
    _draw(sheet, mask, backing, 0.85, 2.5)


def _draw(sheet: Image, mask: NDArray[np.uint8], backing: Backing, ink: float, glow: float) -> None:
    """Darkens a sheet in place where a mask (0 to 255) covers it, by a share; over black it glows instead, so many times."""
    drawn = np.nonzero(mask)
    sheet[drawn] *= (1 - mask[drawn] / 255 * ink)[:, None] if backing == "light" else glow
