"""Chains of filter sections: coefficients, response and delay."""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from nembrit.core.filters.sections import FilterSection, section_sos
from nembrit.core.types import FloatArray


def chain_sos(sections: Sequence[FilterSection], *, sample_rate_hz: float) -> FloatArray:
    """Second-order sections in order, shape (n_sections, 6); no section gives shape (0, 6)."""
    if not sections:
        return np.empty((0, 6))
    return np.stack([section_sos(section, sample_rate_hz=sample_rate_hz) for section in sections])


def chain_response(sos: FloatArray, frequency_hz: FloatArray, *, sample_rate_hz: float) -> npt.NDArray[np.complex128]:
    """Complex frequency response at the given frequencies [Hz], shape (n_frequencies,)."""
    z1 = np.exp(-2j * np.pi * frequency_hz / sample_rate_hz)
    response = np.ones(frequency_hz.shape, dtype=np.complex128)
    for b0, b1, b2, a0, a1, a2 in sos:
        response *= (b0 + b1 * z1 + b2 * z1**2) / (a0 + a1 * z1 + a2 * z1**2)
    return response


def dc_delay_s(sos: FloatArray, *, sample_rate_hz: float) -> float:
    """Group delay of the chain at 0 Hz [s]: what it costs slow movements.

    For H(z) = B/A the delay at z = 1 is Σk·b_k/Σb_k − Σk·a_k/Σa_k samples
    (Oppenheim & Schafer, Discrete-Time Signal Processing, group delay of a rational system).

    >>> low = chain_sos([FilterSection(kind="lowpass_2", frequency_hz=100)], sample_rate_hz=8000)
    >>> round(dc_delay_s(low, sample_rate_hz=8000) * 1000, 6)
    2.249634
    """
    n = np.arange(3)
    samples = sum(float(n @ row[:3] / row[:3].sum() - n @ row[3:] / row[3:].sum()) for row in sos)
    return samples / sample_rate_hz
