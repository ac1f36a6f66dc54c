"""Signs of causes in a situation, each with the numbers its words need."""

from itertools import pairwise

from dusky_sieve.core.advice.situation import CHANGES_FAULTS, Situation, overall_movement

IDLE_DAYS = 7  # from which standing still counts as idle, job: print every colour weekly
DRY_PCT = 35  # relative humidity under which ink dries in the nozzles faster
LOW_SHARE = 0.15  # of a tank, below which it may be starving its channel
INK_CHANGED_DAYS = 30  # within which a change of ink still explains trouble
END_SHARE = 0.12  # of a head, from each end, where caps leak and drafts dry first
LEAST_PLACED = 4  # faults from which their places say something
MOSTLY_ENDS = 0.7  # of the faults at the ends, from which the ends are to blame: 24 % of them would lie there by chance
STEADY_SHEETS = 4  # sheets with the same faults, whatever was done, from which they count as dead
LEAST_TAIL = 6  # faults in a row from one end of the head, from which the ink may not follow
STRONG = ("deep_clean", "line_flush", "cap_soak", "head_soak")
CLUSTER_GAP = 3  # nozzles between faults that still lie together


def signs_of(s: Situation) -> dict[str, dict[str, object]]:
    """The signs present in a situation, each with the numbers its words need."""
    signs: dict[str, dict[str, object]] = {}
    bad, every = s.bad_channels, s.case.printer.channels
    movement = overall_movement(s)
    moved = [s.movement[n] for n in bad if s.movement[n].call == movement] or [
        m for m in s.movement.values() if m.call == movement
    ]
    if movement in ("fixed", "moving", "clearing") and moved:
        signs[movement] = {
            "stayed": sum(m.stayed for m in moved),
            "before": sum(m.before for m in moved),
            "after": sum(m.after for m in moved),
        }
    if s.unchanged and bad:
        signs["clean_changed_nothing"] = {}
    if movement == "moving" and len(bad) > max(1, len(every) // 2):
        signs["random_all_colours"] = {"channels": len(bad), "of": len(every)}
    if len(bad) == 1 and len(every) > 1:
        signs["one_channel"] = {"name": bad[0]}
    gone = [n for n in bad if s.severity[n] == "all"]
    if gone:
        signs["whole_channel"] = {"name": " and ".join(gone)}
    days, humidity = s.told.get("idle_days"), s.told.get("humidity_pct")
    if isinstance(days, int | float) and days >= IDLE_DAYS:
        signs["idle"] = {"days": f"{days:g}"}
    if isinstance(humidity, int | float) and humidity < DRY_PCT:
        signs["dry_air"] = {"pct": f"{humidity:g}"}
    if s.told.get("new_printer") or s.case.printer.first_fill:
        signs["new_printer"] = {}
    if s.told.get("air_in_line"):
        signs["air_seen"] = {}
    if s.told.get("cap_dirty"):
        signs["cap_dirty"] = {}
    if s.faulty and not bad and s.told.get("print_symptom"):
        signs["clear_but_bad_prints"] = {}
    low = [
        c for c in every if c.name in bad and c.capacity_ml and (s.levels[c.name] or 1e9) < LOW_SHARE * c.capacity_ml
    ]
    if low:
        signs["ink_low"] = {"name": low[0].name, "ml": f"{s.levels[low[0].name]:.1f}"}
    return signs | _spread(s) | _after_steps(s) | _places(s) | _told(s)


def _spread(s: Situation) -> dict[str, dict[str, object]]:
    bad, every = s.bad_channels, s.case.printer.channels
    groups = {c.group for c in every}
    hit = {c.group for c in every if c.name in bad}
    signs: dict[str, dict[str, object]] = {}
    if len(every) > 2 and len(bad) > 0.6 * len(every):
        signs["all_channels"] = {"channels": len(bad), "of": len(every)}
    if len(groups) > 1 and len(hit) == 1 and None not in hit and len(bad) > 1:
        signs["one_group"] = {"group": next(iter(hit))}
    return signs


def _after_steps(s: Situation) -> dict[str, dict[str, object]]:
    """What the last step that could change something did."""
    signs: dict[str, dict[str, object]] = {}
    last = s.last(*CHANGES_FAULTS)
    if last is None or s.stale or not s.bad_channels:
        return signs
    moved = list(s.movement.values())
    before, after = sum(m.before for m in moved), sum(m.after for m in moved)
    if last.step == "rest":
        signs |= {"rest_helped": {"before": before, "after": after}} if s.helped else {}
        signs |= {"rest_changed_nothing": {}} if s.unchanged else {}
    if last.step == "seal_clean" and s.helped:
        signs["seal_clean_helped"] = {"before": before, "after": after}
    if last.step in STRONG and s.unchanged:
        signs["strong_changed_nothing"] = {"step": last.step.replace("_", " ")}
    steady = [m for m in moved if m.call == "fixed" and m.trend and m.trend.sheets >= STEADY_SHEETS]
    if steady and s.unchanged and s.count(*CHANGES_FAULTS) >= STEADY_SHEETS - 1:
        signs["one_channel_dead_steady"] = {"sheets": max(m.trend.sheets for m in steady if m.trend)}
    return signs


def _places(s: Situation) -> dict[str, dict[str, object]]:
    """Where on the head the faults of the worst channel lie."""
    signs: dict[str, dict[str, object]] = {}
    for name in s.worst_first()[:1]:
        size = next(c.nozzles for c in s.case.printer.channels if c.name == name)
        faults = sorted(s.faulty[name])
        if not LEAST_PLACED <= len(faults) < 0.5 * size:
            continue
        run = longest = 1
        for a, b in pairwise(faults):
            run = run + 1 if b - a <= CLUSTER_GAP else 1
            longest = max(longest, run)
        if longest >= max(LEAST_PLACED, 0.5 * len(faults)):
            signs["run_of_nozzles"] = {"run": longest, "name": name}
        tail = _tail(faults, size)
        if tail >= max(LEAST_TAIL, 0.5 * len(faults)):
            signs["run_at_end"] = {"run": tail, "name": name}
        ends = sum(n <= END_SHARE * size or n > (1 - END_SHARE) * size for n in faults)
        if ends > MOSTLY_ENDS * len(faults):
            signs["head_ends"] = {"name": name}
    return signs


def _tail(faults: list[int], size: int) -> int:
    """Faults that reach one end of the head one beside the other."""
    best = 0
    for ordered, edge in ((faults, 1), ([size + 1 - n for n in reversed(faults)], 1)):
        count = 0
        while count < len(ordered) and ordered[count] <= edge + count + 1:
            count += 1
        best = max(best, count)
    return best


def _told(s: Situation) -> dict[str, dict[str, object]]:
    signs: dict[str, dict[str, object]] = {}
    days = s.told.get("ink_changed_days_ago")
    if isinstance(days, int | float) and days <= INK_CHANGED_DAYS:
        signs["ink_changed"] = {"days": f"{days:g}"}
    if s.told.get("refilled_ink"):
        signs["ink_kind_changed"] = {}
    if s.told.get("print_symptom") == "blank":
        signs["blank_prints"] = {}
    lined = [n for n, count in s.lines.items() if count and not s.faulty.get(n)]
    if lined and s.faulty:
        signs["lines_without_gaps"] = {"name": lined[0]}
    return signs
