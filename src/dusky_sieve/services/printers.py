"""A printer set up: its channels, its pad, and the layout of its sheet, from a file or taught from a photo."""

import re
from dataclasses import dataclass

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, Waste
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.layout import Backing, Layout, MarksBlock
from dusky_sieve.core.reading import UprightPhoto
from dusky_sieve.core.teaching import KnownBlock, Spec, teach
from dusky_sieve.store import Store


@dataclass(frozen=True)
class Row:
    """One block of the sheet as somebody fills it in: channel, ink colour, nozzles, tank."""

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
    return found.layout, found.notes


def set_up(
    store: Store, name: str, about: str, layout: Layout, rows: list[Row], waste: Waste | None, sheet_note: str = ""
) -> str:
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
    store.add_printer(slug, printer, layout, inks, about=about, sheet_note=sheet_note, position=len(store.printers()))
    return slug


def photo_of(content: bytes, name: str, backing: Backing) -> UprightPhoto:
    """An uploaded photo, decoded."""
    return UprightPhoto(files.decode_photo(content, name), backing, name)
