"""The simulated craft's physics, derived from its size, and the world it flies in.

Scaling with propeller size follows common practice (larger rotors turn slower and change speed more
slowly), no source; the numbers are starting values for a stand-in, not a model of any product.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.craft import Craft
from nembrit.core.setup.limits import within

THRUST_CURVE_EXPONENT = 0.8  # rotor speed ~ command ** 0.8, thrust ~ speed ** 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Airframe:
    """Physics of one craft; axis tuples are roll, pitch, yaw."""

    authority_dps2: tuple[float, float, float]  # angular acceleration per unit of summed mixed thrust
    damping_per_s: tuple[float, float, float] = (2.0, 2.0, 1.2)
    yaw_zero_s: float = 0.02  # reaction torque of a motor that speeds up
    motor_lag_s: float = 0.02
    motor_lag_asymmetry_ratio: float = 0.12  # slower when slowing down, by this share
    motor_delay_s: float = 0.002
    rotor_top_hz: float = 350.0  # once-per-revolution at full command and a full pack
    hover_throttle: float = 0.32
    blades: int = 3
    gyro_density_dps_rthz: float = 0.012
    gyro_step_dps: float = 1 / 16  # the sensor counts in whole steps
    line_dps: float = 2.4  # once-per-revolution shake of one healthy motor, over the square of its share of full speed in hover
    blade_line_dps: float = 1.2
    imbalance: tuple[float, ...] = ()  # per motor, 1 = healthy; empty: all healthy
    resonance_hz: tuple[float, float, float] = (180.0, 196.0, 240.0)
    resonance_damping_ratio: float = 0.035
    resonance_gain: tuple[float, float, float] = (3.0, 2.4, 0.8)
    broadband_dps: float = 0.6  # shaking of the frame by the air, at full thrust
    balance_offset: tuple[float, float] = (0.004, -0.006)  # centre of gravity, as a share of thrust
    cells: int = 4
    pack_resistance_ohm: float = 0.03
    full_current_a: float = 70.0
    pack_capacity_ah: float = 1.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Faults:
    """What is wrong with the craft. `loose_mount` and the rest go from 0 (sound) to about 1."""

    loose_mount: float = 0.0
    loose_mount_hz: float = 58.0
    propeller_motor: int | None = None  # number from 1
    propeller_factor: float = 6.0
    resonance_factor: float = 1.0  # on the frame's ringing
    bearing_motor: int | None = None
    bearing_dps: float = 6.0
    spike_axis: str | None = None
    spike_dps: float = 220.0
    spike_jump: float = 0.12  # share of full motor range, within about 5 ms
    noisy_axis: str | None = None
    noisy_factor: float = 6.0
    arm_axis: str | None = None  # a loose or cracked arm lets this axis shake
    arm_loose: float = 0.2
    arm_hz: float = 70.0  # in hover; it bends more easily under more thrust
    arm_softening_ratio: float = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class SecondGyro:
    """A second board that records the same flight, `b/` in the log."""

    noise_factor: float = 1.0  # of the first gyro's own noise
    resonance_ratio: float = 1.0  # share of the frame's ringing at its place


@dataclass(frozen=True, slots=True, kw_only=True)
class Traits:
    """What some controllers do beside the assumed one; the defaults are the assumed controller."""

    p_filter_hz: float = 0.0  # P sees the error behind a first-order low-pass; 0: the error itself
    is_d_on_error: bool = False
    relax_dps: float = 0.0  # I holds still while the set-point runs so far ahead of its 15 Hz low-pass; 0: never
    d_boost_ratio: float = 0.0  # D grows by this share in quick moves
    throttle_cut_ratio: float = 0.0  # share of P and D that is gone at full throttle, from middle throttle on
    volts_power: float = 0.0  # gains go with (full voltage / voltage) to this power


@dataclass(frozen=True, slots=True, kw_only=True)
class Laws:
    """How sizes go together, where nobody knows it for one's own craft; the defaults are the stand-in's.

    An unbalance pulls with the square of speed. On a rigid frame that is an angular acceleration, so the *rate* that a gyro sees
    goes with the first power, while an accelerometer sees the second (forces of ISO 21940-11 over Newton's second law). A soft
    mount above its own frequency takes powers away, a mode below it adds some: 1 to 2 are drawn.
    """

    line_power: float = 1.0
    bearing_power: float = 1.5  # assumption: 1 to 3.5
    bearing_modulation_ratio: float = 0.7
    spikes_alone: bool = False  # whether spikes also come without a jump of the motors
    gust_s: float = 0.35  # how long a gust lasts: assumption, 0.1 to 1
    stall_lag_ratio: float = 7.0  # by how much a motor that hardly turns is later
    gyro_colour_ratio: float = 0.0  # RMS of slow gyro noise over that of white noise
    mount_damping_ratio: float = 0.14


@dataclass(frozen=True, slots=True, kw_only=True)
class World:
    """Where and how a simulated flight is flown."""

    seed: int = 1
    wind_m_s: float = 2.0
    pack_charge_ratio: float = 0.95
    log_rate_hz: float = 2000.0
    wash_ratio: float = 1.0
    faults: Faults = field(default_factory=Faults)
    second_gyro: SecondGyro | None = None
    traits: Traits = field(default_factory=Traits)
    laws: Laws = field(default_factory=Laws)

    def __post_init__(self) -> None:
        if not 0 <= self.wind_m_s <= 25:
            raise InputError(f"wind goes from 0 to 25 m/s, got {self.wind_m_s:g}")
        if not 0.1 <= self.pack_charge_ratio <= 1:
            raise InputError(f"the pack's charge goes from 0.1 to 1, got {self.pack_charge_ratio:g}")
        within(self.log_rate_hz, "log_rate_hz", 10, 50_000)
        within(self.wash_ratio, "wash_ratio", 0, 100)
        within(self.seed, "the seed", 0, 2**63 - 1)


def airframe_of(craft: Craft) -> Airframe:
    """Physics for a craft from its propellers, mass and cells; raises InputError for what cannot be flown yet."""
    if craft.kind != "multirotor" or len(craft.motors) < 3:
        raise InputError("the simulator flies multirotors with three to eight motors and model aeroplanes")
    if not any(motor.yaw for motor in craft.motors):
        raise InputError("the simulator needs motors that turn the craft in yaw; a yaw servo comes later")
    size = craft.diameter_in / 5.0
    authority = 38_000.0 / size**1.6
    return Airframe(
        authority_dps2=(authority, authority * 0.82, authority * 0.16),
        motor_lag_s=0.018 * size**1.3,
        rotor_top_hz=390.0 / size**0.9,
        blades=craft.blades,
        resonance_hz=(185.0 / size**0.4, 203.0 / size**0.4, 250.0 / size**0.4),
        cells=craft.cells,
        full_current_a=14.0 * len(craft.motors) * size,
        pack_capacity_ah=1.5 * size * len(craft.motors) / 4,
    )


def vary(airframe: Airframe, rng: np.random.Generator, *, spread_ratio: float = 0.12) -> Airframe:
    """A like craft with other numbers, for tests on craft that nothing was tuned to."""

    def times() -> float:
        return float(np.exp(rng.normal(0, spread_ratio)))

    return replace(
        airframe,
        authority_dps2=_spread(airframe.authority_dps2, times),
        motor_lag_s=airframe.motor_lag_s * times(),
        motor_delay_s=airframe.motor_delay_s * times(),
        rotor_top_hz=airframe.rotor_top_hz * times(),
        hover_throttle=float(np.clip(airframe.hover_throttle * times(), 0.2, 0.5)),
        resonance_hz=_spread(airframe.resonance_hz, times),
        line_dps=airframe.line_dps * times(),
    )


def _spread(values: tuple[float, float, float], times: Callable[[], float]) -> tuple[float, float, float]:
    roll, pitch, yaw = values
    return roll * times(), pitch * times(), yaw * times()
