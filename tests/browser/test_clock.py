"""The clock in a real browser: a rest outlives a restart and says so when it ends; the ledger and the calendar by hand."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from tests.browser.conftest import Served

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, ChannelFaults, Printer
from dusky_sieve.store import Store

pytestmark = pytest.mark.browser


class Room(Served):
    """A served room whose clock the test sets."""

    def __init__(self, folder: Path) -> None:
        self.passed = timedelta(0)
        super().__init__(folder, clock=lambda: datetime.now(UTC) + self.passed)


@pytest.fixture
def resting(tmp_path: Path):
    """A case of gaps that stand still after two cleans, so that a rest is next."""
    store = Store(tmp_path)
    channel = Channel(name="black", nozzles=180, capacity_ml=70, level_ml=50, price_per_ml=0.1)
    store.add_printer("larch", Printer(name="Larch", channels=(channel,)), files.shipped_layout("four-staircases"), {})
    larch, start = services.find_printer(store, "larch"), datetime.now(UTC) - timedelta(hours=2)
    case = store.open_case(larch.id, start, larch.printer)
    gaps = {"black": ChannelFaults(missing=(40, 41, 97))}
    for k in range(2):
        store.add_sheet(larch.id, start + timedelta(minutes=20 * k), "Jory", faults=gaps, case_id=case)
        if k == 0:
            services.step_was_done(
                store, store.case(case), "clean", None, start + timedelta(minutes=9), "Jory", datetime.now(UTC)
            )
    store.close()
    room = Room(tmp_path)
    yield room
    room.stop()


def test_a_rest_goes_on_through_a_restart_and_ends_with_a_check(page: Page, resting: Room):
    page.goto(f"{resting.address}/cases/1/next")
    page.get_by_role("button", name="Start the rest").click()
    expect(page.locator(".countdown")).to_contain_text("11 h 59 min left")
    until = page.locator(".countdown").get_attribute("data-until")
    resting.stop()
    resting.start()
    page.goto(f"{resting.address}/cases/1/next")
    assert page.locator(".countdown").get_attribute("data-until") == until
    page.goto(f"{resting.address}/calendar")
    expect(page.get_by_text("Larch: rest ends").first).to_be_visible()
    resting.passed = timedelta(hours=12, minutes=1)
    page.goto(f"{resting.address}/cases/1/next")
    expect(page.get_by_text("It is over since")).to_be_visible()
    page.get_by_role("button", name="Done: rest").click()
    expect(page.get_by_role("button", name="Print a sheet")).to_be_visible()


def test_a_level_in_percent_moves_the_tank_and_a_wrong_one_is_put_right(page: Page, resting: Room):
    page.goto(f"{resting.address}/printers/larch/ledger")
    page.get_by_label("level", exact=True).fill("40")
    page.get_by_label("Unit").select_option("%")
    page.get_by_role("button", name="Book the level").click()
    expect(page.get_by_role("img", name="Black 28 of 70 ml")).to_be_visible()
    page.get_by_label("Put line 2 right").click()
    page.get_by_role("textbox", name="really, ml").first.fill("35,5")
    page.get_by_role("button", name="Put it right").click()
    expect(page.get_by_role("img", name="Black 36 of 70 ml")).to_be_visible()
    expect(page.get_by_text("put right, was 28 ml")).to_be_visible()
    assert page.complaints == []


def test_upkeep_is_moved_and_said_done_on_the_agenda(page: Page, resting: Room):
    resting.passed = timedelta(days=8)
    page.goto(f"{resting.address}/calendar")
    expect(page.get_by_role("heading", level=1)).to_have_text("Two things are due on Larch.")
    page.get_by_role("button", name="Larch, check: done").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("One thing is due on Larch.")
    page.get_by_label("Larch, print that uses every colour: move or skip").click()
    page.get_by_label("because").first.fill("away until Monday")
    page.get_by_role("button", name="Skip it").first.click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Nothing is due today.")
    assert page.complaints == []
