"""The closed loop, one pass over time, compiled: rigid-body rates, motors, gyro, controller.

Numbers only: `flight.py` prepares them and gives them their names back. The compiled functions carry no
type hints, since numba works out its own from what it is called with.
"""

from typing import Any, NamedTuple

import numpy as np
from numba import njit


class Plant(NamedTuple):
    """Physics for the kernel; rates in deg/s, speeds as shares of the top speed."""

    mixer: Any  # (n_motors, 3)
    authority_dps2: Any  # (3,) per unit of Σ mixer × thrust / Σ mixer²
    damping_per_s: Any  # (3,)
    yaw_zero_s: float
    lag_up_s: float
    lag_down_s: float
    n_delay: int
    curve: float
    rotor_top_hz: float
    hover_thrust: float
    blades: int
    line_dps: float
    blade_line_dps: float
    imbalance: Any  # (n_motors,)
    resonator: Any  # (3, 6) biquad of the frame, per axis
    resonance_gain: Any  # (3,)
    broadband_dps: float
    gyro_sigma_dps: float
    gyro_step_dps: float
    balance_offset: Any  # (3,)
    mount_hz: float
    mount_damping: float
    mount_loose: float  # 0: rigid
    v_full: float
    v_empty: float
    resistance_ohm: float
    full_current_a: float
    capacity_as: float
    wind_dps2: float
    wash_dps2: float
    bearing_motor: int  # counted from 0; -1: all bearings are sound
    bearing_dps: float
    spike_axis: int  # -1: none
    spike_dps: float
    spike_jump: float  # sudden change of a motor command (within 5 ms) that may bring a spike
    axis_noise: Any  # (3,) factor on the gyro's own noise
    stall_speed: float  # share of the top speed
    second_sigma_dps: float  # noise of a second gyro on another board; negative: there is none
    second_resonance: float  # share of the frame's ringing that reaches its place
    line_power: float  # of speed, in a line's rate
    bearing_power: float
    bearing_modulation: float  # share by which a bearing's noise rises and falls once per turn
    spike_alone: float  # standard deviations of chance from which a spike comes without a jump
    gust_s: float
    stall_lag: float
    colour_share: float  # of the slow part of the gyro's own noise, a loop
    colour_gain: float
    arm_axis: int  # -1: all arms are sound
    arm_hz: float
    arm_softening: float  # share of its frequency that a loose arm loses from hover to three times its thrust
    arm_loose: float


class Loop(NamedTuple):
    """The controller for the kernel."""

    kp: Any
    ki: Any
    kd: Any
    kf: Any
    chip: Any  # (n, 6) second-order sections
    gyro: Any
    d_term: Any
    feed_forward: Any
    rotor_orders: Any
    rotor_q: float
    rotor_lowest_hz: float
    rotor_blend_hz: float
    output_limit: float
    integral_limit: float
    idle: float
    n_hold: int  # motors are updated every so many loops
    p_filter: Any  # (n, 6) second-order sections on the error that P sees
    is_d_on_error: bool
    relax_dps: float  # |set-point less its low-pass| at which I holds still; 0: never
    relax_share: float  # of the low-pass at relax_hz, a loop
    boost: float  # D grows by this share ...
    boost_dps2: float  # ... in moves whose set-point turns so fast
    throttle_cut: float  # share of P and D that is gone at full throttle, from middle throttle on
    volts_power: float  # gains go with (full voltage / voltage) to this power


@njit(cache=True)
def _filter(sos, state, x):
    """Transposed direct form II through all sections; `state` is (n_sections, 2)."""
    for s in range(sos.shape[0]):
        y = sos[s, 0] * x + state[s, 0]
        state[s, 0] = sos[s, 1] * x - sos[s, 4] * y + state[s, 1]
        state[s, 1] = sos[s, 2] * x - sos[s, 5] * y
        x = y
    return x


@njit(cache=True)
def _rotor_notches(loop, state, speed_hz, rate_hz, x):
    """Notches that follow each motor's turning, faded in above the lowest frequency; `state` (orders, motors, 4).

    In direct form I, whose past inputs and outputs stay true when the centre moves: other forms kick at every change.
    """
    for k in range(loop.rotor_orders.size):
        for m in range(speed_hz.size):
            centre_hz = loop.rotor_orders[k] * speed_hz[m]
            weight = min(1.0, max(0.0, (centre_hz - loop.rotor_lowest_hz) / max(1.0, loop.rotor_blend_hz)))
            if weight == 0.0 or centre_hz > 0.45 * rate_hz:
                state[k, m, :] = x
                continue
            w0 = 2 * np.pi * centre_hz / rate_hz
            alpha = np.sin(w0) / (2 * loop.rotor_q)
            b1 = -2 * np.cos(w0) / (1 + alpha)
            b0 = 1 / (1 + alpha)
            a2 = (1 - alpha) / (1 + alpha)
            y = b0 * (x + state[k, m, 1]) + b1 * (state[k, m, 0] - state[k, m, 2]) - a2 * state[k, m, 3]
            state[k, m, 1] = state[k, m, 0]
            state[k, m, 0] = x
            state[k, m, 3] = state[k, m, 2]
            state[k, m, 2] = y
            x = weight * y + (1 - weight) * x
    return x


@njit(cache=True)
def run(plant, loop, setpoint, throttle, on_ground, charge_start, noise, extra, rate_hz, n_log):
    """Fly the loop over set-points (3, n) and throttle (n,); every `n_log`-th sample is kept.

    `noise` is (n, 10) standard normal: gyro 0-2, disturbance 3-5, broadband 6-8, rattle 9. `extra` is (n, 5):
    bearing, spikes, second gyro 2-4; (1, 5) where no fault needs it. Returns an array (n_kept, 30) in the order of
    `flight.COLUMNS` with the second gyro at its end, then motor commands and rpm, each (n_kept, n_motors).
    """
    n = throttle.size
    n_motors = plant.mixer.shape[0]
    dt = 1.0 / rate_hz
    n_kept = (n + n_log - 1) // n_log
    out = np.zeros((n_kept, 30))
    out_motor = np.zeros((n_kept, n_motors))
    out_rpm = np.zeros((n_kept, n_motors))

    mix_square = np.zeros(3)
    for a in range(3):
        for m in range(n_motors):
            mix_square[a] += plant.mixer[m, a] ** 2
    rate = np.zeros(3)
    gust = np.zeros(3)
    wash_1 = np.zeros(3)
    wash_2 = np.zeros(3)
    speed = np.zeros(n_motors)
    speed_hz = np.zeros(n_motors)
    phase = np.zeros(n_motors)
    for m in range(n_motors):
        phase[m] = 2.399963 * m
    command_ring = np.zeros((plant.n_delay + 1, n_motors))
    motor = np.zeros(n_motors)
    integral = np.zeros(3)
    applied = np.zeros(3)
    last_d = np.zeros(3)
    last_setpoint = setpoint[:, 0].copy()
    mount_x = np.zeros(3)
    mount_v = np.zeros(3)
    arm_x, arm_v = 0.0, 0.0
    coloured = np.zeros(3)
    resonator_state = np.zeros((3, 1, 2))
    second_chip = np.zeros((3, loop.chip.shape[0], 2))
    second = np.zeros(3)
    last_motor = np.zeros(n_motors)
    rough_before = 0.0
    spike_left = 0
    spike_wait = 0
    spike_size = 0.0
    chip_state = np.zeros((3, loop.chip.shape[0], 2))
    gyro_state = np.zeros((3, loop.gyro.shape[0], 2))
    rotor_state = np.zeros((3, loop.rotor_orders.size, n_motors, 4))
    d_state = np.zeros((3, loop.d_term.shape[0], 2))
    f_state = np.zeros((3, loop.feed_forward.shape[0], 2))
    p_state = np.zeros((3, loop.p_filter.shape[0], 2))
    slow_setpoint = setpoint[:, 0].copy()
    boosted = np.zeros(3)
    raw = np.zeros(3)
    filtered = np.zeros(3)
    p_term = np.zeros(3)
    d_term = np.zeros(3)
    f_term = np.zeros(3)
    charge = charge_start
    climb = 0.0
    is_saturated = False

    for k in range(n):
        # pack: voltage sags with the current, the current goes with speed cubed
        power = 0.0
        for m in range(n_motors):
            power += speed[m] ** 3
        current = 0.5 + plant.full_current_a * power / n_motors
        charge = max(0.0, charge - current * dt / plant.capacity_as)
        voltage = plant.v_empty + (plant.v_full - plant.v_empty) * charge - plant.resistance_ohm * current
        pressure = voltage / plant.v_full

        # motors: transport delay, thrust curve, lag that is longer on slowing down
        slot = k % (plant.n_delay + 1)
        for m in range(n_motors):
            command_ring[slot, m] = motor[m]
        delayed = (k + 1) % (plant.n_delay + 1)
        thrust_sum = 0.0
        torque = np.zeros(3)
        for m in range(n_motors):
            target = pressure * command_ring[delayed, m] ** plant.curve
            lag = plant.lag_up_s if target > speed[m] else plant.lag_down_s
            if speed[m] < plant.stall_speed:  # a propeller that hardly turns grips late and unevenly
                lag *= 1 + plant.stall_lag * (1 - speed[m] / plant.stall_speed)
            step = (1 - np.exp(-dt / lag)) * (target - speed[m])
            old_thrust = speed[m] ** 2
            speed[m] += step
            thrust = speed[m] ** 2
            thrust_sum += thrust
            speed_hz[m] = speed[m] * plant.rotor_top_hz
            phase[m] += 2 * np.pi * speed_hz[m] * dt
            torque[0] += plant.mixer[m, 0] * thrust
            torque[1] += plant.mixer[m, 1] * thrust
            torque[2] += plant.mixer[m, 2] * (thrust + plant.yaw_zero_s * (thrust - old_thrust) / dt)
        thrust_mean = thrust_sum / n_motors

        # air: gusts, and the craft's own wash while it sinks under power
        climb += dt * (9.81 * (thrust_mean / plant.hover_thrust - 1) - 1.6 * climb)
        sinking = min(1.0, max(0.0, (-climb - 0.8) / 2.0)) * min(1.0, thrust_mean / (0.3 * plant.hover_thrust))
        rough = 0.0
        if plant.bearing_motor >= 0:  # rough noise of a worn bearing: beyond the ordinary lines, once per turn stronger
            m = plant.bearing_motor
            beat = 1 + plant.bearing_modulation * np.sin(phase[m])
            rough = plant.bearing_dps * speed[m] ** plant.bearing_power * beat * (extra[k, 0] - rough_before)
            rough_before = extra[k, 0]
        if spike_left > 0:
            spike_left -= 1
        for a in range(3):
            gust[a] += dt * (-gust[a] / plant.gust_s) + np.sqrt(2 * dt / plant.gust_s) * noise[k, 3 + a]
            drive = sinking * noise[k, 3 + a] * np.sqrt(rate_hz)
            wash_1[a] += dt * 2 * np.pi * 12.0 * (drive - wash_1[a])
            wash_2[a] += dt * 2 * np.pi * 3.0 * (wash_1[a] - wash_2[a])
            share = 1.0 if a < 2 else 0.3
            push = share * (plant.wind_dps2 * gust[a] + plant.wash_dps2 * 0.13 * (wash_1[a] - wash_2[a]))
            push += plant.authority_dps2[a] * (torque[a] / mix_square[a] + plant.balance_offset[a] * thrust_mean)
            acceleration = push - plant.damping_per_s[a] * rate[a]
            if on_ground[k]:
                rate[a] *= 0.9
                acceleration = 0.0
            rate[a] += dt * acceleration

            # what the gyro sees: body rate, frame and rotor shake, the mount's own movement, noise
            shake = plant.broadband_dps * thrust_mean * noise[k, 6 + a]
            seen = rate[a]
            lines = 0.0
            for m in range(n_motors):
                way = 0.5 + 0.5 * abs(plant.mixer[m, a]) if a < 2 else 0.35  # force at the hub, thrust at the arm
                size = plant.imbalance[m] * plant.line_dps * speed[m] ** plant.line_power
                lines += way * size * (np.sin(phase[m] + 1.57 * a) + 0.25 * np.sin(2 * phase[m] + a))
                lines += way * plant.blade_line_dps * speed[m] ** plant.line_power * np.sin(plant.blades * phase[m] + a)
            ringing = _filter(plant.resonator[a : a + 1], resonator_state[a], shake + 0.15 * lines)
            if plant.bearing_motor >= 0:
                way = 0.5 + 0.5 * abs(plant.mixer[plant.bearing_motor, a]) if a < 2 else 0.35
                lines += way * rough
            rung = plant.resonance_gain[a] * ringing
            seen += shake + lines + rung
            if plant.mount_loose > 0:
                w = 2 * np.pi * plant.mount_hz
                rattle = plant.mount_loose * 9000.0 * (0.25 + thrust_mean) * noise[k, 9] * (1.0 if a < 2 else 0.35)
                pull = -acceleration - 2 * plant.mount_damping * w * mount_v[a] - w * w * mount_x[a] + rattle
                mount_v[a] += dt * pull
                mount_x[a] += dt * mount_v[a]
                seen += plant.mount_loose * mount_v[a]
            if plant.second_sigma_dps >= 0:
                other = seen - (1 - plant.second_resonance) * rung + extra[k, 2 + a] * plant.second_sigma_dps
                second[a] = _filter(loop.chip, second_chip[a], other)
            if a == plant.arm_axis:  # a loose arm bends under its motors' thrust, and grows softer with it
                w = 2 * np.pi * plant.arm_hz * (1 - plant.arm_softening * (thrust_mean / plant.hover_thrust - 1) / 2)
                bent = 9000.0 * (0.25 + thrust_mean) * noise[k, 9] + 40.0 * lines - 2 * 0.09 * w * arm_v - w * w * arm_x
                arm_v += dt * bent
                arm_x += dt * arm_v
                seen += plant.arm_loose * arm_v
            coloured[a] += plant.colour_share * (noise[k, a] - coloured[a])
            own_noise = noise[k, a] + plant.colour_gain * coloured[a]
            seen += own_noise * plant.gyro_sigma_dps * plant.axis_noise[a]
            if a == plant.spike_axis and spike_left > 0:
                seen += spike_size
            raw[a] = np.rint(_filter(loop.chip, chip_state[a], seen) / plant.gyro_step_dps) * plant.gyro_step_dps

        # controller
        throttle_now = throttle[k]
        floor = loop.idle
        scale = (1 / pressure) ** loop.volts_power
        damp = 1 - loop.throttle_cut * min(1.0, max(0.0, 2 * throttle_now - 1))
        for a in range(3):
            x = _filter(loop.gyro, gyro_state[a], raw[a])
            filtered[a] = _rotor_notches(loop, rotor_state[a], speed_hz, rate_hz, x)
            error = setpoint[a, k] - filtered[a]
            p_term[a] = scale * damp * loop.kp[a] * _filter(loop.p_filter, p_state[a], error)
            slow_setpoint[a] += loop.relax_share * (setpoint[a, k] - slow_setpoint[a])
            wound = scale * loop.ki[a] * error * dt
            if loop.relax_dps > 0:
                wound *= max(0.0, 1 - abs(setpoint[a, k] - slow_setpoint[a]) / loop.relax_dps)
            if not is_saturated or integral[a] * error < 0:
                integral[a] += wound
            integral[a] = min(loop.integral_limit, max(-loop.integral_limit, integral[a]))
            if on_ground[k]:
                integral[a] = 0.0
            slope = (setpoint[a, k] - last_setpoint[a]) * rate_hz
            last_setpoint[a] = setpoint[a, k]
            smooth = _filter(loop.d_term, d_state[a], -error if loop.is_d_on_error else filtered[a])
            boosted[a] += 0.02 * (abs(slope) - boosted[a])
            grown = 1 + loop.boost * min(1.0, boosted[a] / loop.boost_dps2)
            d_term[a] = -scale * damp * grown * loop.kd[a] * (smooth - last_d[a]) * rate_hz
            last_d[a] = smooth
            f_term[a] = scale * loop.kf[a] * _filter(loop.feed_forward, f_state[a], slope)
            total = p_term[a] + integral[a] + d_term[a] + f_term[a]
            applied[a] = min(loop.output_limit, max(-loop.output_limit, total))
        if k % loop.n_hold == 0:
            is_saturated = _mix(plant.mixer, applied, floor + (1 - floor) * throttle_now, floor, motor)
            if on_ground[k] and throttle_now < 0.02:
                for m in range(n_motors):
                    motor[m] = 0.0
            if plant.spike_axis >= 0:
                jump = 0.0
                for m in range(n_motors):
                    jump = max(jump, abs(motor[m] - last_motor[m]))
                    last_motor[m] += (1 - np.exp(-loop.n_hold / (0.005 * rate_hz))) * (motor[m] - last_motor[m])
                if spike_wait > 0:
                    spike_wait -= loop.n_hold
                elif (jump > plant.spike_jump and abs(extra[k, 1]) > 0.8) or abs(extra[k, 1]) > plant.spike_alone:
                    spike_wait = int(0.15 * rate_hz)  # a spike moves the motors itself: that must not bring the next one
                    spike_left = 3
                    spike_size = plant.spike_dps * (0.5 + abs(extra[k, 1])) * (1.0 if extra[k, 1] > 0 else -1.0)

        if k % n_log == 0:
            row = k // n_log
            for a in range(3):
                out[row, a] = raw[a]
                out[row, 3 + a] = filtered[a]
                out[row, 6 + a] = p_term[a]
                out[row, 9 + a] = integral[a]
                out[row, 12 + a] = d_term[a]
                out[row, 15 + a] = f_term[a]
                out[row, 18 + a] = p_term[a] + integral[a] + d_term[a] + f_term[a]
            out[row, 21] = voltage
            out[row, 22] = current
            vibration = 0.0
            for m in range(n_motors):
                vibration += plant.imbalance[m] * 0.7 * speed[m] ** 2 * np.sin(phase[m])
            loose = 1 + 2.5 * plant.mount_loose
            out[row, 23] = loose * (0.6 * vibration + 0.8 * thrust_mean * noise[k, 6])
            out[row, 24] = loose * (0.5 * vibration + 0.8 * thrust_mean * noise[k, 7])
            out[row, 25] = 9.81 * thrust_mean / plant.hover_thrust + loose * (0.9 * vibration + 1.1 * thrust_mean * noise[k, 8])
            out[row, 26] = throttle_now
            for a in range(3):
                out[row, 27 + a] = second[a]
            for m in range(n_motors):
                out_motor[row, m] = motor[m]
                out_rpm[row, m] = speed_hz[m] * 60
    return out, out_motor, out_rpm


@njit(cache=True)
def _mix(mixer, applied, base, floor, motor):
    """Mixed motor commands, written into `motor`; shifted, then scaled, into what motors can give.

    Returns whether authority was lost. Shifting before scaling keeps attitude control at low throttle.
    """
    low, high = 1e9, -1e9
    for m in range(mixer.shape[0]):
        motor[m] = mixer[m, 0] * applied[0] + mixer[m, 1] * applied[1] + mixer[m, 2] * applied[2]
        low = min(low, motor[m])
        high = max(high, motor[m])
    scale = min(1.0, (1.0 - floor) / max(1e-9, high - low))
    level = min(max(base, floor - scale * low), 1.0 - scale * high)
    for m in range(mixer.shape[0]):
        motor[m] = level + scale * motor[m]
    return scale < 1.0
