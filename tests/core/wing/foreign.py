"""Flights of a flight-dynamics model that nobody here wrote, logged as a recorder would; leveller and followers are ours.

JSBSim 1.3.3 (six degrees of freedom, its own light singles and glider; references, section 5). Wind, gusts and offsets of
surfaces are what the test sets; the truth is what the model says of itself.
"""

import math
from collections.abc import Callable
from dataclasses import dataclass

import jsbsim
import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.setup.craft import Surface
from nembrit.core.types import FloatArray

LOG_HZ, STEER_HZ, START_M, TRAVEL_US = 10, 50, 114.4, 400.0
_FIELD_M = {True: 800.0, False: 400.0}  # of home above the sea: a glider without a motor sinks a long way
SETTLED_S = 20.0
_FT, _KT, _RUNS = 0.3048, 0.5144, 2  # steps of the model between two commands
_PLACE_DEG, _PER_DEG = (51.0, 0.0), 111_250.0
# name → model, airspeed, throttle that about holds it
_PLANES = {"single": ("c172p", 45.0, 0.7), "light single": ("J3Cub", 25.0, 0.6), "glider": ("sgs126", 24.0, 0.0)}
SURFACES = (
    Surface(role="aileron", servo=1, throw_us=TRAVEL_US, direction=1),
    Surface(role="elevator", servo=2, throw_us=TRAVEL_US, direction=1),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class State:
    """What the model says of itself, places from home; commands as they left the controller."""

    north_m: float
    east_m: float
    height_m: float
    heading_deg: float
    course_deg: float
    speed_m_s: float  # over ground
    airspeed_m_s: float
    bank_deg: float
    throttle: float
    aileron: float
    elevator: float


Steering = Callable[[State], float]


def level(_: State) -> float:
    return 0.0


def banked(bank_deg: float) -> Steering:
    return lambda _: bank_deg


def to_course(course_deg: float, *, gain: float = 0.9) -> Steering:
    """A follower of courses: bank in proportion to the error."""
    return lambda now: max(-26.0, min(26.0, gain * ((course_deg - now.course_deg + 180) % 360 - 180)))


def home_and_round(radius_m: float) -> Steering:
    """Straight home, then round it to the right."""

    def bank(now: State) -> float:
        away = math.hypot(now.north_m, now.east_m)
        home = math.degrees(math.atan2(-now.east_m, -now.north_m))
        aside = -90.0 * min(1.0, max(0.0, 1.0 - (away - radius_m) / radius_m)) if away < 2 * radius_m else 0.0
        turn = math.degrees(math.atan(now.speed_m_s**2 / (9.80665 * radius_m))) if away < 1.4 * radius_m else 0.0
        return max(-45.0, min(45.0, turn + 1.5 * ((home + aside - now.course_deg + 180) % 360 - 180)))

    return bank


class Foreign:
    """One flight, extended piece by piece."""

    def __init__(
        self, plane: str, *, wind: tuple[float, float] = (0.0, 0.0), gusts_m_s: float = 0.0, rudder: float = 0.0,
        off: tuple[float, float] = (0.0, 0.0), seed: int = 7,
    ) -> None:  # fmt: skip
        """`wind` and `gusts_m_s` blow to north and east; `off`: linkages of aileron and elevator set wrongly, share of travel."""
        model, self.speed_m_s, self.throttle = _PLANES[plane]
        self.model = jsbsim.FGFDMExec(None)
        self.model.set_debug_level(0)
        self.model.load_model(model)
        self.model.set_dt(1 / STEER_HZ / _RUNS)
        start = {"h-sl-ft": (START_M + _FIELD_M[True]) / _FT, "vc-kts": self.speed_m_s / _KT, "psi-true-deg": 0}
        for name, value in (start | {"lat-gc-deg": _PLACE_DEG[0], "long-gc-deg": _PLACE_DEG[1]}).items():
            self.model[f"ic/{name}"] = value
        self.model.run_ic()
        self.origin = self.model["position/lat-geod-deg"], self.model["position/long-gc-deg"]
        if self.throttle:
            self.model["propulsion/set-running"] = -1
            self.model["fcs/mixture-cmd-norm"] = 0.9
        self.model["fcs/rudder-cmd-norm"] = rudder
        self.wind, self.gusts_m_s, self.off, self.rng = np.array(wind), gusts_m_s, off, np.random.default_rng(seed)
        self.gust, self.sums = np.zeros(2), np.zeros(2)
        self.aileron, self.elevator = 0.0, 0.0
        self.rows: list[State] = []
        self.modes: list[str] = []
        self.wanted: list[tuple[float, float]] = []  # height and course, NaN where none was

    def fly(
        self, seconds: float, steer: Steering = level, *, height_m: float = START_M, course_deg: float = math.nan,
        mode: str = "level",
    ) -> "Foreign":  # fmt: skip
        """Bank as the follower wants; a height is held by pitch and the speed by throttle, a glider's speed by pitch."""
        for step in range(round(seconds * STEER_HZ)):
            now = self.state()
            if step % (STEER_HZ // LOG_HZ) == 0:
                self.rows.append(now)
                self.modes.append(mode)
                self.wanted.append((height_m, course_deg))
                self._blow()
            self._steer(now, math.radians(steer(now)), height_m)
            for _ in range(_RUNS):
                self.model.run()
        return self

    def _blow(self) -> None:
        """Gusts: first-order noise of a second."""
        keep = math.exp(-1 / LOG_HZ)
        self.gust = keep * self.gust + self.gusts_m_s * math.sqrt(1 - keep**2) * self.rng.standard_normal(2)
        self.model["atmosphere/wind-north-fps"], self.model["atmosphere/wind-east-fps"] = (self.wind + self.gust) / _FT

    def _steer(self, now: State, wanted_bank: float, height_m: float) -> None:
        own = self.model
        bank, pitch = math.radians(now.bank_deg), own["attitude/theta-rad"]
        slow = now.airspeed_m_s - self.speed_m_s
        wanted = -0.02 + 0.02 * slow
        if self.throttle:
            wanted = 0.02 + 0.004 * (height_m - now.height_m) - 0.013 * own["velocities/h-dot-fps"] * _FT
            own["fcs/throttle-cmd-norm"] = max(0.1, min(1.0, self.throttle - 0.1 * slow))
        wanted = max(-0.2, min(0.2, wanted))
        errors = np.array([wanted_bank - bank, wanted - pitch])
        self.sums = np.clip(self.sums + errors / STEER_HZ, -1.0, 1.0)
        self.aileron = float(np.clip(1.2 * errors[0] + 0.3 * self.sums[0] - 0.5 * own["velocities/p-rad_sec"], -1, 1))
        self.elevator = float(np.clip(2.0 * errors[1] + 0.6 * self.sums[1] - 0.6 * own["velocities/q-rad_sec"], -1, 1))
        own["fcs/aileron-cmd-norm"] = self.aileron + self.off[0]
        own["fcs/elevator-cmd-norm"] = -(self.elevator + self.off[1])  # the model counts nose down

    def state(self) -> State:
        own = self.model
        north, east = own["velocities/v-north-fps"] * _FT, own["velocities/v-east-fps"] * _FT
        return State(
            north_m=(own["position/lat-geod-deg"] - self.origin[0]) * _PER_DEG,
            east_m=(own["position/long-gc-deg"] - self.origin[1]) * _PER_DEG * math.cos(math.radians(self.origin[0])),
            height_m=own["position/h-sl-ft"] * _FT - _FIELD_M[bool(self.throttle)], heading_deg=own["attitude/psi-deg"],
            course_deg=math.degrees(math.atan2(east, north)) % 360, speed_m_s=math.hypot(north, east),
            airspeed_m_s=own["velocities/vtrue-fps"] * _FT, bank_deg=math.degrees(own["attitude/phi-rad"]),
            throttle=own["fcs/throttle-cmd-norm"] if self.throttle else 0.0, aileron=self.aileron, elevator=self.elevator,
        )  # fmt: skip

    def said(self, name: str, *, from_s: float = 0.0) -> FloatArray:
        """What the model said of itself, ten times a second."""
        return np.array([getattr(row, name) for row in self.rows[round(from_s * LOG_HZ) :]])

    def recording(self, *without: str, skip_s: float = SETTLED_S) -> Recording:
        """What a recorder logs of it, without the first seconds, in which the model settles."""
        first = round(skip_s * LOG_HZ)
        roles = {
            "ground_speed": "speed_m_s", "course": "course_deg", "attitude.roll": "bank_deg", "airspeed": "airspeed_m_s",
            "throttle": "throttle", "altitude": "height_m",
        }  # fmt: skip
        channels = {role: self.said(name)[first:] for role, name in roles.items()}
        north, east = self.said("north_m")[first:], self.said("east_m")[first:]
        channels["latitude"] = self.origin[0] + north / _PER_DEG
        channels["longitude"] = self.origin[1] + east / (_PER_DEG * math.cos(math.radians(self.origin[0])))
        channels["altitude_wanted"], channels["course_wanted"] = np.array(self.wanted)[first:].T
        channels["home_distance"] = np.hypot(north, east)
        channels |= {f"stick.{axis}": np.zeros(north.size) for axis in ("roll", "pitch", "yaw")}
        channels["servo.1"] = 1500 + TRAVEL_US * self.said("aileron")[first:]
        channels["servo.2"] = 1500 + TRAVEL_US * self.said("elevator")[first:]
        kept = {role: values for role, values in channels.items() if role not in without}
        return Recording.of(kept, sample_rate_hz=float(LOG_HZ), modes=self.modes[first:])
