"""The book's arithmetic, worked by hand."""

from datetime import timedelta

import pytest
from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.case import Case, Channel, LevelEvent, Printer, StepEvent, Waste
from dusky_sieve.core.ledger import add_up, book_step, levels_now, pad_used

PRINTER = Printer(
    name="Larch",
    channels=(
        Channel(name="black", nozzles=180, group="A", capacity_ml=70, level_ml=40, price_per_ml=0.14),
        Channel(name="cyan", nozzles=180, group="B", capacity_ml=70, level_ml=30, price_per_ml=0.20),
        Channel(name="yellow", nozzles=180, group="B", capacity_ml=70, level_ml=20, price_per_ml=0.20),
    ),
    waste=Waste(capacity_ml=180, used_ml=100),
)
STEPS = files.step_table()


def step(name, minutes=0, **more):
    return StepEvent(kind="step", at=NOON + timedelta(minutes=minutes), step=name, **more)


@pytest.mark.parametrize(
    ("event", "ink", "waste", "cost"),
    [
        # 0.8 ml from each of three tanks, all of it to the pad; 0.8 x (0.14 + 0.20 + 0.20).
        pytest.param(
            step("clean", channels=("black",)), 2.4, 2.4, 0.432, id="a clean draws from all, whatever it was for"
        ),
        # The group of cyan also holds yellow: 2 x 0.8 ml at 0.20.
        pytest.param(
            step("group_clean", channels=("cyan",)), 1.6, 1.6, 0.32, id="a group clean draws from its cap zone"
        ),
        # Strong: 4 ml of one channel.
        pytest.param(step("channel_clean", channels=("black",), level=3), 4.0, 4.0, 0.56, id="a strong channel clean"),
        # Five pages of 1.2 ml on paper; nothing to the pad.
        pytest.param(
            step("paper_flush", channels=("yellow",), sheets=5), 6.0, 0.0, 1.2, id="a paper flush wastes none"
        ),
        pytest.param(step("check"), 0.06, 0.0, 0.0108, id="a sheet is 0.02 ml a channel"),
        pytest.param(step("rest"), 0.0, 0.0, 0.0, id="a rest costs nothing"),
        # Measured: 1.1 ml of black instead of the estimate, the others as estimated.
        pytest.param(
            step("clean", ink_ml={"black": 1.1}),
            2.7,
            2.7,
            1.1 * 0.14 + 0.32,
            id="what was measured replaces the estimate",
        ),
    ],
)
def test_a_step_books_its_ink_waste_and_money(event, ink, waste, cost):
    total = add_up(book_step(PRINTER, event, STEPS))
    assert total.ink_ml == pytest.approx(ink)
    assert total.waste_ml == pytest.approx(waste)
    assert total.cost == pytest.approx(cost, abs=1e-4)
    assert total.low_ml <= total.ink_ml <= total.high_ml


def test_levels_follow_steps_readings_and_fills():
    events = (
        step("clean", 1),  # black 40 - 0.8 = 39.2, cyan 29.2, yellow 19.2
        LevelEvent(kind="level", at=NOON + timedelta(minutes=2), channel="black", level_ml=38.0),  # read off: 38
        step("clean", 3),  # black 37.2, cyan 28.4, yellow 18.4
        step("refill", 4, channels=("yellow",)),  # yellow full: 70
    )
    case = Case(printer=PRINTER, events=events, now=NOON + timedelta(hours=1))
    assert levels_now(case, STEPS) == pytest.approx({"black": 37.2, "cyan": 28.4, "yellow": 70})
    assert pad_used(case, STEPS) == pytest.approx(100 + 2 * 3 * 0.8)


def test_a_measured_waste_counts_as_it_was_measured():
    case = Case(printer=PRINTER, events=(step("clean", waste_ml=9.5),), now=NOON)
    assert pad_used(case, STEPS) == pytest.approx(109.5)
