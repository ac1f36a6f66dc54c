"""What stands round a pattern on real sheets, drawn onto finished photographs of any world.

Frames near and far, headings, names beside the blocks, rules between them, scales of ticks, swatches of solid ink,
crosses, a square code, another pattern of marks, numbers before rows and above columns; and, under it, what ruled and used paper
has. It takes light from the photo as ink does (or adds it, over dark), as sharp as the photo is.
"""

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout, MarksBlock, extent, mark_centres

Floats = NDArray[np.float64]
Photo = NDArray[np.uint8]
Place = Callable[[Floats], Floats]  # sheet points (n, 2) mm to photo pixels
LETTERS = list("ABCDEFGHKLMNPRSTUVWXYZaeinorstlu0123456789")
ANY = "any"  # one to four kinds, drawn by lot
SHARP = 16  # sub-pixel steps of cv2's drawing: four bits


@dataclass
class _Sheet:
    """A flat sheet of ink shares, (h, w) 0 to 1, at `scale` px a mm, its origin `room` mm left of and above the pattern's."""

    share: NDArray[np.uint8]
    scale: float
    room: float
    boxes: Floats  # of the blocks over this backing, x0 y0 x1 y1 mm

    def px(self, points: Floats) -> NDArray[np.int32]:
        return np.rint((np.asarray(points, float) + self.room) * self.scale * SHARP).astype(np.int32)

    def line(self, points: Floats, thick_mm: float, ink: int) -> None:
        cv2.polylines(
            self.share, [self.px(points)], False, (ink,), max(1, round(thick_mm * self.scale)), cv2.LINE_AA, 4
        )

    def box(self, x0: float, y0: float, x1: float, y1: float, thick_mm: float, ink: int) -> None:
        self.line(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1], [x0, y0]]), thick_mm, ink)

    def fill(self, x0: float, y0: float, x1: float, y1: float, ink: int) -> None:
        cv2.fillPoly(self.share, [self.px(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]]))], (ink,), cv2.LINE_AA, 4)

    def text(self, text: str, x: float, y: float, high_mm: float, bold: float, ink: int, face: int) -> None:
        """Its lower left corner at x, y."""
        size = high_mm * self.scale / 22  # of these faces capitals are about 22 px high at size 1
        at = np.rint((np.array([x, y]) + self.room) * self.scale).astype(int)
        cv2.putText(self.share, text, (int(at[0]), int(at[1])), face, size, (ink,), max(1, round(bold * self.scale)), cv2.LINE_AA)  # fmt: skip

    @property
    def outer(self) -> tuple[float, float, float, float]:
        return (*(float(v) for v in self.boxes[:, :2].min(axis=0)), *(float(v) for v in self.boxes[:, 2:].max(axis=0)))  # type: ignore[return-value]


def furnish(layout: Layout, photo: Photo, backing: Backing, place: Place, room: float, rng: np.random.Generator, only: str = ANY) -> tuple[Photo, tuple[str, ...]]:  # fmt: skip
    """The photo with one to four kinds of furniture within `room` mm of the pattern, or `only` one kind, and their names."""
    mid = np.array(layout.size) / 2
    scale = float(np.linalg.norm(np.diff(place(np.array([mid, mid + [1.0, 0.0]])), axis=0))) * 1.3
    boxes = np.array([extent(b) for b in layout.blocks if b.backing == backing])
    w, h = (round((v + 2 * room) * scale) for v in layout.size)
    sheet = _Sheet(np.zeros((h, w), np.uint8), scale, room, boxes)
    several = rng.choice(sorted(KINDS), int(rng.integers(1, 5)), replace=False)
    kinds = [str(kind) for kind in several] if only == ANY else [only]
    if only in PAPERS and backing == "dark":
        return photo, ()
    for kind in kinds:
        (KINDS | PAPERS)[kind](sheet, layout, rng)
    x, y = _sheet_at(layout, place, photo.shape[1], photo.shape[0])
    soft = cv2.GaussianBlur(sheet.share, (0, 0), 0.8)
    seen = cv2.remap(soft, ((x + room) * scale).astype(np.float32), ((y + room) * scale).astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)  # fmt: skip
    share = cv2.GaussianBlur(seen, (0, 0), 0.6).astype(np.float32)[..., None] / 255
    ink = np.array([0.12, 0.11, 0.12] if backing == "light" else [0.85, 0.85, 0.82], np.float32)
    light = photo.astype(np.float32)
    there = light * (1 - share * (1 - ink)) if backing == "light" else light + share * (255 * ink - light)
    return np.clip(there + 0.5, 0, 255).astype(np.uint8), tuple(sorted(kinds))


def _sheet_at(layout: Layout, place: Place, wide: int, high: int) -> tuple[Floats, Floats]:
    """Sheet place of every pixel, (high, wide) mm each: a homography and what a quintic adds to it."""
    ux, uy = np.meshgrid(np.linspace(-0.1, 1.1, 40), np.linspace(-0.1, 1.1, 40))
    flat = np.stack([ux.ravel() * layout.size[0], uy.ravel() * layout.size[1]], axis=1)
    seen = place(flat)
    back, _ = cv2.findHomography(seen, flat, 0)
    half = np.array(layout.size) / 2

    def terms(points: Floats) -> Floats:
        x, y = ((points - half) / half).T
        return np.stack([x**i * y**j for i in range(6) for j in range(6 - i)], axis=1)

    first = cv2.perspectiveTransform(seen[None], back)[0]
    bent, *_ = np.linalg.lstsq(terms(first), flat - first, rcond=None)
    step = 8  # pixels between places worked out; those between follow evenly
    gx, gy = np.meshgrid(
        np.arange(-step, wide + step, step, dtype=float), np.arange(-step, high + step, step, dtype=float)
    )
    lies = cv2.perspectiveTransform(np.stack([gx.ravel(), gy.ravel()], axis=1)[None], back)[0]
    near = np.clip(lies, -0.25 * 2 * half, 1.25 * 2 * half)
    lies = (lies + terms(near) @ bent).reshape(*gx.shape, 2).astype(np.float32)
    px, py = np.meshgrid(np.arange(wide, dtype=np.float32) / step + 1, np.arange(high, dtype=np.float32) / step + 1)
    x, y = (cv2.remap(np.ascontiguousarray(lies[..., k]), px, py, cv2.INTER_LINEAR) for k in (0, 1))
    return x, y


def _frame(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    x0, y0, x1, y1 = sheet.outer
    gx, gy = rng.uniform(0.5, max(0.8, sheet.room - 0.5), 2) ** 0.9
    sheet.box(x0 - gx, y0 - gy, x1 + gx, y1 + gy, float(rng.uniform(0.1, 0.5)), int(rng.integers(140, 256)))


def _words(rng: np.random.Generator, low: int, high: int) -> str:
    """Words of random letters."""
    letters = rng.choice(LETTERS, int(rng.integers(low, high)))
    return "".join(" " if rng.random() < 0.15 else str(c) for c in letters)


def _heading(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    x0, y0, x1, y1 = sheet.outer
    high = float(rng.uniform(1.5, 4.5))
    gap = float(rng.uniform(1.0, 2.5))
    face, bold = int(rng.choice([0, 2, 3, 4, 6])), float(rng.uniform(0.12, 0.6))
    lines = max(1, min(3, int((sheet.room - gap) / (1.7 * high))))
    for k in range(lines):
        y = y0 - gap - 1.7 * high * k if rng.random() < 0.6 else y1 + gap + high + 1.7 * high * k
        sheet.text(_words(rng, 5, 40), float(rng.uniform(x0 - 1, x0 + 0.3 * (x1 - x0))), y, high, bold, 240, face)


def _names(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A name left of or above every block, as large as the gap allows."""
    above, face, ink = bool(rng.random() < 0.5), int(rng.choice([0, 2, 3, 4])), int(rng.integers(150, 256))
    for k, (x0, y0, x1, y1) in enumerate(sheet.boxes):
        same = [o for j, o in enumerate(sheet.boxes) if j != k]
        if above:
            free = min([y0 - o[3] for o in same if o[3] <= y0 and o[0] < x1 and o[2] > x0] + [sheet.room])
            high = min(0.5 * free, 3.0)
            at = (x0, y0 - 0.25 * free)
        else:
            free = min([x0 - o[2] for o in same if o[2] <= x0 and o[1] < y1 and o[3] > y0] + [sheet.room])
            high = min(0.35 * free, 2.5, y1 - y0)
            at = (x0 - 0.9 * free, (y0 + y1 + high) / 2)
        if high > 0.5:
            sheet.text(_words(rng, 1, 3 if not above else 8), *at, high, 0.12 * high, ink, face)


def _rules(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A line in every gap between rows of blocks, or above and below them all."""
    x0, y0, x1, y1 = sheet.outer
    out = float(rng.uniform(0, 0.8 * sheet.room))
    thick, ink = float(rng.uniform(0.1, 0.3)), int(rng.integers(120, 256))
    edges = sorted({round(float(v), 2) for v in sheet.boxes[:, 1]})
    ends = [max([float(b[3]) for b in sheet.boxes if b[1] < top - 0.01], default=top) for top in edges]
    free = [(e + t) / 2 for e, t in zip(ends, edges, strict=True) if t - e > 1.0]
    for y in [
        *free,
        y0 - 0.6 * sheet.room * float(rng.uniform(0.3, 1)),
        y1 + 0.6 * sheet.room * float(rng.uniform(0.3, 1)),
    ]:
        sheet.line(np.array([[x0 - out, y], [x1 + out, y]]), thick, ink)


def _ticks(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A scale beside or above the pattern."""
    x0, y0, x1, y1 = sheet.outer
    step, gap, long = float(rng.uniform(0.5, 5)), float(rng.uniform(0.6, 0.5 * sheet.room + 0.2)), float(rng.uniform(0.4, 0.4 * sheet.room))  # fmt: skip
    thick, ink = float(rng.uniform(0.08, 0.2)), int(rng.integers(150, 256))
    down = bool(rng.random() < 0.5)
    for at in np.arange(y0 if down else x0, y1 if down else x1, step):
        ends = [[x0 - gap - long, at], [x0 - gap, at]] if down else [[at, y0 - gap - long], [at, y0 - gap]]
        sheet.line(np.array(ends), thick, ink)


def _swatches(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    x0, _, x1, y1 = sheet.outer
    count, gap = int(rng.integers(2, 9)), float(rng.uniform(0.8, 0.4 * sheet.room + 0.5))
    high = max(0.5, min(float(rng.uniform(2, 8)), sheet.room - gap - 0.3))
    wide = (x1 - x0) / count
    for k in range(count):
        sheet.fill(
            x0 + k * wide + 0.1 * wide, y1 + gap, x0 + (k + 0.9) * wide, y1 + gap + high, int(rng.integers(80, 256))
        )


def _crosses(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    x0, y0, x1, y1 = sheet.outer
    out, arm = 0.6 * sheet.room, 0.35 * sheet.room
    for x in (x0 - out, x1 + out):
        for y in (y0 - out, y1 + out):
            sheet.line(np.array([[x - arm, y], [x + arm, y]]), 0.15, 230)
            sheet.line(np.array([[x, y - arm], [x, y + arm]]), 0.15, 230)


def _code(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A square of random cells."""
    x0, y0, x1, _ = sheet.outer
    cells = int(rng.integers(12, 26))
    cell = (sheet.room - 1.2) / cells
    x, y = float(rng.uniform(x0, max(x0, x1 - cells * cell))), y0 - 0.8 - cells * cell
    for j, k in np.argwhere(rng.random((cells, cells)) < 0.5):
        sheet.fill(x + k * cell, y + j * cell, x + (k + 1) * cell, y + (j + 1) * cell, 240)


def _another(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A strip of marks that are not the layout's, at one side."""
    x0, y0, x1, y1 = sheet.outer
    like = next((b for b in layout.blocks if isinstance(b, MarksBlock)), None)
    long = float(rng.uniform(0.5, 1.6)) * (like.mark[0] if like else 1.0)
    thick = float(rng.uniform(0.08, 0.2))
    step, rise = long * float(rng.uniform(1.1, 1.6)), float(rng.choice([0.0, 1.0])) * float(rng.uniform(0.1, 0.4))
    below, tall = bool(rng.random() < 0.5), sheet.room - 1.6
    row = max(0.6, float(rng.uniform(0.5, 2.0)))
    for j, y in enumerate(np.arange(0, tall - 0.3, row)):
        for k, x in enumerate(np.arange(x0, x1 - long, step)):
            at = (y1 + 0.9 if below else y0 - 0.9 - tall) + y + (k * rise) % row
            if at < (y1 + sheet.room if below else y0 - 0.7) and (j + k) % 97:
                sheet.line(np.array([[x, at], [x + long, at]]), thick, 235)


def _row_numbers(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A nozzle number before or behind every row, or every few, about as far off as the next column would be."""
    face, ink, bold = int(rng.choice([0, 2, 3, 4])), int(rng.integers(170, 256)), float(rng.uniform(0.1, 0.2))
    near, side = float(rng.uniform(0.8, 1.2)), 1 if rng.random() < 0.3 else -1
    for block in layout.blocks:
        if not isinstance(block, MarksBlock):
            continue
        column, down = abs(block.column_pitch[0]) if block.columns > 1 else 1.6 * block.mark[0], abs(block.row_pitch[1])
        every = max(1, int(np.ceil(0.9 / down))) if down > 0 else block.nozzles
        high = min(2.2, 0.7 * down * every, 0.8 * column)
        marks, last = mark_centres(block), min(block.columns, block.nozzles) - 1
        for first in range(0, block.nozzles, every * block.columns):
            x, y = marks[min(first + last, block.nozzles - 1) if side > 0 else first]
            wide = 0.75 * high * len(str(first + 1))
            off = max(near * column, (block.mark[0] + wide) / 2 + 0.15)
            _number(sheet, block, layout, first + 1, (x + side * off, y), high, (bold, ink, face))


def _column_numbers(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """A number above every column, or every few, about as far off as the next row would be."""
    face, ink, bold = int(rng.choice([0, 2, 3, 4])), int(rng.integers(170, 256)), float(rng.uniform(0.1, 0.2))
    near = float(rng.uniform(0.8, 1.2))
    for block in layout.blocks:
        if isinstance(block, MarksBlock) and block.columns > 1:
            step = max(abs(block.column_pitch[0]), 0.1)
            every = max(1, int(np.ceil(1.3 / step)))
            high = min(2.0, 0.5 * step * every, max(0.6, 0.8 * abs(block.row_pitch[1])))
            for k, (x, y) in list(enumerate(mark_centres(block)[: block.columns]))[::every]:
                up = max(near * abs(block.row_pitch[1]), (block.mark[1] + high) / 2 + 0.15)
                _number(sheet, block, layout, k + 1, (x, y - up), high, (bold, ink, face))


def _number(sheet: _Sheet, block: MarksBlock, layout: Layout, number: int, at: tuple[float, float], high: float, style: tuple[float, int, int]) -> None:  # fmt: skip
    """A number about a place, mm, where no other block stands."""
    wide = 0.75 * high * len(str(number))
    x0, y0, x1, y1 = at[0] - wide / 2, at[1] - high / 2, at[0] + wide / 2, at[1] + high / 2
    others = (extent(other) for other in layout.blocks if other.id != block.id)
    if high > 0.45 and not any(o[0] < x1 and o[2] > x0 and o[1] < y1 and o[3] > y0 for o in others):
        bold, ink, face = style
        sheet.text(str(number), x0, y1, high, bold * high, ink, face)


KINDS = {
    "frame": _frame, "heading": _heading, "names": _names, "rules": _rules, "ticks": _ticks, "swatches": _swatches,
    "crosses": _crosses, "code": _code, "another": _another,
    "rows": _row_numbers, "columns": _column_numbers,
}  # fmt: skip


def _ruled(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """Pale rules along travel."""
    _rules_under(sheet, float(rng.choice([4, 5, 7, 8])), int(rng.integers(35, 110)), rng, down=False)


def _squared(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """Pale rules along travel and across it."""
    step, ink = float(rng.choice([4, 5, 10])), int(rng.integers(35, 110))
    for down in (False, True):
        _rules_under(sheet, step, ink, rng, down=down)


def _rules_under(sheet: _Sheet, step: float, ink: int, rng: np.random.Generator, *, down: bool) -> None:
    """Rules every `step` mm under the whole sheet, not quite along it: it went through the printer a little askew."""
    high, wide = (side / sheet.scale for side in sheet.share.shape)
    slope = float(rng.uniform(-0.01, 0.01))
    for at in np.arange(float(rng.uniform(0, step)), wide if down else high, step) - sheet.room:
        ends = np.array([[-sheet.room, at], [wide - sheet.room, at + slope * wide]])
        sheet.line(ends[:, ::-1] if down else ends, 0.2, ink)


def _used(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """Lines of pale text all over the sheet."""
    high, wide = (side / sheet.scale for side in sheet.share.shape)
    size, ink = float(rng.uniform(1.6, 3.0)), int(rng.integers(25, 64))
    for y in np.arange(size, high, 1.8 * size) - sheet.room:
        letters = int(wide / size)
        sheet.text(_words(rng, letters, 1 + letters), -sheet.room, y, size, 0.1 * size, ink, 0)


def _through(sheet: _Sheet, layout: Layout, rng: np.random.Generator) -> None:
    """Text of the back side that shines through."""
    _used(sheet, layout, rng)
    sheet.share[:] = cv2.GaussianBlur(cv2.flip(sheet.share, 1), (0, 0), 0.15 * sheet.scale)


PAPERS = {"ruled": _ruled, "squared": _squared, "used": _used, "through": _through}  # only by name, and over light
