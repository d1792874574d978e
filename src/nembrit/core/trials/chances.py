"""The chance that a verdict finds a true difference: the power of the very test that decides, in the order flown."""

import itertools
import math
from functools import lru_cache

import numpy as np
import scipy.optimize

from nembrit.core.trials.looks import LEVEL
from nembrit.core.trials.welch import power
from nembrit.core.types import FloatArray

_N_TRIALS, _SEED = 4000, 20240229
_MOST_SPLITS = 3500  # with more, the permutation test has the power of Student's
_WANTED = 0.8
_GROUPS = {"free": 0, "blocks": 4, "pairs": 2}


@lru_cache(maxsize=4096)
def chance_to_find(effect: float, *, n_before: int, n_after: int, design: str = "free", level: float = LEVEL) -> float:
    """Power of the one-sided exact permutation test for a true fall of `effect` standard deviations.

    From 4000 simulated trials of independent normal flights (always the same ones), each judged as `permutation_test` does.
    Half its 95 % interval is at most 1.6 points. Where there are more than 3500 orders the power is Student's, which the
    permutation test reaches with many flights (E. L. Lehmann, J. P. Romano, Testing Statistical Hypotheses, 15.2).
    """
    if min(n_before, n_after) < 1:
        return 0.0
    orders = _orders(n_before, n_after, design)
    if orders is None:
        return power(effect, sd=1.0, n_before=n_before, n_after=n_after, one_sided=True)
    allowed = math.floor(level * orders.shape[0] + 1e-9)
    if not allowed:
        return 0.0
    flown = orders[0]
    values = np.random.default_rng(_SEED).standard_normal((_N_TRIALS, flown.size)) - effect * flown
    sums = values @ orders.T
    hits = (sums <= sums[:, :1] + 1e-12).sum(axis=1)
    return float(np.mean(hits <= allowed))


def _orders(n_before: int, n_after: int, design: str) -> FloatArray | None:
    """Every way to say which flights were after the change, shape (n_orders, n), the one flown first; None for too many."""
    size = _GROUPS[design] or n_before + n_after
    n = n_before + n_after
    if design != "free" and (n_before != n_after or n % size):
        n = 2 * min(n_before, n_after) // size * size  # what does not fill a group is not judged
        n_after = n // 2
    if n == 0:
        return np.zeros((1, 1))
    inside = n_after if design == "free" else size // 2
    groups = n // size
    if math.comb(size, inside) ** groups > _MOST_SPLITS:
        return None
    choices = np.array([[k in chosen for k in range(size)] for chosen in itertools.combinations(range(size), inside)], float)
    rows = [np.concatenate(parts) for parts in itertools.product(choices, repeat=groups)]
    return np.array(rows)


@lru_cache(maxsize=4096)
def smallest_found(*, sd: float, n_before: int, n_after: int, design: str, level: float = LEVEL) -> float | None:
    """Smallest true difference that the verdict finds with 80 % chance; None where this order can find none."""
    if sd == 0:
        return 0.0

    def lacking(effect: float) -> float:
        return chance_to_find(effect, n_before=n_before, n_after=n_after, design=design, level=level) - _WANTED

    if lacking(50.0) < 0:
        return None
    return sd * float(scipy.optimize.brentq(lacking, 0.0, 50.0, xtol=0.003))


@lru_cache(maxsize=4096)
def flights_to_find(effect: float, *, sd: float, design: str = "free", level: float = LEVEL, most: int = 200) -> int | None:
    """Flights on each side with which the verdict finds a true difference with 80 % chance; None if more than `most`."""
    if effect == 0:
        return None
    step = 2 if design == "blocks" else 1
    for n in range(2 if design == "blocks" else 1, most + 1, step):
        if sd == 0 and chance_to_find(50.0, n_before=n, n_after=n, design=design, level=level) >= _WANTED:
            return n
        if sd > 0 and chance_to_find(abs(effect) / sd, n_before=n, n_after=n, design=design, level=level) >= _WANTED:
            return n
    return None
