"""The simulator's own loop, without noise or wind: what margins and following are checked against."""

from dataclasses import replace

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.response.authority import usable_mask
from nembrit.core.setup.controller import Controller
from nembrit.core.setup.craft import Craft
from nembrit.core.simulate.airframe import Airframe, Traits, World
from nembrit.core.simulate.flight import _CELL_EMPTY_V, _CELL_FULL_V, SimulatedFlight, fly_sticks
from nembrit.core.simulate.pilot import Sticks
from nembrit.core.types import AXES, ComplexArray, FloatArray


def true_loop(
    craft: Craft,
    controller: Controller,
    airframe: Airframe,
    axis: int,
    throttle: float,
    *,
    voltage_v: float | None = None,
    traits: Traits | None = None,
) -> tuple[FloatArray, ComplexArray, ComplexArray]:
    """Frequencies, open loop and closed loop of one axis as the simulator flies it, with a fresh pack or at a voltage.

    The feedback is read off the simulator's own terms; what only quick moves bring (D that grows) stays away.
    """
    silent = {"gyro_density_dps_rthz": 0.0, "line_dps": 0.0, "blade_line_dps": 0.0, "broadband_dps": 0.0}
    still = replace(airframe, gyro_step_dps=1e-9, balance_offset=(0.0, 0.0), **silent)
    rate_hz, length_s, settle_s = controller.loop_rate_hz, 4.0, 2.0
    n, n_settle = int(length_s * rate_hz), int(settle_s * rate_hz)
    bins = np.unique(np.round(np.geomspace(2, 800, 120)).astype(int))  # quarters of a hertz
    rng = np.random.default_rng(5)
    t_s = np.arange(n + n_settle) / rate_hz
    amplitude = 3.0 / np.sqrt(bins)
    wave = np.sum(
        [
            a * np.sin(2 * np.pi * k / length_s * t_s + p)
            for a, k, p in zip(amplitude, bins, rng.uniform(0, 6.28, bins.size), strict=True)
        ],
        axis=0,
    )
    setpoint = np.zeros((3, n + n_settle))
    setpoint[axis] = wave
    sticks = Sticks(
        stick=np.zeros_like(setpoint), throttle=np.full(n + n_settle, throttle), is_on_ground=np.zeros(n + n_settle, bool)
    )
    traits = replace(traits or Traits(), d_boost_ratio=0.0)
    world = World(seed=1, wind_m_s=0.0, wash_ratio=0.0, log_rate_hz=rate_hz, traits=traits)
    plain = replace(controller, setpoint=())

    def flown(charge_ratio: float) -> SimulatedFlight:
        own = replace(world, pack_charge_ratio=charge_ratio)
        return fly_sticks(craft, plain, own, airframe=still, sticks=sticks, setpoint_dps=setpoint, rng=rng)

    flight = flown(world.pack_charge_ratio)
    if voltage_v is not None:  # as empty as it was then: what the craft answers goes with the square of the voltage
        over_v = float(flight.channels["battery_voltage"][n_settle:].mean()) - voltage_v
        whole_v = (_CELL_FULL_V - _CELL_EMPTY_V) * still.cells
        flight = flown(min(1.0, max(0.1, world.pack_charge_ratio - over_v / whole_v)))
    part = {role: np.fft.rfft(values[n_settle:])[bins] for role, values in flight.channels.items() if role.endswith(AXES[axis])}
    frequency_hz = bins / length_s
    setpoint_part, gyro_part = part[f"setpoint.{AXES[axis]}"], part[f"gyro.{AXES[axis]}"]
    terms = {term: part[f"term_{term}.{AXES[axis]}"] for term in "pidf"}
    error = setpoint_part - gyro_part
    through_d = terms["d"] / error if traits.is_d_on_error else -terms["d"] / gyro_part
    feedback = (terms["p"] + terms["i"]) / error + through_d
    return frequency_hz, gyro_part / sum(terms.values()) * feedback, gyro_part / setpoint_part


def throttle_of_the_movement(recording: Recording, axis: str, mixer: FloatArray) -> float:
    return of_the_movement(recording, "throttle", axis, mixer)


def of_the_movement(recording: Recording, role: str, axis: str, mixer: FloatArray) -> float:
    """Mean of a channel where the axis may be judged, weighted by how much the set-point moved."""
    usable, _ = usable_mask(recording, axis, mixer=mixer)
    moved = np.abs(np.gradient(recording.channels[f"setpoint.{axis}"])) * usable
    return float((recording.channels[role] * moved).sum() / moved.sum())
