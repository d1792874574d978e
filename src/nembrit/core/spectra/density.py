"""Power spectral density by Welch's method, with its interval."""

from dataclasses import dataclass

import numpy as np
import scipy.signal
import scipy.stats

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import ComplexArray, FloatArray

SEGMENT_S = 0.5


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Spectrum:
    """One-sided power spectral density of one channel."""

    frequency_hz: FloatArray  # (n_bins,)
    psd_dps2_per_hz: FloatArray  # (n_bins,)
    n_segments: int
    n_effective: float  # independent averages, overlap allowed for

    @property
    def bin_hz(self) -> float:
        return float(self.frequency_hz[1] - self.frequency_hz[0])

    def interval_ratio(self) -> tuple[float, float]:
        """Factors that turn the density into its 95 % interval (chi-square, 2 × n_effective degrees of freedom).

        Source: Bendat & Piersol, Random Data, ch. 8: ten independent averages give 0.5853 and 2.0853.
        """
        freedom = 2 * self.n_effective
        low, high = scipy.stats.chi2.ppf((0.975, 0.025), freedom)
        return float(freedom / low), float(freedom / high)


def effective_averages(n_segments: int, window: FloatArray, *, overlap_ratio: float) -> float:
    """Independent averages that overlapping segments are worth.

    var/mean² = (1/K)[1 + 2 Σ (1 − m/K) ρ²_m], ρ_m the window's own correlation at m hops
    (Welch 1967; Harris, Proc. IEEE 66, 1978).

    >>> round(8 / effective_averages(8, np.hanning(4097)[:-1], overlap_ratio=0.5), 4)
    1.0486
    """
    n = window.size
    hop = round(n * (1 - overlap_ratio))
    energy = float(window @ window)
    total = 1.0
    for m in range(1, n_segments):
        shift = m * hop
        if shift >= n:
            break
        correlation = float(window[shift:] @ window[: n - shift]) / energy
        total += 2 * (1 - m / n_segments) * correlation**2
    return n_segments / total


def welch_spectrum(
    gyro_dps: FloatArray, *, sample_rate_hz: float, segment_s: float = SEGMENT_S, overlap_ratio: float = 0.5
) -> Spectrum:
    """Estimate how gyro noise power is spread over frequency.

    Parameters
    ----------
    gyro_dps : ndarray, shape (n_samples,)
        Evenly spaced rotation rate [deg/s]; NaN marks gaps. A segment that holds a gap is left out.
    sample_rate_hz : float
        Rate at which the log was written [Hz].
    segment_s, overlap_ratio : float
        Window length [s] (bins are ``1 / segment_s`` apart), and the share of a window that the next
        one uses again, from 0 to below 1.

    Returns
    -------
    Spectrum
        One-sided density [(deg/s)²/Hz] from 0 Hz to half the sample rate.

    Raises
    ------
    NotEnoughData
        If fewer than three whole segments are free of gaps.

    Notes
    -----
    Periodic Hann windows, a straight line removed from each, so read nothing into the lowest bins.
    Source: P. D. Welch, IEEE Trans. Audio Electroacoust. 15 (1967) 70-73.

    Examples
    --------
    A vibration of 20 deg/s peak carries 20²/2 = 200 (deg/s)², to what detrending takes out:

    >>> t_s = np.arange(4000) / 2000
    >>> found = welch_spectrum(20 * np.sin(2 * np.pi * 180 * t_s), sample_rate_hz=2000)
    >>> round(float(found.psd_dps2_per_hz.sum() * found.bin_hz), 1)
    200.0
    """
    n_window = round(segment_s * sample_rate_hz)
    n_hop = n_window - int(overlap_ratio * n_window)
    starts = np.arange(0, gyro_dps.size - n_window + 1, max(1, n_hop))
    whole_before = np.concatenate(([0], np.cumsum(np.isfinite(gyro_dps))))
    starts = starts[whole_before[starts + n_window] - whole_before[starts] == n_window] if starts.size else starts
    if n_window < 8 or starts.size < 3:
        raise NotEnoughData(
            f"a spectrum needs at least {2 * segment_s:g} s of flight without gaps, this part has "
            f"{np.isfinite(gyro_dps).sum() / sample_rate_hz:.1f} s"
        )
    window = scipy.signal.get_window("hann", n_window)
    psd = np.zeros(n_window // 2 + 1)
    for block in np.array_split(starts, max(1, starts.size * n_window // 2_000_000)):
        segments = without_line(gyro_dps[block[:, None] + np.arange(n_window)])
        psd += mean_density(segments, window, sample_rate_hz=sample_rate_hz) * block.size / starts.size
    return Spectrum(
        frequency_hz=np.arange(psd.size) * sample_rate_hz / n_window,
        psd_dps2_per_hz=psd,
        n_segments=int(starts.size),
        n_effective=effective_averages(int(starts.size), window, overlap_ratio=overlap_ratio),
    )


def cross_spectrum(x: FloatArray, y: FloatArray, n_window: int) -> ComplexArray:
    """Sum of conj(X)·Y over Hann windows that overlap by half, each less its mean; shape (n_window // 2 + 1,), no scale.

    >>> rng = np.random.default_rng(1)
    >>> x, y = rng.normal(0, 1, (2, 4000))
    >>> own, known = cross_spectrum(x, y, 100), scipy.signal.csd(x, y, nperseg=100)[1]
    >>> bool(np.allclose(own[1:50] / own[1], known[1:50] / known[1]))
    True
    """
    window = scipy.signal.get_window("hann", n_window)
    starts = np.arange(0, x.size - n_window + 1, n_window - n_window // 2)
    total = np.zeros(n_window // 2 + 1, np.complex128)
    pieces = [np.lib.stride_tricks.sliding_window_view(values, n_window) for values in (x, y)]
    for block in np.array_split(starts, max(1, starts.size * n_window // 2_000_000)):
        cut = (every[block] for every in pieces)
        fx, fy = (np.fft.rfft((own - own.mean(axis=1, keepdims=True)) * window, axis=1) for own in cut)
        total += (np.conj(fx) * fy).sum(axis=0)
    return total


def without_line(segments: FloatArray) -> FloatArray:
    """Every segment less its straight line of least squares, shape (n_segments, n_window).

    >>> bool(np.abs(without_line(np.arange(8.0)[None, :] * 3 + 2)).max() < 1e-12)
    True
    """
    along = np.arange(segments.shape[1]) - (segments.shape[1] - 1) / 2
    slope = segments @ along / float(along @ along)
    rest: FloatArray = segments - segments.mean(axis=1, keepdims=True) - slope[:, None] * along
    return rest


def mean_density(segments: FloatArray, window: FloatArray, *, sample_rate_hz: float) -> FloatArray:
    """One-sided power density of windowed segments, averaged; units² per Hz.

    Parameters
    ----------
    segments : ndarray, shape (n_segments, n_window)
        Stretches of signal, trends removed as wanted.
    window : ndarray, shape (n_window,)
        Any window; its power is divided out, so that the density of white noise is right.
    sample_rate_hz : float
        Sample rate [Hz].

    Returns
    -------
    ndarray, shape (n_window // 2 + 1,)
        Its sum times ``sample_rate_hz / n_window`` is the mean square of windowed noise (Parseval).
    """
    spectra = np.fft.rfft(segments * window, axis=1)
    power = (spectra.real**2 + spectra.imag**2).mean(axis=0)
    density: FloatArray = power / (sample_rate_hz * float(window @ window))
    density[1 : (window.size + 1) // 2] *= 2  # all but 0 Hz and, for an even window, half the rate
    return density
