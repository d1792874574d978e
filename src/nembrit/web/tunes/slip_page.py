"""What the page of a slip shows: the sentence, every flight with how it stands, dots, and metrics in groups."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.core.trials.counting import Standing
from nembrit.core.trials.gone import FaultGone
from nembrit.core.trials.looks import level_after
from nembrit.core.trials.metrics import mean_of, metric_kind
from nembrit.core.trials.plan import MOST_FLIGHTS, ORDERS, Plan
from nembrit.core.trials.trial import WORDS, TrialVerdict
from nembrit.core.trials.verdict import Comparison, MetricVerdict
from nembrit.core.types import AXES
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.giving import lines_between
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import GROUPS, diff
from nembrit.web.tunes.dots import dot_rows
from nembrit.web.tunes.models import Decision, Slip
from nembrit.web.tunes.predictions import rows_of
from nembrit.web.tunes.services import metric_label
from nembrit.web.tunes.trials import record_from, trial_of
from nembrit.web.tunes.wingcare import check_of


@dataclass(frozen=True, slots=True, kw_only=True)
class MetricGroup:
    """Metrics of one kind; open where one of them judges or says something."""

    label: str
    rows: tuple[tuple[MetricVerdict, str], ...]
    is_open: bool
    says: str


@while_unchanged
def context_of(slip: Slip) -> dict[str, Any]:
    """For the template; a decided slip shows what was frozen when it was decided."""
    trial = trial_of(slip)
    decision: Decision | None = getattr(slip, "decision", None)
    record = record_from(decision.trial) if decision else None
    verdict, plan = (record.verdict, record.plan) if record else (trial.verdict, trial.plan)
    frozen = {one.flight.number: one for one in record.standing} if record else None
    standing = list(frozen.values()) if frozen else [row.standing for row in trial.judged if row.standing]
    judged = [row for row in trial.judged if frozen is None or row.flight.number in frozen]
    base, result = slip.base_configuration, slip.result_configuration
    checks = check_of(slip)
    is_told = decision is not None or verdict.word != "not_yet" or bool(slip.looks)
    means = means_of(verdict.comparison) or means_so_far(standing) if is_told else {}
    met_rows = rows_of(slip, means)
    return {
        "craft": slip.tune.craft,
        "tune": slip.tune,
        "slip": slip,
        "group_label": GROUPS[slip.group],
        "also_label": GROUPS.get(slip.also, ""),
        "changes": diff(base, result) if base and result else (),
        "lines": lines_between(base, result) if base and result else "",
        "way_back": lines_between(result, base) if base and result else "",
        "verdict": verdict,
        "word": WORDS[verdict.word],
        "fault": record.fault if record else trial.fault,
        "recovered": record.recovered if record else trial.recovered,
        "plan": plan,
        "order_label": ORDERS[plan.order],
        "primary_label": metric_label(plan.primary.metric),
        "limits": [(metric_label(one.metric), one.in_words) for one in plan.limits],
        "groups": metric_groups(verdict.comparison),
        "met_rows": met_rows,
        "missed": any(row.met and row.met.is_miss for row in met_rows),
        "is_told": is_told,
        "heading": _heading(slip, decision, verdict, record.fault if record else trial.fault, checks[-1:]),
        "dots": dot_rows(standing, plan) if is_told else (),
        "present_level": level_after(plan.looks, plan.totals[-1]),
        "looked_level": level_after((*plan.looks, min(verdict.n_before, verdict.n_after)), plan.totals[-1]),
        "judged": judged,
        "checks": checks,
        "newest_check": checks[-1] if checks else None,
        "is_plane": slip.tune.craft.kind == Craft.Kind.FIXED_WING,
        "is_simulated": bool(judged) and all(row.flight.is_simulated for row in judged),
        "states": frozen or {row.flight.number: row.standing for row in trial.judged},
        "without_card": trial.without_card if decision is None else [],
        "axes": AXES,
        "decision": decision,
        "is_frozen": record is not None,
        "next_total": next_total(plan, verdict),
    }


def _heading(
    slip: Slip, decision: Decision | None, verdict: TrialVerdict, fault: FaultGone | None, newest: Sequence[tuple[Flight, Any]]
) -> str:
    """What the slip says, in a line: a plane's own check, what became of a repaired fault, else the verdict."""
    is_undone = decision is not None and decision.outcome == Decision.Outcome.UNDO
    if newest and verdict.word == "not_yet" and not is_undone:
        ((flight, check),) = newest
        return f"Flight {flight.number} {'shows that it is trimmed' if check.passed else 'is not trimmed yet'}"
    if is_undone:
        return f"Undone; {verdict.sentence}"
    if fault is not None and fault.is_said:
        name = slip.cause_code.replace("_", " ")
        return f"{name[:1].upper()}{name[1:]}: {fault.in_words}"
    return f"{verdict.sentence[:1].upper()}{verdict.sentence[1:]}"


def means_of(comparison: Comparison | None) -> dict[str, tuple[float | None, float | None]]:
    """The flights' means before and after, by metric."""
    return {one.name: (one.before_mean, one.after_mean) for one in (comparison.metrics if comparison else ())}


def means_so_far(standing: Sequence[Standing]) -> dict[str, tuple[float | None, float | None]]:
    """The same while the planned number is not flown: of the flights that count up to now."""
    flown = [one.flight for one in standing if one.counts]
    found: dict[str, tuple[float | None, float | None]] = {}
    for name in {name for flight in flown for name in flight.metrics}:
        if (kind := metric_kind(name)) is not None:
            before, after = (
                mean_of([one.metrics[name] for one in flown if one.is_after == side and name in one.metrics], kind)
                for side in (False, True)
            )
            found[name] = (before, after)
    return found


def metric_groups(comparison: Comparison | None) -> list[MetricGroup]:
    """The metrics of a comparison by kind, the judging one's first."""
    kinds: dict[str, list[MetricVerdict]] = {}
    for metric in comparison.metrics if comparison else ():
        kinds.setdefault(metric.kind.label, []).append(metric)
    found = []
    for label, metrics in kinds.items():
        notable = [one for one in metrics if one.is_primary or one.verdict in ("better", "worse")]
        says = "; ".join(f"{metric_label(one.name)}: {one.verdict}" for one in notable if one.verdict in ("better", "worse"))
        rows = tuple((one, metric_label(one.name)) for one in metrics)
        found.append(MetricGroup(label=label, rows=rows, is_open=bool(notable), says=says or "nothing clear"))
    return found


def next_total(plan: Plan, verdict: TrialVerdict) -> int | None:
    """Flights a side that an extension would go on to; None while the plan is not flown, or where there is no more room."""
    last = plan.totals[-1]
    if verdict.word == "not_yet" or plan.extensions or last >= MOST_FLIGHTS:
        return None
    return min(2 * last, MOST_FLIGHTS)
