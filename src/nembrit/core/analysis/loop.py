"""Each axis as a loop: how it tracks, the craft behind it, its margins."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError
from nembrit.core.response.axisloop import AxisLoop, axis_loop
from nembrit.core.response.components import Score, scores_of
from nembrit.core.response.oscillation import Oscillation
from nembrit.core.response.tracking import Authority, Tracking, authority, flies_itself, tracking
from nembrit.core.types import AXES, BoolArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Loop:
    """By axis; what could not be told stands in `reasons`, with what to fly."""

    axes: dict[str, AxisLoop]
    tracking: dict[str, Tracking]
    authority: Authority | None
    scores: tuple[Score, ...]
    oscillations: tuple[Oscillation, ...]
    reasons: dict[str, str]
    notes: tuple[str, ...]


_SELF_FLOWN = (
    "{axis}: the set-point moves without the stick: a levelling or position-holding mode flew. The answer to the stick still "
    "holds, margins do not: fly the card in rate mode"
)


def _run(flight: Flight) -> Loop:
    axes: dict[str, AxisLoop] = {}
    followed: dict[str, Tracking] = {}
    reasons: dict[str, str] = {}
    usable = flight.usable
    with ThreadPoolExecutor(max_workers=2) as pool:  # sums of matrices leave the interpreter free
        for axis, (tracked, told) in zip(AXES, pool.map(lambda axis: _axis(flight, axis, usable.get(axis)), AXES), strict=True):
            if tracked is not None:
                followed[axis] = tracked
            if isinstance(told, str):
                reasons[axis] = told
            else:
                axes[axis] = told
    left = authority(flight.recording, flight.usable.get("roll"), flight.spans)
    scores = scores_of(flight.recording, flight.spans)
    return Loop(
        axes=axes,
        tracking=followed,
        authority=left,
        scores=scores,
        oscillations=flight.swings,
        reasons=reasons,
        notes=flight.mask_notes,
    )


def _axis(flight: Flight, axis: str, usable: BoolArray | None) -> tuple[Tracking | None, AxisLoop | str]:
    """How one axis tracked, and its loop or the reason why that cannot be told."""
    if usable is None:
        return None, f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
    tracked = tracking(flight.recording, axis, usable)
    if flies_itself(flight.recording, axis):
        return tracked, _SELF_FLOWN.format(axis=axis)
    try:
        return tracked, axis_loop(flight.recording, axis, usable, mixer=flight.mixer, controller=flight.craft.controller)
    except CoreError as error:
        return tracked, str(error)


LOOP = Analysis(key="loop", version=2, result=Loop, run=_run, in_words="margins of every axis")
