"""What a trial says: one sentence that is true, from the flights that count, at the number that was planned."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.trials.counting import FlownFlight, Standing, ruled
from nembrit.core.trials.looks import LEVEL, level_after, levels_of
from nembrit.core.trials.measured import judged_by_intervals
from nembrit.core.trials.metrics import MetricKind, metric_kind, metric_label
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.plan import MEASURED, Limit, Plan
from nembrit.core.trials.verdict import Comparison, FlightValues, MetricVerdict, compare_flights, in_per_cent, scaled
from nembrit.core.trials.welch import welch_test

MATTERS_RATIO, MATTERS_POINTS = 0.2, 0.05  # an improvement that is worth a change (common practice, no source)
WORDS = {
    "better": "better",
    "better_but": "better, but",
    "no_difference": "no difference that matters",
    "worse": "worse",
    "not_yet": "not yet",
    "cannot": "cannot be judged",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class LimitState:
    """A harm limit against the flights that count; changes in per cent or points, signed as measured."""

    limit: Limit
    state: str  # kept, broken, open (within the limit, but more is not ruled out), unmeasured
    change_pct: float | None = None
    bound_pct: float | None = None  # the change towards worse is at most this, one-sided 95 %

    @property
    def in_words(self) -> str:
        label = metric_label(self.limit.metric)
        if self.change_pct is None:
            return f"{label} could not be measured"
        unit = self.limit.in_words.split()[1]
        told = f"{label} {'rose' if self.change_pct >= 0 else 'fell'} by {abs(self.change_pct):.2g} {unit}"
        return f"{told}, the limit is {self.limit.in_words}"


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialVerdict:
    """One sentence, and what it rests on."""

    word: str  # a key of WORDS
    why: str  # what follows the word
    n_before: int
    n_after: int
    n_planned: int  # a side, with what was declared since
    level: float  # the p that must not be exceeded at this look
    design: str  # what the test permuted: free, blocks, pairs
    comparison: Comparison | None  # none until the planned number is flown
    limits: tuple[LimitState, ...] = ()
    asides: tuple[str, ...] = ()  # hints clearly worse, limits not ruled out, an order not flown

    @property
    def sentence(self) -> str:
        return f"{WORDS[self.word]} {self.why}" if self.word == "better_but" else f"{WORDS[self.word]}: {self.why}"

    @property
    def primary(self) -> MetricVerdict | None:
        return self.comparison.primary if self.comparison else None


def judge(standing: Sequence[Standing], plan: Plan) -> TrialVerdict:
    """The verdict of a trial from how its flights stand, in the order flown.

    It falls at the planned number only, at the level that is left for this look, and must be the same with the flights that
    count by rule: where it turns on an answer of the tuner's, or on a flight with a fault, nothing can be said.
    Sources: `permutation`, `looks`, `welch`; `docs/methods.md`, section 7.
    """
    chosen = [one.flight for one in standing if one.counts]
    n_after = sum(flight.is_after for flight in chosen)
    n_before, planned = len(chosen) - n_after, plan.totals[-1]
    if min(n_before, n_after) < planned:
        return _verdict("not_yet", _missing(standing, n_before, n_after, planned), chosen, plan)
    one = _judged(chosen, plan)
    by_rule = ruled(standing)
    if {flight.number for flight in by_rule} == {flight.number for flight in chosen}:
        return one
    turning = [row for row in standing if row.by_rule != row.counts]
    if min(_sides(by_rule)) >= planned and _judged(by_rule, plan).word == one.word:
        return one
    return _verdict("cannot", _turns_on(turning), chosen, plan)


def _judged(flights: list[FlownFlight], plan: Plan) -> TrialVerdict:
    """The verdict of flights that are as many as planned."""
    if plan.order == MEASURED:
        return _by_intervals(flights, plan)
    design, asides = _design(flights, plan)
    level = _level(flights, plan, design)
    values = [FlightValues(is_after=flight.is_after, metrics=flight.metrics) for flight in flights]
    comparison = compare_flights(values, primary=plan.primary, design=design, level=level)
    primary = comparison.primary
    kind = metric_kind(plan.primary.metric)
    if primary is None or kind is None:
        return _verdict("cannot", f"{metric_label(plan.primary.metric)} could not be measured", flights, plan)
    if kind.scale == "log" and _is_frozen(flights, plan.primary.metric):
        told = "all flights of one side have identical numbers, which proves nothing"
        return _verdict("cannot", told, flights, plan)
    limits = tuple(limit_state(limit, flights) for limit in plan.limits)
    asides += [f"{one.in_words}; not proven to be within it" for one in limits if one.state == "open"]
    word, why = _word(primary, kind, plan, flights, design)
    if word == "better":
        harm = [one.in_words for one in limits if one.state == "broken"] + [
            f"{metric_label(one.name)} is clearly worse"
            for one in comparison.metrics
            if one.verdict == "worse" and not one.is_primary and one.name not in {limit.metric for limit in plan.limits}
        ]
        if harm:
            word, why = "better_but", f"{'; '.join(harm)}"
    return TrialVerdict(
        word=word, why=why, n_before=_sides(flights)[0], n_after=_sides(flights)[1], n_planned=plan.totals[-1], level=level,
        design=design, comparison=comparison, limits=limits, asides=tuple(asides),
    )  # fmt: skip


def _by_intervals(flights: list[FlownFlight], plan: Plan) -> TrialVerdict:
    """One flight a side or more, each with its own interval; harm limits need the scatter of several flights."""
    word, why = judged_by_intervals(flights, plan)
    limits = tuple(limit_state(limit, flights) for limit in plan.limits)
    asides = tuple(f"{metric_label(one.limit.metric)}: one flight per side cannot judge a limit" for one in limits)
    return replace(_verdict(word, why, flights, plan), asides=asides)


def _word(primary: MetricVerdict, kind: MetricKind, plan: Plan, flights: list[FlownFlight], design: str) -> tuple[str, str]:
    label, unit = metric_label(primary.name), "points" if kind.scale == "linear" else "%"
    change = primary.change_pct or 0.0
    told = f"{label} {'rose' if change >= 0 else 'fell'} by {abs(change):.2g} {unit}"
    if primary.verdict == "better":
        edge = next((edge for edge in primary.change_interval_pct or () if edge is not None), None)
        return "better", told if edge is None else f"{told} (at least {abs(edge):.2g} {unit})"
    if primary.verdict == "worse":
        return "worse", told
    if primary.verdict == "not_enough":
        return "cannot", "too few flights in this order for a test"
    matters = 100 * (MATTERS_POINTS if kind.scale == "linear" else MATTERS_RATIO)
    wanted = "a fall" if plan.primary.direction == "lower" else "a rise"
    if _is_ruled_out(flights, plan, kind, design):
        return "no_difference", f"{told}; {wanted} of {matters:.0f} {unit} is ruled out"
    more = f"; about {primary.flights_needed} flights per side would show it" if primary.flights_needed else ""
    return "cannot", f"{told}; the scatter is too large to rule out {wanted} of {matters:.0f} {unit}{more}"


def _is_ruled_out(flights: list[FlownFlight], plan: Plan, kind: MetricKind, design: str) -> bool:
    """Whether an improvement that matters lies beyond the one-sided 95 % bound of the same test."""
    metric = plan.primary.metric
    have = [flight for flight in flights if _has(flight, metric, kind)]
    sign = 1.0 if plan.primary.direction == "lower" else -1.0
    values = [-sign * scaled(flight.metrics[metric], kind) for flight in have]
    bound = permutation_test(values, [flight.is_after for flight in have], design=design).bound
    return bound < (MATTERS_POINTS if kind.scale == "linear" else -math.log1p(-MATTERS_RATIO))


def limit_state(limit: Limit, flights: Sequence[FlownFlight]) -> LimitState:
    """Whether a harm limit is kept: by the mean change, and by its one-sided 95 % bound (Welch)."""
    kind = metric_kind(limit.metric)
    if kind is None:
        raise InputError(f"“{limit.metric}” is no metric")
    worse = 1.0 if kind.better == "lower" else -1.0
    sides = [
        [
            scaled(flight.metrics[limit.metric], kind)
            for flight in flights
            if flight.is_after == after and _has(flight, limit.metric, kind)
        ]
        for after in (False, True)
    ]
    if min(map(len, sides)) < 2:
        return LimitState(limit=limit, state="unmeasured")
    change = worse * float(np.mean(sides[1]) - np.mean(sides[0]))
    most = limit.most if kind.scale == "linear" else math.log1p(limit.most)
    try:
        found = welch_test(*sides)
        bound = found.bounds[1] if worse > 0 else -found.bounds[0]
    except NotEnoughData:  # a number that never moves, such as no overshoot at all
        bound = change
    state = "broken" if change > most else "kept" if bound <= most else "open"
    return LimitState(
        limit=limit, state=state, change_pct=in_per_cent(worse * change, kind), bound_pct=in_per_cent(worse * bound, kind)
    )


def _has(flight: FlownFlight, metric: str, kind: MetricKind) -> bool:
    value = flight.metrics.get(metric)
    return value is not None and math.isfinite(value) and (kind.scale == "linear" or value > 0)


def _design(flights: list[FlownFlight], plan: Plan) -> tuple[str, list[str]]:
    """The order that the test may permute: as planned where it was flown so."""
    is_after = [flight.is_after for flight in flights]
    try:
        permutation_test([0.0] * len(flights), is_after, design=plan.order)
    except InputError:
        return "free", ["not flown in the planned order: a drift over time is not ruled out"]
    drift = ["all flights before came first: a drift of wind, light or packs is not ruled out"]
    return plan.order, drift if plan.order == "free" and is_after == sorted(is_after) else []


def _level(flights: list[FlownFlight], plan: Plan, design: str) -> float:
    """The level at this look, after what earlier looks could spend."""
    attained = tuple(_attained(total, design) for total in plan.totals[:-1])
    level = levels_of(plan.totals, attained)[-1]
    return level * level_after(plan.looks, plan.totals[-1]) / LEVEL if plan.looks else level


def _attained(total: int, design: str) -> float:
    """The largest p up to 0.05 that so many flights per side in this order can give."""
    n_splits = {"free": math.comb(2 * total, total), "blocks": 6 ** (total // 2), "pairs": 2**total}[design]
    return float(math.floor(LEVEL * n_splits + 1e-9) / n_splits)


def _is_frozen(flights: list[FlownFlight], metric: str) -> bool:
    """Whether a side's numbers are all the same: the same samples again, however they came in."""
    return any(
        len({flight.metrics.get(metric) for flight in flights if flight.is_after == after}) == 1 for after in (False, True)
    )


def _sides(flights: Sequence[FlownFlight]) -> tuple[int, int]:
    n_after = sum(flight.is_after for flight in flights)
    return len(flights) - n_after, n_after


def _missing(standing: Sequence[Standing], n_before: int, n_after: int, planned: int) -> str:
    told = f"{min(n_before, planned)} of {planned} flown before, {min(n_after, planned)} of {planned} after"
    waiting = [str(one.flight.number) for one in standing if one.is_open]
    if waiting:
        told += (
            f"; answer first whether flight{'s' if len(waiting) > 1 else ''} {', '.join(waiting)} "
            f"count{'' if len(waiting) > 1 else 's'}"
        )
    return told


def _turns_on(turning: Sequence[Standing]) -> str:
    told = [
        f"flight {one.flight.number} ({one.why or 'counted against the rule'})" for one in turning if one.why or not one.by_rule
    ]
    return f"the verdict depends on {', '.join(told) or 'which flights are used'}"


def _verdict(word: str, why: str, flights: list[FlownFlight], plan: Plan) -> TrialVerdict:
    n_before, n_after = _sides(flights)
    return TrialVerdict(
        word=word,
        why=why,
        n_before=n_before,
        n_after=n_after,
        n_planned=plan.totals[-1],
        level=0.0,
        design=plan.order,
        comparison=None,
    )
