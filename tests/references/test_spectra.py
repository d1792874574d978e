"""Spectra against published tables and the results of foreign programs."""

from pathlib import Path

import numpy as np
import pytest
import scipy.signal
from matplotlib import mlab

from nembrit.core.spectra.density import Spectrum, effective_averages, mean_density, welch_spectrum

DATA = Path(__file__).parents[1] / "data"
RATE_HZ = 1000.0


def test_sine_power_and_peak_density() -> None:
    # Parseval: a sine of amplitude 3 carries 4.5; its peak density is that over ENBW × bin: Hann 1.5 bins
    # (F. Harris, Proc. IEEE 66, 1978, table 1)
    t_s = np.arange(80_000) / RATE_HZ
    found = welch_spectrum(3 * np.sin(2 * np.pi * 125 * t_s), sample_rate_hz=RATE_HZ, segment_s=8.0)
    assert found.psd_dps2_per_hz.sum() * found.bin_hz == pytest.approx(4.5, rel=1e-6)
    assert found.psd_dps2_per_hz.max() == pytest.approx(4.5 / (1.5 * 0.125), rel=1e-6)


def test_white_noise_level() -> None:
    # closed form: one-sided level 2 σ² / rate = 0.008 for σ = 2
    noise = np.random.default_rng(1).normal(0, 2, 400_000)
    found = welch_spectrum(noise, sample_rate_hz=RATE_HZ)
    assert found.psd_dps2_per_hz[5:-5].mean() == pytest.approx(0.008, rel=0.01)


def test_welch_agrees_with_two_libraries() -> None:
    noise = np.random.default_rng(2).normal(0, 1, 20_000)
    found = welch_spectrum(noise, sample_rate_hz=2000)
    scipy_s = scipy.signal.welch(noise, 2000, nperseg=1000, noverlap=500, detrend="linear")[1]
    window = scipy.signal.get_window("hann", 1000)
    matplotlib_s = mlab.psd(noise, NFFT=1000, Fs=2000, window=window, noverlap=500, detrend=mlab.detrend_linear)[0]
    np.testing.assert_allclose(found.psd_dps2_per_hz, scipy_s, rtol=1e-9)
    np.testing.assert_allclose(found.psd_dps2_per_hz, matplotlib_s, rtol=1e-9)


def test_density_of_an_older_independent_program() -> None:
    # tests/data/psd_density_foreign: its window, 512 samples, no overlap; worst bin 0.52 % off, median 7e-6
    folder = DATA / "psd_density_foreign"
    noise, window, expected = (np.load(folder / f"{name}.npy") for name in ("noise", "window_512", "density"))
    segments = scipy.signal.detrend(noise[: noise.size // 512 * 512].reshape(-1, 512), axis=1)
    found = mean_density(segments, window, sample_rate_hz=100.0)[:256]  # it leaves out half the rate
    ratio = found[5:] / expected[5:]  # bins 0 to 4 differ: another way to remove trends
    assert np.median(ratio) == pytest.approx(1.0, abs=5e-5)
    assert np.abs(ratio - 1).max() < 0.006


def test_density_of_a_commercial_numerical_program() -> None:
    # tests/data/psd_complex_foreign: two-sided density S of x + jy with its symmetric Hann window of 256;
    # for real x and y, S(f) + S(−f) is the sum of both one-sided densities
    folder = DATA / "psd_complex_foreign"
    series, expected = np.loadtxt(folder / "tseries12.txt"), np.loadtxt(folder / "fxx_matlab.txt")
    window = scipy.signal.windows.hann(256, sym=True)
    x, y = (mean_density(row[None, :256], window, sample_rate_hz=1.0) for row in (series[1], series[0]))
    both = expected[1:128] + expected[:128:-1]
    np.testing.assert_allclose((x + y)[1:128], both, rtol=1e-6, atol=1e-7 * expected.max())


# P. Welch 1967 and F. Harris 1978: var/mean² of K overlapped Hann segments; digits reproduced by Monte Carlo
@pytest.mark.parametrize(
    ("n_segments", "overlap_ratio", "variance"),
    [(8, 0.5, 0.13108), (32, 0.5, 0.03293), (8, 0.75, 0.2253), (32, 0.75, 0.0592), (8, 0.0, 0.125)],
)
def test_effective_averages(n_segments: int, overlap_ratio: float, variance: float) -> None:
    window = scipy.signal.get_window("hann", 4096)
    assert 1 / effective_averages(n_segments, window, overlap_ratio=overlap_ratio) == pytest.approx(variance, rel=1e-3)


def test_interval_of_ten_independent_averages() -> None:
    # Bendat & Piersol, Random Data, chi-square limits for n_d = 10, 95 %: 0.5853 and 2.0853
    found = Spectrum(frequency_hz=np.arange(2.0), psd_dps2_per_hz=np.ones(2), n_segments=10, n_effective=10.0)
    assert found.interval_ratio() == pytest.approx((0.5853, 2.0853), abs=5e-5)


def test_parseval_on_a_real_recording() -> None:
    # tests/data/worn_imu: variance of a real gyro equals the integral of its periodogram
    rates = np.loadtxt(DATA / "worn_imu" / "worn_imu_50hz.csv", delimiter=",", skiprows=1)[:, 4:]
    for column in rates.T:
        centred = column - column.mean()
        density = mean_density(centred[None, :], np.ones(centred.size), sample_rate_hz=50.0)
        assert density.sum() * 50.0 / centred.size == pytest.approx(np.var(column), rel=1e-12)
