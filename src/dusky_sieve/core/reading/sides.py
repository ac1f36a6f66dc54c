"""A place made right at its sides: by whole lattice steps, and along the rows, by marks and not by words beside them."""

from dataclasses import replace

from dusky_sieve.core.reading.beyond import words_at_sides
from dusky_sieve.core.reading.ends import find_slip, slipped
from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import Registration
from dusky_sieve.core.reading.words import MarksMap

AS_GOOD = 0.85  # of what a place explains by all ink, words too, from which one that explains more marks is rather it
# How often what a place explains by all ink counts beside what it explains by marks: what is lost there must be gained here twice over.
# Curl and pens hide marks' likeness: one right place explained 12 marks fewer by it, and 12 more by all ink, than one two columns aside.
BY_ALL = 2.0
# Of what it then explains by all ink, that must be explained by what is like marks: where the lattice lies badly it is less.
SURELY_LIKE = 0.8
WORDS = 0.3  # of a mark's ink at a block's side, by which all ink must be more than what is like marks to be words


def ends_right(at: Locator, found: Found) -> Registration:
    """The place slid along the rows where that sets their ends right and explains no less; laid past words first where some stand beside it."""
    found, _ = past_words(at, found)
    ends = at.ends_at(found.registration, found.fit)
    slip = find_slip(ends)
    if not slip.moves:
        return found.registration
    slid = slipped(found.registration, slip, ends.column, at.layout.size)
    ways = (found.registration, slid, at.followed(found.like, slid))
    return max(ways, key=lambda way: at.judge.of(way).explained)


def past_words(at: Locator, found: Found) -> tuple[Found, MarksMap | None]:
    """The place, or another that explains more marks by ink that is like them, where words at the sides may have drawn it aside.

    And the map of such ink; None where no words stand there, or they cannot be told.
    """
    judge, fit = at.alone.judged(found.registration, found.fit)
    marks = at.alone.map(found.registration)
    if marks is None or judge is at.judge:
        return found, None
    if words_at_sides((at.judge, found.fit), (judge, fit), found.registration.to_photo, at.layout) <= WORDS:
        return found, None
    at.pass_words(marks)
    again = at.followed(found.like, found.registration)
    ways = [found.registration, again, *(at.stepped(way, fit) for way in (found.registration, again))]
    least = AS_GOOD * max(at.judge.of(way).explained for way in ways)
    best = max(
        (way for way in ways if at.judge.of(way).explained >= least),
        key=lambda way: judge.of(way).explained + BY_ALL * at.judge.of(way).explained,
    )
    whole = at.judge.of(best)
    if judge.of(best).explained < SURELY_LIKE * whole.explained:
        at.pass_words(None)
        return found, None
    return replace(found, registration=best, fit=whole), marks
