"""A case step by step: what may be started, finished, dropped, told afterwards and closed, and what each books."""

from datetime import timedelta

import pytest
from tests.conftest import NOON

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, ChannelFaults, Printer, StepEvent
from dusky_sieve.core.errors import DuskySieveError, OutOfTurn, UnknownThing, UnusableInput
from dusky_sieve.services import ladders, printers
from dusky_sieve.services.printers import Row
from dusky_sieve.store import CaseRecord, Store

NAMES = ("black", "cyan", "magenta", "yellow")
LAYOUT = files.shipped_layout("four-staircases")
MINUTE, HOUR = timedelta(minutes=1), timedelta(hours=1)


@pytest.fixture
def case(store: Store) -> CaseRecord:
    """Three gaps in black, told by hand at noon."""
    channels = tuple(Channel(name=n, nozzles=180, group="A", capacity_ml=70, level_ml=40, price_per_ml=0.1) for n in NAMES)  # fmt: skip
    printer = Printer(name="Larch", channels=channels, abilities=("clean", "deep_clean"))
    kept = store.add_printer("larch", printer, LAYOUT, {})
    opened = store.open_case(kept, NOON, printer)
    store.add_sheet(kept, NOON, "Jory", faults={"black": ChannelFaults(missing=(40, 41, 97)), "cyan": ChannelFaults()}, case_id=opened)  # fmt: skip
    return services.find_case(store, opened)


def proposed(store: Store, case: CaseRecord) -> str:
    return services.advice_for(store, case, NOON + MINUTE).next.step


def total(store: Store, case: CaseRecord) -> float:
    return services.cost_so_far(store, case).ink_ml


def test_the_proposed_step_is_started_once_and_only_what_is_finished_is_booked(store, case):
    step = proposed(store, case)
    event = services.start_step(store, case, step, "Jory", NOON + MINUTE)
    running = services.step_under_way(store, case)
    assert running is not None
    assert isinstance(running.event, StepEvent)
    assert running.event.step == step
    with pytest.raises(OutOfTurn, match="still under way"):
        services.start_step(store, case, step, "Ada", NOON + 2 * MINUTE)
    assert total(store, case) == 0
    until = running.event.until or NOON + 10 * MINUTE
    services.finish_step(store, event, "Jory", until)
    assert services.step_under_way(store, case) is None
    booked = total(store, case)
    with pytest.raises(OutOfTurn, match="Nothing was booked twice"):
        services.finish_step(store, event, "Ada", until + MINUTE)
    assert total(store, case) == booked


def test_a_dropped_step_books_nothing_and_the_same_is_proposed_again(store, case):
    step = proposed(store, case)
    event = services.start_step(store, case, step, "Jory", NOON + MINUTE)
    services.drop_step(store, event, NOON + 2 * MINUTE)
    assert (total(store, case), proposed(store, case)) == (0, step)
    with pytest.raises(OutOfTurn, match="nothing to take back"):
        services.drop_step(store, event, NOON + 3 * MINUTE)
    with pytest.raises(OutOfTurn, match="never started"):
        services.finish_step(store, 999, "Jory", NOON + 3 * MINUTE)


def test_a_step_that_the_advice_does_not_propose_is_not_started_and_says_why(store, case):
    unasked = next(s for s in files.step_table() if s not in {p.step for p in services.advice_for(store, case, NOON + MINUTE).alternatives} and s != proposed(store, case))  # fmt: skip
    with pytest.raises(OutOfTurn, match="was not started"):
        services.start_step(store, case, unasked, "Jory", NOON + MINUTE)
    assert services.step_under_way(store, case) is None


@pytest.mark.parametrize(
    ("channels", "at", "error", "says"),
    [
        pytest.param(None, NOON - HOUR, UnusableInput, "between the case's first sheet", id="before the case began"),
        pytest.param(None, NOON + 3 * HOUR, UnusableInput, "between the case's first sheet", id="in the time to come"),
        pytest.param(("teal",), NOON + MINUTE, UnusableInput, "no channel “teal”", id="a channel it does not have"),
    ],
)
def test_a_step_told_afterwards_must_fit_the_case(store, case, channels, at, error, says):
    with pytest.raises(error, match=says):
        services.step_was_done(store, case, "clean", channels, at, "Jory", NOON + 2 * HOUR)
    assert total(store, case) == 0


def test_a_step_told_afterwards_is_booked_at_its_own_time_and_counts_in_the_advice(store, case):
    services.step_was_done(store, case, "clean", None, NOON + HOUR, "Jory", NOON + 2 * HOUR)
    assert total(store, case) > 0
    document = services.case_document(store, case, NOON + 2 * HOUR)
    assert [(e.step, e.at) for e in document.events if isinstance(e, StepEvent)] == [("clean", NOON + HOUR)]


def test_a_refill_told_afterwards_fills_what_its_channels_can_hold(store, case):
    services.step_was_done(store, case, "refill", ("cyan",), NOON + HOUR, "Jory", NOON + 2 * HOUR)
    larch = services.find_printer(store, "larch")
    levels = {c.name: c.level_ml for c in services.printer_now(store, larch, NOON + 2 * HOUR).channels}
    assert levels["cyan"] == 70
    assert {n: levels[n] for n in NAMES if n != "cyan"} == dict.fromkeys((n for n in NAMES if n != "cyan"), 40)


def test_a_case_is_closed_once_takes_no_more_and_opens_again_unless_another_is_open(store, case):
    event = services.start_step(store, case, proposed(store, case), "Jory", NOON + MINUTE)
    with pytest.raises(OutOfTurn, match="still under way"):
        services.close_case(store, case, NOON + HOUR, "clear")
    services.drop_step(store, event, NOON + 2 * MINUTE)
    services.close_case(store, case, NOON + HOUR, "clear")
    closed = services.find_case(store, case.id)
    for act in (
        lambda: services.close_case(store, closed, NOON + 2 * HOUR, "clear"),
        lambda: services.start_step(store, closed, "clean", "Jory", NOON + 2 * HOUR),
        lambda: services.step_was_done(store, closed, "clean", None, NOON + MINUTE, "Jory", NOON + 2 * HOUR),
        lambda: services.tell(store, closed, {"cap_dirty": True}, "Jory", NOON + 2 * HOUR),
    ):
        with pytest.raises(OutOfTurn, match="closed"):
            act()
    services.reopen_case(store, closed)
    assert services.find_case(store, case.id).closed is None
    with pytest.raises(OutOfTurn, match="cannot be opened again"):
        services.reopen_case(store, services.find_case(store, case.id))


def test_what_is_told_is_one_of_the_facts_there_are(store, case):
    services.tell(store, case, {"cap_dirty": True}, "Jory", NOON + MINUTE)
    assert any(getattr(e, "facts", {}).get("cap_dirty") for e in services.case_document(store, case, NOON + HOUR).events)  # fmt: skip
    for facts, says in (({"moon_phase": 1}, "moon_phase: expected one of the facts"), ({}, "Nothing was said")):
        with pytest.raises(UnusableInput, match=says):
            services.tell(store, case, facts, "Jory", NOON + MINUTE)


def test_what_is_not_there_is_named_with_where_to_look(store, case):
    for look, says in (
        (lambda: services.find_printer(store, "birch"), "Known printers: Larch"),
        (lambda: services.find_case(store, 77), "The room lists"),
        (lambda: services.find_sheet(store, 77), "The printer's page lists"),
        (lambda: ladders.ladder_of(store, "no-such"), "no-such"),
    ):
        with pytest.raises(UnknownThing, match=says):
            look()


def row(channel: str, box: tuple[float, float, float, float] | None = None, backing: str = "light") -> Row:
    return Row(channel=channel, ink="#1d1c20", nozzles=180, backing=backing, box=box)


def test_blocks_are_read_in_bands_from_the_top_each_from_the_left_light_before_dark():
    rows = [
        row("below right", (0.5, 0.6, 0.9, 0.8)), row("white", (0.1, 0.1, 0.4, 0.3), "dark"), row("above right", (0.5, 0.12, 0.9, 0.31)),
        row("above left", (0.1, 0.1, 0.4, 0.3)), row("below left", (0.1, 0.55, 0.4, 0.75)),
    ]  # fmt: skip
    ordered = [r.channel for r in printers.in_reading_order(rows)]
    assert ordered == ["above left", "above right", "below left", "below right", "white"]
    unboxed = [*rows, row("typed only")]
    assert printers.in_reading_order(unboxed) == unboxed


def test_two_printers_cannot_have_one_name_and_a_learnt_layout_stays_once_sheets_were_accepted(store, case):
    with pytest.raises(OutOfTurn, match="a printer “Larch” already"):
        printers.set_up(store, "Larch", "", LAYOUT, [], None)
    larch = services.find_printer(store, "larch")
    fewer = LAYOUT.model_copy(update={"blocks": LAYOUT.blocks[:3]})
    with pytest.raises(UnusableInput, match="expected those of Larch"):
        printers.teach_again(store, larch, fewer, ())
    printers.teach_again(store, larch, LAYOUT, ("its scale is a guess",))
    assert services.find_printer(store, "larch").habits.doubts == ("its scale is a guess",)


def test_a_printer_set_up_from_a_layout_alone_has_its_channels_and_counts(store):
    slug = printers.set_up(store, "Silver Birch", "by the window", LAYOUT, [], None, doubts=("look again",))
    birch = services.find_printer(store, slug)
    assert {c.name: c.nozzles for c in birch.printer.channels} == dict.fromkeys(NAMES, 180)
    assert (birch.habits.doubts, birch.inks["black"]) == (("look again",), LAYOUT.blocks[0].ink)


def test_every_refusal_of_a_service_is_one_sentence_of_ours(store, case):
    """Pages show these as they are: none may leak a key, a trace or an empty text."""
    for act in (lambda: services.find_case(store, -1), lambda: services.drop_step(store, -1, NOON)):
        with pytest.raises(DuskySieveError) as raised:
            act()
        assert str(raised.value).endswith(".")
        assert len(str(raised.value)) > 20
