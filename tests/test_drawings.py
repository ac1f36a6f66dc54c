"""The sieve's drawings: state is form, every nozzle has its hole, and words say what the drawing shows."""

import re
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dusky_sieve import files
from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.layout import mark_centres
from dusky_sieve.core.reading import BlockReading, Reading
from dusky_sieve.core.reading.correct import numbers_of
from dusky_sieve.core.reading.document import Fault
from dusky_sieve.drawing import course as courses
from dusky_sieve.drawing import sieve, straight
from dusky_sieve.drawing import tanks as vessels
from dusky_sieve.drawing.sieve import Holes

STATES = ("missing", "weak", "deflected", "unsure")
INK = "#1c84b8"
BAD_NAME = '<script>alert("x")</script>&'

heads = st.integers(1, 700).flatmap(
    lambda n: st.builds(
        Holes,
        st.just(n),
        st.dictionaries(st.integers(1, n), st.sampled_from(STATES), max_size=60),
        st.dictionaries(st.integers(1, n), st.tuples(st.floats(-0.3, 0.3), st.floats(-0.3, 0.3)), max_size=20),
        st.booleans(),
        st.booleans(),
    )
)


def drawn(svg: str) -> ElementTree.Element:
    """The picture as a browser would parse it; it says its words itself."""
    root = ElementTree.fromstring(svg)
    assert root.tag.endswith("svg")
    return root


@settings(max_examples=60, deadline=None)
@given(heads, heads)
def test_any_head_is_a_picture_with_its_words_and_no_number_that_is_none(holes, before):
    for svg in (
        sieve.strip(holes, INK, label=BAD_NAME),
        sieve.mesh(holes, before, INK, label=BAD_NAME),
        sieve.stack([holes, holes], INK, [False, True], label=BAD_NAME),
    ):
        assert drawn(svg).get("aria-label").startswith(BAD_NAME)
        assert not re.search(r"\b(nan|inf|None)\b", svg)


@settings(max_examples=60, deadline=None)
@given(heads)
def test_the_full_mesh_has_a_hole_for_every_nozzle_inside_its_frame(holes):
    root = drawn(sieve.mesh(holes, None, INK, label="black"))
    width, height = (float(v) for v in root.get("viewBox").split()[2:])
    nets = [path.get("d") for path in root.iter() if path.get("class") == "net"]
    points = [(float(x), float(y)) for d in nets for x, y in re.findall(r"[ML]([\d.-]+) ([\d.-]+)", d)]
    assert sum(d.count("M") for d in nets) == holes.nozzles
    assert all(0 <= x <= width and 0 <= y <= height for x, y in points)


def test_each_state_has_a_form_of_its_own_without_any_colour():
    forms = []
    for state in STATES:
        svg = sieve.mesh(Holes(1, {1: state}), None, INK, label="")
        forms.append(re.sub(r'(fill|aria-label|d)="[^"]*"', "", svg.split("</defs>")[1]))
        forms[-1] += str(svg.count("url(#hatch)"))
    assert len(set(forms)) == len(STATES)
    assert len({sieve.glyph(s) for s in (*STATES, "open", "reopened")}) == 6
    assert all(drawn(sieve.glyph(s, was=True)) is not None for s in STATES)


def test_a_fault_of_the_sheet_before_hangs_from_a_thread_and_a_new_one_is_marked_as_new():
    now = Holes(10, {3: "missing", 5: "missing"})
    svg = sieve.mesh(now, Holes(10, {3: "weak", 8: "missing"}), INK, label="")
    assert svg.count('class="thread"') == 2  # nozzle 3, still at fault, and 8, which opened again
    assert svg.count('class="reopened"') == 1
    assert svg.count("l-3.5 -6h7z") == 1  # nozzle 5
    assert 'class="thread"' not in sieve.mesh(now, Holes(10, {3: "unsure"}), INK, label="")


def test_a_nozzle_stopped_on_two_sheets_running_is_one_post_through_both():
    first, second = Holes(20, {4: "missing", 9: "missing"}), Holes(20, {4: "weak", 11: "missing"})
    svg = sieve.stack([first, second], INK, [False, False], width=200)
    assert re.findall(r"M(\d+) 13V25", svg) == ["35"]  # from the foot of one strip to the head of the next
    higher = drawn(sieve.stack([first, second], INK, [False, True], width=200)).get("viewBox").split()[3]
    assert float(higher) > float(drawn(svg).get("viewBox").split()[3])  # the printer stood: more air


def test_on_a_strip_finer_than_its_lines_the_worst_of_neighbours_is_drawn():
    holes = Holes(4000, {1001: "unsure", 1002: "missing", 1003: "weak"})
    svg = sieve.strip(holes, INK, width=360)
    assert svg.count('class="post"') == 1
    assert "stroke-dasharray" not in svg
    assert drawn(svg).get("aria-label") == "missing: 1002; weak: 1003; unsure: 1001"


@settings(max_examples=60, deadline=None)
@given(st.sets(st.integers(1, 400), min_size=1))
def test_a_list_of_numbers_is_read_back_as_the_same_numbers(numbers):
    assert set(numbers_of(sieve.number_list(list(numbers)), "black", range(1, 401))) == numbers


def test_words_tell_a_silent_channel_from_one_not_read_and_from_a_clear_one():
    said = [sieve.describe(h) for h in (Holes(9, {}), Holes(9, {}, absent=True), Holes(9, {}, read=False), Holes(9, {2: "weak", 3: "weak", 4: "weak"}))]  # fmt: skip
    assert said == ["clear", "prints nothing", "not read", "weak: 2-4"]


def test_holes_come_from_what_a_case_keeps_and_from_the_blocks_of_a_reading():
    kept = sieve.holes_of_faults(ChannelFaults(missing=(3,), weak=(5,)), 9)
    assert (kept.states, kept.read) == ({3: "missing", 5: "weak"}, True)
    assert not sieve.holes_of_faults(None, 9).read
    block = BlockReading(
        id="a", channel="a", head=1, kind="marks", read=True, counts={"firing": 7, "missing": 1, "deflected": 1, "weak": 0, "unsure": 0},
        faults=(Fault(nozzle=2, state="missing"), Fault(nozzle=4, state="deflected", offset_um=(0, -150.0))),
    )  # fmt: skip
    seen = sieve.holes_of_blocks([block], 9)
    assert (seen.states, seen.throws, seen.absent) == ({2: "missing", 4: "deflected"}, {4: (0.0, -0.15)}, False)
    assert sieve.holes_of_blocks([block.model_copy(update={"counts": {"missing": 9}})], 9).absent
    assert not sieve.holes_of_blocks([block.model_copy(update={"read": False})], 9).read


@pytest.mark.parametrize("ink", ["#1d1c20", "#1c84b8", "#ffffff"])
def test_only_near_black_inks_are_lifted_at_dusk(ink):
    assert ("dark-ink" in sieve.strip(Holes(5, {}), ink)) == (ink == "#1d1c20")


def test_the_course_of_a_case_shows_every_sheet_and_every_step_in_order_of_time():
    start = datetime(2031, 3, 2, 12, tzinfo=UTC)
    sheets = [(start + timedelta(hours=h), n) for h, n in ((0, 12), (2, 7), (30, 0))]
    svg = courses.course(sheets, [], BAD_NAME, lambda at: at.strftime("%H:%M"))
    places = [(float(c.get("cx")), float(c.get("cy"))) for c in drawn(svg).iter() if c.tag.endswith("circle")]
    assert places == sorted(places)  # to the right and, with fewer faults each time, down
    assert drawn(svg).get("aria-label") == BAD_NAME
    assert courses.course([], [], "", str) == ""


@settings(max_examples=40, deadline=None)
@given(st.floats(0, 5000), st.floats(1, 2000))
def test_a_pad_is_never_drawn_fuller_than_full(used, capacity):
    root = drawn(vessels.pad(used, capacity, "so much"))
    width = float(root.get("viewBox").split()[2])
    for part in root.iter():
        if part.tag.endswith("rect"):
            assert 0 <= float(part.get("width")) <= width


def test_a_fault_is_outlined_where_its_block_was_printed_not_where_the_layout_has_it():
    layout = files.shipped_layout("four-staircases")
    block = layout.blocks[0]
    read = BlockReading(
        id=block.id, channel=block.channel, head=1, kind="marks", read=True, shift_um=(500, -200), faults=(Fault(nozzle=12, state="missing"),)
    )  # fmt: skip
    reading = Reading(layout=layout.name, photos=(), blocks=(read,))
    root = drawn(straight.overlay(layout, reading, None, {(block.id, 12): "#"}, wrong={}))
    outline = next(path.get("d") for path in root.iter() if path.get("class") == "outline missing")
    x, y = re.findall(r"(?<=L)[\d.]+ [\d.]+", outline)[0].split()[0], re.match(r"M[\d.]+ ([\d.]+)", outline)[1]
    assert (float(x), float(y)) == pytest.approx(mark_centres(block)[11] + (0.5, -0.2), abs=0.01)
