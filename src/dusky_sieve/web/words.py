"""Sentences made from findings: headings, odds, amounts, times."""

from datetime import datetime, timedelta

from dusky_sieve.core.advice import Advice
from dusky_sieve.core.case import ChannelFaults
from dusky_sieve.core.comparison import Movement

NUMBERS = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")
CAUSES = {
    "dried_ink": "Dried ink or residue", "air_or_prime": "Air, or too little prime", "shipping_fluid": "Transport fluid in the lines",
    "starved": "Starved: ink low, vent or line shut", "seal_leak": "The cap does not seal", "dead_nozzle": "Dead nozzle",
    "debris": "Debris under the head", "not_nozzles": "Not the nozzles: settings, media",
}  # fmt: skip


def number(count: int) -> str:
    """A small count as a word, a larger one in figures."""
    return NUMBERS[count] if 0 <= count < len(NUMBERS) else str(count)


def capital(text: str) -> str:
    """First letter large, the rest as it is."""
    return text[:1].upper() + text[1:]


def plural(count: int, one: str, many: str | None = None) -> str:
    """`one gap`, `seven gaps`."""
    return f"{number(count)} {one if count == 1 else many or one + 's'}"


def display(channel: str) -> str:
    """A channel's name as people say it."""
    parts = channel.replace("-", " ").replace("_", " ").split()
    return " ".join([capital(parts[0]), *(p.upper() if len(p) == 1 else p for p in parts[1:])]) if parts else channel


def listed(names: list[str]) -> str:
    """`a`, `a and b`, `a, b and c`."""
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1] if names else ""


def odds(p: float) -> str:
    """A chance as a plain count."""
    for limit, words in (
        (1e-9, "less than once in a billion"),
        (1e-6, "less than once in a million"),
        (1e-4, "less than once in ten thousand"),
        (1e-3, "less than once in a thousand"),
    ):
        if p < limit:
            return words
    return f"{max(1, round(p * 100))} times in 100"


def movement_words(movement: Movement) -> str:
    """One channel's movement as a clause, and the trend of its faults where three sheets or more say one."""
    said = _moved(movement)
    t = movement.trend
    if t is None or t.low is None or t.high is None or not movement.after:
        return said
    if t.high < 0:
        left = f", about {plural(max(1, round(t.steps_left)), 'more step')} at this rate" if t.steps_left else ""
        return f"{said}; {-t.per_step:.1f} fewer with each step ({-t.high:.1f} to {-t.low:.1f}){left}"
    if t.low > 0:
        return f"{said}; {t.per_step:.1f} more with each step ({t.low:.1f} to {t.high:.1f})"
    return f"{said}; no trend over {t.sheets} sheets"


def _moved(m: Movement) -> str:
    return {
        "first": f"{plural(m.after, 'fault')}; nothing to compare yet",
        "fixed": f"{m.stayed} of {m.after} stayed where they were; by chance {odds(m.p_value)}",
        "moving": f"{m.stayed} of {m.after} stayed; chance alone would keep {m.expected_by_chance:.1f}",
        "mixed": f"{m.stayed} of {m.after} stayed, the others are new",
        "clearing": f"down from {m.before} to {m.after}",
        "cleared": f"clear; {plural(m.before, 'gap')} went",
        "worse": f"up from {m.before} to {m.after}",
        "too_few": f"{plural(m.after, 'gap')}, {m.stayed} of {m.before} stayed: too few to tell"
        if m.after
        else "clear",
    }[m.call]


def finding(advice: Advice) -> str:
    """The one sentence that heads what a case means."""
    bad = [(m.after, name, m) for name, m in advice.movement.items() if advice.severity.get(name) != "clear"]
    if not bad:
        return "The sheet is clear."
    count, name, m = max(bad, key=lambda item: (item[0], item[1]))
    where = display(name)
    gaps = capital(plural(count, "gap"))
    if advice.severity[name] == "all":
        return f"{where} prints nothing."
    return {
        "first": f"{capital(plural(count, 'fault'))} in {where}.",
        "fixed": f"{gaps} in {where} {'stands' if count == 1 else 'stand'} still.",
        "moving": f"{gaps} in {where} {'wanders' if count == 1 else 'wander'}.",
        "mixed": f"{gaps} in {where}: some stand, some are new.",
        "clearing": f"{where} is getting better: {m.before} to {m.after}.",
        "worse": f"{where} is getting worse: {m.before} to {m.after}.",
        "too_few": f"{gaps} in {where}, too few to call.",
        "cleared": "The sheet is clear.",
    }[m.call]


def fault_count(faults: dict[str, ChannelFaults] | None) -> int:
    """Faults over all channels; a whole channel absent counts once."""
    if not faults:
        return 0
    return sum(1 if f.all_missing else len({*f.missing, *f.weak, *f.deflected}) for f in faults.values())


def sure(confidence: float | None) -> str:
    """How sure a reading is; never all of it."""
    if confidence is None:
        return "ask a person"
    return "over 99 % sure" if confidence > 0.99 else f"{confidence:.0%} sure".replace("%", " %")


def sheet_says(faults: dict[str, ChannelFaults] | None) -> str:
    """A sheet in a few words: `light cyan prints nothing, one fault`, `clear`."""
    absent = [display(name).lower() for name, f in (faults or {}).items() if f.all_missing]
    single = fault_count({n: f for n, f in (faults or {}).items() if not f.all_missing})
    parts = [f"{listed(absent)} print{'s' if len(absent) == 1 else ''} nothing"] if absent else []
    if single:
        parts.append(plural(single, "fault"))
    return ", ".join(parts) or "clear"


def ml(value: float) -> str:
    """An amount of ink with sensible digits."""
    return (
        f"{value:.0f} ml"
        if abs(value) >= 20
        else f"{value:.1f} ml"
        if abs(value) >= 1 or value == 0
        else f"{value:.2f} ml"
    )


def day_time(at: datetime, now: datetime) -> str:
    """A time as people say it today: `09:10`, `Mon 21:10`, `12 Oct 08:40`, in this machine's zone."""
    local, today = at.astimezone(), now.astimezone()
    if local.date() == today.date():
        return f"{local:%H:%M}"
    if abs(local - today) < timedelta(days=6):
        return f"{local:%a %H:%M}"
    return f"{local.day} {local:%b %H:%M}"


def span(seconds: float) -> str:
    """A stretch of time: `36 min`, `11 h 20 min`, `3 days`."""
    minutes = max(0, round(seconds / 60))
    if minutes < 90:
        return f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {rest} min" if rest and hours < 24 else f"{hours} h"
    return f"{hours // 24} days"
