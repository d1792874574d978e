"""How a plane moved, at a few samples a second: velocity over ground, course, bank and airspeed."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d

from nembrit.core.records.log import Recording
from nembrit.core.records.track import east_north_m
from nembrit.core.types import BoolArray, FloatArray

RATE_HZ = 5.0
_LEAST_S = 10.0
_HELD = 0.03  # sticks let go
_SMOOTHED_S = 2.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Track:
    """Samples at `RATE_HZ`, shape (n,); NaN where nothing was recorded, None where nothing ever was."""

    t_s: FloatArray
    north_m_s: FloatArray | None
    east_m_s: FloatArray | None
    airspeed_m_s: FloatArray | None
    bank_deg: FloatArray | None
    throttle: FloatArray | None
    hands_off: BoolArray | None
    course_wanted_deg: FloatArray | None = None  # of the line that was followed; NaN while none was

    @property
    def ground_speed_m_s(self) -> FloatArray | None:
        return None if self.north_m_s is None or self.east_m_s is None else np.hypot(self.north_m_s, self.east_m_s)

    def air_course_deg(self, wind_north_m_s: float, wind_east_m_s: float) -> FloatArray | None:
        """Unwrapped course through the air, clockwise from north; gaps stay gaps."""
        if self.north_m_s is None or self.east_m_s is None:
            return None
        return unwrapped_deg(np.degrees(np.arctan2(self.east_m_s - wind_east_m_s, self.north_m_s - wind_north_m_s)))


def unwrapped_deg(angle_deg: FloatArray) -> FloatArray:
    """Angles without jumps of whole turns; NaN stays NaN."""
    found = np.full(angle_deg.shape, np.nan)
    good = np.isfinite(angle_deg)
    found[good] = np.degrees(np.unwrap(np.radians(angle_deg[good])))
    return found


def track_of(recording: Recording) -> Track:
    """Thin a recording to five samples a second, each the mean of what lies in it.

    Velocity comes from ground speed and course, else from positions by differences smoothed over two seconds. Sticks are let
    go where all of roll, pitch and yaw that were recorded stay within 3 % of the middle.
    """
    step = max(1, round(recording.sample_rate_hz / RATE_HZ))
    n = recording.n_samples // step

    def thin(values: FloatArray) -> FloatArray:
        with np.errstate(invalid="ignore"):
            rows = values[: n * step].reshape(n, step)
            seen = np.isfinite(rows).sum(axis=1)
            sums = np.nansum(rows, axis=1)
        return np.where(seen > 0, sums / np.maximum(seen, 1), np.nan)

    def channel(role: str) -> FloatArray | None:
        values = recording.channels.get(role)
        return None if values is None or not np.isfinite(values).any() else values

    rate_hz = recording.sample_rate_hz / step
    north, east = _velocity(channel, thin, rate_hz)
    sticks = [thin(np.abs(values)) for axis in ("roll", "pitch", "yaw") if (values := channel(f"stick.{axis}")) is not None]
    bank, throttle, airspeed = channel("attitude.roll"), channel("throttle"), channel("airspeed")
    return Track(
        t_s=np.asarray(recording.start_s + (np.arange(n) + 0.5) / rate_hz, dtype=np.float64), north_m_s=north, east_m_s=east,
        airspeed_m_s=None if airspeed is None else thin(airspeed), bank_deg=None if bank is None else thin(bank),
        throttle=None if throttle is None else thin(throttle),
        hands_off=np.asarray((np.stack(sticks) < _HELD).all(axis=0)) if sticks else None,
        course_wanted_deg=None if (wanted := channel("course_wanted")) is None else wanted[: n * step : step],
    )  # fmt: skip


_Channel = Callable[[str], FloatArray | None]
_Thin = Callable[[FloatArray], FloatArray]


def _velocity(channel: _Channel, thin: _Thin, rate_hz: float) -> tuple[FloatArray | None, FloatArray | None]:
    speed, course = channel("ground_speed"), channel("course")
    if speed is not None and course is not None:
        return thin(speed * np.cos(np.radians(course))), thin(speed * np.sin(np.radians(course)))
    latitude, longitude = channel("latitude"), channel("longitude")
    if latitude is None or longitude is None:
        return None, None
    places = thin(latitude), thin(longitude)
    good = np.isfinite(places[0]) & np.isfinite(places[1])
    if good.sum() < _LEAST_S * rate_hz:
        return None, None
    first = int(np.flatnonzero(good)[0])
    east, north = east_north_m(places[0], places[1], (float(places[0][first]), float(places[1][first])))
    width = max(3, round(_SMOOTHED_S * rate_hz))

    def speed_of(metres: FloatArray) -> FloatArray:
        filled = np.interp(np.arange(metres.size), np.flatnonzero(good), metres[good])
        found = np.gradient(uniform_filter1d(filled, width)) * rate_hz
        return np.where(good, found, np.nan)

    return speed_of(north), speed_of(east)


def stretches(mask: BoolArray, least: int) -> list[slice]:
    """Runs of True at least so long."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], mask.astype(np.int8), [0]))))
    return [slice(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= least]
