"""Which way round a sheet lies: by fills, colours, traces, a last row that is not full, and what stands beside it."""

from dataclasses import replace
from types import SimpleNamespace

import cv2
import numpy as np
import pytest
from tests.conftest import LARGER, small_scene
from tests.core.drawn import INKS, LIKE, PITCH, SHORT_AND_LONG, block, photo, read, sheet, states

from dusky_sieve.core.layout import SolidBlock, mark_centres
from dusky_sieve.core.reading import hues, lone, ways
from dusky_sieve.core.reading.find import EFFORTS
from dusky_sieve.core.reading.ghosts import Ground
from dusky_sieve.core.reading.laying import Found
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import moved, rigid, through
from dusky_sieve.core.reading.score import probes, solid_shown
from dusky_sieve.core.reading.ways import sides_right
from dusky_sieve.core.simulate import BlockTruth, Truth, render
from dusky_sieve.core.simulate.camera import place_on_photo


@pytest.mark.parametrize(("column", "row"), [(0, 0), (1, 0), (-1, 0), (0, 1), (0, -1)])
def test_a_lattice_that_lies_on_itself_one_step_aside_is_put_where_nothing_stands_beside_it(column, row):
    """Marks thicker than a column steps down: all but one column of them explain the ink a column further on as well."""
    thick = sheet(
        (52.0, 35.0),
        *(block(n, (2.0, 0.5 + 17.0 * k), INKS[k], nozzles=156, columns=16, step=(3.08, 0.106), down=1.7, mark=(2.3, 0.26)) for k, n in enumerate("ab")),
    )  # fmt: skip
    locator = Locator(photo(thick), thick, "light", "p")
    best = locator.search(EFFORTS[0])[0]
    assert best is not None
    step = column * np.array((3.08, 0.106)) + row * np.array((0.0, 1.7))
    aside = replace(best, registration=moved(best.registration, (float(step[0]), float(step[1]))))
    put_right = sides_right(locator, replace(aside, fit=locator.judge(aside.registration.to_photo)))
    assert put_right.registration.apart(best.registration) < 0.002


@pytest.mark.parametrize(("aside", "apart"), [((0.9, 0.0), False), ((0.9, 0.6), True), ((2.5, 0.0), True)])
def test_marks_alone_in_their_rows_are_the_same_ones_a_part_of_their_length_aside(aside, apart):
    """Beyond their ends no lattice goes on: sheets of four such blocks were refused as fitting two ways round."""
    layout = sheet((21.0, 20.0), *(block(n, (2.0 + 7.0 * k, 0.5), INKS[k], nozzles=20, columns=1, step=(5.0, 0.0), down=0.95, mark=(3.6, 0.12)) for k, n in enumerate("abc")))  # fmt: skip
    locator = Locator(photo(layout), layout, "light", "p")
    place = rigid(np.array([[30.0, 0, 60], [0, 30.0, 40], [0, 0, 1]]), layout.size)
    assert ways._apart(locator, place, moved(place, aside)) == apart


@pytest.mark.parametrize(
    ("aside", "apart"), [((1.3, 0.0), False), ((-1.3, 0.3), False), ((0.0, 1.1), True), ((4.4, 0.0), True)]
)
def test_long_marks_in_columns_are_the_same_ones_a_small_part_of_a_column_aside(aside, apart):
    """Two lists of thirteen rows, two columns each, were refused as fitting two ways round that lay a seventh of a column apart."""
    layout = sheet((38.0, 18.0), *(block(n, (5.0 + 19.0 * k, 0.5), INKS[k], nozzles=25, columns=2, step=(8.8, 0.0), down=1.3, mark=(8.0, 0.12)) for k, n in enumerate("ab")))  # fmt: skip
    locator = Locator(photo(layout), layout, "light", "p")
    place = rigid(np.array([[30.0, 0, 60], [0, 30.0, 40], [0, 0, 1]]), layout.size)
    assert ways._apart(locator, place, moved(place, aside)) == apart


def test_two_like_inks_that_changed_places_tell_the_way_round_among_others_that_did_not():
    """Black lies on itself upside down; thin red and orange marks differ little, but as the layout says only one way."""
    layout = sheet((32.0, 38.0), *(LIKE[k] | {"id": n, "channel": n, "ink": ink} for k, (n, ink) in enumerate([("red", "#c03434"), ("black", "#1d1c20"), ("orange", "#e07b30")])))  # fmt: skip
    full = type("judge", (), {"plan": probes(layout, "light")})()
    black, red, orange, pale = (0.58, 0.58, 0.57), (0.48, 0.64, 0.61), (0.46, 0.61, 0.65), (0.47, 0.63, 0.62)

    def way(*colours: tuple[float, ...], explained: float = 100.0) -> Found:
        fit = type("fit", (), {"colours": np.array(colours), "explained": explained})()
        return type("found", (), {"fit": fit})()

    right, wrong, unknown = way(red, black, orange), way(orange, black, red), way(red, black, (0.0, 0.0, 0.0))
    assert hues.swapped(right, wrong, full)
    assert not hues.swapped(wrong, right, full)
    assert not hues.swapped(right, way(pale, black, pale), full)
    assert not hues.swapped(right, unknown, full)
    assert not hues.swapped(right, way(orange, black, red, explained=130.0), full)


BLACK, YELLOW, TINTED = (0.57, 0.58, 0.58), (0.41, 0.51, 0.76), (0.48, 0.56, 0.68)


@pytest.mark.parametrize(("third", "borrows"), [(BLACK, False), (YELLOW, True), (TINTED, False)])
def test_a_block_in_another_inks_colour_and_not_in_its_own_tells_that_the_pattern_lies_on_others_marks(third, borrows):
    """Three black ones and two yellow: laid a block further on, the last black one is as yellow as those; tinted by a lamp it is not."""
    layout = sheet((32.0, 66.0), *(LIKE[k % 4] | {"id": f"b{k}", "channel": f"b{k}", "origin": (1.5, 0.5 + 13.0 * k), "ink": ink} for k, ink in enumerate(("#1d1c20",) * 3 + ("#e0c22e",) * 2)))  # fmt: skip
    full = SimpleNamespace(plan=probes(layout, "light"))
    right, laid = (SimpleNamespace(fit=SimpleNamespace(colours=np.array((BLACK, BLACK, seen, YELLOW, YELLOW)), explained=e)) for seen, e in ((BLACK, 100.0), (third, 150.0)))  # fmt: skip
    assert hues.borrows(laid.fit, full.plan.hints) == borrows
    assert hues.truer(right, laid, full) == borrows
    assert not hues.truer(laid, right, full)


@pytest.mark.parametrize("desk", [20, 200])
def test_traces_count_only_on_the_sheets_own_ground(desk):
    """Over black, where another backing's block would lie beside the sheet, stripes of the desk are no traces of it."""
    layout = sheet((32.0, 26.0), LIKE[0] | {"backing": "dark"}, LIKE[1])
    page = np.full((500, 640, 3), 20, np.uint8)
    page[260:] = desk
    page[260::11] = desk + 12
    place = rigid(np.array([[18.0, 0, 30], [0, 18.0, 20], [0, 0, 1]]), layout.size).to_photo
    assert (Ground(page).trace(place, layout, "dark", lambda points: place(points) + 300) > 0) == (desk == 20)
    assert Ground(page).beside_sheet(place, layout, "dark") == (desk != 20)


def test_a_trace_tells_nothing_where_either_way_has_a_block_there():
    """Of two like blocks of white one was absent, and the sheet was read a block aside, for there the next ink's marks lay better on a trace."""
    inks = [LIKE[1] | {"id": n, "channel": n, "origin": (1.5 + 30.0 * k, 15.0)} for k, n in enumerate("bcd")]
    layout = sheet((92.0, 28.0), LIKE[0] | {"backing": "dark"}, *inks)
    page = np.full((560, 1700, 3), 20, np.uint8)
    place = rigid(np.array([[18.0, 0, 30], [0, 18.0, 20], [0, 0, 1]]), layout.size).to_photo
    for printed in layout.blocks[1:3]:
        for x, y in np.rint(place(mark_centres(printed))).astype(int):
            page[y, x - 12 : x + 13] = 26

    def aside(points: np.ndarray) -> np.ndarray:
        return place(points + (30.0, 0.0))

    ground = Ground(page)
    assert ground.trace(place, layout, "dark", lambda points: place(points) + 300) > 5
    assert ground.trace(place, layout, "dark", aside) > 5  # the first ink's is its own
    assert ground.trace(aside, layout, "dark", place) == 0  # the second one's is either's


@pytest.mark.parametrize(("level", "counts"), [(150, True), (120, True), (75, False), (250, False)])
def test_a_lead_counts_for_nothing_that_has_the_other_backings_blocks_lie_on_the_desk(level, counts, monkeypatch):
    """Film half of which printed nothing was read upside down for it; in shade the same ground may be a little darker."""
    layout = sheet((32.0, 26.0), LIKE[0], LIKE[1] | {"backing": "dark"})
    page = np.full((500, 1300, 3), 150, np.uint8)
    page[260:, :640] = level
    at = SimpleNamespace(map=SimpleNamespace(small=page), layout=layout, backing="light")
    desk, paper = (SimpleNamespace(registration=rigid(np.array([[18.0, 0, x], [0, 18.0, 20], [0, 0, 1]]), layout.size)) for x in (30, 690))  # fmt: skip
    monkeypatch.setattr(ways, "leads", lambda *_: True)
    assert ways._ahead(at, None, desk, paper) == counts
    assert ways._ahead(at, None, paper, desk)


@pytest.mark.parametrize("roll", [4, 184])
def test_a_frame_a_row_away_all_round_a_plain_raster_is_no_row_of_it_either_way_round(roll):
    """Its last row is two marks short: they alone tell which way round it lies, once no row is laid onto the frame."""
    only = block("only", (1.0, 0.5), "#8cc4dc", nozzles=16 * 71 - 2, columns=16, step=(2.6, 0.0), down=1.4, mark=(1.85, 0.1))  # fmt: skip
    framed = sheet((42.6, 100.0), only)
    scene = small_scene(fill=0.8, margin_mm=14, tilt_deg=5, tilt_towards_deg=60 + roll, roll_deg=roll, noise=0.01)
    pixels = render(framed, Truth(blocks={"only": BlockTruth(missing=(303, 611))}, scene=scene), "light", np.random.default_rng(8))  # fmt: skip
    around = np.array([[-1.2, -0.7], [43.1, -0.7], [43.1, 99.7], [-1.2, 99.7], [-1.2, -0.7]])
    corners = np.rint(place_on_photo(around, framed, scene) * 16).astype(np.int32)
    pixels = np.asarray(cv2.polylines(pixels.copy(), [corners], False, (60, 55, 55), 5, cv2.LINE_AA, 4))
    reading = read(framed, pixels)
    assert reading.photos[0].found, reading.photos[0].why
    assert states(reading) == {"only": {303: "missing", 611: "missing"}}


@pytest.mark.parametrize(("printed", "told"), [(8, False), (11, True)])
def test_a_heading_where_the_next_rows_would_be_tells_no_rows_where_the_last_ones_of_all_blocks_did_not_print(printed, told):  # fmt: skip
    """Letters a row above explained a mark or two more: a sheet was read three rows aside, half of its marks wrongly."""
    shape = {"nozzles": 110, "columns": 10, "step": (1.13, 0.0), "down": 1.21, "mark": (0.94, 0.1)}
    at = [(1.0 + 12.3 * (k % 2), 0.5 + 14.8 * (k // 2)) for k in range(4)]
    layout = sheet((25.6, 30.6), *(block(f"b{k}", at[k], INKS[k], **shape) for k in range(4)))
    gone = tuple((f"b{k}", BlockTruth(missing=tuple(range(10 * printed + 1, 111)))) for k in range(4))
    found = read(layout, photo(layout, gone, fill=0.72, roll_deg=5, **LARGER))
    assert found.photos[0].found == told
    assert told or "a column or a row aside" in str(found.photos[0].why)
    assert all(not b.read or not b.faults for b in found.blocks)


@pytest.mark.parametrize(("middle", "followed"), [((16.5, 21.0), True), ((5.0, 11.5), False), ((2.0, 3.0), False)])
def test_a_way_round_that_leads_to_where_the_pattern_was_not_followed_is_known_to(middle, followed):
    """Turned about the middle of one block all others lie beyond, and next to nothing of the pattern where it was."""
    place = rigid(np.array([[20.0, 0, 300], [0, 20.0, 200], [0, 0, 1]]), SHORT_AND_LONG.size)
    at, found = SimpleNamespace(layout=SHORT_AND_LONG), SimpleNamespace(registration=place)
    turned, all_of_it = ways._laid(at, found, ways.TURNED, np.multiply(2, middle))
    assert all_of_it == followed
    assert np.abs(turned.to_photo(np.array([middle])) - place.to_photo(np.array([middle]))).max() < 0.1


def test_marks_that_only_one_way_round_has_are_known_though_rows_are_nearer_than_marks_may_be_thrown():
    rows = block("one", (1.0, 0.5), INKS[0], nozzles=312, columns=30, step=(1.1, 0.0), down=0.6, mark=(0.9, 0.12)) | {"nozzle_pitch": 0.28}  # fmt: skip
    at = Locator(np.full((700, 1000, 3), 230, np.uint8), sheet((34.0, 8.0), rows), "light", "p")
    place = rigid(np.array([[28.0, 0, 20], [0, 28.0, 200], [0, 0, 1]]), at.layout.size)
    turned = through(place.to_photo(at.marks.centres[:300][::-1] + (0, 0.6)), at.marks.centres[:300], at.layout.size)
    way, other = SimpleNamespace(registration=place), SimpleNamespace(registration=turned)
    assert np.flatnonzero(lone.lone_marks(at, way, other)).tolist() == list(range(18))


@pytest.mark.parametrize("roll", [4, 184])
def test_a_fill_tells_the_way_round_of_a_thousand_marks_that_lie_on_themselves(roll):
    one = block("one", (1.0, 0.5), INKS[0], nozzles=1024, columns=32, step=(1.1, 0.0), down=1.1, mark=(0.8, 0.12))
    fill = {k: one[k] for k in ("channel", "ink", "backing", "first_nozzle", "nozzle_pitch")} | {
        "id": "fill", "kind": "solid", "origin": (2.0, 38.0), "size": (12.0, 4.0)}  # fmt: skip
    layout = sheet((37.0, 43.0), one, fill)
    reading = read(layout, photo(layout, roll_deg=roll, words=False))
    assert reading.photos[0].found, reading.photos[0].why
    assert (reading.photos[0].sheet_to_photo[0][0] > 0) == (roll == 4)


@pytest.mark.parametrize(("backing", "desk", "ground", "ink"), [("light", 40, 200, 30), ("dark", 200, 20, 230)])
def test_a_desk_beyond_the_edge_of_the_sheet_is_no_fill(backing, desk, ground, ink):
    fill = SolidBlock.model_validate(
        {"id": "fill", "channel": "a", "ink": "#1d1c20" if backing == "light" else "#f4f4f2", "backing": backing, "kind": "solid",
         "origin": (4.0, 1.3), "size": (12.0, 8.0), "first_nozzle": 1, "nozzle_pitch": PITCH}
    )  # fmt: skip
    page = np.full((400, 300, 3), ground, np.uint8)
    page[:100], page[213:293, 40:160] = desk, ink
    assert [solid_shown(page, lambda at, y=y: 10 * at + (0, y), fill, backing) for y in (0, 200)] == [0.0, 1.0]


@pytest.mark.parametrize(("lowest", "lead"), [("cyan", False), ("grey", True)])
def test_what_washed_out_colours_make_a_way_explain_more_is_no_lead_where_they_follow_the_other_one_about_grey(lowest, lead, monkeypatch):  # fmt: skip
    """Of three blocks the last printed nothing: upside down the first one's cyan passed for its grey (372 marks read wrongly)."""
    inks = {"cyan": (0.85, 0.46, 0.27), "orange": (0.13, 0.53, 0.84), "grey": (0.58, 0.58, 0.57)}
    washed = {name: 0.578 + 0.25 * (np.array(ink) - 0.578) for name, ink in inks.items()} | {"none": np.zeros(3)}
    full = SimpleNamespace(plan=SimpleNamespace(hints=np.array(list(inks.values()))))
    turned, right = (
        SimpleNamespace(fit=SimpleNamespace(explained=explained, there=0.55, colours=np.array([washed[name] for name in shown])))
        for explained, shown in ((200.0, ("none", "orange", lowest)), (190.0, (lowest, "orange", "none")))
    )  # fmt: skip
    for name, value in (("lone_ink", np.zeros(0)), ("lone_marks", np.zeros(9, bool)), ("_standing", 0), ("_turned_in_same_inks", False)):  # fmt: skip
        monkeypatch.setattr(lone, name, lambda *_, value=value: value)
    assert lone.leads(SimpleNamespace(), full, turned, right) == lead
