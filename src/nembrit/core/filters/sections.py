"""Filter sections in discrete form: what the controller computes, not the nominal analogue.

Second-order sections follow R. Bristow-Johnson, "Audio EQ Cookbook" (W3C Note, 2021).
"""

import math
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

BUTTERWORTH_Q = math.sqrt(0.5)


@dataclass(frozen=True, slots=True, kw_only=True)
class FilterSection:
    """One section of a filter chain as the tuner's configuration states it."""

    kind: str  # lowpass_1, lowpass_2, notch
    frequency_hz: float  # cutoff or centre
    q: float = BUTTERWORTH_Q
    discretisation: str = "bilinear"  # lowpass_1 only: or "backward_euler"


def section_sos(section: FilterSection, *, sample_rate_hz: float) -> FloatArray:
    """Coefficients (b0, b1, b2, 1, a1, a2) of one section, shape (6,).

    Raises InputError for a frequency outside 0 to half the sample rate, or an unknown kind.

    >>> low = FilterSection(kind="lowpass_2", frequency_hz=100)
    >>> [round(float(c), 8) for c in section_sos(low, sample_rate_hz=1000)]
    [0.06745527, 0.13491055, 0.06745527, 1.0, -1.1429805, 0.4128016]
    """
    half_hz = sample_rate_hz / 2
    if not 0 < section.frequency_hz < half_hz:
        raise InputError(
            f"a {section.kind} must lie between 0 and {half_hz:g} Hz (half the sample rate), got {section.frequency_hz:g} Hz"
        )
    if section.q <= 0:
        raise InputError(f"q must be above 0, got {section.q:g}")
    w0 = 2 * math.pi * section.frequency_hz / sample_rate_hz
    if section.kind == "lowpass_1":
        return _lowpass_1(w0, section.discretisation)
    alpha, cos_w0 = math.sin(w0) / (2 * section.q), math.cos(w0)
    if section.kind == "lowpass_2":
        b = np.array([(1 - cos_w0) / 2, 1 - cos_w0, (1 - cos_w0) / 2])
    elif section.kind == "notch":
        b = np.array([1.0, -2 * cos_w0, 1.0])
    else:
        raise InputError(f"“{section.kind}” is not a kind of filter; expected lowpass_1, lowpass_2 or notch")
    a = np.array([1 + alpha, -2 * cos_w0, 1 - alpha])
    return np.asarray(np.concatenate((b, a)) / a[0], dtype=np.float64)


def _lowpass_1(w0: float, discretisation: str) -> FloatArray:
    if discretisation == "backward_euler":
        gain = w0 / (1 + w0)  # dt / (dt + RC)
        return np.array([gain, 0.0, 0.0, 1.0, gain - 1, 0.0])
    if discretisation == "bilinear":
        k = math.tan(w0 / 2)
        return np.array([k / (1 + k), k / (1 + k), 0.0, 1.0, (k - 1) / (k + 1), 0.0])
    raise InputError(f"“{discretisation}” is no discretisation; expected bilinear or backward_euler")
