"""The scripted pilot of a plane: which mode, where the sticks are, and what is to be held, at every moment of a card."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.card import WING_KINDS, Card, Manoeuvre

_HEIGHT_M, _LAUNCH_M = 60.0, 20.0
_CRUISE, _SLOW, _FAST = 0.5, 0.41, 0.7
_TURN_S, _BANK = 5.0, math.radians(35.0)
_STRAIGHT_S, _CLIMBING_BANK = 4.0, math.radians(30.0)  # climbs out, then back over home
_PAUSE_S = 0.8
_ASIDE_M = 35.0  # of the middle of a circle from where it begins
_LINES_APART_M = 55.0
_STALL_S, _STALLS_AT_S = 30.0, 16.0
_LINK_S, _BELIEVES_S, _TAKES_OVER_S = (12.0, 22.0), 1.0, 1.2
_OUT_S = 8.0  # away from home before the switch


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """Mode, sticks, and what the controller is to hold: a bank [rad], or a line or circle to follow."""

    mode: str  # manual, rate, level, hold, track, circle, return
    stick_roll: float = 0.0
    stick_pitch: float = 0.0
    bank: float = 0.0
    course_deg: float | None = None  # of a line, clockwise from north
    line: tuple[float, float] | None = None  # a place on the line, or the middle of a circle: north, east [m]
    throttle: float = _CRUISE
    height_m: float = _HEIGHT_M
    by_hand: bool = False  # the pilot flies with what is seen; before that the sticks are let go
    finds_gains: bool = False
    link: float | None = None  # quality of the radio link, where it is logged
    nose: float | None = None  # pitch that the pilot holds with the elevator, whatever the speed


class Pilot:
    """Flies a card; remembers where a step began. Raises InputError for steps that are none of a plane's."""

    def __init__(self, card: Card, *, seed: int, hold_s: tuple[float, float]) -> None:
        for step in card.manoeuvres:
            if step.kind == "on_ground":
                raise InputError(f"“{step.name}” is done on the ground: there is nothing to fly")
            if step.kind not in WING_KINDS:
                raise InputError(f"“{step.name}” is not a manoeuvre of a plane")
        self._steps, self._now, self._began_s = card.manoeuvres, -1, 0.0
        self._start = (0.0, 0.0)
        rng = np.random.default_rng(seed + 77)
        self._holds: Sequence[float] = rng.uniform(*hold_s, size=400).tolist()

    def wish(self, t_s: float, north_m: float, east_m: float) -> Wish:
        """What the pilot wants at a time, knowing where the plane is."""
        while self._now < 0 or (self._now < len(self._steps) and t_s >= self._began_s + self._steps[self._now].seconds):
            self._began_s += self._steps[self._now].seconds if self._now >= 0 else 0.0
            self._now += 1
            self._start = (north_m, east_m)
        if self._now >= len(self._steps):
            return Wish(mode="level", throttle=0.0, height_m=0.0)
        return self._of(self._steps[self._now], t_s - self._began_s)

    def _of(self, step: Manoeuvre, t_s: float) -> Wish:
        share = t_s / step.seconds
        if step.kind == "launch":
            height_m = min(_HEIGHT_M, _LAUNCH_M + 56.0 * share)
            stick, bank = (0.0, 0.0) if t_s < _STRAIGHT_S else (0.5, _CLIMBING_BANK)
            return Wish(mode="level", throttle=0.8, height_m=height_m, stick_pitch=0.3, stick_roll=stick, bank=bank)
        if step.kind == "landing":
            down_m = _HEIGHT_M * max(0.0, 1 - 1.25 * share)
            return Wish(mode="level", throttle=0.2 * (1 - share), height_m=down_m, stick_pitch=-0.2)
        if step.kind == "two_speeds":
            return Wish(mode="hold", throttle=_SLOW if share < 0.5 else _FAST)
        if step.kind == "slow_flight":
            return Wish(mode="hold", throttle=0.38)
        if step.kind == "stall":
            return self._stalled(t_s % _STALL_S)
        if step.kind == "failsafe":
            return self._link_lost(t_s)
        if step.kind == "circles":
            return Wish(mode="circle", line=(self._start[0], self._start[1] + _ASIDE_M))
        if step.kind == "to_manual":
            return Wish(mode="hold") if share < 0.3 else Wish(mode="manual", by_hand=t_s > 0.3 * step.seconds + 1.2)
        if step.kind in ("box", "legs"):
            return self._legs(step, t_s)
        if step.kind == "full_hold":
            return self._held(step, t_s)
        if step.kind == "return_home":
            return Wish(mode="track", course_deg=0.0, line=self._start) if t_s < _OUT_S else Wish(mode="return")
        return Wish(mode="hold")

    def _stalled(self, t_s: float) -> Wish:
        """Nose up and throttle closing until it falls, then stick forward and power."""
        if t_s < _STALLS_AT_S:
            share = t_s / _STALLS_AT_S
            return Wish(
                mode="level", throttle=0.4 * (1 - share), nose=math.radians(2.0 + 26.0 * share), stick_pitch=0.2 + 0.6 * share
            )
        if t_s < _STALLS_AT_S + 2.5:
            return Wish(mode="level", throttle=0.8, nose=math.radians(-12.0), stick_pitch=-0.5)
        return Wish(mode="hold", height_m=1.5 * _HEIGHT_M, throttle=0.75)

    def _link_lost(self, t_s: float) -> Wish:
        """The transmitter is off for ten seconds; the receiver waits for a second before it believes it."""
        begins, ends = _LINK_S
        link = 0.0 if begins <= t_s < ends else 0.98
        is_away = begins + _BELIEVES_S <= t_s < ends + _TAKES_OVER_S
        return Wish(mode="return" if is_away else "hold", link=link)

    def _legs(self, step: Manoeuvre, t_s: float) -> Wish:
        """Four legs: a box turns by 90° each by hand, legs go there and back along two lines by themselves."""
        length = step.seconds / 4
        leg = min(3, int(t_s / length))
        if step.kind == "legs":
            first = 180.0 if self._start[0] > 0 else 0.0  # over home
            side = -1 if first else 1
            line = (self._start[0], self._start[1] + side * _LINES_APART_M * (leg % 2))
            return Wish(mode="track", course_deg=(first + 180.0 * leg) % 360.0, line=line)
        if leg and t_s - leg * length < _TURN_S:
            return Wish(mode="hold", stick_roll=0.7, bank=_BANK)
        return Wish(mode="hold")

    def _held(self, step: Manoeuvre, t_s: float) -> Wish:
        """Full stick to either side in turn, each for as long as this pilot calls two seconds, let go between."""
        began, side = 0.0, 1.0
        for hold_s in self._holds:
            if t_s < began + hold_s:
                roll, pitch = (0.0, side) if step.axis == "pitch" else (side, 0.0)
                return Wish(mode="rate", finds_gains=True, throttle=0.6, stick_roll=roll, stick_pitch=pitch)
            began, side = began + hold_s + _PAUSE_S, -side
            if t_s < began:
                break
        return Wish(mode="rate", finds_gains=True, throttle=0.6)
