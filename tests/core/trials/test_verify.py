"""A tune against its baseline, and a repair under the old fault's conditions."""

from dataclasses import replace

import numpy as np
import pytest

from nembrit.core.errors import InputError
from nembrit.core.trials.counting import FlownFlight
from nembrit.core.trials.provoke import Attempt, Condition, Reached, conditions_when, provoke
from nembrit.core.trials.verify import verify

BASE = {"motor_roughness": 0.010, "motion_noise.roll": 2.0, "overshoot.roll": 0.08, "tracking_error.roll": 9.0}
COLD = Reached(lowest_cell_v=3.9, highest_throttle_ratio=0.6)


def side(n: int, first: int = 1, *, scatter: float = 0.02, **factors: float) -> list[FlownFlight]:
    """Flights whose numbers scatter evenly about the baseline's times a factor (overshoot: plus points)."""
    found = []
    for k in range(n):
        spread = 1 + scatter * (2 * ((k * 3) % 5) / 4 - 1) + 1e-4 * (first + k)  # no two flights are the same
        numbers = {
            name: (value + factors.get(name.split(".")[0], 0.0) + (spread - 1) * 0.1)
            if name.startswith("overshoot")
            else value * factors.get(name.split(".")[0], 1.0) * spread * (1 + 0.003 * place)
            for place, (name, value) in enumerate(BASE.items())
        }
        found.append(FlownFlight(number=first + k, is_after=False, metrics=numbers))
    return found


class TestVerify:
    @pytest.mark.parametrize(
        ("factors", "scatter", "word", "told"),
        [
            ({}, 0.02, "passed", "nothing is worse by more than its limit"),
            ({"motion_noise": 0.3}, 0.02, "passed", "motion noise on roll better; nothing is worse"),
            ({"motor_roughness": 1.10}, 0.02, "passed", "nothing is worse by more"),
            ({"motor_roughness": 1.5}, 0.02, "failed", "not verified: motor roughness rose by 5"),
            ({"overshoot": 0.08}, 0.02, "failed", "overshoot on roll rose by 8 points"),
            ({"motor_roughness": 1.14}, 0.02, "not_sure", "not ruled out for motor roughness"),
            ({"tracking_error": 1.2}, 0.4, "not_sure", "not ruled out for"),
        ],
    )
    def test_every_number_is_held_to_its_limit(self, factors: dict[str, float], scatter: float, word: str, told: str) -> None:
        found = verify({"response": side(5, scatter=scatter)}, {"response": side(5, 11, scatter=scatter, **factors)})
        assert found.word == word, found.sentence
        assert told in found.sentence
        assert found.is_passed == (word in ("passed", "not_sure"))

    @pytest.mark.parametrize(("n_before", "n_now"), [(3, 5), (5, 3), (0, 4), (4, 0)])
    def test_four_flights_a_side_are_needed(self, n_before: int, n_now: int) -> None:
        found = verify({"response": side(n_before)}, {"response": side(n_now, 11, motion_noise=0.3)})
        assert found.word == "not_yet"
        assert f"{min(n_before, 4)} of 4 baseline flights and {min(n_now, 4)} of 4 current flights" in found.sentence

    def test_the_card_that_both_flew_is_compared(self) -> None:
        found = verify({"response": side(4), "full": side(2, 21)}, {"full": side(6, 31), "response": side(4, 41)})
        assert (found.card_key, found.n_baseline, found.n_now) == ("response", 4, 4)

    def test_what_cannot_be_compared_does_not_count(self) -> None:
        """Flown in the simulator, aborted, flown with a fault since; the baseline may have had one."""
        since = side(7, 11)
        since[0] = replace(since[0], is_simulated=True)
        since[1] = replace(since[1], ended="was aborted")
        since[2] = replace(since[2], fault="a broken propeller")
        found = verify({"response": [replace(one, fault="a loose mount") for one in side(4)]}, {"response": since})
        assert (found.n_baseline, found.n_now) == (4, 4)

    @pytest.mark.long("hundreds of drawn trials")
    def test_equal_flights_seldom_fail(self) -> None:
        """A rule over thirteen numbers: of 60 pairs of equal sides (scatter 8 %) at most two fail."""
        rng = np.random.default_rng(20261128)
        names = [f"{key}.{axis}" for key in ("motion_noise", "tracking_error", "step_delay") for axis in ("roll", "pitch", "yaw")]

        def drawn(first: int) -> list[FlownFlight]:
            return [
                FlownFlight(number=first + k, is_after=False, metrics=dict(zip(names, rng.lognormal(0, 0.08, 9), strict=True)))
                for k in range(4)
            ]

        words = [verify({"response": drawn(1)}, {"response": drawn(11)}).word for _ in range(60)]
        assert words.count("failed") <= 2


class TestProvoke:
    LOW = Condition(name="lowest_cell_v", value=3.4)
    FULL = Condition(name="highest_throttle_ratio", value=1.0)

    @pytest.mark.parametrize(
        ("fault", "names"),
        [
            (Reached(lowest_cell_v=3.42, highest_throttle_ratio=0.97, highest_temperature_c=52.0),
             ["lowest_cell_v", "highest_throttle_ratio", "highest_temperature_c"]),
            (Reached(lowest_cell_v=3.8, highest_throttle_ratio=0.7, highest_temperature_c=30.0), []),
            (Reached(), []),
        ],
    )  # fmt: skip
    def test_what_was_special_is_recreated(self, fault: Reached, names: list[str]) -> None:
        assert [one.name for one in conditions_when(fault)] == names

    @pytest.mark.parametrize(
        ("flights", "word", "told"),
        [
            ([], "not_yet", "0 of 2 flights with a pack down to 3.40 V per cell under load and throttle up to 100 %"),
            ([(3.43, 0.96, False), (3.30, 1.0, False)], "passed", "not there in 2 flights"),
            ([(3.46, 1.0, False), (3.30, 0.94, False)], "not_yet", "0 of 2"),
            ([(3.43, 0.96, False), (3.9, 0.5, True)], "failed", "it came back in flight 2"),
            ([(3.43, 0.96, False), (3.4, 1.0, None)], "not_yet", "1 of 2"),
            ([(None, 1.0, False), (None, 1.0, False)], "not_yet", "0 of 2"),
        ],
    )
    def test_a_repair_stands_the_test_or_not(self, flights: list[tuple], word: str, told: str) -> None:
        attempts = [
            Attempt(number=k, reached=Reached(lowest_cell_v=volts, highest_throttle_ratio=throttle), came_back=back)
            for k, (volts, throttle, back) in enumerate(flights, start=1)
        ]
        found = provoke((self.LOW, self.FULL), attempts)
        assert found.word == word
        assert told in found.in_words

    @pytest.mark.parametrize(("name", "value"), [("lowest_cell_v", 12.0), ("highest_throttle_ratio", 1.2), ("moon", 1.0)])
    def test_conditions_that_cannot_be_are_refused(self, name: str, value: float) -> None:
        with pytest.raises(InputError):
            Condition(name=name, value=value)
