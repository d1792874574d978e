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


def jackknifed(value: float, leave_out: Sequence[float], *, floor: float = 0.0, is_ratio: bool = False) -> Estimate:
    """An interval of ± 2·√(jackknife SE² + floor²); of logarithms where `is_ratio`, with the floor as a ratio.

    Values that came out infinite or not at all are left out. The jackknife of B. Efron and C. Stein,
    Ann. Statist. 9 (1981) 586-596; the floor stands for what blocks of one flight cannot see.

    >>> jackknifed(5.0, [4.0, 5.0, 6.0], floor=0.0).error.__round__(3)
    2.309
    """
    known = np.array([one for one in leave_out if math.isfinite(one) and (one > 0 or not is_ratio)])
    if is_ratio:
        known = np.log(known)
    n = known.size
    se_square = (n - 1) / n * float(((known - known.mean()) ** 2).sum()) if n > 1 else 0.0
    half = 2 * math.sqrt(se_square + floor**2)
    if is_ratio:
        return Estimate(value=value, low=value * math.exp(-half), high=value * math.exp(half))
    return Estimate(value=value, low=value - half, high=value + half)
