"""What to move so that a plane flies straight by itself, and whether the next flight shows that it does."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.craft import PAIRED, Surface
from nembrit.core.wing.lurch import LURCHES_DPS, Lurch
from nembrit.core.wing.mixing import joined, split
from nembrit.core.wing.pull import Pull
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.words import signed

LEAST_MOVE_US = 5.0
_PULSES_US = (800.0, 2200.0)
TRIMMED_US = 8.0  # a trim that hardly lurches (common practice, no source)
_FIRST_STEP_US, _MOST_STEP_US, _APART_US = 15.0, 40.0, 10.0
_SLOPE, _SLOPE_ERROR, _LEAST_SLOPE = 0.06, 0.03, 0.01  # deg/s per µs
_SIGMAS, _OPEN_DEG_S = 2.0, 0.7


class YawPoint(NamedTuple):
    """One flight: its yaw trim [µs, nose right positive], and the pull with its error [deg/s, clockwise positive]."""

    trim_us: float
    creep_deg_s: float
    error_deg_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class YawStep:
    """How far to move the yaw trim [µs, nose right positive], with its error, and what that rests on."""

    step_us: float
    error_us: float
    is_first: bool  # how much a microsecond does rests on other planes, not on this one
    deg_s_per_us: float


def yaw_step(history: Sequence[YawPoint]) -> YawStep | None:
    """The next move of the yaw trim from flights, the newest last; None for no flights, or where nothing pulls beyond chance.

    The controller holds no yaw, so that servos do not show this trim. Pull = a + k·trim is fitted to the flights by weighted
    least
    squares with a prior on k (0.06 ± 0.03 deg/s per µs: two simulated worlds, an assumption); the step is −pull/k at the newest
    trim. The first one is 15 µs at most (common practice, no source), as long as no two flights lie 10 µs apart; later ones 40.
    """
    if not history:
        return None
    trims, pulls = np.array([one.trim_us for one in history]), np.array([one.creep_deg_s for one in history])
    weights = 1 / np.maximum([one.error_deg_s for one in history], 0.02) ** 2
    now_us = history[-1].trim_us
    design = np.column_stack([np.ones(trims.size), trims - now_us])
    prior = np.array([0.0, 1 / _SLOPE_ERROR**2])
    covariance = np.linalg.inv(design.T @ (design * weights[:, None]) + np.diag(prior))
    pull, slope = covariance @ (design.T @ (weights * pulls) + prior * _SLOPE)
    slope = max(float(slope), _LEAST_SLOPE)
    if abs(pull) < _SIGMAS * math.sqrt(covariance[0, 0]):
        return None
    step = -float(pull) / slope
    toward = np.array([-1 / slope, pull / slope**2])
    is_first = bool(np.ptp(trims) < _APART_US)
    most_us = _FIRST_STEP_US if is_first else _MOST_STEP_US
    return YawStep(
        step_us=max(-most_us, min(most_us, step)), error_us=math.sqrt(float(toward @ covariance @ toward)), is_first=is_first,
        deg_s_per_us=slope,
    )  # fmt: skip


def yaw_trim_of(surfaces: Sequence[Surface]) -> float | None:
    """Yaw part of the servo centres against 1500 µs; None for a plane without a surface that yaws it."""
    by_role = {one.role: (one.direction or 1) * (one.centre_us - 1500.0) for one in surfaces}
    if "rudder" in by_role:
        return by_role["rudder"]
    for pair in ("v_tail", "a_tail"):
        if f"{pair}_left" in by_role and f"{pair}_right" in by_role:
            return float(split(by_role[f"{pair}_left"], by_role[f"{pair}_right"], pair)[1])
    return None


def surely_held(trim: Trim | None) -> dict[str, float]:
    """What is held hands off [µs], axis by axis, where it is 5 µs or more and its 95 % interval leaves out zero."""
    axes = trim.axes if trim is not None else {}
    return {
        axis: own.trim_us
        for axis, own in axes.items()
        if abs(own.trim_us) >= LEAST_MOVE_US and abs(own.trim_us) > own.half_width_us
    }


def new_centres(
    surfaces: Sequence[Surface],
    held_us: Mapping[str, float],
    yaw_us: float = 0.0,
    *,
    directions: Mapping[int, int | None] | None = None,
) -> dict[int, float]:
    """New centre of every servo that has to move, in whole microseconds: one or its pair by 5 µs or more.

    `held_us` are the deflections that are held hands off, by axis (right, nose up, clockwise positive); a yaw move, too, is split
    over a V-tail's pair, or goes to the rudder. `directions` are those that a log told. A servo whose direction nobody said and
    no log told moves nowhere, nor does the other one of its pair.
    """
    wanted = _by_role({axis: held_us.get(axis, 0.0) for axis in ("roll", "pitch", "yaw")}, yaw_us)
    known = {**(directions or {}), **{one.servo: one.direction for one in surfaces if one.direction}}
    moved_us = {one.role: abs(wanted.get(one.role, 0.0)) for one in surfaces}
    lost = {one.role for one in surfaces if known.get(one.servo) is None}
    for left, right in PAIRED:  # one alone would move another axis, too
        moved_us |= dict.fromkeys((left, right), max(moved_us.get(left, 0.0), moved_us.get(right, 0.0)))
        lost |= {left, right} if {left, right} & lost else set()
    found = {}
    for one in surfaces:
        direction = known.get(one.servo)
        if direction is None or one.role in lost or moved_us[one.role] < LEAST_MOVE_US:
            continue
        moved = direction * wanted.get(one.role, 0.0)
        centre_us = float(round(one.centre_us + moved))
        if not _PULSES_US[0] <= centre_us <= _PULSES_US[1] or abs(moved) > one.throw_us:
            raise InputError(
                f"servo {one.servo} would have to go from {one.centre_us:.0f} to {centre_us:.0f} µs: check the unit of its "
                "column, and its centre and travel"
            )
        if centre_us != one.centre_us:
            found[one.servo] = centre_us
    return found


def _by_role(held_us: Mapping[str, float], yaw_us: float) -> dict[str, float]:
    """What every surface has to take over, positive as its own deflection."""
    yaw = held_us["yaw"] + yaw_us
    own = {"aileron": held_us["roll"], "elevator": held_us["pitch"], "rudder": yaw}
    own |= dict.fromkeys(("aileron_left", "aileron_right"), held_us["roll"])
    for pair, roles, against in (("v_tail", "v_tail", yaw), ("a_tail", "a_tail", yaw), ("elevons", "elevon", held_us["roll"])):
        left, right = joined(held_us["pitch"], against, pair)
        own |= {f"{roles}_left": float(left), f"{roles}_right": float(right)}
    return own


@dataclass(frozen=True, slots=True, kw_only=True)
class TrimCheck:
    """What one flight after a move of trims shows."""

    passed: bool | None  # None: it cannot tell
    told: tuple[str, ...]


def trim_check(trim: Trim | None, lurches: Sequence[Lurch], pull: Pull | None, *, moved_yaw: bool = False) -> TrimCheck:
    """Hands off within 8 µs, no lurch above 8 deg/s at the switch to manual, no pull: what of it was flown.

    An axis whose error is larger than what it is held to tells nothing, and a yaw that was moved is judged by the pull only.
    """
    told: list[str] = []
    verdicts: list[bool | None] = []
    held = {axis: own for axis, own in (trim.axes if trim is not None else {}).items() if axis != "yaw"}  # nothing holds yaw
    if held:
        axis, own = max(held.items(), key=lambda pair: abs(pair[1].trim_us))
        half_us = own.half_width_us
        told.append(f"{axis} is held by {signed(own.trim_us)} ± {half_us:.0f} µs at the most")
        is_surely_off = abs(own.trim_us) - half_us > TRIMMED_US
        verdicts.append(False if is_surely_off else None if half_us > TRIMMED_US else abs(own.trim_us) <= TRIMMED_US)
        if half_us > TRIMMED_US and not is_surely_off:
            told.append("too uncertain to judge: fly level, hands off, for half a minute")
    if lurches:
        axis, rate = max((one.largest for one in lurches), key=lambda pair: abs(pair[1]))
        lurched = abs(rate) > LURCHES_DPS
        told.append(f"switched to manual it {'lurches' if lurched else 'stays'}: {axis} {signed(rate)} deg/s")
        verdicts.append(not lurched)
    if pull is not None:
        is_open = pull.side is None and 1.96 * pull.error_deg_s > _OPEN_DEG_S
        told.append(f"pulled: {pull.in_words}" if pull.side else pull.in_words)
        if moved_yaw or pull.side or not is_open:
            verdicts.append(None if is_open else pull.side is None)
    elif moved_yaw:
        told.append("yaw was trimmed, but no pull was measured since: fly four straight legs, or level with hands off")
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
