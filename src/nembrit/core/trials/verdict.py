"""Did the change help? One primary metric is judged, all others are hints."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.trials.chances import flights_to_find, smallest_found
from nembrit.core.trials.looks import LEVEL
from nembrit.core.trials.metrics import MetricKind, metric_kind, metric_names
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.plan import Primary
from nembrit.core.trials.welch import WelchResult, detectable_difference, flights_needed, holm_adjusted, welch_test

_LEAST_FLIGHTS = 4
_WANTED_CHANGE_PCT = 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class FlightValues:
    """One flight's metrics, in the order flown."""

    is_after: bool
    metrics: dict[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class MetricVerdict:
    """Judgement of one metric; values in core units, changes in per cent (linear metrics: percentage points)."""

    name: str
    kind: MetricKind
    is_primary: bool
    n_before: int
    n_after: int
    before_mean: float | None
    after_mean: float | None
    change_pct: float | None
    change_interval_pct: tuple[float | None, float | None] | None  # the primary one's is open on the side that was hoped for
    p_value: float | None
    p_value_adjusted: float | None
    verdict: str  # better, worse, no_difference, not_enough
    smallest_detectable_pct: float | None
    flights_needed: int | None  # on each side, for a change of 20 % (linear: 20 points)


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison:
    """All metrics that both sides have, the primary one first."""

    metrics: tuple[MetricVerdict, ...]
    notes: tuple[str, ...]

    @property
    def primary(self) -> MetricVerdict | None:
        return next((metric for metric in self.metrics if metric.is_primary), None)


def compare_flights(
    flights: Sequence[FlightValues], *, primary: Primary | None, design: str = "free", level: float = LEVEL
) -> Comparison:
    """Judge a change from flights in the order flown.

    The primary metric's verdict rests on a one-sided exact permutation test over what the order allowed, at the level of
    this look, and is shown with the bound of the same test; all others are two-sided Welch tests on logs, Holm-adjusted,
    and only hints. The flight is the sample.
    Fewer than four flights on a side give ``not_enough``. Sources: `permutation`, `welch`;
    `docs/methods.md`, section 7.
    """
    names = [name for name in metric_names() if any(name in flight.metrics for flight in flights)]
    verdicts = []
    for name in names:
        is_primary = primary is not None and name == primary.metric
        verdicts.append(_judge(name, flights, primary if is_primary else None, design, level))
    verdicts.sort(key=lambda verdict: not verdict.is_primary)
    return Comparison(metrics=tuple(_adjusted(verdicts)), notes=_notes(flights, primary, names, design))


def _judge(name: str, flights: Sequence[FlightValues], primary: Primary | None, design: str, level: float) -> MetricVerdict:
    kind = metric_kind(name)
    if kind is None:
        raise InputError(f"“{name}” is no metric")
    have = [flight for flight in flights if name in flight.metrics and _is_usable(flight.metrics[name], kind)]
    values = [scaled(flight.metrics[name], kind) for flight in have]
    before = [value for value, flight in zip(values, have, strict=True) if not flight.is_after]
    after = [value for value, flight in zip(values, have, strict=True) if flight.is_after]
    base = MetricVerdict(
        name=name,
        kind=kind,
        is_primary=primary is not None,
        n_before=len(before),
        n_after=len(after),
        before_mean=_mean(before, kind),
        after_mean=_mean(after, kind),
        change_pct=None,
        change_interval_pct=None,
        p_value=None,
        p_value_adjusted=None,
        verdict="not_enough",
        smallest_detectable_pct=None,
        flights_needed=None,
    )
    try:
        welch = welch_test(before, after)
    except NotEnoughData:
        return base
    base = replace(base, **_changes(welch, kind, len(before), len(after), design if primary is not None else None, level))
    if min(len(before), len(after)) < _LEAST_FLIGHTS:
        return base
    if primary is None:
        return replace(base, p_value=welch.p_value, verdict="no_difference")
    is_after = [flight.is_after for flight in have]
    sign = 1.0 if primary.direction == "lower" else -1.0
    hoped = permutation_test([sign * value for value in values], is_after, design=design, level=level)
    feared = permutation_test([-sign * value for value in values], is_after, design=design, level=level)
    verdict = "better" if hoped.p_value <= level else "worse" if feared.p_value <= level else "no_difference"
    if hoped.smallest_p > level:
        verdict = "not_enough"
    return replace(base, p_value=hoped.p_value, verdict=verdict, change_interval_pct=_open_interval(hoped.bound, sign, kind))


def _open_interval(bound: float, sign: float, kind: MetricKind) -> tuple[float | None, float | None] | None:
    """What the change is at most (lower hoped for) or at least, by the inverted test; none where the order can show none."""
    if not math.isfinite(bound):
        return None
    edge = in_per_cent(sign * bound, kind)
    return (None, edge) if sign > 0 else (edge, None)


def in_per_cent(difference: float, kind: MetricKind) -> float:
    """A difference of scaled values in per cent; in percentage points for linear metrics."""
    return 100 * difference if kind.scale == "linear" else 100 * math.expm1(difference)


def _is_usable(value: float, kind: MetricKind) -> bool:
    return math.isfinite(value) and (kind.scale == "linear" or value > 0)


def scaled(value: float, kind: MetricKind) -> float:
    """A metric's value as it is compared: its logarithm, or itself for linear metrics."""
    return value if kind.scale == "linear" else math.log(value)


def _mean(scaled: list[float], kind: MetricKind) -> float | None:
    """Mean in core units: geometric for metrics compared as ratios."""
    if not scaled:
        return None
    mean = float(np.mean(scaled))
    return mean if kind.scale == "linear" else math.exp(mean)


def _changes(
    welch: WelchResult, kind: MetricKind, n_before: int, n_after: int, design: str | None, level: float
) -> dict[str, Any]:
    """What changed, and what could have been seen: by the test of the order flown for the primary metric, else by Student's."""

    def pct(difference: float) -> float:
        return in_per_cent(difference, kind)

    wanted = _WANTED_CHANGE_PCT / 100 if kind.scale == "linear" else -math.log1p(-_WANTED_CHANGE_PCT / 100)
    sd = welch.pooled_sd
    if design is None:
        smallest = detectable_difference(sd=sd, n_before=n_before, n_after=n_after, one_sided=False)
        needed = flights_needed(wanted, sd=sd, one_sided=False)
    else:
        smallest = smallest_found(sd=sd, n_before=n_before, n_after=n_after, design=design, level=level)
        needed = flights_to_find(wanted, sd=sd, design=design, level=level)
    return {
        "change_pct": pct(welch.difference),
        "change_interval_pct": (pct(welch.interval[0]), pct(welch.interval[1])),
        "smallest_detectable_pct": None if smallest is None else abs(pct(-smallest)),
        "flights_needed": needed,
    }


def _adjusted(verdicts: list[MetricVerdict]) -> list[MetricVerdict]:
    """Holm over the secondary metrics; a hint is only given below 0.05 after it."""
    secondary = [verdict for verdict in verdicts if not verdict.is_primary and verdict.p_value is not None]
    adjusted = dict(
        zip(
            (verdict.name for verdict in secondary),
            holm_adjusted([verdict.p_value or 0.0 for verdict in secondary]),
            strict=True,
        )
    )
    return [_with_hint(verdict, adjusted[verdict.name]) if verdict.name in adjusted else verdict for verdict in verdicts]


def _with_hint(verdict: MetricVerdict, p_value: float) -> MetricVerdict:
    if p_value >= LEVEL:
        return replace(verdict, p_value_adjusted=p_value)
    fell = (verdict.change_pct or 0.0) < 0
    is_better = fell == (verdict.kind.better == "lower")
    return replace(verdict, p_value_adjusted=p_value, verdict="better" if is_better else "worse")


def _notes(flights: Sequence[FlightValues], primary: Primary | None, names: list[str], design: str) -> tuple[str, ...]:
    notes = []
    n_before = sum(not flight.is_after for flight in flights)
    n_after = len(flights) - n_before
    if min(n_before, n_after) < _LEAST_FLIGHTS:
        notes.append(
            f"{n_before} flights before and {n_after} after: at least {_LEAST_FLIGHTS} on each side are needed for a verdict"
        )
    if primary is None:
        notes.append("no primary metric was named before flying: everything below is a hint")
    elif primary.metric not in names:
        notes.append(f"the primary metric {primary.metric} could not be measured on these flights")
    order = [flight.is_after for flight in flights]
    if design == "free" and n_before and n_after and order == sorted(order):
        notes.append("all flights before came first: a drift of wind, light or packs is not ruled out")
    return tuple(notes)
