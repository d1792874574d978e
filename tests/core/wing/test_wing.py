"""Weaving told apart, trims from hands-off flying, creep and automatic gains, on flights written apart from the analyses."""

import json
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from statsmodels.regression.linear_model import OLS

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.report.documents import report_document
from nembrit.core.setup.craft import Surface
from nembrit.core.wing.creep import Creep, creep_of
from nembrit.core.wing.errors import combined, hac_error
from nembrit.core.wing.gainflight import gain_flight
from nembrit.core.wing.speeds import by_speed
from nembrit.core.wing.track import track_of
from nembrit.core.wing.trim import trim_of
from nembrit.core.wing.weaving import weaving_of
from tests.core.wing.planes import SURFACES, followed, gain_holds, hands_off


class TestErrors:
    @pytest.mark.parametrize(("seed", "lags"), [(1, 0), (2, 3), (3, 12)])
    def test_newey_west_as_statsmodels(self, seed: int, lags: int) -> None:
        """Against statsmodels' HAC covariance of a constant (references 2.16)."""
        rng = np.random.default_rng(seed)
        values = np.convolve(rng.standard_normal(400), np.ones(5) / 5, "valid")
        fitted = OLS(values, np.ones(values.size)).fit(cov_type="HAC", cov_kwds={"maxlags": lags, "use_correction": False})
        assert hac_error(values, lags=lags) == pytest.approx(float(fitted.bse[0]), rel=1e-9)

    def test_legs_that_scatter_widen_their_mean(self) -> None:
        """By hand: equal errors, plain mean; the Birge ratio is sqrt(chi²/(n − 1))."""
        assert combined(np.array([1.0, 1.0]), np.array([0.1, 0.1])) == (pytest.approx(1.0), pytest.approx(0.1 / np.sqrt(2)))
        mean, error = combined(np.array([0.0, 2.0]), np.array([0.1, 0.1]))
        assert (mean, error) == (pytest.approx(1.0), pytest.approx(1.0))


class TestWeaving:
    @pytest.mark.parametrize("seed", range(3))
    @pytest.mark.parametrize(
        ("changes", "verdict", "side"),
        [
            ({}, "none", None),
            ({"wind": (3.0, -3.0)}, "none", None),
            ({"pull_deg_s": -1.2}, "trim_or_horizon", "left"),
            ({"pull_deg_s": 1.5, "wind": (4.0, 0.0)}, "trim_or_horizon", "right"),
            ({"tilt_deg": 1.8}, "trim_or_horizon", "left"),
            ({"gain": 7.0}, "navigation_gain", None),
            ({"gain": 7.0, "pull_deg_s": -1.5}, "both", "left"),
        ],
    )
    def test_a_pull_is_told_from_a_swing(self, changes: dict[str, float], verdict: str, side: str | None, seed: int) -> None:
        flight = Flight(followed(seed, **changes), craft=CraftFacts(kind="fixed_wing"))
        found = analyse(flight, only=["wing"]).wing
        assert found is not None
        assert found.weaving is not None, found.reasons
        assert (found.weaving.verdict, found.weaving.side) == (verdict, side), found.weaving

    def test_what_is_missing_is_said_with_what_to_do(self) -> None:
        whole = followed(1).channels
        for role, told in (("attitude.roll", "no attitude"), ("course", "no ground speed")):
            rest = Recording.of({name: values for name, values in whole.items() if name != role}, sample_rate_hz=50.0)
            with pytest.raises(NotEnoughData, match=told):
                weaving_of(track_of(rest), None)
        with pytest.raises(NotEnoughData, match="fly four legs"):
            weaving_of(track_of(followed(1, n_legs=1, leg_s=15.0)), None)


class TestTrim:
    @pytest.mark.parametrize("seed", range(4))
    @pytest.mark.parametrize("trims", [(0.0, 0.0, 0.0), (18.0, -25.0, 12.0), (-40.0, 31.0, 0.0)])
    def test_hands_off_means_are_the_trims(self, seed: int, trims: tuple[float, float, float]) -> None:
        """Within the demand: 4 µs in roll, 8 µs in pitch and yaw, and inside twice its interval."""
        found = trim_of(hands_off(seed, trims_us=trims), SURFACES)
        for axis, wanted, most in zip(("roll", "pitch", "yaw"), trims, (4.0, 8.0, 8.0), strict=True):
            own = found.axes[axis]
            assert own.trim_us == pytest.approx(wanted, abs=most), axis
            assert abs(own.trim_us - wanted) <= 4 * own.error_us
        assert (found.throttle, found.airspeed_m_s) == (pytest.approx(0.45), pytest.approx(13.0))

    def test_two_ailerons_are_no_more_evidence_than_one(self) -> None:
        recording = hands_off(2, trims_us=(18.0, 0.0, 0.0))
        both, one = (trim_of(recording, own).axes["roll"] for own in (SURFACES, SURFACES[1:]))
        assert (both.trim_us, both.error_us) == (pytest.approx(one.trim_us), pytest.approx(one.error_us))

    @pytest.mark.parametrize("seed", range(3))
    def test_directions_come_from_the_log_where_nobody_said_them(self, seed: int) -> None:
        unsaid = tuple(Surface(servo=one.servo, role=one.role) for one in SURFACES)
        found = trim_of(hands_off(seed, trims_us=(18.0, -25.0, 12.0)), unsaid)
        assert {number: one.direction for number, one in found.servos.items()} == {"1": 1, "2": 1, "3": 1, "4": -1}
        assert found.axes["roll"].trim_us == pytest.approx(18.0, abs=4)

    def test_a_direction_that_the_log_does_not_tell_stays_open(self) -> None:
        still = hands_off(2, seconds=60.0).span(0.0, 55.0)
        found = trim_of(still, tuple(Surface(servo=one.servo, role=one.role) for one in SURFACES))
        assert found.unknown == (1, 2, 3, 4)
        assert found.axes == {}

    @pytest.mark.parametrize(
        ("spoil", "surfaces", "told"),
        [
            (lambda own: own, (), "the control surfaces are unknown"),
            (lambda own: {k: v for k, v in own.items() if not k.startswith("servo")}, SURFACES, "no servo outputs"),
            (lambda own: {k: v for k, v in own.items() if not k.startswith("stick")}, SURFACES, "no sticks"),
            (lambda own: own | {"stick.roll": np.full(own["servo.1"].size, 0.5)}, SURFACES, "hands off: fly level"),
        ],
    )
    def test_what_is_missing_is_said(self, spoil, surfaces: tuple[Surface, ...], told: str) -> None:
        channels = spoil(dict(hands_off(1).channels))
        with pytest.raises(NotEnoughData, match=told):
            trim_of(Recording.of(channels, sample_rate_hz=50.0), surfaces)


class TestCreep:
    @pytest.mark.parametrize("rate", [0.0, -0.8, 1.5])
    def test_creep_of_half_a_minute(self, rate: float) -> None:
        """Demanded: 0.3 deg/s from 30 s on."""
        found = creep_of(track_of(hands_off(3, creep_deg_s=rate)), None)
        assert found.rate_deg_s == pytest.approx(rate, abs=0.3)
        assert not found.wind_removed
        with pytest.raises(NotEnoughData, match="no ten seconds hands off and level"):
            creep_of(track_of(hands_off(3, seconds=8.0)), None)

    @pytest.mark.parametrize(
        ("slow", "fast", "told"),
        [((1.0, 12), (1.6, 19), "trim"), ((1.6, 12), (1.0, 19), "horizon"), ((2.0, 12), (2.04, 19), "both"),
         ((0.6, 12), (0.62, 19), "cannot tell"), ((0.1, 12), (0.16, 19), "cannot tell"), ((1.0, 12), (1.6, 13), None)],
    )  # fmt: skip
    def test_two_speeds_tell_a_trim_from_the_horizon(self, slow: tuple, fast: tuple, told: str | None) -> None:
        creeps = [
            Creep(rate_deg_s=rate, error_deg_s=0.1, seconds=50.0, blocks=12, airspeed_m_s=speed, wind_removed=True)
            for rate, speed in (slow, fast)
        ]
        found = by_speed(creeps)
        assert (found.verdict if found else None) == told

    def test_a_trim_is_hardly_ever_called_a_horizon(self) -> None:
        """A true trim of 0.8 deg/s at two speeds, errors as they are flown: the wrong word in 2 of 100 at most."""
        rng = np.random.default_rng(28)
        speeds, words = (12.0, 18.0), []
        for _ in range(400):
            creeps = [
                Creep(rate_deg_s=0.8 * v / 15 + 0.15 * rng.standard_normal(), error_deg_s=0.15, seconds=50.0, blocks=12,
                      airspeed_m_s=v, wind_removed=True) for v in speeds
            ]  # fmt: skip
            found = by_speed(creeps)
            words.append(found.verdict if found else "")
        assert sum(word in ("horizon", "both") for word in words) <= 8
        assert sum(word == "trim" for word in words) >= 100


class TestGains:
    RISING = list(np.linspace(10, 30, 12))

    @pytest.mark.parametrize(
        ("lengths", "gains", "verdict", "overshoots"),
        [
            ([2.0] * 12, RISING, "still_rising", 0),
            ([2.0] * 5, [10, 12, 14, 16, 18], "too_few", 0),
            ([1.2] * 12, [10, 14, 18, 22, 26, 28, 26.8, 27.0, 26.5, 26.7, 26.9, 26.4], "settled", 3),
            ([2.0] * 10, [20.0] * 10, "never_moved", 0),
            ([2.0] * 10, [20.0, 20.1] * 5, "settled", 4),
            ([0.15] * 10, [20.0, 20.1] * 5, "too_few", 4),
        ],
    )
    def test_a_gain_flight_is_judged_by_its_gain(
        self, lengths: list[float], gains: list[float], verdict: str, overshoots: int
    ) -> None:
        found = gain_flight(gain_holds(lengths, gains), "roll")
        assert found.repetitions == len(lengths)
        assert found.hold_median_s == pytest.approx(lengths[0], abs=0.05)
        assert (found.verdict, found.overshoots) == (verdict, overshoots)
        assert found.long_enough_ratio == (1.0 if lengths[0] >= 2 else 0.0)

    def test_without_the_gain_an_overshoot_is_told_by_the_rates(self) -> None:
        log = gain_holds([2.0] * 9, [20.0] * 9, ratio=1.05).channels
        del log["gain.roll.f"]
        found = gain_flight(Recording.of(log, sample_rate_hz=50.0), "roll")
        assert (found.overshoots, found.verdict, found.gain_last) == (9, "unknown", None)
        with pytest.raises(NotEnoughData, match="never held"):
            gain_flight(hands_off(1), "roll")
        with pytest.raises(NotEnoughData, match="are needed"):
            gain_flight(followed(1), "roll")


def test_a_plane_s_report_has_its_own_part_and_no_cause_of_multirotors() -> None:
    flight = Flight(followed(4, pull_deg_s=-1.4), craft=CraftFacts(kind="fixed_wing", surfaces=SURFACES))
    results = analyse(flight, only=["noise", "response", "motors", "judgement", "loop", "wing"])
    document = report_document(results, {}, spans=(), window_start_s=0.0)
    assert "response" not in document
    schema = json.loads(Path("docs/schemas/report.schema.json").read_text(encoding="utf-8"))
    jsonschema.validate(document | {"log": {}}, schema | {"properties": schema["properties"] | {"log": {}}})
    assert document["wing"]["weaving"] == {"verdict": "trim_or_horizon", "side": "left", "line_hz": None, "legs": 4}
    assert document["wing"]["trim"] is None
    assert [finding["code"] for finding in document["findings"]] == ["yaw_trim"]
    assert any(note.startswith("wing.trim: ") for note in document["notes"])
    assert results.wing is not None
    again = from_json(type(results.wing), to_json(results.wing))
    assert to_json(again) == to_json(results.wing)


@pytest.mark.parametrize("kind", ["multirotor", "fixed_wing"])
@pytest.mark.parametrize("step", [1, 2, 5])
def test_slow_logs_of_any_craft_are_answered_without_a_fault(kind: str, step: int) -> None:
    """50, 25 and 10 Hz: what such a log cannot tell comes with its reason."""
    whole = hands_off(1)
    thinned = Recording.of({name: values[::step].copy() for name, values in whole.channels.items()}, sample_rate_hz=50.0 / step)
    results = analyse(Flight(thinned, craft=CraftFacts(kind=kind, surfaces=SURFACES)))
    assert results.metrics is not None
    assert "jitter_noise.roll" not in results.metrics.values
    assert (results.wing is not None) == (kind == "fixed_wing")
