"""The book in the database: the sums of its queries are those of the core, and a book from before is carried over."""

import json
import random
from datetime import timedelta

import sqlalchemy as sa
from sqlmodel import SQLModel
from tests.conftest import NOON

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, Printer, StepEvent, Waste
from dusky_sieve.core.ledger import Entry, replay
from dusky_sieve.store import Store, engine

DAY = timedelta(days=1)
LARCH = Printer(
    name="Larch", waste=Waste(capacity_ml=300, used_ml=20),
    channels=(Channel(name="black", nozzles=180, capacity_ml=70, level_ml=50), Channel(name="cyan", nozzles=180, capacity_ml=70)),
)  # fmt: skip


def opened(folder):
    store = Store(folder)
    if store.printer("larch") is None:
        store.add_printer("larch", LARCH, files.shipped_layout("four-staircases"), {})
    return store, services.find_printer(store, "larch")


def test_the_sums_of_the_database_are_those_of_the_core_over_random_histories(tmp_path):
    chance = random.Random(7)
    for run in range(25):
        store, larch = opened(tmp_path / str(run))
        for k in range(30):
            what = chance.choice(["step", "step", "print", "fill", "level", "pad", "void"])
            channel = "" if what in ("pad", "void") else chance.choice(["black", "cyan"])
            ml, waste = round(chance.uniform(0, 20), 2), round(chance.uniform(0, 1), 2)
            replaces = chance.randint(1, k) if k and (what == "void" or chance.random() < 0.2) else None
            entry = Entry(at=NOON + chance.randint(0, 400) * timedelta(hours=1) + k * timedelta(seconds=1), what=what, channel=channel, ink_ml=ml, waste_ml=ml * waste if what == "step" else 0.0, replaces=replaces)  # fmt: skip
            store.book(larch.id, None, [entry])
        books = replay(LARCH, {x.number: x.entry for x in store.lines(larch.id)})
        now = services.printer_now(store, larch, NOON + 30 * DAY)
        for channel in now.channels:
            expected = books.levels[channel.name]
            assert (channel.level_ml is None) == (expected is None)
            assert expected is None or abs(channel.level_ml - expected) < 0.01
        assert abs(now.waste.used_ml - books.pad_ml) < 0.01
        store.close()


def test_a_book_from_before_is_carried_over_with_its_readings_and_fills(tmp_path):
    path = tmp_path / "sieve.db"
    old = sa.create_engine(f"sqlite:///{path}")
    engine_now = engine.open_database(path)  # makes everything, then is taken back to how it was
    engine_now.dispose()
    path.unlink()
    for more in tmp_path.glob("sieve.db-*"):
        more.unlink()

    @sa.event.listens_for(old, "begin")
    def begin(connection):
        connection.exec_driver_sql("BEGIN IMMEDIATE")

    @sa.event.listens_for(old, "connect")
    def connect(connection, _):
        connection.isolation_level = None

    engine.migrate(old, "0002")
    with old.begin() as connection:
        run = connection.exec_driver_sql
        document = json.dumps(LARCH.model_dump(mode="json"))
        layout = files.shipped_layout("four-staircases").model_dump_json()
        run("INSERT INTO printer (id, slug, name, about, document, layout, inks, sheet_note, position) VALUES (1, 'larch', 'Larch', '', ?, ?, '{}', '', 0)", (document, layout))  # fmt: skip
        clean = {"at": "2031-03-04T12:00:00Z", "step": "clean", "channel": "black", "ink_ml": 0.8, "low_ml": 0.5, "high_ml": 1.2, "waste_ml": 0.8, "cost": 0.1, "basis": "estimate"}  # fmt: skip
        run("INSERT INTO entry (printer_id, document) VALUES (1, ?)", (json.dumps(clean),))
        level = {"kind": "level", "at": "2031-03-03T12:00:00Z", "channel": "black", "level_ml": 44}
        run("INSERT INTO event (printer_id, kind, at, document, person) VALUES (1, 'level', '2031-03-03T12:00:00+00:00', ?, 'Jory')", (json.dumps(level),))  # fmt: skip
        refill = StepEvent(kind="step", at=NOON, step="refill", channels=("cyan",)).model_dump_json(exclude_none=True)
        run("INSERT INTO event (printer_id, kind, at, document, person) VALUES (1, 'step', '2031-03-02T12:00:00+00:00', ?, 'Jory')", (refill,))  # fmt: skip
        told = json.dumps({"black": {"missing": [1, 2], "weak": [2]}, "cyan": {"all_missing": True}})
        run("INSERT INTO sheet (printer_id, at, faults, person) VALUES (1, '2031-03-02T12:00:00+00:00', ?, 'Jory')", (told,))  # fmt: skip
    old.dispose()
    store, larch = opened(tmp_path)
    now = services.printer_now(store, larch, NOON + 9 * DAY)
    assert {c.name: c.level_ml for c in now.channels} == {"black": 43.2, "cyan": 70}  # 44 - 0.8; filled up
    assert now.waste.used_ml == 20.8
    assert [s.bad for s in store.sheets(larch.id)] == [3]
    assert SQLModel.metadata.tables["entry"].c.what is not None
    store.close()
