"""Verdicts: what is claimed, what is not, and how often a claim is wrong."""

import math

import numpy as np
import pytest

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.trials.chances import chance_to_find, flights_to_find, smallest_found
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.plan import Primary
from nembrit.core.trials.verdict import FlightValues, compare_flights
from nembrit.core.trials.welch import detectable_difference, flights_needed, power, welch_test

NAME = "tracking_error.roll"
LOWER = Primary(metric=NAME, direction="lower")


def flights(before: list[float], after: list[float], name: str = NAME) -> list[FlightValues]:
    return [FlightValues(is_after=False, metrics={name: value}) for value in before] + [
        FlightValues(is_after=True, metrics={name: value}) for value in after
    ]


@pytest.mark.parametrize(
    ("before", "after", "verdict", "p_value"),
    [
        ([10, 11, 10.5, 10.2], [8, 8.2, 7.9, 8.1], "better", 1 / 70),  # closed form: the one best of all 70 splits
        ([8, 8.2, 7.9, 8.1], [10, 11, 10.5, 10.2], "worse", 1.0),
        ([10, 11, 9, 10], [10.2, 10.9, 9.1, 9.9], "no_difference", None),
        ([10, 11, 10.5], [8, 8.2, 7.9], "not_enough", None),
        ([10, 11, 10.5, 10.2], [], "not_enough", None),
        ([10.0] * 4, [10.0] * 4, "not_enough", None),  # no scatter at all is no proof, whatever the difference
        ([10.0] * 4, [8.0] * 4, "not_enough", None),
    ],
)
def test_primary_verdict(before: list[float], after: list[float], verdict: str, p_value: float | None) -> None:
    found = compare_flights(flights(before, after), primary=LOWER).primary
    assert found is not None
    assert found.verdict == verdict
    if p_value is not None:
        assert found.p_value == pytest.approx(p_value)


@pytest.mark.parametrize(
    ("order", "design", "smallest"),
    [
        ("BBBBAAAA", "free", 1 / 70),
        ("BAABBAAB", "blocks", 1 / 36),
        ("BABAABBABA", "pairs", 1 / 32),
        ("BABABABA", "pairs", 1 / 16),  # four pairs cannot reach 0.05
    ],
)
def test_smallest_p_of_a_flown_order(order: str, design: str, smallest: float) -> None:
    is_after = [letter == "A" for letter in order]
    found = permutation_test([0.0 if after else 1.0 for after in is_after], is_after, design=design)
    assert (found.p_value, found.smallest_p) == pytest.approx((smallest, smallest))


@pytest.mark.parametrize(
    ("is_after", "design", "message"),
    [
        ([False, False], "free", "both sides"),
        ([True, False, True], "pairs", "do not form pairs"),
        ([True, True, False, False], "squares", "is no design"),
        ([True, False] * 12, "free", "too many"),
    ],
)
def test_orders_that_cannot_be_permuted_are_refused(is_after: list[bool], design: str, message: str) -> None:
    with pytest.raises(InputError, match=message):
        permutation_test([1.0] * len(is_after), is_after, design=design)


def test_secondary_metrics_are_hints_after_holm() -> None:
    rng = np.random.default_rng(3)
    names = [f"{kind}.{axis}" for kind in ("motion_noise", "jitter_noise", "wash_rms") for axis in ("roll", "pitch", "yaw")]
    rows = [
        FlightValues(
            is_after=after,
            metrics={name: 10 * math.exp(rng.normal(0, 0.05)) for name in names}
            | {"overshoot.roll": (0.30 if after else 0.1) + rng.normal(0, 0.005)},
        )
        for after in (False,) * 4 + (True,) * 4
    ]
    found = {metric.name: metric for metric in compare_flights(rows, primary=None).metrics}
    assert found["overshoot.roll"].verdict == "worse"
    assert found["overshoot.roll"].change_pct == pytest.approx(20.0, abs=1.0)  # percentage points
    assert all(found[name].verdict == "no_difference" for name in names)
    assert all((metric.p_value_adjusted or 1) >= (metric.p_value or 0) for metric in found.values())


@pytest.mark.long("hundreds of drawn trials")
def test_false_alarms_of_the_primary_verdict_stay_below_six_per_cent() -> None:
    # at most 6 %; the exact test at 0.05 gives at most 3/70 one-sided; `check --full` takes 2,000 splits
    rng = np.random.default_rng(11)
    values = np.exp(rng.normal(0, 0.1, (500, 8)))
    alarms = sum(
        compare_flights(flights(list(row[:4]), list(row[4:])), primary=LOWER).metrics[0].verdict == "better" for row in values
    )
    assert alarms / 500 <= 0.06


def test_a_real_improvement_is_found_as_often_as_the_power_table_says() -> None:
    # methods, section 7: −20 % at a coefficient of variation of 8 %, 4 + 4 flights: 0.95
    rng = np.random.default_rng(12)
    hits = 0
    for _ in range(400):
        before, after = np.exp(rng.normal(0, 0.08, 4)), 0.8 * np.exp(rng.normal(0, 0.08, 4))
        hits += permutation_test(np.log([*before, *after]), [False] * 4 + [True] * 4).p_value <= 0.05
    assert hits / 400 == pytest.approx(0.95, abs=0.04)


def test_notes_say_what_the_comparison_cannot_rule_out() -> None:
    notes = " ".join(compare_flights(flights([1, 2, 3], [1, 2, 3]), primary=None).notes)
    assert "at least 4 on each side" in notes
    assert "no primary metric" in notes
    assert "came first" in notes


@pytest.mark.parametrize(("metric", "direction"), [("speed.roll", "lower"), (NAME, "sideways"), ("overshoot", "lower")])
def test_a_primary_must_be_a_metric_and_a_direction(metric: str, direction: str) -> None:
    with pytest.raises(InputError):
        Primary(metric=metric, direction=direction)


def test_detectable_difference_has_eighty_per_cent_power() -> None:
    effect = detectable_difference(sd=0.1, n_before=4, n_after=4, one_sided=True)
    assert power(effect, sd=0.1, n_before=4, n_after=4, one_sided=True) == pytest.approx(0.8, abs=1e-6)
    assert detectable_difference(sd=0.1, n_before=1, n_after=0, one_sided=True) is None
    assert flights_needed(0.0, sd=0.1, one_sided=True) is None
    with pytest.raises(NotEnoughData):
        welch_test([1.0], [1.0, 2.0])


# the power of the exact test, which the trials of the methods (section 7) found for 4 + 4 flights and 20 %
@pytest.mark.parametrize(("scatter", "chance"), [(0.08, 0.95), (0.10, 0.83), (0.15, 0.54), (0.20, 0.37)])
def test_the_chance_to_find_a_fifth_less(scatter: float, chance: float) -> None:
    assert chance_to_find(-math.log(0.8) / scatter, n_before=4, n_after=4) == pytest.approx(chance, abs=0.02)


@pytest.mark.parametrize(("design", "n", "chance"), [("free", 4, 0.77), ("blocks", 4, 0.61), ("pairs", 5, 0.58)])
def test_orders_that_bind_more_find_less(design: str, n: int, chance: float) -> None:
    effect = detectable_difference(sd=1.0, n_before=n, n_after=n, one_sided=True)  # Student's test would find it in 80 %
    assert chance_to_find(effect, n_before=n, n_after=n, design=design) == pytest.approx(chance, abs=0.03)
    smallest = smallest_found(sd=1.0, n_before=n, n_after=n, design=design)
    assert chance_to_find(smallest, n_before=n, n_after=n, design=design) == pytest.approx(0.8, abs=0.01)


def test_an_order_that_can_find_nothing_says_so() -> None:
    assert chance_to_find(9.0, n_before=4, n_after=4, design="pairs") == 0.0
    assert smallest_found(sd=1.0, n_before=4, n_after=4, design="pairs") is None
    assert flights_to_find(1.0, sd=0.0, design="pairs") == 5
    assert flights_to_find(0.2, sd=0.1, design="free") > flights_needed(0.2, sd=0.1, one_sided=True) - 1
