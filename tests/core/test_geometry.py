"""Places: sheet to photo and back, what a camera can do, and light lines measured in millimetres on a fill."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dusky_sieve import files
from dusky_sieve.core.layout import MarksBlock, SolidBlock, extent, mark_centres
from dusky_sieve.core.reading.beyond import beyond_sides
from dusky_sieve.core.reading.ends import Ends, Slip, find_slip, slipped
from dusky_sieve.core.reading.fills import read_fill
from dusky_sieve.core.reading.follow import FAR_PX, distance_to
from dusky_sieve.core.reading.inkmap import Lens, find_strokes, shrink
from dusky_sieve.core.reading.patches import AT_ONCE, bytes_at
from dusky_sieve.core.reading.registration import (
    TERMS,
    Registration,
    grid_over,
    homography_of,
    moved,
    of_reading,
    rigid,
)
from dusky_sieve.core.reading.square import squared

LAYOUT = files.shipped_layout("four-staircases")
BLOCKS = [b for b in LAYOUT.blocks if isinstance(b, MarksBlock)]
PLANE = np.array([[14.0, 0.6, 60], [-0.4, 13.5, 40], [1e-4, 2e-4, 1]])
GRID = grid_over(LAYOUT.size, 9)


def bent(seed: int, much: float = 0.3) -> Registration:
    """A place with a warp of every degree."""
    warp = np.random.default_rng(seed).uniform(-much, much, (len(TERMS), 2))
    return Registration(PLANE, warp, LAYOUT.size)


# Registrations


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 9999))
def test_a_place_written_to_a_reading_leads_to_the_same_pixels_when_it_is_read_back(seed):
    place = bent(seed)
    box = (*place.origin, *place.size)
    again = of_reading(tuple(map(tuple, place.homography)), tuple(map(tuple, place.warp)), box)
    assert np.abs(again.to_photo(GRID) - place.to_photo(GRID)).max() < 1e-9
    assert np.abs(of_reading(tuple(map(tuple, PLANE)), None, None).to_photo(GRID) - rigid(PLANE, LAYOUT.size).to_photo(GRID)).max() < 1e-9  # fmt: skip


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 9999))
def test_a_grid_of_places_is_as_good_as_each_worked_out_by_itself(seed):
    place = bent(seed, 0.05)
    x, y = np.linspace(2, 12, 70), np.linspace(3, 9, 50)
    each = place.to_photo(np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)).reshape(50, 70, 2)
    assert np.abs(place.on_grid(x, y) - each).max() < 0.06


def test_beyond_its_box_a_warp_stays_as_at_the_rim_instead_of_swinging():
    place, corner = bent(3), np.array(LAYOUT.size)
    shift = [place.displaced(p[None])[0] - p for p in (corner + 0.5, corner + 3.0, corner + 40.0)]
    assert np.allclose(shift[0], shift[1])
    assert np.allclose(shift[0], shift[2])


@settings(max_examples=30, deadline=None)
@given(st.floats(-5, 5), st.floats(-5, 5))
def test_a_sheet_moved_by_a_step_lies_where_its_points_moved_by_it_lay(dx, dy):
    place = rigid(PLANE, LAYOUT.size)
    assert np.abs(moved(place, (dx, dy)).to_photo(GRID) - place.to_photo(GRID + (dx, dy))).max() < 1e-6
    assert place.apart(place) == 0
    assert np.abs(homography_of(place) - PLANE).max() < 1e-4


def test_how_rows_lie_leaves_a_place_that_a_camera_would_make_as_it_is():
    points = np.concatenate([mark_centres(b) for b in BLOCKS])
    along = np.tile([0.05, 0.0], (len(points), 1))
    place = rigid(PLANE, LAYOUT.size)
    lens = Lens.of((800, 900))
    same = squared(place, points, along, lens, slack=np.full(len(points), 0.1))
    assert np.abs(same.to_photo(points) - place.to_photo(points)).max() < 0.05
    assert squared(place, points[:8], along[:8], lens, slack=np.full(8, 0.1)) is place  # too few to tell


# Rows' ends


def ends(slides: np.ndarray, right_at: float) -> Ends:
    """Ends of one block that fit best where rows are slid by so many columns."""
    table = np.clip(1 - np.abs(slides - right_at) / 2, -1, 1)
    at = np.array([[-0.8, 0.0], [0.8, 0.0]])
    return Ends(np.stack([table, table]), slides, np.array([0.5, 0.5]), at, np.ones((2, 2)), ("a", "a"), (-1, 1))


@pytest.mark.parametrize("columns", [0.0, 1.0, -1.5])
def test_rows_laid_whole_columns_aside_are_slid_back_by_as_many(columns):
    slides = np.arange(-10, 10.01, 0.125)
    found = find_slip(ends(slides, columns))
    assert found.middle == pytest.approx(columns)
    assert found.moves == (columns != 0)
    step = np.array(BLOCKS[0].column_pitch)
    place = slipped(rigid(PLANE, LAYOUT.size), found, step, LAYOUT.size)
    assert np.abs(place.to_photo(GRID) - rigid(PLANE, LAYOUT.size).to_photo(GRID + columns * step)).max() < 1e-6  # fmt: skip
    assert ends(slides, columns).aside() == (["a"] if abs(columns) >= 1 else [])


def test_without_ends_nothing_slips():
    none = Ends(np.zeros((0, 3)), np.arange(3.0), np.zeros(0), np.zeros((0, 2)), np.zeros((0, 2)), (), ())
    assert (find_slip(none).moves, none.told, none.aside()) == (False, True, [])
    assert not Slip(0.2, 0.1, 0.0, 0.4, 0.9).moves  # a part of a column is what fitting finds by itself


def test_no_place_beyond_a_side_lies_in_another_block():
    for block in BLOCKS:
        sides = beyond_sides(block, LAYOUT)
        assert set(sides) == {"left", "right", "top", "bottom"}
        for side in sides.values():
            for other in BLOCKS:
                left, top, right, bottom = extent(other)
                x, y = side.T
                assert not ((x > left) & (x < right) & (y > top) & (y < bottom)).any()


# Pictures


def test_the_distance_to_strokes_is_right_near_them_and_far_elsewhere():
    lines = np.zeros((400, 500), np.uint8)
    lines[200, 100:160] = 255
    distance = distance_to(lines)
    assert distance[200, 130] == 0
    assert distance[190, 130] == pytest.approx(10, abs=0.5)
    assert distance[200, 170] == pytest.approx(11, abs=0.6)
    assert distance[20, 450] >= FAR_PX
    assert distance_to(np.zeros((50, 50), np.uint8)).min() >= FAR_PX


def test_strokes_are_drawn_again_where_they_were_found():
    ink = np.zeros((300, 300), np.uint8)
    for k in range(12):
        ink[20 + 20 * k, 40:80] = 200
        ink[20 + 20 * k, 150:190] = 120
    strokes = find_strokes(ink)
    assert len(strokes.ink) == 24
    right = strokes.centre[:, 0] > 120
    mask = strokes.drawn(right)
    assert (mask[:, 145:195] > 0).sum() >= 12 * 38
    assert mask[:, :120].max() == 0


@pytest.mark.parametrize("size", [(3000, 4000), (1200, 1600), (1511, 2017), (240, 320)])
def test_a_photo_made_smaller_keeps_its_places(size):
    photo = np.full((*size, 3), 200, np.uint8)
    high, wide = size[0] // 8, size[1] // 8
    photo[2 * high : 3 * high, 5 * wide : 6 * wide] = 20
    small, factor = shrink(photo, 320)
    rows, columns = np.nonzero(small[..., 0] < 110)
    middle = (np.array([columns.mean(), rows.mean()]) + 0.5) / factor
    assert max(small.shape) == 320
    assert middle == pytest.approx([5.5 * wide, 2.5 * high], abs=0.6 / factor)


def test_more_places_than_are_sampled_at_once_are_sampled_all_the_same():
    photo = np.dstack([np.tile(np.arange(256, dtype=np.uint8), (256, 1))] * 3)
    x = np.linspace(0, 255, AT_ONCE * 2 + 7, dtype=np.float32)[None]
    seen = bytes_at(photo, x, np.full_like(x, 9.0))
    assert seen.shape == (1, x.shape[1], 3)
    assert np.abs(seen[0, :, 0] - x[0]).max() < 1


# Fills


FILL = SolidBlock(id="f", channel="cyan", ink="#1c84b8", kind="solid", origin=(6.0, 5.0), size=(30.0, 18.0), nozzles=180, nozzle_pitch=0.1)  # fmt: skip


def fill_photo(lines: dict[float, tuple[float, float]], lamp: float = 1.0) -> np.ndarray:
    """The fill seen straight down, 20 pixels a mm; lines: mm below its top edge to width in mm and share of ink lacking."""
    rows, columns = (np.arange(n) + 0.5 for n in (560, 840))
    cover = np.zeros((560, 840))
    inside = (rows > 100) & (rows < 460)
    cover[np.ix_(inside, (columns > 120) & (columns < 720))] = 1.0
    for below, (width, lacking) in lines.items():
        cover[np.abs(rows / 20 - 5.0 - below) < width / 2] *= 1 - lacking
    light = 0.8 * (1 - cover[..., None] * np.array([0.85, 0.5, 0.25])) * np.linspace(1, lamp, 840)[None, :, None]
    return np.rint(255 * np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)).astype(np.uint8)  # fmt: skip


@pytest.mark.parametrize("lamp", [1.0, 0.5])
def test_light_lines_are_told_by_place_width_lack_of_ink_and_nozzle(lamp):
    given_ = {4.05: (0.1, 0.9), 11.95: (0.2, 0.5)}
    seen = read_fill(fill_photo(given_, lamp), FILL, rigid(np.diag([20.0, 20, 1]), (42, 28)), "light")
    assert seen.read
    assert [line.y_mm for line in seen.lines] == pytest.approx(list(given_), abs=0.05)
    assert [line.contrast for line in seen.lines] == pytest.approx([0.9, 0.5], abs=0.2)
    assert [line.width_um for line in seen.lines] == pytest.approx([100, 200], abs=60)
    assert [line.nozzle for line in seen.lines] == pytest.approx([41, 120], abs=1)


@pytest.mark.parametrize("away", [0.5, 0.7, 1.0])
@pytest.mark.parametrize("rule", [1.0, 0.975, 1.025])
def test_a_frame_close_round_a_fill_is_no_edge_of_it_though_its_place_is_known_to_a_fortieth(away, rule):
    photo = fill_photo({4.05: (0.1, 0.9)})
    for at in (int((5.0 - away) * 20), int((23.0 + away) * 20)):
        photo[at - 2 : at + 2, 60:780] = 30
    for at in (int((6.0 - away) * 20), int((36.0 + away) * 20)):
        photo[40:520, at - 2 : at + 2] = 30
    place = np.array([[20.0, 0, 0], [0, 20.0 * rule, 280 * (1 - rule)], [0, 0, 1]])
    [line] = read_fill(photo, FILL, rigid(place, (42, 28)), "light").lines
    assert (line.y_mm, line.nozzle) == (pytest.approx(4.05, abs=0.06), pytest.approx(41, abs=1))


@pytest.mark.parametrize(("below", "uneven"), [(13.05, 0.9), (0.6, 0.34), (17.4, 0.34)])
@pytest.mark.parametrize("hidden", [False, True])
def test_a_line_of_a_fill_on_waving_paper_is_told_from_the_fills_own_edges(below, uneven, hidden):
    flat = fill_photo({below: (0.2, 0.6), 9.0: (0.3, 0.8)})
    across, rows = np.linspace(-1, 1, 840), np.arange(560)[:, None]
    down = 10.8 * (across - across**3 / 2) * (1 + uneven * (rows / 280 - 1))  # its foot bends more than its top
    photo = np.take_along_axis(flat, np.rint(rows - down).clip(0, 559).astype(int)[..., None], axis=0)
    if hidden:  # something dark over a corner has edges of its own
        photo[:106, 150:270] = 40
    seen = read_fill(photo, FILL, rigid(np.diag([20.0, 20, 1]), (42, 28)), "light").lines
    assert [line.y_mm for line in seen] == pytest.approx(sorted([below, 9.0]), abs=0.08)
    assert [line.nozzle for line in seen] == pytest.approx([int(at * 10) + 1 for at in sorted([below, 9.0])], abs=1)


@pytest.mark.parametrize("off", [-1.3, 1.3])
def test_a_fill_whose_edge_is_not_where_it_should_be_is_looked_for_further_off(off):
    place = np.array([[20.0, 0, 0], [0, 20.0, 20 * off], [0, 0, 1]])
    [line] = read_fill(fill_photo({4.05: (0.1, 0.9)}), FILL, rigid(place, (42, 28)), "light").lines
    assert (line.y_mm, line.nozzle) == (pytest.approx(4.05, abs=0.06), pytest.approx(41, abs=1))


def test_another_fill_close_beside_is_not_taken_for_paper():
    photo = fill_photo({4.05: (0.1, 0.9)}, 0.7)
    photo[80:480, 726:] = (30, 30, 40)
    [line] = read_fill(photo, FILL, rigid(np.diag([20.0, 20, 1]), (42, 28)), "light").lines
    assert (line.contrast, line.nozzle) == (pytest.approx(0.9, abs=0.2), pytest.approx(41, abs=1))


def test_an_even_fill_has_no_lines_and_bare_paper_is_no_fill():
    place = rigid(np.diag([20.0, 20, 1]), (42, 28))
    assert read_fill(fill_photo({}), FILL, place, "light").lines == ()
    bare = read_fill(np.full((560, 840, 3), 210, np.uint8), FILL, place, "light")
    assert not bare.read
    assert "no solid ink" in bare.why
    cut = read_fill(fill_photo({})[:300], FILL, place, "light")
    assert "over the edge of the photo" in cut.why
