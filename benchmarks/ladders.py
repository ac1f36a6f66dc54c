"""Every ladder played against simulated printers whose causes it cannot see.

    python -m benchmarks.ladders --cases 1000 --seed 0 --jobs 2

The printer's numbers are its own: nothing here reads the likelihood or cure tables, save the prices of time, pad and
handing over, which are the owner's and the same for all. Says per ladder what was cleared, ink, waste, hours and total
cost, and the mean cost by cause.
"""

import argparse
import os
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import partial

import numpy as np

from dusky_sieve import files
from dusky_sieve.core.advice import Proposal, advise
from dusky_sieve.core.case import Case, Channel, ChannelFaults, Event, NoteEvent, Printer, SheetEvent, StepEvent, Waste
from dusky_sieve.core.ledger import add_up, book_step

CAUSES = {
    "dried_ink": 0.4,
    "air_or_prime": 0.25,
    "seal_leak": 0.11,
    "starved": 0.08,
    "dead_nozzle": 0.07,
    "debris": 0.09,
}
MOST_STEPS = 40
NOZZLES = 180
START = datetime(2031, 3, 2, 8, 0, tzinfo=UTC)


@dataclass
class World:
    """A printer and what ails it. hard : hardness of each crust by (channel, nozzle); bubbles : mean wandering gaps."""

    cause: str
    rng: np.random.Generator
    channels: tuple[str, ...]
    hard: dict[tuple[str, int], float] = field(default_factory=dict)
    bubbles: float = 0.0
    leaking: bool = False
    dead: set[tuple[str, int]] = field(default_factory=set)
    covered: bool = False

    @classmethod
    def drawn(cls, rng: np.random.Generator, channels: tuple[str, ...]) -> "World":
        """A printer in trouble."""
        world = cls(str(rng.choice(list(CAUSES), p=list(CAUSES.values()))), rng, channels)
        hit = [str(c) for c in rng.choice(channels, int(rng.integers(1, 3)), replace=False)]
        count = int(np.clip(rng.geometric(0.12), 1, 60))
        if world.cause == "dried_ink":
            world.hard = {
                (str(rng.choice(hit)), int(n)): float(rng.uniform(0.1, 1.1))
                for n in rng.integers(1, NOZZLES + 1, count)
            }
        elif world.cause == "debris":
            first = int(rng.integers(1, NOZZLES - 12))
            world.hard = {(hit[0], first + k): float(rng.uniform(0.2, 0.9)) for k in range(int(rng.integers(2, 9)))}
        elif world.cause == "starved":
            world.hard = {(hit[0], NOZZLES - k): 0.6 for k in range(int(rng.integers(10, 90)))}
        elif world.cause == "dead_nozzle":
            world.dead = {(hit[0], int(n)) for n in rng.integers(1, NOZZLES + 1, int(rng.integers(1, 5)))}
        else:
            world.bubbles = float(rng.uniform(2, 14))
            world.leaking = world.cause == "seal_leak"
        return world

    def sheet(self) -> dict[str, set[int]]:
        """Faulty nozzles per channel as a sheet would show them now."""
        seen: dict[str, set[int]] = {c: set() for c in self.channels}
        for channel, nozzle in [*self.hard, *self.dead]:
            seen[channel].add(nozzle)
        where = self.channels if self.leaking or self.cause == "seal_leak" else self.channels[:2]
        for _ in range(int(self.rng.poisson(self.bubbles))):
            seen[str(self.rng.choice(where))].add(int(self.rng.integers(1, NOZZLES + 1)))
        return seen

    def do(self, step: Proposal) -> None:
        """What a step does to the trouble."""
        u = self.rng.uniform
        name, strong = step.step, 1 + 0.25 * ((step.level or 1) - 1)
        pull = name in ("clean", "group_clean", "channel_clean", "deep_clean", "line_flush")
        if self.leaking and pull:
            return  # the pump hums and pulls nothing
        if self.leaking and ((name == "seal_clean" and u() < 0.65) or (name == "cap_soak" and u() < 0.3)):
            self.leaking = False
        softer = {
            "clean": (0, 0.16), "group_clean": (0, 0.16), "channel_clean": (0, 0.16), "rest": (0, 0.2), "cap_soak": (0.15, 0.65), "deep_clean": (0.15, 0.55),
            "line_flush": (0.05, 0.3), "head_soak": (0.35, 0.8), "seal_clean": (0, 0.08), "paper_flush": (0.02, 0.1), "air_assist": (0.2, 0.6), "syringe_flush": (0.3, 0.8),
        }.get(name)  # fmt: skip
        if softer and self.cause != "starved":
            low, high = softer
            if self.cause == "debris" and name == "seal_clean":
                low, high = 0.2, 0.6
            often = max(1, step.sheets) ** 0.5 if name == "paper_flush" else strong
            self.hard = {k: v - u(low, high) * often for k, v in self.hard.items()}
        if self.cause == "starved" and name in ("refill", "prepare", "line_flush") and u() < 0.6:
            self.hard = {}
        if self.cause == "starved" and name == "rest":
            self.hard = {k: v for k, v in self.hard.items() if u() < 0.7}
        self.hard = {k: v for k, v in self.hard.items() if v > 0}
        thinner = {
            "clean": (0.4, 1.0), "group_clean": (0.4, 1.0), "channel_clean": (0.4, 1.0), "rest": (0.25, 0.75), "line_flush": (0, 0.3), "deep_clean": (0.2, 0.7),
            "paper_flush": (0.5, 0.9), "cap_soak": (0.4, 0.9), "air_assist": (0.1, 0.5),
        }.get(name)  # fmt: skip
        if thinner and not self.leaking:
            self.bubbles *= u(*thinner)
        if self.bubbles < 0.35:
            self.bubbles = 0.0
        if name == "replace_head":
            self.dead, self.hard = set(), {}
        if name == "remap":
            self.covered = True


@dataclass(frozen=True)
class Result:
    """How one case ended under one ladder."""

    cause: str
    cleared: bool
    ink: float
    waste: float
    hours: float
    cost: float


def _printer(ladder: str) -> Printer:
    channels = tuple(
        Channel(name=n, nozzles=NOZZLES, group=g, capacity_ml=70, level_ml=60, price_per_ml=0.16)
        for n, g in (("black", "A"), ("cyan", "B"), ("magenta", "B"), ("yellow", "B"))
    )
    able = ("clean", "group_clean", "deep_clean", "line_flush", "remap")
    return Printer(
        name="Larch",
        channels=channels,
        waste=Waste(capacity_ml=400, used_ml=120),
        abilities=able,
        user_level="owner",
        ladder=ladder,
    )


def play(seed: int, ladder_id: str) -> Result:
    """One case followed to its end."""
    rng = np.random.default_rng(seed)
    printer = _printer(ladder_id)
    world = World.drawn(rng, tuple(c.name for c in printer.channels))
    tables = (files.step_table(), files.cause_table(), files.cure_table())
    prices = tables[2].prices
    at, events = START, list[Event]()
    if world.cause == "dried_ink" and rng.random() < 0.6:
        events.append(NoteEvent(kind="note", at=at, facts={"idle_days": int(rng.integers(7, 60))}))
    if world.cause == "seal_leak" and rng.random() < 0.3:
        events.append(NoteEvent(kind="note", at=at, facts={"cap_dirty": True}))
    ink = waste = cost = 0.0
    seen: dict[str, set[int]] = {}
    for _ in range(MOST_STEPS):
        case = Case(printer=printer, events=tuple(events), now=at)
        step = advise(case, files.ladder(ladder_id), *tables).next
        if step.step in ("hand_over", "carry_on", "align"):
            break
        wait = step.until - at if step.until and step.until > at else timedelta(minutes=step.minutes)
        done = StepEvent(kind="step", at=at, step=step.step, channels=step.channels, level=step.level, sheets=step.sheets if step.step == "paper_flush" else None, until=step.until)  # fmt: skip
        spent = add_up(book_step(printer, done, tables[0]))
        ink, waste = ink + spent.ink_ml, waste + spent.waste_ml
        cost += (
            spent.cost
            + spent.waste_ml * prices.pad_ml
            + step.attended_minutes / 60 * prices.attended_hour
            + prices.risk.get(step.step, 0.0)
        )
        events.append(done)
        at += wait
        if step.step != "check":
            world.do(step)
        seen = world.sheet()
        if step.step == "paper_flush":
            names = step.channels or world.channels
            events.append(SheetEvent(kind="sheet", at=at, faults={}, lines={n: len(seen[n]) for n in names}))
            at += timedelta(minutes=2)
        elif step.step == "check":
            events.append(
                SheetEvent(
                    kind="sheet", at=at, faults={n: ChannelFaults(missing=tuple(sorted(v))) for n, v in seen.items()}
                )
            )
            at += timedelta(minutes=2)
    hours = (at - START).total_seconds() / 3600
    clear = step.step != "hand_over" and (
        not any(seen.values()) or (world.covered and not world.hard and not world.bubbles)
    )
    ended = 0.0 if clear else prices.hand_over  # whoever runs on or stops leaves it to somebody else to mend
    return Result(world.cause, clear, ink, waste, hours, cost + hours * prices.waiting_hour + ended)


def _many(seeds: range, ladder_id: str) -> list[Result]:
    return [play(seed, ladder_id) for seed in seeds]


def main() -> None:
    """Plays and prints."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cases", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    args = parser.parse_args()
    names = list(files.ladders())
    with ProcessPoolExecutor(args.jobs) as pool:
        found = dict(zip(names, pool.map(partial(_many, range(args.seed, args.seed + args.cases)), names), strict=True))
    print(f"{'ladder':16s} cleared   ink ml  waste ml   hours    cost | mean cost by cause: {'  '.join(CAUSES)}")
    worst: dict[str, list[tuple[float, str]]] = defaultdict(list)
    for name, results in sorted(found.items(), key=lambda item: np.mean([r.cost for r in item[1]])):
        mean = {k: np.mean([getattr(r, k) for r in results]) for k in ("cleared", "ink", "waste", "hours", "cost")}
        by = {c: float(np.mean([r.cost for r in results if r.cause == c] or [0])) for c in CAUSES}
        for cause, value in by.items():
            worst[cause].append((value, name))
        print(f"{name:16s} {mean['cleared']:6.1%} {mean['ink']:8.1f} {mean['waste']:8.1f} {mean['hours']:8.1f} {mean['cost']:8.2f} | " + "  ".join(f"{v:{len(c)}.1f}" for c, v in by.items()))  # fmt: skip
    print("worst by cause: " + ", ".join(f"{cause}: {max(values)[1]}" for cause, values in worst.items()))


if __name__ == "__main__":
    main()
