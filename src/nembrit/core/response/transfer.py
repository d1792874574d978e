"""Frequency responses between channels of one flight: by Welch's cross-spectra, and from an impulse response."""

from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.response.impulse import N_BLOCKS, decimated, whitened_problem
from nembrit.core.spectra.density import without_line
from nembrit.core.types import BoolArray, ComplexArray, FloatArray

_LEAST_ROWS = 8  # a window
_LEAST_SEGMENTS = 4
_SMOOTH_HZ = 3.0
_ROUNDS = 3  # of regularisation: more change nothing that shows in our own trials
_WORK_RATE_HZ = 250.0  # 200 taps are 0.8 s then: slow loops and the I term need that long


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TransferEstimate:
    """Response of one signal to another with how sure it is; all arrays have shape (n_frequencies,)."""

    frequency_hz: FloatArray
    response: ComplexArray
    coherence: FloatArray
    random_error: FloatArray  # standard deviation of |response| as a share of it
    output_power: FloatArray  # of y, in no unit: to weigh frequencies by
    n_effective: float  # independent segments that the averages are worth


def cross_response(
    x: FloatArray,
    y: FloatArray,
    usable: BoolArray,
    *,
    sample_rate_hz: float,
    segment_s: float = 2.0,
    overlap_ratio: float = 0.75,
    window: FloatArray | None = None,
    is_detrended: bool = True,
) -> TransferEstimate:
    """H1 = Sxy / Sxx from windows that are usable throughout.

    Parameters
    ----------
    x, y : ndarray, shape (n_samples,)
        Input and output on one clock; NaN marks gaps.
    usable : ndarray of bool, shape (n_samples,)
        Windows that hold a sample elsewhere are left out.
    sample_rate_hz, segment_s, overlap_ratio : float
        Rate [Hz], length of a window [s], and the share that the next one uses again.
    window : ndarray, shape (n_window,), optional
        In place of a periodic Hann window, where an outside result demands it.
    is_detrended : bool
        Whether a straight line is taken out of every window first.

    Returns
    -------
    TransferEstimate
        Random error √((1 − γ²) / (2 n_d γ²)), n_d the effective number of averages of the windows that overlap.

    Raises
    ------
    NotEnoughData
        If fewer than four windows are usable.

    Notes
    -----
    Bendat & Piersol, Random Data, 4th ed., chapters 6 and 9.
    """
    n = round(segment_s * sample_rate_hz)
    if n < _LEAST_ROWS:
        raise NotEnoughData(
            f"a frequency response needs at least {_LEAST_ROWS / segment_s:g} rows a second, this log has {sample_rate_hz:.3g}: "
            "log faster"
        )
    hop = max(1, n - int(overlap_ratio * n))
    good = usable & np.isfinite(x) & np.isfinite(y)
    before = np.concatenate(([0], np.cumsum(good)))
    starts = np.arange(0, x.size - n + 1, hop)
    starts = starts[before[starts + n] - before[starts] == n] if starts.size else starts
    if starts.size < _LEAST_SEGMENTS:
        raise NotEnoughData(
            f"a frequency response needs at least {_LEAST_SEGMENTS} stretches of {segment_s:g} s with authority, this flight has "
            f"{starts.size}: weave at middle throttle, calmly but quickly"
        )
    window = scipy.signal.get_window("hann", n) if window is None else window
    sxx, syy, sxy = np.zeros(n // 2 + 1), np.zeros(n // 2 + 1), np.zeros(n // 2 + 1, complex)
    windows_of = [np.lib.stride_tricks.sliding_window_view(signal, n) for signal in (x, y)]
    for block in np.array_split(starts, max(1, starts.size * n // 2_000_000)):
        pieces = (windows[block] for windows in windows_of)
        fx, fy = (np.fft.rfft((without_line(piece) if is_detrended else piece) * window, axis=1) for piece in pieces)
        sxx += (fx.real**2 + fx.imag**2).sum(axis=0)
        syy += (fy.real**2 + fy.imag**2).sum(axis=0)
        sxy += (np.conj(fx) * fy).sum(axis=0)
    tiny = 1e-300
    coherence = np.clip(np.abs(sxy) ** 2 / np.maximum(sxx * syy, tiny), 0.0, 1.0)
    n_effective = _effective(starts, n, window)
    error = np.sqrt((1 - coherence) / np.maximum(2 * n_effective * coherence, tiny))
    return TransferEstimate(
        frequency_hz=np.arange(n // 2 + 1) * sample_rate_hz / n,
        response=np.asarray(sxy / np.maximum(sxx, tiny), dtype=np.complex128),
        coherence=coherence,
        random_error=error,
        output_power=syy,
        n_effective=n_effective,
    )


def _effective(starts: np.ndarray, n: int, window: FloatArray) -> float:
    """Independent averages that windows at these places are worth: n / (1 + 2 Σ ρ²), ρ from how far each two overlap."""
    total = float(starts.size)
    power = float(window @ window)
    for lag in range(1, starts.size):
        apart = starts[lag:] - starts[:-lag]
        near = apart[apart < n]
        if near.size == 0:
            break
        rho = np.array([float(window[: n - d] @ window[d:]) / power for d in np.unique(near)])
        counts = np.array([np.count_nonzero(near == d) for d in np.unique(near)])
        total += 2 * float(counts @ rho**2)
    return starts.size**2 / total


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoopResponses:
    """Set-point → gyro and set-point → applied command of one axis, whole and with each block of the flight left out."""

    frequency_hz: FloatArray  # (n,)
    gyro: ComplexArray  # (1 + n_blocks, n); row 0 is the whole flight
    command: ComplexArray | None  # the same; None: no command is known
    usable_s: float

    @property
    def plant(self) -> ComplexArray | None:
        """Command → gyro with the set-point as instrument, the same shape: disturbances that the loop answers to drop out."""
        return None if self.command is None else self.gyro / self.command


def loop_responses(
    setpoint: FloatArray,
    gyro: FloatArray,
    command: FloatArray | None,
    usable: BoolArray,
    *,
    sample_rate_hz: float,
    frequency_hz: FloatArray,
) -> LoopResponses:
    """Both answers to the set-point as regularised impulse responses, turned into frequency responses.

    Their quotient is the plant by instrumental variables: Söderström & Stoica, System Identification (1989), chapter 8;
    Van den Hof & Schrama, Automatica 29 (1993) 1523-1527. Rows without authority are left out one by one, as no
    spectrum could. Raises NotEnoughData for less than 6 s of them.
    """
    signals = [setpoint, gyro] if command is None else [setpoint, gyro, command]
    slowed = decimated(signals, usable, sample_rate_hz, work_rate_hz=_WORK_RATE_HZ)
    (r, *answers), keep, rate_hz = slowed.signals, slowed.keep, slowed.rate_hz
    usable_s = float(keep.sum() / rate_hz)
    if usable_s < 6.0:
        raise NotEnoughData(f"only {usable_s:.1f} s of flying with authority at middle throttle; at least 6 s are needed")
    turn = np.exp(-2j * np.pi * frequency_hz[:, None] * np.arange(slowed.n_taps) / rate_hz)
    found = []
    for k, answer in enumerate(answers):
        # a command answers with a spike and its undoing, which the prior would shrink by a little and low frequencies by a
        # lot: it is smoothed first, and the smoothing taken out again
        smooth = scipy.signal.butter(1, _SMOOTH_HZ, fs=rate_hz) if k else ([1.0], [1.0])
        problem = whitened_problem(r, scipy.signal.lfilter(*smooth, answer), keep, slowed.n_taps)
        prior = problem.best_prior(refine=True)
        left_out = (None, *range(N_BLOCKS))
        impulses = [problem.solve(*prior, without=block, times=_ROUNDS) for block in left_out]
        through = scipy.signal.freqz(*smooth, worN=frequency_hz, fs=rate_hz)[1]
        found.append(np.stack(impulses) @ turn.T / through)
    return LoopResponses(
        frequency_hz=frequency_hz, gyro=found[0], command=found[1] if len(found) > 1 else None, usable_s=usable_s
    )


def log_errors(rows: ComplexArray) -> FloatArray:
    """Jackknife standard error of log |response| and phase together, shape (n,), from `LoopResponses` rows."""
    logs = np.log(rows[1:] / rows[0])
    n = logs.shape[0]
    return np.asarray(np.sqrt((n - 1) / n * (np.abs(logs - logs.mean(axis=0)) ** 2).sum(axis=0)))


def interpolated(frequency_hz: FloatArray, known_hz: FloatArray, known: ComplexArray) -> ComplexArray:
    """A measured response between its frequencies: log magnitude and unwrapped phase; beyond them, the nearest value
    with its phase going on in proportion to frequency."""
    magnitude = np.log(np.maximum(np.abs(known), 1e-12))
    phase = np.unwrap(np.angle(known))
    log_size = np.interp(frequency_hz, known_hz, magnitude)
    angle = np.interp(frequency_hz, known_hz, phase)
    above = frequency_hz > known_hz[-1]
    slope = (phase[-1] - phase[len(phase) // 2]) / (known_hz[-1] - known_hz[len(phase) // 2])
    angle = np.where(above, phase[-1] + slope * (frequency_hz - known_hz[-1]), angle)
    return np.asarray(np.exp(log_size + 1j * angle))
