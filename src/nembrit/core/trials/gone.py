"""Whether a repaired fault is gone, told by the finding itself where flights before the repair are too few to compare."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.trials.plan import LEAST_FLIGHTS


@dataclass(frozen=True, slots=True, kw_only=True)
class FaultGone:
    """Flights since a repair, and how many of them still show the finding."""

    n_flights: int
    n_with: int
    n_needed: int

    @property
    def in_words(self) -> str:
        if self.n_with:
            return f"still there in {self.n_with} of {self.n_flights} flights since"
        if self.n_flights < self.n_needed:
            return f"not seen in {self.n_flights} flight{'' if self.n_flights == 1 else 's'} since; {self.n_needed} are needed"
        return f"gone: none of {self.n_flights} flights since shows it"


def fault_gone(shows: Sequence[bool]) -> FaultGone:
    """Judge from every flight since the repair that could show the fault, in the order flown.

    One flight that shows it is enough to say that it is there; four without it are needed to say that it is gone
    (common practice, no source).

    >>> fault_gone([False] * 4).in_words, fault_gone([False, True]).in_words
    ('gone: none of 4 flights since shows it', 'still there in 1 of 2 flights since')
    """
    return FaultGone(n_flights=len(shows), n_with=sum(shows), n_needed=LEAST_FLIGHTS["free"])
