"""Every stated interval covers the truth as often as it says: neither less nor always (a wider one would be no news).

Truth is known by construction; shares are of seeds drawn once.
"""

import numpy as np
import pytest

from nembrit.core.noise.allan import allan_deviation, drift_with_temperature
from nembrit.core.noise.bands import band_levels
from nembrit.core.noise.sensors import BandRatio, attribute, band_ratios
from nembrit.core.spectra.density import Spectrum, welch_spectrum
from nembrit.core.trials.welch import welch_test

RATE_HZ = 1000.0
WHITE = 2.0 / (RATE_HZ / 2)  # one-sided density of noise of variance 2 [(deg/s)²/Hz]
LEAST, MOST = 0.90, 0.99  # of a 95 % interval, whatever few trials are drawn


def white(rng: np.random.Generator, seconds: float = 12.0, sd: float = 2.0**0.5) -> Spectrum:
    return welch_spectrum(rng.normal(0, sd, round(seconds * RATE_HZ)), sample_rate_hz=RATE_HZ)


def covered(found: list[bool]) -> float:
    assert len(found) >= 400
    return sum(found) / len(found)


def test_the_density_s_interval() -> None:
    rng = np.random.default_rng(41)
    found = []
    for _ in range(12):
        spectrum = white(rng)
        low, high = spectrum.interval_ratio()
        inner = spectrum.psd_dps2_per_hz[10:-10:3]  # bins that share no window's leakage
        found += ((inner * low <= WHITE) & (inner * high >= WHITE)).tolist()
    assert LEAST <= covered(found) <= MOST


@pytest.mark.parametrize("band", ["motion", "jitter", "above"])
@pytest.mark.parametrize("is_coloured", [False, True])
def test_a_band_s_interval(band: str, is_coloured: bool) -> None:
    rng = np.random.default_rng(42)
    found = []
    for _ in range(400):
        noise = rng.normal(0, 1.0, 8_000)
        if is_coloured:  # falls with frequency, as flights' noise does: y[n] = x[n] + 0.9 x[n − 1]
            noise = noise[1:] + 0.9 * noise[:-1]
        level = next(one for one in band_levels(welch_spectrum(noise, sample_rate_hz=RATE_HZ)) if one.name == band)
        grid = np.arange(level.low_hz, RATE_HZ / 2 + 1 if band == "above" else level.high_hz, 2.0)  # bins of half a second
        power = np.full(grid.size, 2 / RATE_HZ)
        if is_coloured:
            power *= 1 + 0.81 + 1.8 * np.cos(2 * np.pi * grid / RATE_HZ)
        if band == "above":
            power[-1] /= 2  # half the rate has no mirror image
        true_rms = float(np.sqrt(power.sum() * 2.0))
        low, high = level.rms_interval_dps
        found.append(low <= true_rms <= high)
    assert LEAST <= covered(found) <= MOST


def test_the_interval_of_one_gyro_over_another() -> None:
    rng = np.random.default_rng(43)
    found = []
    for _ in range(150):
        for ratio in band_ratios(white(rng, sd=3.0), white(rng, sd=2.0)):
            found.append(ratio.interval[0] <= 1.5 <= ratio.interval[1])
    assert LEAST <= covered(found) <= MOST


def test_the_intervals_of_a_swap() -> None:
    rng = np.random.default_rng(44)
    sensor, place, spread = np.log(1.4), np.log(1.2), 0.08
    found = []
    for _ in range(300):
        before, after = (
            BandRatio(
                band="motion",
                ratio=float(np.exp(mean)),
                interval=(float(np.exp(mean - 1.96 * spread)), float(np.exp(mean + 1.96 * spread))),
            )
            for mean in (sensor + place + rng.normal(0, spread), sensor - place + rng.normal(0, spread))
        )
        told = attribute(before, after)
        found += [
            told.sensor_interval[0] <= 1.4 <= told.sensor_interval[1],
            told.place_interval[0] <= 1.2 <= told.place_interval[1],
        ]
    assert LEAST <= covered(found) <= MOST


def test_the_interval_of_a_drift_with_temperature() -> None:
    rng = np.random.default_rng(45)
    found = []
    for _ in range(400):
        seconds = 60
        warm = np.repeat(np.linspace(20, 24, seconds), 50)
        rate = 0.3 * warm + rng.normal(0, 1.0, warm.size)
        drift = drift_with_temperature(rate, warm, sample_rate_hz=50.0)
        found.append(drift.interval_dps_per_k[0] <= 0.3 <= drift.interval_dps_per_k[1])
    assert LEAST <= covered(found) <= MOST


def test_the_one_sigma_interval_of_an_allan_deviation() -> None:
    """Two thirds or more: overlapping groups know a little more than the interval takes them for."""
    rng = np.random.default_rng(46)
    found = []
    for _ in range(60):
        curve = allan_deviation(rng.normal(0, 1.0, 4000), sample_rate_hz=100.0, n_points=12)
        true = np.sqrt(1 / (100 * curve.tau_s))
        some = (curve.tau_s >= 0.1) & (curve.tau_s < 4)
        found += ((curve.low <= true) & (curve.high >= true))[some].tolist()
    assert 0.62 <= sum(found) / len(found) <= 0.92


@pytest.mark.parametrize("n", [4, 6])
def test_the_interval_of_a_change(n: int) -> None:
    rng = np.random.default_rng(47)
    found = []
    for _ in range(600):
        before, after = rng.normal(0, 0.1, n), rng.normal(-0.2, 0.15, n)
        low, high = welch_test(before, after).interval
        found.append(low <= -0.2 <= high)
    assert LEAST <= covered(found) <= MOST
