"""Facts that overtake any ladder, wherever one stands on it, the gravest first."""

from collections.abc import Callable
from datetime import datetime

from dusky_sieve.core.advice.document import Proposal
from dusky_sieve.core.advice.ladder import Ladder
from dusky_sieve.core.advice.propose import propose
from dusky_sieve.core.advice.rules import refusal
from dusky_sieve.core.advice.situation import Situation, wait_over
from dusky_sieve.core.steps import StepName, StepTable


def overtaking(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    """The step that facts demand before any ladder is asked, or None."""
    facts: tuple[Callable[[Situation, Ladder, StepTable], Proposal | None], ...] = (
        _locked, _low_ink, _resting, _air, _nothing_printed, _rested, _stale, _clear,
    )  # fmt: skip
    for fact in facts:
        found = fact(s, ladder, table)
        if found is not None:
            return found
    return None


def _go(
    step: StepName, why: str, s: Situation, ladder: Ladder, table: StepTable, channels: tuple[str, ...] | None = None, until: datetime | None = None
) -> Proposal:  # fmt: skip
    """The step, or a hand-over where this person may not do it."""
    found = refusal(step, channels, s, ladder, table, only_person=True)
    if found is not None:
        title = table[step].title.lower()
        return propose(
            "hand_over", None, s, table, why=(why, f"The next step, {title}, is for somebody else: {found.why}")
        )
    return propose(step, channels, s, table, why=(why,), until=until)


def _locked(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    if not s.told.get("lockout_warning"):
        return None
    return _go("hand_over", "The printer warned that it will lock up: stop here and hand over.", s, ladder, table)


def _low_ink(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    low = s.told.get("low_ink_message")
    if not low:
        return None
    named = [low] if isinstance(low, str) else low if isinstance(low, list | tuple) else []
    names = tuple(c.name for c in s.case.printer.channels if c.name in named)
    return _go(
        "refill",
        "The printer reported low ink: refill or replace before anything else.",
        s,
        ladder,
        table,
        names or None,
    )


def _resting(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    if s.waiting is None:
        return None
    end = wait_over(s.waiting, table, s.rest_hours)
    why = f"It still rests, until {end:%d %b %H:%M %Z}. Nothing helps more than leaving it."
    return propose(s.waiting.step, s.waiting.channels, s, table, why=(why,), until=end)


def _air(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    air = s.told.get("air_in_line")
    if not air or "line_flush" not in s.case.printer.abilities:
        return None
    named = [air] if isinstance(air, str) else air if isinstance(air, list | tuple) else []
    names = tuple(c.name for c in s.case.printer.channels if c.name in named) or None
    found = refusal("line_flush", names, s, ladder, table)
    if found is None:
        return _go(
            "line_flush", "Air was seen in a tube: only refilling the line takes it out.", s, ladder, table, names
        )
    if found.remedy == "refill":
        why = f"Air was seen in a tube, and a line flush wants full tanks: {found.why}"
        return _go("refill", why, s, ladder, table, found.channels or names)
    return None


def _nothing_printed(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    new = s.told.get("new_printer") or s.case.printer.first_fill
    if not new or s.count("prepare") or "all" not in s.severity.values():
        return None
    return _go("prepare", "A new printer that prints nothing: plugs, tape and locks come first.", s, ladder, table)


def _rested(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    if s.waited is None:
        return None
    title = table[s.waited.step].title.lower()
    return propose("check", None, s, table, why=(f"The {title} is over: check first, without cleaning.",))


def _stale(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    if not s.stale or (s.sheets and _pages_go_on(s, ladder)):
        return None
    why = "Something was done since the last sheet: check before anything else." if s.sheets else "Nothing was read yet: print a sheet."  # fmt: skip
    return propose("check", None, s, table, why=(why,))


def _pages_go_on(s: Situation, ladder: Ladder) -> bool:
    """Whether full pages were printed and their light lines counted, and more pages are due before the next sheet."""
    rung = next((r for r in ladder.rungs if r.step == "paper_flush"), None)
    last = s.steps[-1] if s.steps else None
    if (
        rung is None
        or last is None
        or last.step != "paper_flush"
        or not last.channels
        or last.channels[0] not in s.lines
    ):
        return False
    if s.flushing is not None:
        return len(s.pages[s.flushing]) <= len(rung.pages)  # the last batch is done twice, then a sheet is due
    return any(n not in s.pages for n in s.bad_channels)


def _clear(s: Situation, ladder: Ladder, table: StepTable) -> Proposal | None:
    if s.bad_channels:
        return None
    if s.unsure:
        why = f"No fault, but {s.unsure} nozzles are unsure: settle them, or print another sheet."
        return propose("check", None, s, table, why=(why,))
    lined = [n for n, count in s.lines.items() if count]
    if s.told.get("print_symptom"):
        symptom = str(s.told["print_symptom"]).replace("_", " ")
        if not s.count("settings_check"):
            why = f"The sheet is clear and prints show {symptom}: look at settings, media and alignment, never clean."
            return propose("settings_check", None, s, table, why=(why,))
        if not s.count("align"):
            why = f"The sheet is clear, settings were looked at, prints still show {symptom}: align next, never clean."
            return _go("align", why, s, ladder, table)
        why = f"The sheet is clear, settings and alignment were looked at, and prints still show {symptom}: no nozzle fault. Hand over."
        return propose("hand_over", None, s, table, why=(why,))
    if lined and not s.count("align"):
        why = f"Light lines in the fill of {' and '.join(lined)} with no gap in its marks: that points to alignment or media feed, not to nozzles."
        return _go("align", why, s, ladder, table)
    cured = s.worst_ever != "clear" and not s.count("align")
    if cured and refusal("align", None, s, ladder, table) is None:
        return propose(
            "align", None, s, table, why=("The sheet is clear: keep it as the reference and align the head.",)
        )
    return propose("carry_on", None, s, table, why=("The sheet is clear. Nothing to clean.",))
