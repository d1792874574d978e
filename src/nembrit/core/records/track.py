"""Positions on a local east–north grid."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray

_SEMI_MAJOR_M = 6_378_137.0  # WGS 84
_FLATTENING = 1 / 298.257223563


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Track:
    """A path around its home; NaN where there was no fix."""

    t_s: FloatArray  # (n,)
    east_m: FloatArray
    north_m: FloatArray
    home_deg: tuple[float, float]  # latitude, longitude
    length_m: float
    farthest_m: float  # from home


def track_of(t_s: FloatArray, latitude_deg: FloatArray, longitude_deg: FloatArray, *, segment: FloatArray | None = None) -> Track:
    """Lay positions on a plane that touches the ellipsoid at the first fix.

    `segment` numbers the parts of a path; from one to the next nothing is counted as flown.

    East and north are arcs along the ellipsoid's radii of curvature at the middle latitude, which is
    within 0.1 % of the geodesic up to 20 km. Fixes at exactly 0°, 0° are no fixes. Raises
    NotEnoughData for fewer than two.

    Source: radii of curvature, e.g. Torge & Müller, Geodesy, ch. 4 (formulas from memory, checked
    against geographiclib in the tests).
    """
    valid = np.isfinite(latitude_deg) & np.isfinite(longitude_deg) & ((latitude_deg != 0) | (longitude_deg != 0))
    valid &= (np.abs(latitude_deg) <= 90) & (np.abs(longitude_deg) <= 180)
    if valid.sum() < 2:
        raise NotEnoughData("fewer than two positions in this log")
    first = int(np.flatnonzero(valid)[0])
    home = float(latitude_deg[first]), float(longitude_deg[first])
    east, north = east_north_m(latitude_deg, longitude_deg, home)
    east, north = np.where(valid, east, np.nan), np.where(valid, north, np.nan)
    steps = np.hypot(np.diff(east[valid]), np.diff(north[valid]))
    if segment is not None:
        steps = steps[np.diff(segment[valid]) == 0]
    return Track(
        t_s=t_s,
        east_m=east,
        north_m=north,
        home_deg=home,
        length_m=float(steps.sum()),
        farthest_m=float(np.nanmax(np.hypot(east, north))),
    )


def east_north_m(
    latitude_deg: FloatArray, longitude_deg: FloatArray, home_deg: tuple[float, float]
) -> tuple[FloatArray, FloatArray]:
    """Arcs [m] from home to each position.

    >>> east, north = east_north_m(np.array([52.001]), np.array([0.0]), (52.0, 0.0))
    >>> round(float(north[0]), 1)
    111.3
    """
    middle = np.radians((np.asarray(latitude_deg) + home_deg[0]) / 2)
    squared = _FLATTENING * (2 - _FLATTENING)
    root = np.sqrt(1 - squared * np.sin(middle) ** 2)
    across_m, along_m = _SEMI_MAJOR_M / root, _SEMI_MAJOR_M * (1 - squared) / root**3
    turn = (np.asarray(longitude_deg) - home_deg[1] + 180) % 360 - 180
    return np.radians(turn) * across_m * np.cos(middle), np.radians(np.asarray(latitude_deg) - home_deg[0]) * along_m
