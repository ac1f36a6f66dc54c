"""What each fact of a case did to the odds of its causes."""

from dataclasses import dataclass
from datetime import datetime

from dusky_sieve import files, services
from dusky_sieve.core.advice.signs import signs_of
from dusky_sieve.core.advice.situation import size_up
from dusky_sieve.core.diagnosis import CauseName, diagnose
from dusky_sieve.store import CaseRecord, PrinterRecord, Store
from dusky_sieve.web import words

STRONG, SOME = 2.0, 1.2  # ratios of likelihood from which a fact speaks strongly, or speaks at all


@dataclass(frozen=True)
class Row:
    """One fact: its words, where its numbers come from, and per cause its likelihood and which way it pulls."""

    says: str
    origin: str
    cells: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class Odds:
    """The whole table: prior, facts, posterior."""

    record: PrinterRecord
    causes: tuple[str, ...]
    prior: tuple[int, ...]
    prior_origin: str
    rows: tuple[Row, ...]
    after: tuple[int, ...]


def odds(store: Store, case: CaseRecord, now: datetime) -> Odds:
    """The table for a case at `now`."""
    record = store.printer_by_id(case.printer_id)
    assert record is not None  # the case's foreign key holds
    table = files.cause_table()
    ladder = services.ladder_of(store, record.printer.ladder)
    signs = signs_of(size_up(services.case_document(store, case, now), files.step_table(), ladder.limits.rest_hours))
    likely = {c.cause: c.probability for c in diagnose(signs, table)}
    names: list[CauseName] = sorted(table.prior, key=lambda c: -likely[c])
    rows = []
    for name, numbers in signs.items():
        sign = table.signs[name]
        given = [sign.given.get(c, sign.otherwise) for c in names]
        usual = sum(table.prior[c] * sign.given.get(c, sign.otherwise) for c in names) / sum(table.prior.values())
        rows.append(
            Row(
                words.capital(sign.says.format_map(dict(numbers))),
                sign.origin,
                tuple((g, _pull(g / usual)) for g in given),
            )
        )
    total = sum(table.prior.values())
    return Odds(
        record=record, causes=tuple(words.CAUSES[c] for c in names), prior=tuple(round(100 * table.prior[c] / total) for c in names),
        prior_origin=table.prior_origin, rows=tuple(rows), after=tuple(round(100 * likely[c]) for c in names),
    )  # fmt: skip


def _pull(ratio: float) -> str:
    if ratio >= STRONG:
        return "much for"
    if ratio >= SOME:
        return "for"
    if ratio <= 1 / STRONG:
        return "much against"
    return "against" if ratio <= 1 / SOME else ""
