"""What error is left for a later look at a trial that was planned for an earlier one."""

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
import scipy.optimize
import scipy.special

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

LEVEL = 0.05
_STEPS = 800  # of the numerical integration
_FAR = 8.0  # where a normal density is nothing any more


def spent(information: Sequence[float], *, level: float, kind: str) -> list[float]:
    """Error spent up to each look, one-sided.

    Parameters
    ----------
    information : sequence of float
        Share of the information at each look, rising to 1.
    level : float
        Error of the whole.
    kind : str
        ``cautious``: hardly anything at early looks (O'Brien and Fleming's shape); ``even``: about the same at each (Pocock's).

    Notes
    -----
    Source: K. K. G. Lan and D. L. DeMets, Biometrika 70 (1983) 659-663.
    """
    if kind == "cautious":
        reach = scipy.special.ndtri(1 - level / 2)
        return [2 * float(scipy.special.ndtr(-reach / math.sqrt(share))) for share in information]
    if kind == "even":
        return [level * math.log(1 + (math.e - 1) * share) for share in information]
    raise InputError(f"“{kind}” is no way to spend an error; expected cautious or even")


def boundaries(spent_ratio: Sequence[float], information: Sequence[float]) -> list[float]:
    """Bounds of a normal statistic at each look, so that just so much error is spent up to it; infinite where none is.

    By numerical integration of the statistic's distribution, as far as no earlier look crossed its bound.
    Source: P. Armitage, C. K. McPherson and B. C. Rowe, J. R. Statist. Soc. A 132 (1969) 235-244.
    """
    found: list[float] = []
    grid, density = np.zeros(1), np.ones(1)  # of the score, not yet crossed; before the first look it is 0
    before_ratio, before_t = 0.0, 0.0
    for ratio, t in zip(spent_ratio, information, strict=True):
        step = math.sqrt(t - before_t)
        bound = _bound(grid, density, step, ratio - before_ratio)
        found.append(bound / math.sqrt(t))
        grid, density = _moved(grid, density, step, bound, math.sqrt(t))
        before_ratio, before_t = ratio, t
    return found


def _bound(grid: FloatArray, density: FloatArray, step: float, error: float) -> float:
    """The score beyond which just `error` of what was not crossed before goes on to lie."""
    if error <= 0:
        return math.inf

    def beyond(bound: float) -> float:
        return float(density @ scipy.special.ndtr((grid - bound) / step)) - error

    top = float(grid.max()) + _FAR * step
    return float(scipy.optimize.brentq(beyond, float(grid.min()) - _FAR * step, top)) if beyond(top) < 0 else top


def _moved(grid: FloatArray, density: FloatArray, step: float, bound: float, sd: float) -> tuple[FloatArray, FloatArray]:
    """Where the score can be after one more step below the bound, as weights on a grid."""
    edges = np.linspace(-_FAR * sd, min(bound, _FAR * sd), _STEPS + 1)
    middle = (edges[1:] + edges[:-1]) / 2
    late = np.exp(-0.5 * ((middle[:, None] - grid[None, :]) / step) ** 2) / (step * math.sqrt(2 * math.pi))
    return middle, (late @ density) * (edges[1] - edges[0])


@lru_cache(maxsize=256)
def levels_of(totals: tuple[int, ...], attained: tuple[float, ...]) -> tuple[float, ...]:
    """The p that a test must not exceed at each look.

    The planned look may spend all; since an exact test goes in steps, it spends only what it can attain, and a declared
    extension has the rest: less with every flight of the plan, nothing to speak of from six a side. `attained` is the largest
    p, not above its level, that the order flown allowed at each earlier look.

    >>> [round(level, 4) for level in levels_of((4, 8), (3 / 70,))]
    [0.05, 0.0152]
    """
    levels = [LEVEL]
    error: list[float] = []
    for k, total in enumerate(totals[1:], start=1):
        error.append(_spent_by(totals[:k], levels, attained))
        shares = [one / total for one in totals[: k + 1]]
        bound = boundaries([*error, LEVEL], shares)[-1]
        levels.append(float(scipy.special.ndtr(-bound)) if math.isfinite(bound) else 0.0)
    return tuple(levels)


@lru_cache(maxsize=256)
def level_after(looks: tuple[int, ...], total: int) -> float:
    """The p that a test at `total` flights per side must not exceed after numbers were looked at with fewer flown.

    Who looks may stop when it pleases, so each look spends error as if it had been a test (Pocock's shape).

    >>> level_after((), 4), round(level_after((2,), 4), 2), round(level_after((1, 2, 3), 4), 2)
    (0.05, 0.03, 0.02)
    """
    early = sorted({min(max(look / total, 0.05), 0.95) for look in looks if look < total})
    if not early:
        return LEVEL
    shares = [*early, 1.0]
    bound = boundaries(spent(shares, level=LEVEL, kind="even"), shares)[-1]
    return float(scipy.special.ndtr(-bound))


def _spent_by(totals: tuple[int, ...], levels: Sequence[float], attained: Sequence[float]) -> float:
    """Error spent up to the last of these looks, each at the p that could be attained there."""
    shares = [one / totals[-1] for one in totals]
    bounds = [scipy.special.ndtri(1 - min(p, level)) if p > 0 else math.inf for p, level in zip(attained, levels, strict=False)]
    return LEVEL - _kept(bounds[: len(totals)], shares)


def _kept(bounds: Sequence[float], shares: Sequence[float]) -> float:
    """Error that is left after looks with these bounds."""
    grid, density, before_t = np.zeros(1), np.ones(1), 0.0
    for bound, t in zip(bounds, shares, strict=True):
        grid, density = _moved(grid, density, math.sqrt(t - before_t), bound * math.sqrt(t), math.sqrt(t))
        before_t = t
    return max(0.0, float(density.sum()) - (1 - LEVEL))
