"""Signs of a loop that is tuned wrongly, read from an ordinary flight without knowing its gains."""

import numpy as np
import scipy.ndimage
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.spectra.density import cross_spectrum, welch_spectrum
from nembrit.core.types import BoolArray, FloatArray

_DELAY_BAND_HZ = (12.0, 60.0)
_OSCILLATION_HZ = (8.0, 95.0)
_FLOAT_BAND_HZ = (2.0, 25.0)


def chain_delay_s(recording: Recording, axis: str) -> float | None:
    """Delay of the software filters: slope of the phase of the cross-spectrum raw → filtered gyro, 12 to 60 Hz [s].

    Weighted by power, so that it speaks of what the craft moves at; None without both channels or below 240 Hz.
    """
    roles = (f"gyro_raw.{axis}", f"gyro.{axis}")
    if not recording.has(*roles) or recording.sample_rate_hz < 240:
        return None
    raw, filtered = (filled(recording.channels[role]) for role in roles)
    n = min(raw.size // 2, round(0.5 * recording.sample_rate_hz))
    if n < 64:
        return None
    cross = cross_spectrum(raw, filtered, n)
    frequency_hz: FloatArray = np.asarray(np.fft.rfftfreq(n, 1 / recording.sample_rate_hz), dtype=np.float64)
    inside = (frequency_hz >= _DELAY_BAND_HZ[0]) & (frequency_hz <= _DELAY_BAND_HZ[1])
    if inside.sum() < 4:
        return None
    weight = np.abs(cross[inside])
    omega = 2 * np.pi * frequency_hz[inside]
    phase = np.unwrap(np.angle(cross[inside]))
    return float(-(weight * omega) @ phase / ((weight * omega) @ omega))


def oscillation(recording: Recording, axis: str, use: BoolArray) -> tuple[float, float] | None:
    """Swing of the loop itself: how far the error's spectrum peaks above its surroundings [dB], and where [Hz].

    8 to 95 Hz, at the samples in `use`, over a straight line in log frequency from the band's ends; None where
    there is too little. A loop near its limit of stability has a peak there whatever excites it.
    """
    if not recording.has(f"gyro.{axis}", f"setpoint.{axis}"):
        return None
    error = recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"]
    try:
        spectrum = welch_spectrum(np.where(use, error, np.nan), sample_rate_hz=recording.sample_rate_hz, segment_s=0.25)
    except NotEnoughData:
        return None
    frequency_hz = spectrum.frequency_hz
    if frequency_hz[-1] < 150:
        return None
    level_db = 10 * np.log10(np.maximum(spectrum.psd_dps2_per_hz, 1e-12))
    smooth = scipy.ndimage.uniform_filter1d(level_db, 3)
    low = float(np.median(smooth[(frequency_hz >= 4) & (frequency_hz <= 9)]))
    high = float(np.median(smooth[(frequency_hz >= 95) & (frequency_hz <= 150)]))
    inside = (frequency_hz >= _OSCILLATION_HZ[0]) & (frequency_hz <= _OSCILLATION_HZ[1])
    share = (np.log(frequency_hz[inside]) - np.log(6)) / (np.log(120) - np.log(6))
    excess = smooth[inside] - (low + share * (high - low))
    at = int(excess.argmax())
    return float(excess[at]), float(frequency_hz[inside][at])


def integral_over_proportional(recording: Recording, axis: str, usable: BoolArray | None = None) -> float | None:
    """ki / kp [1/s] where both terms are recorded: median of the I term's slope over the P term where it is large.

    `usable` is where the craft had authority: an integral is held while it has none. None where the terms are not
    recorded, or the P term hardly moves.
    """
    if not recording.has(f"term_p.{axis}", f"term_i.{axis}"):
        return None
    step = max(1, round(0.05 * recording.sample_rate_hz))
    n = recording.n_samples // step
    p = filled(recording.channels[f"term_p.{axis}"])[: n * step].reshape(n, step).mean(axis=1)
    i = filled(recording.channels[f"term_i.{axis}"])[: n * step : step]
    if n < 41 or float(np.std(p)) < 1e-5:
        return None
    slope, p = np.diff(i) / (step / recording.sample_rate_hz), p[:-1]
    # an integral that is held or at its limit says nothing
    told = (np.abs(p) > np.quantile(np.abs(p), 0.6)) & (slope != 0)
    if usable is not None:
        told &= np.asarray(usable[: n * step].reshape(n, step).all(axis=1))[:-1]
    return float(np.median(slope[told] / p[told])) if told.sum() >= 10 else None


def slow_error_dps(recording: Recording, axis: str, use: BoolArray) -> float | None:
    """RMS of set-point minus gyro below 1.2 Hz, at the samples in `use` [deg/s]."""
    if not recording.has(f"gyro.{axis}", f"setpoint.{axis}") or use.sum() < 2 * recording.sample_rate_hz:
        return None
    error = filled(recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"])
    sos = scipy.signal.butter(2, 1.2, fs=recording.sample_rate_hz, output="sos")
    slow: FloatArray = scipy.signal.sosfiltfilt(sos, error)
    return float(np.sqrt(np.mean(slow[use] ** 2)))


def idle_ratio(recording: Recording, axis: str, spans: list[Span]) -> tuple[float, int] | None:
    """Error of 2 to 25 Hz at zero throttle over that in hover, and how many floats it rests on; None: not flown, or logged
    too slowly to see it.
    """
    if not recording.has(f"gyro.{axis}", f"setpoint.{axis}", "throttle"):
        return None
    if recording.sample_rate_hz <= 2.2 * _FLOAT_BAND_HZ[1]:
        return None
    error = filled(recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"])
    sos = scipy.signal.butter(2, _FLOAT_BAND_HZ, btype="band", fs=recording.sample_rate_hz, output="sos")
    band: FloatArray = scipy.signal.sosfiltfilt(sos, error)

    def samples(kind: str) -> list[FloatArray]:
        rate_hz = recording.sample_rate_hz
        cuts = [
            (round((s.start_s - recording.start_s) * rate_hz), round((s.end_s - recording.start_s) * rate_hz))
            for s in spans
            if s.kind == kind
        ]
        return [band[max(0, a) : b] for a, b in cuts if b - max(0, a) > 0.25 * rate_hz]

    floats, hovers = samples("zero_throttle"), samples("hover")
    if not floats or not hovers:
        return None
    hover = float(np.sqrt(np.mean(np.concatenate(hovers) ** 2)))
    return float(np.sqrt(np.median([np.mean(part**2) for part in floats])) / max(hover, 0.05)), len(floats)
