"""Fly a card of a plane in the stand-in: air, motion, sensors, controller and servos, in a log as a recorder would write it."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.setup.autopilot import Autopilot
from nembrit.core.setup.card import Card
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.plane.airframe import AIRFRAMES, Airframe, PlaneWorld, airframe_of, cruise_m_s
from nembrit.core.simulate.plane.autopilot import Asked, Controller, Seen
from nembrit.core.simulate.plane.motion import advance
from nembrit.core.simulate.plane.pilot import Pilot, Wish
from nembrit.core.simulate.plane.sensors import Sensors
from nembrit.core.types import FloatArray
from nembrit.core.wing.mixing import joined, split

_STEP_HZ, _CONTROL_HZ = 100.0, 50.0  # at least
_METRES_PER_DEGREE = 111_320.0
_SERVO_LAG_S, _MOTOR_LAG_S = 0.05, 0.4
_TRAVEL_US = 500.0
_LAUNCHED_M = 20.0
_ROLL_GUST = 0.07  # rad/s per m/s of gusts
# decimals that a recorder of this kind would keep
DECIMALS = {
    "gyro": 2, "setpoint": 1, "stick": 3, "attitude": 2, "attitude_wanted": 2, "heading": 1, "course": 1, "course_wanted": 1,
    "cross_track": 1, "altitude": 1, "altitude_wanted": 1, "ground_speed": 2, "airspeed": 2, "home_distance": 1, "throttle": 3,
    "servo": 0, "battery_voltage": 2, "battery_current": 1, "latitude": 7, "longitude": 7, "gain": 4, "link_quality": 2,
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PlaneFlight:
    """A flight's channels by role, shape (n,), in the order of the log; modes as words beside them."""

    t_s: FloatArray
    channels: dict[str, FloatArray]
    modes: tuple[str, ...]
    log_hz: float

    @property
    def columns(self) -> list[tuple[str, FloatArray | Sequence[str]]]:
        """All that a log of it holds, in order."""
        return [*self.channels.items(), ("mode", self.modes)]


def fly_plane(
    surfaces: Sequence[Surface], card: Card, world: PlaneWorld, *, autopilot: Autopilot | None = None,
    home_deg: tuple[float, float] = (51.5, -1.5), airframe: Airframe | None = None,
) -> PlaneFlight:  # fmt: skip
    """Fly a card of a plane; the same arguments give the same log.

    `surfaces` give each servo's role, direction, centre and throw; the plane flies straight where the servos stand at their
    neutral pulses (`PlaneFaults.neutral_us`, else the centres) but for what propeller torque and speed ask for. `airframe`:
    another than the one that such surfaces usually have. Raises InputError for a plane without control of roll and pitch, and
    for steps that are none of a plane's.
    """
    plane = (airframe or AIRFRAMES[airframe_of(surfaces)])._replace(thrust_aside_m=world.faults.thrust_aside_m)
    pilot = Pilot(card, seed=world.seed, hold_s=world.hold_s)
    rng = np.random.default_rng(world.seed)
    step_hz = max(_STEP_HZ, world.log_hz)
    dt, n = 1 / step_hz, round(card.seconds * step_hz)
    noise = (world.noise_ratio * rng.standard_normal((n, 16))).tolist()
    cruise = cruise_m_s(plane)
    controller = Controller(plane=plane, numbers=autopilot or Autopilot(), faults=world.faults, cruise_m_s=cruise)
    needed, more = _offsets(surfaces, world.faults.neutral_us), world.faults.off_us
    off = [(needed[axis] + more.get(axis, 0.0)) / _TRAVEL_US for axis in ("roll", "pitch", "yaw")]
    way = math.radians(world.wind_from_deg + 180.0)
    wind = (world.wind_m_s * math.cos(way), world.wind_m_s * math.sin(way))
    x = np.zeros(12)
    x[0], x[1], x[11] = cruise + wind[0], wind[1], _LAUNCHED_M  # heading north at its own airspeed
    moving = (float(x[0]), float(x[1]), 0.0)
    every, controls = round(step_hz / world.log_hz), round(step_hz / max(_CONTROL_HZ, world.log_hz))
    sensors = Sensors(faults=world.faults, dt=controls * dt, airspeed=cruise, ground=moving[:2], height=_LAUNCHED_M)
    aileron = elevator = rudder = 0.0
    throttle, airspeed, servo, motor = 0.5, cruise, dt / _SERVO_LAG_S, dt / _MOTOR_LAG_S
    at, play = [0.0, 0.0, 0.0], world.faults.servo_slop_us / 2 / _TRAVEL_US
    air = _Air(world, dt)
    rows: list[dict[str, float]] = []
    modes: list[str] = []
    wish, asked = Wish(mode="level"), Asked(0.0, 0.0, 0.0, 0.5, 0.0, 0.0, "level")
    for k in range(n):
        gust = air.step(noise[k])
        if k % controls == 0:
            seen = sensors.see(x.tolist(), moving, airspeed, noise[k])
            wish = pilot.wish(k * dt, seen.north_m, seen.east_m)
            asked = controller.ask(wish, seen, controls * dt)
        aileron += (asked.aileron - aileron) * servo
        elevator += (asked.elevator - elevator) * servo
        rudder += (asked.rudder - rudder) * servo
        at = [_with_play(stands, moved, play) for stands, moved in zip(at, (aileron, elevator, rudder), strict=True)]
        throttle += (asked.throttle - throttle) * motor
        if k % every == 0:
            rows.append(_row(seen, wish, asked, surfaces, controller.shown, throttle, home_deg, float(x[8])))
            modes.append(asked.mode if not wish.finds_gains else "gains")
        airspeed, *way_now, _ = advance(
            x, at[0] - off[0], at[1] - off[1], at[2] - off[2], throttle,
            wind[0] + gust[0], wind[1] + gust[1], gust[2], gust[3], plane, dt,
        )  # fmt: skip
        moving = (way_now[0], way_now[1], way_now[2])
    table = np.array([tuple(row.values()) for row in rows]).T
    kept = {
        role: np.round(values, DECIMALS[role.split(".")[0]])
        for role, values in zip(rows[0], table, strict=True)
        if not (role.startswith(("gain.", "link_")) and np.isnan(values).all())
    }
    return PlaneFlight(t_s=np.arange(len(rows)) / world.log_hz, channels=kept, modes=tuple(modes), log_hz=world.log_hz)


def _with_play(stands: float, moved: float, play: float) -> float:
    """Where a surface stands whose linkage has play: it stays until the servo has gone through it."""
    return min(max(stands, moved - play), moved + play)


class _Air:
    """Gusts that last a while, and the rolling of the air itself."""

    def __init__(self, world: PlaneWorld, dt: float) -> None:
        self._size = 0.2 + world.gusts_ratio * world.wind_m_s
        self._keep, self._keep_roll = math.exp(-dt / world.gust_s), math.exp(-dt / 0.4)
        self._fresh = self._size * math.sqrt(1 - self._keep**2)
        self._fresh_roll = _ROLL_GUST * self._size * math.sqrt(1 - self._keep_roll**2)
        self._now = (0.0, 0.0, 0.0, 0.0)

    def step(self, noise: list[float]) -> tuple[float, float, float, float]:
        """Velocity to north, east and up [m/s], rolling [rad/s]."""
        north, east, up, roll = self._now
        keep, fresh = self._keep, self._fresh
        self._now = (
            keep * north + fresh * noise[11], keep * east + fresh * noise[12], keep * up + 0.4 * fresh * noise[13],
            self._keep_roll * roll + self._fresh_roll * noise[14],
        )  # fmt: skip
        return self._now


def _offsets(surfaces: Sequence[Surface], neutral_us: Mapping[str, float]) -> dict[str, float]:
    """How far each axis is off, as deflection in µs that the plane needs, from where its servos are centred."""
    by_role: dict[str, list[float]] = {}
    for one in surfaces:
        moved = (one.direction or 1) * (float(neutral_us.get(str(one.servo), one.centre_us)) - one.centre_us)
        by_role.setdefault("aileron" if one.role.startswith("aileron") else one.role, []).append(moved)
    found = {
        axis: float(np.mean(by_role[role])) if role in by_role else 0.0
        for axis, role in (("roll", "aileron"), ("pitch", "elevator"), ("yaw", "rudder"))
    }
    for left, right, pair, axis in (
        ("v_tail_left", "v_tail_right", "v_tail", "yaw"),
        ("a_tail_left", "a_tail_right", "a_tail", "yaw"),
        ("elevon_left", "elevon_right", "elevons", "roll"),
    ):  # fmt: skip
        if left in by_role and right in by_role:
            common, against = split(by_role[left][0], by_role[right][0], pair)
            found["pitch"], found[axis] = float(common), float(against)
    return found


def _row(
    seen: Seen, wish: Wish, asked: Asked, surfaces: Sequence[Surface], found: Mapping[str, float], throttle: float,
    home_deg: tuple[float, float], heading: float,
) -> dict[str, float]:  # fmt: skip
    degrees = math.degrees
    row = {f"gyro.{axis}": degrees(rate) for axis, rate in zip(("roll", "pitch", "yaw"), seen.rates, strict=True)}
    row |= {
        "setpoint.roll": degrees(asked.roll_rate), "setpoint.pitch": degrees(asked.pitch_rate), "setpoint.yaw": 0.0,
        "stick.roll": asked.aileron if wish.by_hand else wish.stick_roll,
        "stick.pitch": asked.elevator if wish.by_hand else wish.stick_pitch, "stick.yaw": 0.0, "throttle": throttle,
        "attitude.roll": degrees(seen.bank), "attitude.pitch": degrees(seen.pitch),
        "attitude_wanted.roll": _or_nan(asked.bank, degrees), "attitude_wanted.pitch": _or_nan(asked.pitch, degrees),
        "heading": degrees(heading) % 360.0, "course": degrees(seen.course) % 360.0,
        "course_wanted": _or_nan(asked.course, lambda value: degrees(value) % 360.0), "cross_track": _or_nan(asked.cross_track_m),
        "ground_speed": seen.speed_m_s, "airspeed": seen.airspeed_m_s, "altitude": seen.height_m,
        "altitude_wanted": _or_nan(asked.height_m), "home_distance": math.hypot(seen.north_m, seen.east_m),
        "latitude": home_deg[0] + seen.north_m / _METRES_PER_DEGREE,
        "longitude": home_deg[1] + seen.east_m / (_METRES_PER_DEGREE * math.cos(math.radians(home_deg[0]))),
        "battery_voltage": 12.4 - 1.2 * throttle, "battery_current": 1.0 + 14.0 * throttle**1.5,
    }  # fmt: skip
    moved = {"roll": asked.aileron, "pitch": asked.elevator, "yaw": asked.rudder}
    for number, pulse in _pulses(surfaces, {axis: _TRAVEL_US * share for axis, share in moved.items()}).items():
        row[f"servo.{number}"] = pulse
    # told only while they are looked for
    row["link_quality"] = math.nan if wish.link is None else wish.link
    return row | {f"gain.{axis}.f": value if wish.finds_gains else math.nan for axis, value in found.items()}


def _or_nan(value: float | None, shown: object = None) -> float:
    if value is None:
        return math.nan
    return float(shown(value)) if callable(shown) else value


def _pulses(surfaces: Sequence[Surface], moved_us: Mapping[str, float]) -> dict[int, float]:
    """Pulses of every servo for deflections by axis, within each servo's travel."""
    tail = joined(moved_us["pitch"], moved_us["yaw"], "v_tail")
    inverted = joined(moved_us["pitch"], moved_us["yaw"], "a_tail")
    elevons = joined(moved_us["pitch"], moved_us["roll"], "elevons")
    asked = {
        **dict.fromkeys(("aileron", "aileron_left", "aileron_right"), moved_us["roll"]),
        "elevator": moved_us["pitch"], "rudder": moved_us["yaw"], "flap": 0.0,
        "v_tail_left": float(tail[0]), "v_tail_right": float(tail[1]),
        "a_tail_left": float(inverted[0]), "a_tail_right": float(inverted[1]),
        "elevon_left": float(elevons[0]), "elevon_right": float(elevons[1]),
    }  # fmt: skip
    return {
        one.servo: one.centre_us + (one.direction or 1) * max(-one.throw_us, min(one.throw_us, asked[one.role]))
        for one in surfaces
    }
