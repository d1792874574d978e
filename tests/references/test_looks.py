"""Later looks at a trial against published tables, and one-sided bounds against a reference library."""

import math

import numpy as np
import pytest
import scipy.stats
from statsmodels.stats.weightstats import CompareMeans, DescrStatsW

from nembrit.core.errors import InputError
from nembrit.core.trials.looks import boundaries, levels_of, spent
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.welch import welch_test

EQUAL = [0.2, 0.4, 0.6, 0.8, 1.0]


# five equal looks, one-sided 0.025: D. L. DeMets and K. K. G. Lan, Statistics in Medicine 13 (1994) 1341-1352; values from memory
@pytest.mark.parametrize(
    ("kind", "published"),
    [("cautious", [4.8769, 3.3569, 2.6803, 2.2898, 2.0310]), ("even", [2.4380, 2.4268, 2.4101, 2.3966, 2.3859])],
)
def test_boundaries_of_five_equal_looks(kind: str, published: list[float]) -> None:
    assert boundaries(spent(EQUAL, level=0.025, kind=kind), EQUAL) == pytest.approx(published, abs=3e-4)


def test_one_look_spends_all() -> None:
    assert boundaries([0.05], [1.0]) == pytest.approx([scipy.stats.norm.isf(0.05)], abs=1e-6)
    assert boundaries([0.0, 0.05], [0.5, 1.0])[0] == math.inf
    with pytest.raises(InputError, match="no way to spend"):
        spent(EQUAL, level=0.05, kind="all at once")


@pytest.mark.parametrize(("totals", "attained"), [((4, 8), 3 / 70), ((5, 10), 12 / 252), ((5, 10), 1 / 32)])
def test_what_an_extension_may_spend_is_what_the_plan_left(totals: tuple[int, int], attained: float) -> None:
    """Both looks together cross in 5 of 100 cases: by the bivariate normal distribution of scipy."""
    level = levels_of(totals, (attained,))[1]
    first, second = scipy.stats.norm.isf(attained), scipy.stats.norm.isf(level)
    correlation = math.sqrt(totals[0] / totals[1])
    neither = scipy.stats.multivariate_normal.cdf([first, second], cov=[[1, correlation], [correlation, 1]])
    assert 1 - neither == pytest.approx(0.05, abs=2e-5)


def test_one_sided_bounds_are_those_of_statsmodels() -> None:
    rng = np.random.default_rng(5)
    for n_before, n_after in ((4, 4), (5, 9), (12, 3)):
        before, after = rng.normal(1.0, 0.2, n_before), rng.normal(0.8, 0.5, n_after)
        means = CompareMeans(DescrStatsW(after), DescrStatsW(before))
        found = welch_test(before, after)
        lower = means.tconfint_diff(alpha=0.05, alternative="larger", usevar="unequal")[0]
        upper = means.tconfint_diff(alpha=0.05, alternative="smaller", usevar="unequal")[1]
        assert found.bounds == pytest.approx((lower, upper), rel=1e-9)
        assert found.interval == pytest.approx(means.tconfint_diff(alpha=0.05, usevar="unequal"), rel=1e-9)


@pytest.mark.parametrize("seed", range(4))
def test_p_values_of_all_splits_are_those_of_scipy(seed: int) -> None:
    rng = np.random.default_rng(seed)
    before, after = rng.normal(0, 1, 4), rng.normal(-0.7, 1, 5)
    reference = scipy.stats.permutation_test(
        (after, before), lambda a, b, axis: a.mean(axis) - b.mean(axis), alternative="less", n_resamples=np.inf, vectorized=True
    )
    found = permutation_test([*before, *after], [False] * 4 + [True] * 5)
    assert found.p_value == pytest.approx(reference.pvalue, abs=1e-12)


@pytest.mark.parametrize("seed", range(3))
def test_p_values_of_pairs_are_those_of_scipy(seed: int) -> None:
    rng = np.random.default_rng(seed)
    before, after = rng.normal(0, 1, 6), rng.normal(-0.7, 1, 6)
    reference = scipy.stats.permutation_test(
        (after, before), lambda a, b, axis: (a - b).mean(axis), permutation_type="samples", alternative="less",
        n_resamples=np.inf, vectorized=True,
    )  # fmt: skip
    values = [value for pair in zip(before, after, strict=True) for value in pair]
    assert permutation_test(values, [False, True] * 6, design="pairs").p_value == pytest.approx(reference.pvalue, abs=1e-12)


@pytest.mark.parametrize(("order", "design"), [("bbbbaaaa", "free"), ("baabbaab", "blocks"), ("babaabbaba", "pairs")])
def test_the_bound_is_where_the_same_test_stops_to_reject(order: str, design: str) -> None:
    rng = np.random.default_rng(9)
    is_after = [letter == "a" for letter in order]
    for _ in range(20):
        values = rng.normal(0, 1, len(order)) - np.array(is_after)
        found = permutation_test(values, is_after, design=design)
        assert (found.p_value <= 0.05) == (found.bound < 0)
        for step, rejects in ((1e-6, True), (-1e-6, False)):
            moved = values - np.array(is_after) * (found.bound + step)
            assert (permutation_test(moved, is_after, design=design).p_value <= 0.05) == rejects
