"""From what was seen and told to likely causes: odds by naive Bayes over a readable table."""

from collections.abc import Mapping
from typing import Literal

from pydantic import Field

from dusky_sieve.core.layout import Frozen

SPEAKS_FOR = 1.8  # likelihood over that of the other causes, from which a sign is named as a reason
CauseName = Literal[
    "dried_ink",
    "air_or_prime",
    "shipping_fluid",
    "starved",
    "seal_leak",
    "dead_nozzle",
    "debris",
    "not_nozzles",
]


class Likelihood(Frozen):
    """How probable a sign is under each cause (causes left out: the table's `otherwise`), and how to say it."""

    says: str
    otherwise: float = Field(gt=0, lt=1)
    given: dict[CauseName, float]
    origin: str


class CauseTable(Frozen):
    """Prior odds of the causes and the likelihood of every sign."""

    prior: dict[CauseName, float]
    prior_origin: str
    signs: dict[str, Likelihood]


class Cause(Frozen):
    """One cause with its posterior probability and the reasons that speak for it."""

    cause: CauseName
    probability: float
    because: tuple[str, ...] = ()


def diagnose(signs: Mapping[str, Mapping[str, object]], table: CauseTable) -> tuple[Cause, ...]:
    """Causes, likeliest first, from the signs present; `signs` maps a sign's name to the numbers its words need.

    Bayes' rule with signs taken as independent given the cause.
    """
    weight = dict(table.prior)
    for name in sorted(signs):  # a product ends a little otherwise in another order, and then may be rounded otherwise
        row = table.signs[name]
        for cause in weight:
            weight[cause] *= row.given.get(cause, row.otherwise)
    total = sum(weight.values())
    odds = {cause: round(value / total, 4) for cause, value in weight.items()}
    causes = []
    for cause, probability in sorted(odds.items(), key=lambda item: (-item[1], item[0])):
        speaking = [
            row.says.format_map(dict(signs[name]))
            for name, row in table.signs.items()
            if name in signs and row.given.get(cause, row.otherwise) > SPEAKS_FOR * row.otherwise
        ]
        causes.append(Cause(cause=cause, probability=probability, because=tuple(speaking)))
    return tuple(causes)
