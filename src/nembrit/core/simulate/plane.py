"""The stand-in for a small plane: roll, yaw and speed as far as trims, weaving, wind and propeller torque need them.

Not six degrees of freedom: pitch only holds height, there is no stall and no slipstream. What it is for: servos whose centres
are off, a horizon that is tilted, a navigation that is too tight, and wind, in logs as a recorder would write them.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.card import Card
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.planepilot import Wish, wish_at
from nembrit.core.types import FloatArray
from nembrit.core.wing.mixing import joined, split

LOG_HZ, _STEP_HZ = 50.0, 100.0
_G_M_S2 = 9.80665
_CRUISE_M_S, _SLOWEST_M_S, _FASTEST_M_S = 13.0, 9.0, 24.0
_METRES_PER_DEGREE = 111_320.0
_ROLL_GAIN = 9.0  # rad/s² of full aileron at cruise
_ROLL_DAMPING = 6.0  # 1/s at cruise
_TORQUE = 0.016  # share of aileron that full throttle asks for at cruise
_CREEP = 1.6  # deg/s of a yaw deflection of 20 µs at cruise
_SERVO_LAG_S, _GPS_LAG_S, _PITOT_LAG_S = 0.06, 0.3, 0.3
# decimals that a recorder of this kind would keep
DECIMALS = {
    "gyro": 2, "setpoint": 1, "stick": 3, "attitude": 2, "attitude_wanted": 2, "heading": 1, "course": 1, "course_wanted": 1,
    "cross_track": 1, "altitude": 1, "altitude_wanted": 1, "ground_speed": 2, "airspeed": 2, "home_distance": 1, "throttle": 3,
    "servo": 0, "battery_voltage": 2, "battery_current": 1, "latitude": 7, "longitude": 7,
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneFaults:
    """What is not as it should be."""

    neutral_us: Mapping[str, float] = field(default_factory=dict)  # by servo: pulse at which the plane flies straight
    tilt_deg: float = 0.0  # of the horizon that the controller believes in, right wing down
    tight: float = 1.0  # navigation gain over a sound one


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneWorld:
    """The air and the day."""

    seed: int
    wind_m_s: float = 2.0
    wind_from_deg: float = 240.0
    gusts_ratio: float = 0.25  # of the wind, and a little in calm air
    faults: PlaneFaults = field(default_factory=PlaneFaults)

    def __post_init__(self) -> None:
        if not 0 <= self.wind_m_s <= 12:
            raise InputError(f"a plane of this size flies in up to 12 m/s of wind, got {self.wind_m_s:g}")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PlaneFlight:
    """A flight's channels by role, shape (n,), in the order of the log; modes as words beside them."""

    t_s: FloatArray
    channels: dict[str, FloatArray]
    modes: tuple[str, ...]


@dataclass(slots=True)
class _State:
    """What moves."""

    north_m: float = 0.0
    east_m: float = 0.0
    height_m: float = 50.0
    speed_m_s: float = _CRUISE_M_S
    bank: float = 0.0
    roll_rate: float = 0.0
    heading: float = 0.0
    climb_m_s: float = 0.0
    held_roll: float = 0.0  # of the leveller
    throttle: float = 0.5
    aileron: float = 0.0
    gust: tuple[float, float] = (0.0, 0.0)
    bumps: float = 0.0
    horizon: float = 0.0


def fly_plane(
    surfaces: Sequence[Surface], card: Card, world: PlaneWorld, *, home_deg: tuple[float, float] = (51.5, -1.5)
) -> PlaneFlight:
    """Fly a card of a plane; the same arguments give the same log.

    `surfaces` give each servo's role, direction, centre and throw; the plane flies straight where the servos stand at their
    neutral pulses (`PlaneFaults.neutral_us`, else the centres). Raises InputError for a plane without roll control, and for
    steps that are none of a plane's.
    """
    if not any(one.role in ("aileron", "elevon_left") for one in surfaces):
        raise InputError("say first what the servos move: the simulator needs ailerons or elevons")
    rng = np.random.default_rng(world.seed)
    offset = _offsets(surfaces, world.faults.neutral_us)
    way = math.radians(world.wind_from_deg + 180.0)
    wind = (world.wind_m_s * math.cos(way), world.wind_m_s * math.sin(way))
    state, rows, modes = _State(), [], []
    every = round(_STEP_HZ / LOG_HZ)
    n = round(card.seconds * _STEP_HZ)
    noise = rng.standard_normal((n, 8))
    for k in range(n):
        wish = wish_at(card, k / _STEP_HZ)
        aileron_us = _step(state, wish, offset, wind, world, noise[k])
        if k % every == 0:
            rows.append(_row(state, wish, surfaces, aileron_us, wind, world, noise[k], home_deg))
            modes.append(wish.mode)
    channels = {role: np.array([row[role] for row in rows], dtype=np.float64) for role in rows[0]}
    for role, lag_s in (("ground_speed", _GPS_LAG_S), ("airspeed", _PITOT_LAG_S)):
        channels[role] = _lagged(channels[role], lag_s)
    kept = {role: np.round(values, DECIMALS[role.split(".")[0]]) for role, values in channels.items()}
    return PlaneFlight(t_s=np.arange(len(rows)) / LOG_HZ, channels=kept, modes=tuple(modes))


def _offsets(surfaces: Sequence[Surface], neutral_us: Mapping[str, float]) -> dict[str, float]:
    """How far each axis is off, as deflection in µs that the plane needs, from where its servos are centred."""
    needed = {one.servo: one for one in surfaces}
    moved = {
        number: (one.direction or 1) * (float(neutral_us.get(str(number), one.centre_us)) - one.centre_us)
        for number, one in needed.items()
    }
    by_role: dict[str, list[float]] = {}
    for number, one in needed.items():
        by_role.setdefault(one.role, []).append(moved[number])
    found = {"roll": float(np.mean(by_role["aileron"])) if "aileron" in by_role else 0.0, "pitch": 0.0, "yaw": 0.0}
    if "elevator" in by_role:
        found["pitch"] = float(np.mean(by_role["elevator"]))
    if "rudder" in by_role:
        found["yaw"] = float(np.mean(by_role["rudder"]))
    for left, right, pair, axis in (
        ("v_tail_left", "v_tail_right", "v_tail", "yaw"), ("elevon_left", "elevon_right", "elevons", "roll"),
    ):  # fmt: skip
        if left in by_role and right in by_role:
            common, against = split(by_role[left][0], by_role[right][0], pair)
            found["pitch"], found[axis] = float(common), float(against)
    return found


def _step(
    state: _State, wish: Wish, offset: Mapping[str, float], wind: tuple[float, float], world: PlaneWorld, noise: FloatArray
) -> float:
    """One step of a hundredth of a second; the aileron in µs of its servos."""
    dt = 1 / _STEP_HZ
    keep = math.exp(-dt / 2.0)
    size = 0.25 + world.gusts_ratio * world.wind_m_s
    fresh = math.sqrt(1 - keep * keep)
    state.gust = (keep * state.gust[0] + size * fresh * noise[0], keep * state.gust[1] + size * fresh * noise[1])
    state.bumps = math.exp(-dt / 0.4) * state.bumps + 0.05 * size * math.sqrt(1 - math.exp(-2 * dt / 0.4)) * noise[2]
    state.horizon = 0.9998 * state.horizon + math.radians(0.4) * math.sqrt(1 - 0.9998**2) * noise[3]
    q = (state.speed_m_s / _CRUISE_M_S) ** 2
    believed = state.bank + math.radians(world.faults.tilt_deg) + state.horizon
    aileron = _controlled(state, wish, believed, wind, world, dt)
    state.aileron += (aileron - state.aileron) * dt / _SERVO_LAG_S
    # the plane needs `offset` to fly straight, and torque asks for more; 500 µs are full deflection
    off = offset["roll"] / 500.0 + _TORQUE * state.throttle / q
    turning = _ROLL_GAIN * q * (state.aileron - off) - _ROLL_DAMPING * math.sqrt(q) * state.roll_rate + 6.0 * state.bumps
    state.roll_rate += turning * dt
    state.bank = max(-1.2, min(1.2, state.bank + state.roll_rate * dt))
    creep = -math.radians(_CREEP) * offset["yaw"] / 20.0 * state.speed_m_s / _CRUISE_M_S
    state.heading += (_G_M_S2 * math.tan(state.bank) / state.speed_m_s + creep) * dt
    state.throttle += (wish.throttle - state.throttle) * dt / 0.4
    cruise = max(_SLOWEST_M_S, min(_FASTEST_M_S, _CRUISE_M_S + 14.0 * (state.throttle - 0.5)))
    state.speed_m_s += (cruise - state.speed_m_s) * dt / 3.0
    state.climb_m_s += (max(-3.0, min(3.0, 0.4 * (wish.height_m - state.height_m))) - state.climb_m_s) * dt / 1.5
    state.height_m = max(0.0, state.height_m + state.climb_m_s * dt)
    north, east = _ground(state, wind)
    state.north_m += north * dt
    state.east_m += east * dt
    return 500.0 * state.aileron


def _controlled(state: _State, wish: Wish, believed: float, wind: tuple[float, float], world: PlaneWorld, dt: float) -> float:
    """Aileron as share of full, from stick (manual, rate) or from the wanted bank."""
    if wish.mode == "manual":
        state.held_roll = 0.0
        return wish.stick_roll + 0.9 * (0.0 - state.bank) - 0.25 * state.roll_rate  # the pilot's own hand
    wanted = wish.bank
    if wish.course_deg is not None:
        north, east = _ground(state, wind)
        error = (math.radians(wish.course_deg) - math.atan2(east, north) + math.pi) % (2 * math.pi) - math.pi
        wanted = max(-0.6, min(0.6, 1.2 * world.faults.tight * error))
    rate = _wanted_rate(wanted - believed)
    error = rate - state.roll_rate
    state.held_roll = max(-0.3, min(0.3, state.held_roll + 0.25 * error * dt))
    return max(-1.0, min(1.0, 0.45 * rate / (state.speed_m_s / _CRUISE_M_S) + 0.12 * error + state.held_roll))


def _wanted_rate(bank_error: float) -> float:
    return max(-1.4, min(1.4, 3.0 * bank_error))


def _ground(state: _State, wind: tuple[float, float]) -> tuple[float, float]:
    return (
        state.speed_m_s * math.cos(state.heading) + wind[0] + state.gust[0],
        state.speed_m_s * math.sin(state.heading) + wind[1] + state.gust[1],
    )


def _row(
    state: _State, wish: Wish, surfaces: Sequence[Surface], aileron_us: float, wind: tuple[float, float], world: PlaneWorld,
    noise: FloatArray, home_deg: tuple[float, float],
) -> dict[str, float]:  # fmt: skip
    north, east = _ground(state, wind)
    believed = math.degrees(state.bank + state.horizon) + world.faults.tilt_deg
    course = math.degrees(math.atan2(east, north)) % 360.0
    row = {
        "gyro.roll": math.degrees(state.roll_rate) + 0.6 * noise[4],
        "gyro.pitch": 0.5 * noise[5],
        "gyro.yaw": math.degrees(_G_M_S2 * math.sin(state.bank) / state.speed_m_s) + 0.4 * noise[6],
        "setpoint.roll": 0.0 if wish.mode == "manual" else math.degrees(_wanted_rate(wish.bank - math.radians(believed))),
        "stick.roll": wish.stick_roll, "stick.pitch": wish.stick_pitch, "stick.yaw": 0.0, "throttle": state.throttle,
        "attitude.roll": believed, "attitude.pitch": 2.0 + 2.0 * state.climb_m_s, "heading": math.degrees(state.heading) % 360.0,
        "course": course, "course_wanted": course if wish.course_deg is None else wish.course_deg,
        "ground_speed": math.hypot(north, east) + 0.1 * noise[7], "airspeed": state.speed_m_s + 0.3 * state.gust[0],
        "altitude": state.height_m + 0.2 * noise[5], "altitude_wanted": wish.height_m,
        "home_distance": math.hypot(state.north_m, state.east_m),
        "latitude": home_deg[0] + state.north_m / _METRES_PER_DEGREE,
        "longitude": home_deg[1] + state.east_m / (_METRES_PER_DEGREE * math.cos(math.radians(home_deg[0]))),
        "battery_voltage": 12.4 - 1.2 * state.throttle, "battery_current": 1.0 + 14.0 * state.throttle**1.5,
    }  # fmt: skip
    moved = {"roll": aileron_us, "pitch": 12.0 * state.climb_m_s, "yaw": 0.0}
    for number, pulse in _pulses(surfaces, moved).items():
        row[f"servo.{number}"] = pulse
    return row


def _pulses(surfaces: Sequence[Surface], moved_us: Mapping[str, float]) -> dict[int, float]:
    """Pulses of every servo for deflections by axis."""
    tail = joined(moved_us["pitch"], moved_us["yaw"], "v_tail")
    elevons = joined(moved_us["pitch"], moved_us["roll"], "elevons")
    asked = {
        "aileron": moved_us["roll"], "elevator": moved_us["pitch"], "rudder": moved_us["yaw"], "flap": 0.0,
        "v_tail_left": float(tail[0]), "v_tail_right": float(tail[1]),
        "elevon_left": float(elevons[0]), "elevon_right": float(elevons[1]),
    }  # fmt: skip
    return {one.servo: one.centre_us + (one.direction or 1) * asked[one.role] for one in surfaces}


def _lagged(values: FloatArray, lag_s: float) -> FloatArray:
    keep = math.exp(-1 / (lag_s * LOG_HZ))
    found = values.copy()
    for k in range(1, found.size):
        found[k] = keep * found[k - 1] + (1 - keep) * values[k]
    return found
