"""What is wrong with a log, and what it can answer."""

import numpy as np
import pytest

from nembrit.core.records.log import FlightLog, Stream, channel
from nembrit.core.records.measure import measure
from nembrit.core.records.quality import quality_notes
from nembrit.core.records.questions import answers
from nembrit.core.records.timebase import thinned
from nembrit.core.types import AXES
from tests.flying import flown

RATE_HZ = 1000.0
N = 8000
NOISE = np.round(np.random.default_rng(3).normal(0, 20, N), 2)
STICK = np.repeat(np.random.default_rng(4).normal(0, 200, N // 200), 200)


def notes(t_s: np.ndarray | None = None, **channels: np.ndarray) -> dict[str, str]:
    """Codes with their severity for a stream of channels (``gyro__roll``)."""
    t_s = np.arange(N) / RATE_HZ if t_s is None else t_s
    stream = Stream(t_s=t_s, channels=tuple(channel(name.replace("__", "."), values) for name, values in channels.items()))
    log = FlightLog(format_key="table", streams=(stream,), rows_read=t_s.size)
    return {note.code: note.severity for note in quality_notes(log)}


def changed(values: np.ndarray, where: slice, to: float) -> np.ndarray:
    values = values.copy()
    values[where] = to
    return values


@pytest.mark.parametrize(
    ("channels", "code", "severity"),
    [
        ({"gyro__roll": NOISE}, None, ""),
        ({"gyro__roll": np.full(N, 3.0)}, "constant", "fault"),
        ({"throttle": np.full(N, 0.3)}, "constant", "info"),
        ({"gyro__roll": changed(NOISE, slice(2000, 2600), 17.5)}, "stuck", "warning"),
        ({"gyro__roll": changed(changed(NOISE, slice(100, 110), 300.0), slice(900, 910), 300.0)}, "clipped", "warning"),
        ({"gyro__roll": changed(NOISE, slice(5, 6), np.nan)}, "missing", "warning"),
        ({"throttle": 50 + NOISE}, "scale", "fault"),
        ({"gyro__roll": NOISE * 100}, "scale", "fault"),
        ({"gyro__roll": (np.rint(NOISE / 90) * 90).astype(np.int32)}, "coarse", "warning"),
        ({"setpoint__roll": STICK, "gyro__roll": -STICK + NOISE}, "mirrored", "fault"),
        ({"setpoint__roll": STICK, "setpoint__pitch": STICK[::-1], "gyro__roll": STICK[::-1] + NOISE}, "swapped", "fault"),
        ({"setpoint__roll": STICK, "gyro__roll": STICK + NOISE}, None, ""),
    ],
)
def test_what_is_wrong_with_a_channel_is_noted(channels: dict[str, np.ndarray], code: str | None, severity: str) -> None:
    found = notes(**channels)
    assert (code in found and found[code] == severity) if code else not found


@pytest.mark.parametrize(
    ("t_s", "code"),
    [
        (np.concatenate((np.arange(4000), np.arange(5000, 9000))) / RATE_HZ, "gap"),
        (np.arange(N) / 50.0, "rate_low"),
        (np.sort(np.random.default_rng(1).uniform(0, 8, N)), "jitter"),
    ],
)
def test_what_is_wrong_with_a_clock_is_noted(t_s: np.ndarray, code: str) -> None:
    assert code in notes(t_s, gyro__roll=NOISE)


def test_a_simulated_flight_has_nothing_wrong_with_it() -> None:
    flight = flown(5)
    stream = Stream(t_s=flight.t_s, channels=tuple(channel(role, values) for role, values in flight.channels.items()))
    log = FlightLog(format_key="table", streams=(stream,), rows_read=flight.t_s.size)
    assert {note.severity for note in quality_notes(log)} <= {"info"}


def full(rate_hz: float = 2000.0) -> dict[str, float]:
    roles = [
        f"{family}.{axis}"
        for family in ("gyro", "gyro_raw", "setpoint", "term_p", "term_i", "term_d", "command")
        for axis in AXES
    ]
    roles += [
        "accel.x",
        "accel.y",
        "accel.z",
        "throttle",
        "battery_voltage",
        "battery_current",
        "latitude",
        "longitude",
        "altitude",
    ]
    return dict.fromkeys([*roles, *(f"motor.{k}" for k in range(1, 5)), "motor_rpm.1"], rate_hz)


def without(*families: str, rate_hz: float = 2000.0) -> dict[str, float]:
    return {role: rate for role, rate in full(rate_hz).items() if role.split(".")[0] not in families}


@pytest.mark.parametrize(
    ("rates_hz", "flight_s", "question", "state", "said"),
    [
        (full(), 60.0, "noise", "yes", ""),
        (full(700.0), 60.0, "noise", "partly", "nothing is seen"),
        (full(200.0), 60.0, "noise", "no", "at least 640 Hz"),
        (full(), 3.0, "noise", "no", "3.0 s of usable flight"),
        (without("gyro_raw"), 60.0, "noise", "partly", "gyro before filtering"),
        (without("gyro"), 60.0, "noise", "yes", ""),  # the raw one stands in
        (without("gyro"), 60.0, "filters", "no", "filtered gyro"),
        (without("setpoint"), 60.0, "stick", "no", "set-point of all axes"),
        ({role: rate for role, rate in full().items() if role != "setpoint.yaw"}, 60.0, "stick", "partly", "set-point of yaw"),
        (without("accel"), 60.0, "loose", "partly", "accelerometer"),
        (without("motor_rpm"), 60.0, "motor is noisy", "partly", "motor speed"),
        (without("latitude"), 60.0, "Where did it fly", "no", "latitude"),
        ({"battery_voltage": 10.0}, 60.0, "pack", "partly", "current"),
        ({}, 60.0, "pack", "no", "pack voltage"),
    ],
)
def test_each_question_says_what_is_missing(
    rates_hz: dict[str, float], flight_s: float, question: str, state: str, said: str
) -> None:
    (answer,) = [answer for answer in answers(rates_hz, flight_s=flight_s) if question in answer.question]
    assert answer.state == state
    assert said in answer.missing
    assert state == "yes" or answer.advice


def test_measures_are_those_of_a_sine() -> None:
    t_s = np.arange(1000) / 1000
    found = measure(3 * np.sin(2 * np.pi * 5 * t_s) + 1)
    # closed form: RMS of a sine is its amplitude over √2, peak to peak twice the amplitude
    assert found.rms == pytest.approx(3 / np.sqrt(2), rel=1e-6)
    assert found.peak_to_peak == pytest.approx(6.0, rel=1e-6)
    assert found.mean == pytest.approx(1.0, abs=1e-9)


def test_thinning_keeps_every_kth_sample() -> None:
    stream = Stream(t_s=np.arange(N) / RATE_HZ, channels=(channel("throttle", NOISE),))
    thin = thinned(stream, most_hz=100.0)
    np.testing.assert_array_equal(thin.channels[0].samples, NOISE[::10])
    assert thinned(stream, most_hz=5000.0) is stream
