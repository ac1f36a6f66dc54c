"""What is due and when, and what standing idle says of a printer."""

from datetime import timedelta

import numpy as np
import pytest
from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer
from dusky_sieve.core.upkeep import Log, Stand, Task, ahead, due, idle_record, planned, sort_out

TABLE = files.upkeep_table()
DAY = timedelta(days=1)
DESK = Printer(name="Larch", channels=(Channel(name="black", nozzles=180, capacity_ml=70),))
FILM = Printer(name="Sorrel", channels=(Channel(name="white", nozzles=180, capacity_ml=220, role="white"),))
CHECK = Task(name="check", every_days=7)


def when(done=(), logs=(), task=CHECK):
    return due(task, TABLE, done, logs, NOON)


def test_white_ink_is_checked_daily_a_desk_printer_weekly_and_the_owner_decides():
    assert {t.name: t.every_days for t in planned(DESK, TABLE, {})}["check"] == 7
    assert {t.name: t.every_days for t in planned(FILM, TABLE, {})}["check"] == 1
    own = {t.name: t.every_days for t in planned(DESK, TABLE, {"check": 3, "care": 0})}
    assert (own["check"], "care" in own) == (3, False)


def test_a_task_is_due_its_interval_after_it_was_last_done_or_the_printer_was_set_up():
    assert when().at == NOON + 7 * DAY
    assert when(done=[("check", NOON + 5 * DAY), ("align", NOON + 6 * DAY)]).at == NOON + 12 * DAY
    assert when(logs=[Log(name="check", at=NOON + 6 * DAY, what="done")]).last == NOON + 6 * DAY


def test_a_skipped_task_waits_another_turn_and_a_moved_one_until_its_day():
    skipped = Log(name="check", at=NOON + 7 * DAY, what="skipped", reason="away")
    assert (when(logs=[skipped]).at, when(logs=[skipped]).last) == (NOON + 14 * DAY, None)
    moved = Log(name="check", at=NOON + 7 * DAY, what="moved", until=NOON + 9 * DAY)
    assert (when(logs=[moved]).at, when(logs=[moved]).moved) == (NOON + 9 * DAY, True)
    # Done on the day it was moved to: the move is over.
    assert when(done=[("check", NOON + 9 * DAY)], logs=[moved]).at == NOON + 16 * DAY


def test_an_agenda_sorts_by_the_rooms_own_day():
    midnight = NOON + timedelta(hours=12)
    places = [sort_out(NOON + timedelta(hours=h), NOON, midnight) for h in (-30, 0, 3, 12, 100, 24 * 7)]
    assert places == ["now", "now", "today", "week", "week", "later"]
    assert list(ahead(CHECK, NOON, NOON + 15 * DAY)) == [NOON, NOON + 7 * DAY, NOON + 14 * DAY]


@pytest.mark.parametrize(("rate", "fair"), [(0.005, (25, 60)), (0.03, (4.5, 11)), (0.15, (0.5, 2.5))])
def test_the_record_proposes_longer_rests_to_printers_that_bear_them(rate, fair):
    # Chance 0.2 is reached after ln(1 / 0.8) / rate days: 45, 7.4 and 1.5.
    rng = np.random.default_rng(5)
    days = rng.choice([1, 2, 4, 7, 14, 30], 300)
    stands = [Stand(days=float(d), faulty=bool(rng.random() < 1 - np.exp(-rate * d))) for d in days]
    record = idle_record(stands)
    assert fair[0] <= record.propose_days <= fair[1]
    assert record.propose_low <= record.propose_days <= record.propose_high
    middle = [chance for _, chance, _, _ in record.chance]
    assert middle == sorted(middle)


def test_a_short_record_proposes_nothing():
    assert idle_record([Stand(days=10, faulty=True)] * 7).propose_days is None
    assert idle_record([]).stands == 0
