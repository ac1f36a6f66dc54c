"""A whole ladder drawn so that it can be read from the top like a list of questions."""

import re
from html import escape
from textwrap import wrap

from dusky_sieve.core.advice import Ladder
from dusky_sieve.core.advice.ladder import Rung, Test
from dusky_sieve.core.steps import StepTable

WIDE, ASK, STEP_X, STEP_W = 1180, 330, 400, 244
LINE, PAD = 17, 12
WORDS = {
    "worst": "worst channel", "worst_ever": "worst channel of the case", "faults": "gaps in all", "faulty_channels": "channels at fault",
    "spread": "share of channels at fault", "unchanged": "the last step changed nothing", "helped": "the last step helped", "movement": "the gaps are",
    "last_step": "the last step was", "cleans": "cleans in this case", "cleans_since_rest": "cleans since the last rest", "cleans_since_seal": "cleans since the seal was cleaned",
    "cleans_since_soak": "cleans since the soak", "cleans_since_air": "cleans since the air assist", "rounds": "cleans of the bad channel",
    "rests": "rests", "rests_without_change": "rests in a row without change", "deep_cleans": "deep cleans", "line_flushes": "line flushes", "cap_soaks": "cap soaks",
    "seal_cleans": "seal cleans", "air_assists": "air assists", "head_soaks": "head soaks", "paper_flushes": "batches of pages", "settings_checks": "looks at settings",
    "prepares": "looks at plugs and supply", "refills": "refills", "remaps": "remaps", "aligns": "alignments", "sensor_cleans": "sensor cleans", "heads_replaced": "heads replaced",
    "checks": "sheets printed", "checks_since_step": "sheets since the last step", "first_fill": "new printer", "levels_known": "all levels are known",
    "lines_known": "fills were looked at", "lines_and_gaps": "channels with gaps and light lines", "flush_rounds": "rounds of pages before a sheet", "flushing": "pages still show lines",
    "covered": "all gaps are remapped", "white": "white ink",
}  # fmt: skip


def asked(fact: str, test: Test) -> str:
    """A condition in words."""
    name = WORDS.get(fact, fact.replace("_", " "))
    if test.is_ is not None:
        if isinstance(test.is_, bool):
            return name if test.is_ else f"not: {name}"
        return f"{name} {str(test.is_).replace('_', ' ')}"
    if test.in_ is not None:
        return f"{name} {' or '.join(v.replace('_', ' ') for v in test.in_)}"
    if test.at_least is None and test.at_most == 0:
        return f"no {name} yet"
    low = f"at least {_plain(test.at_least)}" if test.at_least is not None else ""
    high = f"at most {_plain(test.at_most)}" if test.at_most is not None else ""
    return f"{name}: {' and '.join(part for part in (low, high) if part)}"


def _plain(bound: float | str) -> str:
    return bound if isinstance(bound, str) else f"{bound:g}"


def _spoken(why: str) -> str:
    """A rung's reason without a case's own numbers."""
    for name, said in (
        ("gaps", "gaps"),
        ("channels", "the channels at fault"),
        ("aimed", "the channels aimed at"),
        ("printer", "this printer"),
    ):
        why = why.replace("{" + name + "}", said)
    said = re.sub(r"\{\w+\}", "…", why)
    return said[:1].upper() + said[1:]


def conditions(rung: Rung) -> list[str]:
    """What a rung asks, in words; empty for the last one."""
    return [asked(fact, test) for fact, test in rung.when.items()]


def ladder_flow(ladder: Ladder, table: StepTable) -> str:
    """SVG: on the left what is asked, an arrow to the step on the right, and down to the next question."""
    parts: list[str] = []
    y = 34.0
    parts.append(
        '<text x="14" y="20" class="flow-quiet">bad sheet: ask from the top; after each step check, and from the top again</text>'
    )
    for index, rung in enumerate(ladder.rungs):
        asks = [line for c in conditions(rung) for line in wrap(c, 48)] or ["none of these"]
        why = wrap(_spoken(rung.why), 68)[:4]
        height = max(LINE * len(asks), 52) + 2 * PAD
        middle = y + height / 2
        parts.append(f'<rect x="14" y="{y}" width="{ASK}" height="{height}" class="flow-ask"/>')
        top = middle - LINE * (len(asks) - 1) / 2 + 5
        parts += [
            f'<text x="28" y="{top + k * LINE}" class="flow-text">{escape(line)}</text>' for k, line in enumerate(asks)
        ]
        parts.append(f'<path d="M{14 + ASK} {middle}H{STEP_X - 8}m-7-5l7 5l-7 5" class="flow-line"/>')
        parts.append(
            f'<rect x="{STEP_X}" y="{middle - 24}" width="{STEP_W}" height="48" class="flow-step{" flow-end" if rung.step in ("hand_over", "carry_on") else ""}"/>'
        )
        parts.append(
            f'<text x="{STEP_X + 14}" y="{middle + 5}" class="flow-name">{escape(table[rung.step].title)}{_more(rung)}</text>'
        )
        first = middle - 15 * (len(why) - 1) / 2 + 4
        parts += [
            f'<text x="{STEP_X + STEP_W + 16}" y="{first + k * 15}" class="flow-quiet">{escape(line)}</text>'
            for k, line in enumerate(why)
        ]
        y += height
        if index < len(ladder.rungs) - 1:
            parts.append(
                f'<path d="M40 {y}v20m-5-7l5 7l5-7" class="flow-line"/><text x="54" y="{y + 15}" class="flow-quiet">otherwise</text>'
            )
            y += 24
    label = escape(f"{ladder.name}, {len(ladder.rungs)} rungs from the top; the table below says the same")
    return f'<svg class="flow" viewBox="0 0 {WIDE} {y + 12}" width="{WIDE}" role="img" aria-label="{label}">{"".join(parts)}</svg>'


def _more(rung: Rung) -> str:
    if rung.level == "rate":
        return ", at its rate"
    if rung.level:
        return f", level {rung.level}"
    if rung.pages:
        return f", {', '.join(map(str, rung.pages))}"
    return ""
