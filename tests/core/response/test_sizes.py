"""Small and large stick movements."""

from dataclasses import replace

import numpy as np
import pytest
import scipy.signal

from nembrit.core.records.log import Recording
from nembrit.core.response.sizes import StepsBySize, steps_by_size

RATE_HZ = 500.0


def flight(*, limit_dps: float | None, asks_dps: tuple[float, float] = (40.0, 250.0)) -> Recording:
    """A second-order loop, twenty seconds of small movements and twenty of large ones; what it may answer is limited."""
    rng = np.random.default_rng(3)
    n = round(20 * RATE_HZ)
    sos = scipy.signal.butter(2, 4.0, fs=RATE_HZ, output="sos")
    asked = np.concatenate([size * scipy.signal.sosfilt(sos, rng.normal(size=n)) * 4 for size in asks_dps])
    w, damping = 2 * np.pi * 7.0, 0.75
    rate, change, answered = 0.0, 0.0, np.empty(asked.size)
    for k, wanted in enumerate(asked):
        push = w**2 * (wanted - rate) - 2 * damping * w * change
        if limit_dps is not None:  # how fast the rate may change is limited
            push = float(np.clip(push, -limit_dps * w**2, limit_dps * w**2))
        change += push / RATE_HZ
        rate += change / RATE_HZ
        answered[k] = rate
    answered += rng.normal(0, 0.5, answered.size)
    return Recording.of({"setpoint.roll": asked, "gyro.roll": answered}, sample_rate_hz=RATE_HZ)


def told(part: Recording) -> StepsBySize | None:
    return steps_by_size(part, "roll", np.ones(part.n_samples, bool))


def test_a_linear_loop_answers_both_alike() -> None:
    found = told(flight(limit_dps=None))
    assert found is not None
    assert found.small is not None
    assert found.large is not None
    # damping 0.75: exp(−π ζ / √(1 − ζ²)) = 2.8 % (textbook second order)
    for step in (found.small, found.large):
        assert step.overshoot_interval[0] <= 0.028 <= step.overshoot_interval[1]
    assert found.differ == ""
    assert 20 < found.limit_dps < 250


def test_a_limit_shows_in_large_movements_only() -> None:
    found = told(flight(limit_dps=60.0))
    assert found is not None
    assert found.differ == "large"
    assert found.small is not None
    assert found.small.overshoot_interval[0] <= 0.028 <= found.small.overshoot_interval[1]


@pytest.mark.parametrize(
    ("asks", "seconds", "lacking"), [((22.0, 22.0), 40, ["small"]), ((90.0, 90.0), 9, ["small", "large"]), ((90.0, 90.0), 40, [])]
)
def test_what_was_not_flown_is_named(asks: tuple[float, float], seconds: float, lacking: list[str]) -> None:
    part = flight(limit_dps=None, asks_dps=asks)
    found = steps_by_size(part, "roll", np.arange(part.n_samples) < seconds * RATE_HZ)
    assert found is not None
    assert [reason.split(" ")[0] for reason in found.reasons] == lacking
    assert [step is None for step in (found.small, found.large)] == ["small" in lacking, "large" in lacking]


def test_without_movement_there_is_nothing_to_part() -> None:
    part = flight(limit_dps=None)
    still = replace(part, channels=part.channels | {"setpoint.roll": np.zeros(part.n_samples)})
    assert told(still) is None


@pytest.mark.parametrize(
    ("small", "large", "differ"),
    [((0.0, 0.05), (0.06, 0.1), "large"), ((0.0, 0.05), (0.05, 0.1), ""), ((0.11, 0.2), (0.06, 0.1), "small")],
)
def test_only_intervals_that_do_not_touch_differ(small: tuple[float, float], large: tuple[float, float], differ: str) -> None:
    found = told(flight(limit_dps=None))
    assert found is not None
    assert found.small is not None
    one, other = (replace(found.small, overshoot_interval=pair) for pair in (small, large))
    assert replace(found, small=one, large=other).differ == differ
