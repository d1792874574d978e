"""Exact permutation test that permutes only what the flown order allowed."""

import functools
import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

_MOST_SPLITS = 200_000


@dataclass(frozen=True, slots=True, kw_only=True)
class PermutationResult:
    """One-sided p of the observed difference, and the smallest p that this order could give."""

    p_value: float
    smallest_p: float
    n_splits: int


def permutation_test(values: Sequence[float], is_after: Sequence[bool], *, design: str = "free") -> PermutationResult:
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
    # the difference of means rises with the sum after the change, since the sum of all stays what it is
    sums = functools.reduce(_sums_of_both, (_sums(y, group, int(after[group].sum())) for group in groups))
    tolerance = 1e-12 / (1 / after.sum() + 1 / (~after).sum())
    hits = int(np.count_nonzero(sums <= y[after].sum() + tolerance))
    return PermutationResult(p_value=hits / n_splits, smallest_p=1 / n_splits, n_splits=n_splits)


def _groups(after: np.ndarray[tuple[int], np.dtype[np.bool_]], design: str) -> list[list[int]]:
    """Flights that could have changed places among themselves."""
    n = after.size
    size = {"free": n, "blocks": 4, "pairs": 2}.get(design)
    if size is None:
        raise InputError(f"“{design}” is no design; expected free, blocks or pairs")
    groups = [list(range(start, min(start + size, n))) for start in range(0, n, size)]
    if design != "free" and any(len(group) != size or after[group].sum() * 2 != size for group in groups):
        raise InputError(f"the flights do not form {design}: each {size} in a row need as many before as after")
    return groups


def _sums(y: FloatArray, group: list[int], n_after: int) -> FloatArray:
    """The sum after the change for every way to choose that many flights of a group."""
    chosen = itertools.chain.from_iterable(itertools.combinations(group, n_after))
    n_ways = math.comb(len(group), n_after)
    return np.asarray(y[np.fromiter(chosen, np.intp, n_ways * n_after).reshape(n_ways, n_after)].sum(axis=1))


def _sums_of_both(one: FloatArray, other: FloatArray) -> FloatArray:
    return np.add.outer(one, other).ravel()
