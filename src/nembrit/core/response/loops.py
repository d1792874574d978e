"""All loops of one flight: how each axis tracks, how it answers small and large movements, and its margins."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.errors import CoreError
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.response.axisloop import AxisLoop, axis_loop
from nembrit.core.response.sizes import StepsBySize, steps_by_size
from nembrit.core.response.tracking import Tracking, flies_itself, tracking
from nembrit.core.setup.controller import Controller
from nembrit.core.together import together
from nembrit.core.types import AXES, BoolArray, FloatArray

_PLENTY, _SLOW_HZ = 400_000, 1000.0  # samples from which a flight is slowed, and to what rate at most
_ROLES = ("setpoint.", "gyro.", "gyro_raw.", "term_", "command.", "motor.", "stick.", "throttle")
_SELF_FLOWN = (
    "{axis}: the set-point moves without the stick, as in a levelling or position-holding mode. The step response is valid, "
    "margins are not: fly the card in rate mode"
)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AxisAnswer:
    """One axis; `loop` is None where it could not be measured, for `reason`."""

    tracking: Tracking | None
    by_size: StepsBySize | None
    loop: AxisLoop | None
    reason: str = ""


def axis_answers(
    recording: Recording, usable: Mapping[str, BoolArray], *, mixer: FloatArray | None, controller: Controller | None
) -> dict[str, AxisAnswer]:
    """Every axis; never raises for data that cannot answer."""
    slow = _slowed(recording, usable)
    found = together(lambda axis: _axis(slow, axis, mixer, controller), AXES)
    return dict(zip(AXES, found, strict=True))


@dataclass(frozen=True, slots=True, eq=False)
class _Slow:
    """What the loops are worked out from."""

    recording: Recording
    usable: Mapping[str, BoolArray]


def _slowed(recording: Recording, usable: Mapping[str, BoolArray]) -> _Slow:
    """The flight itself; a long one at a slower rate, every channel through the same filter, so that what binds them stays."""
    step = min(int(recording.sample_rate_hz / _SLOW_HZ), recording.n_samples // _PLENTY) if recording.n_samples > _PLENTY else 1
    if step < 2:
        return _Slow(recording, usable)
    taps = scipy.signal.firwin(8 * step + 1, 0.8 / step)

    def thinned(role: str) -> FloatArray:
        values = recording.channels[role]
        gaps = ~np.isfinite(values)[::step]
        smooth = scipy.signal.upfirdn(taps, filled(values), down=step)[4 : 4 + gaps.size]  # centred on its samples
        return np.asarray(np.where(gaps, np.nan, smooth))

    roles = [role for role in recording.channels if role.startswith(_ROLES)]
    channels = dict(zip(roles, together(thinned, roles), strict=True))
    slow = Recording.of(channels, sample_rate_hz=recording.sample_rate_hz / step, start_s=recording.start_s)
    return _Slow(slow, {axis: mask[::step] for axis, mask in usable.items()})


def _axis(slow: _Slow, axis: str, mixer: FloatArray | None, controller: Controller | None) -> AxisAnswer:
    usable = slow.usable.get(axis)
    if usable is None:
        reason = f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
        return AxisAnswer(tracking=None, by_size=None, loop=None, reason=reason)
    tracked, sizes = tracking(slow.recording, axis, usable), steps_by_size(slow.recording, axis, usable)
    if flies_itself(slow.recording, axis):
        return AxisAnswer(tracking=tracked, by_size=sizes, loop=None, reason=_SELF_FLOWN.format(axis=axis))
    try:
        loop = axis_loop(slow.recording, axis, usable, mixer=mixer, controller=controller)
    except CoreError as error:
        return AxisAnswer(tracking=tracked, by_size=sizes, loop=None, reason=str(error))
    return AxisAnswer(tracking=tracked, by_size=sizes, loop=loop)
