"""The usable part of a log: from the first steady throttle after take-off to before the landing."""

import numpy as np

from nembrit.core.records.log import Recording

_FLYING_THROTTLE = 0.12  # starting value (prototype, no source)
_SETTLE_S = 1.5
_LANDING_S = 1.0


def usable_window_s(recording: Recording) -> tuple[float, float]:
    """Start and end [s] of the flight proper, take-off and touch-down left out.

    Works from the throttle; without a throttle channel the whole recording counts. A zero-throttle
    float in the air stays inside, since only the first and last powered moments decide.
    """
    end_s = recording.start_s + recording.duration_s
    throttle = recording.channels.get("throttle")
    if throttle is None:
        return recording.start_s, end_s
    powered = np.flatnonzero(np.nan_to_num(throttle) > _FLYING_THROTTLE)
    if powered.size == 0:
        return recording.start_s, end_s
    first_s = recording.start_s + powered[0] / recording.sample_rate_hz + _SETTLE_S
    last_s = recording.start_s + (powered[-1] + 1) / recording.sample_rate_hz - _LANDING_S
    if last_s - first_s < 2.0:
        return recording.start_s, end_s
    return float(first_s), float(last_s)
