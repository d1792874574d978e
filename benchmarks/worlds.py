"""Worlds rather than seeds: random craft whose laws are drawn too, with one fault, two or none, from mild to gross.

Every alternative that is drawn here is an assumption unless it names a source: nobody has published how often what is true. A
world is a family of laws; the ranking is judged on worlds that its weights were not fitted to.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from benchmarks.random_craft import (
    _card,
    _lively,
    _scale_to,
    _steadied,
    _with,
    random_airframe,
    sensitivity_peak,
    sound_controller,
)
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.simulate.airframe import Airframe, Faults, Laws, World
from nembrit.core.simulate.flight import fly
from nembrit.core.types import AXES
from tests.damage import Table, at_rate, flight_of

WORLDS = ("rigid", "soft", "coloured", "mixed")
FAULTS = (
    "loose_mount", "frame_resonance", "loose_arm", "propeller", "bearing", "electrical_spikes", "noisy_axis",
    "d_noise", "p_high", "i_low", "filters_low", "idle_low",
)  # fmt: skip
FLAVOURS = ("", "calm", "windy", "lively", "offset", "noisy", "lone mode")  # sound craft, some of them odd
MILD = 1 / 3  # severities below are mild: they matter little, and may be missed
_FLOWN_HZ = 2000
_PAIRED = 0.1  # share of faulty flights with a second fault


@dataclass(frozen=True, kw_only=True)
class Case:
    """A flight whose truth is known."""

    world: str
    causes: tuple[str, ...]  # empty: sound
    severity: float  # from 0, hardly there, to 1, gross
    flight: Flight


def laws_of(world: str, rng: np.random.Generator) -> tuple[Laws, tuple[float, float]]:
    """The laws of one craft in a world, and between what frequencies its mount sits when it is loose."""

    def between(low: float, high: float) -> float:
        return float(rng.uniform(low, high))

    if world == "rigid":  # a rigid body: unbalance and rate go together; spikes come with motor jumps
        return Laws(line_power=between(1.0, 1.2), bearing_power=between(1.0, 2.0)), (45.0, 85.0)
    if world == "soft":  # everything on rubber: steeper laws, bearings without a beat, gusty air, spikes at any time
        laws = Laws(
            line_power=between(1.6, 2.0), bearing_power=between(2.5, 3.5), bearing_modulation_ratio=0.0, spikes_alone=True,
            gust_s=between(0.1, 0.3), mount_damping_ratio=between(0.18, 0.3),
        )  # fmt: skip
        return laws, (30.0, 60.0)
    if world == "coloured":  # a gyro with slow noise, stiff mounts, motors that start late
        laws = Laws(
            line_power=between(1.0, 2.0), gyro_colour_ratio=between(1.0, 3.0), gust_s=between(0.4, 1.0),
            mount_damping_ratio=between(0.06, 0.14), stall_lag_ratio=between(3.0, 12.0),
        )  # fmt: skip
        return laws, (70.0, 120.0)
    laws = Laws(
        line_power=between(1.0, 2.0), bearing_power=between(1.0, 3.5), bearing_modulation_ratio=between(0.0, 0.9),
        spikes_alone=bool(rng.random() < 0.4), gust_s=between(0.1, 1.0), gyro_colour_ratio=between(0.0, 2.0),
        mount_damping_ratio=between(0.05, 0.25), stall_lag_ratio=between(3.0, 12.0),
    )  # fmt: skip
    return laws, (30.0, 120.0)


@dataclass(kw_only=True)
class _Drawn:
    """One craft while faults are put into it."""

    airframe: Airframe
    controller: Controller
    mount_hz: tuple[float, float]
    faults: Faults = field(default_factory=Faults)
    floats: bool = False


def _planted(drawn: _Drawn, cause: str, severity: float, n_motors: int, rng: np.random.Generator) -> None:
    """Put one fault in; sizes go from hardly there to gross in equal ratios."""

    def sized(least: float, most: float) -> float:
        return float(least * (most / least) ** severity)

    motor, axis, roll_or_pitch = int(rng.integers(1, n_motors + 1)), AXES[int(rng.integers(3))], AXES[int(rng.integers(2))]
    mount_hz = float(rng.uniform(*drawn.mount_hz))
    fault: dict[str, dict[str, object]] = {
        "loose_mount": {"loose_mount": sized(0.12, 1.2), "loose_mount_hz": mount_hz},
        "frame_resonance": {"resonance_factor": sized(2.5, 10.0)},
        "loose_arm": {
            "arm_axis": roll_or_pitch, "arm_loose": sized(0.02, 0.4), "arm_hz": float(rng.uniform(40, 120)),
            "arm_softening_ratio": float(rng.uniform(0.1, 0.35)),
        },
        "propeller": {"propeller_motor": motor, "propeller_factor": sized(2.5, 9.0)},
        "bearing": {"bearing_motor": motor, "bearing_dps": sized(2.5, 15.0)},
        "electrical_spikes": {"spike_axis": axis, "spike_dps": sized(90.0, 350.0)},
        "noisy_axis": {"noisy_axis": axis, "noisy_factor": sized(2.0, 8.0)},
    }  # fmt: skip
    if cause in fault:
        drawn.faults = replace(drawn.faults, **fault[cause])  # type: ignore[arg-type]
        return
    drawn.controller = _mistuned(cause, severity, drawn.airframe, drawn.controller)
    drawn.floats |= cause == "idle_low"


def _mistuned(cause: str, severity: float, airframe: Airframe, controller: Controller) -> Controller:
    def sized(least: float, most: float) -> float:
        return float(least * (most / least) ** severity)

    if cause == "p_high":
        for axis in AXES[:2]:
            factor = _scale_to(
                lambda f, axis=axis, old=controller: sensitivity_peak(airframe, _with(old, axis, p=f), axis), sized(2.2, 5.5)
            )
            controller = _with(controller, axis, p=factor)
        return controller
    if cause == "filters_low":
        low_hz = sized(75.0, 36.0)
        slow = replace(
            controller,
            gyro=(Filter(kind="lowpass_2", frequency_hz=low_hz),),
            d_term=(Filter(kind="lowpass_2", frequency_hz=1.3 * low_hz),),
        )
        peak = max(sensitivity_peak(airframe, slow, axis) for axis in AXES[:2])
        return _steadied(airframe, slow, 4.0) if peak > 4.0 else slow
    if cause == "idle_low":
        return replace(controller, idle=sized(0.008, 0.001))
    factors = {"d_noise": {"d": sized(1.5, 3.2)}, "i_low": {"i": sized(0.25, 0.02)}}[cause]
    for axis in AXES:
        controller = _with(controller, axis, **factors)
    if cause == "d_noise":
        opened = (Filter(kind="lowpass_1", frequency_hz=sized(250.0, 500.0)),)
        return replace(controller, d_term=opened)
    return controller


def world_case(seed: int, world: str, causes: Sequence[str], *, flavour: str = "") -> Case:
    """Fly one random craft of a world with these faults; the same seed gives the same flight."""
    rng = np.random.default_rng(seed)
    laws, mount_hz = laws_of(world, rng)
    craft, airframe = random_airframe(rng)
    airframe = replace(airframe, motor_lag_asymmetry_ratio=float(rng.uniform(0.0, 0.3)))
    if flavour == "offset":
        airframe = replace(airframe, balance_offset=(0.03, -0.025))
    if flavour == "noisy":  # a gyro that is noisy in all axes, and cool motors all the same
        airframe = replace(airframe, gyro_density_dps_rthz=2.5 * airframe.gyro_density_dps_rthz)
    drawn = _Drawn(airframe=airframe, controller=sound_controller(airframe, rng), mount_hz=mount_hz)
    severity = float(rng.uniform())
    for cause in causes:
        _planted(drawn, cause, severity, len(craft.motors), rng)
    if flavour == "lone mode":
        drawn.faults = replace(drawn.faults, resonance_factor=1.8)
    wind_m_s = {"calm": 0.0, "windy": 9.0}.get(flavour, float(rng.uniform(0, 7)))
    card = _card("full" if drawn.floats or rng.random() < 0.7 else "response")
    card = _lively(card) if flavour == "lively" or rng.random() < 0.2 else card
    conditions = World(seed=seed, wind_m_s=wind_m_s, faults=drawn.faults, laws=laws)
    flight = fly(craft, drawn.controller, card, conditions, airframe=drawn.airframe)
    # what people log: every channel may be missing, and the rate is theirs
    missing = [
        prefix
        for prefix, share in (("motor_rpm.", 0.35), ("gyro_raw.", 0.2), ("accel.", 0.3), ("term_", 0.15), ("motor.", 0.05))
        if rng.random() < share and not (drawn.floats and prefix == "motor_rpm.")
    ]
    rate_hz = int(rng.choice([2000, 2000, 1600, 1000, 1000, 800, 500]))
    has_settings = bool(rng.random() < 0.6)
    channels = {role: one for role, one in flight.channels.items() if not role.startswith(tuple(missing) or "\0")}
    table = Table(t_s=flight.t_s, channels=channels)
    facts = CraftFacts(mixer=craft.mixer(), blades=craft.blades, controller=drawn.controller if has_settings else None)
    return Case(
        world=world,
        causes=tuple(causes),
        severity=severity,
        flight=flight_of(table if rate_hz == _FLOWN_HZ else at_rate(rate_hz)(table), facts),
    )


def jobs_of(first_seed: int, n_per_cause: int, *, n_sound: int | None = None) -> list[tuple[int, str, tuple[str, ...], str]]:
    """Seed, world, causes and flavour of flights: so many of every fault in each world, one in ten of them with a second fault,
    and as many sound ones of every flavour."""
    rng = np.random.default_rng(first_seed)
    found: list[tuple[int, str, tuple[str, ...], str]] = []
    seed = first_seed
    for world in WORLDS:
        for cause in FAULTS:
            for _ in range(n_per_cause):
                other = str(rng.choice([one for one in FAULTS if one != cause]))
                found.append((seed := seed + 1, world, (cause, other) if rng.random() < _PAIRED else (cause,), ""))
        for flavour in FLAVOURS:
            for _ in range(n_per_cause if n_sound is None else n_sound):
                found.append((seed := seed + 1, world, (), flavour))
    return [found[k] for k in rng.permutation(len(found))]
