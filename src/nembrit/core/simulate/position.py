"""A stand-in for a position recorder: where a simulated flight went, at a few fixes a second."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.simulate.flight import SimulatedFlight
from nembrit.core.types import AXES, FloatArray

_METRES_PER_DEGREE = 111_320.0
_G_M_S2 = 9.81
_DRAG_PER_S = 0.55  # how fast a craft of this kind loses its way
_LEVEL_S = 1.6  # the pilot brings it level again


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RecordedPath:
    """Fixes of a slow recorder that also hears throttle and sticks."""

    t_s: FloatArray  # recorder's own clock
    latitude_deg: FloatArray
    longitude_deg: FloatArray
    altitude_m: FloatArray
    ground_speed_m_s: FloatArray
    course_deg: FloatArray
    throttle: FloatArray
    stick: FloatArray  # (3, n)
    mode: tuple[str, ...]


def record_path(
    flight: SimulatedFlight, *, home_deg: tuple[float, float], rate_hz: float, late_s: float, skew_ppm: float, seed: int
) -> RecordedPath:
    """Dead-reckon a path from the rates flown; the recorder starts `late_s` after the log and its clock is off by `skew_ppm`.

    No flight dynamics: roll and pitch rates lean the craft, leaning pulls it sideways, drag and the
    pilot bring it back. Good enough to have something to draw and to line up.
    """
    rng = np.random.default_rng(seed)
    n = int((flight.t_s[-1] - late_s) * rate_hz) - 1
    own_s = np.arange(n) / rate_hz
    true_s = late_s + own_s * (1 + skew_ppm * 1e-6)
    step_s = 1 / rate_hz

    def at(role: str) -> FloatArray:
        return np.interp(true_s, flight.t_s, flight.channels[role])

    lean = np.zeros((2, n))
    heading = np.radians(np.cumsum(at("gyro.yaw")) * step_s)
    place, speed, height = np.zeros((2, n)), np.zeros((2, n)), np.zeros(n)
    throttle, climb = at("throttle"), 0.0
    hover = float(np.median(throttle[throttle > 0.1])) if (throttle > 0.1).any() else 0.3
    rates = np.stack((at("gyro.roll"), at("gyro.pitch")))
    for k in range(1, n):
        lean[:, k] = (lean[:, k - 1] + rates[:, k] * step_s) * (1 - step_s / _LEVEL_S)
        side, forward = np.sin(np.radians(np.clip(lean[:, k], -70, 70))) * _G_M_S2 * (throttle[k] > 0.08)
        pull = np.array(
            [side * np.cos(heading[k]) - forward * np.sin(heading[k]), -side * np.sin(heading[k]) - forward * np.cos(heading[k])]
        )
        speed[:, k] = speed[:, k - 1] + (pull - _DRAG_PER_S * speed[:, k - 1]) * step_s
        place[:, k] = place[:, k - 1] + speed[:, k] * step_s
        climb += (9.0 * (throttle[k] - hover) / hover - 0.9 * climb) * step_s
        height[k] = max(0.0, height[k - 1] + climb * step_s)
    noise = rng.normal(0, 0.25, (3, n))
    latitude = home_deg[0] + (place[1] + noise[0]) / _METRES_PER_DEGREE
    longitude = home_deg[1] + (place[0] + noise[1]) / (_METRES_PER_DEGREE * np.cos(np.radians(home_deg[0])))
    return RecordedPath(
        t_s=np.round(own_s, 3),
        latitude_deg=np.round(latitude, 7),
        longitude_deg=np.round(longitude, 7),
        altitude_m=np.round(height + noise[2], 1),
        ground_speed_m_s=np.asarray(np.round(np.hypot(speed[0], speed[1]), 2), dtype=np.float64),
        course_deg=np.round(np.degrees(np.arctan2(speed[0], speed[1])) % 360, 1),
        throttle=np.round(throttle, 3),
        stick=np.asarray(np.round(np.stack([at(f"stick.{axis}") for axis in AXES]), 3), dtype=np.float64),
        mode=tuple(np.where(throttle < 0.08, "on the ground", np.where(np.abs(rates).max(axis=0) > 120, "rate", "level"))),
    )
