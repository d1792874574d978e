"""A number with its interval."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """A value and its 95 % interval; `low` and `high` are in its unit."""

    value: float
    low: float
    high: float

    @property
    def error(self) -> float:
        """Half the interval."""
        return (self.high - self.low) / 2


def jackknifed(value: float, leave_out: Sequence[float | None], *, floor: float = 0.0, is_ratio: bool = False) -> Estimate | None:
    """An interval of ± 2·√(jackknife SE² + floor²); of logarithms where `is_ratio`, with the floor as a ratio.

    A block without which the number cannot be had (None, or infinite) shows how much rests on it: it counts as twice the
    largest deviation of the others, and at least as the floor. None where that is so for half of the blocks or more: then the
    flight does not tell the number. The jackknife of B. Efron and C. Stein, Ann. Statist. 9 (1981) 586-596; the floor stands
    for what blocks of one flight cannot see.

    >>> jackknifed(5.0, [4.0, 5.0, 6.0], floor=0.0).error.__round__(3)
    2.309
    >>> jackknifed(5.0, [4.0, 5.0, 6.0, None], floor=0.0).error.__round__(3), jackknifed(5.0, [5.0, None])
    (4.243, None)
    """
    known = np.array([one for one in leave_out if one is not None and math.isfinite(one) and (one > 0 or not is_ratio)])
    n = len(leave_out)
    if 2 * known.size <= n:
        return None
    if is_ratio:
        known = np.log(known)
    apart = np.abs(known - known.mean())
    failed = np.full(n - known.size, max(2 * float(apart.max(initial=0.0)), floor))
    half = 2 * math.sqrt((n - 1) / n * float((np.concatenate((apart, failed)) ** 2).sum()) + floor**2)
    if is_ratio:
        return Estimate(value=value, low=value * math.exp(-half), high=value * math.exp(half))
    return Estimate(value=value, low=value - half, high=value + half)


@dataclass(frozen=True, slots=True, kw_only=True)
class Between:
    """A number over several flights: their median, lowest and highest, in its unit."""

    median: float
    low: float
    high: float
    n_flights: int


def between_flights(values: Sequence[float]) -> Between | None:
    """The median with the range over flights, which holds what one flight's interval cannot: how far flights differ.

    None without any. The range is no interval of confidence: of four flights, the true median lies inside in seven of eight
    (order statistics of the median: H. A. David and H. N. Nagaraja, *Order Statistics*, 3rd ed. 2003, section 7.1).

    >>> between_flights([60.0, 66.0, 63.0])
    Between(median=63.0, low=60.0, high=66.0, n_flights=3)
    """
    if not values:
        return None
    own = np.asarray(values, dtype=float)
    return Between(median=float(np.median(own)), low=float(own.min()), high=float(own.max()), n_flights=own.size)
