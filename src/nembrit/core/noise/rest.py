"""Whether a recording is of a craft that lies still."""

import numpy as np

from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES

_MOST_DPS = 3.0  # second-long means of a gyro that lies still stay within this (our own choice, no source)
_LEAST_S = 5


def is_at_rest(recording: Recording) -> bool:
    """True where every gyro axis lies still from start to end, for five seconds or more.

    >>> still = Recording.of({"gyro.roll": np.zeros(600), "gyro.pitch": np.ones(600)}, sample_rate_hz=100)
    >>> is_at_rest(still), is_at_rest(Recording.of({"throttle": np.zeros(600)}, sample_rate_hz=100))
    (True, False)
    """
    roles = [role for axis in AXES if recording.has(role := f"gyro_raw.{axis}") or recording.has(role := f"gyro.{axis}")]
    n = round(recording.sample_rate_hz)
    for role in roles:
        values = filled(recording.channels[role])
        means = values[: values.size // n * n].reshape(-1, n).mean(axis=1)
        if means.size < _LEAST_S or np.ptp(means) > _MOST_DPS:
            return False
    return bool(roles)
