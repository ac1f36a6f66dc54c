"""The light table in a real browser: looking, comparing, correcting, film in two photos, corners by hand."""

import re
from pathlib import Path
from shutil import copytree
from urllib.parse import urljoin

import pytest
from axe_playwright_python.base import AXE_SCRIPT
from playwright.sync_api import Browser, Page, expect
from tests.browser.conftest import Served, furnish, new_page
from tests.browser.hands import hand_in, listens, photo, press
from tests.conftest import LARGER

from dusky_sieve.core.simulate import BlockTruth

pytestmark = pytest.mark.browser
GAPS = {"black": BlockTruth(missing=(12, 140)), "yellow": BlockTruth(missing=(71,))}


def heading(page: Page):
    return page.get_by_role("heading", level=1)


def drag(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    """Along the table, from and to shares of its width and height."""
    box = page.locator(".stage").bounding_box()
    page.mouse.move(box["x"] + start[0] * box["width"], box["y"] + start[1] * box["height"])
    page.mouse.down()
    page.mouse.move(box["x"] + end[0] * box["width"], box["y"] + end[1] * box["height"], steps=6)
    page.mouse.up()


@pytest.fixture(scope="module")
def handed_in(browser: Browser, tmp_path_factory: pytest.TempPathFactory):
    """The data of a room in which a sheet with three gaps came after one that was accepted."""
    folder = tmp_path_factory.mktemp("room")
    served = Served(furnish(folder / "data"), phones=True)
    page = new_page(browser)
    page.goto(f"{served.address}/printers/larch/sheet-in")
    hand_in(page, photo(folder, "before.jpg", {"black": BlockTruth(missing=(12,))}, 51))
    page.get_by_role("button", name="It is right: what it means").click()
    page.goto(f"{served.address}/printers/larch/sheet-in")
    hand_in(page, photo(folder, "now.jpg", GAPS, 52, tilt_deg=9, roll_deg=12))
    expect(heading(page)).to_have_text("Three faults are read.")
    assert page.complaints == []
    page.context.close()
    served.stop()
    return folder / "data"


@pytest.fixture
def table(page: Page, handed_in: Path, tmp_path: Path):
    """A sheet with three gaps on the table, an accepted one before it."""
    served = Served(Path(copytree(handed_in, tmp_path / "data")), phones=True)
    page.goto(f"{served.address}/sheets/2")
    expect(heading(page)).to_have_text("Three faults are read.")
    listens(page)
    yield page
    served.stop()


def test_the_sheet_comes_closer_and_moves_by_wheel_keys_and_hand(table: Page):
    stage, layer = table.locator(".stage"), table.locator(".layer")
    table.get_by_role("button", name="Larger").click()
    expect(table.get_by_role("button", name="Fit")).to_have_text("1.4×")
    stage.focus()
    table.keyboard.press("+")
    expect(table.get_by_role("button", name="Fit")).to_have_text("2×")
    expect(table.locator(".sheet-photo").first).to_have_attribute("src", re.compile("full=1"))
    before = layer.evaluate("e => e.getBoundingClientRect().left")
    table.keyboard.press("ArrowRight")
    table.wait_for_timeout(100)
    assert layer.evaluate("e => e.getBoundingClientRect().left") < before
    drag(table, (0.3, 0.5), (0.6, 0.5))
    assert layer.evaluate("e => e.getBoundingClientRect().left") > before - 60
    stage.hover()
    table.mouse.wheel(0, -800)
    table.wait_for_timeout(100)
    assert layer.evaluate("e => Number(e.dataset.zoom)") > 5
    stage.focus()
    table.keyboard.press("0")
    expect(table.get_by_role("button", name="Fit")).to_have_text("1×")
    assert table.complaints == []


def test_the_sheet_before_is_seen_by_holding_a_key_by_a_divider_and_by_blinking(table: Page):
    under = table.locator(".under")
    expect(under).to_have_css("opacity", "0")
    table.keyboard.down("b")
    expect(under).to_have_css("opacity", "1")
    assert under.evaluate("i => i.decode().then(() => i.naturalWidth)") > 500
    table.keyboard.up("b")
    expect(under).to_have_css("opacity", "0")
    table.get_by_role("button", name="divider").click()
    table.get_by_label("Divider between this sheet").fill("30")
    assert "70%" in under.evaluate("e => e.style.clipPath")
    table.get_by_role("button", name="divider").click()
    press(table, "k")
    expect(under).to_have_css("opacity", "1")
    expect(under).to_have_css("opacity", "0")
    # The meshes say the same in holes: one stayed, one new.
    expect(table.get_by_text("1 stayed, 1 new")).to_be_visible()
    assert table.complaints == []


def test_one_channel_is_pulled_out_and_keeps_its_place_while_faults_are_walked(table: Page):
    table.get_by_text("All channels", exact=True).click()
    table.get_by_role("link", name="Yellow", exact=True).click()
    expect(table.get_by_text("contrast raised for Yellow")).to_be_visible()
    pulled = table.locator(".sheet-photo").first
    assert pulled.evaluate("i => i.decode().then(() => i.src)").endswith("only=yellow")
    press(table, "n")
    expect(table.locator(".loupe b")).to_have_text("Black 140: missing")
    expect(table.get_by_text("contrast raised for Yellow")).to_be_visible()
    press(table, "p")
    expect(table.locator(".loupe b")).to_have_text("Black 12: missing")
    assert table.complaints == []


def test_a_box_sets_many_marks_in_one_act_and_one_key_takes_it_back(table: Page):
    press(table, "x")
    drag(table, (0.2, 0.05), (0.5, 0.25))
    table.locator(".boxed").get_by_role("button", name="unsure").click()
    expect(heading(table)).to_contain_text("marks are unsure.")
    press(table, "z")
    expect(heading(table)).to_have_text("Three faults are read.")
    press(table, "y")
    expect(heading(table)).to_contain_text("marks are unsure.")
    press(table, "z")
    table.get_by_role("button", name="printed nothing").nth(2).click()
    expect(table.get_by_text("Magenta prints nothing")).to_be_visible()
    assert table.complaints == []


def test_film_is_read_from_a_photo_over_white_and_one_over_black(page: Page, address: str, tmp_path: Path):
    faults = {"magenta": BlockTruth(missing=(5,)), "white-a": BlockTruth(missing=(33,))}
    light = photo(tmp_path, "white.jpg", faults, 61, "six-bands-on-film")
    dark = photo(tmp_path, "black.jpg", faults, 62, "six-bands-on-film", "dark", roll_deg=9)
    page.goto(f"{address}/printers/sorrel/sheet-in")
    page.get_by_label("Over white paper").set_input_files(light)
    page.get_by_role("button", name="Read this photo").click()
    expect(heading(page)).to_have_text("One fault is read.")
    page.get_by_role("link", name="Now over black card").click()
    page.get_by_label("Over black card").set_input_files(dark)
    page.get_by_role("button", name="Read this photo").click()
    expect(heading(page)).to_have_text("Two faults are read.")
    expect(page.get_by_text("1080 marks looked at")).to_be_visible()
    press(page, "l")
    expect(page.locator(".lit.over-dark")).to_be_visible()
    press(page, "n")
    expect(page.locator(".loupe b")).to_have_text("White A 33: missing")
    assert page.complaints == []


def test_a_sheet_that_hardly_printed_is_read_from_corners_set_by_keys_and_by_hand(
    page: Page, address: str, tmp_path: Path
):
    # One channel of four, one mark in six of it: nothing that a search could hold on to.
    kept = range(1, 181, 6)
    faults = {name: BlockTruth(all_missing=True) for name in ("cyan", "magenta", "yellow")}
    faults["black"] = BlockTruth(missing=tuple(n for n in range(1, 181) if n not in kept))
    page.goto(f"{address}/printers/larch/sheet-in")
    hand_in(page, photo(tmp_path, "hardly.jpg", faults, 3, **LARGER))
    expect(heading(page)).to_have_text("The sheet could not be read from this photo.")
    picture = page.get_by_alt_text("The photo as it came")
    picture.scroll_into_view_if_needed()
    assert picture.evaluate("i => i.decode().then(() => i.naturalWidth)") == 2016
    scale = picture.bounding_box()["width"] / 2016
    for x, y in ((388, 108), (1716, 163), (1622, 1399)):
        picture.hover(position={"x": x * scale, "y": y * scale})
        expect(page.locator(".glass")).to_be_visible()
        picture.click(position={"x": x * scale, "y": y * scale})
    picture.click(position={"x": 360 * scale, "y": 1300 * scale})
    page.keyboard.press("Backspace")
    for key, times in (("ArrowLeft", 2), ("ArrowDown", 2)):
        for _ in range(times):
            page.keyboard.press(key)
    page.keyboard.press("Enter")
    expect(page.get_by_text("Four corners marked.")).to_be_visible()
    page.get_by_role("button", name="Read it from these").click()
    expect(heading(page)).to_have_text("690 faults are read.")
    expect(page.get_by_text("Cyan prints nothing")).to_be_visible()
    assert page.complaints == []


def test_several_photos_at_once_become_several_sheets_and_a_spoilt_one_stops_none(
    page: Page, address: str, tmp_path: Path
):
    page.goto(f"{address}/printers/larch/sheet-in")
    blurred = photo(tmp_path, "blurred.jpg", {}, 71, lens_blur_px=9.0)
    two = [photo(tmp_path, f"{n}.jpg", {"black": BlockTruth(missing=(n,))}, n) for n in (72, 73)]
    page.get_by_label("Choose the photo").set_input_files([two[0], blurred, two[1]])
    expect(page.get_by_text("3 photos")).to_be_visible()
    page.get_by_role("button", name="Read this photo").click()
    expect(heading(page)).to_have_text("One fault is read.")
    expect(page.get_by_text("One other sheet waits to be looked at")).to_be_visible()
    page.goto(f"{address}/sheets/2")
    expect(page.get_by_text("Not read")).to_be_visible()
    expect(page.get_by_role("link", name="Photograph it again")).to_be_visible()


def test_faults_are_clicked_into_the_mesh_where_there_is_no_photo(page: Page, address: str):
    page.goto(f"{address}/printers/larch/told")
    mesh = page.get_by_role("group", name="Black mesh").locator("svg")
    for nozzle in (3, 40):
        mesh.click(position={"x": 6 + 6.7 * nozzle, "y": 24 if nozzle % 2 else 34})
    page.get_by_label("weak").first.check()
    mesh.click(position={"x": 6 + 6.7 * 41, "y": 24})
    expect(page.get_by_label("Black, missing")).to_have_value("3, 40")
    expect(page.get_by_label("Black, weak")).to_have_value("41")
    page.get_by_role("button", name="That is what it shows").click()
    expect(heading(page)).to_contain_text("Three faults")
    assert page.complaints == []


def test_a_layout_is_taught_by_boxes_drawn_in_any_order_and_read_with_at_once(page: Page, address: str, tmp_path: Path):
    page.goto(f"{address}/printers/new")
    page.get_by_label("Name").fill("Alder")
    page.get_by_label("Nozzle pitch, mm").fill("0.1411")
    page.get_by_label("A photo of a good sheet").set_input_files(
        photo(tmp_path, "good.jpg", {}, 81, tilt_deg=3, roll_deg=1)
    )
    picture = page.locator(".good-sheet img")
    expect(picture).to_be_visible()
    picture.scroll_into_view_if_needed()
    box = picture.bounding_box()
    for (a, b, c, d), name in (((0.52, 0.52, 0.95, 0.97), "yellow"), ((0.05, 0.03, 0.5, 0.48), "black"), ((0.05, 0.52, 0.5, 0.97), "magenta"), ((0.52, 0.03, 0.95, 0.48), "cyan")):  # fmt: skip
        picture.scroll_into_view_if_needed()
        box = picture.bounding_box()
        page.mouse.move(box["x"] + a * box["width"], box["y"] + b * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + c * box["width"], box["y"] + d * box["height"], steps=4)
        page.mouse.up()
        page.keyboard.type(name)
        page.keyboard.press("Tab")
        page.keyboard.press("Tab")
        page.keyboard.type("180")
    page.get_by_role("button", name="Set it up").click()
    expect(page.get_by_text("The strokes are where each mark of the layout belongs.")).to_be_visible()
    expect(heading(page)).to_have_text("No fault is read.")
    assert page.locator(".lattice").count() == 4
    meshes = page.locator(".mesh-row h3").all_inner_texts()
    assert [m.split()[0] for m in meshes] == ["Black", "Cyan", "Magenta", "Yellow"]  # in reading order again


def test_no_page_breaks_the_rules_of_access_by_day_or_at_dusk(table: Page):
    pages = ("/", "/printers/larch", "/printers/larch/sheet-in", "/printers/sorrel/sheet-in", "/printers/larch/told", "/printers/new", "/sheets/1", "/sheets/2", "/cases", "/cases/1", "/cases/1/next", "/cases/1/report", "/cases/1/odds", "/ladders", "/ladders/seal-first", "/ladders/seal-first/edit", "/printers/larch/ledger", "/calendar", "/nowhere")  # fmt: skip
    found = {}
    table.emulate_media(reduced_motion="reduce")  # a colour half way to the other hour is no colour of ours
    for path in pages:
        table.goto(urljoin(table.url, path))
        table.evaluate(AXE_SCRIPT)
        for hour in ("day", "dusk"):
            table.evaluate("hour => { document.documentElement.dataset.hour = hour; }", hour)
            table.wait_for_timeout(60)
            rules = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] if hour == "day" else ["color-contrast"]
            result = table.evaluate(
                "rules => axe.run({runOnly: rules, resultTypes: ['violations'], preload: false})", rules
            )
            broken = [(v["id"], v["nodes"][0]["html"][:120], len(v["nodes"])) for v in result["violations"]]
            if broken:
                found[path, hour] = broken
    assert found == {}
