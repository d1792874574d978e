"""Six degrees of freedom of a small plane, compiled: forces and moments from derivatives, with a stall, thrust and torque.

Body axes (x ahead, y right, z down), Euler angles; the plane never stands on its nose. Source of the equations: Stevens and
Lewis, Aircraft Control and Simulation (rigid-body equations, derivatives); Beard and McLain, Small Unmanned Aircraft (blending
into the stall). The compiled function carries no type hints, since numba works out its own.
"""

import math

import numpy as np
from numba import njit

from nembrit.core.simulate.plane.airframe import AIR_KG_M3, G_M_S2

_STALL_SHARP = 30.0


@njit(cache=True)
def advance(x, aileron, elevator, rudder, throttle, air_north, air_east, air_up, roll_gust, a, dt):
    """Move a state of twelve by `dt` in place; gives airspeed and velocity to north, east and up [m/s], angle of attack [rad].

    `aileron`, `elevator`, `rudder`: shares of full; `air_north` and so on: the air's own velocity [m/s]; `roll_gust`: rolling of
    the air itself [rad/s]; `a`: an `Airframe`.
    """
    sf, cf, st, ct, sp, cp = (
        math.sin(x[6]), math.cos(x[6]), math.sin(x[7]), math.cos(x[7]), math.sin(x[8]), math.cos(x[8]),
    )  # fmt: skip
    # rows: body axes in the world (north, east, down)
    turn = np.array(
        (
            (ct * cp, ct * sp, -st),
            (sf * st * cp - cf * sp, sf * st * sp + cf * cp, sf * ct),
            (cf * st * cp + sf * sp, cf * st * sp - sf * cp, cf * ct),
        )
    )
    u = x[0] - (turn[0, 0] * air_north + turn[0, 1] * air_east - turn[0, 2] * air_up)
    v = x[1] - (turn[1, 0] * air_north + turn[1, 1] * air_east - turn[1, 2] * air_up)
    w = x[2] - (turn[2, 0] * air_north + turn[2, 1] * air_east - turn[2, 2] * air_up)
    speed = max(1.0, math.sqrt(u * u + v * v + w * w))
    alpha, beta = math.atan2(w, max(u, 0.5)), math.asin(max(-1.0, min(1.0, v / speed)))
    p, q, r = x[3] - roll_gust, x[4], x[5]
    push = 0.5 * AIR_KG_M3 * speed * speed * a.area_m2
    span, chord = a.span_m / (2 * speed), a.chord_m / (2 * speed)
    # lift grows with the angle of attack until the wing stalls, then goes over into that of a flat plate
    linear = a.lift_0 + a.lift_slope * alpha
    stall = (a.lift_most - a.lift_0) / a.lift_slope
    over = 1.0 / (1.0 + math.exp(-_STALL_SHARP * (abs(alpha) - stall)))
    plate = 2 * math.copysign(1.0, alpha) * math.sin(alpha) ** 2 * math.cos(alpha)
    lift = (1 - over) * linear + over * plate
    drag = a.drag_0 + a.drag_lift * linear * linear * (1 - over) + over * 2 * math.sin(alpha) ** 2
    side = a.side_slip * beta + a.side_rudder * rudder
    thrust = max(-2.0, a.thrust_n * throttle * (throttle - speed / a.thrust_speed_m_s))
    ca, sa = math.cos(alpha), math.sin(alpha)
    fx = push * (-drag * ca + lift * sa) + thrust - a.mass_kg * G_M_S2 * st
    fy = push * side + a.mass_kg * G_M_S2 * sf * ct
    fz = push * (-drag * sa - lift * ca) + a.mass_kg * G_M_S2 * cf * ct
    authority = 1 - 0.7 * over
    stalled = over * over * over * over
    roll = a.roll_slip * beta + a.roll_damping * p * span + a.roll_yaw * r * span + a.roll_aileron * aileron * authority
    roll += a.stall_roll * stalled
    pitch = a.pitch_0 + a.pitch_slope * alpha + a.pitch_damping * q * chord + a.pitch_elevator * elevator + a.stall_nose * stalled
    yaw = a.yaw_slip * beta + a.yaw_damping * r * span + a.yaw_roll * p * span + a.yaw_rudder * rudder + a.yaw_aileron * aileron
    mx = push * a.span_m * roll - a.torque_m * thrust
    my = push * a.chord_m * pitch
    mz = push * a.span_m * yaw - thrust * a.thrust_aside_m
    du = x[5] * x[1] - x[4] * x[2] + fx / a.mass_kg
    dv = x[3] * x[2] - x[5] * x[0] + fy / a.mass_kg
    dw = x[4] * x[0] - x[3] * x[1] + fz / a.mass_kg
    dp = (mx + (a.inertia_y - a.inertia_z) * x[4] * x[5]) / a.inertia_x
    dq = (my + (a.inertia_z - a.inertia_x) * x[3] * x[5]) / a.inertia_y
    dr = (mz + (a.inertia_x - a.inertia_y) * x[3] * x[4]) / a.inertia_z
    x[0] += du * dt
    x[1] += dv * dt
    x[2] += dw * dt
    x[3] += dp * dt
    x[4] += dq * dt
    x[5] += dr * dt
    x[6] += (x[3] + (sf * x[4] + cf * x[5]) * st / ct) * dt
    x[7] = max(-1.3, min(1.3, x[7] + (cf * x[4] - sf * x[5]) * dt))
    x[8] += (sf * x[4] + cf * x[5]) / ct * dt
    north = turn[0, 0] * x[0] + turn[1, 0] * x[1] + turn[2, 0] * x[2]
    east = turn[0, 1] * x[0] + turn[1, 1] * x[1] + turn[2, 1] * x[2]
    up = -(turn[0, 2] * x[0] + turn[1, 2] * x[1] + turn[2, 2] * x[2])
    x[9] += north * dt
    x[10] += east * dt
    x[11] += up * dt
    if x[11] < 0.0:  # it slides out on its belly
        x[11] = 0.0
        for k in range(6):
            x[k] *= 1 - 1.5 * dt
        x[2] = 0.0
        x[4] = 0.0
        x[6] *= 1 - 3.0 * dt
        x[7] *= 1 - 3.0 * dt
    return speed, north, east, up, alpha
