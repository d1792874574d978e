"""Flies one card with one configuration in the simulator and hands back the log."""

import math
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.errors import InputError
from nembrit.core.filters.chain import chain_sos
from nembrit.core.filters.sections import FilterSection
from nembrit.core.setup.card import Card
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.setup.craft import Craft
from nembrit.core.simulate import kernel
from nembrit.core.simulate.airframe import THRUST_CURVE_EXPONENT, Airframe, Traits, World, airframe_of
from nembrit.core.simulate.pilot import Sticks, fly_card
from nembrit.core.types import AXES, FloatArray

COLUMNS = (
    *(f"{family}.{axis}" for family in ("gyro_raw", "gyro", "term_p", "term_i", "term_d", "term_f", "command") for axis in AXES),
    "battery_voltage", "battery_current", "accel.x", "accel.y", "accel.z", "throttle",
)  # fmt: skip

# decimals that a recorder of this kind would keep
DECIMALS = {
    "gyro_raw": 2, "b/gyro_raw": 2, "gyro": 2, "setpoint": 1, "stick": 3, "throttle": 3,
    "term_p": 4, "term_i": 4, "term_d": 4, "term_f": 4,
    "command": 4, "motor": 4, "motor_rpm": 0, "battery_voltage": 2, "battery_current": 1, "accel": 2,
}  # fmt: skip
_CELL_FULL_V, _CELL_EMPTY_V = 4.2, 3.45
_RELAX_HZ, _BOOST_DPS2 = 15.0, 6000.0
_LOOSE = 0.9  # a mount that is loose by 1 shakes the motors just so that they keep their authority
_COLOUR_HZ = 3.0  # below it, coloured gyro noise is slow
_SPIKE_ALONE = 3.8  # standard deviations: about one spike in two seconds


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SimulatedFlight:
    """A flight's channels by role, in each role's own unit, all of shape (n_samples,)."""

    t_s: FloatArray
    channels: dict[str, FloatArray]


def fly(craft: Craft, controller: Controller, card: Card, world: World, *, airframe: Airframe | None = None) -> SimulatedFlight:
    """Fly the card; the same arguments give the same log, bit for bit.

    Every gain, filter, limit and stick rate of the controller acts. Raises InputError for a craft or
    controller that cannot be flown.
    """
    airframe = airframe or airframe_of(craft)
    rng = np.random.default_rng(world.seed)
    sticks = fly_card(card, hover_throttle=airframe.hover_throttle, loop_rate_hz=controller.loop_rate_hz, rng=rng)
    setpoint_dps = np.stack(
        [set_point(sticks.stick[row], controller, axis, controller.loop_rate_hz) for row, axis in enumerate(AXES)]
    )
    return fly_sticks(craft, controller, world, airframe=airframe, sticks=sticks, setpoint_dps=setpoint_dps, rng=rng)


def fly_sticks(
    craft: Craft,
    controller: Controller,
    world: World,
    *,
    airframe: Airframe,
    sticks: Sticks,
    setpoint_dps: FloatArray,
    rng: np.random.Generator,
) -> SimulatedFlight:
    """Fly given set-points [deg/s], shape (3, n), and throttle instead of a card."""
    rate_hz = controller.loop_rate_hz
    n_log = round(rate_hz / min(world.log_rate_hz, rate_hz))
    if not 500 <= rate_hz <= 16_000:
        raise InputError(f"the simulator runs loops from 500 to 16000 Hz, got {rate_hz:g} Hz")
    out, motors, rpm = kernel.run(
        _plant(craft, airframe, world, rate_hz),
        _loop(controller, world.traits),
        np.ascontiguousarray(setpoint_dps),
        np.ascontiguousarray(sticks.throttle),
        sticks.is_on_ground,
        world.pack_charge_ratio,
        rng.standard_normal((sticks.throttle.size, 10)),
        _extra_noise(world, sticks.throttle.size),
        rate_hz,
        n_log,
    )
    if not np.isfinite(out).all():
        raise InputError("the simulated craft lost control; lower the gains")
    channels = {role: out[:, index] for index, role in enumerate(COLUMNS)}
    for row, axis in enumerate(AXES):
        if world.second_gyro is not None:
            channels[f"b/gyro_raw.{axis}"] = out[:, len(COLUMNS) + row]
        channels[f"setpoint.{axis}"] = setpoint_dps[row, ::n_log]
        channels[f"stick.{axis}"] = sticks.stick[row, ::n_log]
    for index in range(len(craft.motors)):
        channels[f"motor.{index + 1}"] = motors[:, index]
        channels[f"motor_rpm.{index + 1}"] = rpm[:, index]
    kept = {role: np.round(values, DECIMALS[role.removeprefix("b/").split(".")[0]]) for role, values in channels.items()}
    return SimulatedFlight(t_s=np.arange(out.shape[0]) * n_log / rate_hz, channels=kept)


def _extra_noise(world: World, n: int) -> FloatArray:
    """Random numbers that only faults and a second gyro use: sound flights of a seed stay what they were."""
    needs = world.second_gyro is not None or world.faults.bearing_motor is not None or world.faults.spike_axis is not None
    return np.random.default_rng((world.seed, 17)).standard_normal((n if needs else 1, 5))


def set_point(stick: FloatArray, controller: Controller, axis: str, rate_hz: float) -> FloatArray:
    """Stick position at `rate_hz` → wanted rate [deg/s] by the stick-rate curve, then the set-point filters."""
    points = controller.rates_of(axis)
    positions, rates_dps = [point[0] for point in points], [point[1] for point in points]
    quantised = np.round(stick * 1000) / 1000
    wanted: FloatArray = np.sign(quantised) * np.interp(np.abs(quantised), positions, rates_dps)
    sos = _sections(controller.setpoint, rate_hz)
    return scipy.signal.sosfilt(sos, wanted) if len(sos) else wanted


def _sections(filters: tuple[Filter, ...], rate_hz: float) -> FloatArray:
    fixed = [entry for entry in filters if entry.kind != "rotor_notch"]
    return chain_sos(
        [
            FilterSection(kind=entry.kind, frequency_hz=entry.frequency_hz, q=entry.q, discretisation=entry.discretisation)
            for entry in fixed
        ],
        sample_rate_hz=rate_hz,
    )


def _loop(controller: Controller, traits: Traits) -> kernel.Loop:
    rate_hz = controller.loop_rate_hz
    gains = [controller.gains[axis] for axis in AXES]
    rotor = next((entry for entry in controller.gyro if entry.kind == "rotor_notch"), None)
    output_rate_hz = min(controller.output_rate_hz or rate_hz, rate_hz)
    return kernel.Loop(
        kp=np.array([gain.p for gain in gains]),
        ki=np.array([gain.i for gain in gains]),
        kd=np.array([gain.d for gain in gains]),
        kf=np.array([gain.f for gain in gains]),
        chip=_sections(controller.chip, rate_hz),
        gyro=_sections(controller.gyro, rate_hz),
        d_term=_sections(controller.d_term, rate_hz),
        feed_forward=_sections(controller.feed_forward, rate_hz),
        rotor_orders=np.array(rotor.orders if rotor else (), dtype=np.float64),
        rotor_q=float(rotor.q if rotor else 4.0),
        rotor_lowest_hz=float(rotor.frequency_hz if rotor else 0.0),
        rotor_blend_hz=float(rotor.blend_hz if rotor else 1.0),
        output_limit=float(controller.output_limit),
        integral_limit=float(controller.integral_limit),
        idle=float(controller.idle),
        n_hold=max(1, round(rate_hz / output_rate_hz)),
        p_filter=_sections((Filter(kind="lowpass_1", frequency_hz=traits.p_filter_hz),) if traits.p_filter_hz else (), rate_hz),
        is_d_on_error=traits.is_d_on_error,
        relax_dps=traits.relax_dps,
        relax_share=1 - math.exp(-2 * math.pi * _RELAX_HZ / rate_hz),
        boost=traits.d_boost_ratio,
        boost_dps2=_BOOST_DPS2,
        throttle_cut=traits.throttle_cut_ratio,
        volts_power=traits.volts_power,
    )


def _plant(craft: Craft, airframe: Airframe, world: World, rate_hz: float) -> kernel.Plant:
    n_motors = len(craft.motors)
    imbalance = np.array(airframe.imbalance or (1.0,) * n_motors, dtype=np.float64)
    if (bent := world.faults.propeller_motor) is not None:
        if not 1 <= bent <= n_motors:
            raise InputError(f"there is no motor {bent}; the craft has {n_motors}")
        imbalance[bent - 1] *= world.faults.propeller_factor
    faults, second, laws = world.faults, world.second_gyro, world.laws
    if faults.bearing_motor is not None and not 1 <= faults.bearing_motor <= n_motors:
        raise InputError(f"there is no motor {faults.bearing_motor}; the craft has {n_motors}")
    sigma_dps = airframe.gyro_density_dps_rthz * np.sqrt(rate_hz / 2)
    hover_speed = airframe.hover_throttle**THRUST_CURVE_EXPONENT
    at_hover = hover_speed ** (2 - laws.line_power)  # whatever the law, hover shakes as much
    return kernel.Plant(
        mixer=craft.mixer(),
        authority_dps2=np.array(airframe.authority_dps2),
        damping_per_s=np.array(airframe.damping_per_s),
        yaw_zero_s=airframe.yaw_zero_s,
        lag_up_s=airframe.motor_lag_s * (1 - airframe.motor_lag_asymmetry_ratio),
        lag_down_s=airframe.motor_lag_s * (1 + airframe.motor_lag_asymmetry_ratio),
        n_delay=max(0, round(airframe.motor_delay_s * rate_hz) - 1),
        curve=THRUST_CURVE_EXPONENT,
        rotor_top_hz=airframe.rotor_top_hz,
        hover_thrust=airframe.hover_throttle ** (2 * THRUST_CURVE_EXPONENT),
        blades=airframe.blades,
        line_dps=airframe.line_dps * at_hover,
        blade_line_dps=airframe.blade_line_dps * at_hover,
        imbalance=imbalance,
        resonator=_resonators(airframe, rate_hz),
        resonance_gain=np.array(airframe.resonance_gain) * faults.resonance_factor,
        broadband_dps=airframe.broadband_dps * np.sqrt(rate_hz / 4000.0) * 4,
        gyro_sigma_dps=sigma_dps,
        gyro_step_dps=airframe.gyro_step_dps,
        balance_offset=np.array([*airframe.balance_offset, 0.0]),
        mount_hz=world.faults.loose_mount_hz,
        mount_damping=laws.mount_damping_ratio,
        mount_loose=_LOOSE * world.faults.loose_mount,
        v_full=_CELL_FULL_V * airframe.cells,
        v_empty=_CELL_EMPTY_V * airframe.cells,
        resistance_ohm=airframe.pack_resistance_ohm,
        full_current_a=airframe.full_current_a,
        capacity_as=airframe.pack_capacity_ah * 3600,
        wind_dps2=55.0 * world.wind_m_s,
        wash_dps2=900.0 * world.wash_ratio,
        bearing_motor=-1 if faults.bearing_motor is None else faults.bearing_motor - 1,
        bearing_dps=faults.bearing_dps * hover_speed ** (1.5 - laws.bearing_power),
        spike_axis=-1 if faults.spike_axis is None else AXES.index(faults.spike_axis),
        spike_dps=faults.spike_dps,
        spike_jump=faults.spike_jump,
        axis_noise=np.array([faults.noisy_factor if axis == faults.noisy_axis else 1.0 for axis in AXES]),
        stall_speed=0.05,
        second_sigma_dps=-1.0 if second is None else sigma_dps * second.noise_factor,
        second_resonance=1.0 if second is None else second.resonance_ratio,
        line_power=laws.line_power,
        bearing_power=laws.bearing_power,
        bearing_modulation=laws.bearing_modulation_ratio,
        spike_alone=_SPIKE_ALONE if laws.spikes_alone else np.inf,
        gust_s=laws.gust_s,
        stall_lag=laws.stall_lag_ratio,
        colour_share=1 - math.exp(-2 * math.pi * _COLOUR_HZ / rate_hz),
        colour_gain=laws.gyro_colour_ratio * np.sqrt(rate_hz / (math.pi * _COLOUR_HZ)),
        arm_axis=-1 if faults.arm_axis is None else AXES.index(faults.arm_axis),
        arm_hz=faults.arm_hz,
        arm_softening=faults.arm_softening_ratio,
        arm_loose=faults.arm_loose,
    )


def _resonators(airframe: Airframe, rate_hz: float) -> FloatArray:
    """One band-pass a axis, peak gain 1 (cookbook BPF, constant peak), shape (3, 6)."""
    rows = []
    for centre_hz in airframe.resonance_hz:
        w0 = 2 * np.pi * min(centre_hz, 0.45 * rate_hz) / rate_hz
        alpha = np.sin(w0) * airframe.resonance_damping_ratio
        b = np.array([alpha, 0.0, -alpha])
        a = np.array([1 + alpha, -2 * np.cos(w0), 1 - alpha])
        rows.append(np.concatenate((b, a)) / a[0])
    return np.stack(rows)


def write_order(craft: Craft) -> tuple[str, ...]:
    """Roles in the order in which the simulator's log lists them."""
    motors = [f"motor.{n + 1}" for n in range(len(craft.motors))] + [f"motor_rpm.{n + 1}" for n in range(len(craft.motors))]
    per_axis = ("gyro_raw", "gyro", "setpoint", "stick", "term_p", "term_i", "term_d", "term_f")
    families = [f"{family}.{axis}" for family in per_axis for axis in AXES]
    return (*families, "throttle", *motors, "battery_voltage", "battery_current", "accel.x", "accel.y", "accel.z")
