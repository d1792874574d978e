"""A change judged by what each flight measured with its own interval, so that one flight on either side can be enough."""

import math
from collections.abc import Sequence

import numpy as np

from nembrit.core.trials.counting import FlownFlight
from nembrit.core.trials.metrics import MetricKind, metric_kind, metric_label
from nembrit.core.trials.plan import Plan

_NORMAL_95 = 1.959964
_MATTERS = 0.2  # of what it was before


def judged_by_intervals(flights: Sequence[FlownFlight], plan: Plan) -> tuple[str, str]:
    """The verdict's word and what follows it, from values with their standard errors.

    Each side is the mean by inverse variance, its error widened where its flights scatter more than they should (Birge ratio);
    the difference of the sides is judged at 95 %, two-sided. A flight's own error knows nothing of what differs from day to day:
    a second flight on a side widens it by what it shows.
    """
    metric, kind = plan.primary.metric, metric_kind(plan.primary.metric)
    sides = [_side([one for one in flights if one.is_after == after], metric) for after in (False, True)]
    label = metric_label(metric)
    if kind is None or sides[0] is None or sides[1] is None:
        return "cannot", f"{label} was not measured on both sides"
    (before, before_error), (after, after_error) = sides[0], sides[1]
    change, half = after - before, _NORMAL_95 * math.hypot(before_error, after_error)
    told = f"{label} {_shown(before, before_error, kind)} before, {_shown(after, after_error, kind)} after"
    sign = 1.0 if plan.primary.direction == "lower" else -1.0
    if sign * change < -half:
        return "better", told
    if sign * change > half:
        return "worse", told
    if abs(change) + half < _MATTERS * max(before, 1e-12):
        return "no_difference", told
    return "cannot", f"{told}; the intervals overlap: fly one more on each side"


def _side(flights: Sequence[FlownFlight], metric: str) -> tuple[float, float] | None:
    known = [one for one in flights if metric in one.metrics and one.errors.get(metric, 0.0) > 0]
    if not known:
        return None
    values = np.array([one.metrics[metric] for one in known])
    errors = np.array([one.errors[metric] for one in known])
    weights = 1 / errors**2
    mean, error = float(np.average(values, weights=weights)), float(weights.sum() ** -0.5)
    if values.size > 1:
        error *= math.sqrt(max(1.0, float((((values - mean) / errors) ** 2).sum()) / (values.size - 1)))
    return mean, error


def _shown(value: float, error: float, kind: MetricKind) -> str:
    half = kind.factor * _NORMAL_95 * error
    places = max(0, 1 - math.floor(math.log10(half))) if 0 < half < 10 else 0
    return f"{kind.factor * value:.{min(places, 2)}f} ± {half:.{min(places, 2)}f} {kind.unit}"
