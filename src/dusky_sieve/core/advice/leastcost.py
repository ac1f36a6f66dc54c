"""No fixed order: the step with the least expected total until clear, worked out by exact recursion to a stated depth.

With belief b over causes, c(s) the price of step s and q(s, h) the chance that it clears the sheet where h is the
cause, the expected total is V(b) = min over s of c(s) + (1 - sum b(h) q(s, h)) V(b after s failed); handing over ends
it at its own price. Bayes' rule gives the belief after a failure. It depends only on how often each step has failed,
so equal sets of tries are worked out once.
"""

from functools import cache

from pydantic import Field

from dusky_sieve.core.advice.document import Proposal
from dusky_sieve.core.advice.ladder import Ladder
from dusky_sieve.core.advice.propose import aim, narrowed, propose
from dusky_sieve.core.advice.rules import refusal
from dusky_sieve.core.advice.situation import CHANGES_FAULTS, Situation
from dusky_sieve.core.diagnosis import Cause, CauseName
from dusky_sieve.core.layout import Frozen
from dusky_sieve.core.steps import CLEANS, StepName, StepTable

TRIED: tuple[StepName, ...] = ("clean", "rest", "seal_clean", "cap_soak", "paper_flush", "line_flush", "deep_clean", "head_soak", "prepare", "remap")  # fmt: skip
MOST_REMAPPED = 10  # nozzles beyond which neighbours no longer hide the gaps
DEPTH = 4  # steps looked ahead; a fifth changes nothing that is shown


class Prices(Frozen):
    """What time, room in the pad and risk count beside ink, in the owner's money."""

    waiting_hour: float = Field(ge=0)
    attended_hour: float = Field(ge=0)
    pad_ml: float = Field(ge=0)
    hand_over: float = Field(gt=0)
    risk: dict[StepName, float] = {}
    origin: str


class CureTable(Frozen):
    """How likely a step clears the sheet under each cause, and what the rest of it counts.

    again : factor on that chance each time the same kind of step has failed before
    prior_tries : tries that the table's chance counts for against a printer's own record
    usual_faults, size_power : faults for which the chances hold, and the power by which they fall with more
    most : how often a step is looked ahead to
    """

    cures: dict[StepName, dict[CauseName, float]]
    otherwise: float = Field(gt=0, lt=1)
    again: float = Field(gt=0, le=1)
    prior_tries: float = Field(gt=0)
    usual_faults: float = Field(gt=0)
    size_power: float = Field(ge=0, le=1)
    most: dict[StepName, int]
    prices: Prices
    origin: str

    def chance(self, step: StepName, cause: CauseName) -> float:
        """Chance that a first try clears the sheet."""
        kind: StepName = "clean" if step in CLEANS else step
        return self.cures.get(kind, {}).get(cause, self.otherwise)


def price(proposal: Proposal, prices: Prices) -> float:
    """What a step counts in all: ink, pad, waiting, attention, risk; the sheet after it is in it."""
    attended = (proposal.attended_minutes + 1) / 60
    waiting = max(proposal.minutes / 60 - proposal.attended_minutes / 60, 0)
    return (
        proposal.cost + proposal.waste_ml * prices.pad_ml + waiting * prices.waiting_hour + attended * prices.attended_hour
        + prices.risk.get(proposal.step, 0.0)
    )  # fmt: skip


def cheapest(
    s: Situation, ladder: Ladder, table: StepTable, causes: tuple[Cause, ...], cures: CureTable
) -> Proposal | None:
    """The step with the least expected total; None where handing over is cheaper than anything open."""
    if s.all_covered:
        why = (
            "Every nozzle at fault is remapped: its neighbours print for it. Carry on; check again when the next check is due.",
        )
        return propose("carry_on", None, s, table, why=why)
    options = _open(s, ladder, table)
    prices = [price(p, cures.prices) for p in options]
    belief = [c.probability * _survived(c.cause, s, cures) for c in causes]
    chances = [[_size(cures, s) * _own(p, cures, s) * cures.chance(p.step, c.cause) for c in causes] for p in options]
    failed = [_failed(p.step, s) for p in options]
    # A remap ends the search: where it was no dead nozzle, nobody sees that until somebody else must mend it.
    final = {k for k, p in enumerate(options) if p.step == "remap"}
    most = [cures.most.get("clean" if p.step in CLEANS else p.step, 1) for p in options]

    def left(tries: tuple[int, ...]) -> list[float]:
        """Belief, not normalised, after so many further failures of each option."""
        weights = list(belief)
        for k, count in enumerate(tries):
            for n in range(count):
                factor = cures.again ** (failed[k] + n)
                weights = [w * (1 - min(q * factor, 0.95)) for w, q in zip(weights, chances[k], strict=True)]
        return weights

    @cache
    def total(tries: tuple[int, ...], depth: int) -> tuple[float, int]:
        """Expected total from here, and the option that reaches it (-1: hand over)."""
        best, choice = cures.prices.hand_over, -1
        if depth == 0:
            return best, choice
        mass = sum(left(tries))
        for k in range(len(options)):
            if tries[k] >= most[k]:
                continue
            after = (*tries[:k], tries[k] + 1, *tries[k + 1 :])
            stays = sum(left(after)) / mass if mass > 1e-12 else 1.0
            value = prices[k] + stays * (total(after, depth - 1)[0] if k not in final else cures.prices.hand_over)
            if value < best - 1e-9:
                best, choice = value, k
        return best, choice

    none = (0,) * len(options)
    ranked = []
    for k in range(len(options)):
        after = (*none[:k], 1, *none[k + 1 :])
        stays = sum(left(after)) / sum(belief)
        rest = cures.prices.hand_over if k in final else total(after, DEPTH - 1)[0]
        ranked.append((prices[k] + stays * rest, k, 1 - stays))
    if not ranked or min(ranked)[0] >= cures.prices.hand_over:
        return None
    ranked.sort(key=lambda item: (round(item[0], 6), options[item[1]].step))
    value, k, clears = ranked[0]
    words = [
        f"{table[options[k].step].title} counts {prices[k]:.2f} in ink, pad, time and risk and clears the sheet with {clears:.0%}: "
        f"{value:.2f} expected in all until clear, against {cures.prices.hand_over:.0f} for handing over."
    ]
    words += [
        f"{table[options[j].step].title}: {prices[j]:.2f} now, clears with {p:.0%}, {v:.2f} in all."
        for v, j, p in ranked[1:4]
    ]
    return options[k].model_copy(
        update={"why": tuple(words), "clears": round(clears, 4), "expected_total": round(value, 2)}
    )


def _open(s: Situation, ladder: Ladder, table: StepTable) -> list[Proposal]:
    """Steps that no rule refuses now, as narrow as the printer can."""
    found = []
    for name in TRIED:
        channels = aim(name, s, "worst" if name == "paper_flush" else "one-or-all" if name == "line_flush" else "bad")
        step = narrowed(name, s, channels)
        many = step == "remap" and sum(len(v) for v in s.faulty.values()) > MOST_REMAPPED
        if not many and refusal(step, channels, s, ladder, table) is None:
            found.append(propose(step, channels, s, table, why=(), pages=4 if step == "paper_flush" else None))
    return found


def _failed(step: StepName, s: Situation) -> int:
    """How often this kind of step was done in this case and left no fewer faults."""
    if step not in CHANGES_FAULTS:
        return s.count(step)
    return sum(s.vain.get(name, 0) for name in (CLEANS if step in CLEANS else (step,)))


def _survived(cause: CauseName, s: Situation, cures: CureTable) -> float:
    """Chance that all tries in vain so far, but for the last one that the signs already speak of, failed under a cause."""
    chance = 1.0
    last = s.last(*CHANGES_FAULTS)
    for name, count in s.vain.items():
        for n in range(count - (last is not None and last.step == name)):
            chance *= 1 - min(cures.chance(name, cause) * cures.again**n, 0.95)
    return chance


def _size(cures: CureTable, s: Situation) -> float:
    """Factor on all chances by how many faults there are: a few go together more often than many."""
    faults = sum(len(v) for v in s.faulty.values())
    return float((cures.usual_faults / max(faults, 1)) ** cures.size_power)


def _own(proposal: Proposal, cures: CureTable, s: Situation) -> float:
    """Factor on the table's chances: the share of bad channels it reaches, and this printer's own record of the step.

    The record updates a Beta prior that stands for the table's chance.
    """
    reached = len(set(s.bad_channels) & set(proposal.channels or s.bad_channels)) / max(1, len(s.bad_channels))
    record = s.case.printer.record.get(proposal.step)
    if record is None or record.done == 0:
        return reached
    kind: StepName = "clean" if proposal.step in CLEANS else proposal.step
    usual = max(cures.cures.get(kind, {}).values(), default=cures.otherwise)
    helped = (record.cleared + cures.prior_tries * usual) / (record.done + cures.prior_tries)
    return reached * helped / usual
