"""Sustained oscillation: where, how large, whether it grows, and which term feeds it."""

from bisect import insort
from dataclasses import dataclass

import numpy as np
import scipy.ndimage
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import runs
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray

# all numbers are starting values of our own trials on simulated craft, no source
_FRAME_S, _HOPS = 0.4, 8
_WORK_RATE_HZ = 500.0
_BAND_HZ = (1.5, 140.0)
_LEAST_RISE = 5.0  # times the spectrum around it, in amplitude squared
_LEAST_DPS, _LOUD_DPS, _LOUD_MOTORS = 4.0, 12.0, 0.05  # amplitude; a swing counts if it is loud, or shakes the motors
_LEAST_S = 2.0
_SAME_HZ_RATIO = 0.15
_SAME_AS_MOTOR = 0.05
_ONE_SIDED = 3.0  # skewness beyond which it is knocks rather than a swing
_STOP_DPS, _STOP_MOTORS = 60.0, 0.12  # amplitude, and RMS of motor commands at it, that could burn a motor
_TERMS = "pid"


@dataclass(frozen=True, slots=True, kw_only=True)
class Oscillation:
    """The longest sustained swing of one axis."""

    axis: str
    start_s: float
    end_s: float
    frequency_hz: float
    amplitude_dps: float
    growth_db_per_s: float
    kind: str  # p, i, d: the term that feeds it; mechanical: no matter of gains; unknown: no terms logged
    why: str
    lags_deg: dict[str, float]  # of each logged term behind the error at this frequency
    motors_rms: float | None  # of the motor commands around this frequency, share of full range
    severity: str  # watch, act or stop


def sustained(recording: Recording, axis: str) -> Oscillation | None:
    """The longest sustained narrow swing of set-point less gyro between 1.5 and 140 Hz; None where there is none.

    Frames of 0.4 s, an eighth apart (Hann): the strongest peak as acceleration, at least 5 times the median around it in
    power and 12 deg/s in amplitude (4 where it shakes the motors by 5 %), which stays within 15 % of its frequency for
    2 s. What the sticks ask is taken out by the error; frames in which the set-point moves fast are left out. Fed by the
    term that is largest at its frequency. A swing that is one-sided (knocks) is no matter of gains.
    """
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}") or recording.sample_rate_hz < 250:
        return None
    rate_hz = recording.sample_rate_hz
    error = filled(recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"])
    step = max(1, int(rate_hz / _WORK_RATE_HZ))
    taps = scipy.signal.firwin(8 * step + 1, 0.8 / step) if step > 1 else np.ones(1)
    late = 4 if step > 1 else 0  # the filter's middle, in samples of the slower rate
    slow = scipy.signal.upfirdn(taps, error, down=step)[late : late + -(-error.size // step)]
    n = step * round(_FRAME_S * rate_hz / step)
    hop = step * max(1, n // _HOPS // step)
    starts = np.arange(0, step * slow.size - n + 1, hop)
    if starts.size < 4:
        return None
    peaks_hz, amplitudes = _peaks(slow, starts // step, n // step, rate_hz / step)
    fast = np.abs(np.gradient(filled(recording.channels[f"setpoint.{axis}"]))) * rate_hz > 1500.0
    n_fast = np.concatenate(([0], np.cumsum(fast)))
    asked = n_fast[np.minimum(starts + n, fast.size)] > n_fast[starts]  # anywhere in the frame
    swings = (amplitudes >= _LEAST_DPS) & ~asked
    longest = _longest(swings, peaks_hz)
    if longest is None or (longest[1] - longest[0]) * hop / rate_hz < _LEAST_S - _FRAME_S:
        return None
    first, last = longest
    frequency_hz = float(np.median(peaks_hz[first:last]))
    size = amplitudes[first:last]
    part = slice(int(starts[first]), int(starts[last - 1] + n))
    growth = float(np.polyfit(np.arange(size.size) * hop / rate_hz, 20 * np.log10(size), 1)[0]) if size.size > 2 else 0.0
    if _turns_with_a_motor(recording, part, frequency_hz):
        return None  # a line of the noise bench, no swing
    kind, why, lags = _fed_by(recording, axis, error, part, frequency_hz)
    motors = _motors_rms(recording, part, frequency_hz)
    amplitude = float(np.median(size))
    if amplitude < _LOUD_DPS and (motors is None or motors < _LOUD_MOTORS):
        return None
    burns = amplitude >= _STOP_DPS or (motors is not None and motors >= _STOP_MOTORS and frequency_hz > 20)
    return Oscillation(
        axis=axis,
        start_s=recording.start_s + part.start / rate_hz,
        end_s=recording.start_s + part.stop / rate_hz,
        frequency_hz=frequency_hz,
        amplitude_dps=amplitude,
        growth_db_per_s=growth,
        kind=kind,
        why=why,
        lags_deg=lags,
        motors_rms=motors,
        severity="stop" if burns else "act" if growth > 3.0 and amplitude > 2 * _LOUD_DPS else "watch",
    )


def _peaks(error: FloatArray, starts: np.ndarray, n: int, rate_hz: float) -> tuple[FloatArray, FloatArray]:
    """Frequency and amplitude of the strongest narrow peak of every frame; amplitude 0 where none stands out."""
    window = scipy.signal.get_window("hann", n)
    frames = error[starts[:, None] + np.arange(n)]
    spectra = np.abs(np.fft.rfft((frames - frames.mean(axis=1, keepdims=True)) * window, 4 * n, axis=1))
    frequency_hz: FloatArray = np.asarray(np.fft.rfftfreq(4 * n, 1 / rate_hz), dtype=np.float64)
    inside = (frequency_hz >= _BAND_HZ[0]) & (frequency_hz <= _BAND_HZ[1])
    power, frequency_hz = spectra[:, inside] ** 2, np.asarray(frequency_hz[inside], dtype=np.float64)
    top = (power * frequency_hz**2).argmax(axis=1)  # as acceleration: lag behind the sticks is slow
    at = frequency_hz[top]
    rows = np.arange(top.size)
    around = np.empty(rows.size)
    for peak in np.unique(top):  # frames with the same peak share their surroundings
        near = _near(frequency_hz, float(frequency_hz[peak]))
        around[top == peak] = np.median(power[top == peak][:, near], axis=1)
    stands = power[rows, top] >= _LEAST_RISE * around
    amplitude = np.where(stands, 2 * np.sqrt(power[rows, top]) / window.sum(), 0.0)
    return at, amplitude


def _near(frequency_hz: FloatArray, at_hz: float) -> BoolArray:
    """From half to twice a peak's frequency, the peak itself left out; all where that is too little."""
    near = (np.abs(frequency_hz - at_hz) > 6.0) & (frequency_hz > 0.4 * at_hz) & (frequency_hz < 2.5 * at_hz + 12)
    return near if near.sum() > 4 else np.ones(frequency_hz.size, dtype=bool)


def _longest(swings: np.ndarray, peaks_hz: FloatArray) -> tuple[int, int] | None:
    """The longest run of frames that swing at nearly the same frequency."""
    best: tuple[int, int] | None = None
    for first, last in runs(swings, least=2, bridge=2):
        start, sorted_hz = first, [float(peaks_hz[first])]
        for k in range(first + 1, last + 1):
            middle = (sorted_hz[(k - start) // 2] + sorted_hz[(k - start - 1) // 2]) / 2
            if k == last or abs(peaks_hz[k] - middle) > _SAME_HZ_RATIO * middle:
                if best is None or k - start > best[1] - best[0]:
                    best = (start, k)
                start, sorted_hz = k, []
            if k < last:
                insort(sorted_hz, float(peaks_hz[k]))
    return best


def _fed_by(
    recording: Recording, axis: str, error: FloatArray, part: slice, frequency_hz: float
) -> tuple[str, str, dict[str, float]]:
    """Which term is largest at the swing's frequency, and how far each lags the error."""
    piece = error[part]
    scaled = piece - piece.mean()
    skew = float(np.mean(scaled**3) / max(np.mean(scaled**2) ** 1.5, 1e-12))
    turn = np.exp(-2j * np.pi * frequency_hz * np.arange(piece.size) / recording.sample_rate_hz) * np.hanning(piece.size)
    of_error = complex(scaled @ turn)
    sizes, lags = {}, {}
    for term in _TERMS:
        values = recording.channels.get(f"term_{term}.{axis}")
        if values is None:
            continue
        own = filled(values[part])
        at = complex((own - own.mean()) @ turn)
        sizes[term] = abs(at)
        if abs(at) > 0:
            lags[term] = float(-np.degrees(np.angle(at / of_error)))
    if abs(skew) > _ONE_SIDED:
        return "mechanical", "it is one-sided: knocks, not an oscillation", lags
    if not sizes or max(sizes.values()) <= 0:
        return "unknown", "the control terms are not logged", lags
    first = max(sizes, key=sizes.__getitem__)
    whole = sum(sizes.values())
    return first, f"{first.upper()} makes {100 * sizes[first] / whole:.0f} % of the command at {frequency_hz:.0f} Hz", lags


def _turns_with_a_motor(recording: Recording, part: slice, frequency_hz: float) -> bool:
    """Whether a motor turns once or half as often, where speeds are recorded."""
    if frequency_hz < 40:
        return False
    speeds = [recording.channels[role] for n in range(1, 13) if recording.has(role := f"motor_rpm.{n}")]
    turns_hz = [float(np.nanmedian(speed[part])) / 60 for speed in speeds]
    return any(abs(frequency_hz - order * one) < _SAME_AS_MOTOR * frequency_hz for one in turns_hz for order in (1, 2))


def _motors_rms(recording: Recording, part: slice, frequency_hz: float) -> float | None:
    roles = [role for n in range(1, 13) if recording.has(role := f"motor.{n}")]
    if not roles:
        return None
    low, high = 0.7 * frequency_hz, min(1.4 * frequency_hz, 0.45 * recording.sample_rate_hz)
    sos = scipy.signal.butter(2, (low, high), btype="bandpass", fs=recording.sample_rate_hz, output="sos")
    bands = [scipy.signal.sosfiltfilt(sos, filled(recording.channels[role]))[part] for role in roles]
    return float(max(np.sqrt(np.mean(band**2)) for band in bands))
