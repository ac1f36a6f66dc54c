"""Cases told in a few words: `same` or `all` are sheets of black, `clean` a step, `+12` lets hours pass, a dict is a note."""

import json
from datetime import timedelta

from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.advice import Advice, advise
from dusky_sieve.core.case import Case, parse_case

SEEN = {
    "same": [40, 41, 97], "elsewhere": [7, 66, 150], "again": [22, 88, 131], "fewer": [40], "clear": [], "most": list(range(1, 120)),
    "eight": [3, 9, 27, 40, 41, 97, 120, 150], "five": [3, 9, 27, 40, 41], "one": [97], "many": list(range(5, 65)), "twelve": list(range(20, 32)),
}  # fmt: skip
WORDS = ("same", "elsewhere", "again", "fewer", "clear", "most", "all", "eight", "both", "one", "clean", "deep_clean", "rest", "line_flush", "cap_soak", "seal_clean", "paper_flush", "prepare", "settings_check", "channel_clean", "refill", "+1", "+12")  # fmt: skip
LADDERS = tuple(files.ladders())
ABLE = ("clean", "deep_clean", "line_flush")


def _faults(word, names):
    """`all`: black prints nothing; `both`: three gaps in either channel."""
    black, cyan = names[:2]
    if word == "both":
        return {black: {"missing": SEEN["same"]}, cyan: {"missing": SEEN["same"]}}
    return {black: {"all_missing": True} if word == "all" else {"missing": SEEN[word]}, cyan: {"missing": []}}


def case_of(
    story, *, ladder="watch-the-gaps", level=41.0, pad=121, user="owner", abilities=ABLE, now_hours=None, names=("black", "cyan"),
    first_fill=False, price=0.14, record=None,
) -> Case:  # fmt: skip
    """The case a story tells."""
    at, events = NOON, []
    for word in story.split() if isinstance(story, str) else story:
        if isinstance(word, dict):
            events.append(
                {"at": at.isoformat(), **word}
                if "kind" in word
                else {"kind": "note", "at": at.isoformat(), "facts": word}
            )
        elif word.startswith("+"):
            at += timedelta(hours=float(word[1:]))
            continue
        elif word.startswith("lines="):
            events.append({"kind": "sheet", "at": at.isoformat(), "faults": {}, "lines": {names[0]: int(word[6:])}})
        elif word in SEEN or word in ("all", "both"):
            events.append({"kind": "sheet", "at": at.isoformat(), "faults": _faults(word, names)})
        else:
            events.append({"kind": "step", "at": at.isoformat(), "step": word, "channels": [names[0]]})
        at += timedelta(minutes=5)
    channels = [
        {"name": n, "nozzles": 180, "group": g, "capacity_ml": 70, "level_ml": level, "price_per_ml": price}
        for n, g in zip(names, "AB", strict=True)
    ]
    printer = {
        "name": "Larch", "channels": channels, "waste": {"capacity_ml": 180, "used_ml": pad, "replaceable": False}, "abilities": list(abilities),
        "user_level": user, "ladder": ladder, "first_fill": first_fill, "record": record or {},
    }  # fmt: skip
    now = at if now_hours is None else NOON + timedelta(hours=now_hours)
    return parse_case(
        json.dumps(
            {"format": "dusky-sieve-case", "version": 1, "printer": printer, "events": events, "now": now.isoformat()}
        )
    )


def play(case: Case, ladder: str | None = None) -> Advice:
    """The advice for a case on its own ladder, or another."""
    tables = (files.step_table(), files.cause_table(), files.cure_table())
    return advise(case, files.ladder(ladder or case.printer.ladder), *tables)


def advice_of(story, **more) -> Advice:
    """The advice for a story."""
    return play(case_of(story, **more))
