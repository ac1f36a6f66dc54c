"""A ladder down the edge of a slip: where one stands, what was tried, what comes."""

from html import escape

from dusky_sieve.core.advice import Ladder

RUNG_GAP = 62


def ladder_edge(ladder: Ladder, here: str | None, taken: dict[str, int], *, waiting: bool = False) -> str:
    """SVG of a ladder's rungs, the one to take next marked, steps done counted; words in the label."""
    at = next((r.place for r in ladder.rungs if r.id == here), None)
    rungs = list({r.place: r for r in sorted(ladder.rungs, key=lambda r: r.place)}.values())
    height = RUNG_GAP * len(rungs) + 20
    parts = [f'<path d="M14 0V{height}M62 0V{height}" class="rail-line"/>']
    for index, rung in enumerate(rungs):
        y = 22 + index * RUNG_GAP
        now = rung.place == at
        done = taken.get(rung.step, 0)
        kind = ("rung wait" if waiting else "rung here") if now else "rung done" if done else "rung"
        parts.append(
            f'<rect x="{4 if now else 14}" y="{y - (6 if now else 1)}" width="{68 if now else 48}" height="{12 if now else 3}" class="{kind}"/>'
        )
        count = f" &#215;{done}" if done and not now else ""
        parts.append(
            f'<text x="38" y="{y + 24}" text-anchor="middle" class="rung-word{" now" if now else ""}">{escape(rung.short)}{count}</text>'
        )
    place = next((r.short for r in rungs if r.place == at), "no rung")
    label = escape(f"Ladder {ladder.name}: next is {place}")
    return f'<svg class="ladder" viewBox="0 0 76 {height}" width="76" height="{height}" role="img" aria-label="{label}">{"".join(parts)}</svg>'
