"""A gyro at rest: Allan deviation, noise density, bias instability, and drift against temperature."""

import math
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray, IntArray

_BIAS_FACTOR = math.sqrt(2 * math.log(2) / math.pi)  # 0.664: the floor of flicker noise (IEEE Std 952, annex)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AllanCurve:
    """Overlapping Allan deviation of a rate, with its one-sigma interval."""

    tau_s: FloatArray
    deviation: FloatArray
    low: FloatArray
    high: FloatArray


def allan_deviation(rate: FloatArray, *, sample_rate_hz: float, n_points: int = 40) -> AllanCurve:
    """Overlapping Allan deviation of evenly sampled rates.

    Parameters
    ----------
    rate : ndarray, shape (n,)
        Rates in any unit (fractional frequency in the clock literature); no gaps.
    sample_rate_hz : float
        Sample rate [Hz].
    n_points : int
        How many averaging times at most, spaced evenly in log time, each a whole number of samples.

    Returns
    -------
    AllanCurve
        In the rate's unit; the interval is ``σ / √(2 (n_groups − 1))``, one sigma.

    Raises
    ------
    NotEnoughData
        If there are fewer than 16 samples.

    Notes
    -----
    ``σ²(τ) = ⟨(x[k+2m] − 2 x[k+m] + x[k])²⟩ / 2τ²`` with x the running sum of the rate
    (Riley & Howe, Handbook of Frequency Stability Analysis, NIST SP 1065, eq. 10-11).
    """
    if rate.size < 16 or not np.isfinite(rate).all():
        raise NotEnoughData(f"an Allan deviation needs at least 16 samples without gaps, got {int(np.isfinite(rate).sum())}")
    whole = np.unique(np.rint(np.geomspace(1, max(1, (rate.size - 1) // 3), n_points)).astype(int))
    return deviations_at(rate, whole, sample_rate_hz=sample_rate_hz)


def deviations_at(rate: FloatArray, averaged: IntArray, *, sample_rate_hz: float) -> AllanCurve:
    """The same at stated numbers of averaged samples."""
    x = np.concatenate(([0.0], np.cumsum(rate - rate.mean()))) / sample_rate_hz
    tau_s = averaged / sample_rate_hz
    deviation = np.array([_overlapping(x, int(m), float(tau)) for m, tau in zip(averaged, tau_s, strict=True)])
    groups = np.maximum(2.0, rate.size / averaged)
    share = 1 / np.sqrt(2 * (groups - 1))
    return AllanCurve(
        tau_s=np.asarray(tau_s, dtype=np.float64),
        deviation=deviation,
        low=deviation * np.maximum(0.0, 1 - share),
        high=deviation * (1 + share),
    )


def _overlapping(x: FloatArray, m: int, tau_s: float) -> float:
    second = x[2 * m :] - 2 * x[m:-m] + x[: -2 * m]
    return float(np.sqrt(np.mean(second**2) / 2) / tau_s)


@dataclass(frozen=True, slots=True, kw_only=True)
class RestNoise:
    """A gyro at rest in the terms of its data sheet."""

    density_dps_rthz: float | None  # one-sided; None where no stretch of the curve falls as white noise does
    bias_instability_dps: float | None  # None where the recording is too short to show the floor
    bias_tau_s: float | None
    random_walk_deg_rth: float | None  # angle random walk [deg/√h]
    rms_dps: float
    mean_dps: float
    duration_s: float


def rest_noise(rate_dps: FloatArray, *, sample_rate_hz: float) -> RestNoise:
    """Noise density and bias instability of a gyro lying still.

    White noise of one-sided density S has ``σ = √(S / 2τ)``: it is read where the curve falls with a slope of
    −0.5 ± 0.1. Bias instability is the lowest point over 0.664, given only where the curve turns up or flat
    after it and ten averages remain (IEEE Std 952-1997, annex C, from memory).
    """
    curve = allan_deviation(rate_dps, sample_rate_hz=sample_rate_hz)
    slope = np.gradient(np.log(np.maximum(curve.deviation, 1e-15)), np.log(curve.tau_s))
    white = (np.abs(slope + 0.5) < 0.1) & (curve.tau_s < rate_dps.size / sample_rate_hz / 20)
    density = float(np.median(curve.deviation[white] * np.sqrt(2 * curve.tau_s[white]))) if white.sum() >= 3 else None
    lowest = int(curve.deviation.argmin())
    duration_s = rate_dps.size / sample_rate_hz
    has_floor = lowest < curve.tau_s.size - 2 and curve.tau_s[lowest] <= duration_s / 10
    return RestNoise(
        density_dps_rthz=density,
        bias_instability_dps=float(curve.deviation[lowest]) / _BIAS_FACTOR if has_floor else None,
        bias_tau_s=float(curve.tau_s[lowest]) if has_floor else None,
        random_walk_deg_rth=None if density is None else density / math.sqrt(2) * 60,
        rms_dps=float(np.std(rate_dps)),
        mean_dps=float(np.mean(rate_dps)),
        duration_s=duration_s,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """How a resting gyro's zero moves with temperature."""

    slope_dps_per_k: float
    interval_dps_per_k: tuple[float, float]  # 95 %
    span_k: float
    settles_after_s: float | None  # from then on the zero stays within 0.05 deg/s of its last mean; None: not yet


def drift_with_temperature(rate_dps: FloatArray, temperature_c: FloatArray, *, sample_rate_hz: float) -> Drift:
    """Slope of the zero against temperature by least squares over one-second means, and when it has settled.

    The interval takes the residuals of the means as independent, which drift is not quite: an optimistic one.
    Raises NotEnoughData below 30 s or where the temperature moves by less than 1 K.
    """
    n = round(sample_rate_hz)
    blocks = rate_dps.size // n
    if blocks < 30:
        raise NotEnoughData(f"drift needs at least 30 s at rest, this recording has {rate_dps.size / sample_rate_hz:.0f} s")
    rate = rate_dps[: blocks * n].reshape(blocks, n).mean(axis=1)
    warm = temperature_c[: blocks * n].reshape(blocks, n).mean(axis=1)
    span = float(np.ptp(warm))
    if span < 1.0:
        raise NotEnoughData(f"the gyro's temperature moved by {span:.1f} K only: record from a cold start, at least 1 K")
    centred = warm - warm.mean()
    slope = float(centred @ rate / (centred @ centred))
    residual = rate - rate.mean() - slope * centred
    error = float(np.sqrt(residual @ residual / max(1, blocks - 2) / (centred @ centred)))
    off = np.abs(rate - rate[-10:].mean()) > 0.05
    last = int(np.flatnonzero(off).max()) + 1 if off.any() else 0
    return Drift(
        slope_dps_per_k=slope,
        interval_dps_per_k=(slope - 1.96 * error, slope + 1.96 * error),
        span_k=span,
        settles_after_s=float(last) if last < blocks - 10 else None,
    )
