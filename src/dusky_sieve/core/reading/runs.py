"""Along travel where gaps do not show: a row of touching marks is a flight of steps, and its steps have a phase.

Laid along itself a run looks the same wherever it is put, but for its ends and its steps: each mark is level, the next
one a nozzle pitch lower, and where two meet the ink is a trace thinner. So every row is sampled along its lattice on the
full photo; height and amount of the ink there, taken against one turn a column, tell by their phase how far the lattice
is off, up to whole columns, and the rows' ends tell those. One smooth slip over the sheet must set all of them right.
"""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, clear_height, clear_of, clear_width
from dusky_sieve.core.reading.compiled import compiled
from dusky_sieve.core.reading.ends import Ends, narrow
from dusky_sieve.core.reading.order import quantile
from dusky_sieve.core.reading.patches import LINEAR, bytes_at, round_each
from dusky_sieve.core.reading.profiles import ground_between, ink_down
from dusky_sieve.core.reading.registration import DEGREES, Registration, warp_terms
from dusky_sieve.core.reading.score import stroke_colour, thinned_by

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
Waves = NDArray[np.complex128]
Photo = NDArray[np.uint8]

LEAST_STEP_PX, LEAST_GAP_PX = 1.0, 0.5  # a step lower, a gap narrower than this cannot be seen
# Per column along a row, at least and at most: so many for a gap's width, but no closer than that many pixels. With eight of a gap a
# thirtieth of its column none fell into it where the lattice was right, and the steps agreed better beside.
SAMPLES, MOST_SAMPLES, OF_A_GAP, SHARP_PX = 8, 40, 1.5, 2.0
MOST_ROWS = 160  # of all blocks together, of so many samples a column; of more the fewer
MOST_SEGMENTS = 160  # looked at while many slips are tried
SEGMENT, LEAST_COLUMNS = 6, 3  # columns whose phase is taken together, and where rows have fewer
INKED, MOST_INK = 0.3, 1.2  # of a mark's ink, from which a sample carries ink, and up to which it counts
LEAST_INKED = 0.4  # of a segment's samples that must carry ink
GAP_WEIGHT = 2.0  # of the amount's wave against the height's, which has about ten times its size on a sharp photo
SLIDES = np.linspace(-1.5, 1.5, 13)  # columns by which the lattice is slid as a whole
TILTS = np.linspace(-1.0, 1.0, 9)  # columns by which the slip may differ between the sheet's middle and its rim
NUDGES = np.linspace(-1.0, 1.0, 9)  # columns by which the whole is slid while bends are tried
# Of a column of slip, per term: of those that fit alike the smallest is taken.
COSTS = np.array([0.01] * 3 + [0.02] * 3)
# Of a column, from which a slip leaves what gaps tell of a block: twice as far it is counted as if its ends lay wrongly.
HELD_BY_GAPS = 0.5
STEPS_WEIGHT = 0.6  # of the steps' agreement against the ends' in choosing among slips
LEAST_SEGMENTS = 4  # that tell how a sheet lies along its rows
SEEN_FROM = 0.35  # agreement of the steps, 0..1, from which they are believed; noise reaches a third of it
STIFF = 0.15  # pull of the bent slip towards the straight one, as a share of what the steps say
ROUNDS = 6
BENT_FROM = {3: 18, 4: 50}  # segments, from which a slip bends up to a degree
MOST_STRADDLING = 0.2  # of all segments, beyond which the whole place is in doubt; fewer are unsure by themselves
STRADDLES = 0.28  # columns that a segment is still off at the end, from which its marks may be their neighbours

Grid = tuple[Floats, ...]  # what of each term of a slip is tried, every one with every other
_NONE = np.zeros(1)
STRAIGHT: Grid = (SLIDES, TILTS, TILTS, _NONE, _NONE, _NONE)
BENT: Grid = (NUDGES, _NONE, _NONE, TILTS, TILTS, TILTS)


@dataclass(frozen=True)
class Steps:
    """The steps of many segments of runs.

    place : (n, 2) mm, segment middles; wave : (n,) complex, size about 1 on a sharp photo, phase the slip in turns a column
    level : (n,) mm that the ink lies below the row
    column : (n,) mm a column along travel; block : (n,) index; first : (n,) first column of the segment
    """

    place: Floats
    wave: Waves
    level: Floats
    column: Floats
    block: NDArray[np.int64]
    first: NDArray[np.int64]


def runs_of(blocks: list[MarksBlock], registration: Registration) -> list[MarksBlock]:
    """The blocks whose rows are runs on this photo: gaps that do not show, steps that do."""
    found = []
    for block in blocks:
        scale = registration.px_per_mm(np.array(block.origin))
        shows = max(abs(block.column_pitch[1]) / LEAST_STEP_PX, clear_width(block) / LEAST_GAP_PX) * scale > 1
        if block.columns >= SEGMENT and narrow(block, scale) and shows:
            found.append(block)
    return found


def steps_of(photo: Photo, blocks: list[MarksBlock], registration: Registration, backing: Backing) -> Steps:
    """The steps of every row of `blocks`, as the registration lays them."""
    parts = [_block_steps(photo, k, b, registration, backing, len(blocks)) for k, b in enumerate(blocks)]
    return Steps(*(np.concatenate(values) for values in zip(*parts, strict=True)))


def _block_steps(
    photo: Photo, index: int, block: MarksBlock, registration: Registration, backing: Backing, blocks: int
) -> tuple[Floats, Waves, Floats, Floats, NDArray[np.int64], NDArray[np.int64]]:
    count = -(-block.nozzles // block.columns)
    column, down = np.array(block.column_pitch), np.array(block.row_pitch)
    scale = registration.px_per_mm(np.array(block.origin))
    step = max(clear_width(block) / OF_A_GAP, SHARP_PX / scale)
    samples = int(np.clip(np.ceil(abs(column[0]) / step), SAMPLES, MOST_SAMPLES))
    rows = np.arange(0, count, max(1, count * blocks * samples // (MOST_ROWS * SAMPLES)))
    u = (np.arange(min(block.columns, block.nozzles) * samples) + 0.5) / samples - 0.5
    places = np.array(block.origin) + rows[:, None, None] * down + u[None, :, None] * column
    amount, height = _profiles(photo, places.reshape(-1, 2), block, registration, backing)
    amount, height = amount.reshape(len(rows), -1), height.reshape(len(rows), -1)
    full = float(quantile(amount.ravel(), 0.92)) + 1e-9  # of a block that hardly prints, too, a mark and not the paper
    # A flight of steps is a saw's teeth: their first wave is a quarter turn behind the marks, the size of a step over pi.
    lift = 2j * np.pi / column[1] if abs(column[1]) * scale > LEAST_STEP_PX else 0j
    wide = min(SEGMENT, block.columns) * samples
    share, level, wave = _segments(amount / full, height, np.exp(2j * np.pi * u), lift, wide)
    starts = wide * np.arange(share.shape[1])
    whole = rows[:, None] * block.columns + (starts + wide) // samples <= block.nozzles
    some, row = np.nonzero(((share > LEAST_INKED) & whole).T)
    return (
        places[row, starts[some] + wide // 2], wave[row, some], level[row, some], np.full(len(some), float(column[0])),
        np.full(len(some), index, np.int64), starts[some] // samples,
    )  # fmt: skip


@compiled
def _segments(ink: Floats, height: Floats, turn: Waves, lift: complex, wide: int) -> tuple[Floats, Floats, Waves]:
    """How much of each row's segments, `wide` samples each, carries ink, how many mm that lies below the row, and its wave, (rows, segments) each.

    ink, height : (rows, samples) as a share of a mark's, and mm; turn : (samples,) one of a column; lift : the wave of a millimetre's step
    """
    rows, count = len(ink), ink.shape[1] // wide
    share, level, wave = np.zeros((rows, count)), np.zeros((rows, count)), np.zeros((rows, count), np.complex128)
    for r in range(rows):
        for s in range(count):
            inked = 0
            for k in range(s * wide, (s + 1) * wide):
                if ink[r, k] > INKED:
                    inked += 1
                    level[r, s] += height[r, k]
            level[r, s] /= max(inked, 1)
            share[r, s] = inked / wide
            for k in range(s * wide, (s + 1) * wide):
                if ink[r, k] > INKED:
                    step = (height[r, k] - level[r, s]) * lift
                    wave[r, s] += (step + GAP_WEIGHT * min(ink[r, k], MOST_INK)) * turn[k] / wide
    return share, level, wave


def _profiles(
    photo: Photo, places: Floats, block: MarksBlock, registration: Registration, backing: Backing
) -> tuple[Floats, Floats]:
    """Amount of ink (n,) on a line across travel at each place (n, 2) mm, and its height (n,) mm below the place."""
    scale = registration.px_per_mm(places.mean(axis=0))
    reach = min(0.5 * clear_height(block), max(2.2 * abs(block.column_pitch[1]), block.mark[1] / 2 + 4.5 / scale))
    across = np.linspace(-reach, reach, int(np.clip(2 * reach * scale, 9, 25)) | 1)
    codes = bytes_at(photo, *round_each(places, across, np.zeros(1), registration)).reshape(len(places), -1, 3)
    weights, between = stroke_colour(block.ink, backing), ground_between(len(across), backing)
    return ink_down(codes, LINEAR, weights, across, between, backing == "light")


def agreement(steps: Steps, slip: Floats) -> float:
    """How well a slip (n,) mm along travel sets the steps level, -1..1."""
    level = (steps.wave * np.exp(-2j * np.pi * slip / steps.column)).real.sum()
    return float(level / (np.abs(steps.wave).sum() + 1e-9))


def _agreements(steps: Steps, terms: Floats, some: NDArray[np.int64], way: Floats, grid: Grid) -> Floats:
    """The same (slips,) of every slip of a grid about a way, by some of the steps; terms : (n, 6) mm a unit of each.

    Turns of terms multiply: one product of matrices for a thousand slips.
    """
    turns = 2 * np.pi * terms[some] / steps.column[some, None]
    wave = steps.wave[some] * np.exp(-1j * turns @ way)
    first, *others = (np.exp(-1j * np.outer(turn, tried)) for turn, tried in zip(turns.T, grid, strict=True))
    rest = np.ones((len(some), 1))
    for other in others:
        rest = (rest[:, :, None] * other[:, None]).reshape(len(some), -1)
    level = ((first * wave[:, None]).T @ rest).real.ravel()
    return np.asarray(level / (np.abs(wave).sum() + 1e-9))


def slid(
    photo: Photo, blocks: list[MarksBlock], registration: Registration, backing: Backing, ends: Ends
) -> Registration:
    """The registration slid along the rows of blocks to where their steps are level and the runs' ends have ink up to them.

    The same where nothing better was found.
    """
    # Of a block in whose gaps another's marks stand, gaps and marks are alike: its steps say nothing.
    blocks = [
        block
        for block, clear in zip(blocks, clear_of(blocks), strict=True)
        if block.columns >= LEAST_COLUMNS and clear.width >= clear_width(block)
    ]
    steps = steps_of(photo, blocks, registration, backing) if blocks else None
    if steps is None or len(steps.wave) < LEAST_SEGMENTS:
        return registration
    column = float(np.median(np.abs(steps.column)))  # as many rows may be numbered from the right as from the left
    all_terms = warp_terms(steps.place - registration.origin, registration.size)
    terms = all_terms[:, : DEGREES[2]]
    by_gaps = np.array([block.id not in ends.block for block in blocks])[steps.block]
    coefficients = _slip(steps, terms, column, ends, ends.share(blocks), by_gaps)
    if agreement(steps, terms @ coefficients * column) < SEEN_FROM:
        return registration
    slope = float(np.median([b.column_pitch[1] / b.column_pitch[0] for b in blocks]))
    warp = registration.warp.copy()
    levelled = _levelled(steps, terms)
    supple = max((DEGREES[degree] for degree, least in BENT_FROM.items() if len(steps.wave) >= least), default=0)
    if supple:  # now that whole columns are told, what curl leaves in the corners
        together = _in_line(steps, terms @ coefficients * column)
        more = np.pad(coefficients, (0, supple - len(coefficients)))
        coefficients = _settled(together, all_terms[:, :supple], more, column)
    warp[: len(coefficients)] += np.outer(coefficients * column, (1.0, slope))
    warp[: len(levelled), 1] += levelled
    return Registration(registration.homography, warp, registration.size, registration.origin)


def _slip(steps: Steps, terms: Floats, column: float, ends: Ends, share: float, by_gaps: Bools) -> Floats:
    """Coefficients (6,) in columns of the slip that sets the steps level and, as the share of rows that have them says, the ends right.

    terms : (n, 6) of the steps' places; by_gaps : (n,) those of blocks of which gaps told whole columns before: these stay where they are
    """
    few = thinned_by(-(-len(steps.wave) // MOST_SEGMENTS), len(steps.wave))
    held = few[by_gaps[few]]
    own = terms[held] * (column / steps.column[held])[:, None]

    def worth(slips: Floats, level: Floats | float) -> Floats:
        left = np.clip(np.abs(own @ slips) / HELD_BY_GAPS - 1, 0, 1).mean(axis=0) if len(held) else 0.0
        told = share * ends.score(slips, column) - (1 - share) * left
        return np.asarray(STEPS_WEIGHT * level + told - COSTS @ np.abs(slips))

    def alone(slip: Floats) -> float:
        return float(worth(slip[:, None], agreement(steps, terms @ slip * column))[0])

    ways = []
    for order in ((STRAIGHT, BENT), (BENT, STRAIGHT)):
        way = np.zeros(DEGREES[2])
        for grid in order:
            tried = way[:, None] + np.stack([v.ravel() for v in np.meshgrid(*grid, indexing="ij")])
            level = _agreements(steps, terms * column, few, way, grid)
            best = _settled(steps, terms, tried[:, int(worth(tried, level).argmax())], column)
            way = max(way, best, key=alone)
        ways.append(way)
    return max(ways, key=alone)


def _levelled(steps: Steps, terms: Floats) -> Floats:
    """Coefficients (6,) mm of the smooth surface that most segments' ink lies on: what was left across travel."""
    weight = np.abs(steps.wave)
    fit = np.zeros(terms.shape[1])
    spread = float(np.quantile(np.abs(steps.level), 0.9)) + 1e-3
    for _ in range(ROUNDS):
        left = steps.level - terms @ fit
        w = weight / (1 + (left / spread) ** 2)
        normal = (terms * w[:, None]).T @ terms + 0.01 * w.sum() * np.diag([0, 0.1, 0.1, 1, 1, 1])
        fit = np.linalg.solve(normal + 1e-9 * np.eye(len(fit)), (terms * w[:, None]).T @ steps.level)
        spread = max(0.6 * spread, 3 * float(np.median(np.abs(steps.level - terms @ fit))))
    return np.asarray(fit)


def _settled(steps: Steps, terms: Floats, coefficients: Floats, column: float) -> Floats:
    """The slip's coefficients (t,) in columns, nudged by fractions of a column to where the steps are level."""
    weight = np.abs(steps.wave)
    for _ in range(ROUNDS):
        left = np.angle(steps.wave * np.exp(-2j * np.pi * (terms @ coefficients) * column / steps.column)) / (2 * np.pi)
        w = weight / (1 + (left / 0.15) ** 2)
        normal = (terms * w[:, None]).T @ terms
        stiff = w.sum() * np.diag([1e-3] * 3 + [STIFF] * (len(coefficients) - 3))
        coefficients = coefficients + np.linalg.solve(
            normal + stiff, (terms * w[:, None]).T @ (left * steps.column / column)
        )
    return coefficients


def _in_line(steps: Steps, slip: Floats) -> Steps:
    """The steps as if a slip (n,) mm set every block right as a whole: heads and colours out of line bend no paper."""
    left = steps.wave * np.exp(-2j * np.pi * slip / steps.column)
    mean = np.bincount(steps.block, left.real) + 1j * np.bincount(steps.block, left.imag)
    return replace(steps, wave=steps.wave * np.exp(-1j * np.angle(mean))[steps.block])


def straddling(
    photo: Photo, blocks: list[MarksBlock], registration: Registration, backing: Backing
) -> tuple[float, dict[str, Bools]]:
    """Share of the segments looked at that are off, and per block which marks stand in columns where some are, or next to them.

    Nothing where gaps show by themselves or steps are too low to see.
    """
    runs = runs_of(blocks, registration)
    if not runs:
        return 0.0, {}
    steps = steps_of(photo, runs, registration, backing)
    off = looked = 0.0
    doubtful: dict[str, Bools] = {}
    for k, block in enumerate(runs):
        segment = np.arange(block.nozzles) % block.columns // SEGMENT
        count = block.columns // SEGMENT
        bad = np.zeros(count + 2, bool)  # one more at either side, for neighbours
        for s in range(count):
            own = (steps.block == k) & (steps.first == s * SEGMENT)
            if own.any():
                together = steps.wave[own].sum()
                size = np.abs(steps.wave[own]).sum()
                looked += size
                bad[s + 1] = abs(np.angle(together)) / (2 * np.pi) > STRADDLES and abs(together) > SEEN_FROM * size
                off += size * bool(bad[s + 1])
        near = bad[:-2] | bad[1:-1] | bad[2:]
        doubtful[block.id] = near[np.minimum(segment, count - 1)]
    return off / looked if looked else 0.0, doubtful
