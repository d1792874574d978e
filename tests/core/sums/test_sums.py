"""Sums that people do on paper, each against a hand-worked example, a handbook formula or a reference library."""

import math

import numpy as np
import pytest
import scipy.signal
from statsmodels.stats.power import TTestIndPower

from nembrit.core.errors import CoreError, InputError
from nembrit.core.sums.energy import distance_home, endurance, range_out
from nembrit.core.sums.powerfilter import E6, E12, pick_parts, power_filter, series_values
from nembrit.core.sums.radio import distance_at_limit, free_space_loss_db, link_over_distance
from nembrit.core.sums.rotor import rotor
from nembrit.core.sums.sticks import SKILLS, stick_curve
from nembrit.core.sums.timing import delay_budget
from nembrit.core.trials.chances import flights_to_find
from nembrit.core.types import FloatArray

LOOP = {"gyro_rate_hz": 8000.0, "loop_rate_hz": 8000.0, "filters_s": 0.0015, "motor_lag_s": 0.025}


class TestTiming:
    def test_by_hand(self) -> None:
        """490 Hz: a frame of 2.04 ms acts 1.02 ms late; sensor 0.0625, computing 0.125, filters 1.5, motor 25 ms."""
        found = delay_budget(**LOOP, output_rate_hz=490.0)
        assert 1000 * found.frame_s == pytest.approx(2.04, abs=0.01)
        assert 1000 * found.total_s == pytest.approx(0.0625 + 1.5 + 0.125 + 1.0204 + 25, abs=0.001)
        assert found.felt_rate_hz == pytest.approx(0.5 / (0.05 * 26.6875e-3), rel=1e-6)

    def test_the_hold_delay_is_that_of_a_zero_order_hold(self) -> None:
        """Phase of (1 − e^{−sT})/(sT) well below the rate: a pure delay of T/2."""
        period, hz = 1 / 490, 20.0
        s = 2j * math.pi * hz
        held = (1 - np.exp(-s * period)) / (s * period)
        delay_s = -np.angle(held) / (2 * math.pi * hz)
        assert delay_budget(**LOOP, output_rate_hz=490.0).command_s == pytest.approx(delay_s, rel=1e-6)

    def test_a_slower_motor_asks_for_less_rate(self) -> None:
        quick, slow = (delay_budget(**(LOOP | {"motor_lag_s": lag}), output_rate_hz=2000.0).felt_rate_hz for lag in (0.01, 0.05))
        assert slow < quick


class TestSticks:
    @pytest.mark.parametrize(
        ("full", "half", "centre", "word"),
        [(600, 180, 2.8, "usual"), (600, 300, 6.0, "sharp"), (700, 150, 5.0 / 3, "soft"), (400, 200, 4.0, "sharp")],
    )
    def test_by_hand(self, full: float, half: float, centre: float, word: str) -> None:
        found = stick_curve(full, half)
        assert found.centre_dps_per_pct == pytest.approx(centre)
        assert found.rate_dps[-1] == pytest.approx(full)
        assert found.rate_dps[20] == pytest.approx(half)
        assert np.all(np.diff(found.rate_dps) > 0)
        assert found.word == word

    @pytest.mark.parametrize(("full", "skill"), [(450, "unsure"), (600, "usual"), (720, "aerobatics")])
    def test_skills_of_the_trade(self, full: float, skill: str) -> None:
        """Common practice, no source: 400 to 500, 600, 700 deg/s."""
        assert stick_curve(full, full / 3).skill == skill
        assert SKILLS["unsure"] == (400.0, 500.0)


class TestEnergy:
    def test_radius_of_action_of_the_handbook(self) -> None:
        """FAA-H-8083-18: T·v1·v2/(v1 + v2). By hand: 20 min at 15 m/s in 5 m/s of wind: 1200·20·10/30 = 8000 m."""
        found = range_out(airspeed_m_s=15, wind_m_s=5, current_a=5, usable_mah=5 * 1200 / 3.6)
        assert found.out_and_back_m == pytest.approx(8000)
        assert found.seconds_left == pytest.approx(1200)
        assert found.with_wind_mah_km == pytest.approx(5 / 3.6 * 50)
        assert found.against_wind_mah_km == pytest.approx(5 / 3.6 * 100)

    def test_out_and_back_is_what_both_legs_use(self) -> None:
        found = range_out(airspeed_m_s=17, wind_m_s=6, current_a=7, usable_mah=2000)
        km = found.out_and_back_m / 1000
        assert km * (found.with_wind_mah_km + found.against_wind_mah_km) == pytest.approx(2000)

    def test_wind_only_costs_and_a_plane_that_stands_still_never_comes_home(self) -> None:
        reach = [range_out(airspeed_m_s=15, wind_m_s=wind, current_a=5, usable_mah=1500).out_and_back_m for wind in (0, 4, 8, 15)]
        assert reach[0] > reach[1] > reach[2]
        assert reach[3] is None
        assert distance_home(remaining_mah=500, current_a=5, airspeed_m_s=10, headwind_m_s=12) is None

    def test_endurance_by_hand(self) -> None:
        found = endurance(2200, 20)
        assert found.seconds == pytest.approx(0.8 * 2.2 / 20 * 3600)
        assert found.c_rate == pytest.approx(20 / 2.2)


class TestRotor:
    def test_by_hand(self) -> None:
        """10 in at 6000 per minute: 100 Hz, π·0.254·100 = 79.8 m/s."""
        found = rotor(diameter_in=10, pitch_in=5, blades=2, rpm=6000)
        assert found.tip_m_s == pytest.approx(79.796, abs=0.01)
        assert found.blade_pass_hz == 200
        assert [hz for _, hz in found.notches_hz] == [100, 200]
        assert found.pitch_m_s == pytest.approx(12.7)
        assert found.tip_mach == pytest.approx(79.796 / 340.3, abs=1e-4)


class TestRadio:
    def test_free_space(self) -> None:
        """ITU-R P.525-4, equation (4), by hand: 32.4 + 20·log10(868) + 20·log10(5)."""
        assert free_space_loss_db(5000, 868) == pytest.approx(32.4 + 58.77 + 13.98, abs=0.01)

    def test_ten_times_the_distance_costs_twenty_decibels(self) -> None:
        assert free_space_loss_db(5000, 868) - free_space_loss_db(500, 868) == pytest.approx(20)
        assert distance_at_limit(signal_dbm=-60, at_m=100, limit_dbm=-90, reserve_db=10) == pytest.approx(1000)
        with pytest.raises(InputError, match="turn back"):
            distance_at_limit(signal_dbm=-88, at_m=100, limit_dbm=-90)


PARTS = {"inductance_h": 22e-6, "capacitance_f": 470e-6, "coil_ohm": 0.03, "capacitor_ohm": 0.15, "load_a": 1.2, "supply_v": 12.0}


class TestPowerFilter:
    def test_the_response_is_that_of_scipy(self) -> None:
        """scipy.signal.freqs of the same network as a ratio of polynomials."""
        found = power_filter(**PARTS, noise_hz=20_000.0)
        coil, cap, r, rc, load = 22e-6, 470e-6, 0.03, 0.15, 10.0
        above = [load * rc * cap, load]
        below = np.polyadd(above, np.polymul([coil, r], [(load + rc) * cap, 1.0]))
        _, expected = scipy.signal.freqs(above, below, 2 * np.pi * found.frequency_hz)
        assert found.gain_db == pytest.approx(20 * np.log10(np.abs(expected)), abs=1e-9)
        assert found.cutoff_hz == pytest.approx(1 / (2 * np.pi * math.sqrt(coil * cap)))

    def test_resistance_of_the_capacitor_damps(self) -> None:
        peaks = [power_filter(**(PARTS | {"capacitor_ohm": ohm}), noise_hz=20_000.0).peak_db for ohm in (0.01, 0.1, 0.4)]
        assert peaks[0] > peaks[1] > peaks[2]
        assert any("rings" in note for note in power_filter(**(PARTS | {"capacitor_ohm": 0.01}), noise_hz=2e4).notes)

    def test_heat_drop_and_inrush_by_hand(self) -> None:
        found = power_filter(**PARTS, noise_hz=20_000.0, ripple_v=0.5, coil_rated_a=1.0)
        assert found.coil_w == pytest.approx(1.2**2 * 0.03)
        assert found.drop_v == pytest.approx(0.036)
        assert found.inrush_a == pytest.approx(12 / math.sqrt(22e-6 / 470e-6))
        assert found.ripple_v == pytest.approx(0.5 * 10 ** (found.noise_db / 20))
        assert any("saturates" in note for note in found.notes)

    def test_standard_values(self) -> None:
        """IEC 60063:2015: E6 is every other value of E12, and both come again in every decade."""
        assert E12[::2] == E6
        assert series_values(1.0, 9.99, E12) == E12
        assert series_values(100.0, 700.0) == (100.0, 150.0, 220.0, 330.0, 470.0, 680.0)

    def test_picked_parts_do_what_was_asked_and_the_smallest_come_first(self) -> None:
        picks = pick_parts(noise_hz=20_000, wanted_db=20, coil_ohm=0.05, capacitor_ohm=0.2, load_a=1.0, supply_v=12.0)
        assert picks
        size = [one.inductance_h * 1.0 + one.capacitance_f * 144.0 for one in picks]
        assert size == sorted(size)
        assert all(one.noise_db <= -20 and one.q <= 1 for one in picks)
        assert pick_parts(noise_hz=50, wanted_db=60, coil_ohm=0.05, capacitor_ohm=0.2, load_a=1.0, supply_v=12.0) == ()


@pytest.mark.parametrize(("effect", "sd"), [(0.2, 0.1), (0.2, 0.15), (0.1, 0.1)])
def test_flights_a_side_agree_with_statsmodels(effect: float, sd: float) -> None:
    """TTestIndPower, one-sided, at the level that a look may spend; the exact test may ask for one or two more."""
    from nembrit.core.trials.looks import LEVEL

    wanted = TTestIndPower().solve_power(effect_size=effect / sd, alpha=LEVEL, power=0.8, alternative="larger")
    found = flights_to_find(effect, sd=sd)
    assert math.ceil(wanted) <= found <= math.ceil(wanted) + 2


@pytest.mark.parametrize(
    "call",
    [
        lambda: delay_budget(**LOOP, output_rate_hz=0.0), lambda: stick_curve(600, 20), lambda: stick_curve(5, 2),
        lambda: endurance(0, 5), lambda: range_out(airspeed_m_s=1, wind_m_s=0, current_a=5, usable_mah=900),
        lambda: rotor(diameter_in=5, pitch_in=4, blades=0, rpm=1000), lambda: free_space_loss_db(0, 2400),
        lambda: power_filter(**(PARTS | {"load_a": 0.0}), noise_hz=1e4), lambda: series_values(0, 1),
        lambda: power_filter(**(PARTS | {"coil_ohm": -1.0}), noise_hz=1e4),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_with_a_reason(call) -> None:
    with pytest.raises(InputError, match=r"[a-z]"):
        call()


class TestLinkOverDistance:
    """Link quality by distance: made so that a band's share is known, and damaged."""

    AWAY = np.linspace(0.0, 600.0, 6000)  # a minute at 100 Hz, 10 m/s
    QUALITY = np.where(AWAY < 300, 1.0, 0.8)

    def test_bands_say_what_was_flown_in_them(self) -> None:
        bands = link_over_distance(self.QUALITY, self.AWAY, sample_rate_hz=100.0)
        assert [(band.from_m, band.to_m) for band in bands] == [(100.0 * k, 100.0 * (k + 1)) for k in range(6)]
        assert [band.median for band in bands] == pytest.approx([1.0] * 3 + [0.8] * 3)
        assert sum(band.seconds for band in bands) == pytest.approx(60.0, abs=0.1)

    def test_a_rate_or_gaps_change_no_answer(self) -> None:
        gaps = np.where(np.arange(6000) % 7 == 0, np.nan, self.QUALITY)
        for quality, away, rate in ((self.QUALITY[::5], self.AWAY[::5], 20.0), (gaps, self.AWAY, 100.0)):
            assert [band.median for band in link_over_distance(quality, away, sample_rate_hz=rate)] == [1.0] * 3 + [0.8] * 3

    @pytest.mark.parametrize(
        ("quality", "away", "told"),
        [(QUALITY, AWAY / 20, "within 30 m"), (np.full(6000, np.nan), AWAY, "never recorded together"),
         (QUALITY[:5], AWAY, "the same shape")],
    )  # fmt: skip
    def test_what_cannot_be_known_is_refused(self, quality: FloatArray, away: FloatArray, told: str) -> None:
        with pytest.raises(CoreError, match=told):
            link_over_distance(quality, away, sample_rate_hz=100.0)
