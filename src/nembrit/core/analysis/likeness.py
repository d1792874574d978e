"""What a flight's copies are known by."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.trials.likeness import mark_of


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Likeness:
    """How the craft shook, in whole numbers; empty where the log cannot tell."""

    mark: tuple[int, ...]


def _run(flight: Flight) -> Likeness:
    return Likeness(mark=mark_of(flight.recording))


LIKENESS = Analysis(key="likeness", version=1, result=Likeness, run=_run, in_words="what its copies are known by")
