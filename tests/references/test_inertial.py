"""Allan deviation, balance grades and blade sums against published numbers."""

import math
from pathlib import Path

import numpy as np
import pytest

from nembrit.core.noise.allan import allan_deviation, deviations_at, drift_with_temperature, rest_noise
from nembrit.core.noise.balance import force_n, permissible, tip_speed, unbalance_g_mm
from nembrit.core.noise.motors import line_frequency_hz
from nembrit.core.noise.vibration import blade_pass_hz


def nist_points() -> np.ndarray:
    """The 1000-point test set of Riley & Howe, NIST SP 1065, section 12.4."""
    n, found = 1234567890, []
    for _ in range(1000):
        found.append(n / 2147483647)
        n = 16807 * n % 2147483647
    return np.array(found)


def test_the_published_test_set_is_made_right() -> None:
    points = nist_points()  # mean and deviation as printed in NIST SP 1065, table 31
    assert points.mean() == pytest.approx(0.4897745, abs=1e-7)
    assert points.std(ddof=1) == pytest.approx(0.2884664, abs=1e-7)


@pytest.mark.parametrize(("averaged", "expected"), [(1, 2.922319e-1), (10, 9.159953e-2), (100, 3.241343e-2)])
def test_overlapping_allan_deviation_of_the_nist_set(averaged: int, expected: float) -> None:
    # NIST SP 1065, table 31, row "Overlapping Allan"
    found = deviations_at(nist_points(), np.array([averaged]), sample_rate_hz=1.0)
    assert found.deviation[0] == pytest.approx(expected, rel=1e-6)


@pytest.mark.parametrize(("averaged", "expected"), [(1, 91.22945), (2, 85.95287)])
def test_overlapping_allan_deviation_of_nine_points(averaged: int, expected: float) -> None:
    # NBS Monograph 140, annex 8.E, as reprinted in NIST SP 1065, table 28
    rates = np.array([892, 809, 823, 798, 671, 644, 883, 903, 677], dtype=float)
    assert deviations_at(rates, np.array([averaged]), sample_rate_hz=1.0).deviation[0] == pytest.approx(expected, rel=1e-6)


def test_overlapping_allan_deviation_of_a_real_clock() -> None:
    # real readings and a foreign program's answers to four digits, carried by a package (tests/data/README.md)
    data = Path(__file__).parents[1] / "data" / "clock_foreign"
    averaged, tau_s, expected = np.loadtxt(data / "overlapping_allan.csv", delimiter=",", skiprows=1, unpack=True)
    found = deviations_at(np.load(data / "fractional_frequency.npy"), averaged.astype(int), sample_rate_hz=1.0)
    np.testing.assert_allclose(found.tau_s, tau_s, rtol=1e-3)
    np.testing.assert_allclose(found.deviation, expected, rtol=2e-5 + 5e-5)  # ours, and half a last digit of theirs


@pytest.mark.parametrize("density", [0.004, 0.02])
def test_white_rate_noise_reads_as_its_density(density: float) -> None:
    # σ(τ) = √(S / 2τ) for one-sided S (IEEE Std 952-1997, annex C, from memory; checked there by simulation)
    rate = np.random.default_rng(3).normal(0, density * math.sqrt(500 / 2), 300_000)
    found = rest_noise(rate, sample_rate_hz=500)
    assert found.density_dps_rthz == pytest.approx(density, rel=0.05)
    assert found.random_walk_deg_rth == pytest.approx(density / math.sqrt(2) * 60, rel=0.05)
    curve = allan_deviation(rate, sample_rate_hz=500)
    at = int(np.argmin(np.abs(curve.tau_s - 0.1)))
    expected = density / math.sqrt(2 * curve.tau_s[at])
    assert curve.low[at] * 0.97 < expected < curve.high[at] * 1.03


def test_a_drifting_zero_shows_a_floor_and_its_slope_with_temperature() -> None:
    rng = np.random.default_rng(5)
    t_s = np.arange(600 * 50) / 50
    warm = 25 + 15 * (1 - np.exp(-t_s / 60))
    rate = 0.04 * (warm - 40) + rng.normal(0, 0.05, t_s.size)
    drift = drift_with_temperature(rate, warm, sample_rate_hz=50)
    assert drift.interval_dps_per_k[0] < 0.04 < drift.interval_dps_per_k[1]
    assert drift.settles_after_s == pytest.approx(60 * math.log(0.04 * 15 / 0.05), abs=20)
    assert rest_noise(rate, sample_rate_hz=50).bias_instability_dps is not None


@pytest.mark.parametrize(
    ("grade", "mass_g", "speed_rpm", "e_um", "u_g_mm"),
    [
        (6.3, 1000, 3000, 20.0535, 20.0535),
        (2.5, 3_600_000, 3000, 7.958, 28_648),  # the standard's turbine example, which rounds to 8 µm (from memory)
        (6.3, 12, 20_000, 3.008, 0.03610),
        (16, 4, 30_000, 5.093, 0.02037),
    ],
)
def test_balance_grades(grade: float, mass_g: float, speed_rpm: float, e_um: float, u_g_mm: float) -> None:
    # e_per = 1000 G / ω and U_per = 9549 G m / n, ISO 21940-11; values worked from these, citation from memory
    found = permissible(grade, mass_g, speed_rpm)
    assert found.permissible_um == pytest.approx(e_um, rel=1e-3)
    assert found.permissible_g_mm == pytest.approx(u_g_mm, rel=1e-3)
    assert found.permissible_g_mm == pytest.approx(9549 * grade * mass_g / 1000 / speed_rpm, rel=1e-3)
    assert permissible(grade, mass_g, speed_rpm, residual_g_mm=found.permissible_g_mm).smallest_grade_mm_s == grade


@pytest.mark.parametrize(("unbalance", "speed_rpm", "newton"), [(0.03610, 20_000, 0.1583), (0.02037, 30_000, 0.2011)])
def test_force_of_an_unbalance_and_back(unbalance: float, speed_rpm: float, newton: float) -> None:
    assert force_n(unbalance, speed_rpm) == pytest.approx(newton, rel=1e-3)  # F = U ω²
    assert unbalance_g_mm(force_n(unbalance, speed_rpm), speed_rpm) == pytest.approx(unbalance)


def test_blades_and_tips() -> None:
    # worked by hand: 18 000 rpm of three blades; 5 in at 25 000 rpm, sound at 340.294 m/s (ISO 2533)
    assert blade_pass_hz(18_000, 3) == 900
    assert tip_speed(5, 25_000) == pytest.approx((166.24, 0.4885), rel=1e-4)


@pytest.mark.parametrize(
    ("turn_hz", "order", "rate_hz", "shown_hz"),
    [(620, 1, 1000, 380), (360, 2, 1000, 280), (650, 2, 1000, 300), (450, 1, 500, 50)],
)
def test_lines_beyond_half_the_rate_fold(turn_hz: float, order: int, rate_hz: float, shown_hz: float) -> None:
    # |f − round(f / fs) fs|, the sampling theorem
    assert line_frequency_hz(turn_hz, order, rate_hz) == pytest.approx(shown_hz)
