"""Laying a sheet's lattice onto a photo, stage by stage: the paper, the lean, the camera, the steps of runs, the way round."""

from functools import cache

import cv2
import numpy as np
import pytest
from tests.conftest import small_scene

from dusky_sieve import files
from dusky_sieve.core.errors import SheetNotFound
from dusky_sieve.core.layout import MarksBlock, mark_centres
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.reading.inkmap import Strokes, find_strokes
from dusky_sieve.core.reading.paper import papers_on
from dusky_sieve.core.reading.place import find_sheet
from dusky_sieve.core.reading.registration import TERMS, Registration, project, rigid
from dusky_sieve.core.reading.runs import agreement, slid, steps_of, straddling
from dusky_sieve.core.reading.square import squared
from dusky_sieve.core.reading.tilt import leans
from dusky_sieve.core.simulate import BlockTruth, Scene, Truth, render, sheet_to_photo
from dusky_sieve.core.simulate.camera import place_on_photo

RUNS = files.shipped_layout("eight-slanted-runs")
BLOCKS = [b for b in RUNS.blocks if isinstance(b, MarksBlock)]
COLUMN = BLOCKS[0].column_pitch


@cache
def photo(scene: Scene, name: str = "eight-slanted-runs", faults: tuple[tuple[str, BlockTruth], ...] = ()):
    layout = files.shipped_layout(name)
    return render(layout, Truth(blocks=dict(faults), scene=scene), "light", np.random.default_rng(4))


STRAIGHT = small_scene(width=3000, height=2250, fill=0.9, tilt_deg=4, roll_deg=3)


def laid_aside(columns: float) -> Registration:
    """The true registration with the sheet slid along its runs by so many columns."""
    shift = np.array([[1, 0, columns * COLUMN[0]], [0, 1, columns * COLUMN[1]], [0, 0, 1.0]])
    return rigid(sheet_to_photo(RUNS, STRAIGHT) @ shift, RUNS.size)


def columns_off(registration: Registration, scene: Scene, layout=RUNS, *, bent: bool = False) -> float:
    """How far marks are laid from their true places along their rows, columns, 95 of 100 under it.

    bent : without what a shift, a stretch and a shear along the rows would set right
    """
    blocks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    centres = np.concatenate([mark_centres(b) for b in blocks])
    true = place_on_photo(centres, layout, scene)
    along = place_on_photo(centres + (0.1, 0), layout, scene) - true
    apart = ((registration.to_photo(centres) - true) * along).sum(axis=1) / (along**2).sum(axis=1) * 0.1
    off = apart / np.concatenate([np.full(b.nozzles, b.column_pitch[0]) for b in blocks])
    if bent:
        basis = np.column_stack([np.ones(len(centres)), centres])
        off = off - basis @ np.linalg.lstsq(basis, off, rcond=None)[0]
    return float(np.quantile(np.abs(off), 0.95))


@pytest.mark.parametrize("desk", ["wood", "tiles", "weave", "print", "dark"])
def test_the_paper_stands_out_from_any_desk_and_holds_the_whole_pattern(desk):
    scene = small_scene(fill=0.55, margin_mm=8, desk=desk, roll_deg=25, tilt_deg=12, lamp_falloff=2.0)
    mask = papers_on(photo(scene), "light")[0]
    spots = np.rint(place_on_photo(np.concatenate([mark_centres(b) for b in BLOCKS]), RUNS, scene)).astype(int)
    assert mask is not None
    assert (mask[spots[:, 1], spots[:, 0]] == 255).all()
    assert mask.mean() < 0.75 * 255  # and leaves the desk out


def test_where_paper_fills_the_frame_no_paper_is_told_apart():
    assert papers_on(np.full((900, 1200, 3), 210, np.uint8), "light") == []


def strokes_of(centre, lean, long, ink) -> Strokes:
    n = len(centre)
    return Strokes(
        np.array(centre, float), np.array(lean, float), np.array(long, float), np.full(n, 2.0), np.array(ink, float),
        np.zeros((1200, 1600), np.int32), np.arange(n),
    )  # fmt: skip


def test_a_few_long_runs_are_a_lean_of_their_own_among_words_of_the_same_direction():
    rng = np.random.default_rng(1)
    letters = [(rng.uniform(200, 1400), rng.uniform(100, 1100)) for _ in range(150)]
    runs = [(800, 300 + 60 * k) for k in range(5)]
    strokes = strokes_of(
        letters + runs, [*rng.normal(0.62, 0.12, 150), *[0.7] * 5], [*rng.uniform(8, 12, 150), *[420] * 5], [75] * 155
    )
    ways = leans(strokes, (1200, 1600), 5, 0.2)
    assert any(set(np.flatnonzero(way.follows)) == set(range(150, 155)) for way in ways)


def test_faint_marks_on_paper_are_seen_however_rough_the_desk_is():
    ink = np.random.default_rng(2).integers(0, 120, (800, 1200)).astype(np.uint8)
    paper = np.zeros_like(ink)
    paper[200:600, 300:900] = 255
    ink[paper > 0] = 1
    for x in range(330, 860, 40):
        cv2.line(ink, (x, 400), (x + 20, 400), (22,), 2)
    assert len(find_strokes(ink, paper).long) == 14
    assert len(find_strokes(ink).long) != 14


@pytest.mark.parametrize(("k1", "curl"), [(0.0, 0.0), (0.05, 0.0), (0.0, 3.0), (-0.04, -2.0)])
def test_how_rows_lie_says_how_far_marks_are_apart_along_them(k1, curl):
    """A homography with wrong perspective along the rows, its rows yet laid right by a warp across them only."""
    scene = STRAIGHT.model_copy(update={"tilt_deg": 22, "tilt_towards_deg": 35, "lens_k1": k1, "curl_mm": curl})
    points = np.concatenate([mark_centres(b) for b in BLOCKS])
    true = place_on_photo(points, RUNS, scene)
    wrong, _ = cv2.estimateAffine2D(points, true)  # no perspective at all
    flat = Registration(np.vstack([wrong, [0, 0, 1]]), np.zeros((len(TERMS), 2)), RUNS.size)
    rows = flat.homography.copy()
    back = project(np.linalg.inv(rows), true) - points
    warp = np.zeros((len(TERMS), 2))
    warp[:, 1] = np.linalg.lstsq(flat.terms(points), back[:, 1] - back[:, 0] * COLUMN[1] / COLUMN[0], rcond=None)[0]
    followed = Registration(rows, warp, RUNS.size)
    along = np.tile(0.05 * np.array(COLUMN) / np.hypot(*COLUMN), (len(points), 1))
    square = squared(followed, points, along, (scene.height, scene.width))
    before, after = (columns_off(way, scene, bent=True) for way in (followed, square))
    assert before > 0.5
    assert after < 0.25 * before


@pytest.mark.parametrize("columns", [-1.3, -0.6, -0.3, 0.2, 0.5, 1.0])
def test_a_run_laid_aside_is_slid_back_by_its_steps_and_its_ends(columns):
    pixels = photo(STRAIGHT)
    at = find_sheet(pixels, RUNS, "light", "p")[1]
    aside = laid_aside(columns)
    assert columns_off(aside, STRAIGHT) == pytest.approx(abs(columns), abs=0.05)
    back = slid(pixels, BLOCKS, Registration(aside.homography, aside.warp, RUNS.size), "light", at.ends(aside))
    assert columns_off(back, STRAIGHT) < 0.15


def test_the_steps_of_a_run_tell_its_slip_by_their_phase():
    pixels = photo(STRAIGHT)
    slip = 0.25 * COLUMN[0]
    steps = steps_of(pixels, BLOCKS, laid_aside(0.25), "light")
    here, back = (float(agreement(steps, np.full(len(steps.wave), v))) for v in (0.0, -slip))
    assert here == pytest.approx(np.cos(np.pi / 2), abs=0.15)
    assert back > 0.85


def test_marks_laid_half_a_column_aside_are_in_doubt_and_those_in_place_are_not():
    pixels = photo(STRAIGHT)
    aside, doubtful = straddling(pixels, BLOCKS, laid_aside(0.5), "light")
    assert aside > 0.9
    assert all(which.all() for which in doubtful.values())
    assert straddling(pixels, BLOCKS, laid_aside(0.0), "light")[0] == 0.0


def test_a_block_that_prints_nothing_does_not_say_that_its_steps_are_off():
    gone = ((BLOCKS[2].id, BlockTruth(all_missing=True)),)
    reading = read_sheet(RUNS, [UprightPhoto(photo(STRAIGHT, faults=gone), "light", "p")])
    block = next(b for b in reading.blocks if b.id == BLOCKS[2].id)
    assert block.counts["missing"] == BLOCKS[2].nozzles


@pytest.mark.parametrize(
    "scene",
    [
        pytest.param({"tilt_deg": 28, "tilt_towards_deg": 30, "fill": 0.8}, id="tilted 28 degrees"),
        pytest.param({"tilt_deg": 14, "curl_mm": 3.5, "lens_k1": 0.05, "roll_deg": 75}, id="curled, through a wide lens"),
        pytest.param({"desk": "wood", "fill": 0.8, "roll_deg": 8, "tilt_deg": 10}, id="on wood grain that runs with its marks"),
    ],
)  # fmt: skip
def test_touching_runs_are_laid_on_the_right_nozzles(scene):
    faults = tuple((b.id, BlockTruth(missing=(3, 40 + k, 91))) for k, b in enumerate(BLOCKS))
    shot = STRAIGHT.model_copy(update=scene)
    reading = read_sheet(RUNS, [UprightPhoto(photo(shot, faults=faults), "light", "p")])
    assert reading.photos[0].found
    for block, (_, truth) in zip(reading.blocks, faults, strict=True):
        assert [f.nozzle for f in block.faults if f.state == "missing"] == list(truth.missing)


def test_a_sheet_with_small_marks_on_a_busy_ground_is_found_at_a_closer_look():
    layout = files.shipped_layout("four-staircases")
    scene = Scene(width=4032, height=3024, fill=0.3, desk="print", margin_mm=4, roll_deg=31, tilt_deg=12)
    registration, _ = find_sheet(photo(scene, "four-staircases"), layout, "light", "p")
    assert columns_off(registration, scene, layout) < 0.1


def test_a_printed_rule_beside_the_pattern_does_not_put_its_place_in_doubt():
    scene = small_scene(border=True, margin_mm=7, roll_deg=4, tilt_deg=8)
    reading = read_sheet(
        files.shipped_layout("two-heads-raster"), [UprightPhoto(photo(scene, "two-heads-raster"), "light", "p")]
    )
    assert reading.photos[0].found, reading.photos[0].why


def test_a_symmetrical_sheet_is_refused_however_finely_one_way_round_is_laid():
    block = BLOCKS[0].model_copy(update={"nozzles": BLOCKS[0].columns * 3})
    size = (RUNS.size[0], BLOCKS[0].row_pitch[1] * 3 + 2)
    layout = RUNS.model_copy(update={"blocks": (block,), "size": size, "name": "One like block"})
    pixels = render(layout, Truth(scene=STRAIGHT), "light", np.random.default_rng(2))
    with pytest.raises(SheetNotFound, match="two ways round"):
        find_sheet(pixels, layout, "light", "p")
