"""Whether what is learnt of a printer's use of ink comes back within its interval: simulated printers, noisy readings.

    .venv/bin/python -m benchmarks.learning [--printers 500] [--seed 1]

Each printer has its own true amounts, drawn about the starting estimates by a factor of e to the power of a normal of
0.45 (so that one in ten takes more than 1.8 times what is said), its own printing a day, and readings by eye, by percent
or by weight with the errors of each; one in forty is misread by far. Per printer 40 to 120 days, a reading every 3 to 12.
"""

import argparse
import math
from datetime import UTC, datetime, timedelta

import numpy as np

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, Waste
from dusky_sieve.core.ledger import PRINTS, Entry, Unit, in_ml, learn

START = datetime(2031, 1, 1, tzinfo=UTC)
STEPS = ("clean", "deep_clean", "paper_flush", "line_flush")
A_DAY = {"clean": 0.12, "deep_clean": 0.015, "paper_flush": 0.05, "line_flush": 0.008}


def history(rng: np.random.Generator) -> tuple[Printer, dict[int, Entry], dict[str, float]]:
    """One channel's printer, its book, and what each step truly takes."""
    full = float(rng.choice([30, 70, 130, 220]))
    channel = Channel(name="black", nozzles=180, capacity_ml=full, level_ml=full, window_mm=40, empty_g=20)
    printer = Printer(name="Simulated", channels=(channel,), waste=Waste(capacity_ml=500))
    table = files.step_table()
    truth = {name: table[name].ink(1).typical * math.exp(rng.normal(0, 0.45)) for name in STEPS}
    truth[PRINTS] = float(rng.gamma(1.2, 0.5))
    unit: Unit = rng.choice(["ml", "%", "mm", "g"])  # type: ignore[assignment]
    lines: dict[int, Entry] = {}
    level, next_reading = full, 0.0
    for day in range(int(rng.integers(40, 120))):
        at = START + timedelta(days=day)
        if day >= next_reading:
            true = {"ml": level, "%": 100 * level / full, "mm": 40 * level / full, "g": 20 + 1.06 * level}[unit]
            sigma = in_ml(channel, true, unit).sigma_ml
            seen = float(np.clip(level + rng.normal(0, sigma * (8 if rng.random() < 1 / 40 else 1)), 0, full))
            lines[len(lines) + 1] = Entry(at=at, what="level", channel="black", ink_ml=seen, sigma_ml=sigma)
            next_reading = day + rng.integers(3, 13)
        for name in STEPS:
            if rng.random() < A_DAY[name] and level > truth[name]:
                level -= truth[name]
                lines[len(lines) + 1] = Entry(
                    at=at + timedelta(hours=2), step=name, channel="black", ink_ml=table[name].ink(1).typical
                )
        level = max(0.0, level - truth[PRINTS])
        if level < 0.3 * full:
            lines[len(lines) + 1] = Entry(
                at=at + timedelta(hours=22), what="fill", step="refill", channel="black", ink_ml=full - level
            )
            lines[len(lines) + 1] = Entry(
                at=at + timedelta(hours=22), what="level", channel="black", ink_ml=full, sigma_ml=0.02 * full
            )
            level = full
    return printer, lines, truth


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--printers", type=int, default=500)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    inside: dict[str, list[bool]] = {}
    better: dict[str, list[float]] = {}
    for k in range(asked.printers):
        printer, lines, truth = history(np.random.default_rng([asked.seed, k]))
        for found in learn(printer, lines, files.step_table()).learnt:
            if found.times == 0:
                continue
            true = truth[found.kind]
            inside.setdefault(found.kind, []).append(found.low_ml <= true <= found.high_ml)
            better.setdefault(found.kind, []).append(abs(found.ml - true) / max(abs(found.prior_ml - true), 1e-6))
    for kind, hits in inside.items():
        print(
            f"{kind:12} within its interval {np.mean(hits):6.1%} of {len(hits)}; error {np.median(better[kind]):.2f} of the estimate's"
        )
    print(f"all          within its interval {np.mean([h for hits in inside.values() for h in hits]):6.1%}")


if __name__ == "__main__":
    main()
