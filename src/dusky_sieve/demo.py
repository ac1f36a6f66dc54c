"""The demo room: the print room of an invented botanic garden, Fennmoor, with weeks of history.

Everything is made here by the simulated printer and camera; names, numbers and faults are invented.
"""

import shutil
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, ChannelFaults, NoteEvent, Printer, StepEvent, Waste
from dusky_sieve.core.layout import Backing, Layout, MarksBlock
from dusky_sieve.core.ledger import Entry, book_step, in_ml
from dusky_sieve.core.simulate import BlockTruth, DeflectedMark, Scene, Truth, WeakMark, render
from dusky_sieve.core.steps import StepName
from dusky_sieve.core.upkeep import Log, TaskName
from dusky_sieve.store import PrinterRecord, Store

ROOM = "Fennmoor print room"
PERSON = "Jory Penhale"
OTHER = "Ilse Varga"
SIZE = (2600, 1950)  # of the demo's photographs: sharp enough for every layout, quick to make


def fill(folder: Path, now: datetime, tell: Callable[[str], None]) -> None:
    """Fills a new data folder; an interrupted fill leaves nothing that looks finished."""
    part = folder.with_name(folder.name + ".part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    store = Store(part)
    try:
        for make in (_larch, _osier, _sorrel, _bracken):
            tell(f"Setting up {make.__name__[1:].capitalize()} ...")
            make(store, now)
        _photos_to_try(part / "photos-to-try", tell)
    finally:
        store.close()
    folder.parent.mkdir(parents=True, exist_ok=True)
    if folder.exists():
        folder.rmdir()  # refuses a folder that holds anything
    part.rename(folder)


class _Past:
    """A printer's history, told in order of time."""

    def __init__(
        self, store: Store, slug: str, printer: Printer, layout: Layout, *, about: str, sheet_note: str, position: int
    ) -> None:
        inks = {b.channel: b.ink for b in layout.blocks}
        store.add_printer(slug, printer, layout, inks, about=about, sheet_note=sheet_note, position=position)
        self.store = store
        self.record: PrinterRecord = services.find_printer(store, slug)

    def case(self) -> int | None:
        found = services.open_case_of(self.store, self.record.id)
        return found.id if found else None

    def told(self, at: datetime, person: str = PERSON, **faults: ChannelFaults) -> None:
        """A sheet told by hand: channels not named are clear."""
        every = {c.name: faults.get(c.name.replace("-", "_"), ChannelFaults()) for c in self.record.printer.channels}
        bad = any(f.missing or f.weak or f.deflected or f.all_missing for f in every.values())
        case = self.case()
        if case is None and bad:
            case = self.store.open_case(self.record.id, at, services.printer_now(self.store, self.record, at))
        self.store.add_sheet(self.record.id, at, person, faults=every, case_id=case)
        sheet = StepEvent(kind="step", at=at, step="check", sheets=1)
        self.store.book(self.record.id, case, book_step(self.record.printer, sheet, files.step_table()))

    def photo(
        self,
        at: datetime,
        name: str,
        blocks: dict[str, BlockTruth],
        scene: Scene,
        seed: int,
        backing: Backing = "light",
    ) -> None:
        """A sheet that was photographed, read and accepted."""
        content = _photograph(self.record.layout, blocks, scene, seed, backing)
        arrival = services.take_photo(self.store, self.record, content, name, backing, PERSON, at)
        services.accept_sheet(self.store, services.find_sheet(self.store, arrival.sheet_id), PERSON, at)

    def did(
        self,
        at: datetime,
        step: StepName,
        channels: tuple[str, ...] | None = None,
        person: str = PERSON,
        running: bool = False,
    ) -> None:
        """A step, finished unless it is still running."""
        wait = files.step_table()[step].wait_hours
        event = StepEvent(
            kind="step", at=at, step=step, channels=channels, until=at + timedelta(hours=wait) if wait else None
        )
        key = self.store.add_event(self.record.id, self.case(), event, person, started=at)
        if not running:
            end = event.until or at + timedelta(minutes=files.step_table()[step].minutes)
            self.store.finish_step(key, event, end, book_step(self.record.printer, event, files.step_table()), person)

    def note(self, at: datetime, **facts: object) -> None:
        self.store.add_event(self.record.id, self.case(), NoteEvent(kind="note", at=at, facts=facts), PERSON)

    def kept(self, now: datetime, a_day: list[float], *, days: int, every: float, more: float, seed: int) -> None:
        """Levels read off every so often: what prints took, and steps by `more` than their estimates, filled up in between."""
        rng = np.random.default_rng(seed)
        spent = self.store.entries(printer_id=self.record.id)
        for channel, use in zip(self.record.printer.channels, a_day, strict=True):
            full = channel.capacity_ml or 70.0
            level, last = channel.level_ml or full, now - timedelta(days=days)
            for k in range(int(days / every)):
                at = now - timedelta(days=days - k * every, hours=2)
                steps = sum(e.ink_ml for e in spent if e.channel == channel.name and last < e.at <= at)
                level -= steps * more + (use * (at - last).total_seconds() / 86_400 if k else 0.0)
                if level < 0.3 * full:
                    self.store.book(self.record.id, None, [Entry(at=at - timedelta(hours=1), what="fill", step="refill", channel=channel.name, ink_ml=round(full - level, 1))], OTHER)  # fmt: skip
                    level = full
                seen = in_ml(channel, round(min(100.0, max(1.0, 100 * level / full + rng.normal(0, 1.2)))), "%")
                self.store.book(self.record.id, None, [Entry(at=at, what="level", channel=channel.name, ink_ml=seen.ml, sigma_ml=seen.sigma_ml, said=seen.said)], OTHER)  # fmt: skip
                last = at

    def upkeep(self, at: datetime, *names: TaskName) -> None:
        for name in names:
            self.store.add_upkeep(self.record.id, Log(name=name, at=at, what="done"), OTHER)

    def end(self, at: datetime, outcome: str) -> None:
        case = self.case()
        if case is not None:
            self.store.close_case(case, at, outcome)


def _photograph(layout: Layout, blocks: dict[str, BlockTruth], scene: Scene, seed: int, backing: Backing) -> bytes:
    pixels = render(layout, Truth(blocks=blocks, scene=scene), backing, np.random.default_rng(seed))
    return files.encode_jpeg(pixels, scene.jpeg_quality)


def _scene(**changes: float) -> Scene:
    base = Scene(width=SIZE[0], height=SIZE[1], fill=0.8, lens_blur_px=0.7, exposure=0.82)
    return base.model_copy(update=changes)


def _channels(
    layout: Layout, capacity: float, levels: list[float], prices: list[float], groups: list[str]
) -> tuple[Channel, ...]:
    seen: dict[str, int] = {}
    for block in layout.blocks:
        if isinstance(block, MarksBlock):
            seen[block.channel] = seen.get(block.channel, 0) + block.nozzles
    return tuple(
        Channel(
            name=name, nozzles=nozzles, group=group, capacity_ml=capacity, level_ml=level, price_per_ml=price,
            role="white" if name.startswith("white") else "light" if name.startswith("light") else None,
        )
        for (name, nozzles), level, price, group in zip(seen.items(), levels, prices, groups, strict=True)
    )  # fmt: skip


def _gaps(*missing: int, weak: tuple[int, ...] = (), deflected: tuple[int, ...] = ()) -> ChannelFaults:
    return ChannelFaults(missing=missing, weak=weak, deflected=deflected)


def _larch(store: Store, now: datetime) -> None:
    """The owner's desktop tank printer: stood three weeks, cleaned twice for nothing, now at rest."""
    layout = files.shipped_layout("four-staircases")
    printer = Printer(
        name="Larch", channels=_channels(layout, 70, [62, 47, 42, 54], [0.14, 0.17, 0.17, 0.17], ["A", "B", "B", "B"]),
        waste=Waste(capacity_ml=210, used_ml=176, replaceable=False), abilities=("clean", "deep_clean", "line_flush"), user_level="owner", ladder="watch-the-gaps",
    )  # fmt: skip
    past = _Past(
        store,
        "larch",
        printer,
        layout,
        about="four-channel desktop tank",
        sheet_note="Hold the paper button for five seconds; the sheet comes by itself.",
        position=1,
    )
    start = now - timedelta(hours=34)
    past.told(start - timedelta(days=40), black=_gaps(12))
    past.did(start - timedelta(days=40) + timedelta(minutes=6), "clean", ("black",))
    past.told(start - timedelta(days=40) + timedelta(minutes=14))
    past.end(start - timedelta(days=40) + timedelta(minutes=15), "clear")
    past.told(start - timedelta(days=22))
    stuck = BlockTruth(missing=(12, 13, 140))
    past.photo(start, "larch-monday.jpg", {"black": stuck, "yellow": BlockTruth(missing=(71, 119)), "magenta": BlockTruth(missing=(117, 30, 55))}, _scene(tilt_deg=6, roll_deg=4), 11)  # fmt: skip
    past.note(start + timedelta(minutes=1), idle_days=22, humidity_pct=31)
    past.did(start + timedelta(minutes=6), "clean", ("black", "magenta", "yellow"))
    past.told(start + timedelta(minutes=13), black=_gaps(12, 13, 140), yellow=_gaps(71, 119), magenta=_gaps(117, 90))
    past.did(now - timedelta(hours=9, minutes=40), "clean", ("black", "magenta", "yellow"))
    last = {"black": stuck, "yellow": BlockTruth(missing=(71, 119)), "magenta": BlockTruth(weak=(WeakMark(nozzle=117, ink=0.4),), missing=(90,))}  # fmt: skip
    past.photo(now - timedelta(hours=9, minutes=30), "larch-night.jpg", last, _scene(tilt_deg=9, roll_deg=-8, shadow=0.25, lamp_falloff=1.8), 12)  # fmt: skip
    past.kept(now - timedelta(hours=36), [0.35, 0.24, 0.27, 0.3], days=96, every=6, more=1.3, seed=1)
    past.did(now - timedelta(hours=9, minutes=24), "rest", ("black", "magenta", "yellow"), running=True)
    past.upkeep(now - timedelta(days=44), "care", "align")
    past.upkeep(now - timedelta(days=24), "exercise")


def _osier(store: Store, now: datetime) -> None:
    """The photo printer: one channel gone through everything an owner may do, handed over."""
    layout = files.shipped_layout("eight-slanted-runs")
    printer = Printer(
        name="Osier", channels=_channels(layout, 80, [66, 52, 60, 70, 43, 33, 57, 46], [0.55, 0.55, 0.5, 0.6, 0.6, 0.6, 0.6, 0.6], list("AAAABBBB")),
        waste=Waste(capacity_ml=240, used_ml=58), abilities=("clean", "group_clean", "line_flush"), user_level="owner", ladder="maker-tank",
    )  # fmt: skip
    past = _Past(
        store,
        "osier",
        printer,
        layout,
        about="eight-channel photo, two groups",
        sheet_note="Photo paper out, plain paper in, rear slot, left edge.",
        position=2,
    )
    for days in (30, 23, 16):
        past.told(now - timedelta(days=days, hours=2), OTHER)
    day = now - timedelta(days=8, hours=3)
    past.told(day, yellow=_gaps(9), light_cyan=_gaps(*range(20, 131)))
    past.did(day + timedelta(minutes=5), "clean", ("yellow", "light-cyan"), OTHER)
    gone = {"yellow": _gaps(9), "light_cyan": ChannelFaults(all_missing=True)}
    past.told(day + timedelta(minutes=12), yellow=gone["yellow"], light_cyan=gone["light_cyan"])
    past.did(day + timedelta(minutes=20), "rest", ("yellow", "light-cyan"), OTHER)
    past.told(day + timedelta(hours=13), yellow=gone["yellow"], light_cyan=gone["light_cyan"])
    past.did(day + timedelta(hours=13, minutes=5), "clean", ("yellow", "light-cyan"))
    past.told(day + timedelta(hours=13, minutes=12), yellow=gone["yellow"], light_cyan=gone["light_cyan"])
    past.did(day + timedelta(days=1), "line_flush", ("light-cyan",))
    past.told(day + timedelta(days=1, minutes=12), yellow=gone["yellow"], light_cyan=gone["light_cyan"])
    past.did(day + timedelta(days=1, minutes=30), "hand_over")
    past.end(day + timedelta(days=1, minutes=40), "handed over")
    past.kept(now, [0.9, 0.6, 0.7, 0.8, 0.5, 1.1, 0.9, 0.4], days=120, every=9, more=1.1, seed=2)
    past.upkeep(now - timedelta(days=20), "care", "align", "exercise")


def _sorrel(store: Store, now: datetime) -> None:
    """Colours and two whites on film: a case just opened this morning."""
    layout = files.shipped_layout("six-bands-on-film")
    printer = Printer(
        name="Sorrel", channels=_channels(layout, 220, [151, 124, 163, 136, 88, 145], [0.19, 0.19, 0.19, 0.19, 0.42, 0.42], list("AAAABB")),
        waste=Waste(capacity_ml=300, used_ml=171), abilities=("clean", "group_clean", "deep_clean"), user_level="owner", ladder="watch-the-gaps",
    )  # fmt: skip
    past = _Past(
        store,
        "sorrel",
        printer,
        layout,
        about="colours, two whites, film",
        sheet_note="Clear film, corner offset 20 mm, white after colour.",
        position=3,
    )
    for days in range(19, 1, -2):
        past.told(now - timedelta(days=days, hours=1))
    past.photo(now - timedelta(hours=1, minutes=50), "sorrel-early.jpg", {"magenta": BlockTruth(missing=(23, 61, 108)), "cyan": BlockTruth(missing=(77,))}, _scene(tilt_deg=5, roll_deg=-3), 21)  # fmt: skip
    past.did(now - timedelta(hours=1, minutes=40), "group_clean", ("cyan", "magenta"))
    faults = {"magenta": BlockTruth(missing=(41, 160), weak=(WeakMark(nozzle=97, ink=0.4),)), "yellow": BlockTruth(deflected=(DeflectedMark(nozzle=104, offset_um=(0, 112.0)),), missing=(130,))}  # fmt: skip
    past.photo(
        now - timedelta(hours=1, minutes=30),
        "sorrel-again.jpg",
        faults,
        _scene(tilt_deg=8, roll_deg=6, lamp_falloff=1.7),
        22,
    )
    past.kept(now, [3.1, 2.8, 2.6, 3.4, 4.9, 4.4], days=60, every=4, more=1.2, seed=3)
    past.upkeep(now - timedelta(days=12), "care", "exercise")
    past.upkeep(now - timedelta(days=33), "align")


def _bracken(store: Store, now: datetime) -> None:
    """The roll printer with two heads: a long clear streak after one small case."""
    layout = files.shipped_layout("two-heads-raster")
    printer = Printer(
        name="Bracken", channels=_channels(layout, 775, [618, 548, 596, 705, 660, 480, 538, 694], [0.11] * 8, list("AAAABBBB")),
        waste=Waste(capacity_ml=4000, used_ml=1120), abilities=("clean", "channel_clean", "deep_clean", "remap"), user_level="technician", ladder="watch-the-gaps",
    )  # fmt: skip
    past = _Past(
        store,
        "bracken",
        printer,
        layout,
        about="two-head roll, can remap",
        sheet_note="Between jobs, from the roll; cut after 60 mm.",
        position=4,
    )
    day = now - timedelta(days=27, hours=4)
    past.told(day, black_1=_gaps(150, 152, 201), magenta_2=_gaps(deflected=(261,)))
    past.did(day + timedelta(minutes=4), "clean", ("black-1", "magenta-2"), OTHER)
    past.told(day + timedelta(minutes=9), OTHER, black_1=_gaps(151))
    past.did(day + timedelta(minutes=14), "channel_clean", ("black-1",), OTHER)
    past.told(day + timedelta(minutes=20), OTHER)
    past.did(day + timedelta(minutes=30), "align", person=OTHER)
    past.end(day + timedelta(minutes=36), "clear")
    for days in range(25, 0, -1):
        past.told(now - timedelta(days=days, hours=3), PERSON if days % 3 else OTHER)
    past.kept(now, [6.0, 7.5, 5.5, 4.0, 6.2, 7.1, 5.8, 4.4], days=90, every=7, more=0.9, seed=4)
    past.upkeep(now - timedelta(days=6), "care", "exercise")
    past.photo(now - timedelta(hours=3), "bracken-morning.jpg", {}, _scene(tilt_deg=3, roll_deg=2, fill=0.92), 31)


def _photos_to_try(folder: Path, tell: Callable[[str], None]) -> None:
    """Photographs for a new user to drop on the page."""
    tell("Rendering photographs to try ...")
    larch, bracken = files.shipped_layout("four-staircases"), files.shipped_layout("two-heads-raster")
    after_rest = {"black": BlockTruth(missing=(12, 13)), "yellow": BlockTruth(missing=(71,), deflected=(DeflectedMark(nozzle=33, offset_um=(0, -104.0)),))}  # fmt: skip
    sheets = {
        "larch-after-the-rest.jpg": (larch, after_rest, _scene(tilt_deg=12, roll_deg=21, lamp_falloff=2.0)),
        "larch-clear.jpg": (larch, {}, _scene(tilt_deg=7, roll_deg=184)),
        "bracken-one-weak.jpg": (
            bracken,
            {"cyan-2": BlockTruth(weak=(WeakMark(nozzle=88, ink=0.35),))},
            _scene(tilt_deg=4, roll_deg=-4, fill=0.92),
        ),
    }
    for seed, (name, (layout, blocks, scene)) in enumerate(sheets.items(), 41):
        files.write_synced(folder / name, _photograph(layout, blocks, scene, seed, "light"))
