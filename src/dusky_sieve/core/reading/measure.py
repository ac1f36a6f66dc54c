"""Measuring every mark of a block: how much ink, and how far from its place."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, clear_height, clear_width, ink_rgb, mark_centres
from dusky_sieve.core.reading.registration import Registration, project

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

MOST_ALONG, MOST_ACROSS = 32, 35  # samples of a mark's patch; more cost time and tell nothing new
ROWS_AT_ONCE = 30_000  # OpenCV's remap takes no taller picture than 32,767 rows
SEEN_FROM = 3.5  # of the noise in a whole window, from which a best match is a mark and not luck
FAR_BESIDES = 2.5  # the same on top, two pitches from its place: a gap is likelier than a faint far throw
MOST_GRAIN = 4.0  # measured noise over the sensor's own; beyond it neighbours leak into the window
LEAST_NOISE = 0.008  # ink share; compression can flatten a band's noise to nothing and hide ink with it
MOST_DRIFT = 0.15  # of a strong mark's peak: ground that drifts across a patch; more is ink
GLARE_LEVEL = 253  # all three bands this high: the sensor is full and ink cannot show
GLARE_SHARE = 0.25  # of a patch under glare, beyond which the mark is not judged

_CODES = np.arange(256) / 255.0
LINEAR = np.where(_CODES <= 0.04045, _CODES / 12.92, ((_CODES + 0.055) / 1.055) ** 2.4).astype(np.float32)


@dataclass(frozen=True)
class Patches:
    """Ink share round every mark of a block, in sheet directions.

    ink : (n, across, along, 3) share of light taken (light) or added (dark)
    across, along : sample places in mm from the predicted centre, along y and along x
    noise : (3,) one-sigma of bare ground, per band
    seen : (n,) the patch lies inside the photo
    glare : (n,) share of the patch where the sensor is full
    """

    ink: Singles
    across: Floats
    along: Floats
    noise: Floats
    seen: Bools
    glare: Floats


@dataclass(frozen=True)
class MarkMeasures:
    """What was measured of a block's marks, in their order.

    ink : (n,) as a share of the block's typical mark; ink_sigma : (n,)
    offset : (n, 2) mm found minus predicted (x, y), x as far as both ends agree; centroid_x : (n,) the same from
    both ends' mean, for registration; offset_sigma : (n, 2). NaN where next to nothing printed
    judged : (n,) False where the frame's edge or glare hides the mark
    glare, outside : (n,) why not
    printing : share of the marks that carry ink
    strength : the typical mark's peak ink share, about 0..1 of the ink's own colour; sharpness : its width, mm
    """

    ink: Floats
    ink_sigma: Floats
    offset: Floats
    centroid_x: Floats
    offset_sigma: Floats
    judged: Bools
    glare: Bools
    outside: Bools
    printing: float
    strength: float


def cut_patches(
    photo: Photo,
    block: MarksBlock,
    registration: Registration,
    backing: Backing,
    rows: NDArray[np.int64] | None = None,
) -> Patches:
    """Samples the photo round each mark (or the marks of `rows`), local ground divided out."""
    centres = mark_centres(block)
    if rows is not None:
        centres = centres[rows]
    scale = registration.px_per_mm(centres.mean(axis=0))
    reach_y = 0.5 * clear_height(block)
    reach_x = block.mark[0] / 2 + max(0.5 * clear_width(block), 1.5 / scale)
    ny = int(np.clip(2 * reach_y * scale * 1.2, 9, MOST_ACROSS)) | 1
    nx = int(np.clip(2 * reach_x * scale * 0.8, 7, MOST_ALONG)) | 1
    across, along = np.linspace(-reach_y, reach_y, ny), np.linspace(-reach_x, reach_x, nx)
    grid = np.stack(np.meshgrid(along, across), axis=-1).reshape(-1, 2)
    n = len(centres)
    where = registration.displaced(centres)[:, None, :] + grid[None]
    place = project(registration.homography, where.reshape(-1, 2)).astype(np.float32).reshape(n * ny, nx, 2)
    inside = ((place >= 0) & (place <= np.array([photo.shape[1] - 1, photo.shape[0] - 1]))).all(axis=2)
    parts = [
        cv2.remap(
            photo,
            place[i : i + ROWS_AT_ONCE, :, 0],
            place[i : i + ROWS_AT_ONCE, :, 1],
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )
        for i in range(0, n * ny, ROWS_AT_ONCE)
    ]
    codes = np.concatenate(parts).reshape(n, ny, nx, 3)
    full = (codes >= GLARE_LEVEL).all(axis=3).reshape(n, -1).mean(axis=1)
    light = LINEAR[codes]
    ground = _ground(light, block, reach_y, backing)
    ink = (1 - light / ground[:, None, None, :]) if backing == "light" else (light - ground[:, None, None, :])
    seen = np.asarray(inside.reshape(n, -1).all(axis=1), bool)
    return Patches(ink.astype(np.float32), across, along, _noise(ink), seen, full)


def _ground(light: Singles, block: MarksBlock, reach_y: float, backing: Backing) -> Singles:
    """Bare paper (or backing) of each patch, (n, 3): a quantile that the mark itself cannot reach."""
    share = min(0.75, 1.4 * block.mark[1] / (2 * reach_y))
    flat = light.reshape(len(light), -1, 3)
    quantile = 1 - 0.5 * (1 - share)
    if backing == "dark":
        quantile = 1 - quantile
    k = int(quantile * (flat.shape[1] - 1))
    ground = np.partition(flat, k, axis=1)[:, k]
    return np.maximum(ground, 1e-3)


def _noise(ink: Singles) -> Floats:
    """One-sigma per band of bare ground: from differences of neighbouring samples, which marks hardly touch."""
    steps = np.abs(np.diff(ink[:, :, ::2], axis=2)).reshape(-1, 3)
    grain = 1.4826 * np.median(steps[:: max(1, len(steps) // 20000)], axis=0) / np.sqrt(2)
    return np.asarray(np.hypot(grain, LEAST_NOISE))


def ink_weights(patches: Patches, block: MarksBlock, backing: Backing) -> tuple[Floats, float]:
    """Weights (3,) that turn three bands into one ink share with least noise, and the share of printing marks.

    The colour is measured on the strongest marks; where hardly any print, the layout's hint stands in.
    """
    hint = np.clip(1 - ink_rgb(block.ink), 0.02, 1) if backing == "light" else np.clip(ink_rgb(block.ink), 0.02, 1)
    core = _core(patches, block)
    guess = hint / patches.noise**2 / ((hint / patches.noise) ** 2).sum()
    share = core @ guess
    limit = 0.5 * np.quantile(share, 0.9)
    strong = share > max(limit, 0.12)
    printing = float((share > max(0.3 * np.quantile(share, 0.95), 0.08)).mean())
    colour = hint
    if strong.sum() >= 6:
        colour = np.clip(np.median(core[strong], axis=0), 0.0, 1)
        similar = float(colour @ hint / (np.linalg.norm(colour) * np.linalg.norm(hint) + 1e-9))
        colour = colour if similar > 0.75 and colour.max() > 0.02 else hint
        colour = colour / np.linalg.norm(colour) * np.linalg.norm(hint)
    return np.asarray(colour / patches.noise**2 / ((colour / patches.noise) ** 2).sum()), printing


def _core(patches: Patches, block: MarksBlock) -> Floats:
    """Mean ink (n, 3) in the best of the rows within reach, along the middle of each mark."""
    middle = np.abs(patches.along) <= 0.4 * block.mark[0]
    rows = patches.ink[:, :, middle].mean(axis=2)
    best = rows.sum(axis=2).argmax(axis=1)
    return np.asarray(rows[np.arange(len(rows)), best], np.float64)


def measure_block(
    photo: Photo,
    block: MarksBlock,
    registration: Registration,
    backing: Backing,
    *,
    expected_strength: float,
    rows: NDArray[np.int64] | None = None,
) -> MarkMeasures:
    """Ink and offset of each mark against the block's own typical mark.

    expected_strength
        Peak ink share a printing mark of this photo's sharpness has, from the other blocks; judges a block
        that prints next to nothing.
    """
    patches = cut_patches(photo, block, registration, backing, rows)
    weights, printing = ink_weights(patches, block, backing)
    share = patches.ink @ weights.astype(np.float32)
    noise = float(np.sqrt(((weights * patches.noise) ** 2).sum()))
    inner = np.abs(patches.along) <= max(0.42 * block.mark[0], abs(patches.along[0] - patches.along[1]))
    profile = _flattened(np.asarray(share[:, :, inner].mean(axis=2), np.float64), block, patches.across)
    along_noise = noise / np.sqrt(max(1.0, inner.sum() * 0.6))
    template, strength = _typical_profile(profile, patches.across, block, printing, expected_strength)
    amount, sigma, dy, dy_sigma = _match(profile, template, patches.across, along_noise, block.nozzle_pitch)
    dx, centre_x, dx_sigma = _ends(share, patches, block, dy, amount, noise)
    hidden = patches.glare > GLARE_SHARE
    level = _typical_level(amount, printing, patches.seen & ~hidden)
    sigma /= level
    printed = amount / level > 0.1
    offset = np.where(printed[:, None], np.stack([dx, dy], axis=1), np.nan)
    spread = np.where(printed[:, None], np.stack([dx_sigma, dy_sigma], axis=1), np.nan)
    return MarkMeasures(
        ink=amount / level, ink_sigma=np.full(len(amount), sigma), offset=offset, centroid_x=centre_x, offset_sigma=spread,
        judged=patches.seen & ~hidden, glare=hidden, outside=~patches.seen, printing=printing, strength=strength,
    )  # fmt: skip


def _flattened(profile: Floats, block: MarksBlock, across: Floats) -> Floats:
    """Profiles (n, across) less the drift of their ground: compression blocks, shadow edges, a word near by."""
    count = len(across)
    if (across[-1] - across[0]) < 5 * block.mark[1]:
        return profile  # neighbours stand close; there is no bare end to take the ground from
    k = max(2, count // 5)
    limit = MOST_DRIFT * float(np.quantile(profile.max(axis=1), 0.8))
    top, foot = (np.clip(np.median(part, axis=1), -limit, limit) for part in (profile[:, :k], profile[:, -k:]))
    ramp = np.linspace(0, 1, count)
    return np.asarray(profile - (top[:, None] * (1 - ramp) + foot[:, None] * ramp))


def _typical_profile(
    profile: Floats, across: Floats, block: MarksBlock, printing: float, expected: float
) -> tuple[Floats, float]:
    """Profile across the typical mark, (across,), centred, and its peak; from the marks that print well."""
    peak = profile.max(axis=1)
    good = peak > 0.6 * np.quantile(peak, 0.85)
    step = across[1] - across[0]
    if printing < 0.1 or good.sum() < 6:
        sigma = max(0.45 * block.mark[1], 1.2 * step)
        return expected * np.exp(-0.5 * (across / sigma) ** 2), expected
    best = profile[good].argmax(axis=1)
    half = len(across) // 2
    moved = np.stack([np.roll(row, half - at) for row, at in zip(profile[good], best, strict=True)])
    typical = np.median(moved, axis=0)
    # Keep the one hump round the centre; what lies outside is neighbours or nothing.
    humps = typical < 0.08 * typical.max()
    left = half - int(np.argmax(humps[: half + 1][::-1])) if humps[: half + 1].any() else 0
    right = half + int(np.argmax(humps[half:])) if humps[half:].any() else len(across)
    kept = np.zeros_like(typical)
    kept[left:right] = np.maximum(typical[left:right], 0)
    centre = float((kept * across).sum() / kept.sum())
    kept = np.interp(across + centre, across, kept, left=0, right=0)
    return kept, float(kept.max())


def _match(
    profile: Floats, template: Floats, across: Floats, noise: float, pitch: float
) -> tuple[Floats, float, Floats, Floats]:
    """Amount of ink (n,) in units of the template, its one-sigma, place across feed (n,) mm and its one-sigma (n,) mm.

    Least squares of each profile against the shifted template; the shift by parabola at the best match. A best
    match that noise alone would reach somewhere in the window is no mark: its amount is taken at its own place.
    """
    step = across[1] - across[0]
    n, count = profile.shape
    half = count // 2
    power = float((template**2).sum())
    padded = np.pad(template, half)
    shifts = np.arange(-half, half + 1)
    bank = np.stack([padded[half - s : half - s + count] for s in shifts])  # template moved by s samples
    dots = profile @ bank.T
    # Humps partly outside the window match only with what is inside it.
    inside = np.maximum((bank**2).sum(axis=1), 0.35 * power)
    matched = dots / np.sqrt(inside)
    edge = matched[:, [0, 1, 2, -3, -2, -1]]
    grain = float(np.clip(1.4826 * np.median(np.abs(edge - np.median(edge))), noise, MOST_GRAIN * noise))
    far = np.clip(np.abs(shifts) * step / (2 * pitch), 0, 1)
    likely = np.where(matched >= (SEEN_FROM + FAR_BESIDES * far) * grain, matched, -1.0)
    best = np.where(likely.max(axis=1) < 0, half, likely.argmax(axis=1))
    pick = np.arange(n)
    lo, hi = np.maximum(best - 1, 0), np.minimum(best + 1, count - 1)
    a, b, c = (np.maximum(matched[pick, at], 0) for at in (lo, best, hi))
    bend = a - 2 * b + c
    fits = (bend < -1e-12) & (lo < best) & (hi > best)
    nudge = np.where(fits, np.clip(0.5 * (a - c) / np.where(bend == 0, 1, bend), -0.5, 0.5), 0)
    peak = (b - 0.25 * (a - c) * nudge) / np.sqrt(inside[best])  # height of the parabola
    slope = np.gradient(template, step)
    sharp = float(np.sqrt((slope**2).sum())) + 1e-9
    sigma = grain / float(np.sqrt(power))
    return (
        np.maximum(peak, 0),
        sigma,
        (shifts[best] + nudge) * step,
        grain / (np.maximum(peak, 0.05) * sharp) + 0.02 * step,
    )


def _ends(
    share: Singles, patches: Patches, block: MarksBlock, dy: Floats, amount: Floats, noise: float
) -> tuple[Floats, Floats, Floats]:
    """Shift along x (n,) mm that both ends of a mark agree on, the mean of both ends, and their one-sigma.

    A mark broken at one end has one end out of place; only a mark that moved as a whole has both. Where the
    two ends disagree the smaller shift counts, and none where they point apart.
    """
    across, along = patches.across, patches.along
    step = along[1] - along[0]
    near = np.abs(across[None, :] - dy[:, None]) <= max(0.7 * block.mark[1], 1.2 * (across[1] - across[0]))
    row = np.einsum("nya,ny->na", share, near.astype(np.float32)) / np.maximum(near.sum(axis=1), 1)[:, None]
    row = row.astype(np.float64)
    level = np.quantile(row, 0.7, axis=1)
    strong = amount > 0.6 * np.median(amount[amount > 0.3]) if (amount > 0.3).any() else np.zeros(len(amount), bool)
    above = row > 0.5 * np.maximum(level, 1e-6)[:, None]
    first, last = above.argmax(axis=1), len(along) - 1 - above[:, ::-1].argmax(axis=1)
    n = np.arange(len(row))

    def crossing(at: NDArray[np.int64], side: int) -> Floats:
        before = np.clip(at - side, 0, len(along) - 1)
        inner, outer = row[n, at], row[n, before]
        part = np.clip((inner - 0.5 * level) / np.where(inner - outer == 0, 1, inner - outer), 0, 1)
        return np.asarray(along[at] - side * step * part)

    left, right = crossing(first, 1), crossing(last, -1)
    if strong.sum() < 6:
        nothing = np.zeros(len(row))
        return nothing, nothing, np.full(len(row), block.mark[0])
    middle = float(np.median(0.5 * (left + right)[strong]))  # of the whole block: blur moves both ends alike
    left, right = left - np.median(left[strong]), right - np.median(right[strong])
    agree = np.sign(left) == np.sign(right)
    whole = amount > 0.6 * float(np.median(amount[strong]))  # of a broken mark the ends say nothing
    dx = np.where(agree & whole, np.sign(left) * np.minimum(np.abs(left), np.abs(right)), 0.0)
    mean = np.where(whole, 0.5 * (left + right), 0.0)
    spread = 1.4826 * max(np.median(np.abs(left[strong])), np.median(np.abs(right[strong])))
    return dx + middle, mean + middle, np.full(len(row), spread + 0.3 * step)


def _typical_level(amount: Floats, printing: float, judged: Bools) -> float:
    """Median amount of the printing marks, in units of the template."""
    usable = amount[judged] if judged.any() else amount
    if printing < 0.1:
        return 1.0
    firing = usable[usable > 0.3 * np.quantile(usable, 0.9)]
    return float(np.median(firing)) if len(firing) else 1.0
