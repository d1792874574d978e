"""What is fixed before flying: the number that judges, how many flights, in which order, and what must not get worse."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.trials.metrics import metric_kind, metric_names

MEASURED = "measured"
WITH_INTERVAL = ("held_trim", "pull", "sway", "off_line")  # metrics that a flight gives with an error of their own
ORDERS = {
    "free": "all before, then all after",
    "blocks": "alternating: before, after, after, before",
    "pairs": "pairs: one before, one after",
    MEASURED: "one flight per side, judged by its interval",
}
LEAST_FLIGHTS = {"free": 4, "blocks": 4, "pairs": 5, MEASURED: 1}  # fewer cannot reach a p of 0.05 with something to spare
MOST_FLIGHTS = 10  # a side: so many orders can still be gone through one by one
MOST_LIMITS = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Primary:
    """The metric named before flying, and the way it should move."""

    metric: str
    direction: str  # lower or higher

    def __post_init__(self) -> None:
        _require_metric(self.metric)
        if self.direction not in ("lower", "higher"):
            raise InputError(f"a direction is lower or higher, not “{self.direction}”")


@dataclass(frozen=True, slots=True, kw_only=True)
class Limit:
    """How much worse another metric may become: a ratio for metrics compared as ratios, else a difference in core units.

    >>> Limit(metric="overshoot.roll", most=0.03).in_words, Limit(metric="bounce_back.roll", most=0.15).in_words
    ('3 points', '15 %')
    """

    metric: str
    most: float

    def __post_init__(self) -> None:
        _require_metric(self.metric)
        if not 0 < self.most <= 10:
            raise InputError(f"a limit of {100 * self.most:g} is out of range: expected above 0 and at most 1000")

    @property
    def in_words(self) -> str:
        kind = metric_kind(self.metric)
        return f"{100 * self.most:g} {'points' if kind and kind.scale == 'linear' else '%'}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """A trial as it was named before flying. `extensions` are later totals a side that were declared when this was not enough."""

    primary: Primary
    flights_a_side: int = 4
    order: str = "free"
    limits: tuple[Limit, ...] = ()
    extensions: tuple[int, ...] = ()
    looks: tuple[int, ...] = ()  # flights per side at which somebody looked at the numbers before the planned ones were flown

    def __post_init__(self) -> None:
        if self.order not in ORDERS:
            raise InputError(f"“{self.order}” is no order; expected one of {', '.join(ORDERS)}")
        least = LEAST_FLIGHTS[self.order]
        if not least <= self.flights_a_side <= MOST_FLIGHTS:
            raise InputError(f"flights per side: from {least} to {MOST_FLIGHTS} in this order, got {self.flights_a_side}")
        if self.order == MEASURED and self.primary.metric.split(".")[0] not in WITH_INTERVAL:
            raise InputError(
                "one flight per side can only judge a metric with its own interval: held trim, pull, sway or distance from the "
                "line. Plan four flights per side for this metric"
            )
        if self.order == "blocks" and any(total % 2 for total in self.totals):
            raise InputError("alternating flights come in fours: give an even number of flights per side")
        if list(self.totals) != sorted(set(self.totals)) or self.totals[-1] > MOST_FLIGHTS:
            raise InputError(f"an extension goes beyond the {self.totals[0]} flights planned, to at most {MOST_FLIGHTS}")
        _require_few_limits(self.limits, self.primary)

    @property
    def totals(self) -> tuple[int, ...]:
        """Flights a side at each look."""
        return (self.flights_a_side, *self.extensions)


def _require_metric(name: str) -> None:
    if metric_kind(name) is None:
        raise InputError(f"“{name}” is no metric; expected one of {', '.join(metric_names()[:6])} …")


def _require_few_limits(limits: Sequence[Limit], primary: Primary) -> None:
    if len(limits) > MOST_LIMITS:
        raise InputError(f"at most {MOST_LIMITS} harm limits, got {len(limits)}")
    names = [limit.metric for limit in limits]
    if len(set(names)) != len(names) or primary.metric in names:
        raise InputError("each harm limit needs a separate metric, not the one that judges")
