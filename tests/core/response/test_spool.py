"""Motors that answer late at zero throttle: first-order lags of our own making, no simulator behind them."""

import numpy as np
import pytest

from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.response.spool import spool_ratio

RATE_HZ = 1000.0
FLOATS = (Span(kind="zero_throttle", start_s=10.0, end_s=12.0), Span(kind="zero_throttle", start_s=20.0, end_s=22.0))


def flight(lag_at_idle: float, *, rate_hz: float = RATE_HZ, idle: float = 0.03, noise: float = 0.0, seed: int = 4) -> Recording:
    """Four motors, 30 s: speed follows 400 turns a second × command, 20 ms late, and `lag_at_idle` times that in a float."""
    rng, n = np.random.default_rng(seed), round(30 * rate_hz)
    t_s = np.arange(n) / rate_hz
    is_float = np.any([(t_s >= span.start_s) & (t_s < span.end_s) for span in FLOATS], axis=0)
    channels = {}
    for motor in range(1, 5):
        moves = np.repeat(rng.normal(0, 1, n // 20 + 1), 20)[:n]
        command = np.where(is_float, idle * (1 + 1.5 * np.abs(moves)), 0.45 + 0.05 * moves)
        speed, now = np.empty(n), 0.45
        for k in range(n):
            lag_s = 0.02 * (lag_at_idle if is_float[k] and now < 0.2 else 1.0)
            now += (command[k] - now) / (lag_s * rate_hz)
            speed[k] = now
        channels[f"motor.{motor}"] = command
        channels[f"motor_rpm.{motor}"] = 60 * 400 * (speed + noise * idle * rng.normal(0, 1, n))
    return Recording.of(channels, sample_rate_hz=rate_hz)


@pytest.mark.parametrize("rate_hz", [500.0, 1000.0])
@pytest.mark.parametrize("times", [1.0, 2.0, 4.0])
@pytest.mark.parametrize("n_floats", [1, 2])
def test_the_ratio_is_what_was_made(times: float, rate_hz: float, n_floats: int) -> None:
    """Or a little less: the slow lag is taken two standard errors towards fast."""
    found = spool_ratio(flight(times, rate_hz=rate_hz), FLOATS[:n_floats])
    assert found
    assert 0.6 * times < found < 1.1 * times


def test_noise_never_makes_a_sound_motor_look_slow() -> None:
    assert all((spool_ratio(flight(1.0, noise=0.2, seed=seed), FLOATS) or 0) < 1.3 for seed in range(4))


@pytest.mark.parametrize(
    ("spans", "without", "rate_hz"),
    [
        ((), "", RATE_HZ),
        (tuple(Span(kind="zero_throttle", start_s=s, end_s=s + 0.2) for s in (10.0, 20.0)), "", RATE_HZ),
        (FLOATS, "motor_rpm.3", RATE_HZ),
        (FLOATS, "motor", RATE_HZ),
        (FLOATS, "", 200.0),
    ],
    ids=["no floats", "short floats", "a motor without speed", "no commands", "slow log"],
)
def test_what_cannot_be_judged_is_not(spans: tuple[Span, ...], without: str, rate_hz: float) -> None:
    whole = flight(3.0, rate_hz=rate_hz)
    channels = {role: values for role, values in whole.channels.items() if not without or not role.startswith(f"{without}")}
    if without == "motor":
        channels["gyro.roll"] = np.zeros(whole.n_samples)
    assert spool_ratio(Recording.of(channels, sample_rate_hz=rate_hz), spans) is None


def test_a_motor_that_stands_still_tells_nothing() -> None:
    channels = {f"motor{kind}.{n}": np.zeros(30_000) for n in range(1, 5) for kind in ("", "_rpm")}
    assert spool_ratio(Recording.of(channels, sample_rate_hz=RATE_HZ), FLOATS) is None
