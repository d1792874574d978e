"""Small and large stick movements: a loop that answers them differently meets a limit, or is not linear."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage

from nembrit.core.errors import CoreError
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.response.impulse import MEMORY_TAPS, WORK_RATE_HZ
from nembrit.core.response.step import StepResponse, step_response
from nembrit.core.types import BoolArray, FloatArray

_HISTORY_S = MEMORY_TAPS / WORK_RATE_HZ  # how far back an answer may look
_MOVING_DPS = 12.0  # below it nothing is asked (starting value, no source)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class StepsBySize:
    """Answers to movements up to a rate and beyond it; None where too little of one was flown."""

    limit_dps: float
    small: StepResponse | None
    large: StepResponse | None
    reasons: tuple[str, ...]

    @property
    def differ(self) -> str:
        """Which of both overshoots more, where their 95 % intervals do not touch: small, large, or nothing."""
        if self.small is None or self.large is None:
            return ""
        (small_low, small_high), (large_low, large_high) = self.small.overshoot_interval, self.large.overshoot_interval
        return "large" if large_low > small_high else "small" if small_low > large_high else ""


def steps_by_size(recording: Recording, axis: str, usable: BoolArray) -> StepsBySize | None:
    """Step responses of one axis from rows whose last 0.4 s asked for little, and from those that asked for much.

    The limit is the median, over usable rows that ask for anything, of the largest set-point [deg/s] of the 0.4 s before
    them: half of the flying falls on either side. Each side is estimated as the whole is (`step_response`).
    None where nothing was asked.
    """
    reach = _reach(filled(recording.channels[f"setpoint.{axis}"]), recording.sample_rate_hz)
    moving = usable & (reach > _MOVING_DPS)
    if not moving.any():
        return None
    limit_dps = float(np.median(reach[moving]))
    told: list[StepResponse | None] = []
    reasons: list[str] = []
    for name, rows in (("small", reach <= limit_dps), ("large", reach > limit_dps)):
        try:
            told.append(
                step_response(
                    recording.channels[f"setpoint.{axis}"], recording.channels[f"gyro.{axis}"], usable & rows,
                    sample_rate_hz=recording.sample_rate_hz,
                )
            )  # fmt: skip
        except CoreError as error:
            told.append(None)
            reasons.append(f"{name} movements: {error}")
    return StepsBySize(limit_dps=limit_dps, small=told[0], large=told[1], reasons=tuple(reasons))


def _reach(setpoint_dps: FloatArray, sample_rate_hz: float) -> FloatArray:
    """Largest size of the set-point over the 0.4 s up to each sample."""
    n = max(1, round(_HISTORY_S * sample_rate_hz))
    past = np.concatenate((np.zeros(n - 1), np.abs(setpoint_dps)))
    return np.asarray(scipy.ndimage.maximum_filter1d(past, n)[(n - 1) // 2 + (n % 2 == 0) :][: setpoint_dps.size])
