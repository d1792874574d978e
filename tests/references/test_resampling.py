"""Decimation and lags against scipy's own resampler and correlation (scipy.signal, the reference library)."""

import numpy as np
import pytest
import scipy.signal

from nembrit.core.manoeuvres.alignment import align
from nembrit.core.records.log import Recording
from nembrit.core.response.impulse import decimated
from tests.flying import flown

ROLES = ("throttle", "stick.roll", "stick.pitch", "stick.yaw")


@pytest.mark.parametrize("role", ["setpoint.roll", "setpoint.pitch", "gyro.yaw"])
def test_decimation_agrees_with_the_polyphase_resampler(role: str) -> None:
    values = flown(1).channels[role]
    slowed = decimated((values, values), np.ones(values.size, dtype=bool), 2000.0)
    own, rate_hz = slowed.signals[0], slowed.rate_hz
    assert rate_hz == 500.0
    theirs = scipy.signal.resample_poly(values, 1, 4)[: own.size]
    inside = slice(50, -50)  # both see invented samples at the ends
    difference = own[: theirs.size][inside] - theirs[inside]
    assert np.sqrt(np.mean(difference**2)) < 0.02 * np.std(values)


@pytest.mark.parametrize("lag", [-740, 0, 1, 1503])
def test_lag_is_the_peak_of_scipys_direct_correlation(lag: int) -> None:
    flight = flown(5)
    first = {role: flight.channels[role][4000:50_000:10] for role in ROLES}
    other = {role: flight.channels[role][4000 + 10 * lag if lag > 0 else 4000 : 50_000 : 10] for role in ROLES}
    if lag < 0:
        first, other = {role: flight.channels[role][4000 - 10 * lag : 50_000 : 10] for role in ROLES}, first
    slopes = [np.diff(channels["throttle"]) for channels in (first, other)]
    direct = scipy.signal.correlate(*slopes, method="direct")
    theirs = scipy.signal.correlation_lags(slopes[0].size, slopes[1].size)[direct.argmax()]
    found = align(Recording.of(first, sample_rate_hz=200.0), Recording.of(other, sample_rate_hz=200.0))
    assert theirs == lag
    assert found.offset_s == pytest.approx(theirs / 200.0, abs=5e-4)
