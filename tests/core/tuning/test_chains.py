"""What chains cost and leave, the choice among them, and their words in a tuner's settings."""

import math
from dataclasses import replace

import numpy as np
import pytest
import scipy.signal

from nembrit.core.filters.stated import lag_deg, rotor_response, stated_delay_s, whole_response
from nembrit.core.noise.rows import NoiseRows, noise_rows
from nembrit.core.rotors.track import RotorTrack
from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.setup.namemap import Meaning
from nembrit.core.tuning.design import SCHOOLS, Task, best_chain, lag_of, motor_rms_of, target_for, trade_curve
from nembrit.core.tuning.residual import check_of, folded_sentence, incoming, residual
from nembrit.core.tuning.translate import chain_values, gain_values
from tests.core.tuning.trying import BASE, ROTOR, analysed, bench, low

HZ = np.arange(0.0, 1000.0, 4.0)
GAINS = AxisGains(p=0.002, i=0.01, d=3e-5)
MIXER = np.array([[1, 1, 1], [-1, 1, -1], [1, -1, -1], [-1, -1, 1]], float)


def rows(density: float = 0.01, line_hz: float | None = None, *, is_raw: bool = True) -> NoiseRows:
    """Even noise on every axis, with a line where one is wanted; motors turn at 100 and 150 Hz in turn."""
    level = np.full((2, HZ.size), density)
    if line_hz is not None:
        level[:, np.abs(HZ - line_hz) < 6] *= 400
    power = dict.fromkeys(("roll", "pitch", "yaw"), level)
    turning = np.array([[100.0] * 4, [150.0] * 4])
    return NoiseRows(
        frequency_hz=HZ,
        seconds=np.array([20.0, 20.0]),
        rotor_hz=turning,
        raw=power if is_raw else {},
        filtered={} if is_raw else power,
    )


def settings(**chains: tuple[Filter, ...]) -> Controller:
    return Controller(loop_rate_hz=4000.0, gains=dict.fromkeys(("roll", "pitch", "yaw"), GAINS), **chains)


def task(line_hz: float | None = None, **chains: tuple[Filter, ...]) -> Task:
    flown = settings(**chains)
    noise = incoming(rows(line_hz=line_hz), flown)
    return Task(noise=noise, flown=flown, mixer=MIXER, gains=flown.gains, crossover_hz={"roll": 12.0, "pitch": 10.0})


class TestStated:
    @pytest.mark.parametrize("filters", [(low(90.0),), (low(120.0), Filter(kind="notch", frequency_hz=180.0, q=3.0)), (ROTOR,)])
    def test_delay_is_the_slope_of_the_phase_at_0_hz(self, filters: tuple[Filter, ...]) -> None:
        turning = [110.0, 120.0]
        near = whole_response(filters, np.array([0.05]), 4000.0, turning)
        assert stated_delay_s(filters, 4000.0, turning) == pytest.approx(
            -float(np.angle(near)[0]) / (2 * math.pi * 0.05), rel=1e-4
        )
        assert lag_deg(filters, 15.0, 4000.0, turning) == pytest.approx(
            360 * 15 * stated_delay_s(filters, 4000.0, turning), rel=0.06
        )

    def test_notches_follow_every_motor_and_fade_in(self) -> None:
        # scipy's own notch, with the Q that makes it the cookbook's (references in the methods)
        response = np.abs(rotor_response((ROTOR,), np.array([90.0, 180.0, 240.0]), 4000.0, [90.0, 120.0]))
        assert response[0] < 1e-6
        assert response[1] < 1e-6
        assert response[2] < 1e-6
        half = np.abs(rotor_response((replace(ROTOR, orders=(1,)),), np.array([70.0]), 4000.0, [70.0]))
        assert half[0] == pytest.approx(0.5), "half way through its blend"
        assert np.all(rotor_response((ROTOR,), HZ, 4000.0, [20.0]) == 1), "below its lowest frequency it is off"

    def test_white_noise_through_a_chain_is_what_scipy_says(self) -> None:
        b, a = scipy.signal.butter(2, 120.0, fs=4000.0)
        _, response = scipy.signal.freqz(b, a, worN=HZ, fs=4000.0)
        flown = settings()
        left = residual(incoming(rows(), flown), flown, replace(flown, gyro=(low(120.0),)), mixer=MIXER, gains={})
        np.testing.assert_allclose(left.density["roll"], 0.01 * np.abs(response) ** 2, rtol=1e-4, atol=1e-9)


class TestResidual:
    def test_motors_get_what_p_and_d_make_of_the_noise(self) -> None:
        flown = settings()
        left = residual(incoming(rows(), flown), flown, flown, mixer=MIXER, gains={"roll": replace(GAINS, d=0.0)})
        bands = HZ >= 60
        assert left.motor_rms == pytest.approx(0.002 * math.sqrt(0.01 * 4.0 * bands.sum()))
        assert residual(incoming(rows(), flown), flown, flown, mixer=MIXER, gains={}).motor_rms is None

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_the_flown_chain_gives_the_logged_filtered_gyro(self) -> None:
        for axis, bands in bench().check.error_db.items():
            assert all(abs(error) < 1.0 for error in bands.values()), axis  # the figure wanted: 1 dB

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_notches_that_follow_the_motors_are_told_a_little_too_weak(self) -> None:
        rotor = replace(BASE, gyro=(low(250.0), ROTOR))
        assert all(abs(error) < 1.8 for bands in bench(rotor).check.error_db.values() for error in bands.values())

    @pytest.mark.parametrize(("loop_hz", "is_folded"), [(2000.0, False), (8000.0, True)])
    def test_bands_that_folded_noise_hides_are_not_checked(self, loop_hz: float, is_folded: bool) -> None:
        # a log slower than its loop, level from 100 Hz on: what stands there may come from above half its rate
        flown = replace(settings(gyro=(low(150.0),)), loop_rate_hz=loop_hz)
        level = np.where(HZ < 100, 1.0, 0.01)[None, :]
        through = np.abs(whole_response(flown.gyro, HZ, loop_hz)) ** 2
        both = replace(
            rows(), raw={"yaw": level}, filtered={"yaw": level * through}, seconds=np.ones(1), rotor_hz=np.empty((1, 0))
        )
        found = check_of(incoming(both, flown), flown)
        assert found.error_db["yaw"]["motion"] == pytest.approx(0.0, abs=0.01)
        assert ("jitter" in found.folded.get("yaw", ())) == is_folded
        assert ("jitter" in found.error_db["yaw"]) != is_folded
        assert ("folds down" in folded_sentence(found, "yaw")) == is_folded

    def test_without_the_raw_gyro_it_is_worked_back(self) -> None:
        flown = settings(gyro=(low(150.0),))
        filtered = rows(is_raw=False)
        noise = incoming(filtered, flown)
        assert "no raw gyro of roll and pitch and yaw" in noise.notes[0]
        assert check_of(noise, flown).error_db == {}
        left = residual(noise, flown, flown, mixer=MIXER, gains={})
        inside = np.abs(whole_response(flown.gyro, HZ, 4000.0)) ** 2 > 0.02
        np.testing.assert_allclose(left.density["roll"][inside], 0.01, rtol=1e-9)

    def test_a_chip_filter_counts_as_a_quotient(self) -> None:
        flown = settings(chip=(low(300.0),))
        opened = residual(incoming(rows(), flown), flown, replace(flown, chip=()), mixer=MIXER, gains={})
        at = int(np.searchsorted(HZ, 300.0))
        assert opened.density["roll"][at] == pytest.approx(0.02, rel=0.02), "3 dB come back at its cutoff"

    def test_rows_are_clusters_of_like_speed(self) -> None:
        found = analysed(BASE).shaping.rows
        assert found.share.sum() == pytest.approx(1.0)
        assert 24 <= found.seconds.size <= 48
        means = found.rotor_hz.mean(axis=1)
        assert np.all(np.diff(means) >= 0)
        assert found.usual_rotor_hz.shape == (6,)

    def test_speeds_that_are_only_relative_do_not_place_notches(self, monkeypatch: pytest.MonkeyPatch) -> None:
        from nembrit.core.spectra.frames import frames_of
        from tests.flying import flown, recording

        frames = frames_of(recording(flown(5)))
        track = RotorTrack(hz=np.full((frames.t_s.size, 6), 90.0), is_recorded=False, level=0.0, is_relative=True)
        found = noise_rows(frames, frames.power, track)
        assert found.rotor_hz.shape[1] == 0
        assert noise_rows(frames, {}, track) is None
        assert "motor-tracking notches" in incoming(found, BASE).notes[0]


class TestDesign:
    @pytest.mark.parametrize(("line_hz", "target"), [(None, 0.004), (250.0, 0.008)])
    def test_the_choice_is_as_good_as_brute_force(self, line_hz: float | None, target: float) -> None:
        # acceptance table of the methods: within 0.1 ms of brute force over the same two cutoffs
        given = replace(task(line_hz), pins=frozenset({"notches"}))
        found = best_chain(given, target)
        best = math.inf
        for gyro_hz in (*np.geomspace(50, 600, 40), None):
            for d_hz in (*np.geomspace(35, 500, 40), None):
                chains = replace(given.flown, gyro=(low(gyro_hz),) if gyro_hz else (), d_term=(low(d_hz),) if d_hz else ())
                if motor_rms_of(given, chains) <= target:
                    best = min(best, lag_of(given, chains))
        assert found.meets_target
        assert motor_rms_of(given, found.chains) <= target * 1.003
        assert (found.lag_deg - best) / 360 / 12.0 <= 0.1e-3

    def test_a_notch_is_set_where_a_line_is_and_kept_clear_of_control(self) -> None:
        found = best_chain(task(250.0), 0.006)
        notches = [one for one in found.chains.gyro if one.kind == "notch"]
        assert any(abs(one.frequency_hz - 250.0) < 8 for one in notches)
        assert found.lag_deg < best_chain(replace(task(250.0), pins=frozenset({"notches"})), 0.006).lag_deg
        low_line = best_chain(task(30.0), 0.006)
        assert all(one.frequency_hz >= 36 for one in low_line.chains.gyro if one.kind == "notch")

    @pytest.mark.parametrize(("pin", "place"), [("gyro", "gyro"), ("d_term", "d_term")])
    def test_what_is_pinned_stays(self, pin: str, place: str) -> None:
        given = replace(task(gyro=(low(170.0),), d_term=(low(95.0),)), pins=frozenset({pin, "notches"}))
        found = best_chain(given, 0.006)
        assert getattr(found.chains, place) == getattr(given.flown, place)

    def test_where_nothing_is_enough_the_quietest_is_told(self) -> None:
        found = best_chain(task(), 1e-5)
        assert not found.meets_target
        assert found.motor_rms > 1e-5

    @pytest.mark.parametrize("school", SCHOOLS)
    def test_less_noise_costs_more_lag(self, school: str) -> None:
        curve = trade_curve(task(250.0, chip=(low(500.0),)), school)
        assert np.all(np.diff(curve.motor_rms) > 0)
        assert np.all(np.diff(curve.lag_deg) <= 1e-9)

    def test_targets_fall_with_care_and_with_size(self) -> None:
        assert target_for("careful", 5.0) < target_for("usual", 5.0) < target_for("bold", 5.0)
        assert target_for("usual", 8.0) < target_for("usual", 5.0)
        assert target_for("usual", 2.0) == target_for("usual", 1.0) == pytest.approx(1.3 * target_for("usual", 5.0))


NAMES = {
    "gyro smooth": Meaning("filter.gyro.low.cutoff_hz", 1.0), "d smooth": Meaning("filter.d_term.low.cutoff_hz", 1.0),
    "gyro notch": Meaning("filter.gyro.notch.centre_hz", 1.0), "gyro notch q": Meaning("filter.gyro.notch.q", 0.01),
    "p roll": Meaning("gain.rate.roll.p", None), "d roll": Meaning("gain.rate.roll.d", 1e-6),
}  # fmt: skip
SETTINGS = [
    Setting(name=name, value=value)
    for name, value in (
        ("gyro smooth", "180"), ("d smooth", "110"), ("gyro notch", "0"), ("gyro notch q", "300"), ("p roll", "45"),
        ("d roll", "0.30"),
    )
]  # fmt: skip


@pytest.mark.parametrize(
    ("chains", "values", "missing"),
    [
        ({"gyro": (low(180.0),), "d_term": (low(110.0),)}, {}, ()),
        ({"gyro": (low(250.2),), "d_term": (low(87.3),)}, {"gyro smooth": "250", "d smooth": "87"}, ()),
        (
            {"gyro": (Filter(kind="notch", frequency_hz=212.4, q=5.0),), "d_term": (low(110.0),)},
            {"gyro smooth": "0", "gyro notch": "212", "gyro notch q": "500"}, (),
        ),
        ({"gyro": (low(180.0), ROTOR), "d_term": (low(110.0),)}, {}, ("motor-tracking notches: how many orders, 0 = off",) ),
    ],
)  # fmt: skip
def test_a_chain_in_the_tuner_s_own_settings(chains: dict, values: dict[str, str], missing: tuple[str, ...]) -> None:
    found = chain_values(SETTINGS, NAMES, settings(**chains))
    assert found.values == values
    assert found.missing[:1] == missing
    assert set(found.of_group(SETTINGS, NAMES, "d_filters")) == {name for name in values if name == "d smooth"}


def test_gains_in_the_tuner_s_own_numbers() -> None:
    found = gain_values(SETTINGS, NAMES, {"roll": {"p": 1.16, "d": 1.0, "i": 1.2}})
    assert found.values == {"p roll": "52"}
    assert found.missing == ("I gain, rate loop, roll",)
    assert gain_values(SETTINGS, NAMES, {"roll": {"d": 1.1}}).values == {"d roll": "0.33"}
