"""What printers do to a sheet besides: its blocks out of line, paper fed askew and unevenly, marks of another size, other paper, a print that stopped.

Each kind changes what is printed and its truth, never the layout that it is read by.
"""

from collections.abc import Callable, Collection

import numpy as np

from benchmarks.afterwards import one_of
from dusky_sieve.core.layout import Layout, MarksBlock, SolidBlock, mark_centres
from dusky_sieve.core.simulate import BlockTruth, Truth

Printed = tuple[Layout, Truth]
Kind = Callable[[Layout, Truth, np.random.Generator], Printed]

PAPERS = ((0.55, 0.40, 0.26), (0.85, 0.60, 0.65), (0.50, 0.65, 0.85), (0.38, 0.38, 0.37))
MIRRORED = "mirrored"  # as film on its face is, or a photo of a camera that mirrors: to be refused


def _shifted(truth: Truth, shifts_mm: dict[str, tuple[float, float]]) -> Truth:
    blocks = dict(truth.blocks)
    for name, (x, y) in shifts_mm.items():
        faults = blocks.get(name, BlockTruth())
        own = faults.shift_um
        blocks[name] = faults.model_copy(update={"shift_um": (own[0] + 1000 * x, own[1] + 1000 * y)})
    return truth.model_copy(update={"blocks": blocks})


def _out_of_line(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    """Each block where its colour's alignment put it: 0.15 mm one-sigma either way."""
    marks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    return layout, _shifted(truth, {b.id: tuple(rng.normal(0, 0.15, 2)) for b in marks})


def _second_head(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    """The second half of all blocks by the same 0.15 to 0.6 mm, as a head that was never aligned."""
    off = tuple(rng.uniform(0.15, 0.6, 2) * rng.choice([-1, 1], 2))
    marks = [b for b in layout.blocks if isinstance(b, MarksBlock)]
    return layout, _shifted(truth, {b.id: off for b in marks[len(marks) // 2 :]})


def _of(faults: BlockTruth, numbers: Collection[int]) -> BlockTruth:
    """A block's faults, of those nozzles alone."""
    some = {
        "missing": tuple(n for n in faults.missing if n in numbers),
        "weak": tuple(w for w in faults.weak if w.nozzle in numbers),
        "deflected": tuple(d for d in faults.deflected if d.nozzle in numbers),
    }
    return faults.model_copy(update=some)


def _askew(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    """Fed up to half a degree askew, and up to an eightieth too far or too little."""
    shear, stretch = float(rng.uniform(-0.008, 0.008)), float(rng.uniform(0.988, 1.012))

    def led(step: tuple[float, float]) -> tuple[float, float]:
        return step[0] + shear * step[1], step[1] * stretch

    def moved(block: MarksBlock | SolidBlock) -> MarksBlock | SolidBlock:
        if isinstance(block, SolidBlock):
            return block.model_copy(
                update={"origin": led(block.origin), "size": (block.size[0], block.size[1] * stretch)}
            )
        return block.model_copy(
            update={key: led(getattr(block, key)) for key in ("origin", "column_pitch", "row_pitch")}
        )

    return layout.model_copy(update={"blocks": tuple(moved(b) for b in layout.blocks)}), truth


def _fed_unevenly(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    """Each row of a block where the paper stood then: 0.3 nozzle pitches one-sigma too high or too low."""
    blocks: list[MarksBlock | SolidBlock] = []
    faults = dict(truth.blocks)
    for b in layout.blocks:
        if isinstance(b, SolidBlock):
            blocks.append(b)
            continue
        for r, first in enumerate(range(0, b.nozzles, b.columns)):
            numbers = b.numbers[first : first + b.columns]
            at = np.array(b.origin) + r * np.array(b.row_pitch) + (0.0, rng.normal(0, 0.3 * b.nozzle_pitch))
            of_row = {"id": f"{b.id}, row {r}", "origin": tuple(at.tolist()), "nozzles": len(numbers), "first_nozzle": numbers[0]}  # fmt: skip
            blocks.append(b.model_copy(update=of_row))
            faults[blocks[-1].id] = _of(truth.blocks.get(b.id, BlockTruth()), numbers)
    return layout.model_copy(update={"blocks": tuple(blocks)}), truth.model_copy(update={"blocks": faults})


def _sized(long: float, thick: float) -> Kind:
    """Marks so many times as long and as thick as the layout says."""

    def printed(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
        blocks = tuple(
            b.model_copy(update={"mark": (b.mark[0] * long, b.mark[1] * thick)}) if isinstance(b, MarksBlock) else b
            for b in layout.blocks
        )
        return layout.model_copy(update={"blocks": blocks}), truth

    return printed


def _scene(truth: Truth, **changes: object) -> Truth:
    return truth.model_copy(update={"scene": truth.scene.model_copy(update=changes)})


def _coloured(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    return layout, _scene(truth, paper=PAPERS[int(rng.integers(len(PAPERS)))])


def _rough(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    return layout, _scene(truth, ragged=1.0, bleed_um=45.0, ink_spread=0.14)


def _stopped(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    """Nothing below a third to three quarters of the sheet."""
    foot, blocks = float(rng.uniform(0.35, 0.75)) * layout.size[1], dict(truth.blocks)
    for b in layout.blocks:
        faults = blocks.get(b.id, BlockTruth())
        if isinstance(b, MarksBlock) and not faults.all_missing:
            gone = {n for n, y in zip(b.numbers, mark_centres(b)[:, 1], strict=True) if y > foot}
            kept = _of(faults, set(b.numbers) - gone)
            none = {"missing": tuple(sorted(gone | set(faults.missing)))}
            blocks[b.id] = BlockTruth(all_missing=True) if len(gone) == b.nozzles else kept.model_copy(update=none)
    return layout, truth.model_copy(update={"blocks": blocks})


def _as_is(layout: Layout, truth: Truth, rng: np.random.Generator) -> Printed:
    return layout, truth


KINDS: dict[str, Kind] = {
    "out of line": _out_of_line, "second head": _second_head, "thick": _sized(1.0, 1.7), "thin": _sized(1.0, 0.5), "short": _sized(0.8, 1.0),
    "askew": _askew, "fed unevenly": _fed_unevenly, "coloured": _coloured, "rough": _rough, "stopped": _stopped, MIRRORED: _as_is,
}  # fmt: skip


def printed(layout: Layout, truth: Truth, kind: str, seed: int) -> tuple[Layout, Truth, str]:
    """What a printer of this kind prints of a layout, its truth, and which kind it was."""
    kind = one_of(KINDS, kind, seed)
    return *KINDS[kind](layout, truth, np.random.default_rng([seed, 919])), kind
