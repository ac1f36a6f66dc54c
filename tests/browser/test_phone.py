"""A phone paired with the desk by a code: two browsers, one sheet."""

from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect
from tests.browser.hands import photo

from dusky_sieve.core.simulate import BlockTruth

pytestmark = pytest.mark.browser


def test_a_phone_sends_the_sheet_and_both_screens_show_it(page: Page, browser: Browser, address: str, tmp_path: Path):
    page.goto(f"{address}/printers/larch/sheet-in")
    code = page.locator(".phone-code a").get_attribute("href").split("/phone/")[1]
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True)
    phone = context.new_page()
    phone.goto(f"{address}/phone/{code}")
    expect(page.get_by_text("The phone is here.")).to_be_visible()
    assert phone.evaluate("document.documentElement.scrollWidth") <= 390
    send = phone.locator("input[type=file]")
    send.set_input_files(photo(tmp_path, "desk.jpg", {}, 90, lens_blur_px=11.0))
    for screen in (page, phone):
        expect(screen.get_by_role("heading", level=1)).to_have_text("The sheet could not be read from this photo.")
    send.set_input_files(photo(tmp_path, "sharp.jpg", {"black": BlockTruth(missing=(12, 13))}, 91))
    for screen in (page, phone):
        expect(screen.get_by_role("heading", level=1)).to_have_text("Two faults are read.")
    expect(phone.get_by_text("Black: missing: 12, 13")).to_be_visible()
    phone.get_by_role("button", name="It is right").click()
    expect(phone.get_by_text("Accepted. Next: clean.")).to_be_visible()
    expect(page.get_by_role("link", name="What it means")).to_be_visible()
    phone.goto(f"{address}/phone/an-old-code-that-has-run-out")
    expect(phone.get_by_text("This code has run out.")).to_be_visible()
    context.close()


def test_a_lost_connection_is_said_and_the_photo_is_sent_again_by_itself(page: Page, address: str, tmp_path: Path):
    page.goto(f"{address}/printers/larch/sheet-in")
    lost = {"times": 0}

    def cut(route):
        lost["times"] += 1
        route.abort() if lost["times"] < 3 else route.continue_()

    page.route("**/printers/larch/sheets", cut)
    page.get_by_label("Choose the photo").set_input_files(photo(tmp_path, "a.jpg", {}, 92))
    page.get_by_role("button", name="Read this photo").click()
    expect(page.get_by_text("The connection was lost. It is sent again by itself.")).to_be_visible()
    expect(page.get_by_role("heading", level=1)).to_have_text("No fault is read.")
    assert lost["times"] == 3
