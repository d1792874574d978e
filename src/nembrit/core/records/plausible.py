"""What no model craft can do: a channel beyond that has the wrong unit or meaning, and no answer may rest on it.

The limits are wide (starting values of our own, no source); a few wild samples are let pass.
"""

from dataclasses import replace

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.records.roles import spoken, unit_of

# by family: lowest and highest number in the role's unit
_LIMITS: dict[str, tuple[float, float]] = {
    "gyro": (-4500, 4500), "gyro_raw": (-4500, 4500), "setpoint": (-4500, 4500), "stick": (-1.7, 1.7), "throttle": (-0.2, 1.3),
    "motor": (-0.2, 1.3), "motor_rpm": (-1000, 200_000), "servo": (800, 2200), "accel": (-650, 650), "attitude": (-400, 400),
    "attitude_wanted": (-400, 400), "latitude": (-90, 90), "longitude": (-400, 400), "battery_voltage": (0, 90),
    "battery_current": (-200, 800), "altitude": (-600, 9500), "altitude_wanted": (-600, 9500), "ground_speed": (-1, 150),
    "airspeed": (-10, 150), "home_distance": (-1, 100_000), "cross_track": (-100_000, 100_000), "heading": (-400, 800),
    "course": (-400, 800), "course_wanted": (-400, 800), "baro_temperature": (-70, 150), "gyro_temperature": (-70, 150),
    "link_quality": (-0.05, 1.1),
}  # fmt: skip
_WILD_RATIO = 0.005  # of the samples may lie beyond, at either end
_MOST_SAMPLES = 20_000


def impossible(recording: Recording) -> dict[str, str]:
    """Roles whose numbers no craft can have, each with the sentence that says so.

    >>> found = impossible(Recording.of({"servo.1": np.full(100, -16.0)}, sample_rate_hz=50.0))
    >>> found["servo.1"]
    'check the unit of servo 1: it reads -16 µs, where 800 to 2200 µs are possible'
    """
    found = {}
    for role, values in recording.channels.items():
        limits = _LIMITS.get(role.removeprefix("b/").split(".")[0])
        if limits is None or role in recording.labels:
            continue
        seen = values[:: max(1, values.size // _MOST_SAMPLES)]
        seen = seen[np.isfinite(seen)]
        if not seen.size:
            continue
        ends = np.quantile(seen, (_WILD_RATIO, 1 - _WILD_RATIO)).tolist()
        beyond = next((end for end in ends if not limits[0] <= end <= limits[1]), None)
        if beyond is not None:
            unit = unit_of(role).replace("us", "µs")
            unit = f" {unit}" if unit not in ("", "1") else ""
            possible = f"{limits[0]:g} to {limits[1]:g}{unit}"
            found[role] = f"check the unit of {spoken(role)}: it reads {beyond:.4g}{unit}, where {possible} are possible"
    return found


def without(recording: Recording, roles: dict[str, str]) -> Recording:
    """The recording without these roles."""
    if not roles:
        return recording
    kept = {role: values for role, values in recording.channels.items() if role not in roles}
    return replace(recording, channels=kept)
