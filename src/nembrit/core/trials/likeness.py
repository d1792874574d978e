"""Whether two logs are of one flight, whatever was cut off, renamed or written at another rate: told by how the craft shook."""

import numpy as np
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray

_BAND_HZ, _MARK_HZ = (3.0, 20.0), 50.0
_LEAST_RATE_HZ, _LEAST_S, _MOST_S = 50.0, 8.0, 120.0
_UNIT, _TOP = 32.0, 127  # a mark's RMS, and where it is cut off
_LEAST_OVERLAP = 0.5  # of the shorter one
SAME = 0.95  # correlation from which two marks are of one flight; other flights of one script by one craft stay below 0.7


def mark_of(recording: Recording) -> tuple[int, ...]:
    """How the craft turned between 3 and 20 Hz at 50 samples a second, in whole numbers; empty where a log cannot tell."""
    roles = [role for axis in ("roll", "pitch") if (role := f"gyro.{axis}") and recording.has(role)]
    if not roles or recording.sample_rate_hz < _LEAST_RATE_HZ or recording.duration_s < _LEAST_S:
        return ()
    rate_hz = recording.sample_rate_hz
    top_hz = min(_BAND_HZ[1], 0.45 * rate_hz)
    sos = scipy.signal.butter(2, (_BAND_HZ[0], top_hz), btype="bandpass", fs=rate_hz, output="sos")
    n = int(min(recording.duration_s, _MOST_S) * _MARK_HZ)
    at_s = np.arange(n) / _MARK_HZ
    own_s = np.arange(recording.channels[roles[0]].size) / rate_hz
    found = np.zeros(n)
    for weight, role in zip((1.0, 0.7), roles, strict=False):
        found += weight * np.interp(at_s, own_s, scipy.signal.sosfiltfilt(sos, filled(recording.channels[role])))
    rms = float(np.sqrt(np.mean(found**2)))
    if not np.isfinite(rms) or rms <= 0:
        return ()
    return tuple(int(one) for one in np.clip(np.rint(_UNIT * found / rms), -_TOP, _TOP))


def likeness(one: tuple[int, ...], other: tuple[int, ...]) -> float:
    """Largest normalised cross-correlation of two marks over all shifts at which half of the shorter one overlaps; 0 without.

    >>> rng = np.random.default_rng(1)
    >>> a, b = (tuple(int(x) for x in rng.normal(0, 32, 900)) for _ in range(2))
    >>> round(likeness(a, a[25:]), 3), likeness(a, b) < 0.3
    (1.0, True)
    """
    if not one or not other:
        return 0.0
    a, b = np.asarray(one, float), np.asarray(other, float)
    products = scipy.signal.correlate(a, b, mode="full", method="fft")
    ones_a, ones_b = np.ones_like(a), np.ones_like(b)
    power_a = scipy.signal.correlate(a**2, ones_b, mode="full", method="fft")
    power_b = scipy.signal.correlate(ones_a, b**2, mode="full", method="fft")
    overlap = scipy.signal.correlate(ones_a, ones_b, mode="full", method="fft")
    good = overlap >= _LEAST_OVERLAP * min(a.size, b.size)
    return float(np.max(_normalised(products[good], power_a[good] * power_b[good])))


def _normalised(products: FloatArray, powers: FloatArray) -> FloatArray:
    return np.asarray(products / np.sqrt(np.maximum(powers, 1e-9)))
