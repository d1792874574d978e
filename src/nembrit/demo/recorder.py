"""The demo's second recorder: positions and sticks of a flight, as JSON Lines with two rates."""

import json

import numpy as np

from nembrit.core.simulate.flight import SimulatedFlight
from nembrit.core.simulate.position import record_path
from nembrit.web.flights.models import Flight
from nembrit.web.logs.storage import load_recording
from nembrit.web.logs.windows import main_segment

_HOME_DEG = (52.1873, -1.4021)  # a made-up common; no club flies here
_STICKS_HZ, _FIXES_EVERY = 50.0, 10


def field_recording(flight: Flight, *, late_s: float, skew_ppm: float, seed: int) -> bytes:
    """What a small recorder beside the flight controller wrote during a flight."""
    segment = main_segment(flight)
    if segment is None:
        raise RuntimeError(f"{flight} has no log")
    recording = load_recording(segment.log)
    t_s = np.arange(recording.n_samples) / recording.sample_rate_hz
    flown = SimulatedFlight(t_s=t_s, channels=recording.channels)
    path = record_path(flown, home_deg=_HOME_DEG, rate_hz=_STICKS_HZ, late_s=late_s, skew_ppm=skew_ppm, seed=seed)
    lines = [json.dumps({"recorder": "field box 2"})]
    for k in range(path.t_s.size):
        ms = round(float(path.t_s[k]) * 1000)
        sticks = {f"stick.{axis}": float(path.stick[row, k]) for row, axis in enumerate(("roll", "pitch", "yaw"))}
        lines.append(json.dumps({"t [ms]": ms, "throttle": float(path.throttle[k]), **sticks}))
        if k % _FIXES_EVERY == 0:
            fix = {
                "t [ms]": ms,
                "lat": float(path.latitude_deg[k]),
                "lon": float(path.longitude_deg[k]),
                "alt [m]": float(path.altitude_m[k]),
                "ground speed [m/s]": float(path.ground_speed_m_s[k]),
                "course [deg]": float(path.course_deg[k]),
                "mode": path.mode[k],
            }
            lines.append(json.dumps(fix))
    return ("\n".join(lines) + "\n").encode()
