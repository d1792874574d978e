"""Roles, the clock and the usable window."""

import numpy as np
import pytest

from nembrit.core.errors import InputError
from nembrit.core.manoeuvres.phases import usable_window_s
from nembrit.core.records.log import Recording, Stream, channel
from nembrit.core.records.roles import column_meaning, header_of, quantity_of
from nembrit.core.records.timebase import clock_of, uniform


@pytest.mark.parametrize(
    ("header", "role", "factor"),
    [
        ("gyro_raw.roll [deg/s]", "gyro_raw.roll", 1.0),
        ("gyro.yaw [rad/s]", "gyro.yaw", 180 / np.pi),
        ("b/accel.z [g]", "b/accel.z", 9.80665),  # standard gravity, CGPM 1901
        ("throttle [%]", "throttle", 0.01),
        ("throttle", "throttle", 1.0),
        ("mode", "mode", 1.0),
        ("other.lamp [lx]", None, 1.0),
    ],
)
def test_header_gives_role_and_factor(header: str, role: str | None, factor: float) -> None:
    meaning = column_meaning(header)
    assert (meaning.role, meaning.factor) == (role, pytest.approx(factor))


@pytest.mark.parametrize(
    ("header", "message"),
    [
        ("gyro.left [deg/s]", "not a known meaning"),
        ("gyro.roll [Hz]", r"needs its unit as \[deg/s\] or \[rad/s\], not “Hz”"),
        ("gyro.roll", "not “nothing”"),
        ("motor.0 [1]", "not a known meaning"),
        ("<b>gyro</b> [x]", "not a known meaning"),
        ("gyro.roll [deg/s] [s]", "not of the form"),
        ("", "not a known meaning"),
    ],
)
def test_doubtful_headers_are_refused_with_what_was_expected(header: str, message: str) -> None:
    with pytest.raises(InputError, match=message):
        column_meaning(header)


@pytest.mark.parametrize("role", ["gyro.roll", "term_d.yaw", "motor.12", "gain.pitch.p", "latitude", "event", "b/gyro_raw.pitch"])
def test_every_role_writes_a_header_that_reads_back(role: str) -> None:
    assert quantity_of(role)
    assert column_meaning(header_of(role)).role == role


def test_microsecond_clock_gives_the_true_rate() -> None:
    t_s = np.round(np.arange(5000) / 3200, 6)  # steps of 312 and 313 µs
    assert clock_of(t_s).sample_rate_hz == pytest.approx(3200, rel=1e-6)


@pytest.mark.parametrize(
    ("t_s", "message"), [([0.0], "at least two"), ([0.0, 1.0, 1.0], "must rise"), ([0.0, 1.0, 0.5], "must rise")]
)
def test_clock_refuses_times_that_do_not_rise(t_s: list[float], message: str) -> None:
    with pytest.raises(InputError, match=message):
        clock_of(np.array(t_s))


def test_gaps_are_masked_and_never_bridged() -> None:
    t_s = np.concatenate((np.arange(100) / 1000, 0.25 + np.arange(100) / 1000))
    stream = Stream(t_s=t_s, channels=(channel("throttle", np.arange(200, dtype=np.int16), divisor=200.0),))
    found = uniform(stream)
    values = found.channels["throttle"]
    assert found.n_samples == 350
    assert np.isnan(values[100:250]).all()
    np.testing.assert_array_equal(values[np.isfinite(values)], np.arange(200) / 200)  # every sample, none invented


def test_usable_window_leaves_out_ground_take_off_and_landing() -> None:
    throttle = np.concatenate((np.zeros(2000), np.full(20_000, 0.35), np.zeros(1000)))
    found = usable_window_s(Recording.of({"throttle": throttle}, sample_rate_hz=1000.0, start_s=0.0))
    assert found == pytest.approx((3.5, 21.0))  # 1.5 s after take-off, 1 s before the end of power


@pytest.mark.parametrize("channels", [{}, {"throttle": np.zeros(5000)}])
def test_without_throttle_the_whole_log_counts(channels: dict[str, np.ndarray]) -> None:
    found = Recording.of({"gyro.roll": np.zeros(5000)} | channels, sample_rate_hz=1000.0, start_s=2.0)
    assert usable_window_s(found) == (2.0, 7.0)
