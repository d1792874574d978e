"""Exact permutation test that permutes only what the flown order allowed."""

import functools
import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.trials.looks import LEVEL
from nembrit.core.types import BoolArray, FloatArray, IntArray

_MOST_SPLITS = 200_000


@dataclass(frozen=True, slots=True, kw_only=True)
class PermutationResult:
    """One-sided p of the observed difference, and the smallest p that this order could give.

    `bound` is what the difference, after − before, stays below: the largest one that the same test at `level` does not
    reject, infinite where the order can reject none. It is below 0 just where p is at most `level`.
    """

    p_value: float
    smallest_p: float
    n_splits: int
    bound: float
    level: float

    @property
    def attained(self) -> float:
        """The largest p not above the level that this order can give."""
        return math.floor(self.level * self.n_splits + 1e-9) / self.n_splits


def permutation_test(
    values: Sequence[float], is_after: Sequence[bool], *, design: str = "free", level: float = LEVEL
) -> PermutationResult:
    """Test whether *after* is lower than *before*: exact, one-sided, on the difference of means.

    Parameters
    ----------
    values : sequence of float, length n
        One number per flight (logs of metrics, usually), in the order flown.
    is_after : sequence of bool, length n
        Which flights were flown with the change.
    design : str
        ``free``: any flight could have been either (all splits); ``blocks``: flights were randomised
        within consecutive blocks of four (ABBA); ``pairs``: within consecutive pairs (sign flips).

    level : float
        Error of the bound.

    Returns
    -------
    PermutationResult
        With 4 + 4 flights the smallest p is 1/70, with two ABBA blocks 1/36, with five pairs 1/32.

    Raises
    ------
    InputError
        If an arm is empty or the design does not fit the order.

    Notes
    -----
    The bound inverts the test: with the flights after it shifted by d, a split counts where what it swaps differs by at
    least d on average, so that the bound is one of those differences.
    Source: P. Good, Permutation Tests, 2nd ed.; R. A. Fisher, The Design of Experiments (1935).
    """
    y = np.asarray(values, dtype=np.float64)
    after = np.asarray(is_after, dtype=bool)
    if not after.any() or after.all():
        raise InputError("a comparison needs flights on both sides")
    groups = _groups(after, design)
    n_splits = math.prod(math.comb(len(group), int(after[group].sum())) for group in groups)
    if n_splits > _MOST_SPLITS:
        raise InputError(f"{n_splits} possible orders are too many to go through; compare fewer flights at once")
    sums, shared = functools.reduce(_both, (_ways(y, after, group) for group in groups))
    n_after = int(after.sum())
    with np.errstate(divide="ignore", invalid="ignore"):
        swapped = np.where(shared < n_after, (y[after].sum() - sums) / (n_after - shared), math.inf)
    hits = int(np.count_nonzero(swapped >= -1e-12))
    allowed = math.floor(level * n_splits + 1e-9)
    bound = float(np.partition(swapped, n_splits - 1 - allowed)[n_splits - 1 - allowed]) if allowed else math.inf
    return PermutationResult(p_value=hits / n_splits, smallest_p=1 / n_splits, n_splits=n_splits, bound=bound, level=level)


def _groups(after: BoolArray, design: str) -> list[list[int]]:
    """Flights that could have changed places among themselves."""
    n = after.size
    size = {"free": n, "blocks": 4, "pairs": 2}.get(design)
    if size is None:
        raise InputError(f"“{design}” is no design; expected free, blocks or pairs")
    groups = [list(range(start, min(start + size, n))) for start in range(0, n, size)]
    if design != "free" and any(len(group) != size or after[group].sum() * 2 != size for group in groups):
        raise InputError(f"the flights do not form {design}: each {size} in a row need as many before as after")
    return groups


_Ways = tuple[FloatArray, IntArray]


def _ways(y: FloatArray, after: BoolArray, group: list[int]) -> _Ways:
    """For every way to choose the flights after the change of a group: their sum, and how many of them really were after."""
    n_after = int(after[group].sum())
    n_ways = math.comb(len(group), n_after)
    chosen = itertools.chain.from_iterable(itertools.combinations(group, n_after))
    index = np.fromiter(chosen, np.intp, n_ways * n_after).reshape(n_ways, n_after)
    return y[index].sum(axis=1), after[index].sum(axis=1)


def _both(one: _Ways, other: _Ways) -> _Ways:
    return np.add.outer(one[0], other[0]).ravel(), np.add.outer(one[1], other[1]).ravel()
