"""Reading rendered sheets whose truth is known. The renderer and the reader share only the layout."""

import io

import cv2
import numpy as np
import pytest
from PIL import Image
from tests.conftest import FAULTS, LARGER, TRUE_STATES, photo_of, small_scene
from tests.core import drawn

from dusky_sieve import files
from dusky_sieve.core.layout import Layout, SolidBlock
from dusky_sieve.core.reading import Reading, UprightPhoto, photo_verdict, read_sheet
from dusky_sieve.core.reading.cover import astray
from dusky_sieve.core.reading.judge import STATES, judge_marks
from dusky_sieve.core.reading.registration import project
from dusky_sieve.core.reading.verdict import angle_deg
from dusky_sieve.core.reading.why import remedy
from dusky_sieve.core.simulate import (
    BlockTruth,
    LightLine,
    Scene,
    Truth,
    WeakMark,
    random_faults,
    render,
    sheet_to_photo,
)


def states(reading: Reading) -> dict[str, dict[int, str]]:
    return {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in reading.blocks if b.read}


def read(layout: Layout, content: bytes) -> Reading:
    return read_sheet(layout, [UprightPhoto(files.decode_photo(content, "sheet.jpg"), "light", "sheet.jpg")])


@pytest.mark.parametrize(
    "scene",
    [
        pytest.param(small_scene(tilt_deg=6, roll_deg=4), id="lying almost straight"),
        pytest.param(
            small_scene(tilt_deg=18, tilt_towards_deg=200, roll_deg=97), id="tilted 18 degrees, turned on its side"
        ),
        pytest.param(
            small_scene(tilt_deg=9, roll_deg=183, lamp_falloff=2.5, shadow=0.4), id="upside down, half in shadow"
        ),
        pytest.param(
            small_scene(roll_deg=-30, fill=0.95, kelvin_cast=(0.75, 1.0, 1.15), margin_mm=25),
            id="turned, cold light, wide paper",
        ),
    ],
)
def test_every_fault_is_named_and_nothing_else(staircases, scene):
    reading = read(staircases, photo_of("four-staircases", tuple(FAULTS.items()), scene))
    assert reading.photos[0].found
    assert states(reading) == TRUE_STATES
    for block in reading.blocks:
        assert sum(block.counts.values()) == 180


def test_the_homography_leads_from_sheet_to_photo(staircases, faulty_photo):
    scene = small_scene(tilt_deg=6, roll_deg=4)
    corners = np.array([[0, 0], [62.0, 0], [62.0, 58.0], [0, 58.0]])
    found = project(np.array(read(staircases, faulty_photo).photos[0].sheet_to_photo), corners)
    assert np.allclose(found, project(sheet_to_photo(staircases, scene), corners), atol=1.0)  # px


def test_ink_and_offset_are_measured_not_only_named(staircases, faulty_photo):
    faults = {(b.id, f.nozzle): f for b in read(staircases, faulty_photo).blocks for f in b.faults}
    assert faults["cyan", 77].ink == pytest.approx(0.38, abs=0.06)
    assert faults["black", 90].offset_um[1] == pytest.approx(110, abs=20)
    assert faults["yellow", 119].offset_um[1] == pytest.approx(-120, abs=20)


def test_a_channel_that_prints_nothing_is_missing_from_end_to_end(staircases):
    gone = (("magenta", BlockTruth(all_missing=True)), *FAULTS.items())
    reading = read(staircases, photo_of("four-staircases", gone, small_scene(tilt_deg=5, roll_deg=12)))
    magenta = next(b for b in reading.blocks if b.id == "magenta")
    assert magenta.counts["missing"] == 180
    assert states(reading)["black"] == TRUE_STATES["black"]


@pytest.mark.parametrize("name", ["eight-slanted-runs", "two-heads-raster"])
def test_other_lattices_read_as_well(name):
    layout = files.shipped_layout(name)
    rng = np.random.default_rng(8)
    faults = tuple((b.id, random_faults(b, rng)) for b in layout.blocks)
    scene = Scene(width=3200, height=2400, fill=0.9, tilt_deg=7, roll_deg=15)
    reading = read(layout, photo_of(name, faults, scene))
    true = {key: dict.fromkeys(f.missing, "missing") | {w.nozzle: "weak" for w in f.weak} | {d.nozzle: "deflected" for d in f.deflected} for key, f in faults}  # fmt: skip
    assert states(reading) == true


def test_a_photo_of_something_else_is_not_a_sheet(staircases, desk_photo):
    reading = read(staircases, desk_photo)
    assert not reading.photos[0].found
    assert "no sheet of the layout" in reading.photos[0].why
    assert not any(b.read for b in reading.blocks)


def test_another_printers_sheet_is_not_read_as_this_one():
    content = photo_of("two-heads-raster", (), small_scene())
    assert not read(files.shipped_layout("four-staircases"), content).photos[0].found


def test_marks_beyond_the_frame_are_unsure_and_the_warning_says_so(staircases):
    whole = files.decode_photo(photo_of("four-staircases", tuple(FAULTS.items()), small_scene(tilt_deg=3)), "sheet.jpg")
    at = project(sheet_to_photo(staircases, small_scene(tilt_deg=3)), np.array([[0.0, 50.0]]))[0]
    reading = read_sheet(staircases, [UprightPhoto(np.ascontiguousarray(whole[: int(at[1])]), "light", "cut.jpg")])
    lower = {b.id: b for b in reading.blocks}["yellow"]
    assert lower.counts["unsure"] >= 36  # the last three rows of twelve
    assert lower.counts["missing"] == 1
    assert {w.code for w in reading.photos[0].warnings} == {"cut_off"}


@pytest.mark.parametrize(("fill", "coarse", "told"), [(0.31, 1, ""), (0.31, 2, "a"), (0.36, 1, "abcd")])
def test_what_is_seen_under_a_pixel_a_nozzle_pitch_is_refused_for_being_small(fill, coarse, told):
    first = drawn.LIKE[0] | {"nozzle_pitch": coarse * drawn.PITCH}
    layout = drawn.sheet((33.0, 52.0), first, *drawn.LIKE[1:])
    seen = drawn.read(layout, drawn.photo(layout, (("a", BlockTruth(missing=(7, 30))),), fill=fill, margin_mm=30))
    [photo] = seen.photos
    assert photo.found == bool(told)
    assert [block.id for block in seen.blocks if block.read] == list(told)
    assert all(
        "small on this photo (0.9 px" in block.why and "go closer" in block.why
        for block in seen.blocks
        if not block.read
    )
    if told:
        assert [w.code for w in photo.warnings] == ["small"]
        assert drawn.states(seen)["a"] == {7: "missing", 30: "missing"}


def test_two_ways_round_that_fit_equally_are_not_guessed(staircases, decode):
    lone = staircases.model_copy(update={"blocks": staircases.blocks[:1], "size": (31.0, 28.0)})
    scene = small_scene(words=False)
    pixels = decode(photo_of("four-staircases", (("cyan", BlockTruth(all_missing=True)), ("magenta", BlockTruth(all_missing=True)), ("yellow", BlockTruth(all_missing=True))), scene))  # fmt: skip
    reading = read_sheet(lone, [UprightPhoto(pixels, "light", "lone.jpg")])
    assert not reading.photos[0].found
    assert "two ways round" in reading.photos[0].why


def _from_behind(name: str, shown: tuple[str, ...], film: bool) -> Reading:
    """What is read of a sheet of some of a layout's blocks, mirrored; of film that has another block over black."""
    whole = files.shipped_layout(name)
    gone = tuple((b.id, BlockTruth(all_missing=True)) for b in whole.blocks if b.id not in shown)
    pixels = files.decode_photo(photo_of(name, gone, small_scene(**LARGER, tilt_deg=8, roll_deg=20)), "back.jpg")
    blocks = [b if b.id in shown else b.model_copy(update={"backing": "dark"}) for b in whole.blocks]
    layout = whole.model_copy(update={"blocks": tuple(b for b in blocks if film or b.id in shown)})
    return read_sheet(layout, [UprightPhoto(np.ascontiguousarray(pixels[:, ::-1]), "light", "back.jpg")])


@pytest.mark.parametrize(
    ("name", "shown", "film"),
    [
        pytest.param("two-heads-raster", ("black-1", "cyan-1", "magenta-2", "yellow-2"), False, id="which fits but for its colours"),
        pytest.param("four-staircases", ("black", "cyan", "magenta"), True, id="film on its face"),
    ],
)  # fmt: skip
def test_a_sheet_seen_as_in_a_mirror_is_said_to_be_and_not_read(name, shown, film):
    reading = _from_behind(name, shown, film)
    assert "as in a mirror" in reading.photos[0].why
    assert not any(b.read for b in reading.blocks)


def test_which_of_two_like_heads_printed_is_not_guessed():
    absent = tuple((f"{ink}-1", BlockTruth(all_missing=True)) for ink in ("black", "cyan", "magenta", "yellow"))
    content = photo_of("two-heads-raster", absent, Scene(width=3200, height=2400, fill=0.9, words=False))
    reading = read(files.shipped_layout("two-heads-raster"), content)
    assert not reading.photos[0].found
    assert "two ways round" in reading.photos[0].why


def test_white_ink_is_read_over_black():
    layout = files.shipped_layout("six-bands-on-film")
    faults = {"white-a": BlockTruth(missing=(24, 25)), "white-b": BlockTruth(weak=(WeakMark(nozzle=80, ink=0.4),))}
    scene = Scene(width=3200, height=2400, fill=0.85, tilt_deg=8, roll_deg=146)
    pixels = render(layout, Truth(blocks=faults, scene=scene), "dark", np.random.default_rng(4))
    reading = read_sheet(layout, [UprightPhoto(pixels, "dark", "dark.jpg")])
    assert states(reading) == {"white-a": {24: "missing", 25: "missing"}, "white-b": {80: "weak"}}


@pytest.mark.parametrize("absent", ["white-a", "white-b"])
def test_which_of_two_blocks_of_white_is_absent_is_told_by_the_photo_over_white_where_the_one_over_black_does_not(
    absent,
):
    layout = files.shipped_layout("six-bands-on-film")
    hazy = Scene(width=1600, height=1200, fill=0.85, haze=0.3, desk="plain")
    truth = Truth(blocks={absent: BlockTruth(all_missing=True)}, scene=hazy)
    black, white = (
        UprightPhoto(render(layout, truth, backing, np.random.default_rng(4)), backing, "photo.jpg")
        for backing in ("dark", "light")
    )
    assert not read_sheet(layout, [black]).photos[0].found
    reading = read_sheet(layout, [black, white])
    firing = {b.id: b.counts["firing"] for b in reading.blocks if b.counts}
    assert firing == {b.id: 0 if b.id == absent else 180 for b in layout.blocks}


def filled() -> Layout:
    """One channel's marks and a fill under them, one pass high."""
    plain = files.shipped_layout("four-staircases")
    black = plain.blocks[0]
    fill = SolidBlock(id="black-fill", channel="black", ink=black.ink, origin=(0.0, 30.0), size=(31.0, 25.4), kind="solid", nozzles=180, nozzle_pitch=0.1411)  # fmt: skip
    return plain.model_copy(update={"blocks": (black, fill), "size": (31.0, 56.0)})


@pytest.mark.parametrize(("down", "lost"), [(250, []), (-900, ["grey"])])
def test_a_block_out_of_line_with_all_others_is_read_where_it_lies_or_in_doubt_but_never_missing(down, lost):
    shifted = (("grey", BlockTruth(missing=(9, 100), shift_um=(0, down))),)
    reading = read(files.shipped_layout("eight-slanted-runs"), photo_of("eight-slanted-runs", shifted, small_scene(**LARGER, tilt_deg=5)))  # fmt: skip
    assert [b.id for b in reading.blocks if not b.read] == lost
    named = {block: faults for block, faults in states(reading).items() if faults}
    assert named == ({} if lost else {"grey": {9: "missing", 100: "missing"}})


def test_blocks_all_out_of_line_each_its_own_way_are_no_other_sheet():
    layout, rng = files.shipped_layout("eight-slanted-runs"), np.random.default_rng(3)
    askew = (
        (b.id, BlockTruth(missing=(9, 100), shift_um=tuple(rng.choice([-180.0, 180.0], 2)))) for b in layout.blocks
    )
    reading = read(layout, photo_of("eight-slanted-runs", tuple(askew), small_scene(**LARGER, tilt_deg=5)))
    named = {k: {n: state for n, state in faults.items() if state != "unsure"} for k, faults in states(reading).items()}
    assert named == {b.id: {9: "missing", 100: "missing"} for b in layout.blocks}
    assert sum(b.counts["unsure"] for b in reading.blocks) < 5


def test_light_lines_across_a_fill_are_told_with_their_nozzle():
    lines = (LightLine(y_mm=7.97, width_um=150, contrast=0.6), LightLine(y_mm=20.5, width_um=200, contrast=0.8))
    truth = Truth(
        blocks={"black": BlockTruth(missing=(57, 146)), "black-fill": BlockTruth(lines=lines)},
        scene=Scene(width=2400, height=3000, fill=0.8, tilt_deg=8, lamp_falloff=2.0),
    )
    pixels = render(filled(), truth, "light", np.random.default_rng(2))
    marks, fill = read_sheet(filled(), [UprightPhoto(pixels, "light", "fill.jpg")]).blocks
    assert [f.nozzle for f in marks.faults] == [57, 146]
    assert [line.y_mm for line in fill.lines] == pytest.approx([7.97, 20.5], abs=0.06)  # mm
    assert [line.nozzle for line in fill.lines] == [57, 146]
    assert fill.lines[1].width_um == pytest.approx(200, abs=70)
    assert fill.uniformity > 0.8


def test_curl_and_lens_are_followed():
    scene = Scene(width=3200, height=2400, fill=0.9, tilt_deg=20, curl_mm=3, lens_k1=0.04, lens_blur_px=0.7)
    layout = files.shipped_layout("eight-slanted-runs")
    faults = {b.id: BlockTruth(missing=(31, 90), weak=(WeakMark(nozzle=140, ink=0.35),)) for b in layout.blocks}
    pixels = render(layout, Truth(blocks=faults, scene=scene), "light", np.random.default_rng(6))
    reading = read_sheet(layout, [UprightPhoto(pixels, "light", "bent.jpg")])
    assert states(reading) == {b.id: {31: "missing", 90: "missing", 140: "weak"} for b in layout.blocks}


@pytest.mark.parametrize("kind", ["PNG", "WEBP", "TIFF", "HEIF", "grey", "four inks", "sixteen bits", "turned by EXIF"])
def test_a_photo_is_the_same_whatever_file_it_comes_in(kind):
    pixels = np.zeros((600, 800, 3), np.uint8)
    pixels[:300, :400] = 200
    image, out = Image.fromarray(pixels), io.BytesIO()
    if kind == "grey":
        image.convert("L").save(out, "JPEG")
    elif kind == "four inks":
        image.convert("CMYK").save(out, "JPEG")
    elif kind == "sixteen bits":
        out.write(cv2.imencode(".tiff", pixels.astype(np.uint16) * 257)[1].tobytes())
    elif kind == "turned by EXIF":
        exif = Image.Exif()
        exif[0x0112] = 6
        image.rotate(90, expand=True).save(out, "JPEG", exif=exif)
    else:
        image.save(out, kind)
    decoded = files.decode_photo(out.getvalue(), "photo.dat")
    assert decoded.shape == pixels.shape
    assert np.abs(decoded[::20, ::20].astype(int) - pixels[::20, ::20]).mean() < 4  # of 255


def test_a_block_over_the_other_backing_waits_for_its_photo():
    layout = files.shipped_layout("six-bands-on-film")
    reading = read(layout, photo_of("six-bands-on-film", (), Scene(width=2600, height=1950, fill=0.85)))
    unread = {b.id: b.why for b in reading.blocks if not b.read}
    assert unread == dict.fromkeys(["white-a", "white-b"], "no photo over a dark backing was given")


@pytest.mark.parametrize(
    ("ink", "offset_pitches", "state"),
    [
        pytest.param(1.00, (0, 0.00), "firing", id="in place, with its neighbours' ink"),
        pytest.param(0.25, (0, 0.00), "weak", id="a quarter of the ink"),
        pytest.param(0.05, (0, 0.00), "missing", id="under 15 % of the typical mark"),
        pytest.param(1.00, (0, 0.65), "deflected", id="beyond half a pitch along feed"),
        pytest.param(1.00, (-0.7, 0.0), "deflected", id="beyond half a pitch along travel"),
        pytest.param(0.40, (0, -0.9), "deflected", id="weak and out of place is deflected"),
        pytest.param(0.05, (0, 0.90), "missing", id="next to no ink has no place"),
    ],
)
def test_a_mark_is_judged_by_ink_and_place(ink, offset_pitches, state):
    one = np.array([ink])
    place, known = np.array([offset_pitches], float), np.full((1, 2), 0.03)
    verdict = judge_marks(one, np.array([0.02]), place, known, np.array([True]))
    assert STATES[verdict.state[0]] == state
    assert verdict.probability[0] > 0.8


def test_a_mark_at_the_very_threshold_is_no_certainty():
    verdict = judge_marks(np.array([0.6]), np.array([0.05]), np.zeros((1, 2)), np.full((1, 2), 0.03), np.array([True]))
    assert verdict.probability[0] < 0.6


def test_where_all_marks_differ_in_ink_a_faint_one_is_less_surely_weak():
    def sure(scatter):
        ink = np.append(1 + scatter * np.linspace(-2, 2, 60), 0.55)
        every = np.ones(len(ink), bool)
        verdict = judge_marks(ink, 0.02 * every, np.zeros((len(ink), 2)), np.full((len(ink), 2), 0.03), every)
        assert STATES[verdict.state[-1]] == "weak"
        return verdict.probability[-1]

    assert sure(0.03) > 0.8
    assert sure(0.12) < 0.7


def test_where_all_marks_lie_scattered_one_that_lies_off_is_less_surely_thrown():
    rng, n = np.random.default_rng(5), 60
    tidy, scattered = (np.stack([np.zeros(n), rng.normal(0, sigma, n)], axis=1) for sigma in (0.05, 0.25))
    tidy[7] = scattered[7] = 0.0, 0.68
    rest = np.ones(n), np.full(n, 0.02)
    sure, doubtful = (judge_marks(*rest, off, np.full((n, 2), 0.05), np.ones(n, bool)) for off in (tidy, scattered))
    assert STATES[sure.state[7]] == "deflected"
    assert sure.probability[7] > 0.95
    assert doubtful.probability[7] < 0.75


def test_glare_over_marks_is_not_read_as_missing(staircases, decode):
    pixels = decode(photo_of("four-staircases", tuple(FAULTS.items()), small_scene(tilt_deg=3))).copy()
    spot = project(sheet_to_photo(staircases, small_scene(tilt_deg=3)), np.array([[46.0, 14.0]]))[0]
    cv2.circle(pixels, tuple(int(v) for v in spot), 90, (255, 255, 255), -1)
    reading = read_sheet(staircases, [UprightPhoto(pixels, "light", "glare.jpg")])
    cyan = {b.id: b for b in reading.blocks}["cyan"]
    assert cyan.counts["missing"] == 0
    assert cyan.counts["unsure"] > 5
    assert "glare" in {w.code for w in reading.photos[0].warnings}


def test_on_paper_that_fills_the_sensor_ink_that_shows_still_tells(staircases, decode):
    """As on a scan: bare paper is as white as the file can say."""
    faults = tuple(FAULTS.items())
    pixels = decode(photo_of("four-staircases", faults, small_scene(tilt_deg=3))).astype(np.float64)
    paper = np.quantile(pixels[pixels.shape[0] // 2], 0.5)
    white = np.clip(pixels * 1.15 * 255 / paper, 0, 255).astype(np.uint8)
    reading = read_sheet(staircases, [UprightPhoto(white, "light", "scan.png")])
    assert reading.photos[0].found, reading.photos[0].why
    told = {(name, nozzle, state) for name, block in states(reading).items() for nozzle, state in block.items()}
    true = {(name, nozzle, state) for name, block in TRUE_STATES.items() for nozzle, state in block.items()}
    assert {v for v in told if v[2] != "unsure"} <= true
    assert {v for v in true if v[2] == "deflected"} <= told
    assert len({v[:2] for v in told} - {v[:2] for v in true}) <= 7  # of 720


def test_marks_that_are_faint_under_a_bright_haze_are_unsure_not_weak(staircases, decode):
    # A reflection whose rim only lifts the paper: the sensor is nowhere full, yet marks there lose most of their contrast.
    scene = small_scene(tilt_deg=3, exposure=0.82)
    pixels = decode(photo_of("four-staircases", (("black", BlockTruth(missing=(12,))),), scene)).astype(np.float64)
    x, y = project(sheet_to_photo(staircases, scene), np.array([[46.0, 14.0]]))[0]
    down, across = np.mgrid[0 : pixels.shape[0], 0 : pixels.shape[1]]
    haze = 0.9 * np.exp(-(((across - x) / 200) ** 2) - ((down - y) / 160) ** 2)[..., None]
    hazy = (pixels * (1 - haze) + 246 * haze).astype(np.uint8)
    blocks = {b.id: b for b in read_sheet(staircases, [UprightPhoto(hazy, "light", "haze.jpg")]).blocks}
    assert blocks["cyan"].counts["unsure"] > 10
    assert blocks["cyan"].counts["weak"] + blocks["cyan"].counts["missing"] <= 1
    assert states(read_sheet(staircases, [UprightPhoto(hazy, "light", "haze.jpg")]))["black"] == {12: "missing"}


def test_a_channel_that_prints_weakly_all_over_one_corner_stays_weak():
    # The other side of the haze: faint neighbours on ground like all the rest are faint nozzles.
    corner = tuple(WeakMark(nozzle=n, ink=0.4) for n in range(1, 20))
    layout = files.shipped_layout("four-staircases")
    read_back = read(layout, photo_of("four-staircases", (("black", BlockTruth(weak=corner)),), small_scene()))
    assert states(read_back)["black"] == dict.fromkeys(range(1, 20), "weak")


def test_corners_by_hand_read_a_sheet_of_which_hardly_anything_printed(staircases, decode):
    kept = range(1, 181, 6)
    nothing = tuple((name, BlockTruth(all_missing=True)) for name in ("cyan", "magenta", "yellow"))
    faults = (("black", BlockTruth(missing=tuple(n for n in range(1, 181) if n not in kept))), *nothing)
    scene = small_scene(tilt_deg=5, roll_deg=20)
    pixels = decode(photo_of("four-staircases", faults, scene))
    assert not read_sheet(staircases, [UprightPhoto(pixels, "light", "a.jpg")]).photos[0].found
    (w, h), rng = staircases.size, np.random.default_rng(4)
    exact = project(sheet_to_photo(staircases, scene), np.array([[0.0, 0], [w, 0], [w, h], [0, h]]))
    by_hand = exact + rng.normal(0, 5, (4, 2))  # pixels by which a hand misses
    corners = tuple(tuple(float(v) for v in p) for p in by_hand)
    blocks = {b.id: b for b in read_sheet(staircases, [UprightPhoto(pixels, "light", "a.jpg", corners)]).blocks}
    assert {f.nozzle for f in blocks["black"].faults if f.state == "missing"} == set(range(1, 181)) - set(kept)
    assert blocks["yellow"].counts["missing"] == 180
    turned = (*corners[2:], *corners[:2])  # upside down the same marks lie on no lattice: refused, or nothing but gaps
    wrong = read_sheet(staircases, [UprightPhoto(pixels, "light", "a.jpg", turned)])
    assert not wrong.photos[0].found


@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        pytest.param(lambda p: cv2.GaussianBlur(p, (0, 0), 14), "out of focus", id="out of focus"),
        pytest.param(lambda p: (p * 0.12).astype(np.uint8), "all but dark", id="dark"),
        pytest.param(lambda p: np.minimum(p.astype(int) * 3, 255).astype(np.uint8), "bleached", id="bleached"),
        pytest.param(lambda p: p, "right printer's sheet", id="nothing wrong with the photo itself"),
    ],
)
def test_a_photo_without_a_sheet_is_told_what_is_wrong_with_it(faulty_photo, decode, spoil, says):
    assert says in remedy(spoil(decode(faulty_photo)))


@pytest.mark.parametrize(("tilt", "good"), [(4, True), (29, False)])
def test_the_verdict_says_how_far_from_straight_above_a_photo_was_taken(staircases, tilt, good):
    photo = read(staircases, photo_of("four-staircases", (), small_scene(tilt_deg=tilt))).photos[0]
    remarks = {r.question: r for r in photo_verdict(photo)}
    assert remarks["square"].good is good
    assert angle_deg(photo) == pytest.approx(tilt, abs=4)
    assert remarks["sharp"].good
    assert photo_verdict(photo.model_copy(update={"found": False})) == ()


@pytest.mark.parametrize(
    ("thrown", "way", "lost"),
    [
        pytest.param([50, 51, 52, 62, 63, 64, 74, 75, 76], 1.0, True, id="a whole corner thrown one way: the lattice lies wrongly"),
        pytest.param([50, 51, 52, 62, 63, 64, 74, 75, 76], None, False, id="the same marks thrown this way and that"),
        pytest.param([3, 40, 88, 120, 150, 171], 1.0, False, id="six marks far apart"),
        pytest.param([50, 51, 52], 1.0, False, id="three side by side may be chance"),
    ],
)  # fmt: skip
def test_neighbours_that_all_seem_thrown_one_way_put_the_place_in_doubt(staircases, thrown, way, lost):
    block = staircases.blocks[0]
    state, offset = np.zeros(180, np.int64), np.zeros((180, 2))
    state[thrown] = 2
    offset[thrown, 1] = way if way is not None else np.where(np.arange(len(thrown)) % 2, 0.8, -0.8)
    doubt = astray(block, state, offset)
    assert doubt.any() == lost
    assert not doubt[state == 0].any()
    if lost:
        assert doubt[thrown].all()
