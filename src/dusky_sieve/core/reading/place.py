"""From a photo to the registration of its sheet: found at one size or another, the right way round, or refused."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.reading.closer import WORTH_CLOSER, carried, close_up
from dusky_sieve.core.reading.find import CLOSE, EFFORTS, PARTS, Candidate, Effort, boxed
from dusky_sieve.core.reading.inkmap import CLOSER_PX, FINDING_PX, InkMap, ink_map, shrink
from dusky_sieve.core.reading.laying import AGREED, CLEARLY_FOUND, SAME_PLACE, Found
from dusky_sieve.core.reading.locate import FOUND_FROM, LEAST_MARKS, MOST_LIKELY, Locator
from dusky_sieve.core.reading.paper import enlarged, papers_on
from dusky_sieve.core.reading.registration import Registration, inverse, project
from dusky_sieve.core.reading.sides import ends_right
from dusky_sieve.core.reading.ways import other_blocks, right_way_round, sides_right
from dusky_sieve.core.reading.why import remedy

Photo = NDArray[np.uint8]
Bytes = NDArray[np.uint8]
Look = tuple[Found | None, list[Candidate], Locator]  # what it found, the last places it tried, and with what

# In place of the number of a patch that may be the sheet of paper: all of the photo, or the second patch where that led further.
ANYWHERE, RATHER = -1, -2
# Quick looks first, at one size or the other, on the paper alone or anywhere: most sheets are found in the first, small
# marks closer, sheets that do not stand out from what is round them anywhere.
LOOKS = (
    (FINDING_PX, EFFORTS[0], 0), (FINDING_PX, EFFORTS[0], 1), (FINDING_PX, EFFORTS[0], ANYWHERE), (CLOSER_PX, CLOSE, 0),
    (CLOSER_PX, CLOSE, RATHER), (CLOSER_PX, CLOSE, ANYWHERE), (FINDING_PX, EFFORTS[1], 0), (FINDING_PX, EFFORTS[1], RATHER),
    (FINDING_PX, EFFORTS[2], 0), (FINDING_PX, EFFORTS[2], RATHER), (FINDING_PX, PARTS, 0), (FINDING_PX, PARTS, RATHER),
)  # fmt: skip
ENOUGH_LOOKS = 6  # of these, after which no more follow where nothing on the photo was like the pattern
# Best correlation of any candidate, and best share explained, under which it was not: of 255 tuning sheets of the bad end
# all that were found after so many looks had explained 0.37 at least before, most others' layouts explain under 0.3.
UNLIKELY, LED_NOWHERE = 0.5, 0.3
LED_SOMEWHERE = 0.3  # share explained, from which more of the same strokes' candidates lead to the same place
LED_FURTHER = 0.1  # of such shares, by which one part of the photo leads further than another
HOPELESS = 0.2  # share explained, below which the other ways round are not tried either
LEAST_FOREIGN = 20  # strokes, below which they tell nothing
FAINTEST = 0.1  # quantile of the ink of strokes on the lattice, below which one beside it is none of that printer's
# Strokes like the explained ones that stand elsewhere, for each of these, from which a place that explains little, or blocks of which half print nothing at
# most, is of another sheet: 0.2 was seen where it was right, 0.5 and more where it was not.
MOST_ELSEWHERE, HALF_PRINT = 0.3, 0.5
MOST_FOREIGN = 0.45  # of strokes like its marks on the pattern's area that it does not explain: another sheet


class _Views:
    """One photo's ink maps and locators, made as looks ask for them."""

    def __init__(self, photo: Photo, layout: Layout, backing: Backing, file: str) -> None:
        self.photo, self.layout, self.backing, self.file = photo, layout, backing, file
        self.maps: dict[int, InkMap] = {}
        self.places: dict[tuple[int, int], Locator] = {}
        self.searches: set[tuple[int, Effort, int]] = set()  # at which size, how, and among how many strokes
        self.papers: list[Bytes | None] = [*papers_on(self.map(FINDING_PX).small, backing), None]
        self.closer = min(max(photo.shape[:2]), CLOSER_PX) >= WORTH_CLOSER * FINDING_PX

    def map(self, size: int) -> InkMap:
        if size not in self.maps:
            self.maps[size] = ink_map(self.photo, boxed(self.layout, self.backing)[0], self.backing, size)
        return self.maps[size]

    def locator(self, size: int, where: int) -> Locator | None:
        """The locator on a patch of paper (its number, or ANYWHERE); None where it would tell nothing new."""
        last = len(self.papers) - 1  # its number is that of no paper at all
        if (size != FINDING_PX and not self.closer) or (where > 0 and where >= last) or (where < 0 and last == 0):
            return None
        for before in self.places.values():
            before.forget()
        if (size, where) not in self.places:
            seen, paper = self.map(size), self.papers[where]
            within = paper if paper is None or size == FINDING_PX else enlarged(paper, seen.ink)
            self.places[size, where] = Locator(
                self.photo, self.layout, self.backing, self.file, seen=seen, within=within
            )
        return self.places[size, where]

    def searched(self, at: Locator, effort: Effort) -> bool:
        """Whether the same strokes were searched so before, for paper all over the photo leaves none out; if not, now they are."""
        search = max(at.shape), effort, len(at.strokes.ink)
        known = search in self.searches
        self.searches.add(search)
        return known


def places_of(photo: Photo, layout: Layout, backing: Backing, file: str) -> Iterator[tuple[Registration, Locator]]:
    """Where the sheet may lie on the photo, good to a pixel or two of the ink map, each with the locator that found it.

    The first is the likeliest; asking on means that it was found wanting. Looked for at a small size first, which is
    quick and finds most; closer where that finds nothing clearly. Raises SheetNotFound where no place fits, where two
    different ones fit equally, or where it is another sheet.
    """
    views = _Views(photo, layout, backing, file)
    chosen: Look | None = None
    looks: list[Look] = []
    wanting: list[Look] = []
    seen: dict[int, float] = {}  # best share explained by looks at each part of the photo
    liked = led = 0.0  # best correlation of any candidate, best share explained
    for number, (size, effort, where) in enumerate(LOOKS):
        if number >= ENOUGH_LOOKS and (liked < UNLIKELY or led < LED_NOWHERE):
            break
        if where == RATHER and seen.get(1, 0.0) <= seen.get(0, 0.0):
            continue
        where = 1 if where == RATHER else where
        at = views.locator(size, where)
        if at is None or _in_vain(size, effort, where, seen) or (views.closer and _agreed(size, chosen)):
            continue
        if views.searched(at, effort):
            continue
        look = _look(at, effort, chosen)
        there = look[0].fit.there if look[0] is not None else 0.0
        if size == FINDING_PX and not _clear(look):
            look = _from_closer(views, look, where) or look
        seen[where] = max(there, seen.get(where, 0.0))
        liked, led = max(liked, at.liked), max(led, there)
        if any(_same(look, other) and at.map.factor == other[2].map.factor for other in wanting):
            continue
        looks.append(look)
        if chosen is None or _worth(look) > _worth(chosen) or (_clear(look) and _same(look, chosen)):
            chosen = look
        if _clear(chosen):
            if (place := _of_looks(looks, chosen)) is not None:
                yield place
            wanting.append(chosen)
            looks, chosen = [], None
    poor = chosen or (wanting[-1] if wanting else None)
    del views, at  # their maps are large
    closer = _closer(photo, poor) if poor is not None else None
    if closer is not None:
        looks.append(closer)
        if _clear(closer) if chosen is None else _worth(closer) > _worth(chosen):
            chosen = closer
    place = _of_looks(looks, chosen) if chosen is not None else None
    if place is not None:
        yield place
    elif poor is not None:
        at = poor[2]
        raise SheetNotFound(
            f"{file}: no sheet of the layout “{at.layout.name}” was found. {remedy(shrink(at.map.small, FINDING_PX)[0])}"
        )


def _from_closer(views: _Views, poor: Look, where: int) -> Look | None:
    """The place that a look led to on the larger map, if it is clearly the sheet there: small marks are hardly told from each other before."""
    if poor[0] is None or not _somewhere(poor[0]) or (at := views.locator(CLOSER_PX, where)) is None:
        return None
    same = _led_to(at, poor)
    return (same, [], at) if at.clear(same) else None


def _closer(photo: Photo, poor: Look) -> Look | None:
    """What a look at the part of the photo that one led to finds there, or how its place looks from close by."""
    if poor[0] is None or not _somewhere(poor[0]) or (at := close_up(poor[2], photo, _on_photo(poor))) is None:
        return None
    if at.clear(same := _led_to(at, poor)):
        return same, [], at
    best, candidates, among = look = _look(at, CLOSE, poor)
    if best is not None and among.explains(best) >= at.explains(same):
        return look
    return same, candidates if among is at else [], at


def _led_to(at: Locator, look: Look) -> Found:
    """The place that a look led to as another map shows it, believed sooner where candidates agreed on it."""
    assert look[0] is not None
    found = carried(at, _on_photo(look))
    return at.confirmed(found) if look[0].again else found


def _somewhere(found: Found) -> bool:
    """Whether a place is worth a further look, or to be held against others."""
    return found.fit.there > HOPELESS and found.fit.explained >= LEAST_MARKS


def _of_looks(looks: list[Look], chosen: Look) -> tuple[Registration, Locator] | None:
    """The place that one look led to, held against where the others led; None where it is no sheet."""
    best, candidates, at = chosen
    for *_, other in looks:
        if other is not at:
            other.forget()
    others = [_on_photo(look) for look in looks if look[0] is not None and not _same(look, chosen)]
    place = _checked(at, best, candidates, others)
    return (place, at) if place is not None else None


def _in_vain(size: int, effort: Effort, where: int, seen: dict[int, float]) -> bool:
    """Whether a look can hardly find more than those before: it would lead to the same place, or others were led further."""
    if size != FINDING_PX:
        return seen.get(where, 0.0) < max(seen.values()) - LED_FURTHER
    return effort != EFFORTS[0] and seen.get(where, 0.0) > LED_SOMEWHERE


def _agreed(size: int, chosen: Look | None) -> bool:
    """Whether a look would hardly tell more than one before, which candidates or strokes agree with: it is looked at closer first."""
    if chosen is None or (best := chosen[0]) is None or size > max(chosen[2].shape):
        return False
    surely = best.fit.there > AGREED and bool(best.fit.printing.all())  # else what printed may be other blocks
    return best.agreed or (surely and chosen[2].on_lattice(best))


def _look(at: Locator, effort: Effort, before: Look | None) -> Look:
    """What one look finds: searched, among darker strokes where these outshine it, blocks that printed laid onto others, and believed sooner where led to before."""
    best, candidates = at.search(effort)
    if best is not None and at.outshone(best):
        darker = at.among_darker(best)
        further, others = darker.search(effort)
        if further is not None and darker.explains(further) > at.explains(best):
            best, candidates, at = further, others, darker
    if best is not None and _half(at, best) and _somewhere(best):
        best = max((other_blocks(at, way) for way in _likely(at, best)), key=at.explains)
    if best is not None and before is not None and _same((best, candidates, at), before):
        best = at.confirmed(best)
    return best, candidates, at


def _likely(at: Locator, best: Found) -> list[Found]:
    """The best place and others that what printed may have led to: blocks too few or too near by, but well laid."""
    kept = [best]
    for found in at.tried:
        if len(kept) < MOST_LIKELY and not any(found.same(way) for way in kept):
            kept.append(found)
    return kept


def _half(at: Locator, best: Found) -> bool:
    """Whether what printed may be other blocks than it was taken for: not clearly found, or only because it was led to twice."""
    return not at.clear(best) or (best.fit.there < CLEARLY_FOUND and not best.fit.printing.all())


def _same(look: Look, other: Look) -> bool:
    """Whether two looks led to one place on the photo."""
    return look[0] is not None and other[0] is not None and _on_photo(look).apart(_on_photo(other)) < SAME_PLACE


def _on_photo(look: Look) -> Registration:
    assert look[0] is not None
    return look[2].whole_sheet(look[0].registration)


def _clear(look: Look) -> bool:
    return look[0] is not None and look[2].clear(look[0])


def _worth(look: Look) -> float:
    """For comparing looks: marks explained, and the less the fewer of those that should be there."""
    return look[2].explains(look[0]) * look[0].fit.there if look[0] is not None else 0.0


def _checked(
    at: Locator, best: Found | None, candidates: list[Candidate], others: list[Registration]
) -> Registration | None:
    if best is not None and _somewhere(best):
        best = sides_right(at, right_way_round(at, best, candidates, others))
    if best is None or best.fit.explained < LEAST_MARKS or not (best.fit.there >= FOUND_FROM or at.on_lattice(best)):
        return None
    if _left_out(at, best) or _foreign(at, best):
        raise SheetNotFound(
            f"{at.file}: the print on this photo is not the layout “{at.layout.name}”: many of its marks stand where "
            "that sheet has none. Check that this is the right printer's sheet."
        )
    return at.whole_sheet(ends_right(at, best))


def _left_out(at: Locator, best: Found) -> bool:
    """Whether a place of which little printed leaves out many strokes like those it explains: it is some other sheet."""
    little = best.fit.there < FOUND_FROM or best.fit.printing.mean() <= HALF_PRINT
    return little and at.left_out(best) > MOST_ELSEWHERE


def _foreign(at: Locator, best: Found) -> bool:
    """Whether many strokes like the marks, on the pattern's area, are explained by no mark: it is some other sheet."""
    strokes = at.strokes
    back = project(inverse(best.registration.homography), strokes.centre) / at.layout.size
    inside = best.lean.follows & (np.abs(back - 0.5) < 0.5).all(axis=1)
    if inside.sum() < LEAST_FOREIGN:
        return False
    long, wide = float(np.median(strokes.long[inside])), float(np.median(strokes.wide[inside]))
    like = inside & (strokes.long > 0.5 * long) & (strokes.long < 2 * long) & (strokes.wide < 2 * wide)
    lines = at.marks_drawn(best.registration)
    spots = np.clip(np.round(strokes.centre[like]).astype(int), 0, np.array(lines.shape)[::-1] - 1)
    beside, ink = lines[spots[:, 1], spots[:, 0]] == 0, strokes.ink[like]
    if not beside.all():  # what is fainter than nearly all marks is the paper's own: used paper, a print on its back
        beside &= ink >= np.quantile(ink[~beside], FAINTEST)
    return len(spots) >= LEAST_FOREIGN and bool(beside.mean() > MOST_FOREIGN)
