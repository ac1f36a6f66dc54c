"""Every block with its columns along travel, whichever way its lattice was written down, and banks that make one lattice as one.

A layout's one formula also covers nozzles that follow each other down the sheet first, or one by one in rows of their own
that lie beside each other. What finds and measures takes columns to be along travel and rows along feed, so such a block is
read as one that has, with the same marks at the same places; its nozzles are numbered back afterwards. So are those of odd and
even banks whose columns stand between each other's: apart, each looks right where the other is.
"""

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, SolidBlock, extent, mark_centres, marks_over, near_by
from dusky_sieve.core.reading.document import BlockReading, Fault, Reading, Warned

Numbers = NDArray[np.int64]
Step = tuple[float, float]

PARALLEL = 1e-9  # mm², that two steps span, below which they lie on one line
# In which banks of one lattice may differ.
OF_A_BANK = {"id", "origin", "nozzles", "columns", "first_nozzle", "nozzle_step"}
ONE_LATTICE = 0.2  # of a mark's thickness, by which banks may miss the places of the lattice that they make together


@dataclass(frozen=True)
class Piece:
    """A block as it is read: the ids of the layout's own blocks it stands for, which of them (n,) each mark is of, and its nozzle (n,) there."""

    of: tuple[str, ...]
    whose: Numbers
    nozzles: Numbers

    def some(self, numbers: Numbers) -> "Piece":
        """Of marks (m,) alone, numbered from 1."""
        return Piece(self.of, self.whose[numbers - 1], self.nozzles[numbers - 1])


def along_travel(layout: Layout) -> tuple[Layout, dict[str, Piece]]:
    """The layout as it is read, and by id those of its blocks that are read in place of others."""
    blocks: list[MarksBlock | SolidBlock] = []
    pieces: dict[str, Piece] = {}
    taken = {block.id for block in layout.blocks}
    for block, whole in _woven(layout):
        if isinstance(block, SolidBlock):
            blocks.append(block)
            continue
        piece = whole or Piece((block.id,), np.zeros(block.nozzles, np.int64), np.array(block.numbers))
        numbered = block.model_copy(update={"first_nozzle": 1, "nozzle_step": 1})
        parts = _parts(numbered) or ([(numbered, np.arange(1, block.nozzles + 1))] if whole else [])
        if not parts:
            blocks.append(_stepped(block))
        for part, numbers in parts:
            name = block.id
            while name in pieces or (
                name in taken and name != block.id
            ):  # of two parts the smaller one has a name that nobody gave
                name += " "
            blocks.append(_stepped(part.model_copy(update={"id": name})))
            pieces[name] = piece.some(numbers)
    return layout.model_copy(update={"blocks": tuple(blocks)}), pieces


def _woven(layout: Layout) -> Iterator[tuple[MarksBlock | SolidBlock, Piece | None]]:
    """The layout's blocks, banks that make one lattice together as one block and what it stands for."""
    done: set[str] = set()
    for block in layout.blocks:
        if block.id in done:
            continue
        banks = _banks(block, layout) if isinstance(block, MarksBlock) else []
        one = _one_lattice(banks) if len(banks) > 1 else None
        done |= {bank.id for bank in banks} if one else set()
        yield one or (block, None)


def _banks(block: MarksBlock, layout: Layout) -> list[MarksBlock]:
    """A block and those about it with the same channel's marks on a lattice of the same steps, as its columns follow each other."""
    own = block.model_dump(exclude=OF_A_BANK)
    found = [b for b in near_by(extent(block), marks_over(layout, block.backing)) if b.model_dump(exclude=OF_A_BANK) == own]  # fmt: skip
    return sorted(found, key=lambda bank: float(np.dot(bank.origin, block.column_pitch)))


def _one_lattice(banks: list[MarksBlock]) -> tuple[MarksBlock, Piece] | None:
    """Banks as one block whose columns are theirs by turns, and what it stands for; None where they are not."""
    first, turns = banks[0], len(banks)
    wide, many = sum(bank.columns for bank in banks), sum(bank.nozzles for bank in banks)
    step = tuple(v / turns for v in first.column_pitch)
    one = first.model_copy(update={"nozzles": many, "columns": wide, "column_pitch": step})
    whose, nozzles = np.full(many, -1), np.zeros(many, np.int64)
    for k, bank in enumerate(banks):
        row, column = np.divmod(np.arange(bank.nozzles), bank.columns)
        at = row * wide + column * turns + k
        if at.max() >= many or not np.allclose(
            mark_centres(one)[at], mark_centres(bank), atol=ONE_LATTICE * bank.mark[1]
        ):
            return None
        whose[at], nozzles[at] = k, bank.numbers
    return (one, Piece(tuple(bank.id for bank in banks), whose, nozzles)) if (whose >= 0).all() else None


def _parts(block: MarksBlock) -> list[tuple[MarksBlock, Numbers]]:
    """What is read in a block's place, and the nozzles (n,) of each part's marks; nothing where the block is read as it is."""
    if not _in_line(block):
        return _turned(block) if _is_down(block) else []
    rows = [(nozzles, _parts(row) or [(row, np.array(row.numbers))]) for row, nozzles in _lines(block)]
    return [(part, nozzles[own - 1]) for nozzles, parts in rows for part, own in parts]


def _in_line(block: MarksBlock) -> bool:
    """Whether a block's rows follow each other on the one line that its columns lie on."""
    (cx, cy), (rx, ry) = block.column_pitch, block.row_pitch
    return 1 < block.columns < block.nozzles and abs(cx * ry - cy * rx) < PARALLEL


def _lines(block: MarksBlock) -> list[tuple[MarksBlock, Numbers]]:
    """The same marks as one row, or, where the steps between rows are others than those between columns, as many as there are."""
    column, row = np.array(block.column_pitch), np.array(block.row_pitch)
    length = block.nozzles if np.allclose(row, block.columns * column) else block.columns
    numbers, parts = np.array(block.numbers), []
    for first in range(0, block.nozzles, length):
        own = numbers[first : first + length]
        origin = tuple(float(v) for v in np.array(block.origin) + first // block.columns * row)
        update = {"origin": origin, "nozzles": len(own), "columns": len(own), "first_nozzle": 1, "nozzle_step": 1}
        parts.append((block.model_copy(update=update), own))
    return parts


def _is_down(block: MarksBlock) -> bool:
    """Whether a block's rows rather than its columns lie beside each other along travel."""
    columns, rows = min(block.columns, block.nozzles), -(-block.nozzles // block.columns)
    down, beside = (_steepness(step) if count > 1 else 1.0 for step, count in ((block.column_pitch, columns), (block.row_pitch, rows)))  # fmt: skip
    return beside < down


def _steepness(step: Step) -> float:
    return abs(step[1]) / (abs(step[0]) + 1e-9)


def _turned(block: MarksBlock) -> list[tuple[MarksBlock, Numbers]]:
    """The same marks with columns and rows exchanged, and their nozzles: in two parts where the last column is short."""
    down = min(block.columns, block.nozzles)
    beside = -(-block.nozzles // block.columns)
    last = block.nozzles - (beside - 1) * down  # of the last column, how many there are
    parts = []
    for top, foot, columns in ((0, last, beside), (last, down, beside - 1)):
        if foot > top:
            row, column = np.divmod(np.arange((foot - top) * columns), columns)
            origin = tuple(at + top * step for at, step in zip(block.origin, block.column_pitch, strict=True))
            part = block.model_copy(update={
                "origin": origin, "nozzles": len(row), "columns": columns, "first_nozzle": 1, "nozzle_step": 1,
                "column_pitch": block.row_pitch, "row_pitch": block.column_pitch,
            })  # fmt: skip
            parts.append((part, np.array(block.numbers)[column * down + top + row]))
    return sorted(parts, key=lambda part: -part[0].nozzles)


def _stepped(block: MarksBlock) -> MarksBlock:
    """The block with steps that are some length, where it has but one column or row and its step was left at nothing."""
    (cx, cy), (rx, ry), (length, thick) = block.column_pitch, block.row_pitch, block.mark
    if abs(cx * ry - cy * rx) >= PARALLEL:
        return block
    if block.nozzles <= block.columns:
        return block.model_copy(update={"row_pitch": (0.0, max(8 * block.nozzle_pitch, 4 * thick))})
    return block.model_copy(update={"column_pitch": (1.5 * length, 0.0)}) if block.columns == 1 else block


def numbered_back(reading: Reading, layout: Layout, pieces: dict[str, Piece]) -> Reading:
    """The reading by the layout's own blocks and nozzle numbers."""
    if not pieces:
        return reading
    named = {b.id: b for b in reading.blocks}
    blocks = []
    for block in layout.blocks:
        own = [(named[name], piece) for name, piece in pieces.items() if block.id in piece.of]
        blocks.append(_joined(block.id, own) if own else named[block.id])
    photos = tuple(p.model_copy(update={"warnings": tuple(said for w in p.warnings for said in _renamed(w, pieces))}) for p in reading.photos)  # fmt: skip
    return reading.model_copy(update={"photos": photos, "blocks": tuple(blocks)})


def _joined(own: str, parts: list[tuple[BlockReading, Piece]]) -> BlockReading:
    """One block's reading, by its id, from those of its parts, the larger one first; what of it was not read is unsure."""
    told = [read for read, _ in parts if read.read]
    if not told:
        read, _ = parts[0]
        return read.model_copy(update={"id": own, "why": read.why and _by_name(read.why, read.id, own)})
    counts = Counter(dict.fromkeys(told[0].counts or {}, 0))
    faults: list[Fault] = []
    for read, part in parts:
        here = part.whose == part.of.index(own)
        said = read.faults if read.read else [Fault(nozzle=n + 1, state="unsure") for n in range(len(here))]
        mine = [f.model_copy(update={"nozzle": int(part.nozzles[f.nozzle - 1])}) for f in said if here[f.nozzle - 1]]
        counts.update([f.state for f in mine])
        counts["firing"] += int(here.sum()) - len(mine)
        faults += mine
    faults.sort(key=lambda fault: fault.nozzle)
    return told[0].model_copy(update={"id": own, "counts": dict(counts), "faults": tuple(faults)})


def _renamed(warned: Warned, pieces: dict[str, Piece]) -> list[Warned]:
    """A warning of a block as it is read, of each of the layout's own that it stands for."""
    if warned.block not in pieces:
        return [warned]
    return [
        warned.model_copy(update={"block": own, "message": _by_name(warned.message, warned.block, own)})
        for own in pieces[warned.block].of
    ]


def _by_name(said: str, as_read: str, own: str) -> str:
    """What was said of a block as it is read, of one of the layout's own."""
    return said.replace(f" {as_read} ", f" {own} ")
