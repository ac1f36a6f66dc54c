"""The photograph laid straight, and the faults drawn over it."""

from html import escape

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, extent, mark_centres
from dusky_sieve.core.reading import PhotoReading, Reading
from dusky_sieve.core.reading.registration import of_reading
from dusky_sieve.core.warp import warp_maps
from dusky_sieve.files import encode_jpeg

Photo = NDArray[np.uint8]

PATCH_MM = 1.0  # of air between a spoilt block and the frame drawn round it
BORDER_MM = 3.0  # of paper shown round the pattern
MOST_PX = 1800  # longer side of the straightened picture as it first shows
FULL_PX = 5000  # and once somebody goes close
MAP_STEP = 16  # pixels of the straightened picture between exact places
TICK = (26, 34, 56)  # the night blue of the drawings
LOUPE_PITCHES = 16  # nozzle pitches to each side in the loupe, at least


def straight_scale(layout: Layout, note: PhotoReading, *, full: bool = False) -> float:
    """Pixels per mm of the straightened picture: no finer than the photo, and coarser where that fills a screen."""
    longest = max(layout.size) + 2 * BORDER_MM
    return min(note.px_per_mm or 10.0, (FULL_PX if full else MOST_PX) / longest)


def straighten(photo: Photo, layout: Layout, note: PhotoReading, scale: float) -> Photo:
    """The pattern laid straight, from the upright photo and where its sheet was found."""
    size = (round((layout.size[0] + 2 * BORDER_MM) * scale), round((layout.size[1] + 2 * BORDER_MM) * scale))
    return _cut(photo, note, (-BORDER_MM, -BORDER_MM), scale, size)


def placed(block: MarksBlock, shift_um: tuple[float, float] | None) -> NDArray[np.float64]:
    """Where a block's marks belong (n, 2), sheet mm, its common shift counted in: that is no nozzle's fault."""
    return mark_centres(block) + np.array(shift_um or (0.0, 0.0)) / 1000


def loupe(photo: Photo, note: PhotoReading, block: MarksBlock, shift_um: tuple[float, float] | None, nozzle: int) -> bytes:  # fmt: skip
    """JPEG of one mark among its neighbours, four ticks about the place where it belongs."""
    x, y = placed(block, shift_um)[list(block.numbers).index(nozzle)]
    half = max(block.mark[0] * 1.6, LOUPE_PITCHES * block.nozzle_pitch)
    picture = _cut(photo, note, (x - half, y - half * 0.6), 480 / (2 * half), (480, 288)).copy()
    reach_x, reach_y = round(block.mark[0] * 0.62 * 240 / half), 26
    for dx, dy in ((-reach_x, 0), (reach_x, 0), (0, -reach_y), (0, reach_y)):
        near = (240 + dx, 144 + dy)
        far = (240 + dx + (14 if dx > 0 else -14 if dx else 0), 144 + dy + (14 if dy > 0 else -14 if dy else 0))
        for colour, thick in (((255, 255, 255), 6), (TICK, 2)):
            cv2.line(picture, near, far, colour, thick, cv2.LINE_AA)
    return encode_jpeg(picture, 90)


def _cut(photo: Photo, note: PhotoReading, corner: tuple[float, float], scale: float, size: tuple[int, int]) -> Photo:
    """A piece of the sheet laid straight, its top left at `corner` mm, `scale` pixels per mm; curl and lens taken out.

    The registration is exact at every sixteenth pixel and linear between: it is smooth, and each pixel asked alone
    would take seconds.
    """
    registration = of_reading(note.sheet_to_photo or (), note.warp_mm, note.warp_box_mm)
    x, y = warp_maps(lambda grid: registration.to_photo((grid + 0.5) / scale + np.array(corner)), size, MAP_STEP)
    straight = cv2.remap(photo, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(straight, np.uint8)


def frame(layout: Layout) -> tuple[float, float, float, float]:
    """Left, top, width and height of the straightened picture in sheet mm."""
    return -BORDER_MM, -BORDER_MM, layout.size[0] + 2 * BORDER_MM, layout.size[1] + 2 * BORDER_MM


def overlay(
    layout: Layout, reading: Reading, backing: Backing | None, links: dict[tuple[str, int], str], *, wrong: dict[str, str], lattice: bool = False
) -> str:  # fmt: skip
    """SVG in sheet mm that lies over the straightened picture: an outline where something is wrong, nothing elsewhere.

    backing : only blocks seen over it; all where None
    links : (block id, nozzle) to the address its outline leads to
    wrong : block id to what is wrong with the photo there
    lattice : also a stroke at the expected place of every mark
    """
    parts = []
    blocks = {b.id: b for b in layout.blocks if backing is None or b.backing == backing}
    shifts = {read.id: read.shift_um for read in reading.blocks}
    for block in blocks.values():
        if lattice and isinstance(block, MarksBlock):
            half = block.mark[0] / 2
            strokes = "".join(f"M{x - half:.2f} {y:.3f}h{2 * half:.2f}" for x, y in placed(block, shifts.get(block.id)))
            parts.append(f'<path d="{strokes}" class="lattice"/>')
        if block.id in wrong:
            left, top, right, bottom = extent(block)
            left, top, right, bottom = left - PATCH_MM, top - PATCH_MM, right + PATCH_MM, bottom + PATCH_MM
            parts.append(
                f'<g class="spoilt"><rect x="{left:.2f}" y="{top:.2f}" width="{right - left:.2f}" height="{bottom - top:.2f}"/>'
                f"<title>{escape(wrong[block.id])}</title></g>"
            )
    for read in reading.blocks:
        marks = blocks.get(read.id)
        if not isinstance(marks, MarksBlock) or not read.read:
            continue
        centres, first, step = placed(marks, read.shift_um), marks.first_nozzle, marks.nozzle_step
        for fault in read.faults:
            x, y = centres[(fault.nozzle - first) // step]
            words, href = f"{read.channel} {fault.nozzle}: {fault.state}", links[read.id, fault.nozzle]
            parts.append(_outline(float(x), float(y), marks, fault.state, fault.offset_um, words, href))
    title = f"Straightened photograph of {len(blocks)} blocks with faults outlined; the table lists them"
    left, top, w, h = frame(layout)
    return f'<svg class="tabletop" viewBox="{left} {top} {w} {h}" role="group" aria-label="{escape(title)}">{"".join(parts)}</svg>'


def _outline(
    x: float, y: float, block: MarksBlock, state: str, offset_um: tuple[float, float] | None, words: str, href: str
) -> str:
    a, b = block.mark[0] * 0.62, max(block.mark[0] * 0.3, 4 * block.mark[1])
    shape = f"M{x - a:.2f} {y:.2f}L{x:.2f} {y - b:.2f}L{x + a:.2f} {y:.2f}L{x:.2f} {y + b:.2f}Z"
    tick = ""
    if offset_um and state == "deflected":
        tick = f'<path d="M{x:.3f} {y:.3f}v{offset_um[1] / 1000 * 3:.3f}" class="throw"/>'
    return f'<a href="{escape(href)}"><path d="{shape}" class="outline halo"/><path d="{shape}" class="outline {state}"><title>{escape(words)}</title></path>{tick}</a>'
