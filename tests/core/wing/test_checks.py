"""Safety checks of a plane: what each log tells, what damage takes away, and verdicts on either side of a limit."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.wingchecks import Checks, checks_of
from nembrit.core.errors import InputError
from nembrit.core.records.log import Recording
from nembrit.core.wing.checks.byhand import by_hand
from nembrit.core.wing.checks.criteria import CHECKS, CheckResult, Measured, check_of, defaults_of, judge, limits_from
from nembrit.core.wing.checks.level import offsets_deg
from nembrit.core.wing.checks.slow import SAFE_OVER_STALL, turn_factor
from tests.core.simulate.test_plane import analysed, flown, recorded
from tests.core.wing.planes import SURFACES


def checked(recording: Recording) -> Checks:
    return checks_of(Flight(recording, craft=CraftFacts(kind="fixed_wing", surfaces=SURFACES)))


def result(key: str, recording: Recording) -> CheckResult:
    return next(one for one in checked(recording).found if one.key == key)


def without(recording: Recording, *roles: str) -> Recording:
    kept = {role: values for role, values in recording.channels.items() if role not in roles}
    labels = recording.labels.get("mode")
    numbers = kept.pop("mode", None)
    modes = None if numbers is None or labels is None else [labels[int(number)] for number in numbers]
    return Recording.of(kept, sample_rate_hz=recording.sample_rate_hz, modes=modes)


class TestFailsafe:
    def test_reaction_and_return_of_control_are_timed(self) -> None:
        own = result("failsafe", recorded(flown("wing_failsafe", 5, 4.0)))
        reacts, obeys = own.measured["reacts_s"], own.measured["obeys_s"]
        assert reacts.value == pytest.approx(1.0, abs=0.15)  # the stand-in's receiver waits for one second
        assert obeys.value == pytest.approx(1.2, abs=0.15)
        assert "changed to “return”" in own.headline

    def test_a_return_that_the_link_began_is_no_return_of_the_pilot(self) -> None:
        recording = recorded(flown("wing_failsafe", 5, 4.0))
        assert not analysed(recording).returns
        assert analysed(without(recording, "link_quality")).returns

    @pytest.mark.parametrize(
        ("roles", "told"),
        [(("link_quality",), "switch on logging of the link quality"), (("altitude",), "height not logged"),
         (("mode", "throttle"), "it did not react")],
    )  # fmt: skip
    def test_what_is_missing_is_said(self, roles: tuple[str, ...], told: str) -> None:
        found = checked(without(recorded(flown("wing_failsafe", 5, 4.0)), *roles))
        own = next((one for one in found.found if one.key == "failsafe"), None)
        assert told in (found.reasons.get("failsafe") or " ".join(one.words for one in own.measured.values()))

    def test_a_closed_throttle_counts_as_a_reaction(self) -> None:
        n, rate = 3000, 50.0
        t_s = np.arange(n) / rate
        link = np.where((t_s > 20) & (t_s < 35), 0.0, 1.0)
        channels = {
            "link_quality": link, "throttle": np.where((t_s > 22) & (t_s < 36), 0.0, 0.5), "altitude": np.full(n, 60.0),
            "airspeed": np.full(n, 13.0),
        }  # fmt: skip
        own = result("failsafe", Recording.of(channels, sample_rate_hz=rate))
        assert own.measured["reacts_s"].value == pytest.approx(2.0, abs=0.15)
        assert "closed the throttle" in own.headline


class TestSlow:
    @pytest.mark.parametrize("seed", [5, 6])
    def test_three_stalls_give_a_speed_with_its_interval(self, seed: int) -> None:
        recording = recorded(flown("wing_stall", seed, 3.0))
        own = result("slow", recording)
        ratio = own.measured["stall_ratio"]
        usual = float(np.median(recording.channels["airspeed"][recording.channels["altitude"] > 15]))
        # the handbook's definition, V = √(2 m g / ρ S CL), with the most lift that the stand-in's curve gives
        alpha = np.linspace(0.0, 0.5, 2000)
        over = 1 / (1 + np.exp(-30.0 * (alpha - (1.2 - 0.25) / 5.0)))
        most = ((1 - over) * (0.25 + 5.0 * alpha) + over * 2 * np.sin(alpha) ** 2 * np.cos(alpha)).max()
        true = np.sqrt(2 * 1.4 * 9.80665 / (1.225 * 0.38 * most))
        assert own.headline.startswith("Stalls at")
        assert ratio.value is not None
        assert abs(usual / true - ratio.value) < ratio.error

    @pytest.mark.parametrize("card", ["wing_return", "wing_trim", "wing_failsafe"])
    def test_ordinary_flights_show_no_stall(self, card: str) -> None:
        assert not [one for one in checked(recorded(flown(card, 6, 4.0))).found if "Stalls" in one.headline]

    def test_one_stall_is_known_less_well_than_three(self) -> None:
        recording = recorded(flown("wing_stall", 5, 3.0))
        once = result("slow", recording.span(10.0, 46.0)).measured["stall_ratio"]
        assert once.error / once.value == pytest.approx(0.07, rel=0.2)

    def test_without_airspeed_or_pitch_it_is_refused(self) -> None:
        for role in ("airspeed", "attitude.pitch"):
            assert "switch their logging on" in checked(without(recorded(flown("wing_stall", 5, 3.0)), role)).reasons["slow"]

    def test_what_may_have_been_a_dive_is_no_stall(self) -> None:
        recording = recorded(flown("wing_stall", 5, 3.0))
        assert "cannot be told from a dive" in checked(without(recording, "stick.pitch", "attitude_wanted.pitch")).reasons["slow"]
        for role in ("stick.pitch", "attitude_wanted.pitch"):
            assert "Stalls at" in result("slow", without(recording, role)).headline

    @pytest.mark.parametrize(("bank_deg", "factor"), [(0, 1.0), (30, 1.075), (45, 1.189), (60, 1.414)])
    def test_turns_raise_the_stall_as_in_the_handbook(self, bank_deg: float, factor: float) -> None:
        """FAA Airplane Flying Handbook, stall speed against bank: √n with n = 1/cos φ (table from memory)."""
        assert turn_factor(bank_deg) == pytest.approx(factor, abs=0.001)
        assert SAFE_OVER_STALL == 1.3


class TestAirspeed:
    @pytest.mark.parametrize(("seed", "ratio"), [(42, 0.92), (44, 1.0), (46, 1.1)])
    def test_a_scale_is_found_within_its_interval(self, seed: int, ratio: float) -> None:
        own = result("airspeed", recorded(flown("wing_airspeed", seed, 2.5, pitot_ratio=ratio))).measured["off_pct"]
        assert own.value is not None
        assert abs(own.value - abs(100 * (ratio - 1))) <= own.error + 0.3
        assert own.error < 6

    def test_it_does_not_depend_on_where_north_is(self) -> None:
        recording = recorded(flown("wing_airspeed", 44, 2.5))
        turned = dict(recording.channels)
        turned["course"] = (turned["course"] + 77.0) % 360.0
        first, second = (
            result("airspeed", one) for one in (recording, Recording.of(turned, sample_rate_hz=recording.sample_rate_hz))
        )
        assert first.measured["off_pct"].value == pytest.approx(second.measured["off_pct"].value, abs=0.2)

    def test_one_way_only_tells_nothing(self) -> None:
        recording = recorded(flown("wing_trim", 6, 4.0)).span(20.0, 38.0)
        assert "no two opposite" in checked(recording).reasons["airspeed"]


class TestLevel:
    def log(self, roll: float, pitch: float, slope: tuple[float, float], *, is_turned: bool) -> Recording:
        rate, n = 50.0, 600
        rng = np.random.default_rng(3)
        sides = [(roll + slope[0], pitch + slope[1], 90.0)]
        if is_turned:
            sides.append((roll - slope[0], pitch - slope[1], 271.0))
        parts = [
            {"attitude.roll": np.full(n, a) + 0.02 * rng.standard_normal(n), "attitude.pitch": np.full(n, b),
             "heading": np.full(n, c), "gyro.roll": np.zeros(n), "throttle": np.zeros(n)}
            for a, b, c in sides
        ]  # fmt: skip
        moved = {role: np.zeros(100) for role in parts[0]} | {"gyro.roll": np.full(100, 60.0)}
        joined = parts if len(parts) == 1 else [parts[0], moved, parts[1]]
        return Recording.of({role: np.concatenate([one[role] for one in joined]) for role in parts[0]}, sample_rate_hz=rate)

    def test_turning_it_round_takes_the_table_out(self) -> None:
        one = result("level", self.log(0.8, -0.4, (1.1, 0.5), is_turned=False))
        both = result("level", self.log(0.8, -0.4, (1.1, 0.5), is_turned=True))
        assert one.measured["roll_deg"].value == pytest.approx(1.9, abs=0.05)
        assert abs(one.measured["roll_deg"].value - 0.8) <= one.measured["roll_deg"].error  # and its interval says so
        assert both.measured["roll_deg"].value == pytest.approx(0.8, abs=0.05)
        assert both.measured["pitch_deg"].value == pytest.approx(0.4, abs=0.05)

    @given(st.floats(-5, 5), st.floats(-5, 5), st.floats(-3, 3))
    @settings(max_examples=30, deadline=None)
    def test_the_reversal_is_exact(self, roll: float, pitch: float, slope: float) -> None:
        found, _ = offsets_deg((roll + slope, pitch - slope), (roll - slope, pitch + slope))
        assert found == pytest.approx((roll, pitch), abs=1e-9)


@pytest.mark.parametrize(
    ("value", "error", "passed"),
    [(2.0, 0.1, True), (3.0, 0.1, None), (2.95, 0.1, None), (3.2, 0.1, False), (None, 0.0, None)],
)  # fmt: skip
def test_only_a_whole_interval_on_one_side_is_a_verdict(value: float | None, error: float, passed: bool | None) -> None:
    check = check_of("failsafe")
    assert check is not None
    own = CheckResult(key="failsafe", at_s=None, headline="", measured={"reacts_s": Measured(value=value, error=error)})
    assert judge(check, defaults_of(check), own)[0].passed is passed


@pytest.mark.parametrize("check", CHECKS, ids=lambda check: check.key)
def test_limits_beyond_any_plane_are_refused(check) -> None:
    for limit in check.limits:
        for wrong in (limit.low - 1, limit.high + 1, "x", True, float("nan")):
            with pytest.raises(InputError):
                limits_from(check, {limit.key: wrong})


@pytest.mark.parametrize(
    ("key", "readings", "told"),
    [
        ("range", {"distance_m": 40.0, "servo_jumps": 0.0}, [("40 m", True), ("0", True)]),
        ("range", {"distance_m": 12.0, "servo_jumps": 2.0}, [("12 m", False), ("2", False)]),
        ("failsafe", {"reacts_s": 1.0}, [("1.0 ± 0.5 s", True), ("not measured", None), ("not measured", None)]),
        ("level", {"roll": 2.5, "pitch": 1.0, "roll_turned": 1.5, "pitch_turned": -1.0},
         [("2.0 ± 0.2°", False), ("0.0 ± 0.2°", True)]),
        ("level", {"roll": 0.5, "pitch": 0.0}, [("0.5 ± 1.2°", None), ("0.0 ± 1.2°", True)]),
        # 10 and 20 m/s over ground is 15 m/s through the air: a worked example by hand
        ("airspeed", {"ground_there": 10, "ground_back": 20, "told_there": 18, "told_back": 18}, [("20.0 ± 5.0 %", False)]),
        ("slow", {"stall_m_s": 8.0, "cruise_m_s": 14.0}, [("1.75 ± 0.18", True), ("not measured", None), ("not measured", None)]),
    ],
)  # fmt: skip
def test_readings_by_hand_are_judged(key: str, readings: dict[str, float], told: list[tuple[str, bool | None]]) -> None:
    check = check_of(key)
    assert check is not None
    points = judge(check, defaults_of(check), by_hand(check, readings))
    assert [(point.flown.removesuffix(" (by hand)"), point.passed) for point in points] == told


@pytest.mark.parametrize(
    "readings", [{}, {"distance_m": -1.0, "servo_jumps": 0.0}, {"distance_m": float("inf"), "servo_jumps": 0}]
)
def test_wrong_readings_are_refused(readings: dict[str, float]) -> None:
    check = check_of("range")
    assert check is not None
    with pytest.raises(InputError):
        by_hand(check, readings)
