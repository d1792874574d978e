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
_FIRST_STEP_US, _MOST_STEP_US, _APART_US, _LEAST_SLOPE = 15.0, 40.0, 4.0, 0.005


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


def new_centres(surfaces: Sequence[Surface], trim: Trim | None, yaw_us: float = 0.0) -> dict[int, float]:
    """New centre of every servo that has to move by 5 µs or more, in whole microseconds.

    What is held hands off goes into the centres as it is, servo by servo; a yaw move is split over a V-tail's pair, or goes to
    the rudder.
    """
    sides = joined(0.0, yaw_us, "v_tail")
    yaw = {"rudder": yaw_us, "v_tail_left": float(sides[0]), "v_tail_right": float(sides[1])}
    found = {}
    for one in surfaces:
        held = trim.servos[str(one.servo)].trim_us if trim is not None and str(one.servo) in trim.servos else 0.0
        held = held if abs(held) >= LEAST_MOVE_US else 0.0
        moved = held + (one.direction or 1) * yaw.get(one.role, 0.0)
        if abs(moved) >= LEAST_MOVE_US:
            centre_us = float(round(one.centre_us + moved))
            if not _PULSES_US[0] <= centre_us <= _PULSES_US[1] or abs(moved) > one.throw_us:
                raise InputError(
                    f"servo {one.servo} would have to go from {one.centre_us:.0f} to {centre_us:.0f} µs: check the unit of its "
                    "column, and its centre and travel"
                )
            found[one.servo] = centre_us
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimCheck:
    """What one flight after a move of trims shows."""

    passed: bool | None  # None: it cannot tell
    told: tuple[str, ...]


def trim_check(trim: Trim | None, lurches: Sequence[Lurch], weaving: Weaving | None) -> TrimCheck:
    """Hands off within 8 µs, no lurch above 8 deg/s at the switch to manual, no pull on straight legs: what of it was flown."""
    told, verdicts = [], []
    if trim is not None and trim.axes:
        axis, own = max(trim.axes.items(), key=lambda pair: abs(pair[1].trim_us))
        told.append(f"{axis} is held by {signed(own.trim_us)} ± {1.96 * own.error_us:.0f} µs at the most")
        verdicts.append(abs(own.trim_us) <= TRIMMED_US)
    if lurches:
        axis, rate = max((one.largest for one in lurches), key=lambda pair: abs(pair[1]))
        lurched = abs(rate) > LURCHES_DPS
        told.append(f"switched to manual it {'lurches' if lurched else 'stays'}: {axis} {signed(rate)} deg/s")
        verdicts.append(not lurched)
    if weaving is not None:
        told.append(f"pulled to the {weaving.side}" if weaving.side else "no pull on straight legs")
        verdicts.append(weaving.side is None)
    return TrimCheck(passed=all(verdicts) if verdicts else None, told=tuple(told))


def loosened(now: Mapping[str, float], before: Sequence[Mapping[str, float]]) -> dict[str, float]:
    """Navigation gains that stand below what they once were: name → the highest earlier value.

    >>> loosened({"follow course": 5.0}, [{"follow course": 12.0}, {"follow course": 8.0}])
    {'follow course': 12.0}
    """
    top = {name: max((own[name] for own in before if name in own), default=value) for name, value in now.items()}
    return {name: value for name, value in top.items() if value > now[name] * 1.02}
