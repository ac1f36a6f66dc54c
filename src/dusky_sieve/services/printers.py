"""A printer set up: its channels, its pad, and the layout of its sheet, from a file or taught from a photo."""

import re
from dataclasses import dataclass, replace

import numpy as np

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, Waste
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, extent
from dusky_sieve.core.reading import UprightPhoto
from dusky_sieve.core.reading.registration import project
from dusky_sieve.core.teaching import KnownBlock, Spec, Taught, teach
from dusky_sieve.store import Habits, PrinterRecord, Store

Box = tuple[float, float, float, float]
BOX_SLACK = 0.03  # share of the photo by which a block's middle may lie outside the box drawn round it


@dataclass(frozen=True)
class Row:
    """One block of the sheet as somebody fills it in: channel, ink colour, nozzles, tank.

    box : left, top, right, bottom drawn round it on the photo, as shares of its width and height
    """

    channel: str
    ink: str
    nozzles: int
    first_nozzle: int = 1
    nozzle_step: int = 1
    backing: Backing = "light"
    tank_ml: float | None = None
    level_ml: float | None = None
    price_per_ml: float = 0.0
    group: str | None = None
    box: Box | None = None


def slug_of(name: str) -> str:
    """The address that a printer's name gives it."""
    slug = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60]
    return "a-new-one" if slug == "new" else slug or "printer"


def taught_layout(
    name: str, rows: list[Row], pitch_mm: float, photos: list[UprightPhoto]
) -> tuple[Layout, tuple[str, ...]]:
    """The layout that a photo of a good sheet gives, blocks in the order of the rows, and what to check by hand."""
    if not rows:
        raise UnusableInput("Channels: fill in one row for each block of the sheet, in reading order.")
    rows = in_reading_order(rows)
    seen: dict[str, int] = {}
    blocks = []
    for row in rows:
        seen[row.channel] = seen.get(row.channel, 0) + 1
        key = row.channel if seen[row.channel] == 1 else f"{row.channel}-{seen[row.channel]}"
        blocks.append(
            KnownBlock(
                id=key, channel=row.channel, ink=row.ink, backing=row.backing, nozzles=row.nozzles, first_nozzle=row.first_nozzle,
                nozzle_step=row.nozzle_step, nozzle_pitch=pitch_mm,
            )
        )  # fmt: skip
    found = teach(Spec(name=f"Sheet of {name}"[:80], blocks=tuple(blocks)), photos)
    outside = [b.id for b, row in zip(blocks, rows, strict=True) if row.box and not _inside(found, b.id, row)]
    said = f"{', '.join(outside)} was found outside the box drawn round it: look at the lattice." if outside else ""
    return found.layout, (*found.notes, *([said] if said else []))


def in_reading_order(rows: list[Row]) -> list[Row]:
    """Rows in the order of their boxes, where each has one: bands from the top, each from the left; else as they came.

    Blocks over light come before those over dark, whose photo is another.
    """
    if any(row.box is None for row in rows):
        return rows
    ordered: list[Row] = []
    for backing in ("light", "dark"):
        left = sorted((r for r in rows if r.backing == backing), key=lambda r: r.box or ())
        left.sort(key=lambda r: (r.box or (0, 0, 0, 0))[1])
        while left:
            foot = (left[0].box or (0, 0, 0, 0))[3]
            band = [r for r in left if r.box and (r.box[1] + r.box[3]) / 2 < foot]
            ordered += sorted(band, key=lambda r: r.box or ())
            left = [r for r in left if r not in band]
    return ordered


def _inside(found: Taught, block_id: str, row: Row) -> bool:
    """Whether a block's middle lies in the box that was drawn round it."""
    block = next(b for b in found.layout.blocks if b.id == block_id)
    photo = next((p for p in found.reading.photos if p.backing == row.backing), None)
    if photo is None or photo.sheet_to_photo is None or row.box is None:
        return False
    left, top, right, bottom = extent(block)
    middle = np.array([[(left + right) / 2, (top + bottom) / 2]])
    x, y = project(np.array(photo.sheet_to_photo), middle)[0] / (photo.width, photo.height)
    a, b, c, d = row.box
    return bool(a - BOX_SLACK <= x <= c + BOX_SLACK and b - BOX_SLACK <= y <= d + BOX_SLACK)


def set_up(
    store: Store, name: str, about: str, layout: Layout, rows: list[Row], waste: Waste | None, sheet_note: str = "", doubts: tuple[str, ...] = ()
) -> str:  # fmt: skip
    """Keeps a new printer and gives its address. Channels not filled in are taken from the layout."""
    slug = slug_of(name)
    if store.printer(slug) is not None:
        raise OutOfTurn(f"There is a printer “{name}” already. Two that look alike need names that do not.")
    marks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    told = {row.channel: row for row in reversed(rows)}
    channels: list[Channel] = []
    for key in dict.fromkeys(b.channel for b in marks):
        row = told.get(key)
        most = max(b.numbers[-1] for b in marks if b.channel == key)
        channels.append(
            Channel(
                name=key, nozzles=most, group=row.group if row else None, capacity_ml=row.tank_ml if row else None,
                level_ml=row.level_ml if row else None, price_per_ml=row.price_per_ml if row else 0.0,
                role="white" if any(b.backing == "dark" for b in marks if b.channel == key) else None,
            )
        )  # fmt: skip
    printer = Printer(name=name, channels=tuple(channels), waste=waste)
    inks = {b.channel: b.ink for b in reversed(marks)}
    kept = store.add_printer(
        slug, printer, layout, inks, about=about, sheet_note=sheet_note, position=len(store.printers())
    )
    if doubts:
        store.keep_habits(kept, Habits(doubts=doubts))
    return slug


def teach_again(store: Store, record: PrinterRecord, layout: Layout, doubts: tuple[str, ...]) -> None:
    """Puts another layout in the place of one that was learnt wrongly, as long as nothing was accepted on it."""
    if any(s.read for s in store.sheets(record.id, accepted=True)):
        raise OutOfTurn(
            f"Sheets of {record.name} were accepted with the layout it has. Set up a new printer for another sheet."
        )
    nozzles = {c.name: c.nozzles for c in record.printer.channels}
    marks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    if {b.channel: max(m.numbers[-1] for m in marks if m.channel == b.channel) for b in marks} != nozzles:
        raise UnusableInput(f"Channels: expected those of {record.name} with their nozzle counts, in any order.")
    store.change_layout(record.id, layout)
    store.keep_habits(record.id, replace(record.habits, doubts=doubts))


def photo_of(content: bytes, name: str, backing: Backing) -> UprightPhoto:
    """An uploaded photo, decoded."""
    return UprightPhoto(files.decode_photo(content, name), backing, name)
