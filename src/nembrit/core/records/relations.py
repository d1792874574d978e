"""What columns say about one another: the same movement, slower or mirrored, in another scale."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage

from nembrit.core.types import FloatArray

_MOST_SAMPLES = 60_000


def middle_rows(n_rows: int) -> tuple[int, int]:
    """At most 60,000 rows from the middle of a table."""
    first = max(0, (n_rows - _MOST_SAMPLES) // 2)
    return first, min(n_rows, first + _MOST_SAMPLES)


def held(values: FloatArray) -> FloatArray:
    """The same without gaps: missing samples hold the value before."""
    if not np.isfinite(values).all():
        good = np.flatnonzero(np.isfinite(values))
        if good.size == 0:
            return np.zeros(values.size)
        values = values[good[np.clip(np.searchsorted(good, np.arange(values.size), side="right") - 1, 0, None)]]
    return values


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """How one column follows another: y ≈ slope × x, at a correlation from −1 to 1."""

    slope: float
    correlation: float


def likeness(x: FloatArray, y: FloatArray, *, rate_hz: float, most_lag_s: float = 0.06) -> Likeness:
    """Follow y after x at slow movements (smoothed over 20 ms), at the lag that suits best.

    Parameters
    ----------
    x, y : ndarray, shape (n,)
        Columns in any scale; `y` may lag by up to `most_lag_s`.
    rate_hz : float
        Sample rate [Hz].

    Notes
    -----
    The slope is that of total least squares through the origin at the best lag, so that noise in
    either column does not flatten it.
    """
    step = max(1, int(rate_hz // 200))
    width = max(1, round(0.02 * rate_hz))
    slow_x = scipy.ndimage.uniform_filter1d(x - np.median(x), width)[::step]
    slow_y = scipy.ndimage.uniform_filter1d(y - np.median(y), width)[::step]
    best = Likeness(slope=0.0, correlation=0.0)
    for lag in range(round(most_lag_s * rate_hz / step) + 1):
        a, b = slow_x[: slow_x.size - lag], slow_y[lag:]
        power = float(np.sqrt((a @ a) * (b @ b)))
        if a.size < 20 or power == 0.0:
            continue
        correlation = float(a @ b) / power
        if abs(correlation) > abs(best.correlation):
            slope = float(np.sign(correlation) * np.sqrt((b @ b) / (a @ a)))
            best = Likeness(slope=slope, correlation=correlation)
    return best


def roughness(values: FloatArray) -> float:
    """Share of a column's movement that happens from sample to sample: lower after a low-pass.

    >>> roughness(np.array([0.0, 1.0, 0.0, 1.0])) > roughness(np.array([0.0, 0.3, 0.6, 1.0]))
    True
    """
    spread = float(np.std(values)) if values.size > 2 else 0.0
    return float(np.std(np.diff(values, n=2))) / spread if spread > 0 else 0.0


def integrated(rate: FloatArray, *, rate_hz: float) -> FloatArray:
    """Angle from a rate by summing up; its drift is for the caller to remove."""
    return np.cumsum(rate) / rate_hz
