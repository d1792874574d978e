"""The stand-in's controller: rate, self-levelling, height hold, lines, circles, return home, and the gain finder."""

import math
from dataclasses import dataclass, field

from nembrit.core.setup.autopilot import SOUND_COURSE, Autopilot
from nembrit.core.simulate.plane.airframe import G_M_S2, PITCH_P, ROLL_P, Airframe, PlaneFaults, pitch_power, roll_power
from nembrit.core.simulate.plane.pilot import Wish

_MOST_ROLL, _MOST_PITCH = math.radians(90.0), math.radians(30.0)  # rad/s
_MOST_BANK, _HELD_BANK = 0.6, math.radians(55.0)
_CLIMB, _MOST_CLIMB_M_S = 0.4, 3.5
_SLOW = 0.75  # of cruise: below it the nose comes down and power comes in, whatever is wanted
_LINE_PER_M, _MOST_INTERCEPT = 0.03, 0.8
_FOUND_UP, _FOUND_BACK = 0.30, 0.97  # of the gain finder
_THROTTLE_UP = 0.75
_GLIDE = 0.3


@dataclass(slots=True)
class Seen:
    """What sensors told, in SI units: not the truth."""

    bank: float
    pitch: float
    rates: tuple[float, float, float]
    course: float
    heading: float
    speed_m_s: float
    airspeed_m_s: float
    height_m: float
    climb_m_s: float
    north_m: float
    east_m: float


@dataclass(slots=True)
class Asked:
    """What the controller asks for, and what it wanted on the way; None where nothing was to be held."""

    aileron: float
    elevator: float
    rudder: float
    throttle: float
    roll_rate: float
    pitch_rate: float
    mode: str
    bank: float | None = None
    pitch: float | None = None
    course: float | None = None
    cross_track_m: float | None = None
    height_m: float | None = None


@dataclass(slots=True)
class _Hold:
    """A full stick while the gain finder watches it."""

    axis: str = "roll"
    side: int = 0
    since_s: float = 0.0
    wanted: float = 0.0
    achieved: float = 0.0


@dataclass(slots=True)
class Controller:
    """Keeps what it integrates from step to step."""

    plane: Airframe
    numbers: Autopilot
    faults: PlaneFaults
    cruise_m_s: float
    held_roll: float = 0.0
    held_pitch: float = 0.0
    held_climb: float = 0.0
    slow_yaw: float = 0.0
    hand: list[float] = field(default_factory=lambda: [0.0, 0.0])
    phase: str = ""  # of a return: climb, home, circle, land
    climbed: bool = False
    found: dict[str, float] = field(default_factory=dict)  # forward gains, as ratios to sound ones
    hold: _Hold = field(default_factory=_Hold)

    def __post_init__(self) -> None:
        self.found = {axis: self.numbers.forward.get(axis, 1.0) for axis in ("roll", "pitch")}

    @property
    def shown(self) -> dict[str, float]:
        """The forward gains as the tuner's own numbers."""
        return {axis: ratio * self.numbers.shown.get(axis, 1.0) for axis, ratio in self.found.items()}

    def ask(self, wish: Wish, seen: Seen, dt: float) -> Asked:
        """One step."""
        if wish.mode != "return":
            self.phase, self.climbed = "", False
        if wish.mode == "manual":
            return self._by_hand(wish, seen, dt)
        asked = Asked(0.0, 0.0, 0.0, wish.throttle, 0.0, 0.0, wish.mode)
        if wish.mode == "rate":
            asked.roll_rate = self._stick_rate(wish.stick_roll, seen.bank)
            low, high = -0.45, 0.7
            leaves = (wish.stick_pitch > 0 and seen.pitch > high) or (wish.stick_pitch < 0 and seen.pitch < low)
            asked.pitch_rate = 0.0 if leaves else _MOST_PITCH * wish.stick_pitch
            if not wish.stick_pitch:
                asked.pitch_rate = self._levelled(asked, seen, 0.0, wish.height_m, dt)
        else:
            asked.bank, aim_m = self._bank(wish, seen, asked), self._height(wish, seen, asked)
            asked.height_m = self.numbers.return_height_m if self.phase not in ("", "land") else aim_m
            asked.roll_rate = _within(3.0 * (asked.bank - seen.bank), _MOST_ROLL)
            asked.pitch_rate = self._levelled(asked, seen, asked.bank, aim_m, dt, wish.nose)
        self._surfaces(asked, wish, seen, dt)
        if wish.finds_gains:
            self._find_gains(asked, wish, seen, dt)
        return asked

    def _stick_rate(self, stick: float, bank: float) -> float:
        if not stick:
            return _within(3.0 * -bank, _MOST_ROLL)
        return 0.0 if stick * bank > 0 and abs(bank) > _HELD_BANK else _MOST_ROLL * stick

    def _levelled(self, asked: Asked, seen: Seen, bank: float, height_m: float, dt: float, nose: float | None = None) -> float:
        """Rate of pitch that holds a height, the turn's own part with it."""
        climb = _within(_CLIMB * (height_m - seen.height_m), _MOST_CLIMB_M_S)
        lacking = climb - seen.climb_m_s
        self.held_climb = _within(self.held_climb + 0.02 * lacking * dt, 0.25)
        slow = max(0.0, _SLOW * self.cruise_m_s - seen.airspeed_m_s)
        asked.pitch = _within(0.06 * lacking + self.held_climb, 0.35) - 0.06 * slow
        if nose is not None:
            asked.pitch, slow = nose, 0.0
        if asked.throttle > _GLIDE:
            asked.throttle = min(1.0, asked.throttle + 0.2 * slow)
        turning = G_M_S2 / max(seen.airspeed_m_s, 5.0) * math.tan(bank) * math.sin(bank)
        return _within(2.5 * (asked.pitch - seen.pitch) + turning, _MOST_PITCH)

    def _bank(self, wish: Wish, seen: Seen, asked: Asked) -> float:
        if wish.mode == "track" and wish.line is not None:
            return self._follow(math.radians(wish.course_deg or 0.0), wish.line, seen, asked)
        if wish.mode == "circle" and wish.line is not None:
            return self._circle(wish.line, seen, asked)
        if wish.mode == "return":
            return self._home(seen, asked)
        return wish.bank

    def _height(self, wish: Wish, seen: Seen, asked: Asked) -> float:
        if wish.mode != "return":
            return wish.height_m
        goal = self.numbers.return_height_m
        over_m = self.faults.climbs_over_m
        self.climbed = self.climbed or seen.height_m > goal + over_m - 1.0
        if over_m and not self.climbed and self.phase != "land":
            asked.throttle = _THROTTLE_UP
            return goal + over_m + 4.0
        if seen.height_m < goal - 4.0 and self.phase != "land":
            asked.throttle = _THROTTLE_UP
        if self.phase == "land":
            asked.throttle = 0.0
            return max(0.0, seen.height_m - 6.0)
        return goal

    def _steer(self, course: float, seen: Seen, asked: Asked, base: float = 0.0) -> float:
        asked.course = course
        gain = SOUND_COURSE * self.numbers.navigation * self.faults.tight
        flown = seen.heading if self.faults.steers_by_heading else seen.course
        return _within(base + gain * _wrapped(course - flown), _MOST_BANK)

    def _follow(self, course: float, line: tuple[float, float], seen: Seen, asked: Asked) -> float:
        north, east = seen.north_m - line[0], seen.east_m - line[1]
        asked.cross_track_m = east * math.cos(course) - north * math.sin(course)
        aimed = course - _within(_LINE_PER_M * asked.cross_track_m, _MOST_INTERCEPT)
        bank = self._steer(aimed, seen, asked)
        asked.course = course
        return bank

    def _circle(self, middle: tuple[float, float], seen: Seen, asked: Asked) -> float:
        """To the right around a place."""
        north, east = seen.north_m - middle[0], seen.east_m - middle[1]
        radius = self.numbers.circle_m
        away = math.hypot(north, east)
        asked.cross_track_m = away - radius
        ahead = math.atan2(east, north) + math.pi / 2 + _within(0.04 * asked.cross_track_m, 1.2)
        base = math.atan(seen.speed_m_s**2 / (G_M_S2 * radius)) if abs(asked.cross_track_m) < radius else 0.0
        return self._steer(ahead, seen, asked, base)

    def _home(self, seen: Seen, asked: Asked) -> float:
        """Up to the height, then home on the straight line, then around home or down."""
        away = math.hypot(seen.north_m, seen.east_m)
        if not self.phase:
            self.phase = "climb"
        if self.phase == "climb" and seen.height_m >= self.numbers.return_height_m - 3.0 - self.faults.turns_early_m:
            self.phase = "home"
        if self.phase == "home" and away < self.numbers.circle_m + 15.0:
            self.phase = "land" if self.numbers.lands else "circle"
        if self.phase == "climb":
            return 0.0
        if self.phase == "home":
            return self._steer(math.atan2(-seen.east_m, -seen.north_m), seen, asked)
        if self.phase == "land":
            return self._steer(math.atan2(-seen.east_m, -seen.north_m), seen, asked) if away > 60 else 0.0
        return self._circle((0.0, 0.0), seen, asked)

    def _surfaces(self, asked: Asked, wish: Wish, seen: Seen, dt: float) -> None:
        slow = (self.cruise_m_s / max(seen.airspeed_m_s, 5.0)) ** self.faults.forward_power
        p, q, r = seen.rates
        roll_error, pitch_error = asked.roll_rate - p, asked.pitch_rate - q
        roll_p, pitch_p = (self.numbers.proportional.get(axis, 1.0) for axis in ("roll", "pitch"))
        missed = 1.5 * (asked.bank - seen.bank) if self.faults.holds_attitude and asked.bank is not None else roll_error
        self.held_roll = _within(self.held_roll + 0.25 * missed * dt, 0.35)
        self.held_pitch = _within(self.held_pitch + 0.6 * pitch_error * dt, 0.5)
        asked.aileron = _within(
            self.found["roll"] * asked.roll_rate * slow / roll_power(self.plane, self.cruise_m_s)
            + ROLL_P * roll_p * roll_error + self.held_roll, 1.0,
        )  # fmt: skip
        asked.elevator = _within(
            self.found["pitch"] * asked.pitch_rate * slow / pitch_power(self.plane, self.cruise_m_s)
            + PITCH_P * pitch_p * pitch_error + self.held_pitch, 1.0,
        )  # fmt: skip
        turning = G_M_S2 / max(seen.airspeed_m_s, 5.0) * math.sin(seen.bank)
        swing = r - turning
        self.slow_yaw += (swing - self.slow_yaw) * dt / 1.0
        asked.rudder = _within(-0.3 * (swing - self.slow_yaw), 0.5)

    def _by_hand(self, wish: Wish, seen: Seen, dt: float) -> Asked:
        """In manual nothing is held; the pilot's hand takes over once the lurch is seen."""
        self.held_roll = self.held_pitch = 0.0
        if wish.by_hand:
            self.hand[0] = _within(self.hand[0] - 0.5 * seen.bank * dt, 0.4)
            self.hand[1] = _within(self.hand[1] + 0.4 * (self.held_climb - seen.pitch) * dt, 0.4)
            stick = (
                self.hand[0] - 0.6 * seen.bank - 0.12 * seen.rates[0],
                self.hand[1] + 0.6 * (self.held_climb - seen.pitch) - 0.2 * seen.rates[1],
            )
        else:
            self.hand = [0.0, 0.0]
            stick = (0.0, 0.0)
        return Asked(_within(stick[0], 1.0), _within(stick[1], 1.0), 0.0, wish.throttle, 0.0, 0.0, "manual")

    def _find_gains(self, asked: Asked, wish: Wish, seen: Seen, dt: float) -> None:
        """Raise a forward gain while the plane does not reach what is wanted, back off at an overshoot."""
        axis = "pitch" if wish.stick_pitch else "roll"
        stick = wish.stick_pitch or wish.stick_roll
        side = int(math.copysign(1, stick)) if abs(stick) > 0.9 else 0
        if side != self.hold.side:
            if self.hold.wanted:
                ratio = self.hold.achieved / self.hold.wanted
                self.found[self.hold.axis] *= _FOUND_BACK if ratio > 1.02 else 1 + _within(_FOUND_UP * (1.0 - ratio), 0.08)
            self.hold = _Hold(axis=axis, side=side)
            return
        self.hold.since_s += dt
        wanted, limit = (asked.pitch_rate, _MOST_PITCH) if axis == "pitch" else (asked.roll_rate, _MOST_ROLL)
        if side and self.hold.since_s > 0.3 and abs(wanted) > 0.97 * limit:
            self.hold.wanted += wanted * dt
            self.hold.achieved += seen.rates[1 if axis == "pitch" else 0] * dt


def _within(value: float, most: float) -> float:
    return max(-most, min(most, value))


def _wrapped(angle: float) -> float:
    return (angle + math.pi) % (2 * math.pi) - math.pi
