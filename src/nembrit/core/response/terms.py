"""What each logged term of the controller makes of set-point and gyro, measured as curves: nothing of it is assumed."""

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy.fft
import scipy.ndimage
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.response.transfer import TransferEstimate, cross_response, interpolated
from nembrit.core.types import ComplexArray, FloatArray

Curve = tuple[FloatArray, ComplexArray]  # frequencies [Hz] and what was measured there

_SEGMENT_S = 0.5
_LEAST_MOVE = 1e-6  # share of full range: a term that never moves has no gain
_COHERENT = 0.8
_D_BAND_HZ, _SHAKING_HZ = (3.0, 80.0), (20.0, 100.0)
_EXPLAINED = 0.005  # unexplained share of a term whose curve is right: 0.2 % at most in our own trials
_UNKNOWN = 0.05  # from here on the controller does something that no curve describes
_CALM_SHARE, _QUICK_SHARE, _CALM_AROUND_S = 0.05, 0.15, 0.03
_LEAST_LAG_S = 0.0004  # of a low-pass that is told from none


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class DCurve:
    """D on the filtered gyro, the sign of the error; where it acts on the error, it makes the same of the set-point."""

    curve: Curve
    is_on_error: bool
    unexplained_ratio: float  # share of the term's power that the curve leaves open
    calm: "Smoothed | None" = None  # where D grows in quick moves: what it is in calm flying, of the input's slope


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Smoothing:
    """1 / (1 + s·first_s + s²·second_s2): the low-pass that a term shows on its input."""

    first_s: float
    second_s2: float

    def response(self, frequency_hz: FloatArray) -> ComplexArray:
        omega = 2 * np.pi * frequency_hz
        return np.asarray(1 / (1 - omega**2 * self.second_s2 + 1j * omega * self.first_s), complex)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Smoothed:
    """A gain behind a low-pass, as a term shows it, and how much of the term it leaves open."""

    gain: float
    smoothing: Smoothing | None  # None: none is seen
    unexplained_ratio: float


def moves(recording: Recording, role: str) -> FloatArray | None:
    """A term's samples; None where it is not recorded or never moves."""
    values = recording.channels.get(role)
    return values if values is not None and float(np.nanstd(values)) > _LEAST_MOVE else None


def d_curve(recording: Recording, axis: str) -> DCurve | None:
    """Measured gyro → D where the two belong together [Hz, share per deg/s]; None without a D term.

    From the gyro's differences to D, whose quotient is nearly level, and then by what differences are of the gyro: gyro → D
    itself rises with frequency while the gyro falls steeply, so that what leaks from bin to bin would turn it by up to 15°.
    Where the gyro leaves more than 0.5 % of the term open, D is tried on the error. Where both do, the curve is an average, and
    its share in calm flying is read where the set-point turns least (a D that grows with stick movement).
    """
    term = moves(recording, f"term_d.{axis}")
    if term is None:
        return None
    gyro = recording.channels[f"gyro.{axis}"]
    found = _d_candidate(recording, gyro, -term, is_on_error=False)
    if (found is None or found.unexplained_ratio > _EXPLAINED) and recording.has(f"setpoint.{axis}"):
        error = recording.channels[f"setpoint.{axis}"] - gyro
        on_error = _d_candidate(recording, error, term, is_on_error=True)
        if on_error is not None and (found is None or on_error.unexplained_ratio < 0.5 * found.unexplained_ratio):
            found = on_error
        if found is not None and found.unexplained_ratio > _EXPLAINED:
            x = error if found.is_on_error else -gyro
            found = replace(found, calm=_calm(recording, axis, x, term))
    return found


def _d_candidate(recording: Recording, x: FloatArray, term: FloatArray, *, is_on_error: bool) -> DCurve | None:
    rate_hz = recording.sample_rate_hz
    slope = np.diff(x, prepend=x[:1]) * rate_hz
    found = _response(slope, term, rate_hz)
    if found is None:
        return None
    known_hz, response = found.frequency_hz, found.response
    use_hz = (found.coherence > _COHERENT) & (known_hz >= 2.0) & (known_hz <= 0.45 * rate_hz)
    if use_hz.sum() < 8:
        return None
    known_hz, response = known_hz[use_hz], response[use_hz]
    curve = known_hz, response * (1 - np.exp(-2j * np.pi * known_hz / rate_hz)) * rate_hz
    return DCurve(curve=curve, is_on_error=is_on_error, unexplained_ratio=_unexplained(found, _D_BAND_HZ))


def _calm(recording: Recording, axis: str, x: FloatArray, term: FloatArray) -> "Smoothed | None":
    """D in calm flying: a gain behind a low-pass; None where it does not clearly grow in quick moves.

    Above 20 Hz the gyro is vibration, which knows nothing of the sticks: what D makes of it is the average of calm and quick.
    Its low-pass is read there, and its gain where the set-point turns least.
    """
    rate_hz = recording.sample_rate_hz
    average = smoothed_gain(recording, term, x, 1.0, is_slope=True, band_hz=_SHAKING_HZ)
    if average is None:
        return None
    slope = np.gradient(filled(x)) * rate_hz
    sos = scipy.signal.butter(2, (_SHAKING_HZ[0], min(_SHAKING_HZ[1], 0.4 * rate_hz)), "bandpass", fs=rate_hz, output="sos")
    made = average.gain * _through(np.asarray(scipy.signal.sosfiltfilt(sos, slope)), average.smoothing, rate_hz)
    told = scipy.signal.sosfiltfilt(sos, filled(term))
    width = max(1, round(_CALM_AROUND_S * rate_hz))
    turning = scipy.ndimage.uniform_filter1d(np.abs(np.gradient(filled(recording.channels[f"setpoint.{axis}"]))), width)
    edges = np.quantile(turning, (_CALM_SHARE, 1 - _QUICK_SHARE))
    whole = np.isfinite(term) & np.isfinite(x)
    calm, quick = (
        float(told[part] @ made[part] / max(float(made[part] @ made[part]), 1e-30))
        for part in (whole & (turning <= edges[0]), whole & (turning >= edges[1]))
    )
    return replace(average, gain=average.gain * calm) if 0.2 < calm < 0.95 * quick else None


def _through(values: FloatArray, smoothing: Smoothing | None, rate_hz: float) -> FloatArray:
    if smoothing is None:
        return values
    n = scipy.fft.next_fast_len(values.size, real=True)
    at_hz: FloatArray = np.asarray(np.fft.rfftfreq(n, 1 / rate_hz), np.float64)
    passed = np.fft.rfft(values, n) * smoothing.response(at_hz)
    return np.asarray(np.fft.irfft(passed, n)[: values.size])


def smoothed_gain(
    recording: Recording,
    term: FloatArray,
    x: FloatArray,
    gain: float,
    *,
    is_slope: bool,
    band_hz: tuple[float, float] = (2.0, 60.0),
) -> Smoothed | None:
    """The low-pass between an input and a term of a known kind: P on the error, F on the set-point's slope.

    Parameters
    ----------
    term, x : ndarray, shape (n_samples,)
        The term [share] and what it acts on [deg/s].
    gain : float
        The term's gain as regression has it; replaced by the fit's where a low-pass is seen.
    is_slope : bool
        Whether the term acts on the input's derivative.

    Notes
    -----
    1 / H = (1 + s·a + s²·b) / gain is linear in what is sought: least squares on the coherent frequencies of 2 to 60 Hz
    (E. C. Levy, IRE Trans. Autom. Control AC-4 (1959) 37-43, with the error weighed by |H|²). None where input and term do not
    belong together often enough to tell.
    """
    rate_hz = recording.sample_rate_hz
    turned = np.diff(x, prepend=x[:1])
    told = term if is_slope else np.diff(term, prepend=term[:1])
    found = _response(turned, told, rate_hz)
    if found is None:
        return None
    hz = found.frequency_hz
    use = (hz >= band_hz[0]) & (hz <= min(band_hz[1], 0.4 * rate_hz)) & (found.coherence > _COHERENT)
    unexplained = _unexplained(found, band_hz)
    if use.sum() < 6:
        return None
    s = 2j * np.pi * hz[use]
    response = found.response[use]
    if is_slope:  # a difference over one log sample is late by half of it against a slope
        response = response * (1 - np.exp(-s / rate_hz)) / s
    scaled = response / gain
    weight = 1 / np.maximum(found.random_error[use], 0.003)
    # 1 = scaled · (c + s·a + s²·b)
    model = np.stack([np.ones(s.size, complex), s, s**2], axis=1) * (scaled * weight)[:, None]
    rows, wanted = np.concatenate([model.real, model.imag]), np.concatenate([weight, np.zeros(s.size)])
    c, a, b = np.linalg.lstsq(rows, wanted, rcond=None)[0]
    if not c > 0:
        return None
    if not (a / c > _LEAST_LAG_S):
        return Smoothed(gain=gain / float(c), smoothing=None, unexplained_ratio=unexplained)
    smoothing = Smoothing(first_s=float(a / c), second_s2=float(max(b, 0.0) / c))
    return Smoothed(gain=gain / float(c), smoothing=smoothing, unexplained_ratio=unexplained)


def _response(x: FloatArray, y: FloatArray, rate_hz: float) -> TransferEstimate | None:
    try:
        return cross_response(x, y, np.ones(x.size, bool), sample_rate_hz=rate_hz, segment_s=_SEGMENT_S)
    except NotEnoughData:
        return None


def _unexplained(found: TransferEstimate, band_hz: tuple[float, float]) -> float:
    """Share of the output's power within a band that the input does not explain."""
    inside = (found.frequency_hz >= band_hz[0]) & (found.frequency_hz <= band_hz[1])
    power = found.output_power[inside]
    total = float(power.sum())
    return float(power @ (1 - found.coherence[inside])) / total if total > 0 else 0.0


def level_at(curve: Curve, frequency_hz: FloatArray) -> ComplexArray:
    """A measured derivative's curve on other frequencies: interpolated as what it makes of a slope."""
    known_hz, response = curve
    s = 2j * np.pi * frequency_hz
    return np.asarray(s * interpolated(frequency_hz, known_hz, response / (2j * np.pi * known_hz)))


def is_unknown(unexplained_ratio: float) -> bool:
    return unexplained_ratio > _UNKNOWN and math.isfinite(unexplained_ratio)
