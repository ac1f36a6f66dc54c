"""Marks that the photo hides: under a lamp's reflection, under its veil, under a finger or a ruler."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, clear_width, mark_centres
from dusky_sieve.core.reading.judge import STATES, WEAK_BELOW
from dusky_sieve.core.reading.order import median, quantile
from dusky_sieve.core.reading.patches import BARE_PX, LINEAR, REACH_PITCHES, Patches, in_one
from dusky_sieve.core.reading.surface import smooth_surface

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]

# Of the light that its ink's colour allows, taken by three quarters of the marks round one where the sensor is full, from which ink
# that does not show is missing: most marks with half their ink show there.
TAKES_ALL_THE_SAME, MOST_ROUND = 0.6, 0.25
BRIGHTER = 1.35  # than the ground round it: a lamp's reflection lies on the patch
DARKER = 0.35  # than the ground round it: something lies over the patch
OTHER_COLOUR = 0.22  # change of the ground's colour (log ratio of bands): a finger, a ruler
SURELY_OTHER = 0.4  # the same against all of the sheet's paper, of which a whole block's ground may be: what its ink stains is less
VEIL_BRIGHTER = 1.05  # than the ground round it: the rim of a reflection, where ink still shows but fainter
# Times the ground of marks that printed, levelled over the block, in the band where it is most: a reflection that a camera's tone curve keeps
# from filling the sensor. Of 5,537 marks without ink among others at the bad end 6 in 1,000 lie on ground so bright.
REFLECTED = 1.15
NEARLY_FULL = 0.8  # of the light of marks where the sensor is full: between them and the others is the reflection's rim
VEIL_INK = 0.85  # of the typical mark: median of a mark's neighbourhood that a veil makes faint
AS_BRIGHT = 0.99  # times a mark's ground, on which a mark next to it that shows fully tells that nothing lies over it
PRINTED_UNDER_VEIL = (
    0.67  # of the light a typical mark takes: more through a veil, and it is not weak (inklaw.ink_share)
)
# Ink beside marks, as a share of them, beyond what most have, that bare paper does not have; share of all marks of a sheet that have it beside them, from which
# its paper is printed (on clean paper of the bad end 1 in 100 at most); and the quantile that tells how strong it is.
INK_ON_PAPER, PRINTED_PAPER, STRONGEST_OF_IT = 0.15, 0.02, 0.995
LEAST_STRENGTH = 0.05  # of a block's typical mark, that ink of the paper's is a share of
# Of the blocks, more than which must have such ink beside their marks, as a share or as so many: small ones may lie between rules.
UNDER_MOST, OR_SO_MANY = 0.5, 4
AS_STRONG = 1.5  # times the ink that paper has beside marks, up to which it feigns one: a mark's own shape fits into a wider stroke
# Places in judge.STATES, and none of them.
STATE_UNSEEN = -1
STATE_FIRING, STATE_MISSING, STATE_DEFLECTED, STATE_WEAK = map(STATES.index, ("firing", "missing", "deflected", "weak"))
LEAST_ASTRAY = 5  # marks that seem thrown, below which chance puts them together
MOST_ASTRAY = 0.5  # of a block's marks that printed
MOST_THROWN = 0.5  # of a neighbourhood, from which its place is in doubt
# Marks of a row that seem thrown, and their share of those that printed, from which its place is in doubt, or the paper was fed unevenly.
LEAST_OF_ROW, MOST_OF_ROW = 4, 0.5
SAME_WAY = 0.6  # of their throws in one direction: a lattice that lies wrongly is off one way
# Nozzle pitches along travel, and of a mark's length: right lattices have a twelfth of their marks so far aside at most.
ASIDE_ALONG, ASIDE_OF_LENGTH = 0.8, 0.05
MOST_ADRIFT, LEAST_ADRIFT = 0.25, 8  # share of a block's well printed marks, and how many must tell
LEAST_LOST = 8  # marks in doubt, from which faults next to them are, and next to those
# Of a row's or column's marks, and so many next to each other, for those to part a block.
MOST_OF_LINE, LEAST_LINES = 0.5, 3
LEAST_ABOUT = 4  # of a neighbourhood, whose middle one says how far it lies aside
MOST_SCATTER = 0.35  # nozzle pitches across travel, one-sigma: blocks read rightly show 0.33 at most
# Nozzle pitches across travel, from which most of a mark's neighbours are half-way out of where it is looked for, and all on the way there; and
# how many of them must tell; and share of the block's marks that show, for words are all that does of one that printed nothing.
HALF_WAY_OUT, ON_THE_WAY, LEAST_CARRIED, LEAST_SHOWN = 0.5 * REACH_PITCHES, 0.2 * REACH_PITCHES, 2, 0.1
BESIDE_INK = 0.22  # of a typical mark, between rows of missing ones: wrong lattices show 0.3, right ones 0.12
MOST_BETWEEN, LEAST_BETWEEN = 0.5, 4  # share of a neighbourhood that seems missing, and how many, for that to tell
A_STEP = 0.4  # nozzle pitches that a column steps, from which its neighbour's ink looks thrown
NEXT_ONES = 0.5  # nozzle pitches from where that ink should lie
NEARLY_TOUCHING = 0.25  # of a column: gaps between neighbours in a row, up to which that may be
PART_OF_IT = 0.8  # of a typical mark's ink, up to which a mark may be the next one's end
NO_PART = 0.1  # of it, up to which there is nothing of any
LEAST_SUCH, MOST_ARE = 3, 0.4  # such marks of a block, and their share of those that seem thrown, which are no accident
# Of a mark's ink in both gaps beside it, of marks with so much of the strongest ones' ink, and share of a row's marks: a rule.
THROUGH, PRINTED_INK, MOST_THROUGH = 0.7, 0.35, 0.6
NO_RULE = 0.3  # of its ink, under which none runs through a place
OVER_NOISE = 8.0  # times that of bare paper, that a rule's ink reaches
AROUND = 9  # marks of a neighbourhood, in one line or as a square


def hidden_marks(
    patches: Patches, block: MarksBlock, rows: NDArray[np.int64] | None, backing: Backing, paper: Floats | None
) -> tuple[Bools, Bools]:
    """Marks (n,) under a reflection, and marks something lies over: by the ground against the block's smooth ground, and all of the sheet's.

    paper : (3,) what colour that is, see colour_of; None where no block was measured before
    """
    places = mark_centres(block) if rows is None else mark_centres(block)[rows]
    glare = patches.full if backing == "dark" else np.zeros(len(places), bool)
    if backing == "dark" or len(places) < 12:
        return glare, np.zeros(len(places), bool)
    log = np.log(patches.ground)
    off = log - smooth_surface(places, log, patches.seen)
    glare |= off.mean(axis=1) > np.log(BRIGHTER)
    # A finger over a corner is half of what smooth ground is fitted to there, but not of all the block's, nor of the sheet's.
    colour = colour_of(patches.ground)
    usual = median(colour, axis=0)
    by_sheet = _apart(colour, usual if paper is None else paper)
    other = (by_sheet > SURELY_OTHER) | ((by_sheet > OTHER_COLOUR) & (_apart(colour, usual) > OTHER_COLOUR))
    other |= _apart(off - off.mean(axis=1, keepdims=True), 0) > OTHER_COLOUR
    return glare, (off.mean(axis=1) < np.log(DARKER)) | other


def colour_of(light: Floats) -> Floats:
    """Log ratios (n, 3) of light's bands (n, 3) to their geometric mean."""
    log = np.log(light)
    return np.asarray(log - log.mean(axis=1, keepdims=True))


def _apart(colour: Floats, other: Floats | float) -> Floats:
    """How far colours (n, 3) are from another, (n,), in the band where it is most."""
    return np.asarray(np.abs(colour - other).max(axis=1))


def bleached(patches: Patches, block: MarksBlock, ink: Floats, strength: float) -> Bools:
    """Marks (n,) where the sensor is full and their ink does not show: there may be some that would on darker paper.

    ink : (n,) share of the block's typical mark; strength : peak ink share of that
    """
    hidden = patches.full & (ink < WEAK_BELOW)
    if hidden.any():
        round_them = around(np.where(patches.full, ink, np.nan), block)[hidden]
        hidden[hidden] = np.nanquantile(round_them, MOST_ROUND, axis=1) * strength < TAKES_ALL_THE_SAME
    return hidden


def veiled(patches: Patches, block: MarksBlock, ink: Floats, backing: Backing) -> Bools:
    """Marks (n,) that look faint only because light lies over them: on brighter ground, among marks as faint.

    ink : (n,) share of the block's typical mark. Light added to the paper takes from every mark's contrast alike, a
    sensor near its limit takes more; nozzles that really print less do so on ground like all the rest.
    """
    places = mark_centres(block)
    faint: Bools = ink < PRINTED_UNDER_VEIL
    if backing == "dark" or len(places) < AROUND or len(ink) != len(places) or not faint.any():
        return np.zeros(len(ink), bool)
    bands = np.log(patches.ground)
    log = bands.mean(axis=1)
    brighter: Bools = log - smooth_surface(places, log, patches.seen) > np.log(VEIL_BRIGHTER)
    full, printed = patches.full, patches.seen & ~faint
    if full.any():  # a reflection over half of a block is most of its ground, and nothing of that is brighter
        brighter |= log > np.median(log[full]) + np.log(NEARLY_FULL)
    if printed.sum() >= AROUND:
        brighter |= (bands - smooth_surface(places, bands, printed, 1)).max(axis=1) > np.log(REFLECTED)
    if not (brighter & faint).any():
        return np.zeros(len(ink), bool)
    # What shows fully next to it on ground as bright does so through any veil: the ground is brighter beside a shadow.
    shown = around(np.where(patches.seen & (ink >= VEIL_INK), log, -np.inf), block)
    brighter &= np.nanmax(shown, axis=1) < log + np.log(AS_BRIGHT)
    return np.asarray(brighter & faint & (np.nanmedian(around(ink, block), axis=1) < VEIL_INK))


def ruled(
    patches: Patches, weights: Floats, block: MarksBlock, rows: NDArray[np.int64] | None, backing: Backing, gap_px: float
) -> Bools:  # fmt: skip
    """Marks (n,) of rows that a rule or a frame runs through: as much ink stands in the gaps beside them as in the marks.

    weights : (3,) bands' into one ink share; gap_px : of paper between neighbours in a row. None where it is too narrow to be seen.
    """
    n = np.arange(len(patches.ground))
    index = n if rows is None else rows
    if gap_px <= BARE_PX:
        return np.zeros(len(n), bool)
    profile = in_one(patches.across_ink, weights)
    best = np.clip(profile.argmax(axis=1), 1, profile.shape[1] - 2)

    def least_ink(codes: NDArray[np.uint8]) -> Floats:
        """The least ink (n,) at places along each mark, the most of three across it."""
        light = cv2.LUT(np.ascontiguousarray(codes), LINEAR)[:, n[:, None], best[:, None] + (-1, 0, 1)]
        shares = (1 - light / patches.ground[:, None]) if backing == "light" else light - patches.ground[:, None]
        return np.asarray((shares @ weights).max(axis=2).min(axis=0))

    beside = least_ink(patches.codes[[0, -1]])
    noise = float(np.sqrt(((weights * patches.noise) ** 2).sum()))
    least = max(PRINTED_INK * float(quantile(profile[n, best], 0.9)), OVER_NOISE * noise)
    through = (beside > THROUGH * profile[n, best]) & (profile[n, best] > least)
    if through.any():  # half a column aside the gaps are where marks should be
        through &= least_ink(patches.codes[1:-1]) > NO_RULE * profile[n, best]
    of_row = np.bincount(index // block.columns)
    share = np.bincount(index // block.columns, through) / np.maximum(of_row, 1)
    return np.asarray(share[index // block.columns] > MOST_THROUGH)


def astray(block: MarksBlock, state: NDArray[np.int64], offset: Floats) -> Bools:
    """Marks (n,) that were judged faulty only because the lattice lies wrongly about them.

    state : (n,) as indices into judge.STATES, -1 where unseen; offset : (n, 2) nozzle pitches. Nozzles that throw askew stand among
    others that do not; where most of a neighbourhood, or of a row, seems thrown the same way, the sheet's place is in doubt there or
    the paper was fed unevenly, and where a great part of all that printed seems thrown, the whole block's.
    """
    thrown, printed = state == STATE_DEFLECTED, (state != STATE_MISSING) & (state != STATE_UNSEEN)
    if thrown.sum() < LEAST_ASTRAY or len(state) < AROUND:
        return np.zeros(len(state), bool)
    if thrown.sum() > MOST_ASTRAY * printed.sum():
        return np.ones(len(state), bool)
    row = np.arange(len(state)) // block.columns
    in_row, of_row, way, by = (
        np.bincount(row, v) for v in (thrown, printed, thrown * offset[:, 1], thrown * np.abs(offset[:, 1]))
    )
    whole = (in_row >= LEAST_OF_ROW) & (in_row > MOST_OF_ROW * of_row) & (np.abs(way) > SAME_WAY * by)
    across = np.where(thrown, offset[:, 1], np.nan)
    share = np.nanmean(around(thrown.astype(np.float64), block), axis=1)
    sums = np.nansum(around(across, block), axis=1), np.nansum(np.abs(around(across, block)), axis=1)
    core = (share > MOST_THROWN) & (np.abs(sums[0]) > SAME_WAY * sums[1])
    near = np.nanmax(around(core.astype(np.float64), block), axis=1) > 0
    return np.asarray((near & (state > STATE_FIRING)) | (whole[row] & thrown))


def carried_off(block: MarksBlock, state: NDArray[np.int64], across: Floats) -> Bools:
    """Marks (n,) judged missing that may lie where none is looked for: a wave of the paper carries all next to them towards there.

    state : (n,) as indices into judge.STATES, -1 where unseen; across : (n,) nozzle pitches from where the lattice lies, NaN where none was seen.
    Beside missing marks a rule of the paper's may be seen for some; the others next to them lie in their places.
    """
    carried = np.zeros(len(state), bool)
    if np.isfinite(across).mean() < LEAST_SHOWN or not (np.abs(across) > HALF_WAY_OUT).any():
        return carried
    windows = around(across, block)
    told = (~np.isnan(windows)).sum(axis=1) >= LEAST_CARRIED
    least, most = np.nanmin(windows[told], axis=1), np.nanmax(windows[told], axis=1)
    all_off = (np.minimum(np.abs(least), np.abs(most)) > ON_THE_WAY) & (np.sign(least) == np.sign(most))
    carried[told] = all_off & (np.abs(np.nanmedian(windows[told], axis=1)) > HALF_WAY_OUT)
    return np.asarray(carried & (state == STATE_MISSING))


def between_rows(block: MarksBlock, state: NDArray[np.int64], beside: Floats) -> Bools:
    """Marks (n,) judged missing only because the lattice lies between the rows: neighbours seem missing too, and ink stands beside all.

    state : (n,) as indices into judge.STATES, -1 where unseen; beside : (n,) ink half-way to the next rows, as a share of a typical mark
    """
    missing = state == STATE_MISSING
    if missing.sum() < LEAST_BETWEEN or len(state) < AROUND:
        return np.zeros(len(state), bool)
    typical = float(np.median(beside[~missing])) if (~missing).any() else 0.0
    windows = around(missing.astype(np.float64), block)
    many = (np.nanmean(windows, axis=1) >= MOST_BETWEEN) & (np.nansum(windows, axis=1) >= LEAST_BETWEEN)
    inked = np.nanmean(
        around(np.where(missing, (beside - typical > BESIDE_INK).astype(np.float64), np.nan), block)[many], axis=1
    )
    core = np.zeros(len(state))
    core[many] = inked > MOST_BETWEEN
    near = np.nanmax(around(core, block), axis=1) > 0
    return np.asarray(near & (state > STATE_FIRING))


def next_ones_ink(block: MarksBlock, state: NDArray[np.int64], offset: Floats, ink: Floats, at_one_end: Bools) -> Bools:
    """Marks (n,) judged thrown where what is seen is the end of the next one in the row: ink in part, about a column's step up or down.

    state : (n,) as indices into judge.STATES, -1 where unseen; offset : (n, 2) nozzle pitches; ink : (n,) share of a typical mark, at_one_end :
    (n,) where it is at one end alone. Where marks nearly touch, a lattice a third of a column aside sees so much of the mark beside a missing
    one. Where they are few among the block's thrown marks only those: some nozzles do throw so.
    """
    step, columns = block.column_pitch[1] / block.nozzle_pitch, min(block.columns, block.nozzles)
    thrown, found = state == STATE_DEFLECTED, np.zeros(len(state), bool)
    if abs(step) < A_STEP or not _nearly_touching(block):
        return found
    index, across = np.arange(len(state)), np.nan_to_num(offset[:, 1])
    for side in (-1, 1):
        beside = np.clip(index + side, 0, len(state) - 1)
        prints = (beside != index) & (beside // columns == index // columns) & (state[beside] != STATE_MISSING)
        found |= prints & (np.abs(across - side * step) < NEXT_ONES)
    found &= thrown & (ink < PART_OF_IT)
    many = found.sum() >= max(LEAST_SUCH, MOST_ARE * thrown.sum())
    return np.asarray(found & (many | at_one_end))


def ended(block: MarksBlock, ink: Floats, at_one_end: Bools) -> Bools:
    """Marks (n,) of rows whose outermost mark shows in part, at one end alone, as those next to them do at that side: the lattice runs out beyond their marks.

    ink : (n,) share of a typical mark; see next_ones_ink. A wave carries a corner's rows aside where gaps are too narrow to say so; three
    nozzles of one side do not break off next to each other.
    """
    if not _nearly_touching(block):
        return np.zeros(block.nozzles, bool)
    columns, found = min(block.columns, block.nozzles), np.zeros(-(-block.nozzles // block.columns), bool)
    part = at_one_end & (ink > NO_PART) & (ink < PART_OF_IT)
    first = np.arange(0, block.nozzles, columns)
    last = np.minimum(first + columns, block.nozzles) - 1
    for outer, inner in ((first, np.minimum(first + 1, last)), (last, np.maximum(last - 1, first))):
        seen = (part[outer] & (ink[inner] > ink[outer])).astype(np.uint8)[:, None]
        together = cv2.morphologyEx(seen, cv2.MORPH_OPEN, np.ones((LEAST_LINES, 1), np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=(0,))  # fmt: skip
        found |= together[:, 0] > 0
    return np.repeat(found, columns)[: block.nozzles]


def _nearly_touching(block: MarksBlock) -> bool:
    """Whether marks have neighbours along travel, and gaps to them in which hardly any paper shows."""
    several = min(block.columns, block.nozzles) > 1
    return several and clear_width(block) <= NEARLY_TOUCHING * abs(block.column_pitch[0])


def printed_paper(bare: dict[str, Floats], strength: dict[str, float]) -> dict[str, float]:
    """How strong the ink is that the paper has of its own, as a share of each block's typical mark; 0 where it is bare.

    Rules and letters go on under the whole sheet; a pen or a word lies on a block or two, and covers what it covers.
    bare : (n,) ink beside each block's marks in such shares; strength : of each block's typical mark
    """
    seen = {name: ink[np.isfinite(ink)] for name, ink in bare.items()}
    seen = {name: ink for name, ink in seen.items() if len(ink)}
    # What most marks of a block have beside them is how it prints: satellites, a halo.
    foreign = {name: ink - np.median(ink) > INK_ON_PAPER for name, ink in seen.items()}
    shares = np.array([which.mean() for which in foreign.values()])
    marks, under = [len(ink) for ink in seen.values()], int((shares > 0).sum())
    if (
        not marks
        or np.average(shares, weights=marks) < PRINTED_PAPER
        or under <= min(UNDER_MOST * len(shares), OR_SO_MANY)
    ):
        return dict.fromkeys(bare, 0.0)
    found = np.concatenate([ink[foreign[name]] * strength[name] for name, ink in seen.items()])
    usual = float(np.median(found))  # a rule that lies in a block's marks is not seen beside them
    most = {name: float(quantile(ink, STRONGEST_OF_IT)) for name, ink in seen.items()}
    return {name: max(most.get(name, 0.0), usual / max(strength[name], LEAST_STRENGTH)) for name in bare}


def feigned(state: NDArray[np.int64], ink: Floats, offset: Floats, foreign: float) -> Bools:
    """Marks (n,) that what paper has on it may feign, alone or beside a mark that stands where it should.

    ink : (n,) share of the typical mark's; offset : (n,) nozzle pitches across travel; foreign : ink of the paper's own, 0 on bare paper
    """
    if foreign == 0:
        return np.zeros(len(state), bool)
    alone = (ink < AS_STRONG * foreign) | (ink > 1 + foreign / 2)
    pulled = np.abs(np.nan_to_num(offset)) < 0.5 + foreign  # a pitch from a mark, so much ink pulls its middle so far
    beside_stronger = ink > WEAK_BELOW * (1 - foreign)  # where a rule lies in most marks, it is part of the typical one
    return np.asarray(
        ((state == STATE_WEAK) & (alone | beside_stronger)) | ((state == STATE_DEFLECTED) & (alone | pulled))
    )


def adrift(block: MarksBlock, state: NDArray[np.int64], along: Floats) -> Bools:
    """Marks (n,) of a block whose lattice lies wrongly along travel: all where many well printed ones lie aside there, faults where some near by do.

    state : (n,) as indices into judge.STATES, -1 where unseen; along : (n,) mm, NaN where a mark did not print well, infinite
    where its place lies between two. Nozzles throw across travel; lattices lie a part of a column aside where a row or two told little
    of the camera, a wave carries a corner further and further, until its marks stand half-way between their places, or a block's last
    column did not print and all of them lie on the others.
    """
    told = ~np.isnan(along)
    if told.sum() < LEAST_ADRIFT:
        return np.zeros(len(along), bool)
    in_place, aside = along[np.isfinite(along)], max(ASIDE_ALONG * block.nozzle_pitch, ASIDE_OF_LENGTH * block.mark[0])
    off = along - (np.median(in_place) if len(in_place) else 0.0)
    if (np.abs(off[told]) > aside).mean() > MOST_ADRIFT:
        return np.ones(len(along), bool)
    if not (np.abs(off[told]) > aside).any():
        return np.zeros(len(along), bool)
    windows = around(off, block)
    enough = (~np.isnan(windows)).sum(axis=1) >= LEAST_ABOUT
    here = np.zeros(len(along), bool)
    here[enough] = np.abs(np.nanmedian(windows[enough], axis=1)) > aside
    return here | (state > STATE_FIRING) if here.sum() >= LEAST_ADRIFT else np.zeros(len(along), bool)


def spread(block: MarksBlock, lost: Bools, state: NDArray[np.int64]) -> Bools:
    """Marks (n,) in doubt, and faults that hang together with them: where a lattice runs away from its marks it ends among none.

    lost : (n,) marks about which the lattice lies wrongly; state : (n,) as indices into judge.STATES, -1 where unseen, which lead on
    """
    if lost.sum() < LEAST_LOST:
        return lost
    open_to = state != STATE_FIRING
    while True:
        next_ones = np.nanmax(around(lost.astype(np.float64), block), axis=1) > 0
        wider = lost | (next_ones & open_to)
        if wider.sum() == lost.sum():
            return lost
        lost = wider


def parted(block: MarksBlock, lost: Bools, straddles: Bools) -> bool:
    """Whether rows, or columns, of marks in doubt (n,) part a block in two: where a lattice slips, it lies a step aside from there on.

    straddles : (n,) see MarkMeasures; not of a single row, which a wave of the paper carries as far aside
    """
    columns, index = min(block.columns, block.nozzles), np.arange(block.nozzles)
    doubted = lost | (straddles & (block.nozzles > columns))
    if doubted.sum() < LEAST_LOST:
        return False
    for line in (index // columns, index % columns):
        slips = np.bincount(line, doubted) > MOST_OF_LINE * np.bincount(line)
        held = np.flatnonzero(~slips)
        if len(held) > 1 and np.diff(held).max() > LEAST_LINES:
            return True
    return False


def unsettled(across: Floats) -> bool:
    """Whether a block's well printed marks (n,) are scattered across travel, in nozzle pitches, so that none is known to be thrown."""
    return len(across) >= LEAST_ADRIFT and bool(1.4826 * np.median(np.abs(across)) > MOST_SCATTER)


def around(value: Floats, block: MarksBlock) -> Floats:
    """Each mark's value and those next to it on the lattice, (n, 9); NaN beyond the block's rim."""
    columns = min(block.columns, block.nozzles)
    rows = -(-block.nozzles // columns)
    grid = np.full((rows, columns), np.nan)
    grid.flat[: len(value)] = value
    down, across = (1, AROUND) if rows < 3 else (AROUND, 1) if columns < 3 else (3, 3)
    padded = np.pad(grid, ((down // 2,) * 2, (across // 2,) * 2), constant_values=np.nan)
    windows = np.lib.stride_tricks.sliding_window_view(padded, (down, across)).reshape(rows * columns, -1)
    return np.asarray(windows[: len(value)])
