"""Each axis as a loop: how it tracks, the craft behind it, its margins."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError
from nembrit.core.records.log import Recording
from nembrit.core.response.axisloop import AxisLoop, axis_loop
from nembrit.core.response.components import Score, scores_of
from nembrit.core.response.oscillation import Oscillation
from nembrit.core.response.sizes import StepsBySize, steps_by_size
from nembrit.core.response.tracking import Authority, Tracking, authority, flies_itself, tracking
from nembrit.core.together import together
from nembrit.core.types import AXES, BoolArray, FloatArray


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


_PLENTY, _SLOW_HZ = 400_000, 1000.0  # samples from which a flight is slowed, and to what rate at most
_ROLES = ("setpoint.", "gyro.", "gyro_raw.", "term_", "command.", "motor.", "stick.", "throttle")
_SELF_FLOWN = (
    "{axis}: the set-point moves without the stick: a levelling or position-holding mode flew. The answer to the stick still "
    "holds, margins do not: fly the card in rate mode"
)


def _run(flight: Flight) -> Loop:
    axes: dict[str, AxisLoop] = {}
    followed: dict[str, Tracking] = {}
    by_size: dict[str, StepsBySize] = {}
    reasons: dict[str, str] = {}
    slow = _slowed(flight)
    for axis, (tracked, sizes, told) in zip(AXES, together(lambda axis: _axis(flight, slow, axis), AXES), strict=True):
        if tracked is not None:
            followed[axis] = tracked
        if sizes is not None:
            by_size[axis] = sizes
        if isinstance(told, str):
            reasons[axis] = told
        else:
            axes[axis] = told
    left = authority(flight.recording, flight.usable.get("roll"), flight.spans)
    scores = scores_of(flight.recording, flight.spans)
    return Loop(
        axes=axes,
        tracking=followed,
        by_size=by_size,
        authority=left,
        scores=scores,
        oscillations=flight.swings,
        reasons=reasons,
        notes=flight.mask_notes,
    )


@dataclass(frozen=True, slots=True, eq=False)
class _Slow:
    """What the loops are worked out from."""

    recording: Recording
    usable: Mapping[str, BoolArray]


def _slowed(flight: Flight) -> _Slow:
    """The flight itself; a long one at a slower rate, every channel through the same filter, so that what binds them stays."""
    recording, usable = flight.recording, flight.usable
    step = min(int(recording.sample_rate_hz / _SLOW_HZ), recording.n_samples // _PLENTY) if recording.n_samples > _PLENTY else 1
    if step < 2:
        return _Slow(recording, usable)
    taps = scipy.signal.firwin(8 * step + 1, 0.8 / step)

    def thinned(role: str) -> FloatArray:
        values = recording.channels[role]
        finite = np.isfinite(values)
        gaps = ~finite[::step]
        whole = values if finite.all() else np.where(finite, values, 0.0)
        smooth = scipy.signal.upfirdn(taps, whole, down=step)[4 : 4 + gaps.size]  # centred on its samples
        return np.asarray(np.where(gaps, np.nan, smooth))

    roles = [role for role in recording.channels if role.startswith(_ROLES)]
    channels = dict(zip(roles, together(thinned, roles), strict=True))
    slow = Recording.of(channels, sample_rate_hz=recording.sample_rate_hz / step, start_s=recording.start_s)
    return _Slow(slow, {axis: mask[::step] for axis, mask in usable.items()})


def _axis(flight: Flight, slow: _Slow, axis: str) -> tuple[Tracking | None, StepsBySize | None, AxisLoop | str]:
    """How one axis tracked, how it answers small and large movements, and its loop or the reason why that cannot be told."""
    usable = slow.usable.get(axis)
    if usable is None:
        return None, None, f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
    tracked, sizes = tracking(slow.recording, axis, usable), steps_by_size(slow.recording, axis, usable)
    if flies_itself(slow.recording, axis):
        return tracked, sizes, _SELF_FLOWN.format(axis=axis)
    try:
        loop = axis_loop(slow.recording, axis, usable, mixer=flight.mixer, controller=flight.craft.controller)
    except CoreError as error:
        return tracked, sizes, str(error)
    return tracked, sizes, loop


LOOP = Analysis(key="loop", version=7, result=Loop, run=_run, in_words="margins of every axis")
