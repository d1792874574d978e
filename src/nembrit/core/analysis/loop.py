"""Each axis as a loop: how it tracks, the craft behind it, its margins."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.components import Score, scores_of
from nembrit.core.response.oscillation import Oscillation
from nembrit.core.response.sizes import StepsBySize
from nembrit.core.response.tracking import Authority, Tracking, authority


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Loop:
    """By axis; what could not be told stands in `reasons`, with what to fly."""

    axes: dict[str, AxisLoop]
    tracking: dict[str, Tracking]
    by_size: dict[str, StepsBySize]
    authority: Authority | None
    scores: tuple[Score, ...]
    oscillations: tuple[Oscillation, ...]
    reasons: dict[str, str]
    notes: tuple[str, ...]


def _run(flight: Flight) -> Loop:
    answers = flight.loops
    return Loop(
        axes={axis: own.loop for axis, own in answers.items() if own.loop is not None},
        tracking={axis: own.tracking for axis, own in answers.items() if own.tracking is not None},
        by_size={axis: own.by_size for axis, own in answers.items() if own.by_size is not None},
        authority=authority(flight.recording, flight.usable.get("roll"), flight.spans),
        scores=scores_of(flight.recording, flight.spans),
        oscillations=flight.swings,
        reasons={axis: own.reason for axis, own in answers.items() if own.reason},
        notes=flight.mask_notes,
    )


LOOP = Analysis(key="loop", version=8, result=Loop, run=_run, in_words="margins of every axis")
