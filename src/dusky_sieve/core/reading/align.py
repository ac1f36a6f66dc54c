"""From a rough similarity to a homography: intensity alignment, coarse to fine."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock
from dusky_sieve.core.reading.find import Marks, draw_marks
from dusky_sieve.core.reading.registration import project

Floats = NDArray[np.float64]
Image = NDArray[np.float32]

BLURS = (
    0.75,
    0.5,
    0.3,
    0.17,
)  # of the widest lattice step: first only the blocks show, then rows, then marks
ITERATIONS = (25, 15, 12, 8)
BLUR_PX = 1.8  # the blur in raster pixels; finer rasters only cost time
PRESENT_SHARE = 0.3  # of the strongest block, under which a block is taken not to print
MARGIN_SHARE = 0.15  # bare border round the pattern that takes part, as a share of its longer side
MOST_RASTER_PX = 1100  # longer side of a raster


def widest_step(layout: Layout) -> float:
    """The widest lattice step of a layout's marks, mm, at most a sixth of the sheet."""
    steps = [
        np.hypot(*step) for b in layout.blocks if isinstance(b, MarksBlock) for step in (b.column_pitch, b.row_pitch)
    ]
    return float(min(max(steps, default=1.0), max(layout.size) / 6))


def align(lines: Image, start: Floats, marks: Marks, layout: Layout, levels: range) -> tuple[float, Floats] | None:
    """Homography (sheet mm to pixels of the ink map) refined over the given levels, with its correlation.

    None where the alignment runs away.
    """
    homography, score = start, 0.0
    margin = MARGIN_SHARE * max(layout.size)
    for level in levels:
        blur_mm = BLURS[level] * widest_step(layout)
        own = _scale(homography, layout)
        scale = min(BLUR_PX / blur_mm, own, MOST_RASTER_PX / max(layout.size))
        blur = max(0.8, min(BLUR_PX, blur_mm * scale))
        factor = scale / own
        observed = _bands(lines, factor, blur)
        if len(marks.centres) == 0:
            return None
        printing = _printing(observed, shrunk(factor) @ homography, marks)
        if not printing.any():
            return None
        drawn = draw_marks(marks.only(printing), scale, margin, layout.size, colours=True)
        template = np.sqrt(np.maximum(cv2.GaussianBlur(drawn, (0, 0), blur), 0))  # flat-topped blocks converge faster
        raster = np.array([[1 / scale, 0, -margin], [0, 1 / scale, -margin], [0, 0, 1]])
        score, warp = _descend(template, observed, shrunk(factor) @ homography @ raster, ITERATIONS[level])
        refined = np.linalg.inv(shrunk(factor)) @ warp @ np.linalg.inv(raster)
        if not np.isfinite(refined).all() or not plausible(refined / refined[2, 2], layout):
            return None
        homography = refined / refined[2, 2]
    return score, homography


def _printing(observed: Image, to_level: Floats, marks: Marks) -> NDArray[np.bool_]:
    """Marks (n,) of the blocks that show on the photo at all: an absent channel must not pull at the others."""
    place = np.round(project(to_level, marks.centres)).astype(int)
    inside = (place >= 0).all(axis=1) & (place[:, 0] < observed.shape[1]) & (place[:, 1] < observed.shape[0])
    seen = np.zeros(len(place))
    unit = marks.colours / np.linalg.norm(marks.colours, axis=1, keepdims=True)
    seen[inside] = (observed[place[inside, 1], place[inside, 0]] * unit[inside]).sum(axis=1)
    blocks = np.unique(marks.block[inside])
    share = {int(b): float(seen[inside & (marks.block == b)].mean()) for b in blocks}
    least = PRESENT_SHARE * max(share.values(), default=0.0)
    return np.asarray(np.isin(marks.block, [b for b, value in share.items() if value >= least]) if share else inside)


def _descend(template: Image, observed: Image, warp: Floats, iterations: int) -> tuple[float, Floats]:
    """Homography (template to observed pixels) of least robust difference, and the correlation reached.

    Inverse compositional Gauss-Newton (Baker & Matthews 2004, doi:10.1023/B:VISI.0000011205.11775.fd) with
    Cauchy weights, so that what should not be there, and blocks that did not print, lose their say.
    """
    height, width = template.shape[:2]
    half = max(height, width) / 2
    to_unit = np.array([[1 / half, 0, -width / 2 / half], [0, 1 / half, -height / 2 / half], [0, 0, 1]])
    from_unit = np.linalg.inv(to_unit)
    gx, gy = (cv2.Sobel(template, cv2.CV_32F, *order, scale=half / 8) for order in ((1, 0), (0, 1)))
    steep = np.hypot(gx, gy).max(axis=2)
    chosen = steep > 0.05 * steep.max()
    frame = np.ones(observed.shape[:2], np.uint8)
    rows, columns = np.nonzero(chosen)
    x, y = (
        ((columns - width / 2) / half).astype(np.float32)[:, None],
        ((rows - height / 2) / half).astype(np.float32)[:, None],
    )
    u, v = gx[chosen], gy[chosen]
    jacobian = np.stack(
        [u * x, u * y, u, v * x, v * y, v, -(u * x + v * y) * x, -(u * x + v * y) * y], axis=-1
    ).reshape(-1, 8)
    wanted = template[chosen].ravel()
    got = wanted
    for _ in range(iterations):
        seen = cv2.warpPerspective(observed, warp, (width, height), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP)
        got = seen[chosen].ravel()
        within = cv2.warpPerspective(frame, warp, (width, height), flags=cv2.INTER_NEAREST | cv2.WARP_INVERSE_MAP)
        counted = np.repeat(within[chosen], 3).astype(np.float32)
        gain = float((counted * got) @ wanted / (got @ got + 1e-9))
        off = gain * got - wanted
        spread = 1.5 * float(np.median(np.abs(off))) + 0.02
        weighted = jacobian * (counted / (1 + (off / spread) ** 2))[:, None]
        normal = (weighted.T @ jacobian).astype(np.float64)
        step = np.linalg.solve(normal + np.diag(1e-4 * np.diag(normal) + 1e-9), (weighted.T @ off).astype(np.float64))
        change = np.array([[1 + step[0], step[1], step[2]], [step[3], 1 + step[4], step[5]], [step[6], step[7], 1]])
        warp = warp @ from_unit @ np.linalg.inv(change) @ to_unit
        warp = warp / warp[2, 2]
        if np.abs(step).max() < 0.1 / half:  # a tenth of a pixel
            break
    together = np.corrcoef(got, wanted)[0, 1] if got.std() > 0 else 0.0
    return float(together), warp


def shrunk(factor: float) -> Floats:
    """Pixels of a picture to pixels of the same picture made smaller by `factor`; pixel centres are whole."""
    return np.array([[factor, 0, factor / 2 - 0.5], [0, factor, factor / 2 - 0.5], [0, 0, 1]])


def _bands(lines: Image, factor: float, blur: float) -> Image:
    """Strokes made smaller, blurred."""
    small = cv2.resize(lines, None, fx=factor, fy=factor, interpolation=cv2.INTER_AREA) if factor < 1 else lines
    return np.asarray(np.sqrt(np.maximum(cv2.GaussianBlur(small, (0, 0), blur), 0)), np.float32)


def plausible(homography: Floats, layout: Layout) -> bool:
    """Whether a homography could be a photo of a sheet: not mirrored, not folded, tilted less than about 50 degrees."""
    w, h = layout.size
    corners = np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])
    depth = np.column_stack([corners, np.ones(4)]) @ homography[2]
    if (depth <= 0).any() or depth.max() / depth.min() > 2.0:
        return False
    seen = cv2.perspectiveTransform(corners[None], homography)[0]
    edges = np.roll(seen, -1, axis=0) - seen
    turn = edges[:, 0] * np.roll(edges[:, 1], -1) - edges[:, 1] * np.roll(edges[:, 0], -1)
    lengths = np.linalg.norm(edges, axis=1) / np.array([w, h, w, h])
    return bool((turn > 0).all() and lengths.max() / lengths.min() < 2.2)


def _scale(homography: Floats, layout: Layout) -> float:
    """Pixels per mm at the pattern's centre."""
    x, y = layout.size[0] / 2, layout.size[1] / 2
    a, b, c = cv2.perspectiveTransform(np.array([[[x, y], [x + 1, y], [x, y + 1]]]), homography)[0]
    u, v = b - a, c - a
    return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))
