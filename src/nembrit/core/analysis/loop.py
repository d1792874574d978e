"""Each axis as a loop: how it tracks, the craft behind it, its margins."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError
from nembrit.core.response.axisloop import AxisLoop, axis_loop
from nembrit.core.response.tracking import Authority, Tracking, authority, flies_itself, tracking
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Loop:
    """By axis; what could not be told stands in `reasons`, with what to fly."""

    axes: dict[str, AxisLoop]
    tracking: dict[str, Tracking]
    authority: Authority | None
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
    notes = list(flight.mask_notes)
    for axis in AXES:
        usable = flight.usable.get(axis)
        if usable is None:
            reasons[axis] = f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
            continue
        found = tracking(flight.recording, axis, usable)
        if found is not None:
            followed[axis] = found
        if flies_itself(flight.recording, axis):
            reasons[axis] = _SELF_FLOWN.format(axis=axis)
            continue
        try:
            axes[axis] = axis_loop(flight.recording, axis, usable, mixer=flight.mixer, controller=flight.craft.controller)
        except CoreError as error:
            reasons[axis] = str(error)
    left = authority(flight.recording, flight.usable.get("roll"), flight.spans)
    return Loop(axes=axes, tracking=followed, authority=left, reasons=reasons, notes=tuple(dict.fromkeys(notes)))


LOOP = Analysis(key="loop", version=1, result=Loop, run=_run, in_words="margins of every axis")
