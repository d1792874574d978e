"""The scripted pilot of a plane: what is wanted at every moment of a card."""

import math
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.setup.card import WING_KINDS, Card, Manoeuvre

_HEIGHT_M, _LAUNCH_M = 60.0, 20.0
_CRUISE, _SLOW, _FAST = 0.5, 0.35, 0.9
_TURN_S, _BANK = 5.0, math.radians(35.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """Mode, sticks and what the controller is to hold: a bank [rad] or a course [deg, clockwise from north]."""

    mode: str  # manual, rate, level, hold, track
    stick_roll: float = 0.0
    stick_pitch: float = 0.0
    bank: float = 0.0
    course_deg: float | None = None
    throttle: float = _CRUISE
    height_m: float = _HEIGHT_M


def wish_at(card: Card, t_s: float) -> Wish:
    """What the pilot wants at a time of the card. Raises InputError for steps that are none of a plane's."""
    began = 0.0
    for step in card.manoeuvres:
        if t_s < began + step.seconds:
            return _wish(step, t_s - began)
        began += step.seconds
    return Wish(mode="level", throttle=0.0, height_m=0.0)


def _wish(step: Manoeuvre, t_s: float) -> Wish:
    share = t_s / step.seconds
    if step.kind not in WING_KINDS:
        raise InputError(f"“{step.name}” is nothing that a plane flies")
    if step.kind == "launch":
        return Wish(mode="level", throttle=0.9, height_m=_LAUNCH_M + (_HEIGHT_M - _LAUNCH_M) * share, stick_pitch=0.3)
    if step.kind == "landing":
        return Wish(mode="level", throttle=0.25 * (1 - share), height_m=_HEIGHT_M * (1 - share), stick_pitch=-0.2)
    if step.kind == "to_manual":
        return Wish(mode="hold" if share < 0.3 else "manual")
    if step.kind == "two_speeds":
        return Wish(mode="hold", throttle=_SLOW if share < 0.5 else _FAST)
    if step.kind == "slow_flight":
        return Wish(mode="hold", throttle=0.28)
    if step.kind == "circles":
        return Wish(mode="hold", stick_roll=0.6, bank=math.radians(28.0))
    if step.kind in ("box", "legs"):
        return _legs(step, t_s)
    if step.kind == "full_hold":
        side = 1.0 if int(t_s / 2.0) % 2 == 0 else -1.0
        if step.axis == "pitch":
            return Wish(mode="rate", stick_pitch=side)
        return Wish(mode="rate", stick_roll=side, bank=side * _BANK)
    if step.kind == "return_home":
        return Wish(mode="track", course_deg=0.0 if share < 0.35 else 180.0)
    return Wish(mode="hold")


def _legs(step: Manoeuvre, t_s: float) -> Wish:
    """Four legs: a box turns by 90° each, legs go there and back."""
    length = step.seconds / 4
    leg = min(3, int(t_s / length))
    turn = 90.0 if step.kind == "box" else 180.0
    if step.kind == "legs":
        return Wish(mode="track", course_deg=(turn * leg) % 360.0)
    if leg and t_s - leg * length < _TURN_S:
        return Wish(mode="hold", stick_roll=0.7, bank=_BANK)
    return Wish(mode="hold")
