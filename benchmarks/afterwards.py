"""What cameras, apps and paper do to a photograph besides: drawn over any world's pictures, of which every truth stays known.

Nothing here knows of sheets or marks. Folds and rolling shutters bend the picture by less than a sheet that is not flat;
everything else leaves every mark in its place.
"""

from collections.abc import Callable, Iterable

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve import files

Photo = NDArray[np.uint8]
Singles = NDArray[np.float32]
Effect = Callable[[Photo, np.random.Generator], Photo]

EVERY = "every"  # each sheet another kind, in turn
SAVED_AT = 88  # JPEG quality of what comes out


def _light(photo: Photo) -> Singles:
    return photo.astype(np.float32) / 255


def _codes(light: NDArray[np.floating]) -> Photo:
    return np.asarray(np.clip(light * 255 + 0.5, 0, 255), np.uint8)


def _across(photo: Photo) -> tuple[Singles, Singles]:
    y, x = np.mgrid[0 : photo.shape[0], 0 : photo.shape[1]].astype(np.float32)
    return x, y


def _bent(photo: Photo, x: NDArray[np.floating], y: NDArray[np.floating]) -> Photo:
    """The photo as seen from places x and y (rows, columns)."""
    to = x.astype(np.float32), y.astype(np.float32)
    return np.asarray(cv2.remap(photo, *to, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.uint8)


def _grey(photo: Photo, rng: np.random.Generator) -> Photo:
    return np.asarray(cv2.cvtColor(cv2.cvtColor(photo, cv2.COLOR_RGB2GRAY), cv2.COLOR_GRAY2RGB), np.uint8)


def _halos(photo: Photo, rng: np.random.Generator) -> Photo:
    """Sharpened far too much."""
    light = _light(photo)
    return _codes(light + 1.8 * (light - cv2.GaussianBlur(light, (0, 0), 2.0)))


def _folded(photo: Photo, rng: np.random.Generator) -> Photo:
    """Folded in four and laid flat again: facets of other brightness, edges, and a hundredth of stretch from facet to facet."""
    x, y = _across(photo)
    to_x, to_y, shade = x, y, np.ones(x.shape, np.float32)
    first = rng.uniform(0, np.pi)
    for turn in (first, first + np.pi / 2):
        normal, at = np.array([np.cos(turn), np.sin(turn)], np.float32), rng.uniform(0.35, 0.65, 2) * photo.shape[1::-1]
        off = (x - at[0]) * normal[0] + (y - at[1]) * normal[1]
        stretch = np.float32(rng.uniform(-0.008, 0.008)) * np.maximum(off, 0)
        to_x, to_y = to_x + stretch * normal[0], to_y + stretch * normal[1]
        facet = 1 - 0.09 * rng.choice([-1, 1]) * (off > 0)
        shade *= (facet - 0.12 * np.exp(-((off / 3) ** 2)) + 0.08 * np.exp(-(((off - 6) / 3) ** 2))).astype(np.float32)
    return _codes(_light(_bent(photo, to_x, to_y)) * shade[..., None])


def _wobble(photo: Photo, rng: np.random.Generator) -> Photo:
    """A rolling shutter while the hand shakes."""
    x, y = _across(photo)
    turn = 2 * np.pi * y
    return _bent(photo, x + 1.5 * np.sin(turn / 500), y + 0.7 * np.sin(turn / 370))


def _bleached(photo: Photo, rng: np.random.Generator) -> Photo:
    """Overexposed by 5 to 40 %, paper as white as the file can say."""
    light = _light(photo)
    paper = max(float(np.percentile(light[::8, ::8].max(axis=2), 85)), 0.6)  # film over black stays dark
    return _codes(light * rng.uniform(1.05, 1.4) / paper)


def _dark(photo: Photo, rng: np.random.Generator) -> Photo:
    """An eighth of the light, brightened: photons and the sensor's own noise show."""
    caught = _light(photo) ** 2.2 * 0.12
    seen = rng.poisson(caught * 900) / 900 + rng.normal(0, 0.004, caught.shape)
    return _codes((np.clip(seen, 0, 1) * 4) ** (1 / 2.2))


def _scanned(photo: Photo, rng: np.random.Generator) -> Photo:
    """As apps make documents of photographs: the ground divided out, contrast raised."""
    light = _light(photo)
    small = cv2.resize(light, None, fx=0.05, fy=0.05, interpolation=cv2.INTER_AREA)
    ground = cv2.GaussianBlur(cv2.dilate(small, np.ones((25, 25))), (0, 0), 8)
    share = light / cv2.resize(ground, photo.shape[1::-1])
    return _codes(1 / (1 + np.exp(-9 * (share - 0.72))))


def _toned(photo: Photo, rng: np.random.Generator) -> Photo:
    """Local tone mapping: what was bleached is grey afterwards."""
    light = _light(photo) + 0.01
    ground = cv2.GaussianBlur(light.mean(axis=2), (0, 0), 45)[..., None]
    return _codes((light / ground) ** 1.35 * ground**0.55 * 0.9)


def _two_lamps(photo: Photo, rng: np.random.Generator) -> Photo:
    """A window on one side, a warm lamp on the other."""
    x, y = _across(photo)
    turn = rng.uniform(0, 2 * np.pi)
    along = (x / photo.shape[1] - 0.5) * np.cos(turn) + (y / photo.shape[0] - 0.5) * np.sin(turn)
    share = (1 / (1 + np.exp(-6 * along)))[..., None]
    return _codes(_light(photo) * (share * (1, 0.82, 0.55) + (1 - share) * (0.72, 0.85, 1)))


def _flecks(photo: Photo, rng: np.random.Generator) -> Photo:
    """Recycled paper, at its worst."""
    drawn = photo.copy()
    for _ in range(4000):
        x, y = (int(rng.integers(side)) for side in photo.shape[1::-1])
        colour = tuple(int(v * rng.uniform(0.35, 0.8)) for v in photo[y, x])
        cv2.ellipse(drawn, (x, y), (int(rng.integers(1, 7)), 1), float(rng.uniform(0, 180)), 0, 360, colour, -1, cv2.LINE_AA)  # fmt: skip
    return drawn


def _saved_again(photo: Photo, rng: np.random.Generator) -> Photo:
    """Sent on by two messengers: compressed twice, on blocks that do not meet."""
    first = files.decode_photo(files.encode_jpeg(photo, 45), "first")[3:, 5:]
    return files.decode_photo(files.encode_jpeg(np.ascontiguousarray(first), 55), "second")


EFFECTS: dict[str, Effect] = {
    "grey": _grey, "halos": _halos, "folded": _folded, "wobble": _wobble, "bleached": _bleached, "dark": _dark, "scanned": _scanned,
    "toned": _toned, "two lamps": _two_lamps, "flecks": _flecks, "saved again": _saved_again,
}  # fmt: skip


def one_of(kinds: Iterable[str], kind: str, seed: int) -> str:
    """The kind asked for; where that is every one, the next for each seed."""
    names = sorted(kinds)
    return names[seed % len(names)] if kind == EVERY else kind


def changed(photo: Photo, kind: str, seed: int) -> tuple[Photo, str]:
    """A photo (rows, columns, 3) after one effect, saved and opened again, and which one it was."""
    name = one_of(EFFECTS, kind, seed)
    after = EFFECTS[name](photo, np.random.default_rng([seed, sorted(EFFECTS).index(name), 505]))
    return files.decode_photo(files.encode_jpeg(after, SAVED_AT), "after"), name


__all__ = ["EFFECTS", "EVERY", "changed", "one_of"]
