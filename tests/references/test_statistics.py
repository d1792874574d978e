"""Tests for repeated flights against published examples."""

import numpy as np
import pytest
import scipy.stats

from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.welch import flights_needed, holm_adjusted, welch_test

# Student's sleep data (Biometrika 6, 1908; R's `sleep`)
DRUG_1 = [0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0]
DRUG_2 = [1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4]
# Darwin's maize pairs, eighths of an inch (R. A. Fisher, The Design of Experiments, 1935, ch. 3)
DARWIN = [49, -67, 8, 16, 6, 23, 28, 41, 14, 29, 56, 24, 75, 60, -48]


def test_welch_on_student_s_sleep_data() -> None:
    found = welch_test(DRUG_2, DRUG_1)
    assert found.freedom == pytest.approx(17.7765, abs=5e-5)
    assert found.p_value == pytest.approx(0.079394, abs=5e-7)
    assert found.interval == pytest.approx((-3.36548, 0.20548), abs=5e-6)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_welch_is_scipy_s(seed: int) -> None:
    rng = np.random.default_rng(seed)
    a, b = rng.normal(0, 1, 5), rng.normal(0.5, 3, 4)
    assert welch_test(a, b).p_value == pytest.approx(scipy.stats.ttest_ind(a, b, equal_var=False).pvalue)


def test_exact_permutation_on_student_s_sleep_data() -> None:
    # two-sided 0.0814480 over 184,756 splits; both arms have ten, so that one side is exactly half of it
    found = permutation_test([*DRUG_2, *DRUG_1], [False] * 10 + [True] * 10)
    assert found.n_splits == 184_756
    assert found.p_value == pytest.approx(0.0814480 / 2, abs=5e-7)


def test_sign_flips_on_darwin_s_maize() -> None:
    # Fisher: 863 of 32,768 sign patterns reach the observed sum of 314
    values = [value for difference in DARWIN for value in (0.0, -float(difference))]
    found = permutation_test(values, [False, True] * 15, design="pairs")
    assert found.p_value == pytest.approx(863 / 32_768)


def test_holm_worked_example() -> None:
    assert holm_adjusted([0.01, 0.02, 0.03, 0.04]) == pytest.approx([0.04, 0.06, 0.06, 0.06])
    assert holm_adjusted([0.04, 0.01]) == pytest.approx([0.04, 0.02])


# J. Cohen, Statistical Power Analysis (1988): n per group for power 0.8, two-sided 0.05
@pytest.mark.parametrize(("effect", "n"), [(0.5, 64), (0.8, 26)])
def test_cohen_s_sample_sizes(effect: float, n: int) -> None:
    assert flights_needed(effect, sd=1.0, one_sided=False) == n
