"""Odds of causes: Bayes over a readable table, worked out by hand and held against what a technician expects."""

import string
from random import Random

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from dusky_sieve import files
from dusky_sieve.core.diagnosis import SPEAKS_FOR, CauseTable, diagnose

TABLE = files.cause_table()
NUMBERS = {field: "7" for row in TABLE.signs.values() for _, field, _, _ in string.Formatter().parse(row.says) if field}
TWO = CauseTable.model_validate({
    "prior": {"dried_ink": 0.5, "air_or_prime": 0.5}, "prior_origin": "a test",
    "signs": {
        "fixed": {"says": "{stayed} stood", "otherwise": 0.1, "given": {"dried_ink": 0.6}, "origin": "a test"},
        "moving": {"says": "wander", "otherwise": 0.2, "given": {"air_or_prime": 0.8}, "origin": "a test"},
    },
})  # fmt: skip


def told(*signs: str) -> dict[str, float]:
    return {c.cause: c.probability for c in diagnose(dict.fromkeys(signs, NUMBERS), TABLE)}


def test_odds_are_those_of_bayes():
    assert [(c.cause, c.probability) for c in diagnose({}, TWO)] == [("air_or_prime", 0.5), ("dried_ink", 0.5)]
    [first, second] = diagnose({"fixed": {"stayed": 3}}, TWO)
    assert (first.cause, first.probability) == ("dried_ink", pytest.approx(0.6 / 0.7, abs=1e-4))
    assert (first.because, second.because) == (("3 stood",), ())
    both = {c.cause: c.probability for c in diagnose({"fixed": {"stayed": 3}, "moving": {}}, TWO)}
    assert both["dried_ink"] == pytest.approx(0.6 * 0.2 / (0.6 * 0.2 + 0.1 * 0.8), abs=1e-4)


@settings(max_examples=80, deadline=None)
@given(st.sets(st.sampled_from(sorted(TABLE.signs)), max_size=8), st.randoms())
@example({"new_printer", "strong_changed_nothing"}, Random(1))  # their product ends in a five
def test_whatever_is_seen_the_odds_come_to_one_likeliest_first_in_any_order(signs, chance):
    causes = diagnose(dict.fromkeys(sorted(signs), NUMBERS), TABLE)
    assert sum(c.probability for c in causes) == pytest.approx(1, abs=0.001)
    assert [c.probability for c in causes] == sorted((c.probability for c in causes), reverse=True)
    mixed = sorted(signs)
    chance.shuffle(mixed)
    assert diagnose(dict.fromkeys(mixed, NUMBERS), TABLE) == causes


@settings(max_examples=40, deadline=None)
@given(st.sampled_from(sorted(TABLE.signs)), st.sets(st.sampled_from(sorted(TABLE.signs)), max_size=3))
def test_a_sign_never_makes_the_cause_it_speaks_for_most_less_likely(sign, others):
    row = TABLE.signs[sign]
    cause = max(row.given, key=lambda name: row.given[name])
    assert told(sign, *others)[cause] >= told(*(others - {sign}))[cause] - 1e-4


def test_a_reason_is_named_only_where_it_speaks_for_its_cause():
    for sign, row in TABLE.signs.items():
        for cause in diagnose({sign: NUMBERS}, TABLE):
            speaks = row.given.get(cause.cause, row.otherwise) > SPEAKS_FOR * row.otherwise
            assert bool(cause.because) == speaks


@pytest.mark.parametrize(
    ("signs", "cause"),
    [
        (("fixed", "idle", "one_channel"), "dried_ink"),
        (("moving", "air_seen"), "air_or_prime"),
        (("moving", "random_all_colours", "cap_dirty", "clean_changed_nothing"), "seal_leak"),
        (("fixed", "one_channel", "strong_changed_nothing", "one_channel_dead_steady", "rest_changed_nothing"), "dead_nozzle"),
        (("whole_channel", "ink_low"), "starved"),
        (("new_printer", "random_all_colours"), "shipping_fluid"),
        (("clear_but_bad_prints",), "not_nozzles"),
    ],
)  # fmt: skip
def test_what_a_technician_would_say_first_comes_first(signs, cause):
    odds = told(*signs)
    assert max(odds, key=lambda name: odds[name]) == cause


def test_every_number_of_the_table_says_where_it_comes_from():
    assert TABLE.prior_origin
    assert sum(TABLE.prior.values()) == pytest.approx(1)
    for row in TABLE.signs.values():
        assert row.origin
        assert set(row.given) <= set(TABLE.prior)
        assert all(0 < share < 1 for share in row.given.values())
