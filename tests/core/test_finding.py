"""From strokes on an ink map to a place: correlation at any turn and size, rows followed, columns set right."""

import cv2
import numpy as np
import pytest

from dusky_sieve import files
from dusky_sieve.core.layout import MarksBlock, clear_heights, mark_centres
from dusky_sieve.core.reading.closer import carried, close_up
from dusky_sieve.core.reading.find import EFFORTS, gather_marks, similarities
from dusky_sieve.core.reading.follow import FINAL, FROM_CLOSE_BY, PLANS, best_followed, distance_to, follow
from dusky_sieve.core.reading.inkmap import InkMap, Strokes, find_strokes
from dusky_sieve.core.reading.locate import Locator
from dusky_sieve.core.reading.registration import TERMS, Registration, project, rigid
from dusky_sieve.core.reading.slide import slide
from dusky_sieve.core.reading.tilt import leans

LAYOUT = files.shipped_layout("four-staircases")
BLOCKS = [b for b in LAYOUT.blocks if isinstance(b, MarksBlock)]
CENTRES = np.concatenate([mark_centres(b) for b in BLOCKS])
CLEAR = float(np.median(clear_heights(BLOCKS)))
SHAPE = (1200, 1600)


def similar(turn: float, scale: float) -> np.ndarray:
    """Sheet mm to map pixels: turned by degrees, so many pixels a mm, in the middle of the map."""
    c, s = scale * np.cos(np.radians(turn)), scale * np.sin(np.radians(turn))
    x, y = np.array(SHAPE[::-1]) / 2 - np.array([[c, -s], [s, c]]) @ (np.array(LAYOUT.size) / 2)
    return np.array([[c, -s, x], [s, c, y], [0, 0, 1.0]])


def printed(place: Registration, share: float = 1.0, clutter: int = 0, shape: tuple[int, int] = SHAPE) -> np.ndarray:
    """An ink map (rows, columns) of the sheet at a place, a share of its marks printed, words and scratches about it."""
    rng = np.random.default_rng(7)
    ink = rng.integers(0, 6, shape).astype(np.uint8)
    long = np.concatenate([np.full(b.nozzles, b.mark[0]) for b in BLOCKS])
    for (x, y), reach, shown in zip(CENTRES, long / 2, rng.random(len(CENTRES)) < share, strict=True):
        if shown:
            a, b = np.rint(place.to_photo(np.array([[x - reach, y], [x + reach, y]]))).astype(int)
            cv2.line(ink, (int(a[0]), int(a[1])), (int(b[0]), int(b[1])), (110,), 1)
    for x, y, dx, dy in rng.uniform((20, 20, -30, -30), (1580, 1180, 30, 30), (clutter, 4)).astype(int):
        cv2.line(ink, (int(x), int(y)), (int(x + dx), int(y + dy)), (90,), 2)
    return ink


def apart(one: np.ndarray, other: np.ndarray) -> float:
    """The furthest distance of the pattern's corners between two places, as a share of its diagonal."""
    w, h = LAYOUT.size
    corners = np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])
    a, b = project(one, corners), project(other, corners)
    return float(np.linalg.norm(a - b, axis=1).max() / np.linalg.norm(a[0] - a[2]))


@pytest.mark.parametrize("turn", [0, 37, 90, 161, 214, 300])
@pytest.mark.parametrize(("scale", "share", "clutter"), [(16.0, 1.0, 0), (9.0, 0.6, 60), (5.5, 0.8, 30)])
def test_strokes_lead_to_the_pattern_at_any_turn_and_size(turn, scale, share, clutter):
    true = similar(turn, scale)
    strokes = find_strokes(printed(rigid(true, LAYOUT.size), share, clutter))
    effort = EFFORTS[0]
    ways = leans(strokes, SHAPE, effort.directions, effort.faint_peak)
    places = similarities(
        strokes, ways, gather_marks(LAYOUT, "light"), LAYOUT, SHAPE, every_scale=False, most=effort.candidates, whole_mm=max(LAYOUT.size),
    )  # fmt: skip
    assert min(apart(true, place.homography) for place in places[: effort.in_all]) < 0.08


def test_a_block_of_short_marks_below_one_of_long_ones_is_no_tilt():
    across, down = (v.ravel() for v in np.meshgrid(30.0 * np.arange(20), 13.0 * np.arange(4), indexing="ij"))
    centre = np.stack([400 + across, 500 + down + 60 * (down > 20)], axis=1)
    n, rng = len(centre), np.random.default_rng(4)
    long = np.where(down > 20, 9.0, 22.0) * rng.normal(1, 0.03, n)
    strokes = Strokes(centre, np.zeros(n), long, np.full(n, 2.0), np.full(n, 100.0), SHAPE, np.zeros(0, np.int32), np.zeros(0, np.int32), np.arange(n))  # fmt: skip
    flat = leans(strokes, SHAPE, 5, 0.3, even=False)[0].to_map
    assert np.abs(flat[2, :2]).max() * SHAPE[1] < 0.02


def test_the_length_of_marks_is_told_though_a_frame_and_many_specks_run_their_way():
    rng = np.random.default_rng(2)
    along = np.array([np.cos(np.radians(77)), np.sin(np.radians(77))])
    lengths = np.concatenate([np.full(60, 26.0), [900.0, 900.0], np.full(180, 3.0)])
    centre = rng.uniform((400, 300), (1200, 900), (len(lengths), 2))
    n, none = len(lengths), np.zeros(0, int)
    strokes = Strokes(
        centre=centre, lean=np.full(n, np.arctan2(along[1], along[0])) + rng.normal(0, 0.01, n), long=lengths, wide=np.full(n, 3.0),
        ink=np.full(n, 90.0), shape=SHAPE, pixel=none, label=none, number=none,
    )  # fmt: skip
    told = [lean.length for lean in leans(strokes, SHAPE, 1, 0.2) if lean.length is not None]
    assert any(abs(length - 26) < 3 for length in told)


def bent(true: np.ndarray, millimetres: float) -> Registration:
    """The sheet at a place, its middle lifted so that rows bow by so much."""
    warp = np.zeros((len(TERMS), 2))
    warp[3] = (0.0, millimetres)
    return Registration(true, warp, LAYOUT.size)


def off_across(found: Registration, true: Registration) -> float:
    """How far marks are laid from their rows, map pixels, 95 of 100 under it."""
    return float(np.quantile(np.abs(found.to_photo(CENTRES) - true.to_photo(CENTRES))[:, 1], 0.95))


@pytest.mark.parametrize(("down", "bow"), [(0.25, 0.0), (-0.3, 0.0), (0.0, 0.25), (0.15, -0.3)])
def test_rows_are_followed_from_beside_them_and_through_a_bow(down, bow):
    """`down` and `bow` as shares of the distance between strokes of neighbouring rows."""
    flat = similar(0, 14.0)
    true = bent(flat, bow * CLEAR)
    distance = distance_to((printed(true, 0.8) > 50).astype(np.uint8) * 255)
    start = rigid(flat @ np.array([[1, 0, 0], [0, 1, down * CLEAR], [0, 0, 1.0]]), LAYOUT.size)
    found, marks = start, gather_marks(LAYOUT, "light")
    for plan in (*PLANS, FINAL):
        found = follow(distance, found, marks, plan)
    assert off_across(start, true) > 1.2
    assert off_across(found, true) < 0.7


@pytest.mark.parametrize("rows", [-2.5, 2.5])
def test_rows_are_followed_from_close_by_though_a_stretch_takes_the_rim_whole_rows_aside(rows):
    flat = similar(0, 14.0)
    distance = distance_to((printed(rigid(flat, LAYOUT.size), 0.8) > 50).astype(np.uint8) * 255)
    half, stretch = LAYOUT.size[1] / 2, 1 + rows * CLEAR / (LAYOUT.size[1] / 2)
    off = []
    for plans in (FROM_CLOSE_BY, PLANS):
        found = rigid(flat @ np.array([[1, 0, 0], [0, stretch, half - stretch * half], [0, 0, 1.0]]), LAYOUT.size)
        for plan in plans:
            found = follow(distance, found, gather_marks(LAYOUT, "light"), plan)
        off.append(off_across(found, rigid(flat, LAYOUT.size)))
    assert off[0] < 0.7 < 10 < off[1]


def test_the_part_that_is_followed_best_is_told_from_one_that_lies_aside():
    true = rigid(similar(0, 14.0), LAYOUT.size)
    distance = distance_to((printed(true) > 50).astype(np.uint8) * 255)
    sheared = rigid(
        true.homography @ np.array([[1, 0, 0], [0.008, 1, 0], [0, 0, 1.0]]), LAYOUT.size
    )  # right at its left side
    seed = best_followed(distance, sheared, gather_marks(LAYOUT, "light"))
    assert seed is not None
    assert seed[0] < 0.3 * LAYOUT.size[0]
    assert best_followed(np.full(SHAPE, 50, np.float32), true, gather_marks(LAYOUT, "light")) is None


@pytest.mark.parametrize("frame_mm", [None, 1.0])
@pytest.mark.parametrize("columns", [-0.35, -0.15, 0.2, 0.4])
def test_marks_are_slid_along_their_rows_to_where_their_ink_stands(columns, frame_mm):
    """Not to a frame that stands beyond the ends of all rows."""
    true = rigid(similar(0, 14.0), LAYOUT.size)
    ink = printed(true, 0.8)
    if frame_mm:
        for x in (CENTRES[:, 0].min() - BLOCKS[0].mark[0] / 2 - frame_mm, CENTRES[:, 0].max() + BLOCKS[0].mark[0] / 2 + frame_mm):  # fmt: skip
            a, b = np.rint(true.to_photo(np.array([[x, -2.0], [x, LAYOUT.size[1] + 2]]))).astype(int).tolist()
            cv2.line(ink, a, b, (200,), 4)
    step = columns * np.array(BLOCKS[0].column_pitch)
    aside = rigid(true.homography @ np.array([[1, 0, step[0]], [0, 1, 0], [0, 0, 1.0]]), LAYOUT.size)
    slid = slide(InkMap(ink, np.zeros((*ink.shape, 3), np.uint8), 1.0).soft, aside, BLOCKS, LAYOUT)
    off = (slid.to_photo(CENTRES) - true.to_photo(CENTRES))[:, 0] / (14.0 * BLOCKS[0].column_pitch[0])
    assert np.quantile(np.abs(off), 0.95) < 0.08


def test_a_part_of_the_photo_shows_a_place_closer_and_where_it_is():
    small = similar(37, 4.2)
    stretched = np.diag([2.5, 2.5, 1.0]) @ small  # on a photo of twice and a half the map's size
    photo = np.repeat(255 - printed(rigid(stretched, LAYOUT.size), shape=(3000, 4000))[..., None], 3, axis=2)
    whole, true = Locator(photo, LAYOUT, "light", "p"), rigid(stretched, LAYOUT.size)
    at = close_up(whole, photo, true)
    assert at is not None
    assert at.map.factor == 1.0
    assert at.whole_sheet(at.of_photo(true)).apart(true) < 1e-6
    assert np.abs(project(at.map.from_photo, np.array([[1999.5, 1499.5]])) - at.map.lens.middle).max() < 1e-6
    assert at.map.lens.focal == pytest.approx(2.5 * whole.map.lens.focal)
    aside = rigid(np.array([[1, 0, 2.0], [0, 1, -1.0], [0, 0, 1]]) @ stretched, LAYOUT.size)
    assert carried(at, aside).fit.there > 5 * at.judge.of(at.of_photo(aside)).there
    large = rigid(np.diag([2.5, 2.5, 1.0]) @ similar(37, 16.0), LAYOUT.size)
    assert close_up(whole, photo, large) is None  # of a sheet that fills the frame the map of all of it shows as much
