"""Solid fills: light lines across them, and how even the ink lies."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, SolidBlock, ink_rgb
from dusky_sieve.core.reading.compiled import in_rows
from dusky_sieve.core.reading.document import BlockReading, LightLine
from dusky_sieve.core.reading.patches import LINEAR, bytes_at
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.surface import fitted

Floats = NDArray[np.float64]
Photo = NDArray[np.uint8]

RIM_MM = 0.9  # looked at above and below: the fill's edges are found, for no mark of the lattice may lie near them
# From where an edge of the fill was thought to lie, within which a strip's is taken for it: while it is tilted, and bent twice.
NEAR_MM = (1.0, 0.35, 0.35)
FURTHER = 0.1  # of its height, by which more is looked at where an edge is not there
FRAME_MM, LINE_MM = 0.5, 0.35  # ink so thin at a fill's end, the rest of it further off than a light line is wide
UNLIKELY_MM = 1.0  # by which a fill must fit better with such an end: its place is known to a few parts in a hundred
COLUMNS = 24  # strips along travel; a line crosses most of them, a hair or a pen stroke few
EDGE_MM = 0.25  # at the fill's rim, where ink bleeds and paper shines in
PAPER_MM = (0.4, 1.2)  # beside the fill, where bare paper is looked for
PAPER_PARTS = 5  # of a fill's height, from which the lamp's falling off along it is taken
DARK_APART = 0.15  # of full light, between what lies to both sides over dark, from which one is no bare backing
TREND_MM = 1.6  # width of the running median that the lamp's drift is taken from
SEEN_FROM = 5.0  # of the profile's noise, from which a dip is a line
LEAST_CONTRAST = 0.06  # share of the fill's ink, below which a line does not show on a print
LEAST_HALF = 0.06  # half of a fill's ink at least, for it to be one
LEAST_STRIPS = 0.7  # of the strips that must show the line, or both of the fill's edges
# Of an edge from strip to strip, how much terms of each degree are held back, of a hundredth of all strips.
BENT = np.array([0.0, 0.1, 1.0, 1.0])


def read_fill(photo: Photo, block: SolidBlock, registration: Registration, backing: Backing) -> BlockReading:
    """Light lines of one fill: place, width and lack of ink, and the nozzle where the fill tells it."""
    share, step_mm, inside = _found(photo, block, registration, backing)
    if share is None:
        return _refused(
            block, f"The {block.id} block runs over the edge of the photo: step back so that it is in the frame."
        )
    if inside is None:
        return _refused(
            block, f"The {block.id} block shows no solid ink: the channel may be absent, or this is another sheet."
        )
    share = _levelled(share, inside, step_mm)[inside]
    profile = np.median(share, axis=1)
    step_mm = block.size[1] / len(profile)  # the fill's own edges are its rule
    if float(np.median(profile)) < 0.25:
        return _refused(
            block, f"The {block.id} block shows no solid ink: the channel may be absent, or this is another sheet."
        )
    window = max(5, round(TREND_MM / step_mm)) | 1
    padded = np.pad(profile, window // 2, mode="edge")
    trend = np.median(np.lib.stride_tricks.sliding_window_view(padded, window), axis=1)
    # The lamp may fall off; ink that is there everywhere is the reference.
    lack = 1 - profile / np.maximum(trend, 0.05)
    noise = 1.4826 * float(np.median(np.abs(lack - np.median(lack)))) + 0.003
    lines = _lines(lack, share, trend, noise, step_mm, block)
    return BlockReading(
        id=block.id, channel=block.channel, head=block.head, kind="solid", read=True,
        uniformity=round(float(np.clip(1 - profile.std() / max(profile.mean(), 1e-3), 0, 1)), 3), lines=tuple(lines),
    )  # fmt: skip


def _found(
    photo: Photo, block: SolidBlock, registration: Registration, backing: Backing
) -> tuple[Floats | None, float, slice | None]:
    """Ink (rows, COLUMNS) about a fill, mm per row, and the rows within its own edges, which are looked for further off where they are not near.

    No ink where it leaves the photo, no rows where there is no fill.
    """
    looks: list[tuple[Floats | None, float, slice | None]] = []
    for rim in (min(RIM_MM, 0.4 * block.size[1]), RIM_MM + FURTHER * block.size[1]):
        share, step_mm = _ink_share(photo, block, registration, backing, rim)
        inside = None if share is None else _inside(np.median(share, axis=1), step_mm, block.size[1])
        looks.append((share, step_mm, inside))
        if share is not None and inside is not None and inside.start > 0 and inside.stop < len(share):
            return looks[-1]
    return looks[0]


def _levelled(share: Floats, inside: slice, step_mm: float) -> Floats:
    """The strips (rows, COLUMNS) with the fill's own edges made level; `inside` are its rows in most of them.

    Beyond the marks nothing says how paper waves: what lies level by them may run up and down there by more than a line is wide.
    """
    sides = zip(*(_edges(strip) for strip in share.T), strict=True)
    tops, feet = (_bent(at, edge, step_mm) for at, edge in zip(sides, (inside.start, inside.stop), strict=True))
    rows = np.arange(len(share)) + 0.5
    at = tops + (rows[:, None] - inside.start) * ((feet - tops) / (inside.stop - inside.start))
    return np.stack([np.interp(own, rows, strip) for own, strip in zip(at.T, share.T, strict=True)], axis=1)


def _bent(edges: tuple[NDArray[np.int64], ...], start: int, step_mm: float) -> Floats:
    """Where one edge of a fill lies in each strip, in rows: a smooth line about row `start` through those of the strips' edges that lie near it."""
    way = np.full(COLUMNS, float(start))
    terms = np.linspace(-1, 1, COLUMNS) ** np.arange(len(BENT))[:, None]
    for degree, near in enumerate(NEAR_MM, 1):
        nearest = np.array(
            [at[np.abs(at - own).argmin()] if len(at) else np.nan for at, own in zip(edges, way, strict=True)]
        )
        # Where something lies over the fill, or light does, lines, frames or nothing are the nearest edges.
        told = np.abs(nearest - way) * step_mm < near
        if told.mean() < LEAST_STRIPS:
            break
        few, held = terms[: degree + 1], BENT[: degree + 1]
        way = (fitted(in_rows(few[:, told]), nearest[None, told], held, np.ones(told.sum()), True) @ few)[0]
    return way


def _inside(profile: Floats, step_mm: float, height_mm: float) -> slice | None:
    """The rows between the fill's own top and bottom edge, half-way up each; None where there is no fill.

    Of edges where ink begins and ends, the two that stand apart as the fill's do: a frame near by has edges, and so have lines.
    """
    tops, feet = _edges(profile)
    if len(tops) == 0:
        return None
    off = np.abs((feet[None] - tops[:, None]) * step_mm - height_mm)
    before, after = (np.concatenate(v) for v in (([np.inf], tops[1:] - feet[:-1]), (tops[1:] - feet[:-1], [np.inf])))
    alone = ((feet - tops) * step_mm < FRAME_MM) & (np.minimum(before, after) * step_mm > LINE_MM)
    thin = np.where(alone, UNLIKELY_MM, 0.0)  # what is so thin, beyond bare paper, is more likely a frame's
    top, foot = np.unravel_index(int((off + thin[:, None] + thin).argmin()), off.shape)
    return slice(int(tops[top]), int(feet[foot])) if off[top, foot] < 0.08 * height_mm + 0.3 else None


def _edges(profile: Floats) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows at which ink begins and at which it ends, half-way up, as many of each; none where a profile (rows,) shows none."""
    half = 0.5 * float(np.quantile(profile, 0.8))
    full = np.concatenate([[False], (profile > half) & (half >= LEAST_HALF), [False]])
    return np.flatnonzero(full[1:] & ~full[:-1]), np.flatnonzero(full[:-1] & ~full[1:])


def _refused(block: SolidBlock, why: str) -> BlockReading:
    return BlockReading(id=block.id, channel=block.channel, head=block.head, kind="solid", read=False, why=why)


def _ink_share(
    photo: Photo, block: SolidBlock, registration: Registration, backing: Backing, rim: float
) -> tuple[Floats | None, float]:
    """Ink (rows, COLUMNS) of the fill and of `rim` mm above and below against the paper beside it, and mm per row. None where it leaves the photo."""
    (x, y), (w, h) = block.origin, block.size
    scale = registration.px_per_mm(np.array([x + w / 2, y + h / 2]))
    rows = int(np.clip((h + 2 * rim) * scale * 1.3, 40, 3000))
    fine = max(COLUMNS * 6, int(w * scale * 0.7) // COLUMNS * COLUMNS)
    xs = x + np.linspace(min(EDGE_MM, 0.1 * w), w - min(EDGE_MM, 0.1 * w), fine)
    ys = y - rim + (np.arange(rows) + 0.5) * (h + 2 * rim) / rows
    beside = np.array([x - PAPER_MM[1], x - PAPER_MM[0], x + w + PAPER_MM[0], x + w + PAPER_MM[1]])
    place = registration.on_grid(np.concatenate([xs, beside]), ys).astype(np.float32)
    inner = place[:, :fine]
    if (inner < 0).any() or (inner[..., 0] > photo.shape[1] - 1).any() or (inner[..., 1] > photo.shape[0] - 1).any():
        return None, (h + 2 * rim) / rows
    light = cv2.LUT(bytes_at(photo, place[..., 0], place[..., 1]), LINEAR)
    paper = _paper(light[:, fine:].astype(np.float64), backing, w)
    strips = cv2.resize(light[:, :fine], (COLUMNS, rows), interpolation=cv2.INTER_AREA).astype(np.float64)
    hint = np.clip(1 - ink_rgb(block.ink), 0.03, 1) if backing == "light" else np.clip(ink_rgb(block.ink), 0.03, 1)
    ink = 1 - strips / paper if backing == "light" else strips - paper
    return np.asarray(ink @ (hint / (hint @ hint))), (h + 2 * rim) / rows


def _paper(beside: Floats, backing: Backing, width_mm: float) -> Floats:
    """Bare paper (rows, COLUMNS, 3) over a fill, linear light, from what is beside it (rows, 4, 3): two places left, two right.

    A lamp falls off along the fill and across it; a word or another fill beside one side leaves the other.
    """
    sides = beside.reshape(len(beside), 2, 2, 3)
    bare = sides.max(axis=2) if backing == "light" else sides.min(axis=2)
    parts = np.array_split(bare, PAPER_PARTS)
    levels = np.stack([np.quantile(part, 0.8 if backing == "light" else 0.2, axis=0) for part in parts])
    at = (np.arange(PAPER_PARTS) + 0.5) / PAPER_PARTS
    pairs = np.triu_indices(PAPER_PARTS, 1)
    slope = np.median((levels[pairs[1]] - levels[pairs[0]]) / (at[pairs[1]] - at[pairs[0]])[:, None, None], axis=0)
    middle = np.median(levels - slope * at[:, None, None], axis=0)
    down = (np.arange(len(beside)) + 0.5)[:, None, None] / len(beside)
    left, right = (middle + slope * down).transpose(1, 0, 2)
    apart = float(np.median(right) - np.median(left)) * (1 if backing == "light" else -1)
    if abs(apart) > (0.5 * max(np.median(left), np.median(right)) if backing == "light" else DARK_APART):
        left = right = right if apart > 0 else left
    reach = sum(PAPER_MM) / 2
    share = ((np.arange(COLUMNS) + 0.5) / COLUMNS * width_mm + reach) / (width_mm + 2 * reach)
    return np.asarray(np.maximum(left[:, None] * (1 - share[:, None]) + right[:, None] * share[:, None], 1e-3))


def _lines(
    lack: Floats, share: Floats, trend: Floats, noise: float, step_mm: float, block: SolidBlock
) -> list[LightLine]:
    found: list[LightLine] = []
    limit = max(SEEN_FROM * noise, LEAST_CONTRAST)
    margin = max(2, round(EDGE_MM / step_mm))
    high = lack > limit
    high[:margin] = high[-margin:] = False
    starts = [int(k) for k in np.flatnonzero(high & ~np.roll(high, 1))]
    for start in starts:
        stop = start + int(np.argmin(np.append(high[start:], False)))
        low, top = max(0, start - margin), min(len(lack), stop + margin)
        peak = int(start + np.argmax(lack[start:stop]))
        dip = np.clip(lack[low:top] - np.median(lack), 0, None)
        crossing = (1 - share[peak] / np.maximum(trend[peak], 0.05)) > 0.4 * lack[peak]
        if crossing.mean() < LEAST_STRIPS:
            continue
        at = float((dip * (np.arange(low, top) + 0.5)).sum() / dip.sum()) * step_mm
        nozzle = None
        if block.nozzles is not None and block.nozzle_pitch is not None:
            nozzle = block.first_nozzle + int(np.clip(at // block.nozzle_pitch, 0, block.nozzles - 1))
        contrast = float(np.clip(lack[peak], 0, 1))
        width = float(dip.sum()) * step_mm / max(contrast, 1e-3) * 1000
        found.append(LightLine(y_mm=round(at, 3), width_um=round(width), contrast=round(contrast, 2), nozzle=nozzle))
    return found
