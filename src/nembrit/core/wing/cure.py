"""What to move so that a plane flies straight by itself, and whether the next flight shows that it does."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.craft import Surface
from nembrit.core.wing.lurch import LURCHES_DPS, Lurch
from nembrit.core.wing.mixing import joined, split
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.weaving import Weaving
from nembrit.core.wing.words import signed

LEAST_MOVE_US = 5.0
_PULSES_US = (800.0, 2200.0)
TRIMMED_US = 8.0  # a trim that hardly lurches (common practice, no source)
_FIRST_STEP_US, _MOST_STEP_US, _APART_US, _LEAST_SLOPE = 15.0, 40.0, 10.0, 0.005
_SIGMAS = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class YawStep:
    """How far to move the yaw trim [µs, nose right positive], and what that rests on."""

    step_us: float
    is_first: bool  # nothing is known yet of how much a microsecond does


def yaw_step(history: Sequence[tuple[float, float]]) -> YawStep | None:
    """The next move of the yaw trim, from (yaw trim [µs], pull [deg/s]) of flights, the newest last; None for no flights.

    The controller holds no yaw, so servos do not tell this trim: the first step is 15 µs against the pull (common practice, no
    source), the next ones go to where the line through two or more flights of different trims crosses zero, by 40 µs at most.
    """
    if not history:
        return None
    now_us, pull = history[-1]
    trims, pulls = np.array([one[0] for one in history]), np.array([one[1] for one in history])
    if np.ptp(trims) >= _APART_US:
        slope, level = np.polyfit(trims, pulls, 1)
        if slope > _LEAST_SLOPE:
            step = float(-level / slope - now_us)
            return YawStep(step_us=max(-_MOST_STEP_US, min(_MOST_STEP_US, step)), is_first=False)
    return YawStep(step_us=_FIRST_STEP_US if pull < 0 else -_FIRST_STEP_US, is_first=True)


def yaw_trim_of(surfaces: Sequence[Surface]) -> float | None:
    """Yaw part of the servo centres against 1500 µs; None for a plane without a surface that yaws it."""
    by_role = {one.role: (one.direction or 1) * (one.centre_us - 1500.0) for one in surfaces}
    if "rudder" in by_role:
        return by_role["rudder"]
    if "v_tail_left" in by_role and "v_tail_right" in by_role:
        return float(split(by_role["v_tail_left"], by_role["v_tail_right"], "v_tail")[1])
    return None


def surely_held(trim: Trim | None) -> dict[str, float]:
    """What is held hands off [µs], axis by axis, where it is 5 µs or more and beyond twice its error."""
    axes = trim.axes if trim is not None else {}
    return {
        axis: own.trim_us
        for axis, own in axes.items()
        if abs(own.trim_us) >= LEAST_MOVE_US and abs(own.trim_us) > _SIGMAS * own.error_us
    }


def new_centres(
    surfaces: Sequence[Surface],
    held_us: Mapping[str, float],
    yaw_us: float = 0.0,
    *,
    directions: Mapping[int, int | None] | None = None,
) -> dict[int, float]:
    """New centre of every servo that has to move by 5 µs or more, in whole microseconds.

    `held_us` are the deflections that are held hands off, by axis (right, nose up, clockwise positive); a yaw move, too, is split
    over a V-tail's pair, or goes to the rudder. `directions` are those that a log told. A servo whose direction nobody said and
    no log told moves nowhere.
    """
    wanted = _by_role({axis: held_us.get(axis, 0.0) for axis in ("roll", "pitch", "yaw")}, yaw_us)
    found = {}
    for one in surfaces:
        direction = one.direction or (directions or {}).get(one.servo)
        if direction is None:
            continue
        moved = direction * wanted.get(one.role, 0.0)
        if abs(moved) >= LEAST_MOVE_US:
            centre_us = float(round(one.centre_us + moved))
            if not _PULSES_US[0] <= centre_us <= _PULSES_US[1] or abs(moved) > one.throw_us:
                raise InputError(
                    f"servo {one.servo} would have to go from {one.centre_us:.0f} to {centre_us:.0f} µs: check the unit of its "
                    "column, and its centre and travel"
                )
            found[one.servo] = centre_us
    return found


def _by_role(held_us: Mapping[str, float], yaw_us: float) -> dict[str, float]:
    """What every surface has to take over, positive as its own deflection."""
    yaw = held_us["yaw"] + yaw_us
    tail, wings = joined(held_us["pitch"], yaw, "v_tail"), joined(held_us["pitch"], held_us["roll"], "elevons")
    return {
        "aileron": held_us["roll"], "elevator": held_us["pitch"], "rudder": yaw, "v_tail_left": float(tail[0]),
        "v_tail_right": float(tail[1]), "elevon_left": float(wings[0]), "elevon_right": float(wings[1]),
    }  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimCheck:
    """What one flight after a move of trims shows."""

    passed: bool | None  # None: it cannot tell
    told: tuple[str, ...]


def trim_check(trim: Trim | None, lurches: Sequence[Lurch], weaving: Weaving | None, *, moved_yaw: bool = False) -> TrimCheck:
    """Hands off within 8 µs, no lurch above 8 deg/s at the switch to manual, no pull on straight legs: what of it was flown.

    An axis whose error is larger than what it is held to tells nothing, and a yaw that was moved is judged on straight legs only.
    """
    told: list[str] = []
    verdicts: list[bool | None] = []
    if trim is not None and trim.axes:
        axis, own = max(trim.axes.items(), key=lambda pair: abs(pair[1].trim_us))
        half_us = 1.96 * own.error_us
        told.append(f"{axis} is held by {signed(own.trim_us)} ± {half_us:.0f} µs at the most")
        is_surely_off = abs(own.trim_us) - half_us > TRIMMED_US
        verdicts.append(False if is_surely_off else None if half_us > TRIMMED_US else abs(own.trim_us) <= TRIMMED_US)
        if half_us > TRIMMED_US and not is_surely_off:
            told.append("too uncertain to judge: fly half a minute level, hands off")
    if lurches:
        axis, rate = max((one.largest for one in lurches), key=lambda pair: abs(pair[1]))
        lurched = abs(rate) > LURCHES_DPS
        told.append(f"switched to manual it {'lurches' if lurched else 'stays'}: {axis} {signed(rate)} deg/s")
        verdicts.append(not lurched)
    if weaving is not None:
        told.append(f"pulled to the {weaving.side}" if weaving.side else "no pull on straight legs")
        verdicts.append(weaving.side is None)
    elif moved_yaw:
        told.append("yaw was moved, and no straight legs were flown since: fly four legs there and back")
        verdicts.append(None)
    if False in verdicts:
        return TrimCheck(passed=False, told=tuple(told))
    return TrimCheck(passed=None if None in verdicts or not verdicts else True, told=tuple(told))


def loosened(now: Mapping[str, float], before: Sequence[Mapping[str, float]]) -> dict[str, float]:
    """Navigation gains that stand below what they once were: name → the highest earlier value.

    >>> loosened({"follow course": 5.0}, [{"follow course": 12.0}, {"follow course": 8.0}])
    {'follow course': 12.0}
    """
    top = {name: max((own[name] for own in before if name in own), default=value) for name, value in now.items()}
    return {name: value for name, value in top.items() if value > now[name] * 1.02}
