"""The sieve: one hole per nozzle, in nozzle order, the same drawing at every size.

State is form, never colour alone: open hole, full plug (missing), lower half (weak), open with a tick in the
direction of its throw (deflected), hatched (unsure). A thread from above says "at fault on the sheet before".
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from html import escape

from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.reading import BlockReading

STRIP_PX = 14  # height of a strip on boards and in lists
RIBBON_PX = 5  # the ink ribbon inside it
FINEST_PX = 0.6  # px per nozzle under which neighbours are drawn as one post, the worst of them
HOLE_W, HOLE_H = 6.7, 20.0  # a hole of the full mesh
ROW_HOLES = 180  # holes in one row of the full mesh before it goes on below


@dataclass(frozen=True)
class Holes:
    """A channel as the sieve draws it: nozzle number to state, and the throw in mm where one is known."""

    nozzles: int
    states: Mapping[int, str]
    throws: Mapping[int, tuple[float, float]] = field(default_factory=dict)
    absent: bool = False
    read: bool = True


def holes_of_faults(faults: ChannelFaults | None, nozzles: int) -> Holes:
    """Holes from the faults a case keeps; None means that the channel was not read."""
    if faults is None:
        return Holes(nozzles, {}, read=False)
    states = {n: state for state in ("weak", "deflected", "missing", "unsure") for n in getattr(faults, state)}
    return Holes(nozzles, states, absent=faults.all_missing)


def holes_of_blocks(blocks: list[BlockReading], nozzles: int) -> Holes:
    """Holes from the blocks of one channel of a reading, with throws."""
    read = [b for b in blocks if b.read and b.kind == "marks"]
    if not read:
        return Holes(nozzles, {}, read=False)
    faults = [fault for block in read for fault in block.faults]
    throws = {f.nozzle: (f.offset_um[0] / 1000, f.offset_um[1] / 1000) for f in faults if f.offset_um}
    states = {f.nozzle: str(f.state) for f in faults}
    absent = all((b.counts or {}).get("missing") == sum((b.counts or {"": 1}).values()) for b in read)
    return Holes(nozzles, states, throws, absent=absent)


def describe(holes: Holes) -> str:
    """A channel in words, for those who do not see the drawing."""
    if not holes.read:
        return "not read"
    if holes.absent:
        return "prints nothing"
    parts = []
    for state in ("missing", "weak", "deflected", "unsure"):
        numbers = sorted(n for n, s in holes.states.items() if s == state)
        if numbers:
            parts.append(f"{state}: {number_list(numbers)}")
    return "; ".join(parts) or "clear"


def number_list(numbers: list[int]) -> str:
    """Nozzle numbers with runs joined: 40-43, 97."""
    runs: list[list[int]] = []
    for n in sorted(numbers):
        if runs and n == runs[-1][1] + 1:
            runs[-1][1] = n
        else:
            runs.append([n, n])
    return ", ".join(str(a) if a == b else f"{a}-{b}" if b > a + 1 else f"{a}, {b}" for a, b in runs)


def strip(holes: Holes, ink: str, *, width: int = 360, label: str = "") -> str:
    """A channel as a hairline strip, stretched to its container's width; lines keep their thickness."""
    body = _strip_body(holes, ink, width, 0)
    words = escape(f"{label}: {describe(holes)}" if label else describe(holes))
    return (
        f'<svg class="sieve strip" viewBox="0 0 {width} {STRIP_PX}" width="100%" height="{STRIP_PX}" '
        f'preserveAspectRatio="none" role="img" aria-label="{words}">{body}</svg>'
    )


def stack(sheets: list[Holes], ink: str, gaps: list[bool], *, width: int = 360, label: str = "") -> str:
    """Strips of several sheets, time running downwards. A nozzle at fault on two sheets running becomes one post.

    gaps : for each sheet, whether the printer stood before it, which is drawn as more air
    """
    y = 0
    ys: list[int] = []
    for wide in gaps:
        y += 12 if wide and ys else 0
        ys.append(y)
        y += 24
    height = ys[-1] + STRIP_PX if ys else STRIP_PX
    body = "".join(_strip_body(h, ink, width, top) for h, top in zip(sheets, ys, strict=True))
    pitch = width / sheets[0].nozzles if sheets else 1
    threads = "".join(
        f"M{_f((n - 0.5) * pitch)} {above + STRIP_PX - 1}V{below + 1}"
        for (first, above), (second, below) in zip(
            zip(sheets, ys, strict=True), list(zip(sheets, ys, strict=True))[1:], strict=False
        )
        for n in _stopped(first) & _stopped(second)
    )
    standing = f'<path d="{threads}" class="post" stroke-width="{_f(max(2.0, pitch))}"/>' if threads else ""
    words = escape(label + ": " + "; then ".join(describe(h) for h in sheets))
    return (
        f'<svg class="sieve stack" viewBox="0 0 {width} {height}" width="100%" height="{height}" '
        f'preserveAspectRatio="none" role="img" aria-label="{words}">{body}{standing}</svg>'
    )


def _stopped(holes: Holes) -> set[int]:
    return set() if holes.absent else {n for n, s in holes.states.items() if s != "unsure"}


def _strip_body(holes: Holes, ink: str, width: int, top: int) -> str:
    middle = top + STRIP_PX / 2
    upper, lower = middle - RIBBON_PX / 2, middle + RIBBON_PX / 2
    wires = f"M0 {upper}H{width}M0 {lower}H{width}"
    if not holes.read or holes.absent:
        return f'<path d="{wires}" class="wire" stroke-dasharray="1 5"/>'
    pitch = width / holes.nozzles
    thick = max(2.0, pitch)
    groups: dict[str, list[str]] = {"cut": [], "missing": [], "weak": [], "unsure": [], "deflected": []}
    shown: set[int] = set()
    for nozzle, state in sorted(
        holes.states.items(), key=lambda item: ("missing", "weak", "deflected", "unsure").index(item[1])
    ):
        slot = int((nozzle - 0.5) * pitch / FINEST_PX)
        if pitch < FINEST_PX and slot in shown:
            continue
        shown.add(slot)
        x = _f((nozzle - 0.5) * pitch)
        if state == "weak":
            groups["weak"].append(f"M{x} {middle}V{top + STRIP_PX}")
        elif state == "deflected":
            way = 1 if holes.throws.get(nozzle, (0, 1))[1] >= 0 else -1
            groups["deflected"].append(f"M{x} {lower}V{top + 1}h{4 * way}")
        else:
            groups[state].append(f"M{x} {top}V{top + STRIP_PX}")
            groups["cut"].append(f"M{x} {upper - 0.5}V{lower + 0.5}")
    drawn = f'<rect y="{upper}" width="{width}" height="{RIBBON_PX}" fill="{escape(ink)}" class="{_ribbon(ink)}"/><path d="{wires}M0 {upper}V{lower}M{width} {upper}V{lower}" class="wire"/>'
    for name, more in (("cut", f'stroke-width="{_f(thick + 2)}"'), ("missing", f'stroke-width="{_f(thick)}"'), ("weak", f'stroke-width="{_f(thick)}"'), ("unsure", f'stroke-width="{_f(thick)}" stroke-dasharray="2 2"'), ("deflected", 'stroke-width="1.6"')):  # fmt: skip
        if groups[name]:
            drawn += f'<path d="{"".join(groups[name])}" class="{"cut" if name == "cut" else "post"}" {more}/>'
    return drawn


def mesh(holes: Holes, before: Holes | None, ink: str, *, label: str) -> str:
    """The full mesh: two interlocking courses, odd nozzles above, even below, numbers beneath; long heads wrap."""
    rows = -(-holes.nozzles // ROW_HOLES)
    per_row = -(-holes.nozzles // rows)
    row_height = HOLE_H * 1.5 + 38
    width = (per_row + 1) * HOLE_W + 12
    out = []
    for row in range(rows):
        first, last = row * per_row + 1, min(holes.nozzles, (row + 1) * per_row)
        out.append(_course(holes, before, ink, first, last, row * row_height + 14))
    words = escape(f"{label}: {describe(holes)}")
    return (
        f'<svg class="sieve mesh" viewBox="0 0 {_f(width)} {_f(rows * row_height)}" width="{_f(width)}" height="{_f(rows * row_height)}" '
        f'data-nozzles="{holes.nozzles}" data-row="{per_row}" role="img" aria-label="{words}">{HATCH}{"".join(out)}</svg>'
    )


HATCH = '<defs><pattern id="hatch" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="2" height="4" class="plug"/></pattern></defs>'


def _course(holes: Holes, before: Holes | None, ink: str, first: int, last: int, top: float) -> str:
    def place(n: int) -> tuple[float, float]:
        return 6 + HOLE_W * (n - first + 1), top + (HOLE_H / 2 if n % 2 else HOLE_H)

    def hole(n: int, size: float = 1.0) -> str:
        x, y = place(n)
        a, b = HOLE_W * size, HOLE_H / 2 * size
        return f"M{_f(x - a)} {_f(y)}L{_f(x)} {_f(y - b)}L{_f(x + a)} {_f(y)}L{_f(x)} {_f(y + b)}Z"

    everything = range(first, last + 1)
    net = "".join(hole(n) for n in everything)
    tinted = (
        ""
        if holes.absent or not holes.read
        else "".join(hole(n, 0.8) for n in everything if holes.states.get(n) in (None, "deflected"))
    )
    out = f'<path d="{tinted}" fill="{escape(ink)}" class="{_ribbon(ink)}"/><path d="{net}" class="net"/>'
    for n in everything:
        state = holes.states.get(n)
        was = before is not None and before.states.get(n) not in (None, "unsure")
        if state or was:
            out += _hole_forms(state, was, before is not None, place(n), hole, n, top, holes.throws.get(n))
    foot = top + HOLE_H * 1.5 + 2
    ticks = "".join(f"M{_f(place(n)[0])} {foot}v{7 if n % 10 == 0 else 4}" for n in everything if n % 5 == 0)
    numbers = "".join(
        f'<text x="{_f(place(n)[0])}" y="{foot + 18}" text-anchor="middle" class="no">{n}</text>'
        for n in everything
        if n % 10 == 0
    )
    return f'{out}<path d="{ticks}" class="wire"/>{numbers}'


def _hole_forms(
    state: str | None,
    was: bool,
    compared: bool,
    at: tuple[float, float],
    hole: object,
    n: int,
    top: float,
    throw: tuple[float, float] | None,
) -> str:
    assert callable(hole)
    x, y = at
    out = f'<path d="M{_f(x)} {_f(top - 12)}V{_f(y - HOLE_H / 2 + 2)}" class="thread"/>' if was else ""
    if state is None:
        return out + f'<path d="{hole(n, 0.8)}" class="reopened"/>'
    if compared and not was and state != "unsure":
        out += f'<path d="M{_f(x)} {_f(top - 3)}l-3.5 -6h7z" class="plug"/>'
    if state == "missing":
        return out + f'<path d="{hole(n, 0.9)}" class="plug"/>'
    out += f'<path d="{hole(n, 0.86)}" class="ring"/>'
    if state == "weak":
        a, b = HOLE_W * 0.86, HOLE_H * 0.43
        return out + f'<path d="M{_f(x - a)} {_f(y)}H{_f(x + a)}L{_f(x)} {_f(y + b)}Z" class="plug"/>'
    if state == "unsure":
        return out + f'<path d="{hole(n, 0.86)}" fill="url(#hatch)"/>'
    way = 1 if (throw or (0, 1))[1] >= 0 else -1
    length = min(16.0, max(7.0, abs((throw or (0, 0.1))[1]) * 90)) * way
    return (
        out
        + f'<path d="M{_f(x)} {_f(y)}h{_f(length)}m0 -4v8" class="tick"/><circle cx="{_f(x)}" cy="{_f(y)}" r="2" class="plug"/>'
    )


def _ribbon(ink: str) -> str:
    """The ribbon's class."""
    return f"ribbon {shade(ink)}".strip()


def shade(ink: str) -> str:
    """A class for near-black inks, which are lifted at dusk."""
    return "dark-ink" if max(int(ink[i : i + 2], 16) for i in (1, 3, 5)) < 0x50 else ""


def glyph(state: str, *, was: bool = False) -> str:
    """One hole, for lists and legends; its words stand beside it."""
    holes = {"missing": '<path d="M2 10L8 2L14 10L8 18Z" class="plug"/>', "weak": '<path d="M2 10L8 2L14 10L8 18Z" class="ring"/><path d="M2 10H14L8 18Z" class="plug"/>', "deflected": '<path d="M2 10L8 2L14 10L8 18Z" class="ring"/><path d="M8 10h8m0 -4v8" class="tick"/><circle cx="8" cy="10" r="1.8" class="plug"/>', "unsure": '<path d="M2 10L8 2L14 10L8 18Z" class="ring"/><path d="M4 12l6 -7M6 15l6.5 -8" class="thread"/>', "open": '<path d="M2 10L8 2L14 10L8 18Z" class="net"/>', "reopened": '<path d="M2 10L8 2L14 10L8 18Z" class="reopened"/>'}  # fmt: skip
    thread = '<path d="M8 -4V3" class="thread"/>' if was else ""
    return f'<svg class="sieve glyph" viewBox="0 -4 18 24" width="15" height="20" aria-hidden="true">{thread}{holes[state]}</svg>'


def _f(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")
