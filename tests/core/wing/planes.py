"""A plane that follows four legs, for tests: bank against a pull, swings, wind, a tilted horizon, and what its sensors add.

Kinematics alone, written apart from the analyses: the air course turns by g tan(true bank)/V plus the pull of a mis-trim.
"""

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.setup.craft import Surface

RATE_HZ = 50.0
SURFACES = (
    Surface(servo=1, role="aileron", direction=1), Surface(servo=2, role="aileron", direction=1),
    Surface(servo=3, role="v_tail_left", direction=1), Surface(servo=4, role="v_tail_right", direction=-1),
)  # fmt: skip


def followed(
    seed: int, *, pull_deg_s: float = 0.0, tilt_deg: float = 0.0, gain: float = 1.2, wind: tuple[float, float] = (0.0, 0.0),
    gusts_m_s: float = 0.6, airspeed_m_s: float = 14.0, leg_s: float = 40.0, n_legs: int = 4,
) -> Recording:  # fmt: skip
    """Follow legs at 0°, 90°, 180°, 270° course; a gain of 6 swings by itself."""
    rng = np.random.default_rng(seed)
    n = int(n_legs * leg_s * RATE_HZ)
    dt = 1 / RATE_HZ
    course, bank, wanted_bank = 0.0, 0.0, 0.0
    gust = np.zeros(2)
    horizon = 0.0
    keep = np.exp(-dt / 2.0)
    out = np.zeros((n, 6))
    for k in range(n):
        target = np.radians(90.0 * int(k / (leg_s * RATE_HZ)))
        gust = keep * gust + gusts_m_s * np.sqrt(1 - keep**2) * rng.standard_normal(2)
        horizon = 0.9995 * horizon + 0.4 * np.sqrt(1 - 0.9995**2) * rng.standard_normal()
        ground = np.array([np.cos(course), np.sin(course)]) * airspeed_m_s + np.array(wind) + gust
        error = (target - np.arctan2(ground[1], ground[0]) + np.pi) % (2 * np.pi) - np.pi
        wanted_bank += (np.clip(gain * error, -0.6, 0.6) - wanted_bank) * dt / 0.35
        bank += (wanted_bank - np.radians(tilt_deg) - bank) * dt / 0.35  # the controller holds what it believes
        course += (9.80665 * np.tan(bank) / airspeed_m_s + np.radians(pull_deg_s)) * dt
        out[k] = (
            np.hypot(*ground), np.degrees(np.arctan2(ground[1], ground[0])) % 360,
            np.degrees(bank) + tilt_deg + horizon, airspeed_m_s + 0.3 * gust[0], np.degrees(error), 0.0,
        )  # fmt: skip
    noise = 0.1 * rng.standard_normal(n)
    channels = {
        "ground_speed": out[:, 0] + noise, "course": out[:, 1], "attitude.roll": out[:, 2], "airspeed": out[:, 3],
        "stick.roll": np.zeros(n), "stick.pitch": np.zeros(n), "throttle": np.full(n, 0.5),
    }  # fmt: skip
    return Recording.of(channels, sample_rate_hz=RATE_HZ)


def hands_off(
    seed: int, *, trims_us: tuple[float, float, float] = (0.0, 0.0, 0.0), seconds: float = 40.0, creep_deg_s: float = 0.0,
    gusts_us: float = 12.0, airspeed_m_s: float = 13.0,
) -> Recording:  # fmt: skip
    """Level flight with the sticks let go, servos of a V-tail standing at roll, pitch and yaw trims; then lively sticks."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE_HZ)
    lively = int(20 * RATE_HZ)
    keep = np.exp(-1 / (0.8 * RATE_HZ))
    shaking = np.zeros((n + lively, 3))
    for k in range(1, n + lively):
        shaking[k] = keep * shaking[k - 1] + gusts_us * np.sqrt(1 - keep**2) * rng.standard_normal(3)
    sticks = np.zeros((n + lively, 3))
    sticks[n:] = np.sign(np.sin(2 * np.pi * np.outer(np.arange(lively) / RATE_HZ, (0.31, 0.23, 0.17)))) * 0.6
    rates = sticks * 80.0
    roll, pitch, yaw = (np.array(trims_us) + shaking + 1.2 * rates).T
    channels = {
        "servo.1": 1500 + roll, "servo.2": 1500 + roll, "servo.3": 1500 + pitch + yaw, "servo.4": 1500 - (pitch - yaw),
        "attitude.roll": 0.4 * rng.standard_normal(n + lively), "throttle": np.full(n + lively, 0.45),
        "airspeed": np.full(n + lively, airspeed_m_s),
        "ground_speed": np.full(n + lively, airspeed_m_s) + 0.1 * rng.standard_normal(n + lively),
        "course": (creep_deg_s * np.arange(n + lively) / RATE_HZ + 0.3 * rng.standard_normal(n + lively)) % 360,
    }  # fmt: skip
    for place, axis in enumerate(("roll", "pitch", "yaw")):
        channels |= {f"stick.{axis}": sticks[:, place], f"setpoint.{axis}": rates[:, place],
                     f"gyro.{axis}": rates[:, place] + rng.standard_normal(n + lively)}  # fmt: skip
    return Recording.of(channels, sample_rate_hz=RATE_HZ)


def gain_holds(lengths_s: list[float], gains: list[float], *, ratio: float = 1.0) -> Recording:
    """Full holds to either side in turn, each followed by a second with the stick let go; the gain changes after each."""
    stick, gain = [np.zeros(50)], [np.full(50, gains[0])]
    for place, seconds in enumerate(lengths_s):
        n = int(seconds * RATE_HZ)
        stick += [np.full(n, 1.0 if place % 2 else -1.0), np.zeros(50)]
        gain += [np.full(n, gains[max(place - 1, 0)]), np.full(50, gains[place])]
    sticks = np.concatenate(stick)
    return Recording.of(
        {
            "stick.roll": sticks,
            "setpoint.roll": 90 * sticks,
            "gyro.roll": 90 * ratio * sticks,
            "gain.roll.f": np.concatenate(gain),
        },
        sample_rate_hz=RATE_HZ,
    )
