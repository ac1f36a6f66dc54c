"""A reading as a person corrected it: the machine's own answer stays, changes lie on top, each can be taken back."""

import re
from collections.abc import Iterable
from datetime import datetime
from typing import Literal

from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import Frozen, Layout, MarksBlock, mark_centres
from dusky_sieve.core.reading.document import BlockReading, Fault, Reading

MarkState = Literal["firing", "missing", "weak", "deflected", "unsure"]


class Change(Frozen):
    """What somebody set. `nozzles` empty means the whole block; `was` is the machine's answer for each that differs."""

    block: str
    nozzles: tuple[int, ...] = ()
    state: MarkState
    was: dict[int, MarkState] = {}
    person: str
    at: datetime
    undone: bool = False


def numbers_of(text: str, name: str, numbers: range) -> tuple[int, ...]:
    """Nozzle numbers from `40-43, 97`, of those there are; UnusableInput names the piece at fault."""
    found: set[int] = set()
    for piece in re.split(r"[,;\s]+", text.strip()):
        if not piece:
            continue
        match = re.fullmatch(r"(\d{1,7})(?:[-–](\d{1,7}))?", piece)
        if match is None:
            raise UnusableInput(f"{name}: expected numbers such as 40-43, 97, found “{piece[:20]}”.")
        first, last = int(match[1]), int(match[2] or match[1])
        if first not in numbers or last not in numbers or last < first:
            raise UnusableInput(f"{name}: its nozzles run from {numbers[0]} to {numbers[-1]}, found “{piece[:20]}”.")
        found |= {n for n in range(first, last + 1) if n in numbers}
    return tuple(sorted(found))


def marks_within(layout: Layout, box: tuple[float, float, float, float]) -> dict[str, tuple[int, ...]]:
    """Nozzles whose marks lie in a box of sheet mm (left, top, right, bottom), by block id; blocks without one left out."""
    left, top, right, bottom = box
    found: dict[str, tuple[int, ...]] = {}
    for block in layout.blocks:
        if isinstance(block, MarksBlock):
            x, y = mark_centres(block).T
            inside = (x >= left) & (x <= right) & (y >= top) & (y <= bottom)
            if inside.any():
                found[block.id] = tuple(n for n, here in zip(block.numbers, inside, strict=True) if here)
    return found


def taken_back(changes: tuple[Change, ...], *, again: bool = False) -> tuple[Change, ...] | None:
    """Changes with the last act taken back, or with `again` the one last taken back put on again; None: there is none.

    What was set in one act, such as by a box over two blocks, carries one time and goes together.
    """
    at = [c.at for c in changes if c.undone == again]
    if not at:
        return None
    chosen = at[0] if again else at[-1]
    return tuple(c.model_copy(update={"undone": not again}) if c.at == chosen else c for c in changes)


def corrected(reading: Reading, layout: Layout, changes: Iterable[Change]) -> Reading:
    """The reading with the changes that were not taken back, in order."""
    blocks = {b.id: b for b in reading.blocks}
    plans = {b.id: b for b in layout.blocks if isinstance(b, MarksBlock)}
    for change in changes:
        if not change.undone and change.block in plans:
            blocks[change.block] = _changed(blocks[change.block], plans[change.block], change)
    return reading.model_copy(update={"blocks": tuple(blocks[b.id] for b in reading.blocks)})


def states_of(block: BlockReading) -> dict[int, MarkState]:
    """The state of every mark that does not fire."""
    return {fault.nozzle: fault.state for fault in block.faults}


def _changed(block: BlockReading, plan: MarksBlock, change: Change) -> BlockReading:
    kept = {fault.nozzle: fault for fault in block.faults}
    if not block.read:  # nothing was seen here; what a person says stands, the rest is unsure
        kept = {n: Fault(nozzle=n, state="unsure") for n in plan.numbers}
    for nozzle in change.nozzles or plan.numbers:
        if change.state == "firing":
            kept.pop(nozzle, None)
        else:
            kept[nozzle] = Fault(nozzle=nozzle, state=change.state)
    faults = tuple(kept[n] for n in sorted(kept))
    counts = dict.fromkeys(("firing", "missing", "deflected", "weak", "unsure"), 0)
    for fault in faults:
        counts[fault.state] += 1
    counts["firing"] = plan.nozzles - len(faults)
    return block.model_copy(update={"read": True, "why": None, "faults": faults, "counts": counts})
