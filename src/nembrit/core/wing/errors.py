"""Errors of means that samples in a row make, which ordinary standard errors understate."""

import math

import numpy as np

from nembrit.core.types import FloatArray


def andrews_bandwidth(values: FloatArray) -> int:
    """Lags that a Bartlett kernel should have, from a first-order fit. Source: D. W. K. Andrews, Econometrica 59 (1991) 817."""
    x = values - values.mean()
    if x.size < 3 or not x.any():
        return 0
    rho = float(np.clip((x[1:] @ x[:-1]) / (x[:-1] @ x[:-1]), -0.97, 0.97))
    alpha = 4 * rho**2 / ((1 - rho) ** 2 * (1 + rho) ** 2)
    return int(min(x.size - 1, math.ceil(1.1447 * (alpha * x.size) ** (1 / 3))))


def hac_error(values: FloatArray, *, lags: int | None = None) -> float:
    """Standard error of the mean of values in a row.

    Bartlett kernel (Newey and West, Econometrica 55 (1987) 703-708) over `lags`, else over Andrews' bandwidth, times
    1 + 0.75 (L + 1)/n for few of them.
    """
    n = values.size
    if n < 3:
        return math.inf
    chosen = andrews_bandwidth(values) if lags is None else min(lags, n - 1)
    x = values - values.mean()
    total = float(x @ x) / n
    for lag in range(1, chosen + 1):
        total += 2 * (1 - lag / (chosen + 1)) * float(x[lag:] @ x[:-lag]) / n
    widened = 1 + 0.75 * (chosen + 1) / n if lags is None else 1.0
    return math.sqrt(max(total, 0.0) / n) * widened


def block_error(values: FloatArray, block: int) -> float:
    """Standard error of the mean from the means of whole blocks; infinite for fewer than three of them."""
    block = max(block, 1)
    n = values.size // block
    if n < 3:
        return math.inf
    means = values[: n * block].reshape(n, block).mean(axis=1)
    return float(means.std(ddof=1) / math.sqrt(n))


def combined(values: FloatArray, errors: FloatArray) -> tuple[float, float]:
    """Mean of several by inverse variance, its error inflated where they scatter more than they should (Birge ratio)."""
    weights = 1 / np.square(errors)
    mean = float(np.average(values, weights=weights))
    error = math.sqrt(1 / float(weights.sum()))
    if values.size > 1:
        chi2 = float((np.square((values - mean) / errors)).sum())
        error *= math.sqrt(max(1.0, chi2 / (values.size - 1)))
    return mean, error
