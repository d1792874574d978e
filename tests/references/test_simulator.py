"""The simulator's small-signal loop against a control-systems library: same gains, same filters, same plant."""

from dataclasses import replace

import control
import numpy as np
import pytest

from nembrit.core.setup.controller import Controller
from nembrit.core.simulate.airframe import THRUST_CURVE_EXPONENT, World, airframe_of
from nembrit.core.simulate.flight import _sections, fly_sticks
from nembrit.core.simulate.pilot import Sticks
from nembrit.core.types import AXES
from tests.flying import HEX, controller

RATE_HZ = 4000.0
SILENT = replace(
    airframe_of(HEX),
    gyro_density_dps_rthz=0.0,
    gyro_step_dps=1e-6,
    line_dps=0.0,
    blade_line_dps=0.0,
    broadband_dps=0.0,
    balance_offset=(0.0, 0.0),
    motor_lag_asymmetry_ratio=0.0,
    pack_resistance_ohm=0.0,
    pack_capacity_ah=1e9,
)


def simulated_step(axis: int, flown: Controller, size_dps: float) -> np.ndarray:
    """Gyro as a share of a small step of the set-point, from the step on."""
    n, at = int(1.3 * RATE_HZ), int(0.8 * RATE_HZ)
    setpoint = np.zeros((3, n))
    setpoint[axis, at:] = size_dps
    sticks = Sticks(stick=np.zeros((3, n)), throttle=np.full(n, SILENT.hover_throttle), is_on_ground=np.zeros(n, bool))
    world = World(wind_m_s=0.0, wash_ratio=0.0, log_rate_hz=RATE_HZ, pack_charge_ratio=1.0)
    flight = fly_sticks(HEX, flown, world, airframe=SILENT, sticks=sticks, setpoint_dps=setpoint, rng=np.random.default_rng(1))
    return flight.channels[f"gyro.{AXES[axis]}"][at:] / size_dps


def part(numerator: list[float] | np.ndarray, denominator: list[float] | np.ndarray, dt: float) -> control.StateSpace:
    """One section in state-space form: products of transfer functions lose their digits near z = 1."""
    return control.ss(control.tf(numerator, denominator, dt))


def discrete(sos: np.ndarray) -> control.StateSpace:
    found = part([1.0], [1.0], 1 / RATE_HZ)
    for row in sos:
        found = found * part(row[:3], row[3:], 1 / RATE_HZ)
    return found


def library_step(axis: int, flown: Controller) -> np.ndarray:
    """The same loop from its linearised parts: thrust curve at hover, motor lag and delay, body rate, filters."""
    dt = 1 / RATE_HZ
    hover = flown.idle + (1 - flown.idle) * SILENT.hover_throttle
    k = THRUST_CURVE_EXPONENT
    slope = 2 * k * hover ** (2 * k - 1)  # d thrust / d command
    lag = 1 - np.exp(-dt / SILENT.motor_lag_s)
    motor = part([lag, 0], [1, -(1 - lag)], dt)
    body = part([dt, 0], [1, -(1 - dt * SILENT.damping_per_s[axis])], dt) * SILENT.authority_dps2[axis] * slope
    if axis == 2:  # reaction torque of motors that speed up
        body = body * part([1 + SILENT.yaw_zero_s / dt, -SILENT.yaw_zero_s / dt], [1, 0], dt)
    n_delay = round(SILENT.motor_delay_s * RATE_HZ)
    delay = part([1.0], [1.0] + [0.0] * n_delay, dt)
    plant = motor * body * delay
    seen = discrete(_sections(flown.chip, RATE_HZ)) * discrete(_sections(flown.gyro, RATE_HZ))
    smooth = discrete(_sections(flown.d_term, RATE_HZ))
    gain = flown.gains[AXES[axis]]
    slope_of = part([1, -1], [dt, 0], dt)
    forward = gain.p + gain.i * part([dt, 0], [1, -1], dt)
    back = forward + gain.d * smooth * slope_of
    loop = (
        control.minreal(control.feedback(plant, seen * back), 1e-7, verbose=False)
        if False
        else control.feedback(plant, seen * back)
    )
    whole = (forward + gain.f * slope_of) * loop * seen
    t_s = np.arange(int(0.5 * RATE_HZ)) * dt
    return np.asarray(control.step_response(whole, T=t_s)[1])


@pytest.mark.parametrize("axis", [0, 1, 2])
@pytest.mark.parametrize("changes", [{}, {"d_on_roll": "60", "p_on_pitch": "80"}, {"smooth_gyro_hz": "90"}])
def test_small_steps_follow_the_linear_loop(axis: int, changes: dict[str, str]) -> None:
    flown = controller(f_on_roll="0", f_on_pitch="0", **changes)  # without feed-forward a step stays small
    simulated, expected = simulated_step(axis, flown, 8.0), library_step(axis, flown)
    # two decimals in the log, and a thrust curve that bends by about 1 % over such a step
    np.testing.assert_allclose(simulated[: expected.size], expected, atol=0.006)
