"""What a closed loop's frequency response says in the words of the trade: bandwidth, peak, rise, delay, settling."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.types import ComplexArray, FloatArray

STEP_RATE_HZ, _N_STEP = 1000.0, 4096
_SETTLED = 0.05
_HALF_POWER_DB = 20 * float(np.log10(np.sqrt(0.5)))
_SHOWN_S = 0.4


@dataclass(frozen=True, slots=True, kw_only=True)
class Following:
    """Numbers of one closed loop; what is never reached is None."""

    bandwidth_hz: float | None
    peak_db: float
    rise_time_s: float | None
    delay_s: float | None
    settling_time_s: float | None
    overshoot_ratio: float
    handling_bandwidth_hz: float | None
    phase_delay_s: float | None


def step_frequencies() -> FloatArray:
    """Where a closed loop must be known for `step_of` [Hz]."""
    return np.asarray(np.fft.rfftfreq(_N_STEP, 1 / STEP_RATE_HZ), dtype=np.float64)


def step_of(closed: ComplexArray) -> tuple[FloatArray, FloatArray]:
    """Step response of a closed loop given on `step_frequencies`; times [s] and response to a unit step.

    By the inverse transform of the impulse response, its running sum belonging half a sample later.
    """
    impulse = np.fft.irfft(closed, _N_STEP)
    return np.asarray((np.arange(_N_STEP) + 0.5) / STEP_RATE_HZ), np.asarray(np.cumsum(impulse), dtype=np.float64)


def following(frequency_hz: FloatArray, closed: ComplexArray, step_t_s: FloatArray, step: FloatArray) -> Following:
    """Numbers of a closed loop T from set-point to gyro, and of its step response.

    Bandwidth: −3 dB. Rise 10 to 90 %, delay to 50 %, settling within 5 % of 1 for good (Ogata, Modern Control Engineering,
    chapter 5). Handling-qualities bandwidth and phase delay of the attitude, the integral of the rate, by ADS-33E-PRF:
    the lower of where its phase leaves 45° to −180° and where its gain stands 6 dB over that at −180°; phase delay
    (Φ(2 f₁₈₀) + 180°) / (360° · 2 f₁₈₀).

    >>> w = np.geomspace(0.1, 1000, 20000)
    >>> s = 1j * w
    >>> loop = 25 / (s**2 + 2 * 0.5 * 5 * s + 25)  # damping 0.5, 5 rad/s: bandwidth 1.2720 · 5 rad/s, peak 1.1547
    >>> t = np.linspace(0, 3, 3000)
    >>> found = following(w / (2 * np.pi), loop, t, np.ones(3000))
    >>> round(found.bandwidth_hz * 2 * np.pi / 5, 4), round(10 ** (found.peak_db / 20), 4)
    (1.272, 1.1547)
    """
    size_db = 20 * np.log10(np.maximum(np.abs(closed), 1e-12))
    low_end = int(np.searchsorted(frequency_hz, 0.5 * frequency_hz[int(size_db.argmax())]))
    below = np.flatnonzero(size_db[low_end:] < _HALF_POWER_DB)
    bandwidth = None
    if below.size and low_end + below[0] > 0:
        k = low_end + int(below[0])
        share = (size_db[k - 1] - _HALF_POWER_DB) / (size_db[k - 1] - size_db[k])
        bandwidth = float(frequency_hz[k - 1] * (frequency_hz[k] / frequency_hz[k - 1]) ** share)
    handling, phase_delay = _handling(frequency_hz, closed)
    shown = step_t_s <= _SHOWN_S
    return Following(
        bandwidth_hz=bandwidth,
        peak_db=float(size_db.max()),
        rise_time_s=_rise(step_t_s, step),
        delay_s=_first(step_t_s, step, 0.5),
        settling_time_s=_settling(step_t_s, step),
        overshoot_ratio=max(0.0, float(step[shown].max()) - 1.0),
        handling_bandwidth_hz=handling,
        phase_delay_s=phase_delay,
    )


def _handling(frequency_hz: FloatArray, closed: ComplexArray) -> tuple[float | None, float | None]:
    attitude = closed / (2j * np.pi * frequency_hz)
    phase = np.degrees(np.unwrap(np.angle(attitude)))
    size_db = 20 * np.log10(np.maximum(np.abs(attitude), 1e-12))
    at_45, at_180 = _falls_through(frequency_hz, phase, -135.0), _falls_through(frequency_hz, phase, -180.0)
    if at_45 is None or at_180 is None:
        return None, None
    six_over = float(np.interp(at_180, frequency_hz, size_db)) + 6.0
    by_gain = _falls_through(frequency_hz, size_db, six_over)
    delay = None
    if 2 * at_180 <= frequency_hz[-1]:
        delay = float(-(np.interp(2 * at_180, frequency_hz, phase) + 180.0) / (360.0 * 2 * at_180))
    return min(at_45, by_gain if by_gain is not None else at_45), delay


def _falls_through(frequency_hz: FloatArray, values: FloatArray, level: float) -> float | None:
    under = np.flatnonzero(values < level)
    if under.size == 0 or under[0] == 0:
        return None
    k = int(under[0])
    share = (values[k - 1] - level) / (values[k - 1] - values[k])
    return float(frequency_hz[k - 1] + share * (frequency_hz[k] - frequency_hz[k - 1]))


def _first(t_s: FloatArray, step: FloatArray, level: float) -> float | None:
    above = np.flatnonzero(step >= level)
    if above.size == 0:
        return None
    k = int(above[0])
    if k == 0:
        return float(t_s[0])
    share = (level - step[k - 1]) / (step[k] - step[k - 1])
    return float(t_s[k - 1] + share * (t_s[k] - t_s[k - 1]))


def _rise(t_s: FloatArray, step: FloatArray) -> float | None:
    low, high = _first(t_s, step, 0.1), _first(t_s, step, 0.9)
    return None if low is None or high is None else high - low


def _settling(t_s: FloatArray, step: FloatArray) -> float | None:
    """After this the step stays within 5 % of 1; None if it never does within the seconds worked out."""
    half = t_s <= t_s[-1] / 2
    outside = np.flatnonzero(np.abs(step[half] - 1) > _SETTLED)
    if outside.size and outside[-1] >= int(half.sum()) - 2:
        return None
    return float(t_s[outside[-1] + 1]) if outside.size else float(t_s[0])
