"""The whole round in a real browser: from a photo to the next step, its ink in the book and the sheet after it."""

from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect
from tests.browser.hands import hand_in, photo, press

from dusky_sieve.core.simulate import BlockTruth

pytestmark = pytest.mark.browser


def test_from_a_photo_to_the_next_step_and_its_ink_in_the_book(page: Page, address: str, tmp_path: Path):
    gaps = {"black": BlockTruth(missing=(12, 13, 140))}
    page.goto(address)

    page.get_by_role("link", name="Check: sheet in").first.click()
    hand_in(page, photo(tmp_path, "first.jpg", gaps, 1, tilt_deg=7, roll_deg=100))

    expect(page.get_by_role("heading", level=1)).to_have_text("Three faults are read.")
    faults = page.get_by_role("group", name="All faults")
    for nozzle in ("12", "13", "140"):
        expect(faults.get_by_role("link", name=nozzle, exact=True)).to_be_visible()
    expect(page.get_by_role("img", name="Black: missing: 12, 13, 140")).to_be_visible()
    assert page.locator(".sheet-photo").evaluate("i => i.decode().then(() => i.naturalWidth > 500)")
    page.get_by_role("button", name="It is right: what it means").click()

    expect(page.get_by_role("heading", level=1)).to_have_text("Three faults in Black.")
    page.get_by_role("button", name="Start the clean").click()
    expect(page.get_by_text("Under way since")).to_be_visible()
    page.get_by_role("button", name="Done: clean").click()
    expect(page.get_by_text("Something was done since the last sheet: check before anything else.")).to_be_visible()
    # Four tanks of 0.8 ml and a sheet of 0.02 ml each.
    expect(page.get_by_text("3.3 ml").first).to_be_visible()
    page.get_by_role("button", name="Print a sheet").click()
    hand_in(page, photo(tmp_path, "second.jpg", gaps, 2, tilt_deg=5, roll_deg=-6, shadow=0.3))
    expect(page.get_by_text("stayed").first).to_be_visible()
    page.get_by_role("button", name="It is right: what it means").click()

    expect(page.get_by_role("heading", level=1)).to_have_text("Three gaps in Black stand still.")
    expect(page.get_by_role("heading", name="Rest", exact=True)).to_be_visible()
    expect(page.get_by_role("row", name="Clean The last clean changed nothing")).to_be_visible()
    page.get_by_role("button", name="Start the rest").click()
    expect(page.locator(".countdown")).to_be_visible()
    expect(page.locator(".countdown")).to_contain_text("11 h 59 min left")
    page.get_by_role("link", name="The whole story").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "three faults at first, still three faults after two sheets"
    )
    page.goto(address)
    expect(page.get_by_text("Resting, off and capped. Three gaps in Black stand still.")).to_be_visible()
    assert page.complaints == []


def test_the_round_works_by_keyboard_at_phone_width_and_at_dusk(page: Page, address: str, tmp_path: Path):
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(address)
    page.get_by_role("button", name="Dusk").press("Enter")
    assert page.locator("html").get_attribute("data-hour") == "dusk"
    page.get_by_role("link", name="Check: sheet in").first.press("Enter")
    page.get_by_label("Choose the photo").set_input_files(photo(tmp_path, "clear.jpg", {}, 3))
    page.get_by_role("button", name="Read this photo").press("Enter")
    expect(page.get_by_text("Every mark is there and in its place.")).to_be_visible()
    for path in (
        "/",
        "/printers/larch",
        "/printers/larch/sheet-in",
        "/printers/larch/told",
        "/printers/new",
        "/sheets/1",
        "/cases",
        "/ladders",
        "/ladders/seal-first",
        "/printers/larch/ledger",
        "/calendar",
    ):
        page.goto(address + path)
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, path
    page.goto(address + "/sheets/1")
    page.get_by_role("button", name="It is right: what it means").press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("clear")
    assert page.complaints == []


def test_without_scripts_the_page_still_takes_a_photo(browser: Browser, address: str, tmp_path: Path):
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(f"{address}/printers/larch/sheet-in")
    page.locator("input[type=file]").set_input_files(
        photo(tmp_path, "plain.jpg", {"cyan": BlockTruth(missing=(9,))}, 4)
    )
    page.get_by_role("button", name="Read this photo").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("One fault is read.")
    context.close()


def test_a_mark_is_set_by_one_key_and_taken_back(page: Page, address: str, tmp_path: Path):
    page.goto(f"{address}/printers/larch/sheet-in")
    hand_in(page, photo(tmp_path, "two.jpg", {"black": BlockTruth(missing=(12, 140))}, 5))
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_have_text("Two faults are read.")
    press(page, "f")
    expect(heading).to_have_text("One fault is read.")
    expect(page.get_by_text("Black 12: firing, read as missing")).to_be_visible()
    page.get_by_role("button", name="Take the last one back").click()
    expect(heading).to_have_text("Two faults are read.")
    page.get_by_text("Correct by number").click()
    page.get_by_label("Nozzles").fill("40-43")
    page.get_by_role("button", name="Set them").click()
    expect(heading).to_have_text("Six faults are read.")
    assert page.complaints == []


def test_what_is_told_and_which_ladder_is_followed_change_the_next_step(page: Page, address: str):
    page.goto(f"{address}/printers/larch/told")
    page.get_by_label("Black, missing").fill("40-43, 97")
    page.get_by_role("button", name="That is what it shows").click()
    expect(page.get_by_role("heading", name="Clean", exact=True)).to_be_visible()
    page.get_by_text("What else is known").click()
    page.get_by_label("It warns that it will lock up").check()
    page.get_by_role("button", name="Add it").click()
    expect(page.get_by_role("heading", name="Hand over", exact=True)).to_be_visible()
    page.get_by_role("link", name="What each fact did to these odds").click()
    expect(page.get_by_role("row", name="All together")).to_be_visible()
    page.goto(f"{address}/printers/larch")
    page.get_by_label("Ladder").select_option("seal-first")
    page.get_by_role("button", name="Keep these").click()
    page.get_by_role("link", name="See the ladder drawn").click()
    expect(page.get_by_role("img", name="The seal first")).to_be_visible()
    assert page.complaints == []
