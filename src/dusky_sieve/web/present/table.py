"""The light table: what was read, drawn over the straightened photo, and the mesh of every channel."""

from dataclasses import dataclass, replace

from dusky_sieve import services
from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading import Change
from dusky_sieve.drawing import sieve, straight
from dusky_sieve.store import PrinterRecord, SheetRecord, Store
from dusky_sieve.web import words
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

    channel: str
    svg: str
    words: str
    aside: str


@dataclass(frozen=True)
class LightTable:
    """Everything the page lays out. `overlay` is empty where the sheet was not found or came without a photo."""

    heading: str
    aside: str
    overlay: str
    rows: tuple[FaultRow, ...]
    meshes: tuple[MeshRow, ...]
    looked: FaultRow | None
    following: FaultRow | None
    warnings: tuple[str, ...]
    why: str | None
    accepted: bool
    unread: tuple[tuple[str, str], ...]
    blocks: tuple[tuple[str, str], ...]
    changed: tuple[str, ...]
    can_undo: bool
    can_redo: bool


def light_table(store: Store, record: PrinterRecord, sheet: SheetRecord, look: str) -> LightTable:
    """The view of one sheet; `look` names the fault under the loupe as block:nozzle."""
    machine = sheet.reading
    if machine is not None and not sheet.why:
        sheet = replace(sheet, reading=services.reading_now(sheet, record))
    before = _before(store, record, sheet)
    rows = _rows(sheet, before)
    order = {b.id: i for i, b in enumerate(record.layout.blocks)}
    rows.sort(key=lambda r: (r.state != "unsure", order.get(r.block, 0), r.nozzle))
    at = next((i for i, r in enumerate(rows) if r.key == look), None)
    reading, found = sheet.reading, bool(sheet.reading and sheet.reading.photos and sheet.reading.photos[0].found)
    overlay = ""
    if reading and found:
        links = {(r.block, r.nozzle): f"/sheets/{sheet.id}?look={r.key}#loupe" for r in rows}
        overlay = straight.overlay(record.layout, reading, f"/sheets/{sheet.id}/straight.jpg", links)
    blocks = reading.blocks if reading else ()
    marks = sum(sum((b.counts or {}).values()) for b in blocks)
    return LightTable(
        heading=_heading(sheet, rows), aside=f"{marks} marks looked at" if marks else "told by hand" if sheet.faults else "",
        overlay=overlay, rows=tuple(rows), meshes=_meshes(record, sheet, before), looked=rows[at] if at is not None else rows[0] if rows else None,
        following=rows[((at or 0) + 1) % len(rows)] if rows else None,
        warnings=tuple(w.message for photo in (reading.photos if reading else ()) for w in photo.warnings), why=sheet.why, accepted=sheet.faults is not None,
        unread=tuple((words.display(b.channel), b.why or "") for b in blocks if not b.read and b.kind == "marks") if found else (),
        blocks=tuple((b.id, words.display(b.id)) for b in record.layout.blocks if isinstance(b, MarksBlock)),
        changed=tuple(_told(c) for c in sheet.changes if not c.undone), can_undo=any(not c.undone for c in sheet.changes), can_redo=any(c.undone for c in sheet.changes),
    )  # fmt: skip


def _told(change: Change) -> str:
    """A correction in words, the machine's own answer beside it."""
    name = words.display(change.block)
    if not change.nozzles:
        return f"{name}: the whole block {'absent' if change.state == 'missing' else change.state}, by {change.person}"
    was = sorted(set(change.was.values()))
    shown = ", ".join(map(str, change.nozzles[:6])) + (" and more" if len(change.nozzles) > 6 else "")
    return f"{name} {shown}: {change.state}, read as {' or '.join(was)}, by {change.person}"


def _before(store: Store, record: PrinterRecord, sheet: SheetRecord) -> dict[str, ChannelFaults] | None:
    earlier = [s for s in store.sheets(record.id) if s.faults is not None and (s.at, s.id) < (sheet.at, sheet.id)]
    return earlier[-1].faults if earlier else None


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


def _heading(sheet: SheetRecord, rows: list[FaultRow]) -> str:
    if sheet.why:
        return "The sheet was not found on this photo."
    if sheet.reading is None:
        count = words.fault_count(sheet.faults)
        return f"{words.capital(words.plural(count, 'fault'))} {'was' if count == 1 else 'were'} told by hand."
    unsure = sum(r.state == "unsure" for r in rows)
    faults = len(rows) - unsure
    said = (
        f"{words.capital(words.plural(faults, 'fault'))} {'is' if faults == 1 else 'are'} read."
        if faults
        else "No fault is read."
    )
    return said + (
        f" {words.capital(words.plural(unsure, 'mark'))} {'is' if unsure == 1 else 'are'} unsure." if unsure else ""
    )


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
                name,
                sieve.mesh(holes, old, record.inks.get(channel.name, NO_INK), label=name),
                sieve.describe(holes),
                aside,
            )
        )
    return tuple(out)
