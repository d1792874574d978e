"""How a plane moved, at a few samples a second: velocity over ground, course, bank and airspeed."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter, uniform_filter1d
from scipy.optimize import least_squares

from nembrit.core.records.log import Recording
from nembrit.core.records.track import east_north_m
from nembrit.core.types import BoolArray, FloatArray

RATE_HZ = 5.0
_LEAST_S = 10.0
_HELD = 0.03  # sticks let go
_SMOOTHED_S = 2.0
_GROUND_M = 5.0
_NEIGHBOURS, _JUMP_M = 9, 60.0
_STILL_M_S, _STILL_S, _NO_GROUND_M = 1.5, 1.5, 150.5
_EMPTY_S, _ELSEWHERE_DEG = 3.0, 30.0
_FITS_M = 8.0  # logged distances and positions have lags of their own


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
    north_m: FloatArray | None = None  # from home
    east_m: FloatArray | None = None
    height_m: FloatArray | None = None  # above home's ground
    height_doubt: str = ""  # why heights may count from elsewhere
    height_wanted_m: FloatArray | None = None
    cross_track_m: FloatArray | None = None  # right of the line is positive
    battery_v: FloatArray | None = None
    mode: FloatArray | None = None  # positions in `modes`
    modes: tuple[str, ...] = ()
    home_deg: tuple[float, float] | None = None
    home_is_known: bool = False  # from the distance that was logged; else the first position is taken for it

    @property
    def ground_speed_m_s(self) -> FloatArray | None:
        return None if self.north_m_s is None or self.east_m_s is None else np.hypot(self.north_m_s, self.east_m_s)

    @property
    def rate_hz(self) -> float:
        return (self.t_s.size - 1) / float(self.t_s[-1] - self.t_s[0]) if self.t_s.size > 1 else RATE_HZ

    @property
    def home_distance_m(self) -> FloatArray | None:
        return None if self.north_m is None or self.east_m is None else np.hypot(self.north_m, self.east_m)

    @property
    def in_the_air(self) -> BoolArray:
        """Where it is higher than five metres above home; everywhere where no height was recorded."""
        if self.height_m is None:
            return np.ones(self.t_s.size, dtype=bool)
        with np.errstate(invalid="ignore"):
            return ~(self.height_m < _GROUND_M)

    def where_mode(self, *words: str) -> BoolArray:
        """Where the name of the mode holds one of these words."""
        if self.mode is None:
            return np.zeros(self.t_s.size, dtype=bool)
        known = [number for number, name in enumerate(self.modes) if any(word in name.lower() for word in words)]
        return np.isin(self.mode, known)

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


def track_of(recording: Recording, *, at_hz: float = RATE_HZ) -> Track:
    """Thin a recording to about five samples a second, each the mean of what lies in it.

    Heights count from the ground where the plane lay still; where it never did, as they were logged, unless they must be counted
    from somewhere else (`height_doubt`). Home is where the logged distance from home says it is, else the first position.
    Velocity comes from ground speed and course,
    else from positions by differences smoothed over two seconds. Sticks are let go where all of roll, pitch and yaw that were
    recorded stay within 3 % of the middle.
    """
    step = max(1, round(recording.sample_rate_hz / at_hz))
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

    def every(role: str) -> FloatArray | None:  # what steps, or goes round: no mean of it makes sense
        values = channel(role)
        return None if values is None else values[: n * step : step]

    def averaged(role: str) -> FloatArray | None:
        values = channel(role)
        return None if values is None else thin(values)

    rate_hz = recording.sample_rate_hz / step
    places = _places(channel, thin, step, n, home=None if at_hz == RATE_HZ else track_of(recording))
    height, ground_m, doubt = _heights(averaged("altitude"), averaged("airspeed"), averaged("ground_speed"), rate_hz)
    wanted = every("altitude_wanted")
    north, east = _velocity(channel, thin, rate_hz, places)
    sticks = [thin(np.abs(values)) for axis in ("roll", "pitch", "yaw") if (values := channel(f"stick.{axis}")) is not None]
    return Track(
        t_s=np.asarray(recording.start_s + (np.arange(n) + 0.5) / rate_hz, dtype=np.float64), north_m_s=north, east_m_s=east,
        airspeed_m_s=averaged("airspeed"), bank_deg=averaged("attitude.roll"), throttle=averaged("throttle"),
        hands_off=np.asarray((np.stack(sticks) < _HELD).all(axis=0)) if sticks else None,
        course_wanted_deg=_followed(channel, every, thin, rate_hz), cross_track_m=averaged("cross_track"),
        battery_v=averaged("battery_voltage"), mode=every("mode"), modes=recording.labels.get("mode", ()),
        height_m=height, height_wanted_m=None if wanted is None else wanted - ground_m, height_doubt=doubt,
        north_m=places.north_m, east_m=places.east_m, home_deg=places.home_deg, home_is_known=places.home_is_known,
    )  # fmt: skip


_Channel = Callable[[str], FloatArray | None]
_Thin = Callable[[FloatArray], FloatArray]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Places:
    """Positions from home, jumps left out."""

    north_m: FloatArray | None = None
    east_m: FloatArray | None = None
    home_deg: tuple[float, float] | None = None
    home_is_known: bool = False


def _heights(
    height: FloatArray | None, airspeed: FloatArray | None, ground_speed: FloatArray | None, rate_hz: float
) -> tuple[FloatArray | None, float, str]:
    """Heights above the ground where it lay still, that ground's own height as logged, and why they are doubted."""
    speeds = [own for own in (airspeed, ground_speed) if own is not None]
    if height is None or not np.isfinite(height).any():
        return height, 0.0, ""
    with np.errstate(invalid="ignore"):
        still = np.isfinite(height) & (np.fmax.reduce([np.nan_to_num(own) for own in speeds]) < _STILL_M_S if speeds else False)
    parts = stretches(np.asarray(still), round(_STILL_S * rate_hz)) if speeds else []
    if parts:
        ground_m = float(np.nanmedian(height[parts[0]]))
        return height - ground_m, ground_m, ""
    lowest_m = float(np.nanmin(height))
    if lowest_m > _NO_GROUND_M:
        return height, 0.0, (
            f"the lowest logged height is {lowest_m:.0f} m and the log shows no ground: these may be heights above sea level. "
            "Log from before the launch, so that heights count from home"
        )  # fmt: skip
    return height, 0.0, ""


def _followed(channel: _Channel, every: Callable[[str], FloatArray | None], thin: _Thin, rate_hz: float) -> FloatArray | None:
    """The course that was wanted; not-a-number where the recorder only filled the column with zeros."""
    wanted, aside = every("course_wanted"), every("cross_track")
    if wanted is None:
        return None
    empty = wanted == 0.0
    if aside is not None:
        empty &= ~(np.abs(np.nan_to_num(aside)) > 0)
    else:
        course = channel("course")
        if course is not None:
            flown = unwrapped_deg(thin(course))[: wanted.size]
            off = np.abs((flown + 180.0) % 360.0 - 180.0)
            empty &= np.nan_to_num(uniform_filter1d(np.nan_to_num(off), max(1, round(_EMPTY_S * rate_hz)))) > _ELSEWHERE_DEG
    found = wanted.astype(np.float64, copy=True)
    for part in stretches(np.asarray(empty), round(_EMPTY_S * rate_hz)):
        found[part] = np.nan
    return found


def _places(channel: _Channel, thin: _Thin, step: int, n: int, *, home: "Track | None") -> _Places:
    latitude, longitude = channel("latitude"), channel("longitude")
    if latitude is None or longitude is None:
        return _Places()
    valid = np.isfinite(latitude) & np.isfinite(longitude) & ((latitude != 0) | (longitude != 0))
    valid &= (np.abs(latitude) <= 90) & (np.abs(longitude) <= 180)
    if valid.sum() < 2:
        return _Places()
    first = int(np.flatnonzero(valid)[0])
    origin = float(latitude[first]), float(longitude[first])
    east, north = east_north_m(latitude, longitude, origin)
    east, north = thin(np.where(valid, east, np.nan)), thin(np.where(valid, north, np.nan))
    jumps = _jumps(north, east)
    north[jumps], east[jumps] = np.nan, np.nan
    if home is not None:  # one home for every rate
        if home.home_deg is None or home.home_deg == origin:
            return _Places(north_m=north, east_m=east, home_deg=origin, home_is_known=home.home_is_known)
        off = east_north_m(np.array([home.home_deg[0]]), np.array([home.home_deg[1]]), origin)
        moved_to = float(off[1][0]), float(off[0][0])
        return _Places(
            north_m=north - moved_to[0], east_m=east - moved_to[1], home_deg=home.home_deg, home_is_known=home.home_is_known
        )
    distance = channel("home_distance")
    moved = None if distance is None else _home(north, east, thin(distance))
    if moved is None:
        return _Places(north_m=north, east_m=east, home_deg=origin)
    across, along = east_north_m(np.array([origin[0] + 0.01]), np.array([origin[1] + 0.01]), origin)
    there = origin[0] + 0.01 * moved[0] / float(along[0]), origin[1] + 0.01 * moved[1] / float(across[0])
    return _Places(north_m=north - moved[0], east_m=east - moved[1], home_deg=there, home_is_known=True)


def _jumps(north: FloatArray, east: FloatArray) -> BoolArray:
    """Fixes that lie farther from the median of their neighbours than any plane flies in that time."""
    good = np.flatnonzero(np.isfinite(north))
    found = np.zeros(north.size, dtype=bool)
    if good.size >= _NEIGHBOURS:
        off = np.hypot(*(own[good] - median_filter(own[good], _NEIGHBOURS) for own in (north, east)))
        found[good[off > _JUMP_M]] = True
    return found


def _home(north: FloatArray, east: FloatArray, distance_m: FloatArray) -> tuple[float, float] | None:
    """The place from which the logged distances count, by least squares; None where they fit none."""
    good = np.isfinite(north) & np.isfinite(east) & np.isfinite(distance_m)
    if good.sum() < 10 or np.ptp(distance_m[good]) < 5:
        return None
    n, e, d = north[good], east[good], distance_m[good]

    def miss(place: FloatArray) -> FloatArray:
        return np.asarray(np.hypot(n - place[0], e - place[1]) - d)

    nearest = int(np.argmin(d))
    solved = least_squares(miss, np.array([n[nearest], e[nearest]]), loss="soft_l1")
    if float(np.median(np.abs(miss(solved.x)))) > _FITS_M:
        return None
    return float(solved.x[0]), float(solved.x[1])


def _velocity(channel: _Channel, thin: _Thin, rate_hz: float, places: _Places) -> tuple[FloatArray | None, FloatArray | None]:
    speed, course = channel("ground_speed"), channel("course")
    if speed is not None and course is not None:
        return thin(speed * np.cos(np.radians(course))), thin(speed * np.sin(np.radians(course)))
    if places.north_m is None or places.east_m is None:
        return None, None
    good = np.isfinite(places.north_m) & np.isfinite(places.east_m)
    if good.sum() < _LEAST_S * rate_hz:
        return None, None
    width = max(3, round(_SMOOTHED_S * rate_hz))

    def speed_of(metres: FloatArray) -> FloatArray:
        filled = np.interp(np.arange(metres.size), np.flatnonzero(good), metres[good])
        found = np.gradient(uniform_filter1d(filled, width)) * rate_hz
        return np.where(good, found, np.nan)

    return speed_of(places.north_m), speed_of(places.east_m)


def stretches(mask: BoolArray, least: int) -> list[slice]:
    """Runs of True at least so long."""
    edges = np.flatnonzero(np.diff(np.concatenate(([0], mask.astype(np.int8), [0]))))
    return [slice(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= least]
