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
