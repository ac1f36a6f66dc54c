"""The data folder: migrations, the book that is only added to, photos that outlive a stop."""

from datetime import timedelta

import pytest
import sqlalchemy as sa
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy.exc import IntegrityError, OperationalError
from sqlmodel import SQLModel
from tests.conftest import NOON

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, Printer, StepEvent
from dusky_sieve.core.errors import OutOfTurn
from dusky_sieve.core.ledger import book_step
from dusky_sieve.store import Store, engine


@pytest.fixture
def larch(store: Store):
    channels = tuple(
        Channel(name=n, nozzles=180, capacity_ml=70, level_ml=40, price_per_ml=0.1)
        for n in ("black", "cyan", "magenta", "yellow")
    )
    store.add_printer("larch", Printer(name="Larch", channels=channels), files.shipped_layout("four-staircases"), {})
    return services.find_printer(store, "larch")


def test_migrations_make_exactly_the_tables_the_code_uses(store):
    with store.engine.connect() as connection:
        differences = compare_metadata(MigrationContext.configure(connection), SQLModel.metadata)
        assert [d for d in differences if "index" not in str(d[0])] == []
        assert connection.exec_driver_sql("PRAGMA journal_mode").scalar() == "wal"
        assert connection.exec_driver_sql("PRAGMA foreign_keys").scalar() == 1


def test_a_failed_migration_leaves_schema_and_record_untouched(tmp_path, store, monkeypatch):
    source = engine.MIGRATIONS
    copy = tmp_path / "migrations"
    copy.mkdir()
    for path in [p for p in source.rglob("*") if p.suffix in (".py", ".mako")]:
        (copy / path.relative_to(source)).parent.mkdir(exist_ok=True)
        (copy / path.relative_to(source)).write_text(path.read_text())
    broken = 'revision = "9999"\ndown_revision = "0004"\ndef upgrade():\n    from alembic import op\n    op.execute("CREATE TABLE half (id INTEGER)")\n    raise RuntimeError("power cut")\n'
    (copy / "versions" / "9999_broken.py").write_text(broken)
    monkeypatch.setattr(engine, "MIGRATIONS", copy)
    with pytest.raises(RuntimeError, match="power cut"):
        engine.migrate(store.engine)
    with store.engine.connect() as connection:
        assert not sa.inspect(connection).has_table("half")
        assert connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() == "0004"


def test_the_book_is_only_added_to(store, larch):
    event = StepEvent(kind="step", at=NOON, step="clean")
    store.book(larch.id, None, book_step(larch.printer, event, files.step_table()))
    for change in ("UPDATE entry SET document = '{}'", "DELETE FROM entry"):
        with (
            store.engine.begin() as connection,
            pytest.raises((IntegrityError, OperationalError), match="only added to"),
        ):
            connection.exec_driver_sql(change)
    assert len(store.entries(printer_id=larch.id)) == 4


def test_a_photo_is_on_disk_before_the_row_that_names_it(store, larch, monkeypatch):
    def power_cut(*_):
        raise OSError("power cut")

    monkeypatch.setattr(Store, "_write", power_cut)
    with pytest.raises(OSError, match="power cut"):
        store.keep_photo(larch.id, b"photo bytes", "a.jpg", "image/jpeg", "light", NOON)
    monkeypatch.undo()
    assert [p.read_bytes() for p in (store.folder / "photos").rglob("*") if p.is_file()] == [b"photo bytes"]
    photo, new = store.keep_photo(larch.id, b"photo bytes", "a.jpg", "image/jpeg", "light", NOON)
    assert new
    assert store.photo_path(photo.digest).read_bytes() == b"photo bytes"


def test_an_upload_whose_reading_was_interrupted_is_read_when_it_comes_again(store, larch, faulty_photo, monkeypatch):
    with monkeypatch.context() as patch:
        patch.setattr(services.sheets, "read_sheet", lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            services.take_photo(store, larch, faulty_photo, "a.jpg", "light", "Jory", NOON)
    arrival = services.take_photo(store, larch, faulty_photo, "a.jpg", "light", "Jory", NOON)
    again = services.take_photo(store, larch, faulty_photo, "b.jpg", "light", "Jory", NOON)
    assert not arrival.known
    assert again.known
    assert again.sheet_id == arrival.sheet_id


def test_two_people_finishing_one_step_book_it_once(store, larch):
    case_id = store.open_case(larch.id, NOON, larch.printer)
    event = StepEvent(kind="step", at=NOON, step="clean")
    key = store.add_event(larch.id, case_id, event, "Jory", started=NOON)
    services.finish_step(store, key, "Jory", NOON + timedelta(minutes=3))
    with pytest.raises(OutOfTurn, match="finished or dropped before, by Jory"):
        services.finish_step(store, key, "Ilse", NOON + timedelta(minutes=4))
    assert services.cost_so_far(store, services.find_case(store, case_id)).ink_ml == pytest.approx(3.2)


def test_a_rest_cannot_be_finished_before_its_time(store, larch):
    case_id = store.open_case(larch.id, NOON, larch.printer)
    event = StepEvent(kind="step", at=NOON, step="rest", until=NOON + timedelta(hours=12))
    key = store.add_event(larch.id, case_id, event, "Jory", started=NOON)
    with pytest.raises(OutOfTurn, match="runs until"):
        services.finish_step(store, key, "Jory", NOON + timedelta(hours=3))
    case = services.find_case(store, case_id)
    assert services.advice_for(store, case, NOON + timedelta(hours=3)).next.step == "rest"
    assert services.advice_for(store, case, NOON + timedelta(hours=13)).next.step == "check"


def test_levels_are_what_was_read_last_less_what_was_booked_since(store, larch):
    table = files.step_table()
    store.book(larch.id, None, book_step(larch.printer, StepEvent(kind="step", at=NOON, step="clean"), table))
    services.level_read(store, larch, "black", 30.0, "Jory", NOON + timedelta(hours=1))
    store.book(
        larch.id,
        None,
        book_step(larch.printer, StepEvent(kind="step", at=NOON + timedelta(hours=2), step="clean"), table),
    )
    levels = {c.name: c.level_ml for c in services.printer_now(store, larch, NOON + timedelta(hours=3)).channels}
    assert levels["black"] == pytest.approx(30.0 - 0.8)
    assert levels["cyan"] == pytest.approx(40.0 - 1.6)
