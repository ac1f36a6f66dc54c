"""Cutting the photo round every mark: profiles across and along it, the local paper divided out."""

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Clear, MarksBlock, in_light, ink_rgb, mark_centres
from dusky_sieve.core.reading.order import median, quantile
from dusky_sieve.core.reading.profiles import light_across, paper_of, peaks, places_round
from dusky_sieve.core.reading.registration import Registration

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

MOST_ACROSS, MOST_ALONG = 33, 22  # samples of a mark's patch; more cost time and tell nothing new
REACH_PITCHES = 3.6  # how far across travel a throw is followed, nozzle pitches
REACH_PX = 6.5  # and at least this far, so that the lens's blur leaves bare paper to both sides
# Of a mark's length to either side of its middle, over which its ink is averaged: all of it, for a mark may be broken off in its
# middle, but where marks stand closer than so many pixels, for blur mixes their ends.
WHOLE, INNER, BARE_PX = 0.5, 0.42, 3.0
AT_ONCE = 30_000  # OpenCV's remap takes no wider picture than 32,767 columns
GLARE_SHARE = 0.25  # of a patch where the sensor is full, from which its mark counts as lying there
LEAST_NOISE = 0.003  # ink share of a profile's sample; compression can flatten a band's noise to nothing

LINEAR = in_light(np.arange(256) / 255.0).astype(np.float32)


@dataclass(frozen=True)
class Patches:
    """What surrounds every mark of a block, in sheet directions.

    across_ink : (3, n, across) ink share per band averaged along the mark; along, across : sample places, mm
    codes : (along, n, across, 3) the photo's own bytes
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

    @property
    def full(self) -> Bools:
        """Marks (n,) about which the sensor is full: only ink that still shows tells there."""
        return self.glare > GLARE_SHARE


def cut_patches(
    photo: Photo, block: MarksBlock, registration: Registration, backing: Backing, rows: NDArray[np.int64] | None, clear: Clear
) -> Patches:  # fmt: skip
    """Samples the photo round each mark (or the marks of `rows`), half of what is `clear` across travel to either side at most."""
    centres = mark_centres(block) if rows is None else mark_centres(block)[rows]
    scale = registration.px_per_mm(centres.mean(axis=0))
    pitch, (length, thickness) = block.nozzle_pitch, block.mark
    reach_y = min(0.5 * clear.height, max(REACH_PITCHES * pitch, thickness / 2 + REACH_PX / scale))
    reach_x = length / 2 + float(np.clip(0.5 * clear.width, 0.5 / scale, max(pitch, 2.0 / scale)))
    ny = int(np.clip(2 * reach_y * scale * 1.15, 9, MOST_ACROSS)) | 1
    nx = int(np.clip(2 * reach_x * scale * 0.8, 9, MOST_ALONG)) | 1
    across, along = np.linspace(-reach_y, reach_y, ny), np.linspace(-reach_x, reach_x, nx)
    codes, seen = _sampled(photo, centres, across, along, registration)
    counted = WHOLE if clear.width * scale > BARE_PX else INNER
    within = np.flatnonzero(np.abs(along) <= max(counted * length, along[1] - along[0]))
    light, glare = light_across(codes, LINEAR, int(within[0]), int(within[-1]), len(centres))
    ground = paper_of(light, backing)
    ink = 1 - light / ground[..., None] if backing == "light" else light - ground[..., None]
    return Patches(ink, codes.reshape(nx, len(centres), ny, 3), across, along, ground.T, _noise(ink), seen, glare)


def _sampled(
    photo: Photo, centres: Floats, across: Floats, along: Floats, registration: Registration
) -> tuple[Photo, Bools]:
    """Bytes (along, n * across, 3) round each centre, and which patches (n,) lie inside the photo."""
    maps = round_each(centres, across, along, registration)
    seen = np.ones(len(centres), bool)
    for place, size in zip(maps, (photo.shape[1], photo.shape[0]), strict=True):
        corners = place[[0, -1]].reshape(2, len(centres), -1)[:, :, [0, -1]]  # the patch is a parallelogram
        seen &= (corners >= 0).all(axis=(0, 2)) & (corners <= size - 1).all(axis=(0, 2))
    return bytes_at(photo, *maps), seen


def round_each(centres: Floats, across: Floats, along: Floats, registration: Registration) -> tuple[Singles, Singles]:
    """Photo pixels x and y, (along, n * across) each, of the places `across` and `along`, mm, round each centre (n, 2) mm."""
    step = 0.2
    spots = np.concatenate([centres, centres + (step, 0), centres + (0, step)])
    return places_round(registration.to_photo(spots).reshape(3, len(centres), 2), across, along, step)


def bytes_at(photo: Photo, x: Singles, y: Singles) -> Photo:
    """The photo's bytes (rows, columns, 3) at places given as x and y (rows, columns), beyond its frame those of its rim.

    Places count to a thirty-second of a pixel, at which OpenCV takes half the time that it takes over exact ones.
    """
    parts = []
    for start in range(0, x.shape[1], AT_ONCE):
        some = np.s_[:, start : start + AT_ONCE]
        places = cv2.convertMaps(x[some], y[some], cv2.CV_16SC2)
        parts.append(cv2.remap(photo, *places, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE))
    return np.asarray(parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1), np.uint8)


def _noise(ink: Floats) -> Floats:
    """One-sigma (3,) of bare paper in a profile: from the samples at the patch's ends, over all marks."""
    k = int(np.clip(ink.shape[2] // 8, 1, 3))  # where rows are close, all but the very ends is the marks' own foot
    ends = np.concatenate([ink[..., :k], ink[..., -k:]], axis=2).reshape(3, -1)
    spread = 1.4826 * median(np.abs(ends - median(ends)[:, None]))
    return np.asarray(np.maximum(spread, LEAST_NOISE))


def ink_weights(patches: Patches, block: MarksBlock, backing: Backing) -> tuple[Floats, float]:
    """Weights (3,) that turn three bands into one ink share with least noise, and the share of printing marks.

    The colour is measured on the strongest marks; where hardly any print, the layout's hint stands in.
    """
    hint = np.clip(1 - ink_rgb(block.ink), 0.03, 1) if backing == "light" else np.clip(ink_rgb(block.ink), 0.03, 1)
    near = np.flatnonzero(np.abs(patches.across) <= max(1.1 * block.nozzle_pitch, 0.25 * patches.across[-1]))
    guess = _least_noise(hint, patches.noise)
    trial = in_one(patches.across_ink, guess)
    share, best = peaks(trial, int(near[0]), int(near[-1]) + 1)
    core = patches.across_ink[:, np.arange(len(trial)), best]
    noise = float(np.sqrt(((guess * patches.noise) ** 2).sum()))
    top = float(quantile(share[patches.seen], 0.95)) if patches.seen.any() else 0.0
    printing = float((share > max(0.35 * top, 6 * noise))[patches.seen].mean()) if top > max(8 * noise, 0.03) else 0.0
    strong = patches.seen & (share > max(0.55 * top, 6 * noise))
    colour = hint
    if strong.sum() >= 6:
        measured = np.clip(median(core[:, strong]), 0.0, 1)
        similar = float(measured @ hint / (np.linalg.norm(measured) * np.linalg.norm(hint) + 1e-9))
        if similar > 0.7 and measured.max() > 0.02:
            colour = measured / np.linalg.norm(measured) * np.linalg.norm(hint)
    return _least_noise(colour, patches.noise), printing


def in_one(across_ink: Floats, weights: Floats) -> Floats:
    """Ink (n, across) of three bands (3, n, across), by weights (3,)."""
    return np.asarray((weights @ across_ink.reshape(3, -1)).reshape(across_ink.shape[1:]))


def _least_noise(colour: Floats, noise: Floats) -> Floats:
    return np.asarray(colour / noise**2 / ((colour / noise) ** 2).sum())
