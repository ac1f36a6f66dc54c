"""One channel pulled out of a straightened photo, its contrast raised: yellow can be read, white over dark too."""

import cv2
import numpy as np

from dusky_sieve.core.layout import Layout, extent
from dusky_sieve.drawing.straight import BORDER_MM, PATCH_MM, Photo

PAPER_MM = 6.0  # reach of the local paper level
FULL = 99.0  # percentile of a channel's own ink that is drawn as full
NOISE = 0.02  # of the paper's brightness: a channel fainter than this is not blown up to look like ink
APART = 0.22  # share of its contrast that all else keeps


def pulled(straight: Photo, layout: Layout, channel: str, scale: float) -> Photo:
    """The straightened photo with one channel's blocks in raised contrast and everything else faint.

    straight : (rows, columns, 3) from `straight`; scale : its pixels per mm

    What an ink takes from the light is divided by the local paper and laid along the ink's own colour, so that a
    yellow mark counts by what it takes from blue. The strongest of the channel becomes full ink.
    """
    light = np.log(np.maximum(straight.astype(np.float32), 2.0))
    reach = max(3, round(PAPER_MM * scale)) | 1
    small = cv2.resize(light, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA)
    blocks = [b for b in layout.blocks if b.channel == channel]
    dark = bool(blocks) and blocks[0].backing == "dark"
    low, high = float(small.min()), float(small.max())
    eighths = ((small - low) * (255 / max(high - low, 1e-6))).astype(np.uint8)
    level = cv2.medianBlur(eighths, min(255, reach // 4 | 1)).astype(np.float32)
    paper = cv2.resize(level * ((high - low) / 255) + low, straight.shape[1::-1])
    taken = light - paper if dark else paper - light
    ink = blocks[0].ink if blocks else "#000000"
    lacks = np.array([1 - int(ink[k : k + 2], 16) / 255 for k in (1, 3, 5)], np.float32)  # shares an ink takes
    along = np.full(3, 1 / 3, np.float32) if dark or lacks.max() < 0.05 else lacks / lacks.sum()
    amount = np.maximum(0.0, taken @ along)
    out, mine = np.zeros(amount.shape, np.float32), np.zeros(amount.shape, bool)
    for block in blocks:
        rows, columns = _window(extent(block), scale, amount.shape)
        piece = amount[rows, columns]
        if piece.size:
            out[rows, columns] = piece / max(float(np.percentile(piece, FULL)), NOISE)
            mine[rows, columns] = True
    grey = straight.mean(axis=2)
    rest = (grey.mean() + (grey - grey.mean()) * APART).astype(np.float32)
    ground, full = (24.0, 250.0) if dark else (246.0, 20.0)
    rest[mine] = (ground + (full - ground) * np.minimum(1.0, out))[mine]
    return np.repeat(np.clip(rest, 0, 255).astype(np.uint8)[..., None], 3, axis=2)


def _window(box: tuple[float, float, float, float], scale: float, shape: tuple[int, ...]) -> tuple[slice, slice]:
    grown = (box[0] - PATCH_MM, box[1] - PATCH_MM, box[2] + PATCH_MM, box[3] + PATCH_MM)
    left, top, right, bottom = (round((v + BORDER_MM) * scale) for v in grown)
    return slice(max(0, top), min(shape[0], bottom)), slice(max(0, left), min(shape[1], right))
