"""How well a place explains the ink: marks where the layout has marks, bare paper where it has none, right colours."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import (
    Backing,
    Layout,
    MarksBlock,
    SolidBlock,
    cells_of,
    clear_of,
    clear_width,
    extent,
    ink_codes,
    mark_centres,
    marks_over,
    near_by,
)
from dusky_sieve.core.reading.compiled import in_rows
from dusky_sieve.core.reading.inkmap import InkMap
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.tally import ink_at, levels, likeness, medians_of, shares_of

Floats = NDArray[np.float64]
Place = Callable[[Floats], Floats]  # sheet points (n, 2) mm to ink map pixels

SAMPLED = 1500  # marks looked at while candidates are compared
PRINTS_SHARE = 0.12  # and over that of the strongest block: noise and shadow are no ink
GAP_MM = 0.2  # between neighbours along travel, from which the gap shows on the ink map
PRINTS_FROM = 4.0  # of 255: ink of a block's darker places over its bare ones, from which it shows at all
LIKELY_BEYOND = 0.5  # of the share of marks in sight that are explained, that marks beyond the photo count for
KEPT = 12  # registrations whose fit is kept
HARDLY_PRINTS = 0.15  # of the share that the fullest block shows, up to which one's colour says nothing
STRONG = 0.85  # quantile of a block's marks (or of its bare places) that stands for their strong ink


@dataclass(frozen=True)
class Probes:
    """Where a layout says marks and bare paper are: points (n, 2) mm, block index (n,), True for a mark (n,).

    hints, depths : (blocks, 3) colour each ink takes from the light, unit vectors, and (blocks,) how much
    """

    points: Floats
    along: Floats
    block: NDArray[np.int64]
    mark: NDArray[np.bool_]
    hints: Floats
    depths: Floats
    stride: int


@dataclass(frozen=True)
class Fit:
    """Marks explained in all, and the share explained of the blocks that print; which those are.

    spill : ink of bare places as a share of that of marks, over the blocks that print: missing marks do not raise it, a
    lattice that lies badly does
    low, high : (blocks,) ink of bare paper and of a mark on the map; colours : (blocks, 3) what marks take from the
    light as unit vectors, 0 where none was seen or the block hardly printed
    """

    explained: float
    there: float
    spill: float
    printing: NDArray[np.bool_]
    low: Floats
    high: Floats
    colours: Floats


@lru_cache(maxsize=16)
def probes(layout: Layout, backing: Backing, most: int = SAMPLED, *, rims: bool = False) -> Probes:
    """Probing points of every block judged over `backing`, thinned to about `most` marks.

    rims : the outermost marks and the bare places outside them stay, where they are not too many: whole lattice steps
    show nowhere else.
    """
    blocks = marks_over(layout, backing)
    total = sum(b.nozzles for b in blocks)
    stride = max(1, total // most)
    points, along, index, mark = [], [], [], []
    for k, (block, (bare, reach, rim)) in enumerate(zip(blocks, _bare_of(layout, backing), strict=True)):
        centres = mark_centres(block)
        inside = _kept(_outermost(centres, block) & rims, stride, most // len(blocks))
        some = _kept(rim & rims, stride, most // len(blocks))
        points += [centres[inside], bare[some]]
        along += [np.full(len(inside), block.mark[0]), reach[some]]
        index.append(np.full(len(inside) + len(some), k))
        mark += [np.ones(len(inside), bool), np.zeros(len(some), bool)]
    hints = np.array([stroke_colour(b.ink, backing) for b in blocks])
    depths = np.array([np.linalg.norm(hint_share(b.ink, backing)) for b in blocks])
    return Probes(np.concatenate(points), np.concatenate(along), np.concatenate(index), np.concatenate(mark), hints, depths, stride)  # fmt: skip


@lru_cache(maxsize=4)
def _bare_of(layout: Layout, backing: Backing) -> list[tuple[Floats, Floats, NDArray[np.bool_]]]:
    """Of every block judged over a backing its bare places (n, 2) mm, how far (n,) mm each is bare along, and which are its rim's (n,)."""
    found = []
    blocks = marks_over(layout, backing)
    for block, clear in zip(blocks, clear_of(blocks), strict=True):
        bare = bare_places(block, clear.width)
        columns, x = np.sort(mark_centres(block)[: block.columns, 0]), bare[:, 0]
        after = np.searchsorted(columns, x)
        beside = [np.abs(x - columns[k]) for k in (np.maximum(after - 1, 0), np.minimum(after, len(columns) - 1))]
        reach = np.where(np.minimum(*beside) > 0.5 * block.mark[0], 0.0, block.mark[0])
        free = ~_taken(bare, reach, block, layout)
        found.append((bare[free], reach[free], _outermost(bare[free], block)))
    return found


def _taken(points: Floats, reach: Floats, block: MarksBlock, layout: Layout) -> NDArray[np.bool_]:
    """Which points (n, 2), bare over (n,) mm along travel, lie where another block may have ink: in its box, or on its marks where it is interleaved."""
    half = 0.5 * reach
    taken = np.zeros(len(points), bool)
    x, y = points.T
    banks = near_by(extent(block), layout.blocks)
    for other in near_by((x.min(), y.min(), x.max(), y.max()), layout.blocks, max(half.max(), 0.2)):
        if other.id == block.id:
            continue
        box = extent(other)
        inside = (x + half > box[0]) & (x - half < box[2]) & (y > box[1] - 0.2) & (y < box[3] + 0.2)
        if isinstance(other, MarksBlock) and other in banks:
            marks, near = mark_centres(other), np.flatnonzero(inside)
            inside = np.zeros(len(points), bool)
            for some in np.array_split(near, len(near) // 500 + 1):
                off = np.abs(points[some][:, None] - marks[None])
                over = (off[..., 0] < half[some, None] + other.mark[0] / 2) & (off[..., 1] < other.mark[1] + 0.05)
                inside[some] = over.any(axis=1)
        taken |= inside
    return taken


def _outermost(points: Floats, block: MarksBlock) -> NDArray[np.bool_]:
    """Which of a block's points (n, 2) mm are its first or last rows' or columns', or lie outside them."""
    cell = cells_of(block, points)
    if cell is None:
        return np.zeros(len(points), bool)
    last = np.array([min(block.columns, block.nozzles), -(-block.nozzles // block.columns)]) - 1
    return np.asarray(((cell < 0.25) | (cell > last - 0.25))[:, last > 0].any(axis=1))


def _kept(always: NDArray[np.bool_], stride: int, most: int) -> NDArray[np.int64]:
    """Which of some points (n,) stay where one in `stride` does: those too that always should, unless more than `most`."""
    some = thinned_by(stride, len(always))
    rim = np.flatnonzero(always)
    return np.union1d(some, rim) if len(rim) <= most else some


def thinned_by(stride: int, count: int) -> NDArray[np.int64]:
    """Which of `count` things stay, (n,), where one in `stride` does, strewn.

    At even steps an even number of columns would never show its last one.
    """
    if stride == 1:
        return np.arange(count)
    return np.sort(np.random.default_rng(count).permutation(count)[: -(-count // stride)])


def bare_places(block: MarksBlock, gap: float) -> Floats:
    """Points (n, 2) mm that carry no ink on a perfect sheet: half-way between rows, in gaps of so many mm along travel, and one step outside."""
    centres = mark_centres(block)
    column, row = np.array(block.column_pitch), np.array(block.row_pitch)
    rows = -(-block.nozzles // block.columns)
    origin = np.array(block.origin)
    between = centres + row / 2 if rows > 1 else centres + (0, 3 * block.mark[1])
    r, c = np.arange(rows)[:, None], np.arange(min(block.columns, block.nozzles))[:, None]
    rest = np.arange(block.nozzles, rows * block.columns)[:, None]  # the last row's places that have no nozzle
    if block.columns > 1 and gap > GAP_MM:
        across = np.arange(block.nozzles) % block.columns < block.columns - 1
        alone = gap == clear_width(block)  # no bank stands between its columns
        parts_in_row = centres[across] + column * (0.5 if alone else (block.mark[0] + gap) / 2 / abs(column[0]))
        between = np.concatenate([between, parts_in_row[:-1]])
    parts = [between, origin + (rest % block.columns) * column + (rest // block.columns) * row]
    if block.columns > 1:
        parts += [origin + r * row + k * column for k in (-1, block.columns)]
    if rows > 1:
        parts += [origin + c * column - row, origin + c * column + rows * row]
    return np.concatenate(parts)


def hint_share(ink: str, backing: Backing) -> Floats:
    """What an ink takes from (dark backing: adds to) each band of an sRGB photo, (3,) in 0..1."""
    srgb = ink_codes(ink) / 255.0
    return np.asarray(np.clip(1 - srgb if backing == "light" else srgb, 0.02, 1))


def stroke_colour(ink: str, backing: Backing) -> Floats:
    """The same as a unit vector (3,)."""
    share = hint_share(ink, backing)
    return np.asarray(share / np.linalg.norm(share))


def solid_shown(small: NDArray[np.uint8], place: Place, block: SolidBlock, backing: Backing) -> float:
    """Whether solid ink shows where a fill should be, 0..1, against the paper about a millimetre beside it.

    On two of its sides at least: a dark desk has paper beside it on one.
    """
    (x, y), (w, h) = block.origin, block.size
    inner = np.stack(np.meshgrid(np.linspace(0.15, 0.85, 5) * w + x, np.linspace(0.15, 0.85, 5) * h + y), -1).reshape(
        -1, 2
    )
    rim = [(x - 1.2, y + 0.5 * h), (x + w + 1.2, y + 0.5 * h), (x + 0.5 * w, y - 1.2), (x + 0.5 * w, y + h + 1.2)]
    at = np.rint(place(np.concatenate([inner, np.array(rim)]))).astype(int)
    inside = (at >= 0).all(axis=1) & (at[:, 0] < small.shape[1]) & (at[:, 1] < small.shape[0])
    if not inside[:25].all() or not inside[25:].any():
        return 0.0
    codes = small[at[inside, 1], at[inside, 0]].astype(np.float64)
    beside = np.sort(codes[25:], axis=0)
    paper = beside[max(-2, -len(beside))] if backing == "light" else beside[min(1, len(beside) - 1)]
    share = 1 - (codes[:25] + 3) / (paper + 3) if backing == "light" else (codes[:25] - paper) / 200
    return float((share @ stroke_colour(block.ink, backing) > 0.15).mean())


class Judge:
    """Scores places on one ink map; holds what every scoring needs."""

    def __init__(self, ink: InkMap, plan: Probes, backing: Backing, spots: int = 3) -> None:  # fmt: skip
        self.plan, self.backing, self.spots = plan, backing, spots
        self.near = ink.near
        self.codes = ink.small.reshape(-1, 3)
        self.known: dict[tuple[object, ...], Fit] = {}
        self.blocks = len(plan.hints)
        self.kind = 2 * plan.block + plan.mark  # bare places and marks of each block
        self.marks = np.bincount(plan.block[plan.mark], minlength=self.blocks).astype(np.float64)
        beside = np.stack([0.25 * plan.along, np.zeros(len(plan.points))], axis=1)
        self.places = np.concatenate([plan.points, plan.points + beside]) if spots == 3 else plan.points

    def of(self, registration: Registration) -> Fit:
        """How well a registration explains the ink; of the last few it is kept, for a third of all are asked for again."""
        same = registration.homography.tobytes(), registration.warp.tobytes(), registration.size, registration.origin
        if same not in self.known:
            self.known = dict([*self.known.items()][1 - KEPT :]) | {same: self(registration.to_photo)}
        return self.known[same]

    def __call__(self, place: Place) -> Fit:
        """How well a place explains the ink."""
        value, inside, middle = self._sampled(place)
        low, top, reach = self._levels(value, inside)
        printing = reach > max(PRINTS_FROM, PRINTS_SHARE * float(reach.max()))
        high = np.where(printing, np.maximum(top, low + PRINTS_FROM), 1e9)
        got = shares_of(value, inside, self.plan.block, low, high)
        seen = self._sums(inside)
        inked = self._sums(got) / np.maximum(seen, 1)
        count = self.marks
        gain = np.where(printing, (inked[:, 1] - inked[:, 0]) * seen[:, 1] / count, 0.0)
        share = self._taken_share(middle, inside, got) * (gain > 0)[:, None]
        like, colours = likeness(share, self.plan.hints, self.plan.depths)
        # Of an absent block's places a few may lie on something else's ink.
        colours[gain <= HARDLY_PRINTS * gain.max(initial=0.0)] = 0.0
        gained = np.maximum(gain, 0.0) * like * count
        explained, shown = float(gained.sum()), float(count[printing].sum())
        beside, on = (inked * (count * printing)[:, None]).sum(axis=0)
        there, spill = explained / shown if shown else 0.0, float(beside / max(on, 1e-9))
        return Fit(explained * self.plan.stride, there, spill, printing, low, high, colours)

    def _sums(self, weight: NDArray[np.generic]) -> Floats:
        """Sums (blocks, 2) over each block's bare places and its marks, of weights (n,)."""
        return np.asarray(np.bincount(self.kind, weights=weight, minlength=2 * self.blocks).reshape(-1, 2), np.float64)

    def _levels(self, value: Floats, inside: NDArray[np.bool_]) -> tuple[Floats, Floats, Floats]:
        """Ink of bare places and of strong marks (blocks,), and how far ink of either kind rises (0 where unseen)."""
        count, found = levels(value, inside, self.kind, 2 * self.blocks, np.array([0.5, STRONG]))
        half, most = found.reshape(2, -1, 2)
        seen = (count.reshape(-1, 2) >= 3).all(axis=1)
        low, top = np.where(seen, half[:, 0], 0.0), np.where(seen, most[:, 1], 0.0)
        return low, top, np.where(seen, most.max(axis=1) - low, 0.0)

    def ink_of(self, spots: Floats, fit: Fit, block: NDArray[np.int64]) -> Floats:
        """Ink (n,) at map places (n, 2) as a share of a mark of each one's block (n,); NaN off the map."""
        h, w = self.near.shape
        at = np.rint(np.clip(spots, -9.0, 99999.0)).astype(np.int64)
        seen = (at >= 0).all(axis=1) & (at[:, 0] < w) & (at[:, 1] < h)
        share = np.full(len(at), np.nan)
        own = block[seen]
        got = (self.near[at[seen, 1], at[seen, 0]] - fit.low[own]) / (fit.high - fit.low)[own]
        share[seen] = np.clip(got, 0, 1)
        return share

    def quick(self, place: Place, steps: Floats, fit: Fit) -> Floats:
        """Marks less bare places with ink (steps,), the sheet moved by steps (steps, 2) mm; comparable among itself.

        By the ink levels of an earlier fit close by. Marks beyond the photo count in part: where a sheet is cut off, a place a
        column aside would else explain as much as the right one, with a column in sight that nowhere printed.
        """
        own, many, width = self.plan.block, len(steps), 2 * self.blocks
        value, inside, _ = self._sampled(lambda points: place((points + steps[:, None]).reshape(-1, 2)))
        got = shares_of(value, inside, np.tile(own, many), fit.low, fit.high)
        if not inside.all():
            beyond = ~inside & np.tile(self.plan.mark & fit.printing[own], many)
            got[beyond] = LIKELY_BEYOND * fit.there
        kind = self.kind + width * np.arange(many)[:, None]
        sums = np.bincount(kind.ravel(), weights=got, minlength=width * many).reshape(many, -1, 2)
        mean = sums / np.maximum(self._sums(np.ones(len(own))), 1)
        return np.asarray((mean[..., 1] - mean[..., 0]) @ self.marks)

    def _sampled(self, place: Place) -> tuple[Floats, NDArray[np.bool_], NDArray[np.int64]]:
        """Ink (n,), whether on the map (n,) and the pixel (n,), counted along rows, of each probing point."""
        given = len(self.places) // len(self.plan.points)
        places = in_rows(place(self.places)).reshape(-1, given, len(self.plan.points), 2)
        return ink_at(places, self.near, self.spots)

    def _taken_share(self, at: NDArray[np.int64], inside: NDArray[np.bool_], got: Floats) -> Floats:
        """What each block's marks take from the light (over dark: add), (blocks, 3); nothing where few show."""
        told = inside & (~self.plan.mark | (got > 0.4))
        middle, count = medians_of(self.codes, at, told, self.kind, 2 * self.blocks)
        ground, strong = middle.reshape(-1, 2, 3).transpose(1, 0, 2) + 3.0
        share = 1 - strong / ground if self.backing == "light" else (strong - ground) / 200
        return np.asarray(np.clip(share, 0, None) * (count.reshape(-1, 2)[:, 1:] >= 3))
