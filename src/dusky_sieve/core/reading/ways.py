"""Which way round the sheet lies: its likenesses laid onto the photo as well, and compared mark by mark."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound, TwoWaysRound
from dusky_sieve.core.layout import SolidBlock, lattice_middle, mark_centres
from dusky_sieve.core.reading.beyond import beyond
from dusky_sieve.core.reading.compiled import compiled
from dusky_sieve.core.reading.find import Candidate
from dusky_sieve.core.reading.follow import PLANS
from dusky_sieve.core.reading.ghosts import Ground, clearer
from dusky_sieve.core.reading.hues import OVERRULED, borrows, follows, truer
from dusky_sieve.core.reading.laying import WELL_LAID, Found
from dusky_sieve.core.reading.locate import FOUND_FROM, Locator
from dusky_sieve.core.reading.lone import leads, lone_ink, told_alone, told_by_few
from dusky_sieve.core.reading.registration import (
    Registration,
    grid_over,
    homography_of,
    inverse,
    moved,
    project,
    through,
)
from dusky_sieve.core.reading.score import Fit, Judge, probes, solid_shown
from dusky_sieve.core.reading.sides import ends_right, past_words

Floats = NDArray[np.float64]
Bytes = NDArray[np.uint8]
Turn = tuple[float, float]

SURELY_FOUND = 0.8  # share from which likenesses are compared as they lie, without laying each onto the strokes
NEAR_RIVAL = 0.75  # of what the best place explains, from which a likeness is laid onto the strokes all the same
NEAR_RIVAL_OF_POOR = 0.6  # and from which where the best place explains little itself
# And from which where the best place lies well, half of its marks are there and little ink beside: likenesses lie as well then. Of
# 150 that explained less of it none explained more than 0.93 once laid, of 611 laid on 390 tuning sheets 17 overtook.
NEAR_RIVAL_OF_WELL, WELL_THERE, WELL_SPILL = 0.85, 0.5, 0.06
# Times as bright or dark as the sheet, from which ground is rather the desk's, and up to which its own.
UNLIKE_GROUND, SAME_GROUND = 1.6, 1.25
OFF_THE_SHEET = 0.5  # of the other backing's blocks, which must lie on the sheet as well, from which a way is wrong
FILL_WEIGHT = 12.0  # marks that one solid fill counts for
# Fills that one way shows, and the other at most, for them to decide between two that fit alike.
FILLS_TELL, NO_FILL = 0.8, 0.1
COMPARED = 12_000  # marks looked at when ways round are compared: a few at the rim decide
BESIDE, BARE_BESIDE = 0.3, 0.15  # of a mark's ink one step beyond a side: right places show 0.1 at most, but for rules
AS_GOOD = 0.95  # of what a place explains, from which one a lattice step aside is as likely
EDGE_MM, LEAST_KNOWN = 0.5, 20  # beyond the pattern's box its place is not known; grid points that must lie in it
WORTH_COMPARING = 0.7  # of the best place's worth (Locator.explains), from which where other looks led is a rival
RIVALS_TRIED = 8  # other ways of each kind that are compared as they lie
RIVALS_REFINED = 2  # other ways of each kind that are laid onto the strokes before they are compared
# Signs of x and y when the pattern is laid onto its own picture.
TURNED, MOVED_ON, MIRRORED = (-1.0, -1.0), (1.0, 1.0), ((-1.0, 1.0), (1.0, -1.0))
# Of the blocks that print, so many must land on blocks: a turned pattern may lie mostly beside, its mirror image is it or is not.
LEAST_LANDED = {TURNED: 0.0, MOVED_ON: 0.5} | dict.fromkeys(MIRRORED, 0.8)
MIRROR_IMAGE = "the sheet is seen as in a mirror, so nothing was read. Lay film with its printed side up, or take the photo with a camera that does not mirror."
AS_MUCH_MIRRORED = 0.9  # of what a place explains, from which its mirror image is compared with it
OF_A_COLUMN = 0.2  # by which two places may be apart along travel and are one
CLEARLY_MORE = 1.15  # times it, from which the mirror image is right without lone marks or colours that say so


def right_way_round(at: Locator, best: Found, candidates: list[Candidate], others: list[Registration]) -> Found:
    """The way round that explains most, once it clearly leads every other that lays the pattern onto itself.

    others : of the whole sheet on the photo, where other looks led
    """
    plan = probes(at.layout, at.backing, COMPARED)
    best, marks = past_words(at, best)
    own = marks is None and at.judge.plan.stride == 1  # of few marks none are left out
    full = at.judge if own else Judge(marks or at.map, plan, at.backing)
    top = _best_way(at, best, candidates, others, full)
    if _from_behind(at, top, full):
        raise SheetNotFound(f"{at.file}: {MIRROR_IMAGE}")
    return top if marks is None else replace(top, fit=at.judge.of(top.registration))


def _best_way(at: Locator, best: Found, candidates: list[Candidate], others: list[Registration], full: Judge) -> Found:
    """The same, judged by all marks: by those seen among words where some stand beside the pattern."""
    top = Found(best.registration, _with_fills(at, full, best.registration), best.lean, best.like)
    further = [Found(*at.settled(at.of_photo(other)), best.lean, best.like) for other in others]
    if best.fit.there < SURELY_FOUND:
        further += _turned(at, best, candidates)
    # What lies over a heading or over grain may explain much ink; its lattice does not.
    least = WORTH_COMPARING * at.explains(best) if further else 0.0
    further = [way for way in further if at.explains(way) > least]
    ways = [top, *(replace(way, fit=_with_fills(at, full, way.registration)) for way in further)]
    for _ in range(3):
        ways += _laid_onto_itself(at, top, full)
        ways.sort(key=lambda way: -way.fit.explained)
        if not _apart(at, ways[0].registration, top.registration):
            break
        top = ways[0]  # a better place has likenesses of its own
    if _beside(at, ways[0]) >= BESIDE:  # what leads may lie on a frame one step away, and so may the others
        aside = (sides_right(at, way) for way in ways)
        ways = [replace(way, fit=_with_fills(at, full, way.registration)) for way in aside]
        ways.sort(key=lambda way: -way.fit.explained)
    top = ways[0]
    rivals = [way for way in ways[1:] if _apart(at, top.registration, way.registration)]
    found = at.judge.of(top.registration).there >= FOUND_FROM or at.on_lattice(top)
    if not found or not rivals:  # no sheet, either way round; or but one way
        return top
    rival = rivals[0]
    if borrows(top.fit, full.plan.hints):
        likely = (way for way in rivals if way.fit.explained > NEAR_RIVAL_OF_POOR * top.fit.explained)
        rival = next((way for way in likely if truer(way, top, full)), rival)
    sure = _ahead(at, full, top, rival) and not truer(rival, top, full)
    return top if sure else _decided(at, top, rival, full)


def _from_behind(at: Locator, top: Found, full: Judge) -> bool:
    """Whether the pattern's mirror image lies where it was found and is clearly right: film on its face, or a mirroring camera.

    That is rare, so nothing counts for it that a place laid a little better would have as well.
    """
    for laid, _ in _likeliest(at, top, MIRRORED):
        if at.judge.of(laid).explained > AS_MUCH_MIRRORED * top.fit.explained:
            settled, _ = at.settled(laid)
            way = Found(settled, _with_fills(at, full, settled), top.lean, top.like)
            mine, others = lone_ink(at, full, way, top), lone_ink(at, full, top, way)
            explains = way.fit.explained > CLEARLY_MORE * top.fit.explained or told_alone(mine, others)
            against = told_alone(others, mine) or follows(top, way, full)
            if (explains or follows(way, top, full)) and not against:
                return True
    return False


def _turned(at: Locator, best: Found, candidates: list[Candidate]) -> list[Found]:
    """The likeliest candidates that lie the other way round, refined in their own right."""
    along = np.array([[0.0, 0.0], [at.layout.size[0], 0.0]])
    mine = np.diff(best.registration.to_photo(along), axis=0)[0]
    other = [c for c in candidates if float(np.diff(project(c.homography, along), axis=0)[0] @ mine) < 0]
    refined = (at.refined(candidate, thorough=False) for candidate in other[:RIVALS_REFINED])
    return [found for found in refined if found is not None]


def _decided(at: Locator, top: Found, other: Found, full: Judge) -> Found:
    """The better of two ways round that fit about alike: by their rows' ends, their colours, the other backing's traces."""
    ways = sorted((_laid_again(at, way, full) for way in (top, other)), key=lambda laid: -laid[0].fit.explained)
    top, other = ways[0][0], ways[1][0]
    if not _apart(at, top.registration, other.registration):
        return top  # beside which ink stood, the one on one side and the other on the other: a frame a row away
    ahead, told, against = _ahead(at, full, top, other), truer(top, other, full), truer(other, top, full)
    beside = _beside(at, top), _beside(at, other)
    if not (told or against) and min(beside) < BARE_BESIDE and max(beside) >= BESIDE:
        return top if beside[0] < BESIDE else other  # the one without marks where the layout has none
    if told or (ahead and not against):
        return top
    if against and (not ahead or top.fit.explained < OVERRULED * other.fit.explained):
        return other
    fills = _fills_shown(at, top.registration), _fills_shown(at, other.registration)
    if max(fills) >= FILLS_TELL and min(fills) <= NO_FILL:
        return top if fills[0] > fills[1] else other  # of thousands of marks they are few
    if told_alone(lone_ink(at, full, other, top), lone_ink(at, full, top, other)):
        return other  # noise of thousands that both share is more than the few that tell
    ground = Ground(at.map.small)
    off = [ground.beside_sheet(laid.registration.to_photo, at.layout, at.backing) for laid in (top, other)]
    if min(off) == 0 and max(off) >= OFF_THE_SHEET:
        return top if off[0] == 0 else other
    # The other backing's blocks lie beyond what was followed: of places that fit alike, one may lead there and another not.
    mine, others = (
        max(ground.trace(p.to_photo, at.layout, at.backing, rival.registration.to_photo) for p in places)
        for (_, places), rival in zip(ways, (other, top), strict=True)
    )
    if clearer(mine, others) or clearer(others, mine):
        return top if mine > others else other
    if (way := told_by_few(at, full, top, other)) is not None:
        return way
    raise TwoWaysRound(
        f"{at.file}: the sheet was found, but two ways round fit it equally well, so nothing was guessed. "
        "Mark its four corners by hand, the top left one first."
    )


def _ahead(at: Locator, full: Judge, top: Found, other: Found) -> bool:
    """Whether a place explains so much more than another that it is no accident; not where the other backing's blocks then lie on a desk, and by the other on the sheet."""
    if not leads(at, full, top, other):
        return False
    ground = Ground(at.map.small)
    mine, others = (ground.unlike_sheet(way.registration.to_photo, at.layout, at.backing) for way in (top, other))
    return mine < UNLIKE_GROUND or others > SAME_GROUND


def _laid_again(at: Locator, way: Found, full: Judge) -> tuple[Found, tuple[Registration, ...]]:
    """A way laid once more, the best of it, and its places: a few marks decide, and neither may lead by being laid more finely."""
    way = sides_right(at, way)
    again, _ = at.settled(at.followed(way.like, way.registration))
    places = (way.registration, again, ends_right(at, way))
    laid = (Found(p, _with_fills(at, full, p), way.lean, way.like) for p in places)
    return max(laid, key=lambda found: found.fit.explained), places


def _laid_onto_itself(at: Locator, found: Found, full: Judge) -> list[Found]:
    """The pattern laid onto its own picture in the other ways that it nearly fits, each refined."""
    ways = []
    surely = found.fit.there >= SURELY_FOUND
    near = NEAR_RIVAL if surely else NEAR_RIVAL_OF_POOR
    if found.fit.there >= WELL_THERE and found.fit.spill < WELL_SPILL:
        near = NEAR_RIVAL_OF_WELL
    for laid, all_of_it in _likeliest(at, found, (TURNED, MOVED_ON)):
        # Its own levels where it can tell them: of two like blocks the one that is absent has none in the other's place.
        there = at.judge.of(laid)
        settled, fit = at.settled(laid, there if there.explained > near * found.fit.explained else found.fit)
        # As it lies, too: a place must not lead another only because it was laid more finely.
        ways.append(Found(settled, _with_fills(at, full, settled), found.lean, found.like))
        as_fine = surely and all_of_it and found.fit.spill < WELL_LAID
        if fit.explained > near * found.fit.explained and not as_fine:
            seed, plans = None if all_of_it else _known(at, found, settled), () if surely else PLANS
            # Where the place itself did not lie no strokes were picked for it.
            like = found.like if all_of_it else at.like_at(homography_of(settled), found.lean)
            settled, _ = at.settled(at.followed(like, settled, seed, plans))
            ways.append(Found(settled, _with_fills(at, full, settled), found.lean, like))
    return ways


def _known(at: Locator, found: Found, way: Registration) -> Floats:
    """The middle (2,) mm of the marks that a way lays where the pattern was followed: from there they lead on to the others."""
    there = project(inverse(found.registration.homography), way.to_photo(at.marks.centres)) / at.layout.size
    inside = (np.abs(there - 0.5) < 0.5).all(axis=1)
    return np.asarray(np.median(at.marks.centres[inside] if inside.any() else at.marks.centres, axis=0))


def _likeliest(at: Locator, found: Found, turns: tuple[Turn, Turn]) -> list[tuple[Registration, bool]]:
    """The ways to lay the pattern onto its own picture that explain most as they lie, some of each turn.

    With each whether all of it lies where the pattern was followed.
    """
    likeliest = []
    for turn, shifts in _rivals(at, found.fit, turns):
        if len(shifts) > RIVALS_REFINED:
            shifts.sort(key=lambda shift: -_explained(at, found, turn, shift))
        likeliest += [_laid(at, found, turn, shift) for shift in shifts[:RIVALS_REFINED]]
    return likeliest


def _explained(at: Locator, found: Found, turn: Turn, shift: Floats) -> float:
    """Marks that the pattern explains when it is laid onto its own picture by a turn and a shift, at a glance."""
    return at.glance(lambda points: found.registration.to_photo(points * turn + shift)).explained


def _laid(at: Locator, found: Found, turn: Turn, shift: Floats) -> tuple[Registration, bool]:
    """The pattern laid onto its own picture by a turn and a shift, from those points of it that were followed there.

    And whether these are all.
    """
    grid = grid_over(at.layout.size, 9)
    there = grid * turn + shift
    known = np.all((there > -EDGE_MM) & (there < np.array(at.layout.size) + EDGE_MM), axis=1)
    used = known if known.sum() >= LEAST_KNOWN else np.ones(len(grid), np.bool_)
    degree = 4 if used.all() else 2  # beyond what was followed a quartic swings
    laid = through(found.registration.to_photo(there[used]), grid[used], at.layout.size, degree)
    return laid, bool(known.all())


def sides_right(at: Locator, found: Found) -> Found:
    """The place, or one a lattice step or two aside that explains about as much, where ink stands beside it and not beside that one.

    Marks thicker than a column steps down lie on themselves a column further on, but for the first and the last column;
    close rows do a row further on.
    """
    if _beside(at, found) < BESIDE:
        return found
    places = [moved(found.registration, (k * x, k * y)) for k in (1, 2) for x, y in at.steps]
    ways = [Found(place, at.judge.of(place), found.lean, found.like) for place in places]
    as_good = (way for way in ways if way.fit.explained > AS_GOOD * found.fit.explained)
    bare = [way for way in as_good if _beside(at, way) < BARE_BESIDE]
    return max(bare, key=lambda way: way.fit.explained, default=found)


def _beside(at: Locator, way: Found) -> float:
    """Ink one lattice step beyond the worst side of any block, as a share of a mark's."""
    place = way.registration.to_photo
    ink = max(beyond(at.judge, place, way.fit, at.layout).values(), default=0.0)
    if ink < BARE_BESIDE:
        return ink
    judge, fit = at.alone.judged(way.registration, way.fit)  # words are no marks
    return max(beyond(judge, place, fit, at.layout).values(), default=0.0)


def other_blocks(at: Locator, found: Found) -> Found:
    """The place, or another that explains more, where what printed is laid onto other blocks: some may be absent."""
    return max([found, *_laid_onto_itself(at, found, at.judge)], key=at.explains)


def _with_fills(at: Locator, full: Judge, registration: Registration) -> Fit:
    """The fit of the marks, and for each solid fill that shows as many marks more: fills tell top from bottom."""
    fit = full.of(registration)
    return replace(fit, explained=fit.explained + FILL_WEIGHT * _fills_shown(at, registration))


def _fills_shown(at: Locator, registration: Registration) -> float:
    """How many of the solid fills show."""
    fills = [b for b in at.layout.blocks if isinstance(b, SolidBlock) and b.backing == at.backing]
    return sum(solid_shown(at.map.small, registration.to_photo, b, at.backing) for b in fills)


def _apart(at: Locator, a: Registration, b: Registration) -> bool:
    """Whether two places differ by more than about half a lattice step where most marks are; beyond them a warp swings.

    Along a mark that is alone in its row, where no lattice goes on, half of its length means nothing, and along others a fifth of a column:
    which mark is whose stays the same.
    """
    step = min(float(np.hypot(*b.column_pitch)) for b in at.blocks)
    back = inverse(a.homography)
    apart = project(back, a.to_photo(at.marks.centres)) - project(back, b.to_photo(at.marks.centres))
    same = [0.5 * b.mark[0] if b.columns == 1 else OF_A_COLUMN * abs(b.column_pitch[0]) for b in at.blocks]
    apart[:, 0] = np.maximum(np.abs(apart[:, 0]) - np.array(same)[at.block_of], 0)
    return bool(np.median(np.linalg.norm(apart, axis=1)) > 0.6 * min(step, at.clear_mm))


def _rivals(at: Locator, fit: Fit, turns: tuple[Turn, Turn]) -> list[tuple[Turn, list[Floats]]]:
    """For each turn the shifts (mm) by which the pattern, turned so, lays most printing blocks onto blocks."""
    middles = np.array([lattice_middle(b) for b in at.blocks])
    shown = middles[fit.printing] if fit.printing.any() else middles
    reach = 0.3 * np.median([np.ptp(mark_centres(b), axis=0) for b in at.blocks], axis=0) + 0.3
    anchors = {int(pick(shown @ np.array(way))) for pick in (np.argmin, np.argmax) for way in ((1, 0.9), (1, -0.9))}
    return [(turn, _shifts(turn, shown, middles, anchors, reach)) for turn in turns]


def _shifts(turn: Turn, shown: Floats, middles: Floats, anchors: set[int], reach: Floats) -> list[Floats]:
    """Those of one turn, by which some of the blocks shown (n, 2) land on any (m, 2), to within `reach` (2,) mm."""
    ranked, seen = [], set()
    for target in middles:
        for anchor in anchors:
            shift = target - shown[anchor] * turn
            key = round(float(shift[0]), 1), round(float(shift[1]), 1)
            if key in seen or (turn == MOVED_ON and np.abs(shift).max() < 0.05):
                continue
            seen.add(key)
            ranked.append((_landed(shown * turn + shift, middles, reach), -shift * turn))
    ranked.sort(key=lambda way: -way[0])
    return [shift for landed, shift in ranked if landed >= LEAST_LANDED[turn] * len(shown)][:RIVALS_TRIED]


@compiled
def _landed(moved_on: Floats, middles: Floats, reach: Floats) -> int:
    """How many of some places (n, 2) lie on one of others (m, 2), to within `reach` (2,)."""
    count = 0
    for i in range(len(moved_on)):
        for j in range(len(middles)):
            if abs(moved_on[i, 0] - middles[j, 0]) < reach[0] and abs(moved_on[i, 1] - middles[j, 1]) < reach[1]:
                count += 1
                break
    return count
