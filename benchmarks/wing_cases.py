"""Planes whose laws and faults are drawn, and one flight each of what the wing desk is asked.

Truth is what the simulator was given, or what its plane does in still air.
"""

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse, there
from nembrit.core.analysis.wing import Wing
from nembrit.core.records.log import Recording
from nembrit.core.setup.autopilot import Autopilot
from nembrit.core.setup.card import Card, Manoeuvre
from nembrit.core.setup.compose import composed
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.plane.airframe import AIRFRAMES, Airframe, PlaneFaults, PlaneWorld
from nembrit.core.simulate.plane.flight import PlaneFlight, fly_plane
from nembrit.core.wing.trim import trim_of

FIRST_SEED = 848400000  # drawn for this run; not used anywhere else
SURFACES: dict[str, tuple[Surface, ...]] = {
    "v_tail": (
        Surface(servo=1, role="aileron", direction=1), Surface(servo=2, role="aileron", direction=1),
        Surface(servo=3, role="v_tail_left", direction=1), Surface(servo=4, role="v_tail_right", direction=-1),
    ),
    "t_tail": (
        Surface(servo=1, role="aileron", direction=1), Surface(servo=2, role="aileron", direction=-1),
        Surface(servo=3, role="elevator", direction=1), Surface(servo=4, role="rudder", direction=1),
    ),
    "flying_wing": (
        Surface(servo=1, role="elevon_left", direction=1), Surface(servo=2, role="elevon_right", direction=-1),
    ),
}  # fmt: skip
CARDS = {
    key: composed("fixed_wing", steps, key=key, name=key)
    for key, steps in {
        "tracks": ["legs", "box"],
        "speeds": ["two_speeds"],
        "circles": ["circles"],
        "gains": ["full_hold"],
        "return": ["return_home"],
    }.items()
}
_LAUNCH, _LANDING = CARDS["circles"].manoeuvres[0], CARDS["circles"].manoeuvres[-1]
_BOX = next(step for step in CARDS["tracks"].manoeuvres if step.kind == "box")
CARDS["trim"] = Card(
    key="trim", name="trim", purpose="", manoeuvres=(_LAUNCH, Manoeuvre(kind="hands_off", seconds=70.0), _LANDING)
)
CARDS["creep"] = Card(
    key="creep", name="creep", purpose="", manoeuvres=(_LAUNCH, Manoeuvre(kind="hands_off", seconds=45.0), _BOX, _LANDING)
)


@dataclass(frozen=True, kw_only=True)
class Drawn:
    """A plane with its own law, and the day it flies on."""

    kind: str
    surfaces: tuple[Surface, ...]
    airframe: Airframe
    wind_m_s: float
    wind_from_deg: float
    gusts_ratio: float
    seed: int
    noise_ratio: float = 1.0

    def fly(self, card: str | Card, *, autopilot: Autopilot | None = None, hold_s: tuple[float, float] = (1.7, 2.4),
            wind_m_s: float | None = None, **faults: object) -> PlaneFlight:  # fmt: skip
        world = PlaneWorld(
            seed=self.seed, wind_m_s=self.wind_m_s if wind_m_s is None else wind_m_s, wind_from_deg=self.wind_from_deg,
            gusts_ratio=self.gusts_ratio, hold_s=hold_s, noise_ratio=self.noise_ratio, faults=PlaneFaults(**faults),
        )  # fmt: skip
        return fly_plane(
            self.surfaces, CARDS[card] if isinstance(card, str) else card, world, autopilot=autopilot, airframe=self.airframe
        )


def drawn(number: int, *, kinds: Sequence[str] = ("v_tail", "t_tail", "flying_wing")) -> Drawn:
    """Derivatives within a fifth of those of its kind, wind to 6 m/s from anywhere, gusts of 0.3 to 1.5 m/s."""
    rng = np.random.default_rng(FIRST_SEED + number)
    kind = kinds[number % len(kinds)]
    base = AIRFRAMES[kind]
    kept = ("pitch_0", "lift_0", "mass_kg", "thrust_n", "thrust_speed_m_s", "thrust_aside_m", "area_m2", "lift_most")
    law = base._replace(
        **{name: value * float(rng.uniform(0.8, 1.2)) for name, value in base._asdict().items() if name not in kept}
    )
    wind_m_s, gusts = float(rng.uniform(0.5, 6.0)), float(rng.uniform(0.1, 1.3))  # the stand-in adds 0.2 to any air
    return Drawn(
        kind=kind, surfaces=SURFACES[kind], airframe=law, wind_m_s=wind_m_s,
        wind_from_deg=float(rng.uniform(0, 360)), gusts_ratio=gusts / wind_m_s, seed=FIRST_SEED + number,
    )  # fmt: skip


def told(flight: PlaneFlight, surfaces: tuple[Surface, ...]) -> Wing:
    recording = Recording.of(flight.channels, sample_rate_hz=flight.log_hz, modes=flight.modes)
    facts = CraftFacts(kind="fixed_wing", surfaces=surfaces)
    return there(analyse(Flight(recording, craft=facts), only=("wing",)).wing)


_OF_AXIS = {
    "roll": {"aileron": 1, "elevon_left": -1, "elevon_right": 1},
    "pitch": {"elevator": 1, "v_tail_left": 1, "v_tail_right": 1, "a_tail_left": 1, "a_tail_right": 1, "elevon_left": 1,
              "elevon_right": 1},
    "yaw": {"rudder": 1, "v_tail_left": 1, "v_tail_right": -1, "a_tail_left": -1, "a_tail_right": 1},
}  # fmt: skip


def neutral_of(surfaces: Sequence[Surface], axis: str, size_us: float) -> dict[str, float]:
    """Neutral pulses that put one axis off."""
    return {str(one.servo): one.centre_us + (one.direction or 1) * _OF_AXIS[axis].get(one.role, 0) * size_us for one in surfaces}


# --- one case of each kind: what came out against what was put in


def trim_case(number: int) -> dict[str, float | bool]:
    plane = drawn(number)
    rng = np.random.default_rng(FIRST_SEED + 50_000 + number)
    off = float(rng.uniform(-40, 40))
    neutral = neutral_of(plane.surfaces, "roll", off)
    windy = trim_of(recording_of(plane.fly("trim", neutral_us=neutral)), plane.surfaces)
    still = trim_of(
        recording_of(replace(plane, gusts_ratio=0.0, wind_m_s=0.0, noise_ratio=0.0).fly("trim", neutral_us=neutral)),
        plane.surfaces,
    )
    return {
        "roll_us": windy.axes["roll"].trim_us - still.axes["roll"].trim_us,
        "pitch_us": windy.axes["pitch"].trim_us - still.axes["pitch"].trim_us,
        "side": windy.axes["roll"].trim_us * still.axes["roll"].trim_us > 0 or abs(still.axes["roll"].trim_us) <= 8,
        "covered": _inside(still.axes["roll"].trim_us, windy.axes["roll"].interval_us),
    }  # fmt: skip


def recording_of(flight: PlaneFlight) -> Recording:
    return Recording.of(flight.channels, sample_rate_hz=flight.log_hz, modes=flight.modes)


def _inside(value: float, interval: tuple[float, float]) -> bool:
    return interval[0] <= value <= interval[1]


def weaving_case(job: tuple[int, str]) -> dict[str, object]:
    number, fault = job
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 60_000 + number)
    side = 1.0 if rng.random() < 0.5 else -1.0
    faults: dict[str, object] = {}
    autopilot = None
    if fault in ("trim", "both"):
        faults["neutral_us"] = neutral_of(plane.surfaces, "yaw", side * float(rng.uniform(18, 32)))
    if fault in ("gain", "both"):
        faults["tight"] = float(rng.uniform(4, 8))
    if fault == "horizon":
        faults["tilt_deg"] = side * float(rng.uniform(1.4, 2.5))
    found = told(plane.fly("tracks", autopilot=autopilot, **faults), plane.surfaces).weaving
    # what needs right rudder pulls to the left; a horizon that believes itself right wing down banks left
    return {
        "fault": fault, "verdict": found.verdict if found else "not_enough", "side": found.side if found else None,
        "wanted": "left" if side > 0 else "right", "creep": found.creep_deg_s if found else math.nan,
    }  # fmt: skip


def creep_case(number: int) -> dict[str, float | bool]:
    """Hands off for half a minute and more, after a box that tells the wind; truth from still air."""
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 70_000 + number)
    neutral = neutral_of(plane.surfaces, "yaw", float(rng.uniform(-30, 30)))
    found = told(plane.fly("creep", neutral_us=neutral), plane.surfaces)
    still = replace(plane, gusts_ratio=0.0, wind_m_s=0.0, noise_ratio=0.0).fly("creep", neutral_us=neutral)
    part = slice(round(28 * still.log_hz), round(58 * still.log_hz))
    heading = np.degrees(np.unwrap(np.radians(still.channels["heading"][part])))
    truth = float(np.polyfit(still.t_s[part], heading, 1)[0])
    creep = found.creep
    return {
        "error": math.nan if creep is None else creep.rate_deg_s - truth,
        "covered": creep is not None and _inside(truth, creep.interval_deg_s),
    }  # fmt: skip


def speeds_case(number: int) -> dict[str, str]:
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 80_000 + number)
    side = 1.0 if rng.random() < 0.5 else -1.0
    wanted = "trim" if number % 2 else "horizon"
    faults: dict[str, object] = (
        {"neutral_us": neutral_of(plane.surfaces, "yaw", side * float(rng.uniform(15, 30)))}
        if wanted == "trim"
        else {"tilt_deg": side * float(rng.uniform(1.5, 3.0))}
    )
    speeds = told(plane.fly("speeds", wind_m_s=0.4, **faults), plane.surfaces).speeds
    return {"wanted": wanted, "told": speeds.verdict if speeds else "cannot tell"}


def wind_case(job: tuple[int, str, bool]) -> dict[str, float | bool]:
    number, card, with_pitot = job
    plane = drawn(number)
    rng = np.random.default_rng(FIRST_SEED + 90_000 + number)
    flight = plane.fly(card, pitot_offset_m_s=float(rng.uniform(-0.7, 0.7)))
    channels = {role: own for role, own in flight.channels.items() if with_pitot or role != "airspeed"}
    found = told(replace(flight, channels=channels), plane.surfaces).wind
    if found is None:
        return {"error": math.nan, "turned": math.nan, "covered": False, "wind": plane.wind_m_s}
    way = math.radians(plane.wind_from_deg + 180)
    off = np.array([found.north_m_s - plane.wind_m_s * math.cos(way), found.east_m_s - plane.wind_m_s * math.sin(way)])
    turned = abs((found.from_deg - plane.wind_from_deg + 180) % 360 - 180)
    return {
        "error": float(np.hypot(*off)), "turned": turned, "wind": plane.wind_m_s,
        "covered": bool(off @ np.linalg.inv(np.array(found.covariance)) @ off <= 5.991),
    }  # fmt: skip


def _forward(ratio: float) -> Autopilot:
    return Autopilot(forward={"roll": ratio, "pitch": ratio})


def gains_case(number: int) -> dict[str, object]:
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 110_000 + number)
    start, hold = float(rng.uniform(0.5, 1.0)), float(rng.uniform(1.4, 2.2))
    flight = plane.fly(
        "gains", autopilot=Autopilot(forward={"roll": start, "pitch": start}), hold_s=(hold, hold + 0.2), wind_m_s=1.0
    )
    stick = flight.channels["stick.roll"]
    side = np.sign(np.where(np.abs(stick) > 0.9, stick, 0.0))
    edges = np.flatnonzero(np.diff(side) != 0)
    true = [(b - a) / flight.log_hz for a, b in itertools.pairwise(edges) if side[a + 1] != 0 and b - a > 0.1 * flight.log_hz]
    found = told(flight, plane.surfaces).gain_flight.get("roll")
    return {
        "count": found is not None and abs(found.repetitions - len(true)) <= 0,
        "hold": math.nan if found is None else found.hold_median_s - float(np.median(true)),
        "verdict": found.verdict if found else "", "ratio": math.nan if found is None or not found.gains else found.gains[-1],
    }  # fmt: skip


def return_case(number: int) -> dict[str, float | bool]:
    plane = drawn(number)
    rng = np.random.default_rng(FIRST_SEED + 130_000 + number)
    over = float(rng.choice([0.0, rng.uniform(7, 15)]))
    lands = bool(rng.random() < 0.4)
    autopilot = Autopilot(return_height_m=float(rng.uniform(70, 100)), circle_m=float(rng.uniform(50, 80)), lands=lands)
    flight = plane.fly("return", autopilot=autopilot, wind_m_s=min(plane.wind_m_s, 4.0), climbs_over_m=over)
    (found,) = told(flight, plane.surfaces).returns
    part = np.array([mode == "return" for mode in flight.modes])
    height, bank = flight.channels["altitude"][part], flight.channels["attitude.roll"][part]
    t_s = flight.t_s[part]
    rate = round(flight.log_hz)
    banked = np.convolve(np.abs(bank) > 10, np.ones(rate), "valid") / rate
    turn = int(np.flatnonzero(banked >= 0.9)[0])
    highest = float(np.convolve(height, np.ones(rate) / rate, "valid").max())
    return {
        "turn": (found.turn_start_s or math.nan) - float(t_s[turn]),
        "height": (found.turn_height_m or math.nan) - float(height[turn]),
        "overshoot": (found.height_overshoot_m or math.nan) - (highest - autopilot.return_height_m),
        "radius": math.nan if not found.circled else (found.circle_radius_m or math.nan) - autopilot.circle_m,
        "ends": found.landed == lands and found.circled == (not lands),
    }  # fmt: skip


def rates_case(number: int) -> dict[str, float | bool]:
    """Truth: steps of wanted rate in still air with perfect sensors, averaged; K from the same flight's steady part."""
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 150_000 + number)
    autopilot = _forward(float(rng.uniform(0.65, 1.25)))
    found = told(plane.fly("gains", autopilot=autopilot, wind_m_s=min(plane.wind_m_s, 3.0)), plane.surfaces).rate_response.get(
        "roll"
    )
    still = told(
        replace(plane, gusts_ratio=0.0, wind_m_s=0.0, noise_ratio=0.0).fly("gains", autopilot=autopilot), plane.surfaces
    ).rate_response["roll"]
    if (
        found is None
        or found.effectiveness_dps is None
        or still.effectiveness_dps is None
        or found.lag_s is None
        or still.lag_s is None
    ):
        return {"delay_ms": math.nan, "peak_pp": math.nan, "k_pct": math.nan, "lag_ms": math.nan, "covered": False}
    return {
        "delay_ms": 1000 * (found.delay_s[0] - still.delay_s[0]),
        "peak_pp": 100 * (found.peak_ratio[0] - still.peak_ratio[0]),
        "k_pct": 100 * (found.effectiveness_dps[0] / still.effectiveness_dps[0] - 1),
        "lag_ms": 1000 * (found.lag_s[0] - still.lag_s[0]),
        "covered": _inside(still.peak_ratio[0], found.peak_ratio[1]),
    }  # fmt: skip


def forward_case(number: int) -> dict[str, float | bool]:
    """A feed-forward of a drawn ratio, with or without airspeed in it, flown along lines in gusts."""
    plane = drawn(number, kinds=("v_tail", "t_tail"))
    rng = np.random.default_rng(FIRST_SEED + 170_000 + number)
    ratio, power, holds = float(rng.uniform(0.6, 1.35)), float(rng.choice([0.0, 1.0, 2.0])), bool(rng.random() < 0.3)
    found = told(plane.fly("tracks", autopilot=_forward(ratio), forward_power=power, holds_attitude=holds), plane.surfaces)
    own = found.rate_response.get("roll")
    if own is None or own.forward_ratio is None:
        return {"forward_pct": math.nan, "covered": False, "is_known": False}
    value, interval = own.forward_ratio
    return {"forward_pct": 100 * (value / ratio - 1), "covered": _inside(ratio, interval), "is_known": True}
