"""The rules above every ladder. No ladder can edit them away; each refusal carries its reason and its end."""

from collections.abc import Callable, Iterable
from datetime import timedelta

from dusky_sieve.core.advice.document import Refusal
from dusky_sieve.core.advice.ladder import Ladder
from dusky_sieve.core.advice.situation import Situation, overall_movement, wait_over
from dusky_sieve.core.case import Channel, StepEvent
from dusky_sieve.core.ledger import book_step, channels_touched
from dusky_sieve.core.steps import CLEANS, DRAWS_INK, StepName, StepTable

DEEP_CLEAN_REST = timedelta(hours=12)  # since the last deep clean, job rule
LOW_MARK_SHARE = 0.10  # of a tank, below which nothing draws on it; where a low-ink message usually comes
CLEAN_LIMITS = {"watch-the-gaps": 4, "first-fill": 6}  # cleans without a rest, job rule; 3 for all others
CLEAN_LIMIT = 3
FLUSH_TANK_SHARE = 0.5  # of a tank, from which it counts as filled for a line flush; the job says full
MEMBER_STEPS = (
    "check",
    "clean",
    "group_clean",
    "channel_clean",
    "settings_check",
    "rest",
    "hand_over",
    "carry_on",
)
TECHNICIAN_STEPS = ("air_assist", "replace_head", "sensor_clean")
NEEDS_ABILITY = (
    "clean",
    "group_clean",
    "channel_clean",
    "deep_clean",
    "line_flush",
    "remap",
    "head_soak",
    "replace_head",
)
MENDS_NOZZLES = (
    *CLEANS,
    "deep_clean",
    "line_flush",
    "paper_flush",
    "cap_soak",
    "syringe_flush",
    "air_assist",
)


def refusal(
    step: StepName,
    channels: Iterable[str] | None,
    situation: Situation,
    ladder: Ladder,
    table: StepTable,
    *,
    only_person: bool = False,
) -> Refusal | None:
    """Why a step must not be done now, or None where nothing forbids it. The first reason found is the gravest.

    only_person : ask only whether this printer and this person may do it at all
    """
    wanted = tuple(channels) if channels is not None else None
    for check in ABOVE_ALL if not only_person else ABOVE_ALL[:2]:
        found = check(step, wanted, situation, ladder, table)
        if found is not None:
            return found
    return None


Names = tuple[str, ...] | None


def _beyond_printer(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    able = s.case.printer.abilities
    if step in NEEDS_ABILITY and step not in able:
        return Refusal(step=step, why=f"{s.case.printer.name} cannot do it.")
    if step == "head_soak" and "removable_head" not in able:
        return Refusal(step=step, why=f"The head of {s.case.printer.name} does not come out.")
    if step == "replace_head" and "replaceable_head" not in able:
        return Refusal(step=step, why=f"The head of {s.case.printer.name} cannot be replaced.")
    return None


def _beyond_person(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    level = s.case.printer.user_level
    if level == "member":
        if step not in MEMBER_STEPS:
            return Refusal(step=step, why="Not for a member: hand over to the owner or a technician.")
        if step in CLEANS and s.count(*CLEANS):
            return Refusal(step=step, why="A member cleans once; that was done. Hand over to the duty person.")
    if level != "technician" and step in TECHNICIAN_STEPS:
        return Refusal(step=step, why="Opens the machine: for a technician.")
    if level == "owner" and step == "syringe_flush" and "syringe_flush" not in (s.told.get("accepted") or ()):
        return Refusal(step=step, why="Only once its warning was read and accepted.")
    return None


def _refused_by_school(
    step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable
) -> Refusal | None:
    return Refusal(step=step, why=ladder.limits.never[step]) if step in ladder.limits.never else None


def _before_looking(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    if step not in MENDS_NOZZLES or not s.stale or (step == "line_flush" and s.told.get("air_in_line")):
        return None
    if step == "paper_flush" and s.steps and s.steps[-1].step == "paper_flush":
        return None
    seen = "Something was done since the last sheet" if s.sheets else "No sheet was read yet"
    return Refusal(step=step, why=f"{seen}: print one and look first.", remedy="check")


def _after_warnings(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    if step not in DRAWS_INK:
        return None
    if s.told.get("lockout_warning"):
        return Refusal(step=step, why="The printer warned that it will lock up: stop, and hand over.")
    if s.told.get("low_ink_message"):
        return Refusal(
            step=step, why="The printer reported low ink: refill before anything draws more.", remedy="refill"
        )
    if s.waiting is not None:
        return Refusal(
            step=step,
            why="The printer rests; cut short, the rest was for nothing.",
            until=wait_over(s.waiting, table, s.rest_hours),
        )
    return None


def _on_clear_sheet(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    if step in MENDS_NOZZLES and s.faulty and not s.bad_channels and not s.stale:
        return Refusal(step=step, why="The last sheet is clear: one more only costs ink and can bring gaps back.")
    return None


def _deep_clean_rules(
    step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable
) -> Refusal | None:
    if step != "deep_clean":
        return None
    last: StepEvent | None = s.last("deep_clean")
    if last is not None and s.case.now - last.at < DEEP_CLEAN_REST:
        hours = (s.case.now - last.at).total_seconds() / 3600
        return Refusal(
            step=step,
            why=f"The last deep clean was {hours:.0f} h ago; 12 h must lie between two.",
            until=last.at + DEEP_CLEAN_REST,
        )
    facts = s.facts()
    movement = overall_movement(s)
    grave = facts["worst"] in ("most", "all")
    if movement == "moving":
        return Refusal(step=step, why="The gaps wander: that is air or a seal, and a deep clean never cures it.")
    if not grave and movement not in ("fixed", "mixed"):
        return Refusal(step=step, why="Only for gaps that stand still or a channel mostly gone; neither is shown yet.")
    share = max(ladder.limits.deep_clean_tank_share, 1 / 3)
    return _too_empty(step, [(c, share) for c in s.case.printer.channels], s)


def _too_empty(step: StepName, wanted: list[tuple[Channel, float]], s: Situation) -> Refusal | None:
    """Tanks below the share that a step asks of each."""
    short = [
        (c, share)
        for c, share in wanted
        if c.capacity_ml and (level := s.levels[c.name]) is not None and level < share * c.capacity_ml - 1e-9
    ]
    if not short:
        return None
    channel, share = min(short, key=lambda pair: (s.levels[pair[0].name] or 0) / (pair[0].capacity_ml or 1))
    return Refusal(
        step=step, remedy="refill", channels=tuple(c.name for c, _ in short),
        why=f"{channel.name} holds {s.levels[channel.name]:.1f} ml; it needs at least {share:.0%} of its tank, {share * (channel.capacity_ml or 0):.1f} ml. Refill first.",
    )  # fmt: skip


def _too_little_ink(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    if step not in DRAWS_INK:
        return None
    touched = channels_touched(s.case.printer, step, channels, table)
    if step == "line_flush":
        found = _too_empty(step, [(c, FLUSH_TANK_SHARE) for c in touched], s)
        if found is not None:
            return found
    need = table[step].ink(None).typical
    short = [c for c in touched if (level := s.levels[c.name]) is not None and level < need]
    if short:
        least = min(short, key=lambda c: s.levels[c.name] or 0.0)
        return Refusal(
            step=step, remedy="refill", channels=tuple(c.name for c in short),
            why=f"{least.name} holds {s.levels[least.name] or 0:.1f} ml and this takes about {need:.1f} ml. Refill first.",
        )  # fmt: skip
    found = _too_empty(step, [(c, LOW_MARK_SHARE) for c in touched], s)
    return found and found.model_copy(update={"why": f"Below the low mark: {found.why}"})


def _pad_full(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    pad = s.case.printer.waste
    if pad is None or s.pad_ml is None or step not in DRAWS_INK:
        return None
    # The strength is chosen later; the pad must take the strongest.
    level = 4 if step == "channel_clean" else None
    event = StepEvent(kind="step", at=s.case.now, step=step, channels=channels, level=level)
    waste = sum(entry.waste_ml for entry in book_step(s.case.printer, event, table))
    left = pad.capacity_ml - s.pad_ml
    if waste > left:
        remedy = "Replace the pad first." if pad.replaceable else "This pad cannot be replaced."
        return Refusal(
            step=step,
            why=f"It sends about {waste:.0f} ml to the pad, which has room for {max(left, 0):.0f} ml. {remedy}",
        )
    return None


def _too_many_cleans(step: StepName, channels: Names, s: Situation, ladder: Ladder, table: StepTable) -> Refusal | None:
    if step not in CLEANS:
        return None
    in_all = ladder.limits.cleans_in_all
    if in_all is not None and s.count(*CLEANS) >= in_all:
        times = "once" if in_all == 1 else f"{in_all} times"
        return Refusal(step=step, why=f"This school cleans {times} in a case; that was done.")
    limit = min(ladder.limits.cleans_without_rest, CLEAN_LIMITS.get(ladder.id, CLEAN_LIMIT))
    touched = [c.name for c in channels_touched(s.case.printer, step, channels, table)]
    done = max((s.cleans_since_rest.get(name, 0) for name in touched), default=0)
    if done >= limit:
        return Refusal(step=step, why=f"{done} cleans without a rest; {limit} is the limit. Let it rest {s.rest_hours:g} h.", remedy="rest")  # fmt: skip
    bad = set(s.bad_channels if channels is None else channels) & set(s.bad_channels)
    if bad and bad <= s.blocked and ladder.limits.clean_after_no_change == "refuse":
        return Refusal(step=step, why="The last clean changed nothing: more of the same will not either.")
    return None


Rule = Callable[[StepName, Names, Situation, Ladder, StepTable], Refusal | None]
ABOVE_ALL: tuple[Rule, ...] = (
    _beyond_printer, _beyond_person, _refused_by_school, _after_warnings, _before_looking, _on_clear_sheet, _deep_clean_rules,
    _too_little_ink, _pad_full, _too_many_cleans,
)  # fmt: skip
