"""Cutting the photo round every mark: profiles across and along it, the local paper divided out."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, clear_width, ink_rgb, mark_centres
from dusky_sieve.core.reading.registration import Registration

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

MOST_ACROSS, MOST_ALONG = 33, 22  # samples of a mark's patch; more cost time and tell nothing new
REACH_PITCHES = 3.6  # how far across travel a throw is followed, nozzle pitches
REACH_PX = 6.5  # and at least this far, so that the lens's blur leaves bare paper to both sides
ROWS_AT_ONCE = 30_000  # OpenCV's remap takes no taller picture than 32,767 rows
GLARE_LEVEL = 252  # all three bands this high: the sensor is full and ink cannot show
LEAST_NOISE = 0.003  # ink share of a profile's sample; compression can flatten a band's noise to nothing

_CODES = np.arange(256) / 255.0
LINEAR = np.where(_CODES <= 0.04045, _CODES / 12.92, ((_CODES + 0.055) / 1.055) ** 2.4).astype(np.float32)


@dataclass(frozen=True)
class Patches:
    """What surrounds every mark of a block, in sheet directions.

    across_ink : (n, across, 3) ink share per band averaged along the mark; along, across : sample places, mm
    codes : (n, across, along, 3) the photo's own bytes
    ground : (n, 3) linear light of bare paper; noise : (3,) one-sigma of across_ink on bare paper
    seen : (n,) the patch lies inside the photo; glare : (n,) share of the patch where the sensor is full
    """

    across_ink: Floats
    codes: Photo
    across: Floats
    along: Floats
    ground: Floats
    noise: Floats
    seen: Bools
    glare: Floats


def cut_patches(
    photo: Photo, block: MarksBlock, registration: Registration, backing: Backing, rows: NDArray[np.int64] | None, clear: float
) -> Patches:  # fmt: skip
    """Samples the photo round each mark (or the marks of `rows`), half of `clear` mm across travel to either side at most."""
    centres = mark_centres(block) if rows is None else mark_centres(block)[rows]
    scale = registration.px_per_mm(centres.mean(axis=0))
    pitch, (length, thickness) = block.nozzle_pitch, block.mark
    reach_y = min(0.5 * clear, max(REACH_PITCHES * pitch, thickness / 2 + REACH_PX / scale))
    reach_x = length / 2 + float(np.clip(0.5 * clear_width(block), 0.5 / scale, max(pitch, 2.0 / scale)))
    ny = int(np.clip(2 * reach_y * scale * 1.15, 9, MOST_ACROSS)) | 1
    nx = int(np.clip(2 * reach_x * scale * 0.8, 9, MOST_ALONG)) | 1
    across, along = np.linspace(-reach_y, reach_y, ny), np.linspace(-reach_x, reach_x, nx)
    codes, seen = _sampled(photo, centres, across, along, registration)
    within = np.flatnonzero(np.abs(along) <= max(0.42 * length, along[1] - along[0]))
    inner = np.ascontiguousarray(codes[:, :, within[0] : within[-1] + 1]).reshape(len(centres) * ny, -1, 3)
    profile = cv2.LUT(inner, LINEAR).reshape(len(centres), ny, -1, 3).mean(axis=2, dtype=np.float64)
    ground = paper_of(profile, backing)
    ink = 1 - profile / ground[:, None] if backing == "light" else profile - ground[:, None]
    bright = cv2.inRange(codes.reshape(-1, nx, 3), (GLARE_LEVEL,) * 3, (255,) * 3)
    full = bright.reshape(len(centres), -1).mean(axis=1) / 255
    return Patches(ink, codes, across, along, ground, _noise(ink), seen, full)


def _sampled(
    photo: Photo, centres: Floats, across: Floats, along: Floats, registration: Registration
) -> tuple[Photo, Bools]:
    """Bytes (n, across, along, 3) round each centre, and which patches lie inside the photo."""
    n, step = len(centres), 0.2
    spots = np.concatenate([centres, centres + (step, 0), centres + (0, step)])
    at = registration.to_photo(spots).reshape(3, n, 2)
    right, down = (at[1] - at[0]) / step, (at[2] - at[0]) / step
    rows = (at[0][:, None] + across[None, :, None] * down[:, None]).astype(np.float32)
    place = rows[:, :, None] + (along[None, None, :, None] * right[:, None, None]).astype(np.float32)
    corners = place[:, [0, 0, -1, -1], [0, -1, 0, -1]]  # the patch is a parallelogram
    low, high = corners.min(axis=1), corners.max(axis=1)
    seen = (low >= 0).all(axis=1) & (high[:, 0] <= photo.shape[1] - 1) & (high[:, 1] <= photo.shape[0] - 1)
    flat = place.reshape(n * len(across), len(along), 2)
    parts = [
        cv2.remap(photo, flat[i : i + ROWS_AT_ONCE, :, 0], flat[i : i + ROWS_AT_ONCE, :, 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        for i in range(0, len(flat), ROWS_AT_ONCE)
    ]  # fmt: skip
    return np.concatenate(parts).reshape(n, len(across), len(along), 3).astype(np.uint8, copy=False), seen


def paper_of(profile: Floats, backing: Backing) -> Floats:
    """Bare paper (or backing) of each profile (n, across, 3), linear light (n, 3): the mean of the middle of its lighter (darker) half."""
    ordered = np.sort(profile, axis=1)
    count = profile.shape[1]
    part = ordered[:, int(0.6 * count) : int(0.92 * count)] if backing == "light" else ordered[:, int(0.08 * count) : int(0.4 * count)]  # fmt: skip
    return np.asarray(np.maximum(part.mean(axis=1), 1e-3))


def _noise(ink: Floats) -> Floats:
    """One-sigma (3,) of bare paper in a profile: from the samples at the patch's ends, over all marks."""
    k = int(np.clip(ink.shape[1] // 8, 1, 3))  # where rows are close, all but the very ends is the marks' own foot
    ends = np.concatenate([ink[:, :k], ink[:, -k:]], axis=1).reshape(-1, 3)
    spread = 1.4826 * np.median(np.abs(ends - np.median(ends, axis=0)), axis=0)
    return np.asarray(np.maximum(spread, LEAST_NOISE))


def ink_weights(patches: Patches, block: MarksBlock, backing: Backing) -> tuple[Floats, float]:
    """Weights (3,) that turn three bands into one ink share with least noise, and the share of printing marks.

    The colour is measured on the strongest marks; where hardly any print, the layout's hint stands in.
    """
    hint = np.clip(1 - ink_rgb(block.ink), 0.03, 1) if backing == "light" else np.clip(ink_rgb(block.ink), 0.03, 1)
    count = patches.across_ink.shape[1]
    near = np.abs(patches.across) <= max(1.1 * block.nozzle_pitch, 0.25 * patches.across[-1])
    guess = _least_noise(hint, patches.noise)
    trial = patches.across_ink @ guess
    best = np.where(near, trial, -9).argmax(axis=1)
    core = patches.across_ink[np.arange(len(trial)), best]
    share = core @ guess
    noise = float(np.sqrt(((guess * patches.noise) ** 2).sum()))
    top = float(np.quantile(share[patches.seen], 0.95)) if patches.seen.any() else 0.0
    printing = float((share > max(0.35 * top, 6 * noise)).mean()) if top > max(8 * noise, 0.03) else 0.0
    strong = patches.seen & (share > max(0.55 * top, 6 * noise))
    colour = hint
    if strong.sum() >= 6 and count > 0:
        measured = np.clip(np.median(core[strong], axis=0), 0.0, 1)
        similar = float(measured @ hint / (np.linalg.norm(measured) * np.linalg.norm(hint) + 1e-9))
        if similar > 0.7 and measured.max() > 0.02:
            colour = measured / np.linalg.norm(measured) * np.linalg.norm(hint)
    return _least_noise(colour, patches.noise), printing


def _least_noise(colour: Floats, noise: Floats) -> Floats:
    return np.asarray(colour / noise**2 / ((colour / noise) ** 2).sum())
