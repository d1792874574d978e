"""Welch's test, Holm's adjustment, and what a number of flights could have shown."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy.optimize
import scipy.special
import scipy.stats

from nembrit.core.errors import NotEnoughData


@dataclass(frozen=True, slots=True, kw_only=True)
class WelchResult:
    """Difference of means, after − before, with its 95 % interval, its one-sided 95 % bounds and two-sided p."""

    difference: float
    interval: tuple[float, float]
    bounds: tuple[float, float]  # each alone: at least, at most
    p_value: float
    freedom: float
    pooled_sd: float


def welch_test(before: Sequence[float], after: Sequence[float]) -> WelchResult:
    """Compare two groups of flights whose scatter may differ.

    Raises NotEnoughData with fewer than two flights on a side, and where neither side scatters at all: the same numbers
    again prove nothing.
    Source: B. L. Welch, Biometrika 34 (1947) 28-35.
    """
    a, b = np.asarray(before, dtype=np.float64), np.asarray(after, dtype=np.float64)
    if a.size < 2 or b.size < 2:
        raise NotEnoughData("at least two flights on each side are needed to know the scatter")
    va, vb = float(a.var(ddof=1)) / a.size, float(b.var(ddof=1)) / b.size
    difference = float(b.mean() - a.mean())
    pooled = math.sqrt((a.var(ddof=1) * (a.size - 1) + b.var(ddof=1) * (b.size - 1)) / (a.size + b.size - 2))
    if va + vb == 0:
        raise NotEnoughData("all flights of one side have identical numbers, which proves nothing")
    share = va / (va + vb)
    freedom = 1 / (share**2 / (a.size - 1) + (1 - share) ** 2 / (b.size - 1))
    reach, one_sided = (float(scipy.special.stdtrit(freedom, level)) * math.sqrt(va + vb) for level in (0.975, 0.95))
    p_value = 2 * float(scipy.special.stdtr(freedom, -abs(difference) / math.sqrt(va + vb)))
    return WelchResult(
        difference=difference,
        interval=(difference - reach, difference + reach),
        bounds=(difference - one_sided, difference + one_sided),
        p_value=p_value,
        freedom=freedom,
        pooled_sd=float(pooled),
    )


def holm_adjusted(p_values: Sequence[float]) -> list[float]:
    """Adjust p-values for having looked at several metrics (Holm, Scand. J. Statist. 6, 1979).

    >>> [round(p, 2) for p in holm_adjusted([0.01, 0.02, 0.03, 0.04])]
    [0.04, 0.06, 0.06, 0.06]
    """
    order = np.argsort(p_values, kind="stable")
    adjusted = np.empty(len(p_values))
    highest = 0.0
    for rank, index in enumerate(order):
        highest = max(highest, min(1.0, (len(p_values) - rank) * p_values[index]))
        adjusted[index] = highest
    return [float(p) for p in adjusted]


def power(effect: float, *, sd: float, n_before: int, n_after: int, one_sided: bool) -> float:
    """Chance to find a true difference of means, by the noncentral t distribution (Cohen 1988)."""
    freedom = n_before + n_after - 2
    shift = abs(effect) / (sd * math.sqrt(1 / n_before + 1 / n_after))
    limit = float(scipy.stats.t.ppf(0.95 if one_sided else 0.975, freedom))
    # the library gives NaN far out in the tail, where the chance is 1 to all digits
    chance = float(np.nan_to_num(scipy.stats.nct.sf(limit, freedom, shift), nan=1.0))
    if not one_sided:
        chance += float(np.nan_to_num(scipy.stats.nct.cdf(-limit, freedom, shift), nan=0.0))
    return min(1.0, chance)


@lru_cache(maxsize=4096)  # a page asks the same of two dozen metrics at every visit
def detectable_difference(*, sd: float, n_before: int, n_after: int, one_sided: bool) -> float | None:
    """Smallest true difference found with 80 % chance; None with fewer than three flights in all."""
    if n_before + n_after < 3 or min(n_before, n_after) < 1:
        return None
    if sd == 0:
        return 0.0

    def lacking(effect: float) -> float:
        return power(effect, sd=sd, n_before=n_before, n_after=n_after, one_sided=one_sided) - 0.8

    return float(scipy.optimize.brentq(lacking, 1e-6 * sd, 200 * sd))


@lru_cache(maxsize=4096)
def flights_needed(effect: float, *, sd: float, one_sided: bool, most: int = 200) -> int | None:
    """Flights on each side to find a true difference with 80 % chance; None if more than `most`."""
    if effect == 0:
        return None
    return next(
        (n for n in range(2, most + 1) if sd == 0 or power(effect, sd=sd, n_before=n, n_after=n, one_sided=one_sided) >= 0.8),
        None,
    )
