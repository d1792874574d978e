"""How a plane held its lines, circles and heights, from its positions and from what was wanted."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.optimize import least_squares

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray
from nembrit.core.wing.track import RATE_HZ, Track, stretches
from nembrit.core.wing.weaving import straight_parts
from nembrit.core.wing.wind import Wind

_JOINS_DEG, _OFF_M, _OFF_SHARE = 45.0, 3.0, 0.05
_TURNING_DEG_S, _TURN_S, _GAP_S, _LEAST_TURN_DEG, _ROUND_DEG = 5.0, 2.0, 2.0, 30.0, 330.0
_SMOOTH_S, _SETTLING_S = 1.0, 12.0
_JOINING_M = 25.0
_MIDDLE = (0.25, 0.80)  # of a turn, where its radius is steady
_ACROSS_M_S, _BESIDE_M, _EXPLAINED = 2.0, 5.0, 0.9
_HEIGHT_S, _SAME_HEIGHT_M, _REACHED_M = 10.0, 0.5, 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class LegFlown:
    """One straight leg over ground; right of the line and clockwise positive."""

    start_s: float
    end_s: float
    course_deg: float  # wanted, else flown in the mean
    is_wanted: bool  # the line was wanted; else the leg is held against its own mean
    cross_track_m: float | None  # mean; None without a wanted line
    cross_track_rms_m: float  # about that mean
    course_error_deg: float
    course_error_rms_deg: float
    ground_speed_m_s: float
    with_wind_m_s: float | None  # wind along the leg, from behind positive


@dataclass(frozen=True, slots=True, kw_only=True)
class TurnFlown:
    """One turn from leg to leg."""

    start_s: float
    end_s: float
    turned_deg: float  # to the right positive
    radius_m: float  # over ground, in the middle of the turn
    air_radius_m: float | None  # with the wind taken out
    overshoot_deg: float | None  # of the course beyond the new one; None where no straight leg follows
    overshoot_m: float | None  # off the new line, on the far side
    bank_deg: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class CircleFlown:
    """Circles around one place over ground."""

    start_s: float
    end_s: float
    turns: float  # to the right positive
    radius_m: float
    radius_sd_m: float  # of the distance from the middle
    north_m: float  # of the middle, from home
    east_m: float
    middle_error_m: float


@dataclass(frozen=True, slots=True, kw_only=True)
class HeightHeld:
    """A height that was to be held."""

    start_s: float
    end_s: float
    wanted_m: float
    error_m: float  # mean
    rms_m: float
    highest_m: float
    lowest_m: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Navigation:
    """What a flight shows of its navigation."""

    legs: tuple[LegFlown, ...]
    turns: tuple[TurnFlown, ...]
    circles: tuple[CircleFlown, ...]
    heights: tuple[HeightHeld, ...]
    fastest_m_s: float
    slowest_m_s: float


def navigation_of(track: Track, wind: Wind | None) -> Navigation:
    """Legs, turns, circles and heights of a flight.

    Legs as in `weaving`. A turn is faster than 5 deg/s for two seconds and goes over 30°, its radius is path over change of
    course in its middle; beyond 330° it is a circle, whose middle and radius come from least squares over its positions
    (Kåsa's start, then geometric). Ground speeds are of the legs and circles. Raises NotEnoughData without positions, or where
    nothing of this was flown.
    """
    if track.north_m is None or track.east_m is None or track.north_m_s is None or track.east_m_s is None:
        raise NotEnoughData("no positions in this log: switch on logging of the position")
    course = track.air_course_deg(0.0, 0.0)
    assert course is not None
    parts = straight_parts(track, course)
    legs = tuple(leg for part in parts if (leg := _leg(track, course, part, wind)) is not None)
    turning = _turning(course)
    turns = tuple(turn for part in turning if (turn := _turn(track, course, part, parts, wind)) is not None)
    circles = tuple(circle for part in turning if (circle := _circle(track, course, part)) is not None)
    heights = _heights(track)
    if not (legs or turns or circles or heights):
        raise NotEnoughData("no legs, turns or circles in this flight: fly the card “Legs and box”")
    speed = track.ground_speed_m_s
    assert speed is not None
    used = [speed[part] for part in (*parts, *turning)] or [speed]
    slow, fast = np.nanpercentile(np.concatenate(used), (2, 98))
    return Navigation(
        legs=legs, turns=turns, circles=circles, heights=heights, fastest_m_s=float(fast), slowest_m_s=float(slow),
    )  # fmt: skip


def _leg(track: Track, course: FloatArray, part: slice, wind: Wind | None) -> LegFlown | None:
    wanted = None if track.course_wanted_deg is None else track.course_wanted_deg[part]
    is_wanted = wanted is not None and bool(np.isfinite(wanted).all())
    own = course[part]
    if not np.isfinite(own).any():
        return None
    line_deg = float(np.median(wanted)) if is_wanted and wanted is not None else float(np.nanmean(own))
    error = (own - line_deg + 180.0) % 360.0 - 180.0
    off = None if track.cross_track_m is None or not is_wanted else track.cross_track_m[part]
    aside = _aside(track, part, line_deg) if off is None or not np.isfinite(off).any() else off
    if not np.isfinite(aside).any():
        return None
    heading = math.radians(line_deg)
    assert track.ground_speed_m_s is not None
    return LegFlown(
        start_s=float(track.t_s[part.start]), end_s=float(track.t_s[part.stop - 1]), course_deg=line_deg % 360.0,
        is_wanted=is_wanted, cross_track_m=float(np.nanmean(off)) if off is not None and np.isfinite(off).any() else None,
        cross_track_rms_m=float(np.nanstd(aside)), course_error_deg=float(np.nanmean(error)),
        course_error_rms_deg=float(np.sqrt(np.nanmean(error**2))),
        ground_speed_m_s=float(np.nanmean(track.ground_speed_m_s[part])),
        with_wind_m_s=None
        if wind is None
        else wind.north_m_s * math.cos(heading) + wind.east_m_s * math.sin(heading),
    )  # fmt: skip


def _aside(track: Track, part: slice, line_deg: float) -> FloatArray:
    """Distance to the right of a line of that course through the leg's own middle."""
    assert track.north_m is not None
    assert track.east_m is not None
    north, east = track.north_m[part], track.east_m[part]
    way = math.radians(line_deg)
    aside = east * math.cos(way) - north * math.sin(way)
    return np.asarray(aside - np.nanmean(aside))


def _turning(course: FloatArray) -> list[slice]:
    """Stretches that turn one way, short pauses bridged."""
    good = np.isfinite(course)
    if good.sum() < _TURN_S * RATE_HZ:
        return []
    filled = np.interp(np.arange(course.size), np.flatnonzero(good), course[good])
    rate = np.gradient(uniform_filter1d(filled, round(_SMOOTH_S * RATE_HZ))) * RATE_HZ
    found: list[slice] = []
    for side in (1, -1):
        own = stretches(side * rate > _TURNING_DEG_S, round(0.5 * RATE_HZ))
        joined: list[slice] = []
        for part in own:
            between = slice(joined[-1].stop, part.start) if joined else None
            if between and between.stop - between.start < _GAP_S * RATE_HZ and not (side * rate[between] < -_TURNING_DEG_S).any():
                joined[-1] = slice(joined[-1].start, part.stop)
            else:
                joined.append(part)
        found += [part for part in joined if part.stop - part.start >= _TURN_S * RATE_HZ]
    return sorted(found, key=lambda part: part.start)


def _turn(track: Track, course: FloatArray, part: slice, legs: list[slice], wind: Wind | None) -> TurnFlown | None:
    turned = _turned(course, part)
    if not _LEAST_TURN_DEG <= abs(turned) < _ROUND_DEG:
        return None
    radius = _radius(track, course, part, (0.0, 0.0))
    if radius is None:
        return None
    air = None if wind is None else _radius(track, None, part, (wind.north_m_s, wind.east_m_s))
    beyond_deg, beyond_m = _beyond(track, course, part, legs, math.copysign(1, turned))
    return TurnFlown(
        start_s=float(track.t_s[part.start]), end_s=float(track.t_s[part.stop - 1]), turned_deg=turned, radius_m=radius,
        air_radius_m=air, overshoot_deg=beyond_deg, overshoot_m=beyond_m,
        bank_deg=None if track.bank_deg is None else float(np.nanmedian(track.bank_deg[part])),
    )  # fmt: skip


def _turned(course: FloatArray, part: slice) -> float:
    own = course[part]
    own = own[np.isfinite(own)]
    return float(own[-1] - own[0]) if own.size else 0.0


def _radius(track: Track, course: FloatArray | None, part: slice, wind: tuple[float, float]) -> float | None:
    """Path over change of course in the middle of a turn, in the air that moves as `wind`."""
    assert track.north_m_s is not None
    assert track.east_m_s is not None
    n = part.stop - part.start
    middle = slice(part.start + round(_MIDDLE[0] * n), part.start + round(_MIDDLE[1] * n))
    own = track.air_course_deg(*wind) if course is None else course
    assert own is not None
    speed = np.hypot(track.north_m_s[middle] - wind[0], track.east_m_s[middle] - wind[1])
    turned = math.radians(abs(_turned(own, middle)))
    steps = max(1, middle.stop - middle.start - 1)
    return float(np.nanmean(speed) * steps / RATE_HZ / turned) if turned > 0.1 else None


def _beyond(track: Track, course: FloatArray, part: slice, legs: list[slice], side: float) -> tuple[float | None, float | None]:
    """How far course and place went beyond the leg that follows a turn."""
    wanted = track.course_wanted_deg
    after = slice(part.stop, min(course.size, part.stop + round(_SETTLING_S * RATE_HZ)))
    if after.stop - after.start < RATE_HZ:
        return None, None
    aside = None if track.cross_track_m is None else track.cross_track_m[after]
    if aside is not None and abs(aside[0]) > _JOINING_M:
        return None, None  # it flies to a line that lies elsewhere
    if wanted is not None and np.isfinite(wanted[after]).all():
        new_deg = float(np.median(wanted[after]))
        if np.abs((wanted[after] - new_deg + 180.0) % 360.0 - 180.0).max() > 1.0:
            return None, None  # a circle is followed, no line
    else:
        following = next((leg for leg in legs if 0 <= leg.start - part.stop < 15 * RATE_HZ), None)
        if following is None:
            return None, None
        new_deg = float(np.nanmean(course[following])) % 360.0
    own = course[slice(max(part.start, part.stop - round(3 * RATE_HZ)), after.stop)]
    error = side * ((own - new_deg + 180.0) % 360.0 - 180.0)
    beyond_m = None
    if aside is not None and np.isfinite(aside).all():
        beyond_m = max(0.0, float(np.max(-side * aside)))  # a turn to the right that comes too late ends left of the new line
    return max(0.0, float(np.nanmax(error))), beyond_m


def _circle(track: Track, course: FloatArray, part: slice) -> CircleFlown | None:
    turned = _turned(course, part)
    if abs(turned) < _ROUND_DEG:
        return None
    assert track.north_m is not None
    assert track.east_m is not None
    part = _round_part(track.north_m, track.east_m, course, part)
    turned = _turned(course, part)
    north, east = track.north_m[part], track.east_m[part]
    good = np.isfinite(north) & np.isfinite(east)
    if good.sum() < 8:
        return None
    middle, radius, error = circle_through(north[good], east[good])
    away = np.hypot(north[good] - middle[0], east[good] - middle[1])
    return CircleFlown(
        start_s=float(track.t_s[part.start]), end_s=float(track.t_s[part.stop - 1]), turns=turned / 360.0, radius_m=radius,
        radius_sd_m=float(away.std()), north_m=middle[0], east_m=middle[1], middle_error_m=error,
    )  # fmt: skip


def _round_part(north_m: FloatArray, east_m: FloatArray, course_deg: FloatArray, part: slice) -> slice:
    """The part without the ways in and out: an eighth of a turn at either end, as far as it lies off what the rest goes round."""
    gone = np.abs(course_deg[part] - course_deg[part][[0, -1]][:, None])
    into, out = gone[0] < _JOINS_DEG, gone[1] < _JOINS_DEG
    north, east = north_m[part], east_m[part]
    rest = np.isfinite(north) & np.isfinite(east) & ~into & ~out
    if rest.sum() < 8:
        return part
    middle, radius, _ = circle_through(north[rest], east[rest])
    off = np.abs(np.hypot(north - middle[0], east - middle[1]) - radius) > max(_OFF_M, _OFF_SHARE * radius)
    keep = np.flatnonzero(~(off & (into | out)))
    return slice(part.start + int(keep[0]), part.start + int(keep[-1]) + 1)


def circle_through(north_m: FloatArray, east_m: FloatArray) -> tuple[tuple[float, float], float, float]:
    """Middle, radius and the middle's standard error [m] of the circle nearest to places, shape (n,).

    Algebraic start (Kåsa, IEEE Trans. Instrum. Meas. 25 (1976) 8-14), then geometric least squares; places within two seconds
    at five a second count as one for the error.
    """
    design = np.column_stack([2 * north_m, 2 * east_m, np.ones(north_m.size)])
    start, *_ = np.linalg.lstsq(design, north_m**2 + east_m**2, rcond=None)
    radius = math.sqrt(max(1.0, float(start[2] + start[0] ** 2 + start[1] ** 2)))

    def miss(found: FloatArray) -> FloatArray:
        return np.asarray(np.hypot(north_m - found[0], east_m - found[1]) - found[2])

    solved = least_squares(miss, np.array([start[0], start[1], radius]))
    free = max(1.0, north_m.size / (2 * RATE_HZ) - 3)
    covariance = np.linalg.pinv(solved.jac.T @ solved.jac) * 2 * RATE_HZ * float(solved.fun @ solved.fun) / (2 * RATE_HZ * free)
    error = math.sqrt(max(0.0, float(covariance[0, 0] + covariance[1, 1])))
    return (float(solved.x[0]), float(solved.x[1])), float(solved.x[2]), error


def _heights(track: Track) -> tuple[HeightHeld, ...]:
    wanted, height = track.height_wanted_m, track.height_m
    if wanted is None or height is None:
        return ()
    same = np.abs(np.diff(wanted, prepend=np.nan)) < _SAME_HEIGHT_M / RATE_HZ
    found = []
    for part in stretches(same, round(_HEIGHT_S * RATE_HZ)):
        own, goal = height[part], float(np.median(wanted[part]))
        reached = np.flatnonzero(np.abs(own - goal) < _REACHED_M)
        if not reached.size or own.size - reached[0] < _HEIGHT_S * RATE_HZ:
            continue
        own = own[reached[0] :]
        own = own[np.isfinite(own)]
        found.append(
            HeightHeld(
                start_s=float(track.t_s[part.start + int(reached[0])]), end_s=float(track.t_s[part.stop - 1]), wanted_m=goal,
                error_m=float(own.mean() - goal), rms_m=float(np.sqrt(np.mean((own - goal) ** 2))), highest_m=float(own.max()),
                lowest_m=float(own.min()),
            )
        )  # fmt: skip
    return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True)
class Downwind:
    """How far legs lie beside their lines for each m/s of wind across."""

    slope_s: float
    most_m: float


def downwind(navigation: Navigation, wind: Wind) -> Downwind | None:
    """Whether straight legs lie downwind of their lines, by as much as the wind blows across; None where they do not.

    Offsets are fitted to the wind across each leg; said where that explains nine tenths of them, legs differ by 2 m/s across at
    least, and one lies more than 5 m off. A follower that steers by heading does that, with all trims right (starting values).
    """
    legs = [leg for leg in navigation.legs if leg.is_wanted and leg.cross_track_m is not None]
    if len(legs) < 2 or not wind.has_direction:
        return None
    course = np.radians([leg.course_deg for leg in legs])
    across = -wind.north_m_s * np.sin(course) + wind.east_m_s * np.cos(course)
    off = np.array([leg.cross_track_m for leg in legs], dtype=float)
    if np.ptp(across) < _ACROSS_M_S or np.abs(off).max() < _BESIDE_M:
        return None
    slope = float(across @ off / (across @ across))
    explained = 1 - float(np.sum((off - slope * across) ** 2) / np.sum(off**2))
    return Downwind(slope_s=slope, most_m=float(np.abs(off).max())) if slope > 0 and explained > _EXPLAINED else None
