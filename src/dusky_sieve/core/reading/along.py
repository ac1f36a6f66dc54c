"""Every block with its columns along travel, whichever way its lattice was written down.

A layout's one formula also covers nozzles that follow each other down the sheet first, or one by one in rows of their own
that lie beside each other. What finds and measures takes columns to be along travel and rows along feed, so such a block is
read as one that has, with the same marks at the same places; its nozzles are numbered back afterwards.
"""

from collections import Counter
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Layout, MarksBlock, SolidBlock
from dusky_sieve.core.reading.document import BlockReading, Fault, Reading, Warned

Numbers = NDArray[np.int64]
Step = tuple[float, float]

PARALLEL = 1e-9  # mm², that two steps span, below which they lie on one line


@dataclass(frozen=True)
class Piece:
    """A block as it is read: the id of the layout's own block, and the nozzle (n,) that each of its marks belongs to there."""

    of: str
    nozzles: Numbers


def along_travel(layout: Layout) -> tuple[Layout, dict[str, Piece]]:
    """The layout as it is read, and by id those of its blocks that are read in place of others."""
    blocks: list[MarksBlock | SolidBlock] = []
    pieces: dict[str, Piece] = {}
    taken = {block.id for block in layout.blocks}
    for block in layout.blocks:
        if isinstance(block, SolidBlock):
            blocks.append(block)
            continue
        parts = _parts(block)
        if not parts:
            blocks.append(_stepped(block))
        for part, nozzles in parts:
            name = block.id
            while name in pieces or (
                name in taken and name != block.id
            ):  # of two parts the smaller one has a name that nobody gave
                name += " "
            blocks.append(_stepped(part.model_copy(update={"id": name})))
            pieces[name] = Piece(block.id, nozzles)
    return layout.model_copy(update={"blocks": tuple(blocks)}), pieces


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
        own = [(named[name], piece) for name, piece in pieces.items() if piece.of == block.id]
        blocks.append(_joined(own) if own else named[block.id])
    photos = tuple(p.model_copy(update={"warnings": tuple(_renamed(w, pieces) for w in p.warnings)}) for p in reading.photos)  # fmt: skip
    return reading.model_copy(update={"photos": photos, "blocks": tuple(blocks)})


def _joined(parts: list[tuple[BlockReading, Piece]]) -> BlockReading:
    """One block's reading from those of its parts, the larger one first; what of it was not read is unsure."""
    (main, piece), *_ = parts
    if not any(read.read for read, _ in parts):
        return main.model_copy(update={"id": piece.of})
    counts: Counter[str] = Counter()
    faults: list[Fault] = []
    for read, part in parts:
        counts.update(read.counts or {"unsure": len(part.nozzles)})
        own = read.faults if read.read else [Fault(nozzle=n + 1, state="unsure") for n in range(len(part.nozzles))]
        faults += [f.model_copy(update={"nozzle": int(part.nozzles[f.nozzle - 1])}) for f in own]
    shift = next(read.shift_um for read, _ in parts if read.read)
    faults.sort(key=lambda fault: fault.nozzle)
    return main.model_copy(update={"id": piece.of, "read": True, "why": None, "shift_um": shift, "counts": dict(counts), "faults": tuple(faults)})  # fmt: skip


def _renamed(warned: Warned, pieces: dict[str, Piece]) -> Warned:
    if warned.block not in pieces:
        return warned
    own = pieces[warned.block].of
    return warned.model_copy(update={"block": own, "message": warned.message.replace(f" {warned.block} ", f" {own} ")})
