"""Gaps in a channel: not-a-number where nothing was recorded."""

import numpy as np

from nembrit.core.types import FloatArray


def filled(values: FloatArray) -> FloatArray:
    """The values with nought where nothing was recorded, for filters that cannot pass gaps; never to be written into.

    >>> filled(np.array([1.0, np.nan])).tolist()
    [1.0, 0.0]
    """
    finite = np.isfinite(values)
    return values if finite.all() else np.where(finite, values, 0.0)
