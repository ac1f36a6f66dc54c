"""Two years of a busy shop: how long the server takes for the room, a printer, a ledger, a case, the calendar.

    .venv/bin/python -m benchmarks.shop [--keep DIR]

20 printers of eight channels, 15,000 sheets with readings of the usual size, 10,000 steps, levels read every third day,
400 cases of which one in ten is open. Times are of the application itself, without a network, the first of each page and the median of the next 15.
"""

import argparse
import json
import statistics
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
from fastapi.testclient import TestClient

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, Printer, StepEvent, Waste
from dusky_sieve.core.ledger import Entry, book_step
from dusky_sieve.core.reading import UprightPhoto, read_sheet
from dusky_sieve.core.simulate import BlockTruth, Scene, Truth, render
from dusky_sieve.settings import Settings
from dusky_sieve.store import Store
from dusky_sieve.store import tables as t
from dusky_sieve.store.rows import bad_of, entry_row, faults_json, iso
from dusky_sieve.web.app import create_app

PRINTERS, SHEETS, STEPS, CASES = 20, 15_000, 10_000, 400
NOW = datetime(2031, 6, 1, 12, tzinfo=UTC)
YEARS = timedelta(days=730)


def sample_reading() -> tuple[str, dict[str, object]]:
    """The JSON of a real reading of the eight-channel sheet, and its faults."""
    layout, rng = files.shipped_layout("eight-slanted-runs"), np.random.default_rng(3)
    truth = Truth(
        blocks={"black": BlockTruth(missing=(4, 9, 77)), "yellow": BlockTruth(missing=(12,))},
        scene=Scene(width=2600, height=1950, fill=0.85, lens_blur_px=0.7),
    )
    reading = read_sheet(layout, [UprightPhoto(render(layout, truth, "light", rng), "light", "a.jpg")])
    return reading.model_dump_json(exclude_none=True), services.faults_of_reading(reading, layout)  # type: ignore[return-value]


def fill(folder: Path) -> None:
    """Writes the two years; straight into the tables, for the services would take an hour."""
    store, rng, layout = Store(folder), np.random.default_rng(1), files.shipped_layout("eight-slanted-runs")
    names = [b.channel for b in layout.blocks]
    channels = tuple(
        Channel(name=n, nozzles=180, group="A", capacity_ml=200, level_ml=150, price_per_ml=0.3) for n in names
    )
    reading, faults = sample_reading()
    clear = {n: type(next(iter(faults.values())))() for n in names}
    table = files.step_table()
    for k in range(PRINTERS):
        store.add_printer(
            f"p{k}",
            Printer(
                name=f"Printer {k}",
                channels=channels,
                waste=Waste(capacity_ml=5000, used_ml=100),
                abilities=("clean", "deep_clean"),
            ),
            layout,
            {b.channel: b.ink for b in layout.blocks},
        )
    with store._write() as s:
        start = Printer(name="x", channels=channels).model_dump_json()
        for n in range(CASES):
            at = NOW - YEARS + YEARS * (n / CASES)
            s.add(
                t.CaseRow(
                    id=n + 1,
                    printer_id=n % PRINTERS + 1,
                    number=n + 1,
                    opened=iso(at),
                    closed=None if n >= CASES - PRINTERS else iso(at + timedelta(days=1)),
                    outcome=None if n >= CASES - PRINTERS else "clear",
                    start=start,
                )
            )
        s.flush()
        for n in range(SHEETS):
            at, bad = NOW - YEARS + YEARS * (n / SHEETS), n % 5 == 0
            case = int(n / SHEETS * CASES / PRINTERS) * PRINTERS + n % PRINTERS + 1
            told = faults if bad else clear
            s.add(
                t.SheetRow(
                    printer_id=n % PRINTERS + 1,
                    case_id=min(case, CASES) if bad else None,
                    at=iso(at),
                    reading=reading,
                    faults=faults_json(told),
                    bad=bad_of(told),
                    person="x",
                )
            )  # type: ignore[arg-type]
            for entry in book_step(
                Printer(name="x", channels=channels), StepEvent(kind="step", at=at, step="check", sheets=1), table
            ):
                s.add(entry_row(n % PRINTERS + 1, None, None, entry, "x"))
        for n in range(STEPS):
            at = NOW - YEARS + YEARS * (n / STEPS) + timedelta(minutes=7)
            step = StepEvent(
                kind="step",
                at=at,
                step=str(rng.choice(["clean", "clean", "rest", "seal_clean"])),
                channels=(names[n % 8],),
            )  # type: ignore[arg-type]
            case = min(int(n / STEPS * CASES / PRINTERS) * PRINTERS + n % PRINTERS + 1, CASES)
            event = t.EventRow(
                printer_id=n % PRINTERS + 1,
                case_id=case,
                kind="step",
                at=iso(at),
                started=iso(at),
                finished=iso(at),
                document=step.model_dump_json(exclude_none=True),
            )
            s.add(event)
            s.flush()
            for entry in book_step(Printer(name="x", channels=channels), step, table):
                s.add(entry_row(n % PRINTERS + 1, case, event.id, entry, "x"))
        for k in range(PRINTERS):
            for name in names:
                for d in range(0, 730, 3):
                    s.add(
                        entry_row(
                            k + 1,
                            None,
                            None,
                            Entry(
                                at=NOW - YEARS + timedelta(days=d),
                                what="level",
                                channel=name,
                                ink_ml=float(rng.uniform(60, 190)),
                                sigma_ml=5.0,
                            ),
                            "x",
                        )
                    )
    store.close()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--keep", type=Path)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = asked.keep or Path(name)
        if not (folder / "sieve.db").exists():
            began = time.perf_counter()
            fill(folder)
            print(f"filled in {time.perf_counter() - began:.0f} s, {(folder / 'sieve.db').stat().st_size / 1e6:.0f} MB")
        with TestClient(create_app(Settings(data=folder), clock=lambda: NOW), base_url="http://localhost") as client:
            for path in (
                "/",
                "/printers/p3",
                "/printers/p3/ledger",
                f"/cases/{CASES}",
                f"/cases/{CASES}/next",
                "/cases",
                "/calendar",
                "/printers/p3/sheet-in",
            ):
                times = []
                for _ in range(16):
                    began = time.perf_counter()
                    answer = client.get(path)
                    times.append((time.perf_counter() - began) * 1000)
                print(
                    f"{path:24} {answer.status_code} median {statistics.median(times[1:]):6.0f} ms, first {times[0]:6.0f} ms, {len(answer.content) / 1000:.0f} kB"
                )
        print(json.dumps({"printers": PRINTERS, "sheets": SHEETS, "steps": STEPS, "cases": CASES}))


if __name__ == "__main__":
    main()
