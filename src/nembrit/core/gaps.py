"""Gaps in a channel: not-a-number where nothing was recorded; short ones are bridged, no analysis sees an invented nought."""

import numpy as np
import scipy.linalg

from nembrit.core.types import BoolArray, FloatArray, IntArray

_ORDER = 32  # of the autoregression that short gaps are bridged by
_ROUNDS = 3
_LEAST_SAMPLES = 50 * _ORDER
_MOST_MISSING_RATIO = 0.1  # beyond this a channel is recorded more slowly than its table: a straight line is all that is known


def filled(values: FloatArray) -> FloatArray:
    """The values with a straight line across what was not recorded, for filters that cannot pass gaps.

    Ends hold the nearest value; a channel that was never recorded is nought. Never to be written into, and never to be judged
    by itself: whoever uses it masks what was missing.

    >>> filled(np.array([np.nan, 1.0, np.nan, 3.0])).tolist()
    [1.0, 1.0, 2.0, 3.0]
    """
    finite = np.isfinite(values)
    if finite.all():
        return values
    if values.ndim > 1:  # channels in rows
        return np.stack([filled(row) for row in values])
    if not finite.any():
        return np.zeros_like(values)
    at = np.flatnonzero(finite)
    found = values.copy()
    found[~finite] = np.interp(np.flatnonzero(~finite), at, values[at])
    return found


def short_gaps(values: FloatArray, *, most: int) -> BoolArray:
    """True where a sample is missing in a gap of at most `most` samples between two recorded ones, shape (n_samples,).

    >>> short_gaps(np.array([np.nan, 1, np.nan, 2, np.nan, np.nan, 3]), most=1).tolist()
    [False, False, True, False, False, False, False]
    """
    missing = ~np.isfinite(values)
    starts, ends = _runs(missing)
    inner = (starts > 0) & (ends < values.size) & (ends - starts <= most)
    edges = np.zeros(values.size + 1, np.int64)
    edges[starts[inner]] += 1
    edges[ends[inner]] -= 1
    return np.asarray(np.cumsum(edges[:-1]) > 0)


def bridged(values: FloatArray, short: BoolArray, *, is_noisy: bool) -> FloatArray:
    """The values with the short gaps bridged; longer ones stay not-a-number.

    Parameters
    ----------
    values : ndarray, shape (n_samples,)
        One channel on a uniform clock.
    short : ndarray of bool, shape (n_samples,)
        What `short_gaps` found.
    is_noisy : bool
        Whether the channel carries vibration: then the missing samples are those that an autoregression of order 32, fitted
        to the whole channel, finds most likely between their neighbours on both sides; else a straight line.

    Notes
    -----
    A. J. E. M. Janssen, R. N. J. Veldhuis, L. B. Vries, "Adaptive interpolation of discrete-time signals that can be modeled
    as autoregressive processes", IEEE Trans. ASSP 34 (1986) 317-330. Neighbouring gaps are solved in three rounds.
    """
    if not short.any():
        return values
    whole = filled(values)
    found = np.where(short, whole, values)
    if not is_noisy or values.size < _LEAST_SAMPLES or short.mean() > _MOST_MISSING_RATIO:
        return found
    inverse = _inverse_correlation(whole)
    if inverse is None:
        return found
    padded = np.pad(whole, _ORDER, mode="edge")
    around = np.arange(2 * _ORDER + 1)
    kernel = inverse[np.abs(around - _ORDER)]
    starts, ends = _runs(short)
    lengths = ends - starts
    solved = {int(n): np.linalg.inv(scipy.linalg.toeplitz(_first(inverse, int(n)))) for n in np.unique(lengths)}
    for _ in range(_ROUNDS):
        for n, inverted in solved.items():
            places = starts[lengths == n][:, None] + np.arange(n)  # (n_gaps, n)
            rest = np.stack([padded[places[:, k, None] + around] @ kernel for k in range(n)], axis=1)
            padded[places + _ORDER] -= rest @ inverted
    bounded = padded[_ORDER:-_ORDER]
    found[short] = np.clip(bounded[short], float(np.nanmin(values)), float(np.nanmax(values)))
    return found


def _inverse_correlation(values: FloatArray) -> FloatArray | None:
    """Correlation of the whitening filter's taps, lags 0 to the order, by Yule and Walker; None for a channel at rest."""
    centred = values - values.mean()
    correlation = np.array([float(centred[lag:] @ centred[: centred.size - lag]) for lag in range(_ORDER + 1)])
    if not correlation[0] > 0:
        return None
    correlation[0] *= 1 + 1e-9
    taps = np.concatenate(([1.0], -scipy.linalg.solve_toeplitz(correlation[:-1], correlation[1:])))
    return np.correlate(taps, taps, "full")[_ORDER:]


def _first(inverse: FloatArray, n: int) -> FloatArray:
    """The first n lags, nought beyond the order."""
    return np.concatenate((inverse, np.zeros(max(0, n - inverse.size))))[:n]


def _runs(flags: BoolArray) -> tuple[IntArray, IntArray]:
    """First and one past last position of every run of true values."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])).astype(np.int8)))
    return edges[::2].astype(np.int64), edges[1::2].astype(np.int64)
