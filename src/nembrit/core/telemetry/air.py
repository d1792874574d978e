"""The wind on the way, from airspeed and the velocity over ground while the craft turns."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.types import FloatArray

Value = float | str
_KEPT_S, _EVERY_S, _LEAST_ROWS = 120.0, 0.5, 24
_LEAST_TURN_DEG, _LEAST_SPEED_M_S = 150.0, 3.0
_MOST_ERROR_M_S, _MOST_SCALE_RATIO = 2.0, 0.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Wind:
    """The way the air moves over ground [m/s], and the standard error of its larger part."""

    north_m_s: float
    east_m_s: float
    error_m_s: float

    @property
    def speed_m_s(self) -> float:
        return math.hypot(self.north_m_s, self.east_m_s)

    @property
    def from_deg(self) -> float:
        return math.degrees(math.atan2(-self.east_m_s, -self.north_m_s)) % 360


@dataclass(slots=True)
class Air:
    """The last two minutes of airspeed and velocity over ground."""

    wind: Wind | None = None
    _rows: list[tuple[float, float, float, float]] = field(default_factory=list)  # time, north, east, airspeed

    def feed(self, now_s: float, values: Mapping[str, Value]) -> None:
        """Take one row; `wind` is known once the craft has turned far enough."""
        airspeed, speed, course = (values.get(name) for name in ("airspeed", "ground_speed", "course"))
        if not (isinstance(airspeed, float) and isinstance(speed, float) and isinstance(course, float)):
            return
        if airspeed < _LEAST_SPEED_M_S or (self._rows and now_s - self._rows[-1][0] < _EVERY_S):
            return
        way = math.radians(course)
        self._rows.append((now_s, speed * math.cos(way), speed * math.sin(way), airspeed))
        self._rows = [row for row in self._rows if row[0] > now_s - _KEPT_S]
        self.wind = wind_of(self._rows)


def wind_of(rows: list[tuple[float, float, float, float]]) -> Wind | None:
    """Least squares over rows of time [s], velocity north and east, and airspeed [m/s]; None where they do not tell it.

    |g - w|² = a² is linear in the wind w and |w|²: 2 g·w - |w|² = |g|² - a². Airspeeds through the air must turn by 150° at
    least, or a wrong scale of the airspeed passes for wind. Error: from the residual, with blocks of 5 s counted as one.
    """
    if len(rows) < _LEAST_ROWS:
        return None
    north, east, airspeed = np.array(rows).T[1:]
    matrix = np.stack([2 * north, 2 * east, -np.ones_like(north)], axis=1)
    told = north**2 + east**2 - airspeed**2
    found, _, rank, _ = np.linalg.lstsq(matrix, told, rcond=None)
    if rank < 3 or _turn_deg(north - found[0], east - found[1]) < _LEAST_TURN_DEG:
        return None
    own = float(np.median(np.hypot(north - found[0], east - found[1])))
    if abs(own / float(np.median(airspeed)) - 1) > _MOST_SCALE_RATIO:  # a straight flight: its scatter passes for a turn
        return None
    residual = told - matrix @ found
    independent = max(1.0, len(rows) / (5.0 / _EVERY_S) - 3)
    variance = float(residual @ residual) / independent
    error = math.sqrt(variance * float(np.diag(np.linalg.inv(matrix.T @ matrix))[:2].max()))
    if error > _MOST_ERROR_M_S:
        return None
    return Wind(north_m_s=float(found[0]), east_m_s=float(found[1]), error_m_s=error)


def _turn_deg(north: FloatArray, east: FloatArray) -> float:
    """The arc of directions that were flown: a full circle less the widest gap."""
    ways = np.sort(np.degrees(np.arctan2(east, north)) % 360)
    gaps = np.diff(np.append(ways, ways[0] + 360))
    return 360.0 - float(gaps.max())
