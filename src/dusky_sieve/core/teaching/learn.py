"""The layout of an unseen sheet from a photograph of a good one."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from dusky_sieve.core.errors import SheetNotFound, UnusableInput, first_fault
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, SolidBlock, extent
from dusky_sieve.core.reading.compiled import on_one_core
from dusky_sieve.core.reading.document import Reading
from dusky_sieve.core.reading.registration import Registration, inverse, project, rigid
from dusky_sieve.core.reading.sheet import UprightPhoto, read_sheet
from dusky_sieve.core.teaching.assign import (
    LEVEL,
    STEEP,
    Assigned,
    Piece,
    assign,
    boxed,
    levelled,
    like_most,
    pieces_of,
    without_doubles,
)
from dusky_sieve.core.teaching.complete import by_their_like, widened
from dusky_sieve.core.teaching.fills import solid_pieces
from dusky_sieve.core.teaching.grow import (
    HIGHEST_STEPS,
    LAST_RUN,
    as_long_as,
    chained,
    cut,
    grown,
    grown_rows,
    links_beside,
    shared_out,
    trimmed,
    unwoven,
    usual_lengths,
)
from dusky_sieve.core.teaching.plane import TEACHING_PX, Plane, planes
from dusky_sieve.core.teaching.spec import KnownBlock, Spec
from dusky_sieve.core.teaching.straighten import CONTINUED, Cells, Lattice, cells_of, laid, lattices

Floats = NDArray[np.float64]

BACKINGS: tuple[Backing, ...] = ("light", "dark")
CLEARLY = 1.15  # score of the least block, from which no further attempt is made
BETTER = 1.02  # ratio of scores from which the less upright way round is believed
# Of a block's marks that must read as printed when the sheet is read with its own layout: each of 45 blocks taught rightly reads 0.92 at
# least, one of touching runs whose columns were laid three times as far apart against its rows 0.74.
LEAST_FIRING = 0.8
APART_MM = 3.0  # between what was seen over light and over dark, whose distance no photo shows
MARKS_DIFFER = (
    1.8  # ratio by which a stroke may be thicker or thinner than a nozzle pitch, for rows to be taken to follow on
)
EVENED = 5  # times that marks are placed along runs, on the plane that the last time gave: where it leans, they are not even on the photo
DRAWN_THIN = 0.75  # of a stroke's measured thickness that is the mark: the rest is blur


@dataclass(frozen=True)
class Taught:
    """A layout, the photos it came from read with it as proof, and what should be checked by hand."""

    layout: Layout
    reading: Reading
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Part:
    """What one photo shows: blocks in mm from 0, 0, the size of their box, (3, 3) from those mm to the photo, and by block their marks there."""

    blocks: list[dict[str, Any]]
    size: tuple[float, float]
    to_photo: Floats
    marks: list[tuple[str, Cells]]


@on_one_core
def teach(spec: Spec, photos: list[UprightPhoto]) -> Taught:
    """The layout of the sheet on the photos, one per backing.

    Raises UnusableInput where a backing has no photo, SheetNotFound naming the block where no lattice of that many
    marks was found.
    """
    parts: dict[Backing, _Part] = {}
    for backing in BACKINGS:
        known = [b for b in spec.blocks if b.backing == backing]
        if not known:
            continue
        over = [p for p in photos if p.backing == backing]
        if not over:
            raise UnusableInput(
                f"blocks: {known[0].id} is judged over a {backing} backing: add a photo over {backing}."
            )
        parts[backing] = _taught(known, over[0], [b for part in parts.values() for b in part.blocks])
    layout, tops = _document(spec, list(parts.values()))
    # The sheet's place is known; looked for again, one that lies on itself upside down would be a tie.
    placed = [replace(p, placed=_place(layout, parts[p.backing], tops[list(parts).index(p.backing)])) for p in photos if p.backing in parts]  # fmt: skip
    reading = read_sheet(layout, placed)
    for block in reading.blocks:
        counts = block.counts or {}
        if block.kind == "marks" and (not block.read or counts.get("firing", 0) < LEAST_FIRING * sum(counts.values())):
            raise SheetNotFound(
                f"{_file(photos, layout, block.id)}: block {block.id}: a lattice was found, but the sheet does not read with it. "
                "Photograph a better sheet, flat, sharp and from straight above, and check the counts."
            )
    return Taught(layout, reading, tuple(_doubts(spec, layout)))


def _doubts(spec: Spec, layout: Layout) -> Iterator[str]:
    """What no photo tells unless something known does: which way rows are numbered, and the scale of rows that do not step."""
    told_ways = {b.id for b in spec.blocks if b.column_pitch}
    turned = [b.id for b in layout.blocks if isinstance(b, MarksBlock) and b.column_pitch[0] < 0 and b.id not in told_ways]  # fmt: skip
    if turned:
        yield (
            f"Nozzles of {', '.join(turned)} were numbered from the right of each row, so that they follow each other down the "
            "sheet. Where yours begin at the left, give column_pitch in the spec with x above 0 and teach again."
        )
    stepped = any(isinstance(b, MarksBlock) and b.column_pitch[1] for b in layout.blocks)
    told = any(
        b.column_pitch or b.row_pitch or (b.kind == "solid" and b.nozzles and b.nozzle_pitch) for b in spec.blocks
    )
    if not stepped and not told:
        yield (
            "The marks of a row stand side by side, so the photo does not tell the scale; rows were taken to follow on, one "
            "row's nozzles apart, or where marks would then be far from a nozzle pitch thick, marks to be just as thick. "
            "Measure row_pitch in mm, add it to the spec and teach again."
        )


def _file(photos: list[UprightPhoto], layout: Layout, block: str) -> str:
    backing = next(b.backing for b in layout.blocks if b.id == block)
    return next(p.file for p in photos if p.backing == backing)


def _place(layout: Layout, part: _Part, top: float) -> Registration:
    """Where the layout lies on the photo that one part of it was seen on, by the marks seen; that part begins `top` mm below it."""
    blocks = {b.id: b for b in layout.blocks if isinstance(b, MarksBlock)}
    model, at = [], []
    for name, cells in part.marks:
        block = blocks[name]
        model.append(block.origin + np.outer(cells.column, block.column_pitch) + np.outer(cells.row, block.row_pitch))
        at.append(cells.at)
    lower = np.array([[1.0, 0, 0], [0, 1, -top], [0, 0, 1]])
    return laid(np.concatenate(model), np.concatenate(at), rigid(part.to_photo @ lower, layout.size))


def _taught(known: list[KnownBlock], photo: UprightPhoto, before: list[dict[str, Any]]) -> _Part:
    """What one photo shows: the blocks judged over its backing. `before` : blocks in mm that other photos of the sheet showed."""
    found, plane = _best(known, photo)
    missing = [k.id for k, a in zip(known, found, strict=True) if a is None]
    if plane is None or missing:
        block = next(k for k in known if plane is None or k.id in missing)
        what = "no filled rectangle" if block.kind == "solid" else f"no lattice of {block.count} marks"
        raise SheetNotFound(
            f"{photo.file}: block {block.id}: {what} was found in its place in reading order. Photograph a good sheet whole, flat, "
            "sharp and filling the frame, and check the order and the counts."
        )
    whole = [a for a in found if a is not None]
    marks = [a for a in whole if a.known.kind == "marks"]
    factor = np.array([[plane.map.factor, 0, 0.5 * plane.map.factor - 0.5], [0, plane.map.factor, 0.5 * plane.map.factor - 0.5], [0, 0, 1]])  # fmt: skip
    start, strokes = inverse(factor) @ plane.to_map, plane.on_photo(plane.ends.reshape(-1, 2)).reshape(-1, 2, 2)
    for _ in range(EVENED if any(a.piece.kind == "runs" for a in marks) else 1):
        cells = [cells_of(a, start, strokes) for a in marks]
        straight, registration = lattices(marks, cells, start, strokes)
        start = registration.homography
    boxes = [project(inverse(registration.homography), a.piece.ends.reshape(-1, 2)) for a in whole if a.known.kind == "solid"]  # fmt: skip
    scale = _scale(marks, straight, [a.known for a in whole if a.known.kind == "solid"], boxes, _scale_of_like(marks, straight, before))  # fmt: skip
    blocks = iter(_in_mm(a.known, lattice, scale) for a, lattice in zip(marks, straight, strict=True))
    fills = iter(_fill_in_mm(a.known, box * scale) for a, box in zip([a for a in whole if a.known.kind == "solid"], boxes, strict=True))  # fmt: skip
    moved, low, size = _from_zero([next(blocks if a.known.kind == "marks" else fills) for a in whole])
    to_plane = np.array([[1 / scale, 0, low[0] / scale], [0, 1 / scale, low[1] / scale], [0, 0, 1.0]])
    return _Part(moved, size, registration.homography @ to_plane, [(a.known.id, c) for a, c in zip(marks, cells, strict=True)])  # fmt: skip


def _attempts(known: list[KnownBlock], photo: UprightPhoto) -> Iterator[tuple[int, Plane, list[Piece]]]:
    """Pieces found at one size, on one plane, one way round: likeliest first. Numbered by plane and way."""
    counts = {k.count for k in known if k.count}
    fills = any(k.kind == "solid" for k in known)
    least = max(4, int(0.3 * min(counts)))
    for longest in TEACHING_PX:
        for number, plane in enumerate(planes(photo.pixels, photo.backing, longest)):
            pieces = solid_pieces(plane, photo.backing) if fills else []
            for usual in usual_lengths(plane):
                alone = as_long_as(plane, usual)
                beside = links_beside(alone)
                for highest in HIGHEST_STEPS:
                    every = [part for block in grown(alone, highest, beside) for part in unwoven(alone, block) if len(part.strokes) >= least]  # fmt: skip
                    # Whole as it grew, too, where a count allows it: in a tall block tilt and lens look like seams.
                    blocks = [trimmed(alone, part) for block in every for part in shared_out(alone, block, counts)]
                    blocks += [part for block in every for part in cut(alone, trimmed(alone, block))]
                    pieces += pieces_of(alone, [b for b in blocks if len(b.strokes) >= least], counts, "marks")
            for runs in chained(plane):
                for usual in usual_lengths(runs):
                    rows = as_long_as(runs, usual, LAST_RUN)
                    pieces += pieces_of(rows, grown_rows(rows), counts, "runs")
            yield number, plane, pieces


def _best(known: list[KnownBlock], photo: UprightPhoto) -> tuple[list[Assigned | None], Plane | None]:
    """The attempt that explains most; pieces found at several sizes are held together, way round by way round."""
    held: dict[int, tuple[list[Plane], list[Piece]]] = {}
    results: dict[int, list[Assigned | None]] = {}
    for number, plane, pieces in _attempts(known, photo):
        seen, before = held.get(number, ([], []))
        seen = [*seen, plane]
        pool = like_most(before + [boxed(p, seen[0]) for p in pieces], known)
        pool = without_doubles(pool, known, photo.backing)
        if (level := levelled(pool, seen[0])) is not seen[0]:
            seen, pool = [level, *seen[1:]], [boxed(p, level) for p in pool]
        pool = without_doubles(pool + widened(pool, seen), known, photo.backing)
        first = assign(known, pool, photo.backing)
        alike = by_their_like(known, first, seen)
        pool = without_doubles([*pool, *alike, *widened(alike, seen)], known, photo.backing)
        held[number], results[number] = (seen, pool), assign(known, pool, photo.backing)
        # Odd ones are the other way round of the one before: only when both were tried is the better one known.
        if number % 2 and any(_clear(results[k]) for k in (number - 1, number)):
            break
    if not results:
        return [None] * len(known), None
    best = [n for way in (0, 1) for n in _first_of({n: r for n, r in results.items() if n % 2 == way})]
    top = best[-1] if _score(results[best[-1]]) > BETTER * _score(results[best[0]]) else best[0]
    return results[top], held[top][0][0]


def _first_of(results: dict[int, list[Assigned | None]]) -> list[int]:
    """The number of the attempt, of those one way round, that the others are not clearly better than: above all in finding every block."""
    top: list[int] = []
    for number, result in sorted(results.items()):
        before = results[top[0]] if top else []
        whole, was_whole = None not in result, None not in before
        if not top or (whole and not was_whole) or (whole == was_whole and _score(result) > BETTER * _score(before)):
            top = [number]
    return top


def _clear(result: list[Assigned | None]) -> bool:
    """Whether every block was found so well that no other attempt can find it better."""
    whole = [a for a in result if a is not None]
    return len(whole) == len(result) and min(a.score for a in whole) > CLEARLY


def _score(result: list[Assigned | None]) -> float:
    return sum(a.score for a in result if a is not None)


def _scale_of_like(marks: list[Assigned], straight: list[Lattice], before: list[dict[str, Any]]) -> float | None:
    """Millimetres per plane pixel, by blocks of the same sheet that are already in mm; None where it has none like these."""
    lengths = {(b["nozzles"], b["columns"], b["nozzle_pitch"], b["nozzle_step"]): np.linalg.norm(b["column_pitch"]) for b in before if b["kind"] == "marks"}  # fmt: skip
    like = [(lengths.get((a.known.count, f.columns, a.known.nozzle_pitch, a.known.nozzle_step)), f) for a, f in zip(marks, straight, strict=True)]  # fmt: skip
    scales = [length / np.linalg.norm(f.across) for length, f in like if length is not None and f.columns > 1]
    return float(np.median(scales)) if scales else None


def _scale(marks: list[Assigned], straight: list[Lattice], solids: list[KnownBlock], boxes: list[Floats], like: float | None = None) -> float:  # fmt: skip
    """Millimetres per plane pixel: from known geometry, else blocks `like` these, else staircases, else fills, else rows that follow on, else how thick marks are."""
    known, stairs, follow, thick = [], [], [], []
    for a, lattice in zip(marks, straight, strict=True):
        given = a.known
        pitch = (given.nozzle_pitch or 0.1) * given.nozzle_step
        slope, rise = abs(lattice.across[1]), abs(lattice.down[1]) / lattice.columns
        if given.row_pitch and lattice.down.any():
            known.append(np.hypot(*given.row_pitch) / np.linalg.norm(lattice.down))
        if given.column_pitch and lattice.columns > 1:
            known.append(np.hypot(*given.column_pitch) / np.linalg.norm(lattice.across))
        if _continued(lattice):
            stairs.append(pitch / rise)
        elif slope > max(STEEP * rise, LEVEL * abs(lattice.across[0])):
            stairs.append(pitch / slope)
        elif rise > 0:
            follow.append(pitch / rise)
        thick.append((given.nozzle_pitch or 0.1) / max(lattice.mark[1], 1e-6))
    tall = [k.nozzles * k.nozzle_pitch / np.ptp(box[:, 1]) for k, box in zip(solids, boxes, strict=True) if k.nozzles and k.nozzle_pitch]  # fmt: skip
    for some in (known, [like] if like else [], stairs, tall):
        if some:
            return float(np.median(some))
    by_thickness = float(np.median(thick))
    if follow and 1 / MARKS_DIFFER < np.median(follow) / by_thickness < MARKS_DIFFER:
        return float(np.median(follow))
    return by_thickness


def _continued(lattice: Lattice) -> bool:
    """Whether each row starts where the last one ended: every nozzle of the head in its own height."""
    rise = abs(lattice.down[1]) / lattice.columns
    return bool(rise > 0 and abs(abs(lattice.across[1]) / rise - 1) < CONTINUED)


def _in_mm(known: KnownBlock, lattice: Lattice, scale: float) -> dict[str, Any]:
    pitch = (known.nozzle_pitch or 0.1) * known.nozzle_step
    across, down = lattice.across * scale, lattice.down * scale
    sign = 1.0 if across[1] >= 0 else -1.0
    slope, rise = abs(across[1]), abs(down[1]) / lattice.columns
    if _continued(lattice):
        across[1], down[1] = sign * pitch, np.sign(down[1]) * pitch * lattice.columns
    elif slope > STEEP * pitch:
        across[1] = sign * pitch if abs(slope / pitch - 1) < 0.3 else across[1]
    else:
        across[1] = 0.0
    if abs(down[0]) < 0.02 * abs(down[1]):
        down[0] = 0.0
    long = (
        min(lattice.mark[0] * scale, 0.99 * abs(float(across[0]))) if lattice.columns > 1 else lattice.mark[0] * scale
    )
    thick = float(np.clip(DRAWN_THIN * lattice.mark[1] * scale, 0.3 * pitch, 3 * pitch))
    if down[1] and rise:
        thick = min(thick, 0.8 * abs(float(down[1])))
    return {
        **_named(known), "kind": "marks", "origin": lattice.origin * scale, "nozzles": known.count, "columns": known.columns or lattice.columns,
        "nozzle_step": known.nozzle_step, "nozzle_pitch": known.nozzle_pitch,
        "column_pitch": known.column_pitch or across if lattice.columns > 1 else (max(long * 1.1, 0.1), 0.0),
        "row_pitch": known.row_pitch or down if down.any() else (0.0, max(pitch * lattice.columns, 4 * thick)), "mark": known.mark or (long, thick),
    }  # fmt: skip


def _fill_in_mm(known: KnownBlock, box: Floats) -> dict[str, Any]:
    low, high = box.min(axis=0), box.max(axis=0)
    tail = (
        {"nozzles": known.nozzles, "nozzle_pitch": known.nozzle_pitch} if known.nozzles and known.nozzle_pitch else {}
    )
    return {**_named(known), "kind": "solid", "origin": low, "size": known.size or high - low, **tail}


def _named(known: KnownBlock) -> dict[str, Any]:
    return {"id": known.id, "channel": known.channel, "head": known.head, "ink": known.ink, "backing": known.backing, "first_nozzle": known.first_nozzle}  # fmt: skip


def _from_zero(blocks: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], Floats, tuple[float, float]]:
    """Blocks moved so that their box starts at 0, 0, lengths rounded to a tenth of a micrometre; where it was, and its size."""
    tidy: list[dict[str, Any]] = [{k: _rounded(v) for k, v in b.items()} for b in blocks]
    edges = np.array([_edges(b) for b in tidy])
    low, high = edges[:, :2].min(axis=0), edges[:, 2:].max(axis=0)
    for b in tidy:
        b["origin"] = _rounded(np.array(b["origin"]) - low)
    return tidy, low, (float(high[0] - low[0]), float(high[1] - low[1]))


def _rounded(value: Any) -> Any:
    return tuple(round(float(v), 4) for v in value) if isinstance(value, np.ndarray | tuple) else value


def _edges(block: dict[str, Any]) -> tuple[float, float, float, float]:
    kind = MarksBlock if block["kind"] == "marks" else SolidBlock
    return extent(kind.model_construct(**block))


def _document(spec: Spec, parts: list[_Part]) -> tuple[Layout, list[float]]:
    """The layout: what was seen over dark below what was seen over light, in the spec's order; and where each begins, mm."""
    blocks: dict[object, dict[str, Any]] = {}
    width, top, tops = 0.0, 0.0, []
    for part in parts:
        for b in part.blocks:
            x, y = np.array(b["origin"])
            blocks[b["id"]] = b | {"origin": [round(float(x), 4), round(float(y) + top, 4)]}
        tops.append(top)
        width, top = max(width, part.size[0]), top + part.size[1] + APART_MM
    size = [round(width, 3), round(top - APART_MM, 3)]
    document = {"format": "dusky-sieve-layout", "version": 1, "name": spec.name, "size": size, "blocks": [blocks[b.id] for b in spec.blocks]}  # fmt: skip
    try:
        return Layout.model_validate(document), tops
    except ValidationError as error:
        raise SheetNotFound(
            f"The marks found make no usable layout ({first_fault(error)}). Photograph a better sheet from straight above."
        ) from None
