"""Automatic gains of more than one flight held against each other, and against what is saved."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.wing.gainflight import GainFlight

SPREAD_MOST = 0.12
_SAVED_WITHIN = 0.02
_LESS_P = 0.9  # what many lower P by afterwards (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class GainRuns:
    """What two or more runs of one axis say together."""

    values: tuple[float, ...]  # the last gain of each, the newest last
    middle: float
    spread_ratio: float  # largest minus smallest over their mean

    @property
    def agrees(self) -> bool:
        return self.spread_ratio <= SPREAD_MOST

    @property
    def in_words(self) -> str:
        if len(self.values) == 1:
            return "only one run: repeat it before you trust it"
        told = f"{len(self.values)} runs, {100 * self.spread_ratio:.0f} % apart"
        return f"{told}: take the middle" if self.agrees else f"{told}: do not average, fly another"


def gain_runs(runs: Sequence[GainFlight]) -> GainRuns | None:
    """Runs that settled or were long enough, together; None where none was.

    A middle of two scatters hardly less than one run (what is left is the tool's own lowness of about 5 %); a spread beyond 12 %
    says that something differed. Rule measured in the project's own trials.
    """
    values = tuple(run.gain_last for run in runs if run.gain_last is not None and run.verdict in ("settled", "not_settled"))
    if not values:
        return None
    mean = sum(values) / len(values)
    middle = (min(values) + max(values)) / 2
    return GainRuns(values=values, middle=middle, spread_ratio=(max(values) - min(values)) / mean if mean else 0.0)


def is_saved(found: float, saved: float) -> bool:
    """Whether the settings hold what the flight found, within the last digit or 2 %.

    >>> is_saved(68.2, 68.0), is_saved(68.2, 60.0)
    (True, False)
    """
    return abs(found - saved) <= max(0.51 if abs(saved) >= 10 else 0.0, _SAVED_WITHIN * abs(saved))


def less_p(p: float) -> float:
    """P after settled gains: a little lower."""
    return p * _LESS_P
