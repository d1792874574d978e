"""Whether a tune is verified: the flights of now against those of its baseline, on the same card."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from nembrit.core.trials.counting import FlownFlight, Standing, standings
from nembrit.core.trials.gone import AS_GOOD_POINTS, AS_GOOD_RATIO
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.core.trials.plan import LEAST_FLIGHTS, MOST_FLIGHTS, Plan, Primary
from nembrit.core.trials.verdict import FlightValues, MetricVerdict, compare_flights

# bounce-back and wash scatter too much from flight to flight to be held to a limit
KEYS = (
    "motion_noise", "motor_roughness", "tracking_error", "overshoot", "step_delay", "held_trim", "pull", "sway", "off_line",
    "rate_delay", "rate_peak",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Verification:
    """What the comparison with the baseline says."""

    word: str  # passed, not_sure, failed, not_yet
    card_key: str
    n_baseline: int
    n_now: int
    standing: tuple[Standing, ...]  # every flight of the card, with why it does not count where it does not
    metrics: tuple[MetricVerdict, ...]

    @property
    def is_passed(self) -> bool:
        return self.word in ("passed", "not_sure")

    @property
    def broken(self) -> tuple[MetricVerdict, ...]:
        return tuple(one for one in self.metrics if is_broken(one))

    @property
    def unsure(self) -> tuple[MetricVerdict, ...]:
        return tuple(one for one in self.metrics if not is_broken(one) and may_be_worse(one))

    @property
    def sentence(self) -> str:
        """“verified against the baseline: motion noise on roll better; nothing is worse by more than its limit”."""
        needed = LEAST_FLIGHTS["free"]
        if self.word == "not_yet":
            return (
                f"not verified yet: {min(self.n_baseline, needed)} of {needed} baseline flights and "
                f"{min(self.n_now, needed)} of {needed} current flights, on one card"
            )
        if self.word == "failed":
            return f"not verified: {'; '.join(_told(one) for one in self.broken)}"
        gained = [_spoken(one) for one in self.metrics if one.verdict == "better"]
        more = f" and {len(gained) - 3} more" if len(gained) > 3 else ""
        told = f"{', '.join(gained[:3])}{more} better; " if gained else ""
        doubt = ", ".join(map(_spoken, self.unsure[:3]))
        rest = f"nothing clearly worse, but not ruled out for {doubt}" if doubt else "nothing is worse by more than its limit"
        return f"verified against the baseline: {told}{rest}"


def verify(baseline: Mapping[str, Sequence[FlownFlight]], now: Mapping[str, Sequence[FlownFlight]]) -> Verification:
    """Judge the flights of now against those of the baseline, both by card and in the order flown.

    The card is the one that most flights of both flew. Every number that both can tell is held to *at most 15 % worse* (5
    points for those compared as differences): failed is one that is worse by more, and not by chance (Welch on logs, Holm
    over all); not sure one whose 95 % interval reaches beyond. At least four flights per side; a baseline may well have flown
    with the fault that the tune cured. Sources: `welch`; the limits are common practice, no source.
    """
    card_key = _card(baseline, now)
    before, after = baseline.get(card_key, ()), now.get(card_key, ())
    flights = [replace(one, is_after=False) for one in before] + [replace(one, is_after=True) for one in after]
    metric = _told_by_most(flights)
    plan = Plan(primary=Primary(metric=metric, direction="lower"), flights_a_side=MOST_FLIGHTS)
    standing = standings(flights, plan, is_repair=True)
    counted = [one.flight for one in standing if one.counts]
    n_now = sum(flight.is_after for flight in counted)
    metrics: tuple[MetricVerdict, ...] = ()
    word = "not_yet"
    if min(len(counted) - n_now, n_now) >= LEAST_FLIGHTS["free"]:
        values = [FlightValues(is_after=one.is_after, metrics=_keys_of(one)) for one in counted]
        metrics = tuple(one for one in compare_flights(values, primary=None).metrics if one.change_pct is not None)
        word = "failed" if any(map(is_broken, metrics)) else "not_sure" if any(map(may_be_worse, metrics)) else "passed"
    return Verification(
        word=word, card_key=card_key, n_baseline=len(counted) - n_now, n_now=n_now, standing=tuple(standing), metrics=metrics
    )


def is_broken(metric: MetricVerdict) -> bool:
    """Worse by more than its limit, and not by chance."""
    return metric.verdict == "worse" and abs(metric.change_pct or 0.0) > limit_pct(metric)


def may_be_worse(metric: MetricVerdict) -> bool:
    """Whether the interval of the change reaches beyond the limit."""
    low, high = metric.change_interval_pct or (None, None)
    edge = high if metric.kind.better == "lower" else -low if low is not None else None
    return edge is not None and edge > limit_pct(metric)


def limit_pct(metric: MetricVerdict) -> float:
    """How much worse a number may be, in per cent or points."""
    return 100 * (AS_GOOD_POINTS if metric.kind.scale == "linear" else AS_GOOD_RATIO)


def _spoken(metric: MetricVerdict) -> str:
    """“motion noise on roll”: without the comma of the label, for lists."""
    return metric_label(metric.name).replace(", ", " on ")


def _told(metric: MetricVerdict) -> str:
    unit = "points" if metric.kind.scale == "linear" else "%"
    change = metric.change_pct or 0.0
    return f"{_spoken(metric)} {'rose' if change > 0 else 'fell'} by {abs(change):.2g} {unit}"


def _card(baseline: Mapping[str, Sequence[FlownFlight]], now: Mapping[str, Sequence[FlownFlight]]) -> str:
    counts = {key: (len(baseline.get(key, ())), len(now.get(key, ()))) for key in (*now, *baseline) if key}
    return max(counts, key=lambda key: (min(counts[key]), sum(counts[key])), default="")


def _told_by_most(flights: Sequence[FlownFlight]) -> str:
    """The number that decides whether a flight can be compared at all."""
    counts = Counter(name for flight in flights for name in _keys_of(flight))
    return max(counts, key=lambda name: (counts[name], name == "motor_roughness"), default="motor_roughness")


def _keys_of(flight: FlownFlight) -> dict[str, float]:
    return {name: value for name, value in flight.metrics.items() if (kind := metric_kind(name)) and kind.key in KEYS}
