"""A return home as it was flown: where it turned, which way and how high, what it overshot, and how it ended."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.track import Track, stretches
from nembrit.core.wing.wind import Wind

RETURN_HZ = 10.0
WORDS = ("return", "home")
_LEAST_S = 5.0
_BANKED_DEG, _BANKED_SHARE, _POINTING_DEG, _EITHER_DEG = 10.0, 0.9, 15.0, 165.0
_MIDDLE = (0.25, 0.80)
_CIRCLE_RAD, _CIRCLE_S, _CIRCLE_SPREAD, _CIRCLE_M, _WHOLE_TURN = 1.2, 12.0, 0.6, 200.0, 0.95
_NEAR_HOME_M = 150.0  # from there on it joins its circle or comes down
_LANDED_M_S, _LANDED_S, _SETTLED_S, _CLOSED = 2.0, 3.0, 10.0, 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class Return:
    """One return; heights above home's ground [m], distances from home. None: it did not come to that, or was not logged."""

    start_s: float
    end_s: float
    start_height_m: float | None
    start_distance_m: float
    turn_start_s: float | None
    turn_height_m: float | None
    turn_direction: str | None  # left or right, as it was flown
    short_way: bool | None
    either_way: bool  # home lay so nearly behind that both ways were short
    turn_radius_m: float | None  # over ground
    turn_air_radius_m: float | None
    target_height_m: float | None  # wanted where that is logged, else what it held
    height_overshoot_m: float | None  # highest second above that
    circled: bool
    circle_start_s: float | None
    circle_direction: str | None
    circle_radius_m: float | None
    turns: float | None
    landed: bool
    ends_m: float  # distance from home at its end
    descent_start_s: float | None
    nearest_m: float
    farthest_m: float
    highest_m: float | None
    lowest_m: float | None  # before the descent
    course_error_rms_deg: float | None  # on the way home
    pointed_home: bool  # from the start, so that no turn was needed
    lowest_airspeed_m_s: float | None  # lowest second before it came down
    arrival_s: float | None  # when it came within 150 m of home, having been farther away, or turned
    arrival_height_m: float | None
    arrival_battery_v: float | None
    height_doubt: str  # why no height here may count
    north_m: FloatArray  # the path over ground from home, for maps and obstacles
    east_m: FloatArray
    height_m: FloatArray
    t_s: FloatArray


def returns_of(track: Track, wind: Wind | None) -> tuple[Return, ...]:
    """Every return of a flight; `track` at about ten samples a second.

    Starts by the mode's name. The turn starts with the first second that is banked by more than 10° for nine tenths of it, and
    ends when the course points home within 15°; its radius is path over change of course from a quarter to four fifths of it.
    Circling begins where the bearing from home advances by more than 1.2 rad in 12 s while the distance varies by less than 60 %
    and stays below 200 m; it circled where that went on for a whole turn of one sense. Landed: slower than 2 m/s over ground in
    the last three seconds. Errors (median and nine in ten, 180 simulated flights): turn 0.1 and 0.2 s, its height 0.1 and 0.8 m,
    overshoot 0.2 and 2 m, circle radius 0.1 and 0.6 m. Rules measured in the project's own
    trials. Raises NotEnoughData without modes, positions, attitude or any return.
    """
    if track.mode is None:
        raise NotEnoughData("no flight mode in this log: log the mode to find returns")
    if track.north_m is None or track.bank_deg is None or track.north_m_s is None:
        raise NotEnoughData("a return needs positions and attitude in the log: switch their logging on")
    asked = track.where_mode(*WORDS)
    parts = stretches(asked, round(_LEAST_S * RETURN_HZ))
    if not parts:
        known = ", ".join(name for name in dict.fromkeys(track.modes) if name) or "none"
        if any(name.startswith("mode ") for name in track.modes):
            raise NotEnoughData(
                f"not judged: none of this log’s modes is marked as “return” (modes here: {known}); which one is it? Name it on "
                "the page “Check the meanings” of the log"
            )
        raise NotEnoughData(
            f"no return in this flight: no mode is called return or home (modes here: {known}); fly the return card"
        )
    return tuple(_return(track, part, wind) for part in parts)


def _return(track: Track, part: slice, wind: Wind | None) -> Return:
    assert track.north_m is not None
    assert track.east_m is not None
    t_s, north, east = track.t_s[part], track.north_m[part], track.east_m[part]
    away = np.hypot(north, east)
    is_doubted = track.height_m is None or bool(track.height_doubt)
    height = np.full(t_s.size, np.nan) if is_doubted or track.height_m is None else track.height_m[part]
    course = _filled(track.air_course_deg(0.0, 0.0), part)
    error = (_bearing_home(north, east) - course + 180.0) % 360.0 - 180.0
    turn = _turn_start(track, part)
    circle = _circle_start(north, east, away)
    descent = _descent_start(track, part)
    circle = None if descent is not None and circle is not None and circle >= descent else circle
    turned = None if turn is None else _turned(course, error, turn)
    target = _target(track, part, height, circle, descent)
    highest = _highest(height, descent)
    near = np.flatnonzero(away < _NEAR_HOME_M)
    near = near[near > (turn or 0)]
    joins = int(near[0]) if near.size else circle if circle is not None else descent
    pointing = None if turned is None else turned.stop
    flown = np.s_[circle:descent]
    advance = None if circle is None else _advance(north[flown], east[flown])
    speed = track.ground_speed_m_s
    assert speed is not None
    last = speed[part][-round(_LANDED_S * RETURN_HZ) :]
    way = "right" if turned is not None and course[turned.stop] > course[turned.start] else "left"
    is_either = turn is not None and bool(abs(error[turn]) > _EITHER_DEG)
    return Return(
        start_s=float(t_s[0]), end_s=float(t_s[-1]), start_height_m=_at(height, 0),
        start_distance_m=float(away[np.isfinite(away)][0]),
        turn_start_s=None if turn is None else float(t_s[turn]), turn_height_m=None if turn is None else _at(height, turn),
        turn_direction=None if turned is None else way, either_way=is_either,
        short_way=None if turned is None or turn is None else is_either or bool((error[turn] > 0) == (way == "right")),
        turn_radius_m=_radius(track, part, turned, (0.0, 0.0)),
        turn_air_radius_m=None if wind is None else _radius(track, part, turned, (wind.north_m_s, wind.east_m_s)),
        target_height_m=target, height_overshoot_m=_overshoot(target, highest, _at(height, 0)),
        circled=advance is not None and abs(advance) >= _WHOLE_TURN * 2 * math.pi,
        circle_start_s=None if circle is None else float(t_s[circle]),
        circle_direction=None if advance is None else ("right" if advance > 0 else "left"),
        circle_radius_m=None if circle is None else float(np.nanmedian(away[flown])),
        turns=None if advance is None else abs(advance) / (2 * math.pi),
        ends_m=float(away[np.isfinite(away)][-1]),
        landed=bool(np.isfinite(last).any() and np.nanmean(last) < _LANDED_M_S),
        descent_start_s=None if descent is None else float(t_s[descent]),
        nearest_m=float(np.nanmin(away)), farthest_m=float(np.nanmax(away)), highest_m=highest,
        lowest_m=None if not np.isfinite(height[:descent]).any() else float(np.nanmin(height[:descent])),
        course_error_rms_deg=None
        if pointing is None or joins is None or joins - pointing < RETURN_HZ
        else float(np.sqrt(np.nanmean(error[pointing:joins] ** 2))),
        pointed_home=bool(abs(error[0]) < _POINTING_DEG),
        lowest_airspeed_m_s=_lowest_second(track.airspeed_m_s, part, descent),
        arrival_s=None if not near.size else float(t_s[near[0]]),
        arrival_height_m=None if not near.size else _at(height, int(near[0])),
        arrival_battery_v=None if not near.size else _around(track.battery_v, part, int(near[0])),
        height_doubt=track.height_doubt,
        north_m=north, east_m=east, height_m=height, t_s=t_s,
    )  # fmt: skip


def _lowest_second(values: FloatArray | None, part: slice, descent: int | None) -> float | None:
    """The slowest second before it came down [m/s]."""
    own = None if values is None else values[part][:descent]
    width = round(RETURN_HZ)
    if own is None or own.size < width or not np.isfinite(own).all():
        return None
    return float(uniform_filter1d(own, width)[width // 2 : -(width // 2) or None].min())


def _around(values: FloatArray | None, part: slice, place: int) -> float | None:
    """Mean of the second around a place."""
    own = None if values is None else values[part][max(0, place - 5) : place + 5]
    return None if own is None or not np.isfinite(own).any() else float(np.nanmean(own))


def _overshoot(target_m: float | None, highest_m: float | None, start_m: float | None) -> float | None:
    """How far it climbed above its return height; what it came down from is no climb."""
    if target_m is None or highest_m is None:
        return None
    return highest_m - max(target_m, start_m if start_m is not None else target_m)


def _filled(values: FloatArray | None, part: slice) -> FloatArray:
    assert values is not None
    own = values[part]
    good = np.flatnonzero(np.isfinite(own))
    return np.interp(np.arange(own.size), good, own[good]) if good.size else np.zeros(own.size)


def _bearing_home(north: FloatArray, east: FloatArray) -> FloatArray:
    return np.asarray(np.degrees(np.arctan2(-east, -north)))


def _at(values: FloatArray, place: int) -> float | None:
    return float(values[place]) if np.isfinite(values[place]) else None


def _turn_start(track: Track, part: slice) -> int | None:
    """Place of the first second that is banked nearly all the time."""
    assert track.bank_deg is not None
    with np.errstate(invalid="ignore"):
        banked = (np.abs(track.bank_deg[part]) > _BANKED_DEG).astype(float)
    width = round(RETURN_HZ)
    if banked.size < width:
        return None
    share = np.convolve(banked, np.ones(width), "valid") / width
    found = np.flatnonzero((share >= _BANKED_SHARE) & (banked[: share.size] > 0))
    return int(found[0]) if found.size else None


def _turned(course: FloatArray, error: FloatArray, turn: int) -> slice | None:
    """From the start of the turn to where it points home; None where it never does, or did from the start."""
    pointing = np.flatnonzero(np.abs(error[turn:]) < _POINTING_DEG)
    if not pointing.size or pointing[0] < 2:
        return None
    return slice(turn, turn + int(pointing[0]))


def _radius(track: Track, part: slice, turned: slice | None, wind: tuple[float, float]) -> float | None:
    if turned is None or turned.stop - turned.start < RETURN_HZ:
        return None
    n = turned.stop - turned.start
    a, b = (part.start + turned.start + round(share * n) for share in _MIDDLE)
    assert track.north_m_s is not None
    assert track.east_m_s is not None
    speed = np.hypot(track.north_m_s[a:b] - wind[0], track.east_m_s[a:b] - wind[1])
    own = _filled(track.air_course_deg(*wind), slice(a, b))
    change = abs(math.radians(float(own[-1] - own[0])))
    return float(np.nanmean(speed) * (b - a - 1) / RETURN_HZ / change) if change > 0.1 else None


def _circle_start(north: FloatArray, east: FloatArray, away: FloatArray) -> int | None:
    good = np.flatnonzero(np.isfinite(away))
    if good.size < _CIRCLE_S * RETURN_HZ:
        return None
    places = np.arange(away.size)
    bearing = np.interp(places, good, np.unwrap(np.arctan2(east[good], north[good])))
    distance = np.interp(places, good, away[good])
    width = round(_CIRCLE_S * RETURN_HZ)
    for start in range(0, away.size - width, 2):
        window = distance[start : start + width]
        advance = abs(bearing[start + width] - bearing[start])
        is_even = (window.max() - window.min()) < _CIRCLE_SPREAD * window.mean() and window.max() < _CIRCLE_M
        if advance > _CIRCLE_RAD and is_even:
            return start
    return None


def _advance(north: FloatArray, east: FloatArray) -> float:
    """How far the bearing from home went round [rad], to the right positive."""
    good = np.isfinite(north) & np.isfinite(east)
    bearing = np.unwrap(np.arctan2(east[good], north[good]))
    return float(bearing[-1] - bearing[0]) if bearing.size else 0.0


def _descent_start(track: Track, part: slice) -> int | None:
    """Where the throttle closes for good."""
    if track.throttle is None:
        return None
    with np.errstate(invalid="ignore"):
        closed: BoolArray = track.throttle[part] < _CLOSED
    runs = stretches(closed, round(2 * RETURN_HZ))
    return runs[-1].start if runs and runs[-1].stop >= closed.size - RETURN_HZ else None


def _target(track: Track, part: slice, height: FloatArray, circle: int | None, descent: int | None) -> float | None:
    if track.height_wanted_m is not None and np.isfinite(track.height_wanted_m[part]).any():
        wanted = track.height_wanted_m[part][:descent]
        values, counts = np.unique(np.round(2 * wanted[np.isfinite(wanted)]) / 2, return_counts=True)
        usual = float(values[int(np.argmax(counts))])  # where it is led down, the wanted height runs ahead of it
        return float(np.nanmedian(wanted[np.abs(wanted - usual) <= 0.5]))
    until = circle if circle is not None else descent if descent is not None else height.size
    held = height[max(0, until - round(_SETTLED_S * RETURN_HZ)) : until]
    return float(np.nanmedian(held)) if np.isfinite(held).any() else None


def _highest(height: FloatArray, descent: int | None) -> float | None:
    own = height[:descent]
    own = own[np.isfinite(own)]
    if own.size < RETURN_HZ:
        return None
    return float(uniform_filter1d(own, round(RETURN_HZ)).max())
