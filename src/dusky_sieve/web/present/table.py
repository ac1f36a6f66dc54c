"""The light table: what was read, drawn over the straightened photo, and the mesh of every channel."""

from dataclasses import asdict, dataclass, replace
from urllib.parse import urlencode

from dusky_sieve import services
from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.layout import Backing, MarksBlock
from dusky_sieve.core.reading import Change, Reading, photo_verdict
from dusky_sieve.drawing import sieve, straight
from dusky_sieve.store import PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words
from dusky_sieve.web.present.arriving import heading_of, nothing_read
from dusky_sieve.web.present.band import NO_INK


@dataclass(frozen=True)
class FaultRow:
    """One fault in the list beside the table."""

    key: str
    channel: str
    nozzle: int
    state: str
    stayed: bool | None
    detail: str
    sure: str
    block: str


@dataclass(frozen=True)
class MeshRow:
    """One channel's mesh with its words."""

    key: str
    channel: str
    svg: str
    words: str
    aside: str


@dataclass(frozen=True)
class Choice:
    """One of several ways to look at the sheet; `href` leads there."""

    words: str
    href: str
    chosen: bool


@dataclass(frozen=True)
class Looking:
    """How somebody looks at a sheet, as its address says it.

    look : the fault under the loupe, block:nozzle; lamp : the backing shown; only : one channel pulled out
    against : the earlier sheet compared with, 0 for the one before; lattice : whether every mark's place is drawn
    """

    look: str = ""
    lamp: str = ""
    only: str = ""
    against: int = 0
    lattice: bool = False

    def to(self, **changes: object) -> str:
        """The query of the address that looks so, with changes."""
        asked = asdict(self) | changes
        query = urlencode({k: int(v) if v is True else v for k, v in asked.items() if v}, safe=":")
        return f"?{query}" if query else "?"


@dataclass(frozen=True)
class LightTable:
    """Everything the page lays out. `picture` is empty where the sheet was not found or came without a photo.

    frame : width and height of the picture in mm; under : the compared sheet's picture on the same table
    """

    heading: str
    aside: str
    looking: Looking
    picture: str
    under: str
    overlay: str
    frame: tuple[float, float, float, float]
    place: int
    dark: bool
    lamps: tuple[Choice, ...]
    pulls: tuple[Choice, ...]
    earlier: tuple[Choice, ...]
    remarks: tuple[tuple[str, bool, str], ...]
    rows: tuple[FaultRow, ...]
    meshes: tuple[MeshRow, ...]
    looked: FaultRow | None
    following: FaultRow | None
    previous: FaultRow | None
    why: str | None
    lost: tuple[tuple[int, str, str], ...]
    accepted: bool
    unread: tuple[tuple[str, str], ...]
    nothing: bool
    blocks: tuple[tuple[str, str], ...]
    changed: tuple[str, ...]
    can_undo: bool
    can_redo: bool


QUESTIONS = {
    "sharp": ("sharp", "not sharp"), "square": ("square on", "at an angle"), "lit": ("well lit", "badly lit"),
    "complete": ("whole", "not whole"),
}  # fmt: skip


def light_table(store: Store, record: PrinterRecord, sheet: SheetRecord, looking: Looking) -> LightTable:
    """The view of one sheet."""
    machine = sheet.reading
    if machine is not None and not sheet.why:
        sheet = replace(sheet, reading=services.reading_now(sheet, record))
    earlier = _earlier(store, sheet)
    compared = next((s for s in earlier if s.id == looking.against), earlier[0] if earlier else None)
    before = compared.faults if compared else None
    rows = _rows(sheet, before)
    order = {b.id: i for i, b in enumerate(record.layout.blocks)}
    rows.sort(key=lambda r: (r.state != "unsure", order.get(r.block, 0), r.nozzle))
    at = next((i for i, r in enumerate(rows) if r.key == looking.look), None)
    looked = rows[at] if at is not None else rows[0] if rows else None
    reading = sheet.reading
    found = reading is not None and bool(reading.photos) and all(p.found for p in reading.photos)
    shown = _lamp(record, reading, looking, looked if at is not None else None) if reading and found else None
    picture = under = drawn = ""
    remarks: list[tuple[str, bool, str]] = []
    if reading and shown is not None:
        photo = reading.photos[shown]
        verdict = photo_verdict(photo)
        wrong = {b: " ".join(r.words) for r in verdict if not r.good for b in r.blocks}
        remarks = [
            (QUESTIONS[r.question][not r.good], r.good, " ".join(r.words))
            for r in sorted(verdict, key=lambda r: not r.good)
        ]
        links = {(r.block, r.nozzle): f"{looking.to(look=r.key)}#loupe" for r in rows}
        backing = photo.backing if len(reading.photos) > 1 else None
        drawn = straight.overlay(record.layout, reading, backing, links, wrong=wrong, lattice=looking.lattice)
        asked = urlencode({k: v for k, v in (("place", shown), ("only", looking.only)) if v})
        picture = f"/sheets/{sheet.id}/straight.jpg" + (f"?{asked}" if asked else "")
        under = _under(store, compared, photo.backing)
    blocks = reading.blocks if reading else ()
    marks = sum(sum((b.counts or {}).values()) for b in blocks)
    here = at or 0
    return LightTable(
        heading=heading_of(sheet), aside=f"{marks} marks looked at" if marks else "told by hand" if sheet.faults else "",
        looking=looking, picture=picture, under=under, overlay=drawn, frame=straight.frame(record.layout), place=shown or 0,
        dark=bool(reading and shown is not None and reading.photos[shown].backing == "dark"),
        lamps=_lamps(reading, looking, shown) if found else (), pulls=_pulls(record, looking) if found else (),
        earlier=tuple(
            Choice(_dated(s), looking.to(against=s.id), compared is not None and s.id == compared.id) for s in earlier[:MOST_EARLIER]
        ),
        remarks=tuple(remarks), rows=tuple(rows), meshes=_meshes(record, sheet, before), looked=looked,
        following=rows[(here + 1) % len(rows)] if rows else None, previous=rows[here - 1] if rows else None,
        why=sheet.why, lost=tuple((k, p.backing, p.why or "") for k, p in enumerate(reading.photos) if not p.found) if reading else (),
        accepted=sheet.faults is not None,
        nothing=nothing_read(sheet),
        unread=tuple((words.display(b.channel), b.why or "") for b in blocks if not b.read and b.kind == "marks") if found else (),
        blocks=tuple((b.id, words.display(b.id)) for b in record.layout.blocks if isinstance(b, MarksBlock)),
        changed=tuple(_told(c) for c in sheet.changes if not c.undone), can_undo=any(not c.undone for c in sheet.changes), can_redo=any(c.undone for c in sheet.changes),
    )  # fmt: skip


MOST_EARLIER = 40  # earlier sheets offered for comparison


def _lamp(record: PrinterRecord, reading: Reading, looking: Looking, looked: FaultRow | None) -> int:
    """Which of the photos lies on the table: the one asked for, or the one that shows the mark under the loupe."""
    wanted = looking.lamp
    if not wanted and looked is not None:
        wanted = next((b.backing for b in record.layout.blocks if b.id == looked.block), "")
    return next((k for k, p in enumerate(reading.photos) if p.backing == wanted), 0)


def _lamps(reading: Reading | None, looking: Looking, shown: int | None) -> tuple[Choice, ...]:
    if reading is None or len(reading.photos) < 2:
        return ()
    return tuple(
        Choice(p.backing, looking.to(lamp=p.backing, only=""), k == shown) for k, p in enumerate(reading.photos)
    )


def _pulls(record: PrinterRecord, looking: Looking) -> tuple[Choice, ...]:
    seen = {b.channel: b.backing for b in reversed(record.layout.blocks)}
    ways = [Choice("all channels", looking.to(only=""), not looking.only)]
    return tuple(
        ways + [Choice(words.display(c), looking.to(only=c, lamp=seen[c]), looking.only == c) for c in reversed(seen)]
    )


def _earlier(store: Store, sheet: SheetRecord) -> list[SheetRecord]:
    """Accepted sheets before this one, newest first."""
    kept = [
        s for s in store.sheets(sheet.printer_id, accepted=True) if s.faults and (s.at, s.id) < (sheet.at, sheet.id)
    ]
    return kept[::-1]


def _under(store: Store, earlier: SheetRecord | None, backing: Backing) -> str:
    compared = store.sheet(earlier.id) if earlier is not None and earlier.read else None
    if compared is None or compared.reading is None or compared.why:
        return ""
    place = next((k for k, p in enumerate(compared.reading.photos) if p.backing == backing and p.found), None)
    return "" if place is None else f"/sheets/{compared.id}/straight.jpg" + (f"?place={place}" if place else "")


def _dated(sheet: SheetRecord) -> str:
    count = words.fault_count(sheet.faults)
    said = f"{count} faults" if count > 1 else "one fault" if count else "clear: a reference"
    return f"{sheet.at:%-d %b, %H:%M} · {said}"


def _told(change: Change) -> str:
    """A correction in words, the machine's own answer beside it."""
    name = words.display(change.block)
    if not change.nozzles:
        return f"{name}: the whole block {'absent' if change.state == 'missing' else change.state}, by {change.person} at {change.at.astimezone():%H:%M}"
    was = sorted(set(change.was.values()))
    shown = ", ".join(map(str, change.nozzles[:6])) + (" and more" if len(change.nozzles) > 6 else "")
    return f"{name} {shown}: {change.state}, read as {' or '.join(was)}, by {change.person} at {change.at.astimezone():%H:%M}"


def _rows(sheet: SheetRecord, before: dict[str, ChannelFaults] | None) -> list[FaultRow]:
    rows = []
    for block in sheet.reading.blocks if sheet.reading else ():
        old = (before or {}).get(block.channel)
        known = set() if old is None else {*old.missing, *old.weak, *old.deflected}
        for fault in block.faults:
            detail = ""
            if fault.state == "weak" and fault.ink is not None:
                detail = f"{fault.ink:.0%} of its ink"
            elif fault.state == "deflected" and fault.offset_um:
                detail = f"{abs(fault.offset_um[1]) / 1000:.2f} mm {'down' if fault.offset_um[1] >= 0 else 'up'}"
            stayed = (
                None
                if before is None or fault.state == "unsure" or old is None
                else fault.nozzle in known or old.all_missing
            )
            sure = words.sure(fault.confidence)
            rows.append(
                FaultRow(
                    f"{block.id}:{fault.nozzle}",
                    words.display(block.channel),
                    fault.nozzle,
                    fault.state,
                    stayed,
                    detail,
                    sure,
                    block.id,
                )
            )
    return rows


def _meshes(record: PrinterRecord, sheet: SheetRecord, before: dict[str, ChannelFaults] | None) -> tuple[MeshRow, ...]:
    out = []
    marks = {b.channel for b in record.layout.blocks if isinstance(b, MarksBlock)}
    for channel in record.printer.channels:
        if channel.name not in marks:
            continue
        if sheet.reading is not None:
            holes = sieve.holes_of_blocks(
                [b for b in sheet.reading.blocks if b.channel == channel.name], channel.nozzles
            )
        else:
            holes = sieve.holes_of_faults((sheet.faults or {}).get(channel.name), channel.nozzles)
        old = (
            sieve.holes_of_faults(before[channel.name], channel.nozzles) if before and channel.name in before else None
        )
        name = words.display(channel.name)
        aside = ""
        if old is not None and holes.read:
            now, then = (
                {n for n, s in holes.states.items() if s != "unsure"},
                {n for n, s in old.states.items() if s != "unsure"},
            )
            counts = ((len(now & then), "stayed"), (len(now - then), "new"), (len(then - now), "reopened"))
            aside = ", ".join(f"{n} {word}" for n, word in counts if n)
        out.append(
            MeshRow(
                channel.name,
                name,
                sieve.mesh(holes, old, record.inks.get(channel.name, NO_INK), label=name),
                sieve.describe(holes),
                aside,
            )
        )
    return tuple(out)
