"""Margins, closed loops and frequency responses against published values and reference libraries."""

from pathlib import Path

import control
import numpy as np
import pytest
import scipy.signal

from nembrit.core.response.following import following, step_frequencies, step_of
from nembrit.core.response.margins import margins
from nembrit.core.response.transfer import cross_response

DATA = Path(__file__).parents[1] / "data"
W = np.geomspace(1e-3, 1e3, 40_000)
S = 1j * W
HZ = W / (2 * np.pi)
RAD = np.pi / 180


@pytest.mark.parametrize(
    ("loop", "gain_ratio", "phase_deg", "peak"),
    [
        # 2/(s(s+1)(s+2)), 4/(s+1)^3, 10/(s(s+1)(s+5)): Ogata, Modern Control Engineering, and their closed forms
        (2 / (S * (S + 1) * (S + 2)), 3.0, 32.6131, 2.31231),
        (4 / (S + 1) ** 3, 2.0, 27.1416, 3.0),
        (10 / (S * (S + 1) * (S + 5)), 3.0, 25.3898, None),
        # Seiler, Packard & Gahinet, An Introduction to Disk Margins, IEEE Control Systems 40 (2020)
        (25 / (S**3 + 10 * S**2 + 10 * S + 10), 3.6, 29.1104, None),
        # Skogestad, J. Process Control 13 (2003): SIMC, first order with delay 1, tau_c = delay: 3.14, 61.4°, 1.59
        (0.5 / S * np.exp(-S), 3.1415, 61.353, 1.5905),
    ],
)
def test_margins_are_the_published_ones(loop: np.ndarray, gain_ratio: float, phase_deg: float, peak: float | None) -> None:
    found = margins(HZ, loop)
    assert 10 ** (found.gain_margin_db / 20) == pytest.approx(gain_ratio, rel=1e-3)
    assert found.phase_margin_deg == pytest.approx(phase_deg, abs=0.01)
    if peak is not None:
        assert found.sensitivity_peak == pytest.approx(peak, rel=1e-3)
        # Åström & Murray, Feedback Systems, chapter 9: GM ≥ Ms/(Ms − 1), PM ≥ 2 asin(1/(2 Ms))
        assert 10 ** (found.gain_margin_db / 20) >= peak / (peak - 1) - 1e-3
        assert found.phase_margin_deg >= 2 * np.degrees(np.arcsin(1 / (2 * peak))) - 1e-2


@pytest.mark.parametrize("seed", range(12))
def test_margins_of_random_loops_are_python_control_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    gain, lag, lead = rng.uniform(5, 60), rng.uniform(0.01, 0.1), rng.uniform(0.001, 0.02)
    plant = (
        control.tf([gain * lead, gain], [1, rng.uniform(0.5, 4), 0]) * control.tf([1], [lag, 1]) * control.tf([1], [0.01, 1]) ** 2
    )
    gain_margin, phase_margin, turning, crossover = control.margin(plant)
    found = margins(HZ, plant(S))
    if np.isfinite(gain_margin) and gain_margin > 1:
        assert found.gain_margin_db == pytest.approx(20 * np.log10(gain_margin), abs=0.01)
        assert found.turning_hz == pytest.approx(turning / (2 * np.pi), rel=1e-3)
    assert found.phase_margin_deg == pytest.approx(phase_margin, abs=0.02)
    assert found.crossover_hz == pytest.approx(crossover / (2 * np.pi), rel=1e-3)


def test_a_phase_that_never_turns_has_no_gain_margin() -> None:
    found = margins(HZ, 3 / (S * (S + 1)))
    assert (found.gain_margin_db, found.turning_hz) == (None, None)


@pytest.mark.parametrize("damping", [0.3, 0.5, 0.6, 0.7])
def test_following_is_that_of_the_textbook_s_second_order(damping: float) -> None:
    # Ogata, Modern Control Engineering, chapter 5: wb/wn, Mr, Mp; ADS-33E-PRF applied to the same loop in closed form
    natural_hz = 6.0
    wn = 2 * np.pi * natural_hz
    closed = wn**2 / (S**2 + 2 * damping * wn * S + wn**2)
    step_hz = step_frequencies()
    s = 2j * np.pi * step_hz
    t_s, step = step_of(wn**2 / (s**2 + 2 * damping * wn * s + wn**2))
    found = following(HZ, closed, t_s, step)
    assert found.bandwidth_hz / natural_hz == pytest.approx(
        np.sqrt(1 - 2 * damping**2 + np.sqrt(4 * damping**4 - 4 * damping**2 + 2)), rel=1e-3
    )
    if damping < 0.7:
        assert 10 ** (found.peak_db / 20) == pytest.approx(1 / (2 * damping * np.sqrt(1 - damping**2)), rel=1e-3)
    assert found.overshoot_ratio == pytest.approx(np.exp(-np.pi * damping / np.sqrt(1 - damping**2)), abs=2e-3)
    told = control.step_info(
        control.tf([wn**2], [1, 2 * damping * wn, wn**2]), SettlingTimeThreshold=0.05, T=np.linspace(0, 2, 40_001)
    )
    assert found.rise_time_s == pytest.approx(told["RiseTime"], rel=0.01)
    assert found.settling_time_s == pytest.approx(told["SettlingTime"], abs=0.0015)
    # the attitude's phase is −135° where the rate's is −45°, and −180° at the natural frequency
    assert found.handling_bandwidth_hz <= natural_hz * (np.sqrt(damping**2 + 1) - damping) * 1.001
    assert found.phase_delay_s == pytest.approx((90 - np.degrees(np.arctan(4 * damping / 3))) / (360 * 2 * natural_hz), rel=2e-3)


def test_h1_and_coherence_are_scipy_s() -> None:
    rng = np.random.default_rng(4)
    x = rng.normal(0, 1, 20_000)
    y = scipy.signal.lfilter([0.2, 0.3], [1, -0.6], x) + rng.normal(0, 0.5, x.size)
    found = cross_response(x, y, np.ones(x.size, bool), sample_rate_hz=500.0, segment_s=2.0, overlap_ratio=0.5)
    options = {"fs": 500.0, "nperseg": 1000, "noverlap": 500, "detrend": "linear", "window": "hann"}
    _, sxy = scipy.signal.csd(x, y, **options)
    _, sxx = scipy.signal.welch(x, **options)
    _, coherence = scipy.signal.coherence(x, y, **options)
    np.testing.assert_allclose(found.response[1:-1], (sxy / sxx)[1:-1], rtol=1e-9)
    np.testing.assert_allclose(found.coherence[1:-1], coherence[1:-1], rtol=1e-9)


@pytest.mark.parametrize("share", [0.5, 0.75])
def test_the_random_error_covers_from_both_sides(share: float) -> None:
    # Bendat & Piersol, Random Data: |H| scatters by √((1 − γ²)/(2 n_d γ²)); two of them hold 88 to 98 %
    inside = []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        x = rng.normal(0, 1, 8000)
        y = x + rng.normal(0, 0.8, x.size)
        found = cross_response(x, y, np.ones(x.size, bool), sample_rate_hz=500.0, segment_s=1.0, overlap_ratio=share)
        inside.append(np.abs(np.abs(found.response[5:-5]) - 1) <= 2 * found.random_error[5:-5])
    assert 0.88 <= np.mean(inside) <= 0.98


def test_coherence_of_a_commercial_numerical_program() -> None:
    # tests/data/psd_complex_foreign: its symmetric Hann window of 64, half overlapped, nothing taken out
    folder = DATA / "psd_complex_foreign"
    series, expected = np.loadtxt(folder / "tseries12.txt"), np.loadtxt(folder / "cxy_matlab.txt")
    found = cross_response(
        series[1], series[0], np.ones(series.shape[1], bool), sample_rate_hz=1.0, segment_s=64, overlap_ratio=0.5,
        window=scipy.signal.windows.hann(64, sym=True), is_detrended=False,
    )  # fmt: skip
    np.testing.assert_allclose(found.coherence, expected, atol=1e-7)


@pytest.mark.parametrize(
    ("low_hz", "high_hz", "size", "phase_deg"), [(0.3, 1.0, 0.002, 0.2), (1.0, 5.0, 0.002, 0.2), (5.0, 20.0, 0.003, 1.0)]
)
def test_the_response_of_one_real_instrument_to_another(low_hz: float, high_hz: float, size: float, phase_deg: float) -> None:
    # tests/data/two_instruments_foreign: the answer of their own package, which averages ratios where H1 divides averages
    folder = DATA / "two_instruments_foreign"
    with np.load(folder / "instruments.npz") as kept:
        known, unknown = (np.cumsum(kept[name].astype(np.int64)).astype(float) for name in ("known", "unknown"))
    hz, expected_size, expected_deg = np.loadtxt(folder / "response.csv", delimiter=",", skiprows=1, unpack=True)
    found = cross_response(
        known, unknown, np.ones(known.size, bool), sample_rate_hz=200.0, segment_s=4096 / 200, overlap_ratio=0.5
    )
    use = (hz > low_hz) & (hz < high_hz)
    at = np.rint(hz[use] * 4096 / 200).astype(int)
    ratio = found.response[at] / (expected_size[use] * np.exp(1j * RAD * expected_deg[use]))
    assert np.median(np.abs(ratio)) == pytest.approx(1.0, abs=size)
    assert np.median(np.degrees(np.angle(ratio))) == pytest.approx(0.0, abs=phase_deg)
    assert found.coherence[at].min() > 0.97
