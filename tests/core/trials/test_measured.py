"""One flight a side: judged by the intervals that flights measure themselves."""

import math

import numpy as np
import pytest
from scipy.stats import norm

from nembrit.core.errors import InputError
from nembrit.core.trials.counting import FlownFlight, standings
from nembrit.core.trials.measured import judged_by_intervals
from nembrit.core.trials.plan import MEASURED, Limit, Plan, Primary
from nembrit.core.trials.trial import judge

PULL = Plan(primary=Primary(metric="pull", direction="lower"), flights_a_side=1, order=MEASURED)


def flight(number: int, value: float, error: float, *, is_after: bool) -> FlownFlight:
    return FlownFlight(number=number, is_after=is_after, metrics={"pull": value}, errors={"pull": error})


def sides(before: tuple[float, float], *after: tuple[float, float]) -> list[FlownFlight]:
    return [flight(1, *before, is_after=False), *(flight(2 + k, *own, is_after=True) for k, own in enumerate(after))]


@pytest.mark.parametrize(
    ("before", "after", "word", "told"),
    [
        ((1.1, 0.1), (0.1, 0.1), "better", "1.10 ± 0.20 deg/s before, 0.10 ± 0.20 deg/s after"),
        ((0.1, 0.1), (1.1, 0.1), "worse", "before"),
        ((1.1, 0.4), (0.5, 0.4), "cannot", "the intervals overlap"),
        ((1.1, 0.02), (1.1, 0.02), "no_difference", "before"),
        ((1.1, 0.0), (0.1, 0.1), "cannot", "was not measured on both sides"),
    ],
)
def test_one_flight_a_side(before: tuple, after: tuple, word: str, told: str) -> None:
    verdict = judge(standings(sides(before, after), PULL), PULL)
    assert verdict.word == word
    assert told in verdict.why


def test_nothing_is_said_before_both_sides_are_flown() -> None:
    assert judge(standings([flight(1, 1.0, 0.1, is_after=False)], PULL), PULL).word == "not_yet"


def test_days_that_differ_widen_a_side() -> None:
    """By hand: 0.0 and 0.8 with errors of 0.1 have a Birge ratio of √(2·(0.4/0.1)²) = 5.66, so 0.4 ± 0.8: not clear of 1.1."""
    assert judged_by_intervals(sides((1.1, 0.1), (0.0, 0.1)), PULL)[0] == "better"
    word, told = judged_by_intervals(sides((1.1, 0.1), (0.0, 0.1), (0.8, 0.1)), PULL)
    assert word == "cannot"
    assert "0.40 ± 0.78" in told


def test_equal_sides_are_called_different_in_one_of_twenty() -> None:
    """Against the normal law (scipy): errors right, no change, two-sided 5 %."""
    rng = np.random.default_rng(1)
    words = [
        judged_by_intervals(sides((1 + 0.1 * rng.standard_normal(), 0.1), (1 + 0.1 * rng.standard_normal(), 0.1)), PULL)[0]
        for _ in range(2000)
    ]
    share = sum(word in ("better", "worse") for word in words) / 2000
    assert share == pytest.approx(2 * norm.sf(1.96), abs=3 * math.sqrt(0.05 * 0.95 / 2000))


def test_what_has_no_interval_of_its_own_needs_more_flights() -> None:
    with pytest.raises(InputError, match="Plan four flights per side"):
        Plan(primary=Primary(metric="lurch.roll", direction="lower"), flights_a_side=1, order=MEASURED)
    plan = Plan(primary=PULL.primary, flights_a_side=1, order=MEASURED, limits=(Limit(metric="sway", most=0.5),))
    assert "one flight per side cannot judge a limit" in judge(standings(sides((1.1, 0.1), (0.1, 0.1)), plan), plan).asides[0]
