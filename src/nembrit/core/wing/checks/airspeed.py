"""Airspeed against ground speed on opposite legs: how far the pitot is off, and the wind that was found with it."""

import math

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.optimize import least_squares

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.checks.criteria import CheckResult, Measured
from nembrit.core.wing.track import Track, stretches

_LEAST_S = 8.0
_SMOOTH_S, _HELD_DEG_S, _SKIP_S = 4.0, 3.0, 2.0
_CLIMB_M_S, _CLIMB_OVER_S = 1.2, 8.0
_OPPOSITE_DEG, _ACROSS_DEG = 60.0, 45.0
_ALIKE_S = 4.0  # gusts stay alike for so long
_FLOOR_M_S = 0.25
_WIND_PRIOR_M_S = 10.0
_MODEL = 0.008  # of the scale: height that is held only roughly, fixes that lag
_MOST_ERROR = 0.12


def airspeed_of(track: Track) -> CheckResult:
    """The scale of the pitot from straight legs: |g − w| = k·V in blocks of four seconds, as long as gusts stay alike.

    g: velocity over ground, w the wind, V indicated. Least squares over k and w with the blocks' own scatter and a floor of
    0.25 m/s; w has a prior of 10 m/s. Opposite legs cancel the wind along them, legs across tell the rest (the ground-speed
    course method of flight testing; FAA AC 23-8C, airspeed calibration, from memory). The interval holds for gusts up to a
    seventh of the speed. Raises NotEnoughData without a pitot or positions, without opposite legs, or where the interval of k
    is wider than 12 %. The air's density is not taken out: k holds for the height flown, and true airspeed grows by about 5 %
    per 1000 m.
    """
    if track.airspeed_m_s is None or track.north_m_s is None or track.east_m_s is None:
        raise NotEnoughData("airspeed and ground speed with course are needed: switch their logging on")
    course = track.air_course_deg(0.0, 0.0)
    assert course is not None
    legs = _straight(track, course)
    rows = np.array([row for part in legs for row in _blocks(track, course, part)]).reshape(-1, 4)
    if not _has_opposite(rows[:, 3]):
        raise NotEnoughData("no two opposite straight legs of eight seconds: fly the card “Airspeed by opposite legs”")
    k, error, wind = _fitted(rows)
    if error > _MOST_ERROR:
        across = "" if _has_across(rows[:, 3]) else " Fly two legs across the others, too."
        raise NotEnoughData(f"the airspeed is known only to ± {100 * error:.0f} % from these legs: fly longer ones.{across}")
    off, off_error = 100 * (1 / k - 1), 100 * error / k**2
    way = "too much" if off > 0 else "too little"
    more = [f"{len(legs)} legs; wind {wind:.1f} m/s. True speed is {k:.3f} ± {error:.3f} times what the sensor tells."]
    if abs(off) > off_error:
        more.append(f"A setting that scales the speed: multiply by {k:.2f}. One that scales the pressure: by {k * k:.2f}.")
    return CheckResult(
        key="airspeed", at_s=float(track.t_s[legs[0].start]), measured={"off_pct": Measured(value=abs(off), error=off_error)},
        headline=f"The airspeed sensor tells {abs(off):.1f} ± {off_error:.1f} % {way}" if abs(off) > off_error
        else f"The airspeed sensor agrees within {off_error:.1f} %", more=tuple(more),
    )  # fmt: skip


def _straight(track: Track, course: FloatArray) -> list[slice]:
    """Stretches in the air that hold their course, the turns' ends left out."""
    good = np.isfinite(course)
    if good.sum() < _LEAST_S * track.rate_hz:
        return []
    filled = np.interp(np.arange(course.size), np.flatnonzero(good), course[good])
    smooth = uniform_filter1d(filled, max(1, round(_SMOOTH_S * track.rate_hz)))
    held = (np.abs(np.gradient(smooth) * track.rate_hz) < _HELD_DEG_S) & good & track.in_the_air & _level(track)
    skip = round(_SKIP_S * track.rate_hz)
    least = round(_LEAST_S * track.rate_hz)
    return [slice(part.start + skip, part.stop) for part in stretches(held, least + skip)]


def _level(track: Track) -> BoolArray:
    """Where it neither climbs nor sinks: a slope makes the way through the air longer than the one over ground."""
    if track.height_m is None or np.isfinite(track.height_m).sum() < 2:
        return np.ones(track.t_s.size, dtype=bool)
    good = np.isfinite(track.height_m)
    height = np.interp(track.t_s, track.t_s[good], track.height_m[good])
    climb = np.gradient(uniform_filter1d(height, max(1, round(_CLIMB_OVER_S * track.rate_hz)))) * track.rate_hz
    return np.asarray(np.abs(climb) < _CLIMB_M_S)


def _blocks(track: Track, course: FloatArray, part: slice) -> list[tuple[float, float, float, float]]:
    """A leg in blocks of four seconds: mean velocity to north and east, indicated airspeed, course [deg]."""
    assert track.north_m_s is not None
    assert track.east_m_s is not None
    assert track.airspeed_m_s is not None
    width = round(_ALIKE_S * track.rate_hz)
    found = []
    for start in range(part.start, part.stop - width + 1, width):
        own = slice(start, start + width)
        columns = np.stack([track.north_m_s[own], track.east_m_s[own], track.airspeed_m_s[own], course[own]])
        if np.isfinite(columns).all():
            north, east, speed, way = columns.mean(axis=1).tolist()
            found.append((north, east, speed, way))
    return found


def _has_opposite(course_deg: FloatArray) -> bool:
    """Whether eight seconds were flown against eight others."""
    apart = np.abs((course_deg[:, None] - course_deg[None, :] + 180.0) % 360.0 - 180.0)
    return int(((apart > 180 - _OPPOSITE_DEG).any(axis=1)).sum()) >= 2 * _LEAST_S / _ALIKE_S


def _has_across(course_deg: FloatArray) -> bool:
    apart = np.abs((course_deg[:, None] - course_deg[None, :] + 180.0) % 360.0 - 180.0)
    return bool(((apart > _ACROSS_DEG) & (apart < 180 - _ACROSS_DEG)).any())


def _fitted(rows: FloatArray) -> tuple[float, float, float]:
    """k, half-width of its 95 % interval, and wind speed; the blocks' own scatter is found with them."""

    def missed(found: FloatArray, sigma: float) -> FloatArray:
        speed = np.hypot(rows[:, 0] - found[1], rows[:, 1] - found[2])
        return np.concatenate([(speed - found[0] * rows[:, 2]) / sigma, found[1:] / _WIND_PRIOR_M_S])

    start = np.array([1.0, *rows[:, :2].mean(axis=0)])
    first = least_squares(missed, start, args=(1.0,))
    off = missed(first.x, 1.0)[: len(rows)]
    sigma = math.hypot(float(np.sqrt((off**2).sum() / max(1, len(rows) - 3))), _FLOOR_M_S)
    solved = least_squares(missed, first.x, args=(sigma,))
    covariance = np.linalg.pinv(solved.jac.T @ solved.jac)
    # gusts from the side lengthen what the pitot sees and not the way over ground: second order in their share of the speed
    model = math.hypot(_MODEL, 2 * (sigma / float(rows[:, 2].mean())) ** 2)
    return float(solved.x[0]), 1.96 * math.hypot(math.sqrt(float(covariance[0, 0])), model), float(np.hypot(*solved.x[1:]))
