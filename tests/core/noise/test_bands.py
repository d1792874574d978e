"""Spectra with gaps, bands, peaks and the loose mount's hump."""

import numpy as np
import pytest

from nembrit.core.errors import NotEnoughData
from nembrit.core.noise.bands import band_levels
from nembrit.core.noise.hump import hump_of
from nembrit.core.noise.peaks import largest_peaks
from nembrit.core.spectra.density import welch_spectrum


def test_segments_with_a_gap_are_left_out_and_the_rest_is_unchanged() -> None:
    rng = np.random.default_rng(1)
    gyro = rng.normal(size=20_000)
    gyro[9000:9100] = np.nan
    found = welch_spectrum(gyro, sample_rate_hz=2000)
    assert found.n_segments == 39 - 2  # 1000-sample segments, hop 500: those starting at 8500 and 9000 touch the gap
    assert np.isfinite(found.psd_dps2_per_hz).all()


@pytest.mark.parametrize("gyro", [np.zeros(900), np.full(20_000, np.nan), np.array([])])
def test_too_short_or_empty_traces_say_what_is_needed(gyro: np.ndarray) -> None:
    with pytest.raises(NotEnoughData, match="at least 1 s of flight without gaps"):
        welch_spectrum(gyro, sample_rate_hz=2000)


@pytest.mark.parametrize("sigma", [0.5, 4.0])
def test_band_rms_of_white_noise_and_its_interval(sigma: float) -> None:
    # closed form: a band holds sigma² times its share of half the rate
    rng = np.random.default_rng(7)
    hits = 0
    for _ in range(40):
        level = band_levels(welch_spectrum(rng.normal(0, sigma, 40_000), sample_rate_hz=2000))[0]
        true = sigma * np.sqrt(80 / 1000)
        assert level.rms_dps == pytest.approx(true, rel=0.08)
        hits += level.rms_interval_dps[0] <= true <= level.rms_interval_dps[1]
    assert hits >= 34  # 95 % interval: fewer than 34 of 40 has a chance of 1 in 100


def test_a_slow_log_has_no_upper_bands() -> None:
    motion, jitter, above = band_levels(welch_spectrum(np.random.default_rng(1).normal(size=2000), sample_rate_hz=100))
    assert (motion.high_hz, motion.rms_dps) == (50, None)
    assert jitter.rms_dps is None
    assert above.rms_dps is None


@pytest.mark.parametrize("frequency_hz", [63.3, 180.0, 417.7])
def test_a_peak_is_found_between_bins(frequency_hz: float) -> None:
    t_s = np.arange(40_000) / 2000
    gyro = 3 * np.sin(2 * np.pi * frequency_hz * t_s) + np.random.default_rng(2).normal(0, 1, t_s.size)
    peak = largest_peaks(welch_spectrum(gyro, sample_rate_hz=2000))[0]
    assert peak.frequency_hz == pytest.approx(frequency_hz, abs=0.5)


def test_silence_has_no_peaks() -> None:
    assert largest_peaks(welch_spectrum(np.zeros(4000), sample_rate_hz=2000)) == ()


def test_a_log_that_is_too_slow_cannot_show_a_hump() -> None:
    assert hump_of(welch_spectrum(np.random.default_rng(1).normal(size=4000), sample_rate_hz=500)) is None
