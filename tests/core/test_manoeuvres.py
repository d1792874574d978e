"""Snap stops and wash descents on traces whose answer is known."""

import numpy as np
import pytest

from nembrit.core.manoeuvres.detect import hover_throttle, snap_stops, wash_descents
from nembrit.core.records.log import Recording

RATE_HZ = 500.0


def seconds(value: float, length_s: float) -> np.ndarray:
    return np.full(round(length_s * RATE_HZ), value)


def log(**channels: np.ndarray) -> Recording:
    return Recording.of(
        {name.replace("__", "."): values for name, values in channels.items()}, sample_rate_hz=RATE_HZ, start_s=10.0
    )


@pytest.mark.parametrize(
    ("held_dps", "held_s", "after_dps", "n_found"),
    [
        (400.0, 0.40, 0.0, 1),
        (-400.0, 0.40, 0.0, 1),
        (400.0, 0.20, 0.0, 0),  # not held long enough
        (400.0, 0.40, 150.0, 0),  # slows down, does not stop
        (100.0, 0.40, 0.0, 0),  # too slow to be a snap
    ],
)
def test_a_snap_stop_is_a_held_fast_rate_that_ends(held_dps: float, held_s: float, after_dps: float, n_found: int) -> None:
    setpoint = np.concatenate((seconds(0, 1), seconds(held_dps, held_s), seconds(after_dps, 2)))
    found = snap_stops(log(setpoint__roll=setpoint), "roll")
    assert len(found) == n_found
    if found:
        assert found[0].start_s == pytest.approx(11 + held_s, abs=1 / RATE_HZ)
        assert (found[0].kind, found[0].axis) == ("snap_stop", "roll")


def test_without_a_set_point_there_are_no_snap_stops() -> None:
    assert snap_stops(log(throttle=seconds(0.3, 3)), "roll") == ()


@pytest.mark.parametrize(
    ("throttle", "length_s", "stick_dps", "n_found"),
    [
        (0.20, 2.0, 0.0, 1),
        (0.20, 1.0, 0.0, 0),  # too short
        (0.20, 2.0, 90.0, 0),  # with stick movement
        (0.29, 2.0, 0.0, 0),  # hardly below hover
        (0.05, 2.0, 0.0, 0),  # a float, not a descent under power
    ],
)
def test_a_wash_descent_is_flat_low_throttle_with_still_sticks(
    throttle: float, length_s: float, stick_dps: float, n_found: int
) -> None:
    trace = np.concatenate((seconds(0.31, 6), seconds(throttle, length_s), seconds(0.31, 3)))
    setpoint = np.concatenate((seconds(0, 6), seconds(stick_dps, length_s), seconds(0, 3)))
    found = wash_descents(log(throttle=trace, setpoint__pitch=setpoint))
    assert len(found) == n_found
    if found:
        assert (found[0].start_s, found[0].end_s) == pytest.approx((16.0, 16.0 + length_s), abs=2 / RATE_HZ)


def test_a_falling_throttle_is_no_flat_descent() -> None:
    trace = np.concatenate((seconds(0.31, 6), np.linspace(0.23, 0.11, round(2 * RATE_HZ)), seconds(0.31, 3)))
    assert wash_descents(log(throttle=trace)) == ()
    assert wash_descents(log(gyro__roll=trace)) == ()


@pytest.mark.parametrize("hover", [0.21, 0.33, 0.47])
def test_hover_is_the_throttle_flown_most(hover: float) -> None:
    trace = np.concatenate((seconds(0.0, 5), seconds(hover, 4), seconds(0.9, 2)))
    assert hover_throttle(trace) == pytest.approx(hover, abs=0.02)
    assert hover_throttle(np.zeros(10)) == 0.0
