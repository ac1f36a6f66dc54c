"""Measuring every mark of a block: how much ink, and how far from its place."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Clear, MarksBlock, mark_centres
from dusky_sieve.core.reading.cover import bleached, hidden_marks, ruled, veiled
from dusky_sieve.core.reading.order import median, one_sigma, quantile
from dusky_sieve.core.reading.patches import LINEAR, Patches, cut_patches, in_one, ink_weights
from dusky_sieve.core.reading.profiles import (
    FOOT,
    at_ends,
    bank_of,
    best_match,
    does_not_end,
    light_along,
    one_hump,
    peaks,
    places_of_ends,
    shifted,
    slopes_of,
    steepness,
    strongest_beside,
    strongest_left,
    typical_of,
)
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.surface import smooth_surface

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

SEEN_FROM = 3.5  # of the noise in a whole window, from which a best match is a mark and not luck
DEAD = 0.1  # share of a block's marks that print, below which it is taken as dead
SEEN_AMONG_DEAD = 5.0  # of the noise, in place of the above: among hundreds of gaps chance makes many a faint mark
FEIGNED = 0.1  # of other blocks' peak ink: fainter by all marks is what spills over from a bank beside, or grain
GAP_SHARE, ENOUGH_GAPS = 0.35, 8  # of strong marks, below which nothing printed; so many gaps tell their own noise
FAR_BESIDES = 2.5  # the same on top, two pitches from its place: a gap is likelier than a faint far throw
SOLID = 0.6  # of the typical mark, from which a mark printed well
PRINTED_FROM = 0.12  # share of the typical mark, under which nothing has a place
# Of the reach across travel: where ink that is not the mark's covers it, and where paper should be bare.
NEAR_BY, BESIDE = 0.7, 0.8
WHOLE_FROM, LEAST_WHOLE = 0.75, 6  # ink of whole marks, and how many say how ends look
SURELY_OWN = 0.35  # of a mark's length to either side of its middle, that blur from beyond its ends does not reach
# Of a mark's ink, that must be beyond both its ends, and in one-sigmas of both ends' sum, for it to be no mark: of 1,780 weak and thrown
# marks on clean paper none has 0.2.
RUNS_ON, SURELY_BEYOND = 0.25, 3.0
LOST_TO_LIGHT = 0.15  # of a typical mark's ink, one-sigma: what is lost of a mark's where the sensor is full
FOREIGN_INK = 0.28  # of a typical mark: ink beside the mark's own hump that does not belong there
# The same of a faint mark's own: a pen that crosses a gap is as dark all over as where the mark would be.
FOREIGN_OF_OWN = 0.2
# Of the rise of a mark's ink across travel over its length, in thicknesses, and how many one-sigmas from none: a pen, a scratch.
# At the bad end of three worlds' tuning sheets 11 of 37 marks that wrongly seem thrown run so, and 1 of 2,279 that are.
ASKEW, SURELY_ASKEW = 1.2, 3.0
ASKEW_FROM = 0.4  # nozzle pitches off its place, from which a mark is looked at so
INNER_LENGTH = 0.45  # of its length to either side of its middle
ABOUT_MIDDLE = 0.75  # of the reach across travel, in which a mark's peak is looked for
# Between them ink may seem to fade and to grow smoothly over a block: by focus, glare and haze, and over black by the lamp, which
# falls to a quarter over a sheet, and of which bare paper tells nothing there.
GAIN_LIMIT: dict[Backing, tuple[float, float]] = {"light": (0.65, 1.35), "dark": (0.35, 2.8)}
# Of the typical mark's ink between which marks are strong ones; how many are needed to tell; and how often that is asked, where
# those in little light are no strong ones at first.
STRONG = (0.62, 1.5)
FEW_STRONG: dict[Backing, int] = {"light": 60, "dark": 20}
GAIN_ROUNDS: dict[Backing, int] = {"light": 1, "dark": 3}
# Pixels beyond a mark's ends, from which ink there is not its own; of a mark's ink, what goes on there and what is bare within it; and of its
# length to either side of its middle, what is so.
BEYOND_PX, GOES_ON, BARE_WITHIN, WITHIN = 1.6, 0.7, 0.4, 0.4
OF_THE_END = 0.3  # of the ink at one end, that the other half of a mark must have to be one
ENDS_FROM_PX = 1.6  # bare paper between neighbours along travel, from which a mark's ends can be seen


@dataclass(frozen=True)
class MarkMeasures:
    """What was measured of a block's marks, in their order.

    ink : (n,) as a share of the block's typical mark; ink_sigma : (n,)
    offset : (n, 2) mm found minus predicted (x, y), x as far as both ends agree; centroid_x : (n,) the same from
    both ends' mean, for registration; offset_sigma : (n, 2). NaN where next to nothing printed
    judged : (n,) False where the frame's edge, glare or an object hides the mark: glare, outside, covered (n,)
    cut : (n,) ink off its place that goes on to where the mark's patch ends: a letter, a frame, a throw further than is followed
    straddles : (n,) ink that goes on beyond one of its ends, while it is bare within its length: the lattice lies between two marks of a row
    at_one_end : (n,) ink at one of its ends, and hardly any in the other half of its length: the next one's end
    beside : (n,) ink half-way to the next rows, or as far as was looked, as a share of the typical mark's peak
    bare : (n,) the strongest ink beside the mark's hump, in the same units, where paper should be bare; NaN where it is not seen
    printing : share of the marks that carry ink
    strength : the typical mark's peak ink share, about 0..1 of the ink's own colour; width : its one-sigma, mm
    contrast : of the typical mark over the paper's grain; ground : (3,) linear light of the paper round it
    bands : (n, 3) what a mark takes of each band's light, as a share of the typical mark's; full : (3,) what that one takes, its
    peak, 0..1; counts : (3,) how much each band counts in `ink`
    """

    ink: Floats
    ink_sigma: Floats
    offset: Floats
    centroid_x: Floats
    offset_sigma: Floats
    judged: Bools
    glare: Bools
    outside: Bools
    covered: Bools
    cut: Bools
    straddles: Bools
    at_one_end: Bools
    beside: Floats
    bare: Floats
    printing: float
    strength: float
    width: float
    contrast: float
    ground: Floats
    bands: Floats
    full: Floats
    counts: Floats

    @property
    def solid(self) -> Bools:
        """Marks (n,) that printed well enough to say where the sheet lies."""
        return self.judged & ~self.cut & (self.ink > SOLID) & np.isfinite(self.offset).all(axis=1)


@dataclass(frozen=True)
class Expected:
    """What a printing mark of this photo looks like, from the other blocks: peak ink share and one-sigma in mm; and the paper's colour (3,)."""

    strength: float = 0.5
    width: float = 0.0
    paper: Floats | None = None

    @property
    def known(self) -> bool:
        """Whether marks of this photo were measured before: over dark backings in little light all may be far fainter than this."""
        return self.width > 0


def measure_block(
    photo: Photo,
    block: MarksBlock,
    registration: Registration,
    backing: Backing,
    *,
    expected: Expected,
    clear: Clear,
    rows: NDArray[np.int64] | None = None,
) -> MarkMeasures:
    """Ink and offset of each mark (or of the marks of `rows`) against the block's own typical mark.

    `expected` judges a block that prints next to nothing; `clear` is what is so about its marks among all blocks.
    """
    patches = cut_patches(photo, block, registration, backing, rows, clear)
    weights, printing = ink_weights(patches, block, backing)
    scale = registration.px_per_mm(mark_centres(block)[0])
    rule = ruled(patches, weights, block, rows, backing, clear.width * scale)
    if rule.any():  # what runs through says neither whether the block prints nor in what colour
        weights, printing = ink_weights(replace(patches, seen=patches.seen & ~rule), block, backing)
    noise = grain = float(np.sqrt(((weights * patches.noise) ** 2).sum()))
    raw = in_one(patches.across_ink, weights)
    profile = _flattened(raw, block, patches.across)
    template, strength, width = _typical_profile(profile, patches.across, block, printing, expected)
    if expected.known and strength < FEIGNED * expected.strength:
        printing = 0.0
        template, strength, width = _typical_profile(profile, patches.across, block, printing, expected)
    seen_from = SEEN_FROM
    if printing < DEAD:
        noise, seen_from = max(noise, _ripple(profile, template)), SEEN_AMONG_DEAD
    for _ in range(2 if printing > 0.1 else 1):
        amount, sigma, dy, dy_sigma = _match(
            profile, template, patches.across, noise, grain, block.nozzle_pitch, seen_from
        )
        template = _sharpened(profile, template, amount, dy, patches.across)
    gaps = amount < GAP_SHARE * quantile(amount, 0.9)
    if printing >= DEAD and gaps.sum() >= ENOUGH_GAPS:
        noise = max(noise, _ripple(profile[gaps], template))
    amount, sigma, dy, dy_sigma = _match(profile, template, patches.across, noise, grain, block.nozzle_pitch, seen_from)
    hidden, covered = hidden_marks(patches, block, rows, backing, expected.paper)
    covered |= rule
    usable = patches.seen & ~hidden & ~covered
    dimmer = usable & ~patches.full
    usable = dimmer if dimmer.sum() >= ENOUGH_GAPS else usable
    level = _typical_level(amount, printing, usable)
    gain = _gain(amount / level, usable, block, rows, backing) if printing > 0.3 else np.ones(len(amount))
    ink = amount / level / gain
    if rows is None:
        hidden |= veiled(patches, block, ink, backing) | bleached(patches, block, ink, strength)
    own = shifted(np.broadcast_to(template, profile.shape).copy(), -dy / (patches.across[1] - patches.across[0]))
    foreign, beside = _besides(profile, own, amount, patches.across, noise)
    covered |= foreign > FOREIGN_INK * level * gain
    covered |= (ink > PRINTED_FROM) & (ink < SOLID) & (foreign > FOREIGN_OF_OWN * amount)
    covered |= _askew(patches, weights, block, dy, ink)
    along = _ink_along(patches, weights, block, dy, backing)
    covered |= _runs_on(along, patches.along, block, dy, ink, usable)
    whole = ink > SOLID
    dx, centre_x, dx_sigma = _ends(along, patches.along, block, whole, scale)
    printed = ink > PRINTED_FROM
    bands, full, counts = _by_band(patches, own, usable & whole, weights)
    return MarkMeasures(
        ink=ink, ink_sigma=np.hypot(sigma / level / gain, np.where(patches.full, LOST_TO_LIGHT, 0)), offset=np.where(printed[:, None], np.stack([dx, dy], axis=1), np.nan),
        centroid_x=centre_x, offset_sigma=np.where(printed[:, None], np.stack([dx_sigma, dy_sigma], axis=1), np.nan),
        judged=patches.seen & ~hidden & ~covered, glare=hidden, outside=~patches.seen, covered=covered, cut=printed & does_not_end(profile, dy / (patches.across[1] - patches.across[0])),
        straddles=_straddles(along, patches.along, block, printed, whole, scale), at_one_end=_at_one_end(along), bare=np.where(patches.seen & ~hidden, beside / level / gain, np.nan),
        beside=at_ends(raw).max(axis=1) / (level * float(template.max())), printing=printing, strength=strength, width=width, contrast=level * float(template.max()) / grain,
        ground=median(patches.ground, axis=0), bands=bands / gain[:, None], full=full, counts=counts,
    )  # fmt: skip


def _flattened(profile: Floats, block: MarksBlock, across: Floats) -> Floats:
    """Profiles (n, across) less the drift of their ground: compression blocks, shadow edges, a word near by."""
    count = len(across)
    if (across[-1] - across[0]) < 4 * block.mark[1]:
        return profile  # neighbours stand close; there is no bare end to take the ground from
    limit = 0.15 * float(quantile(profile.max(axis=1), 0.8))
    top, foot = np.clip(at_ends(profile), -limit, limit).T
    ramp = np.linspace(0, 1, count)
    return np.asarray(profile - (top[:, None] * (1 - ramp) + foot[:, None] * ramp))


def _typical_profile(
    profile: Floats, across: Floats, block: MarksBlock, printing: float, expected: Expected
) -> tuple[Floats, float, float]:
    """Profile across the typical mark, (across,), centred, its peak and its one-sigma in mm; from marks that print."""
    step = float(across[1] - across[0])
    about = np.flatnonzero(np.abs(across) <= ABOUT_MIDDLE * across[-1])
    peak, best = peaks(profile, int(about[0]), int(about[-1]) + 1)
    good = peak > 0.6 * quantile(peak, 0.85)
    if printing < 0.1 or good.sum() < 6:
        sigma = max(0.4 * block.mark[1], expected.width, 1.0 * step)
        return expected.strength * np.exp(-0.5 * (across / sigma) ** 2), expected.strength, sigma
    return one_hump(typical_of(profile, good, np.ones(len(peak)), across[best] / step), across)


def _sharpened(profile: Floats, template: Floats, amount: Floats, dy: Floats, across: Floats) -> Floats:
    """The typical profile again, from marks laid onto each other by their measured places."""
    good = (amount > 0.6) & (amount < 1.6) & (np.abs(dy) < 0.5 * across[-1])
    if good.sum() < 12:
        return template
    return one_hump(typical_of(profile, good, amount, dy / (across[1] - across[0])), across)[0]


def _ripple(profile: Floats, template: Floats) -> float:
    """One-sigma of the template's match on profiles (n, across) without marks: compression leaves waves, not grain."""
    bank, inside = bank_of(template)
    return one_sigma(((profile @ bank.T) / np.sqrt(inside)).ravel())


def _match(
    profile: Floats, template: Floats, across: Floats, noise: float, grain: float, pitch: float, seen_from: float
) -> tuple[Floats, float, Floats, Floats]:
    """Amount of ink (n,) in units of the template, its one-sigma, place across feed (n,) mm and its one-sigma (n,) mm.

    Least squares of each profile against the shifted template; the shift by parabola at the best match. A best
    match that noise alone would reach somewhere in the window is no mark: its amount is taken at its own place.
    `noise` says how much ink it may feign, the paper's `grain` how far it shifts a mark that is there.
    """
    step = float(across[1] - across[0])
    half = profile.shape[1] // 2
    power = float((template**2).sum())
    bank, inside = bank_of(template)
    far = np.clip(np.abs(np.arange(-half, half + 1)) * step / (2 * pitch), 0, 1)
    matched = (profile @ bank.T) / np.sqrt(inside)
    peak, place = best_match(matched, (seen_from + FAR_BESIDES * far) * noise, inside)
    sharp = steepness(template, step) + 1e-9
    sigma = noise / float(np.sqrt(power))
    return peak, sigma, place * step, grain / (np.maximum(peak, 0.05) * sharp) + 0.02 * step


def _gain(ink: Floats, usable: Bools, block: MarksBlock, rows: NDArray[np.int64] | None, backing: Backing) -> Floats:
    """How the typical mark's ink drifts over the block (n,), about 1: focus, glare and haze change it smoothly, over black the lamp."""
    places = mark_centres(block) if rows is None else mark_centres(block)[rows]
    gain = np.ones(len(ink))
    for _ in range(GAIN_ROUNDS[backing]):
        strong = usable & (ink > STRONG[0] * gain) & (ink < STRONG[1] * gain)
        if strong.sum() < FEW_STRONG[backing]:
            break
        drift = np.exp(smooth_surface(places, np.log(np.maximum(ink, PRINTED_FROM)), strong))
        gain = np.clip(drift, *GAIN_LIMIT[backing])
    return gain


def _besides(profile: Floats, own: Floats, amount: Floats, across: Floats, noise: float) -> tuple[Floats, Floats]:
    """What each mark's own hump does not explain, noise taken off, and ink beside it, (n,) each: the strongest run, in units of the template.

    own : (n, across) the template where each mark lies
    """
    top, spans = own.max() + 1e-9, []
    for reach in (NEAR_BY, BESIDE):
        near = np.flatnonzero(np.abs(across[1:-1]) < reach * across[-1]) + 1
        spans.append((int(near[0]), int(near[-1]) + 1))
    left = strongest_left(profile, amount[:, None] * own, *spans[0])
    bare = strongest_beside(profile, own, FOOT * top, *spans[1])
    return np.asarray(np.clip(left - 3 * noise, 0, None) / top), np.asarray(bare / top)


def _by_band(patches: Patches, own: Floats, good: Bools, weights: Floats) -> tuple[Floats, Floats, Floats]:
    """MarkMeasures.bands, full and counts: each band matched with the template where each mark lies, (n, across)."""
    taken = np.einsum("kna,na->nk", patches.across_ink, own) / (own**2).sum(axis=1)[:, None]
    typical = np.maximum(median(taken[good], axis=0), 1e-6) if good.any() else np.ones(3)
    counts = weights * typical
    return taken / typical, typical * float(own.max()), counts / counts.sum()


def _runs_on(along: Floats, places: Floats, block: MarksBlock, dy: Floats, ink: Floats, usable: Bools) -> Bools:
    """Marks (n,), no stronger than others or off their place, whose ink runs on beyond both of their ends as a rule's does: a mark ends there.

    along : (n, along) ink along each mark, at places (along,) mm from its middle
    """
    whole = usable & (ink > WHOLE_FROM) & (ink < 2 - SOLID)
    if whole.sum() < LEAST_WHOLE:
        return np.zeros(len(ink), bool)
    inside = along[:, np.abs(places) < SURELY_OWN * block.mark[0]].mean(axis=1)
    beyond = along[:, [0, -1]]
    usual = median(beyond[whole], axis=0)
    scatter = 1.4826 * median(np.abs(beyond[whole] - usual), axis=0).max()
    more = beyond - usual  # what is beyond the ends, and not at those of other marks
    # A mark in its place with a rule through it is more than a mark.
    aside = (ink < 1) | (np.abs(dy) > ASKEW_FROM * block.nozzle_pitch)
    surely = more.sum(axis=1) > SURELY_BEYOND * np.sqrt(2) * scatter
    return np.asarray(aside & (ink > PRINTED_FROM) & (more.min(axis=1) > RUNS_ON * inside) & surely)


def _ink_along(patches: Patches, weights: Floats, block: MarksBlock, dy: Floats, backing: Backing) -> Floats:
    """Ink (n, along) along each mark where it lies, the mean over its thickness."""
    across = patches.across
    step = across[1] - across[0]
    wide = max(1, round(0.5 * block.mark[1] / step))
    middle = np.clip(np.rint(dy / step).astype(int) + len(across) // 2, wide, len(across) - 1 - wide)
    light, ground = light_along(patches.codes, LINEAR, middle, wide), patches.ground[:, None]
    return np.asarray((1 - light / ground if backing == "light" else light - ground) @ weights)


def _askew(patches: Patches, weights: Floats, block: MarksBlock, dy: Floats, ink: Floats) -> Bools:
    """Marks (n,) whose ink, off its place, runs across travel while it goes along: nozzles lay marks along travel only."""
    askew = np.zeros(len(dy), bool)
    some = np.flatnonzero((ink > PRINTED_FROM) & (np.abs(dy) > ASKEW_FROM * block.nozzle_pitch))
    inner = np.flatnonzero(np.abs(patches.along) <= INNER_LENGTH * block.mark[0])
    slope, sigma = slopes_of(patches.codes, LINEAR, patches.ground, weights, some, int(inner[0]), int(inner[-1]))
    rise = slope * (patches.across[1] - patches.across[0]) / (patches.along[1] - patches.along[0]) * block.mark[0]
    askew[some] = (np.abs(rise) > ASKEW * block.mark[1]) & (np.abs(slope) > SURELY_ASKEW * sigma)
    return askew


def _straddles(along: Floats, places: Floats, block: MarksBlock, printed: Bools, whole: Bools, scale: float) -> Bools:
    """MarkMeasures.straddles, of `printed` marks (n,), some of them `whole`: ink (n, along) along each at places (along,) mm, at `scale` pixels a mm."""
    if (places[-1] - block.mark[0] / 2) * scale < BEYOND_PX or whole.sum() < LEAST_WHOLE:
        return np.zeros(len(whole), bool)
    inner = along[:, np.abs(places) < WITHIN * block.mark[0]]
    level = float(np.median(inner[whole]))
    goes_on = along[:, [0, -1]].max(axis=1) > GOES_ON * level
    return np.asarray(printed & goes_on & (inner.min(axis=1) < BARE_WITHIN * level))


def _at_one_end(along: Floats) -> Bools:
    """MarkMeasures.at_one_end, of ink (n, along) along each mark."""
    half = along.shape[1] // 2
    ends = along[:, [0, -1]]
    other_half = np.stack([along[:, half + 1 :].mean(axis=1), along[:, :half].mean(axis=1)], axis=1)
    return np.asarray((other_half < OF_THE_END * ends).any(axis=1))


def _ends(row: Floats, along: Floats, block: MarksBlock, whole: Bools, scale: float) -> tuple[Floats, Floats, Floats]:
    """Shift along x (n,) mm that both ends of a mark agree on, the mean of both ends, and their one-sigma.

    A mark broken at one end has one end out of place; only a mark that moved as a whole has both. Where the
    two ends disagree the smaller shift counts, and none where they point apart. row : (n, along) ink at places (along,) mm; whole : (n,)
    """
    if (along[-1] - block.mark[0] / 2) * scale < 0.5 * ENDS_FROM_PX or whole.sum() < LEAST_WHOLE:
        return np.zeros(len(row)), np.zeros(len(row)), np.full(len(row), block.mark[0])
    step = float(along[1] - along[0])
    agreed, mean, scatter = places_of_ends(row, whole, float(along[0]), step)
    return agreed, mean, np.full(len(row), scatter + 0.3 * step)


def _typical_level(amount: Floats, printing: float, judged: Bools) -> float:
    """Median amount of the printing marks, in units of the template."""
    usable = amount[judged] if judged.any() else amount
    if printing < 0.1:
        return 1.0
    firing = usable[usable > 0.35 * quantile(usable, 0.9)]
    return float(median(firing)) if len(firing) else 1.0
