"""A printer's ledger: tanks and pad, the days ahead, use by month, what was learnt, every line."""

from dataclasses import dataclass
from datetime import datetime, tzinfo

from dusky_sieve import files, services
from dusky_sieve.core.ledger import PRINTS, Forecast, Learnt, Stretch
from dusky_sieve.core.ledger.use import PURPOSES, Month
from dusky_sieve.drawing import tanks
from dusky_sieve.store import BookLine, PrinterRecord, Store
from dusky_sieve.web import words
from dusky_sieve.web.present.band import NO_INK

SOON = 30.0  # days, under which a tank or the pad heads the page
LINES_SHOWN, MONTHS_SHOWN, ODD_SHOWN = 40, 13, 5
SEEN_ML = 0.1  # an amount each time under which no reading of a tank can say anything
PURPOSE_WORDS = {
    "prints": "prints", "sheets": "check sheets", "paper": "cleaning onto paper", "pad": "cleaning into the pad",
}  # fmt: skip


@dataclass(frozen=True)
class LineRow:
    """A line of the book as the page lists it."""

    number: int
    when: str
    what: str
    channel: str
    amount: str
    aside: str
    person: str
    holds: bool
    editable: bool


@dataclass(frozen=True)
class LearntRow:
    """What one kind of step takes over the channels it was seen on."""

    channel: str
    kind: str
    estimate: str
    learnt: str
    span: str
    times: str
    sure: bool


@dataclass(frozen=True)
class Ledger:
    """Everything the ledger page lays out."""

    heading: str
    aside: str
    tanks: str
    pad: str
    pad_said: str
    ahead: Forecast
    rows: tuple[tuple[str, str, str, str], ...]
    facts: tuple[tuple[str, str], ...]
    use: str
    months: tuple[Month, ...]
    learnt: tuple[LearntRow, ...]
    odd: tuple[str, ...]
    lines: tuple[LineRow, ...]
    count: int


def ledger(store: Store, record: PrinterRecord, now: datetime, zone: tzinfo, currency: str) -> Ledger:
    """The view of a printer's book."""
    account, ahead = services.account_of(store, record, zone), services.forecast_of(store, record, now, zone)
    months = account.months[-MONTHS_SHOWN:]
    newest = store.remembered(record.id, ("newest",), lambda: _newest(account.lines))
    row = [
        tanks.Tank(
            words.display(c.name), c.capacity_ml or max(t.level_ml or 1.0, 1.0), t.level_ml, t.low_ml, t.high_ml, _days(t.days), record.inks.get(c.name, NO_INK)
        )
        for c, t in zip(record.printer.channels, ahead.tanks, strict=True)
    ]  # fmt: skip
    pad, pad_drawn, pad_said = record.printer.waste, "", "The pad is not in this printer's papers."
    if pad is not None and account.books.pad_ml is not None:
        left = max(0.0, pad.capacity_ml - account.books.pad_ml)
        pad_said = f"{account.books.pad_ml:.0f} of {pad.capacity_ml:.0f} ml, {words.ml(left)} left" + ("" if pad.replaceable else "; it cannot be replaced")  # fmt: skip
        pad_drawn = tanks.pad(account.books.pad_ml, pad.capacity_ml, f"Waste pad: {pad_said}")
    bars = [tanks.Bar(_month(m.month), tuple((p, m.ml[p]) for p in PURPOSES)) for m in months]
    spent = store.spent()
    cases = store.cases(record.id)
    money = sum(m.cost for m in months)
    facts = [
        ("deep cleans the tanks allow", _count(ahead.deep_tank)), ("deep cleans the pad allows", _count(ahead.deep_pad)),
        ("pad full", _days(ahead.pad_days) if pad is not None else "not known"),
        ("never reached a print", _share(months)), (f"ink, {words.plural(len(months), 'month')}", f"{currency}{money:.2f}"),
        ("paper and hands", store.remembered(record.id, ("hands",), lambda: _hands(account.lines))),
        ("cases", f"{len(cases)}, {words.ml(sum(spent.get(c.id, (0.0, 0, 0))[0] for c in cases))} of ink"),
    ]  # fmt: skip
    return Ledger(
        heading=_heading(record, ahead), aside=_aside(ahead), tanks=tanks.tanks(row), pad=pad_drawn, pad_said=pad_said, ahead=ahead,
        rows=tuple((words.display(t.channel), _range(t.level_ml, t.low_ml, t.high_ml), f"{t.a_day_ml:.2f} ml", _span(t.days, t.days_low, t.days_high)) for t in ahead.tanks),
        facts=tuple(facts), use=tanks.use(bars, PURPOSE_WORDS) if bars else "", months=months,
        learnt=tuple(_learnt(x) for x in account.lessons.learnt if x.times > 0 and x.prior_ml >= SEEN_ML), odd=tuple(_odd(s, zone) for s in sorted((s for s in account.lessons.stretches if s.odd), key=lambda s: s.end)[-ODD_SHOWN:]),
        lines=tuple(_line(x, now) for x in newest), count=len(account.lines),
    )  # fmt: skip


def _heading(record: PrinterRecord, ahead: Forecast) -> str:
    known = [t for t in ahead.tanks if t.days is not None]
    first = min(known, key=lambda t: t.days or 0.0, default=None)
    low = [t for t in ahead.tanks if t.days is not None and t.days <= 0]
    if low:
        names = words.listed([words.display(t.channel) for t in low])
        return f"{names} {'is' if len(low) == 1 else 'are'} low: refill before anything else."
    if ahead.pad_said is not None and ahead.pad_share is not None and (ahead.pad_days or 999) < SOON * 3:
        return f"The pad is {ahead.pad_share:.0%} full, and full {_days(ahead.pad_days)}."
    if first is not None and first.days is not None and first.days < SOON:
        return f"{words.display(first.channel)} runs low {_days(first.days)}."
    if ahead.pad_said is not None and ahead.pad_share is not None:
        return f"The pad is {ahead.pad_share:.0%} full."
    if first is None:
        return f"What {record.name} uses is not known yet: read its tanks off."
    return f"{record.name} has ink for {_days(first.days).removeprefix('in ')}."


def _aside(ahead: Forecast) -> str:
    unread = [words.display(t.channel) for t in ahead.tanks if t.level_ml is None]
    said = f"{words.listed(unread)} {'was' if len(unread) == 1 else 'were'} never read off. " if unread else ""
    return said + "Amounts are estimates until readings say more; each carries its range."


def _learnt(x: Learnt) -> LearntRow:
    titles = {str(name): facts.title.lower() for name, facts in files.step_table().items()}
    title = "prints, a day" if x.kind == PRINTS else titles[x.kind]
    often = f"{x.times:.0f} days" if x.kind == PRINTS else "once" if x.times == 1 else f"{x.times:g} times"
    return LearntRow(words.display(x.channel), title, f"{x.prior_ml:.2f}", f"{x.ml:.2f}", f"{x.low_ml:.2f} to {x.high_ml:.2f}", often, x.sure)  # fmt: skip


def _odd(s: Stretch, zone: tzinfo) -> str:
    a, b = (t.astimezone(zone) for t in (s.start, s.end))
    more = "more" if s.left_ml > s.expected_ml else "less"
    return f"{words.display(s.channel)}, {a:%-d %b} to {b:%-d %b}: {s.left_ml:.0f} ml went, {abs(s.left_ml - s.expected_ml):.0f} ml {more} than anything known explains. A misread level, a fill that nobody booked, a leak?"  # fmt: skip


def _line(line: BookLine, now: datetime) -> LineRow:
    e = line.entry
    what = {"level": "read off", "fill": "filled in", "pad": "pad holds", "print": "printed", "void": "struck out"}.get(
        e.what, ""
    )
    if not what:
        what = files.step_table()[e.step].title.lower() if e.step else "step"
    sign = "est. " if e.spends and e.basis == "estimate" else ""
    aside = e.said if e.said and not e.said.startswith(f"{e.ink_ml:g} ") else ""
    aside = f"line {e.replaces} {aside}".strip() if e.replaces is not None else aside
    return LineRow(
        line.number, words.day_time(e.at, now), what, words.display(e.channel) if e.channel else "", "" if e.what == "void" else f"{sign}{words.ml(e.ink_ml)}",
        aside, line.person, line.holds, line.holds,
    )  # fmt: skip


def _month(text: str) -> str:
    return datetime.strptime(text, "%Y-%m").strftime("%b %y")


def _days(days: float | None) -> str:
    if days is None:
        return "not known"
    if days <= 0:
        return "now"
    if days < 2:
        return "tomorrow" if days >= 1 else "today"
    if days < 60:
        return f"in {days:.0f} days"
    return f"in {days / 30.4:.0f} months" if days < 730 else "in over 2 years"


def _span(days: float | None, low: float | None, high: float | None) -> str:
    if days is None:
        return "not known yet"
    most = "longer" if high is None or high > 999 else f"{high:.0f}"
    return f"{days:.0f} days ({low or 0:.0f} to {most})"


def _range(level: float | None, low: float | None, high: float | None) -> str:
    if level is None:
        return "not read"
    if low is None or high is None or high - low < 1:
        return words.ml(level)
    return f"{words.ml(level)} ({low:.0f} to {high:.0f})"


def _newest(lines: list[BookLine]) -> list[BookLine]:
    return sorted(lines, key=lambda x: (x.entry.at, x.number), reverse=True)[:LINES_SHOWN]


def _hands(lines: list[BookLine]) -> str:
    """Sheets of paper and attended minutes of every step in the book."""
    table = files.step_table()
    done = {(x.entry.at, x.entry.step, x.entry.units) for x in lines if x.holds and x.entry.what == "step"}
    paper = sum(1 if step == "check" else units if step == "paper_flush" else 0 for _, step, units in done)
    minutes = sum(table[step].attended_minutes for _, step, _ in done if step)
    return f"{paper:.0f} sheets, {words.span(minutes * 60)}"


def _count(number: int | None) -> str:
    return "not known" if number is None else str(number)


def _share(months: tuple[Month, ...]) -> str:
    total = sum(m.total for m in months)
    if total <= 0:
        return "not known"
    share = 1 - sum(m.ml["prints"] for m in months) / total
    return f"{share:.0%} of the ink" if share >= 0.015 else f"{share:.1%} of the ink"
