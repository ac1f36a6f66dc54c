"""The book played through, learnt from and looked ahead with: cases worked by hand, and what must hold for any history."""

import itertools
from datetime import UTC, timedelta
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import NOON

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, StepEvent, Waste
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.ledger import (
    PRINTS,
    Entry,
    as_csv,
    book_step,
    fills_to,
    forecast,
    in_ml,
    learn,
    measured,
    read_csv,
    replay,
)
from dusky_sieve.core.ledger.learn import not_below_zero

STEPS = files.step_table()
BLACK = Channel(name="black", nozzles=180, group="A", capacity_ml=70, level_ml=50, price_per_ml=0.2, window_mm=35, empty_g=21)  # fmt: skip
CYAN = Channel(name="cyan", nozzles=180, group="B", capacity_ml=70, level_ml=None, price_per_ml=0.2)
LARCH = Printer(name="Larch", channels=(BLACK, CYAN), waste=Waste(capacity_ml=200, used_ml=100))
DAY = timedelta(days=1)


def numbered(*entries):
    return dict(enumerate(entries, 1))


def did(day, step, **more):
    return book_step(LARCH, StepEvent(kind="step", at=NOON + day * DAY, step=step, **more), STEPS)


def level(day, ml, channel="black", **more):
    return Entry(at=NOON + day * DAY, what="level", channel=channel, ink_ml=ml, **more)


def ahead(printer, lines, now):
    return forecast(printer, lines, replay(printer, lines), learn(printer, lines, STEPS), STEPS, now)


def test_every_millilitre_is_somewhere():
    # Black 50 ml. A clean takes 0.8 to the pad, a page of it 1.2 onto paper, the eye then finds 45 and not 48:
    # 3 ml went and nobody booked them. Filled up: 70 - 45 = 25 from the bottle. The pad: 100 + 2 x 0.8 (cyan too).
    lines = numbered(
        *did(1, "clean"), *did(2, "paper_flush", channels=("black",), sheets=1), level(3, 45),
        *fills_to(LARCH, numbered(*did(1, "clean"), *did(2, "paper_flush", channels=("black",)), level(3, 45)), ["black"], NOON + 4 * DAY),
    )  # fmt: skip
    books = replay(LARCH, lines)
    assert books.levels == {"black": 70, "cyan": None}
    assert books.pad_ml == pytest.approx(101.6)
    assert books.accounts["paper"] == pytest.approx(1.2)
    assert books.accounts["drift black"] == pytest.approx(3.0)
    assert books.accounts["bottle"] == pytest.approx(-(50 + 100 + 25))
    assert sum(books.accounts.values()) == pytest.approx(0)
    assert replay(LARCH, lines, NOON + 3.5 * DAY).levels["black"] == pytest.approx(45)
    assert {t.number for t in books.transfers if t.target == "drift black"} == {4}


def test_a_tank_never_read_is_not_known_until_it_is_and_what_it_held_came_from_the_bottle():
    lines = numbered(*did(1, "clean"), level(2, 30, "cyan"))
    assert replay(LARCH, lines, NOON + 1.5 * DAY).levels["cyan"] is None
    books = replay(LARCH, lines)
    assert books.levels["cyan"] == 30
    assert "drift cyan" not in books.accounts  # a first reading finds what is there; nothing is missing yet
    assert sum(books.accounts.values()) == pytest.approx(0)


def test_a_wrong_line_is_replaced_by_a_later_one_and_the_past_can_be_told_as_it_was_known():
    written = NOON + 5 * DAY
    wrong = level(2, 14, entered=NOON + 2 * DAY)
    lines = {1: wrong, 2: level(2, 41, replaces=1, entered=written)}
    assert replay(LARCH, lines).levels["black"] == 41
    assert replay(LARCH, lines, known=written - DAY).levels["black"] == 14
    voided = lines | {3: Entry(at=written, what="void", replaces=2, entered=written + DAY)}
    assert replay(LARCH, voided).levels["black"] == 50


def test_a_new_pad_starts_empty_and_the_old_one_keeps_what_it_took():
    books = replay(LARCH, numbered(*did(1, "clean"), Entry(at=NOON + 2 * DAY, what="pad"), *did(3, "clean")))
    assert books.pad_ml == pytest.approx(1.6)
    assert books.accounts["carted off"] == pytest.approx(101.6)


@st.composite
def histories(draw):
    entries = []
    for day in range(draw(st.integers(1, 12))):
        at = NOON + day * DAY + timedelta(hours=draw(st.integers(0, 5)))
        kind = draw(st.sampled_from(["step", "fill", "level", "pad", "print"]))
        channel = "" if kind == "pad" else draw(st.sampled_from(["black", "cyan"]))
        ml = draw(st.floats(0, 60).map(lambda v: round(v, 2)))
        waste = round(ml * draw(st.floats(0, 1)), 2) if kind == "step" else 0.0
        replaces = draw(st.sampled_from([None, None, None, max(1, day - 1)]))
        entries.append(Entry(at=at, what=kind, step="clean" if kind == "step" else None, channel=channel, ink_ml=ml, waste_ml=waste, replaces=replaces))  # fmt: skip
    return entries


@given(histories())
@settings(max_examples=200, deadline=None)
def test_nothing_is_made_or_lost_whatever_happened(entries):
    books = replay(LARCH, numbered(*entries))
    assert sum(books.accounts.values()) == pytest.approx(0, abs=1e-4)
    for transfer in books.transfers:
        assert transfer.ml > 0
        assert transfer.source != transfer.target
    assert all(v is None or v >= 0 for v in books.levels.values())


@given(histories(), st.randoms(use_true_random=False))
@settings(max_examples=200, deadline=None)
def test_the_order_in_which_lines_are_written_down_changes_no_figure(entries, chance):
    plain = [e.model_copy(update={"replaces": None}) for e in entries]
    first = replay(LARCH, numbered(*plain))
    chance.shuffle(plain)
    again = replay(LARCH, numbered(*plain))
    assert (again.levels, again.pad_ml) == (first.levels, first.pad_ml)
    assert again.accounts == pytest.approx(first.accounts)


def test_what_a_clean_takes_is_learnt_from_readings_by_the_arithmetic_of_two_equations():
    # Ten days without a clean: 5 ml, so 0.5 a day. Ten days with four cleans: 17 ml, so 12 ml of cleans, 3 ml each.
    # Readings good to 0.05 ml leave the starting estimate of 0.8 ml no say.
    cleans = itertools.chain.from_iterable(did(d, "clean") for d in (12, 14, 16, 18))
    found = learn(LARCH, numbered(level(0, 60, sigma_ml=0.05), level(10, 55, sigma_ml=0.05), *cleans, level(20, 38, sigma_ml=0.05)), STEPS)  # fmt: skip
    clean, prints = found.of("black", "clean"), found.of("black", PRINTS)
    assert clean.ml == pytest.approx(3.0, abs=0.08)
    assert prints.ml == pytest.approx(0.5, abs=0.02)
    assert (clean.prior_ml, clean.times, clean.sure) == (0.8, 4, True)
    assert clean.low_ml < 3.0 < clean.high_ml
    assert found.of("cyan", PRINTS).times == 0


def test_without_readings_the_estimate_stays_and_is_not_called_sure():
    found = learn(LARCH, numbered(*did(1, "clean"), level(2, 40)), STEPS)
    assert [(x.channel, x.kind, x.ml) for x in found.learnt] == [("black", PRINTS, 0.4), ("cyan", PRINTS, 0.4)]
    assert not any(x.sure for x in found.learnt)


def test_a_stretch_that_fits_nothing_is_named_and_hardly_moves_what_was_learnt():
    # 0.5 ml a day for eighty days; in one stretch 30 ml are gone: a spill.
    ml, lines = 70.0, [level(0, 70, sigma_ml=0.5)]
    for k in range(1, 9):
        ml -= 5 + (30 if k == 5 else 0)
        lines.append(level(10 * k, ml, sigma_ml=0.5))
    found = learn(LARCH, numbered(*lines), STEPS)
    assert [s.odd for s in found.stretches if s.channel == "black"] == [k == 5 for k in range(1, 9)]
    assert found.of("black", PRINTS).ml == pytest.approx(0.5, abs=0.06)


def test_no_use_is_learnt_below_nothing():
    x = not_below_zero(np.array([[2.0, 0.9], [0.9, 1.0]]), np.array([1.0, -0.5]))
    assert x == pytest.approx([0.5, 0.0])
    still = learn(LARCH, numbered(level(0, 30, sigma_ml=0.1), level(30, 30.15, sigma_ml=0.1)), STEPS)
    assert still.of("black", PRINTS).ml == pytest.approx(0, abs=0.002)
    # A tank that rose was filled and nobody said so: the stretch is named, and says nothing of use.
    risen = learn(LARCH, numbered(level(0, 30, sigma_ml=0.1), level(10, 60, sigma_ml=0.1)), STEPS)
    assert risen.stretches[0].odd
    assert risen.of("black", PRINTS).ml == pytest.approx(0.4, abs=0.01)


def test_the_days_ahead_are_what_is_left_over_what_goes_a_day():
    # 0.5 ml a day learnt; 40 ml at the last reading, today; low at a tenth of 70: (40 - 7) / 0.5 = 66 days.
    lines = numbered(level(0, 50, sigma_ml=0.01), level(20, 40, sigma_ml=0.01))
    now = NOON + 20 * DAY
    seen = ahead(LARCH, lines, now)
    black = seen.tanks[0]
    assert black.days == pytest.approx(66, abs=0.5)
    assert black.days_low <= black.days <= black.days_high
    # Cyan was never read, so how many deep cleans the tanks allow is not known; the pad: 100 ml left, 2 x 12 ml each.
    assert (seen.deep_tank, seen.deep_pad, seen.pad_said) == (None, 4, None)
    full = LARCH.model_copy(update={"channels": (BLACK.model_copy(update={"level_ml": 48.0}),)})
    # A third of 70 is 23.3: at 48 ml, 36 ml and 24 ml a deep clean of 12 ml may start, at 12 ml none.
    assert ahead(full, {}, NOON).deep_tank == 3


@pytest.mark.parametrize(("used", "said"), [(150, None), (157, 0.8), (178, 0.9), (187, 0.95), (230, 0.95)])
def test_a_filling_pad_is_said_early(used, said):
    printer = LARCH.model_copy(update={"waste": Waste(capacity_ml=200, used_ml=used)})
    lines = numbered(*did(0, "clean"), *did(3, "clean"))
    seen = ahead(printer, lines, NOON + 8 * DAY)
    assert seen.pad_said == said
    # Two cleans of 1.6 ml in eight days are 0.4 ml a day.
    assert seen.pad_a_day_ml == pytest.approx(0.4)
    assert seen.pad_days == pytest.approx(max(0, (200 - used - 3.2) / 0.4))


@pytest.mark.parametrize(
    ("typed", "ml"), [("33", 33), ("40 %", 28), ("12,5 mm", 25), ("74 g", 50), ("0", 0), ("70 ml", 70)]
)
def test_a_level_is_read_as_millilitres_a_share_a_height_or_a_weight(typed, ml):
    # 40 % of 70; 12.5 of 35 mm of window; (74 - 21) g at 1.06 g/ml.
    assert in_ml(BLACK, *measured(typed)).ml == pytest.approx(ml)


@pytest.mark.parametrize(
    ("channel", "typed", "says"),
    [
        (BLACK, "71 ml", "between 0 and 70"), (BLACK, "36 mm", "between 0 and 70"), (BLACK, "20 g", "between 0"),
        (CYAN, "12 mm", "how high its window"), (CYAN, "90 g", "weight when empty"), (BLACK, "half", "no level"), (BLACK, "-3", "no level"),
        (CYAN.model_copy(update={"capacity_ml": None}), "40 %", "what its tank holds"),
    ],
)  # fmt: skip
def test_a_level_that_cannot_be_is_refused_with_its_reason(channel, typed, says):
    with pytest.raises(UnusableInput, match=says):
        in_ml(channel, *measured(typed))


def brought(text, book=None, now=NOON + 400 * DAY):
    return read_csv(text, LARCH, book or {}, ZoneInfo("Europe/Berlin"), now)


@pytest.mark.parametrize(
    "text",
    [
        "time,what,channel,amount\n2031-03-05T12:30:00Z,level,black,41.5 ml\n",
        "Channel;Date;Level (ml)\nBLACK;05.03.2031 13:30;41,5\n",
        "\ufeffink\tamount\twhen\r\nBlack\t41,5 ml\t5 Mar 2031 13:30\r\n\r\n",
    ],
    ids=["commas and points", "semicolons and decimal commas", "tabs, another order, a mark at the front"],
)
def test_a_table_is_understood_as_people_keep_it(text):
    (line,) = brought(text)
    assert line.why == ""
    assert (line.entry.what, line.entry.channel, line.entry.ink_ml) == ("level", "black", 41.5)
    assert line.entry.at.astimezone(UTC).isoformat() == "2031-03-05T12:30:00+00:00"


@pytest.mark.parametrize(
    ("row", "says"),
    [
        ("2031-03-05,level,green,4", "no channel of this printer: black, cyan"), ("2031-03-05,level,black,71", "between 0 and 70"),
        ("2031-03-05,level,black,lots", "no level"), ("2033-01-01,level,black,4", "lies ahead of now"), ("03/05/2031,level,black,4", "may be two days"),
        ("soon,level,black,4", "no date"), ("2031-02-30,level,black,4", "no date"), ("2031-03-05,gift,black,4", "none of level, fill"),
        ("2031-03-05,pad,,40 %", "said in ml"), ("2031-03-05", "no level"),
    ],
)  # fmt: skip
def test_each_line_that_cannot_be_is_refused_with_its_reason_and_the_others_stand(row, says):
    lines = brought(f"time,what,channel,amount\n{row}\n2031-03-06,level,black,40\n")
    assert says in lines[0].why
    assert lines[0].entry is None
    assert lines[1].entry.ink_ml == 40


def test_what_is_in_the_book_is_not_doubled_and_the_book_comes_back_as_it_went_out():
    book = numbered(level(1, 41.5, sigma_ml=1.4), Entry(at=NOON + 2 * DAY, what="print", channel="black", ink_ml=3.25), *did(3, "clean"))  # fmt: skip
    out = as_csv(book)
    assert all(line.known for line in brought(out, book))
    fresh = [line.entry for line in brought(out) if line.entry]
    assert [(e.what, e.ink_ml) for e in fresh] == [("level", 41.5), ("print", 3.25)]
    twice = brought("time,channel,amount\n2031-03-05,black,40\n2031-03-05,black,40\n")
    assert [bool(line.entry) for line in twice] == [True, False]


def test_a_level_from_before_the_last_fill_is_refused():
    book = numbered(Entry(at=NOON + 9 * DAY, what="fill", channel="black", ink_ml=20))
    (line,) = brought("time,channel,amount\n2031-03-05,black,40\n", book)
    assert "was filled on 11 Mar 2031" in line.why


@pytest.mark.parametrize(
    "text", ["", "a,b,c\n1,2,3\n", "time,amount\n2031-03-05,4\n", '"time,channel,amount\n', "\x00"]
)
def test_what_is_no_table_is_refused_whole(text):
    with pytest.raises(UnusableInput, match=r"Nothing was booked|nothing was booked"):
        brought(text)


@given(st.text(alphabet="timechanelout,;\t\n\"'0123456789.:-/ %mg=é\x00", max_size=300))
@settings(max_examples=300, deadline=None)
def test_no_table_however_broken_does_more_than_be_refused(text):
    try:
        for line in brought("time,channel,amount\n" + text):
            assert line.known or line.why or line.entry
    except UnusableInput:
        pass
