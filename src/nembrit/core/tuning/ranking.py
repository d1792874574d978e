"""Which of several changes to fly first: what each should win, and how near it may come to its limits."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.trials.metrics import MetricKind, metric_kind, metric_label
from nembrit.core.trials.plan import Plan
from nembrit.core.trials.trial import MATTERS_POINTS, MATTERS_RATIO


@dataclass(frozen=True, slots=True, kw_only=True)
class Weighed:
    """One change that waits. Gains are in changes that matter: 1 is 20 % (5 points), positive is better."""

    gain: float | None  # None: not predicted
    sure_gain: float | None  # at the less favourable end of the interval
    risk: float | None  # largest share of a harm limit that the unfavourable end uses up; None: no limit is predicted
    risk_metric: str
    is_stable: bool
    words: str


def weigh(metrics: Mapping[str, Sequence[float]], plan: Plan, *, is_stable: bool = True) -> Weighed:
    """Weigh a change by its prediction.

    Parameters
    ----------
    metrics : mapping of a metric's name to (flown, predicted, low, high), in core units
    plan : Plan
        Names the judging metric with its direction, and the harm limits.
    is_stable : bool
        Whether the changed loop is predicted to be stable.

    Method of our own: ratios for metrics compared as ratios, differences for the others, each over what counts as a change
    that matters or over its harm limit.
    """
    primary = plan.primary
    gain, sure = _gain(metrics.get(primary.metric), metric_kind(primary.metric), falls=primary.direction == "lower")
    risks = {one.metric: _worsening(metrics.get(one.metric), metric_kind(one.metric), one.most) for one in plan.limits}
    known = {name: share for name, share in risks.items() if share is not None}
    worst = max(known, key=lambda name: known[name], default="")
    risk = known.get(worst)
    return Weighed(
        gain=gain, sure_gain=sure, risk=risk, risk_metric=worst, is_stable=is_stable,
        words=_words(metrics.get(primary.metric), primary.metric, gain, risk, worst, is_stable=is_stable),
    )  # fmt: skip


def _gain(numbers: Sequence[float] | None, kind: MetricKind | None, *, falls: bool) -> tuple[float | None, float | None]:
    if numbers is None or kind is None:
        return None, None
    flown, told, low, high = numbers
    sign = 1.0 if falls else -1.0
    if kind.scale == "linear":
        return sign * (flown - told) / MATTERS_POINTS, sign * (flown - (high if falls else low)) / MATTERS_POINTS
    if min(flown, told, low, high) <= 0:
        return None, None
    matters = -math.log1p(-MATTERS_RATIO)
    return sign * math.log(flown / told) / matters, sign * math.log(flown / (high if falls else low)) / matters


def _worsening(numbers: Sequence[float] | None, kind: MetricKind | None, most: float) -> float | None:
    """What of a harm limit the unfavourable end of the interval uses up, from 0."""
    if numbers is None or kind is None:
        return None
    flown, _, low, high = numbers
    bad = high if kind.better == "lower" else low
    sign = 1.0 if kind.better == "lower" else -1.0
    if kind.scale == "linear":
        return max(0.0, sign * (bad - flown) / most)
    return max(0.0, sign * math.log(bad / flown) / math.log1p(most)) if min(bad, flown) > 0 else None


def _words(
    numbers: Sequence[float] | None, metric: str, gain: float | None, risk: float | None, worst: str, *, is_stable: bool
) -> str:
    if not is_stable:
        return "predicted to oscillate: do not fly"
    kind = metric_kind(metric)
    if numbers is None or gain is None or kind is None:
        return "gain unknown: no prediction"
    flown, told, _, _ = numbers
    change = (told - flown) * kind.factor if kind.scale == "linear" else 100 * (told / flown - 1)
    unit = "points" if kind.scale == "linear" else "%"
    told_words = f"{metric_label(metric)} {'up' if change >= 0 else 'down'} by {abs(change):.2g} {unit}"
    if risk is None:
        return f"{told_words}; possible harm not predicted"
    if risk > 1:
        return f"{told_words}; may break its limit on {metric_label(worst)}"
    return f"{told_words}; uses up to {100 * risk:.0f} % of its limit on {metric_label(worst)}"


def ranked(weighed: Sequence[Weighed]) -> list[int]:
    """Places in the order to fly: what keeps its limits before what may break one, what is predicted before what is not,
    then the surer gain; what would oscillate comes last.
    """

    def key(place: int) -> tuple[bool, bool, bool, float]:
        one = weighed[place]
        return (not one.is_stable, (one.risk or 0.0) > 1, one.sure_gain is None, -(one.sure_gain or 0.0))

    return sorted(range(len(weighed)), key=key)
