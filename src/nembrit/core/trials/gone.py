"""Whether a repaired fault is gone, where flights before the repair are too few to compare: told by the finding itself,
and by the flights from before the fault.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from nembrit.core.trials.counting import FlownFlight
from nembrit.core.trials.metrics import metric_kind
from nembrit.core.trials.plan import LEAST_FLIGHTS, Limit
from nembrit.core.trials.trial import LimitState, limit_state

AS_GOOD_RATIO, AS_GOOD_POINTS = 0.15, 0.05  # what still counts as being as before (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultGone:
    """Flights since a repair, and how many of them still show the finding."""

    n_flights: int
    n_with: int
    n_needed: int

    @property
    def is_said(self) -> bool:
        """Whether the flights since are enough to say that it is there, or gone."""
        return bool(self.n_with) or self.n_flights >= self.n_needed

    @property
    def in_words(self) -> str:
        if self.n_with:
            return f"still there in {self.n_with} of {self.n_flights} flights since"
        if self.n_flights < self.n_needed:
            return f"not seen in {self.n_flights} flight{'' if self.n_flights == 1 else 's'} since; {self.n_needed} are needed"
        return f"fixed: seen in none of {self.n_flights} flights since"


def fault_gone(shows: Sequence[bool]) -> FaultGone:
    """Judge from every flight since the repair that could show the fault, in the order flown.

    One flight that shows it is enough to say that it is there; four without it are needed to say that it is gone
    (common practice, no source).

    >>> fault_gone([False] * 4).in_words, fault_gone([False, True]).in_words
    ('fixed: seen in none of 4 flights since', 'still there in 1 of 2 flights since')
    """
    return FaultGone(n_flights=len(shows), n_with=sum(shows), n_needed=LEAST_FLIGHTS["free"])


@dataclass(frozen=True, slots=True, kw_only=True)
class AsBefore:
    """The flights since a repair against those from before the fault."""

    metric: str
    n_sound: int
    n_since: int
    state: LimitState | None  # none: too few on a side

    @property
    def in_words(self) -> str:
        needed = LEAST_FLIGHTS["free"]
        if self.state is None or self.state.change_pct is None:
            return f"{self.n_since} of {needed} flown since, {self.n_sound} of {needed} before the fault"
        told = self.state.in_words.rsplit(", the limit", 1)[0]
        against = f"compared with the {self.n_sound} flights before the fault"
        if self.state.state == "kept":
            return f"as good as before: {told} {against}, and more than {self.state.limit.in_words} is ruled out"
        if self.state.state == "broken":
            return f"not as before: {told} {against}"
        return f"{told} {against}; more than {self.state.limit.in_words} is not ruled out"


def as_before(sound: Sequence[FlownFlight], since: Sequence[FlownFlight], metric: str) -> AsBefore | None:
    """Whether a repaired craft is as good as it was: at most 15 % (or 5 points) worse than flights before the fault.

    By the mean change and its one-sided 95 % bound (Welch, as harm limits are judged); None where no flight from before
    the fault is known. At least four flights per side are needed.
    """
    kind = metric_kind(metric)
    if not sound or kind is None:
        return None
    found = AsBefore(metric=metric, n_sound=len(sound), n_since=len(since), state=None)
    if min(len(sound), len(since)) < LEAST_FLIGHTS["free"]:
        return found
    limit = Limit(metric=metric, most=AS_GOOD_POINTS if kind.scale == "linear" else AS_GOOD_RATIO)
    sides = [replace(flight, is_after=False) for flight in sound] + [replace(flight, is_after=True) for flight in since]
    return replace(found, state=limit_state(limit, sides))
