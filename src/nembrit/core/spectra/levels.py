"""Levels of noise above their surroundings, and where a frequency shows up in a sampled log."""

import numpy as np
import scipy.ndimage

from nembrit.core.types import FloatArray


def whitened(power: FloatArray, *, bin_hz: float, span_hz: float = 60.0) -> FloatArray:
    """Natural log of power less its running median over 60 Hz, frame by frame: level above the surroundings."""
    logs = np.log(np.maximum(power, 1e-12))
    width = max(3, round(span_hz / bin_hz) | 1)
    # a median of every third bin is as good for a floor and three times as fast; between them it is a straight line
    floor = scipy.ndimage.median_filter(logs[:, ::3], size=(1, max(3, (width // 3) | 1)), mode="nearest")
    at = np.arange(logs.shape[1]) / 3
    below = np.minimum(at.astype(np.int64), floor.shape[1] - 1)
    above, part = np.minimum(below + 1, floor.shape[1] - 1), at - below
    return np.asarray(logs - floor[:, below] * (1 - part) - floor[:, above] * part)


def folded(frequency_hz: FloatArray, sample_rate_hz: float) -> FloatArray:
    """Where a frequency shows up in a sampled log.

    >>> folded(np.array([620.0, 1300.0]), 1000.0)
    array([380., 300.])
    """
    return np.asarray(np.abs(frequency_hz - np.round(frequency_hz / sample_rate_hz) * sample_rate_hz))
