"""Causes to next step: ladders as data, rules above them, what a step takes, what is refused."""

from dusky_sieve.core.advice.check import check_ladder
from dusky_sieve.core.advice.choose import advise
from dusky_sieve.core.advice.document import Advice, Proposal, Refusal, School
from dusky_sieve.core.advice.ladder import Ladder, parse_ladder
from dusky_sieve.core.advice.leastcost import CureTable
from dusky_sieve.core.advice.propose import propose
from dusky_sieve.core.advice.rules import refusal
from dusky_sieve.core.advice.situation import Situation, size_up

__all__ = [
    "Advice",
    "CureTable",
    "Ladder",
    "Proposal",
    "Refusal",
    "School",
    "Situation",
    "advise",
    "check_ladder",
    "parse_ladder",
    "propose",
    "refusal",
    "size_up",
]
