"""A simple reader that is told the true geometry: how far a reader could get that never has to find anything."""

import cv2
import numpy as np

from dusky_sieve.core.layout import Layout, MarksBlock, ink_rgb, mark_centres
from dusky_sieve.core.reading import BlockReading, Fault, Reading, UprightPhoto
from dusky_sieve.core.simulate import Scene, place_on_photo


def read(layout: Layout, scene: Scene, photos: list[UprightPhoto]) -> Reading:
    """Ink in a box round every true place, and its centre of gravity."""
    blocks = []
    for block in layout.blocks:
        photo = next((p for p in photos if p.backing == block.backing), None)
        if isinstance(block, MarksBlock) and photo is not None:
            blocks.append(_block(layout, block, scene, photo))
    return Reading(layout=layout.name, photos=(), blocks=tuple(blocks))


def _block(layout: Layout, block: MarksBlock, scene: Scene, photo: UprightPhoto) -> BlockReading:
    centres = mark_centres(block)
    reach = min(2.2 * block.nozzle_pitch, 0.48 * abs(block.row_pitch[1] or 9))
    ny, nx = 25, 15
    ys, xs = np.linspace(-reach, reach, ny), np.linspace(-0.5, 0.5, nx) * block.mark[0]
    grid = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    place = place_on_photo((centres[:, None] + grid).reshape(-1, 2), layout, scene).astype(np.float32)
    patch = np.concatenate(
        [
            cv2.remap(photo.pixels, p[:, :1], p[:, 1:], cv2.INTER_LINEAR)[:, 0]
            for p in np.array_split(place, len(place) // 30000 + 1)
        ]
    )
    light = (patch.reshape(len(centres), ny, nx, 3) / 255.0) ** 2.2
    ground = np.median(np.concatenate([light[:, :3], light[:, -3:]], axis=1), axis=(1, 2), keepdims=True)[:, 0]
    colour = 1 - ink_rgb(block.ink) if block.backing == "light" else ink_rgb(block.ink)
    ink = (1 - light / (ground[:, None] + 1e-3)) if block.backing == "light" else light - ground[:, None]
    profile = (ink @ (colour / colour.sum())).mean(axis=2)
    profile -= np.median(np.concatenate([profile[:, :4], profile[:, -4:]], axis=1), axis=1, keepdims=True)
    soft = np.apply_along_axis(lambda row: np.convolve(row, np.ones(3) / 3, "same"), 1, profile)
    amount, at = soft.max(axis=1), soft.argmax(axis=1)
    top = float(np.quantile(amount, 0.97))
    strong = amount > 0.4 * top
    if top < 0.05 or strong.mean() < 0.08:
        gone = tuple(Fault(nozzle=n, state="missing", confidence=1) for n in block.numbers)
        return BlockReading(id=block.id, channel=block.channel, head=block.head, kind="marks", read=True, faults=gone)
    amount /= np.median(amount[strong])
    near = np.abs(np.arange(ny)[None] - at[:, None]) <= 4
    weight = np.clip(profile, 0, None) * near
    centre = (weight * ys).sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-6)
    centre -= np.median(centre[strong])
    faults = []
    for i, nozzle in enumerate(block.numbers):
        if amount[i] < 0.15:
            faults.append(Fault(nozzle=nozzle, state="missing", confidence=1))
        elif abs(centre[i]) >= 0.5 * block.nozzle_pitch:
            faults.append(Fault(nozzle=nozzle, state="deflected", confidence=1))
        elif amount[i] < 0.6:
            faults.append(Fault(nozzle=nozzle, state="weak", confidence=1))
    return BlockReading(
        id=block.id, channel=block.channel, head=block.head, kind="marks", read=True, faults=tuple(faults)
    )
