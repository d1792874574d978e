"""What to move, whether it helped, what automatic gains say together, and rates against models from outside."""

import control
import numpy as np
import pytest

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.setup.autopilot import autopilot_from_settings
from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.craft import Surface
from nembrit.core.setup.namemap import Meaning, group_of
from nembrit.core.wing.cure import YawPoint, loosened, new_centres, surely_held, trim_check, yaw_step, yaw_trim_of
from nembrit.core.wing.gainflight import GainFlight
from nembrit.core.wing.gainruns import gain_runs, is_saved
from nembrit.core.wing.lurch import Lurch, lurches_of
from nembrit.core.wing.pull import Pull
from nembrit.core.wing.rates import forward_word, rate_response
from nembrit.core.wing.trim import AxisTrim, ServoTrim, Trim
from tests.core.wing.planes import SURFACES

RATE_HZ = 50.0


def trim(roll_us: float, error_us: float = 1.0, **servos: float) -> Trim:
    return Trim(
        axes={"roll": AxisTrim(trim_us=roll_us, error_us=error_us, seconds=40.0)}, throttle=0.5, airspeed_m_s=13.0, unknown=(),
        servos={number: ServoTrim(centre_us=1500.0, trim_us=own, direction=1) for number, own in servos.items()},
    )  # fmt: skip


def pull(side: str | None, error_deg_s: float = 0.1) -> Pull:
    return Pull(creep_deg_s=-1.0 if side else 0.0, error_deg_s=error_deg_s, source="legs", side=side, cause="cannot tell")


class TestCure:
    @pytest.mark.parametrize(
        ("history", "step_us", "is_first"),
        [
            ([(0.0, -1.2)], 15.0, True),  # pulled to the left: nose right, by a careful step
            ([(0.0, 0.9)], -15.0, True),
            ([(0.0, 0.6)], -10.0, True),  # less where less is asked for
            ([(0.0, -1.2), (15.0, -0.4)], 7.5, False),  # 0.8 deg/s for 15 µs: 7.5 more
            ([(0.0, -9.0), (15.0, -8.6)], 40.0, False),  # no more than 40 at once
            ([(0.0, -1.0), (4.0, -0.9)], 15.0, True),  # too near to tell what a microsecond does
        ],
    )
    def test_the_next_step_of_yaw(self, history: list[tuple[float, float]], step_us: float, is_first: bool) -> None:
        found = yaw_step([YawPoint(*one, 0.05) for one in history])
        assert found is not None
        assert (found.step_us, found.is_first) == (pytest.approx(step_us, abs=0.3), is_first)

    @pytest.mark.parametrize("number", range(6))
    def test_a_yaw_trim_converges_in_three_flights(self, number: int) -> None:
        """Planes whose rudder does 0.03 to 0.09 deg/s per µs, pulls known to 0.1 deg/s."""
        rng = np.random.default_rng(number)
        slope, off_us = float(rng.uniform(0.03, 0.09)), float(rng.choice([-1, 1]) * rng.uniform(15, 35))
        trim_us, history = 0.0, []
        for _ in range(4):
            history.append(YawPoint(trim_us, slope * (trim_us - off_us) + 0.1 * float(rng.standard_normal()), 0.1))
            step = yaw_step(history)
            trim_us += step.step_us if step else 0.0
        assert abs(trim_us - off_us) < 6

    def test_a_pull_within_its_error_moves_nothing(self) -> None:
        assert yaw_step([YawPoint(0.0, 0.3, 0.2)]) is None

    def test_nothing_is_moved_without_a_flight(self) -> None:
        assert yaw_step([]) is None

    @pytest.mark.parametrize(
        ("held", "yaw_us", "moved"),
        [
            (trim(18.0), 0.0, {1: 1518.0, 2: 1518.0}),
            (None, 15.0, {3: 1515.0, 4: 1515.0}),  # mirrored: alike in microseconds is yaw
            (trim(4.0), 0.0, {}),
            (trim(18.0, error_us=12.0), 0.0, {}),  # within twice its error it may be nothing
        ],
    )
    def test_new_centres(self, held: Trim | None, yaw_us: float, moved: dict[int, float]) -> None:
        assert new_centres(SURFACES, surely_held(held), yaw_us) == moved

    @pytest.mark.parametrize(("told", "moved"), [({}, {}), ({1: -1}, {1: 1482.0}), ({1: None}, {})])
    def test_a_servo_whose_way_is_not_known_stays(self, told: dict[int, int | None], moved: dict[int, float]) -> None:
        surfaces = (Surface(servo=1, role="aileron", direction=None),)
        assert new_centres(surfaces, {"roll": 18.0}, directions=told) == moved

    @pytest.mark.parametrize(
        ("pair", "directions", "moved"),
        [
            ("v_tail", (1, 1), {3: 1510.0, 4: 1490.0}),  # nose right: left up, right down
            ("a_tail", (1, 1), {3: 1490.0, 4: 1510.0}),  # an inverted V-tail the other way round
            ("v_tail", (1, None), {}),  # one alone would pitch it
        ],
    )
    def test_a_tail_moves_as_a_pair(self, pair: str, directions: tuple, moved: dict[int, float]) -> None:
        left, right = (
            Surface(servo=servo, role=f"{pair}_{side}", direction=way)
            for servo, side, way in zip((3, 4), ("left", "right"), directions, strict=True)
        )
        assert new_centres((left, right), {}, 10.0) == moved

    @pytest.mark.parametrize(
        ("held_us", "error_us", "legs", "moved_yaw", "passed"),
        [
            (7.5, 8.2, None, False, None),  # 7.5 ± 16 tells nothing
            (30.0, 8.2, None, False, False),
            (3.0, 1.0, None, True, None),  # a yaw that was moved shows on straight legs only
            (3.0, 1.0, None, False, True),
            (3.0, 1.0, "none", True, True),
        ],
    )
    def test_a_check_passes_only_on_what_was_measured(
        self, held_us: float, error_us: float, legs: str | None, moved_yaw: bool, passed: bool | None
    ) -> None:
        found = trim_check(trim(held_us, error_us), (), pull(None) if legs else None, moved_yaw=moved_yaw)
        assert found.passed is passed

    @pytest.mark.parametrize(
        ("surfaces", "yaw_us"),
        [
            ((Surface(servo=4, role="rudder", direction=-1, centre_us=1490.0),), 10.0),
            ((Surface(servo=1, role="aileron"),), None),
            ((Surface(servo=3, role="v_tail_left", direction=1, centre_us=1520.0),
              Surface(servo=4, role="v_tail_right", direction=-1, centre_us=1520.0)), 20.0),
        ],
    )  # fmt: skip
    def test_yaw_in_the_centres(self, surfaces: tuple[Surface, ...], yaw_us: float | None) -> None:
        assert yaw_trim_of(surfaces) == yaw_us

    @pytest.mark.parametrize(
        ("held", "rate_dps", "side", "passed", "told"),
        [
            (2.0, 3.0, None, True, "stays"),
            (9.0, 3.0, None, False, "+9 ± 2"),
            (2.0, -12.0, None, False, "lurches: roll −12 deg/s"),
            (2.0, 3.0, "left", False, "pulled: 1.0 ± 0.2 deg/s to the left"),
            (None, None, None, None, ""),
        ],
    )
    def test_the_next_flight_checks_a_trim(
        self, held: float | None, rate_dps: float | None, side: str | None, passed: bool | None, told: str
    ) -> None:
        lurches = () if rate_dps is None else (Lurch(at_s=1.0, rates_dps={"roll": rate_dps, "pitch": 1.0}),)
        legs = None if held is None else pull(side)
        found = trim_check(None if held is None else trim(held), lurches, legs)
        assert found.passed is passed
        assert told in "; ".join(found.told)

    def test_only_what_stands_lower_is_led_back(self) -> None:
        assert loosened({"a": 5.0, "b": 9.0, "c": 1.0}, [{"a": 12.0, "b": 9.0}, {"a": 8.0}]) == {"a": 12.0}


class TestLurch:
    @pytest.mark.parametrize(("rate_dps", "stick", "n"), [(-14.0, 0.0, 1), (3.0, 0.0, 1), (-14.0, 0.5, 0)])
    def test_the_first_second_in_manual(self, rate_dps: float, stick: float, n: int) -> None:
        modes = ["hold"] * 200 + ["Manual"] * 200
        manual = np.array([mode == "Manual" for mode in modes])
        channels = {
            "gyro.roll": np.where(manual, rate_dps, 0.0),
            "gyro.pitch": np.zeros(400),
            "stick.roll": np.where(manual, stick, 0.0),
        }
        recording = Recording.of(channels, sample_rate_hz=RATE_HZ, modes=modes)
        if not n:
            with pytest.raises(NotEnoughData, match="no switch to manual"):
                lurches_of(recording)
            return
        (found,) = lurches_of(recording)
        assert (found.at_s, found.largest) == (4.0, ("roll", rate_dps))

    def test_without_modes_it_cannot_be_told(self) -> None:
        with pytest.raises(NotEnoughData, match="no flight mode in this log"):
            lurches_of(Recording.of({"gyro.roll": np.zeros(100)}, sample_rate_hz=RATE_HZ))


def run(gain: float | None, verdict: str = "settled") -> GainFlight:
    return GainFlight(
        repetitions=20,
        hold_median_s=2.0,
        long_enough_ratio=0.8,
        overshoots=2,
        gains=() if gain is None else (gain,),
        verdict=verdict,
    )


class TestGainRuns:
    @pytest.mark.parametrize(
        ("runs", "told"),
        [
            ([run(60.0)], "only one run"),
            ([run(60.0), run(64.0)], "2 runs, 6 % apart: take the middle"),
            ([run(60.0), run(80.0)], "2 runs, 29 % apart: do not average, fly another"),
            ([run(60.0), run(65.0, "too_few")], "one run"),
        ],
    )
    def test_runs_together(self, runs: list[GainFlight], told: str) -> None:
        found = gain_runs(runs)
        assert found is not None
        assert told in found.in_words

    def test_no_run_says_nothing(self) -> None:
        assert gain_runs([run(None), run(50.0, "still_rising")]) is None

    @pytest.mark.parametrize(
        ("found", "saved", "is_so"), [(68.2, 68.0, True), (68.2, 60.0, False), (1.042, 1.03, True), (1.2, 1.0, False)]
    )
    def test_saved(self, found: float, saved: float, is_so: bool) -> None:
        assert is_saved(found, saved) is is_so


def follower(
    seed: int, *, gain: float = 120.0, tau_s: float = 0.06, dead_s: float = 0.06, forward: float = 1.0, gusts_dps: float = 3.0
):
    """Lively wanted rates through feed-forward and a lagged surface, by python-control; wanted, gyro, deflection."""
    rng = np.random.default_rng(seed)
    n = int(150 * RATE_HZ)
    wanted = np.repeat(rng.uniform(-80, 80, n // 40 + 1), 40)[:n] * (rng.random(n // 40 + 1).repeat(40)[:n] > 0.3)
    t_s = np.arange(n) / RATE_HZ
    moved = forward * wanted / gain
    late = np.interp(t_s - dead_s, t_s, moved)
    gyro = control.forced_response(control.tf([gain], [tau_s, 1]), T=t_s, U=late).outputs
    keep = np.exp(-1 / (0.4 * RATE_HZ))
    gust = np.zeros(n)
    for k in range(1, n):
        gust[k] = keep * gust[k - 1] + gusts_dps * np.sqrt(1 - keep**2) * rng.standard_normal()
    return wanted, gyro + gust, moved


class TestRates:
    @pytest.mark.parametrize("seed", [1, 2])
    @pytest.mark.parametrize("forward", [0.7, 1.0, 1.3])
    def test_against_a_known_plant(self, seed: int, forward: float) -> None:
        """Against python-control: K, lag and level within the demand (6 %, 20 ms, 5 points), delay within 15 ms."""
        wanted, gyro, moved = follower(seed, forward=forward)
        found = rate_response("roll", wanted, gyro, sample_rate_hz=RATE_HZ, usable=np.ones(wanted.size, bool), deflection=moved)
        assert found.effectiveness_dps is not None
        assert found.effectiveness_dps[0] == pytest.approx(120.0, rel=0.06)
        assert found.lag_s is not None
        assert found.lag_s[0] == pytest.approx(0.12, abs=0.02)
        assert found.level_ratio is not None
        assert found.level_ratio[0] == pytest.approx(forward, abs=0.05)
        half_s = 0.06 - 0.06 * np.log(1 - 0.5 / forward)  # of a first order with dead time
        assert found.delay_s[0] == pytest.approx(half_s, abs=0.015)
        assert found.forward_ratio is not None
        assert found.forward_ratio[0] == pytest.approx(forward, rel=0.08)
        assert forward_word(found.forward_ratio) == {0.7: "low", 1.0: "fits", 1.3: "high"}[forward]
        assert "margins could not be measured" in found.no_margins

    @pytest.mark.parametrize(
        ("seconds", "size", "told"), [(10.0, 1.0, "only 10 s of roll following"), (100.0, 0.05, "was hardly commanded")]
    )
    def test_too_little_is_refused(self, seconds: float, size: float, told: str) -> None:
        n = int(seconds * RATE_HZ)
        wanted, gyro, _ = follower(1)
        with pytest.raises(NotEnoughData, match=told):
            rate_response("roll", size * wanted[:n], gyro[:n], sample_rate_hz=RATE_HZ, usable=np.ones(n, bool))


class TestSettings:
    NAMES = {
        "f roll": Meaning("gain.rate.roll.f", 1e-4), "f pitch": Meaning("gain.rate.pitch.f"), "beep": Meaning("other", 1.0),
        "follow": Meaning("gain.navigation.roll.p", 0.1), "home m": Meaning("return.height_m", 1.0),
        "p yaw": Meaning("gain.rate.yaw.p", 1.0),
    }  # fmt: skip

    def test_what_they_say_of_the_controller(self) -> None:
        said = {"f roll": "60", "f pitch": "62", "follow": "6", "home m": "120", "p yaw": "9", "beep": "on"}
        sound = {"gain.rate.roll.f": 0.008, "gain.rate.pitch.f": 0.009}
        found = autopilot_from_settings([Setting(*pair) for pair in said.items()], self.NAMES, sound=sound)
        assert found.forward == {"roll": pytest.approx(0.75), "pitch": 1.0}  # without a scale a number tells no ratio
        assert found.shown == {"roll": pytest.approx(80.0), "pitch": 62.0}
        assert (found.navigation, found.return_height_m) == (pytest.approx(0.5), 120.0)

    def test_a_mapped_value_that_is_no_number_is_refused(self) -> None:
        with pytest.raises(InputError, match="“follow = fast” should be a number"):
            autopilot_from_settings([Setting("follow", "fast")], self.NAMES, sound={})

    @pytest.mark.parametrize(
        ("key", "group"),
        [("gain.navigation.roll.p", "navigation"), ("return.height_m", "navigation"), ("gain.rate.roll.p", "pd.roll")],
    )
    def test_its_groups(self, key: str, group: str) -> None:
        assert group_of(key) == group
