"""Numbers between two cursors on a trace."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Measure:
    """One channel between two times, in the channel's unit."""

    first: float  # value at the first cursor, of the nearest sample
    last: float
    change: float
    mean: float
    rms: float  # about the mean
    peak_to_peak: float
    n_samples: int


def measure(values: FloatArray) -> Measure:
    """Measure the samples of a span, missing ones left out.

    Parameters
    ----------
    values : ndarray, shape (n,)
        Samples from the first to the last cursor, both included.

    Raises
    ------
    NotEnoughData
        If no sample of the span holds a value.

    Examples
    --------
    >>> found = measure(np.array([1.0, 3.0, np.nan, 1.0, 3.0]))
    >>> found.rms, found.peak_to_peak, found.change
    (1.0, 2.0, 2.0)
    """
    whole = values[np.isfinite(values)]
    if whole.size == 0:
        raise NotEnoughData("no samples between the cursors")
    return Measure(
        first=float(whole[0]),
        last=float(whole[-1]),
        change=float(whole[-1] - whole[0]),
        mean=float(whole.mean()),
        rms=float(whole.std()),
        peak_to_peak=float(np.ptp(whole)),
        n_samples=int(whole.size),
    )
