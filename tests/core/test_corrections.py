"""What a person corrects: lies on top of the machine's answer, adds up, can be taken back and put on again."""

from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import MarksBlock, mark_centres
from dusky_sieve.core.reading.correct import Change, corrected, marks_within, numbers_of, states_of, taken_back
from dusky_sieve.core.reading.document import BlockReading, Fault, PhotoReading, Reading
from dusky_sieve.core.reading.registration import rigid
from dusky_sieve.core.reading.verdict import SKEWED_DEG, photo_verdict

LAYOUT = files.shipped_layout("four-staircases")
BLOCKS = [b for b in LAYOUT.blocks if isinstance(b, MarksBlock)]
STATES = ("firing", "missing", "weak", "deflected", "unsure")


def reading(read: bool = True) -> Reading:
    """Black has a gap and a mark in doubt; nothing else is wrong."""
    blocks = []
    for block in BLOCKS:
        faults = (Fault(nozzle=3, state="missing", confidence=0.99), Fault(nozzle=9, state="unsure")) if block.id == "black" else ()  # fmt: skip
        counts = dict.fromkeys(STATES, 0) | {"firing": block.nozzles - len(faults), "missing": min(len(faults), 1), "unsure": min(len(faults), 1)}  # fmt: skip
        blocks.append(
            BlockReading(id=block.id, channel=block.channel, head=1, kind="marks", read=read, counts=counts if read else None, faults=faults if read else (), why=None if read else "blurred")
        )  # fmt: skip
    return Reading(layout=LAYOUT.name, photos=(), blocks=tuple(blocks))


def change(state: str, *nozzles: int, block: str = "black", minute: int = 0, undone: bool = False) -> Change:
    return Change(block=block, nozzles=nozzles, state=state, person="Jory", at=NOON + timedelta(minutes=minute), undone=undone)  # fmt: skip


changes = st.lists(
    st.builds(
        lambda state, nozzles, block, minute: change(state, *nozzles, block=block, minute=minute),
        st.sampled_from(STATES), st.sets(st.integers(1, 180), max_size=6), st.sampled_from([b.id for b in BLOCKS]), st.integers(0, 5),
    ),
    max_size=8,
)  # fmt: skip


@settings(max_examples=60, deadline=None)
@given(changes)
def test_counts_add_up_to_the_head_and_the_last_word_on_a_nozzle_stands(made):
    result = corrected(reading(), LAYOUT, made)
    for block, plan in zip(result.blocks, BLOCKS, strict=True):
        assert sum(block.counts.values()) == plan.nozzles
        assert [f.nozzle for f in block.faults] == sorted({f.nozzle for f in block.faults})
        own = [c for c in made if c.block == block.id]
        for nozzle in (own[-1].nozzles or plan.numbers) if own else ():
            assert states_of(block).get(nozzle, "firing") == own[-1].state


@settings(max_examples=60, deadline=None)
@given(changes)
def test_all_that_is_taken_back_is_as_if_it_had_never_been_and_comes_back_in_order(made):
    made = tuple(sorted(made, key=lambda c: c.at))
    back, acts = made, 0
    while (fewer := taken_back(back)) is not None:
        back, acts = fewer, acts + 1
    assert acts == len({c.at for c in made})
    assert corrected(reading(), LAYOUT, back) == reading()
    for _ in range(acts):
        back = taken_back(back, again=True)
    assert back == made
    assert taken_back(back, again=True) is None


def test_a_block_the_machine_refused_is_unsure_but_for_what_a_person_says():
    [black, *others] = corrected(reading(read=False), LAYOUT, [change("missing", 5, 6)]).blocks
    assert (black.read, black.counts["missing"], black.counts["unsure"]) == (True, 2, 178)
    assert not any(other.read for other in others)


def test_one_word_for_a_whole_block_counts_for_every_nozzle_of_it():
    [black, *_] = corrected(reading(), LAYOUT, [change("missing"), change("firing", 40)]).blocks
    assert (black.counts["missing"], black.counts["firing"]) == (179, 1)


@pytest.mark.parametrize(
    ("typed", "numbers"),
    [("40-43, 97", (40, 41, 42, 43, 97)), ("7;7 8", (7, 8)), (" ", ()), ("180", (180,)), ("5–6", (5, 6))],
)
def test_numbers_are_read_as_people_write_them(typed, numbers):
    assert numbers_of(typed, "black", range(1, 181)) == numbers


@pytest.mark.parametrize("typed", ["0", "181", "9-3", "four", "4-", "1-2-3", "3.5", "170-999999"])
def test_numbers_that_no_nozzle_has_are_refused_with_the_piece_at_fault(typed):
    with pytest.raises(UnusableInput, match=r"black: .*found “"):
        numbers_of(typed, "black", range(1, 181))


def test_of_odd_nozzles_a_range_takes_the_odd_ones():
    assert numbers_of("1-9", "black", range(1, 100, 2)) == (1, 3, 5, 7, 9)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, len(BLOCKS) - 1), st.integers(0, 179), st.floats(0.01, 0.05))
def test_a_box_drawn_round_one_mark_takes_that_mark_alone(which, index, reach):
    block = BLOCKS[which]
    x, y = mark_centres(block)[index]
    box = (x - reach, y - reach, x + reach, y + reach)
    assert marks_within(LAYOUT, box) == {block.id: (block.numbers[index],)}
    assert marks_within(LAYOUT, (-9.0, -9.0, -8.0, -8.0)) == {}


def photo(tilt: float, *codes: str) -> PhotoReading:
    plane = rigid([[20.0, 0, 0], [0, 20.0 * (1 - tilt), 0], [0, 0, 1]], LAYOUT.size).homography
    warnings = tuple({"code": code, "message": f"{code} there", "block": "black"} for code in codes)
    return PhotoReading.model_validate({"file": "a.jpg", "width": 900, "height": 900, "backing": "light", "found": True, "sheet_to_photo": plane, "warnings": warnings})  # fmt: skip


def test_a_good_photo_has_four_good_answers_and_each_fault_spoils_its_own():
    assert [r.good for r in photo_verdict(photo(0.0))] == [True] * 4
    for code, question in (("blurred", "sharp"), ("glare", "lit"), ("cut_off", "complete"), ("doubtful", "square")):
        [bad] = [r for r in photo_verdict(photo(0.0, code)) if not r.good]
        assert (bad.question, bad.words, bad.blocks) == (question, (f"{code} there",), ("black",))


@pytest.mark.parametrize(
    ("blocks", "likewise"),
    [(1, []), (2, ["Likewise the b1 block."]), (6, ["Likewise the b1, b2, b3, b4 and b5 blocks."]), (9, ["Likewise the b1, b2, b3, b4 and 4 more blocks."])],
)  # fmt: skip
def test_what_is_wrong_at_many_blocks_is_said_once(blocks, likewise):
    warnings = [{"code": "covered", "message": f"Something lies over b{k}.", "block": f"b{k}"} for k in range(blocks)]
    spoilt = PhotoReading.model_validate(photo(0.0).model_dump() | {"warnings": warnings})
    [bad] = [r for r in photo_verdict(spoilt) if not r.good]
    assert list(bad.words) == ["Something lies over b0.", *likewise]
    assert len(bad.blocks) == blocks


def test_a_photo_taken_from_aside_says_by_how_many_degrees():
    [bad] = [r for r in photo_verdict(photo(0.2)) if not r.good]  # shortened to four fifths: 37 degrees
    assert "about 37° from straight above" in bad.words[0]
    assert SKEWED_DEG < 37
    assert photo_verdict(photo(0.0).model_copy(update={"found": False})) == ()
