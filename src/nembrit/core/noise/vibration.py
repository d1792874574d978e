"""Vibration as the accelerometer and the commanded control show it."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.commands import commanded
from nembrit.core.records.log import Recording
from nembrit.core.spectra.density import welch_spectrum
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import AXES, BoolArray, FloatArray

_LOWEST_SHAKE_HZ = 15.0
_COMMAND_BAND_HZ = (2.0, 250.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Vibration:
    """What shakes in hover; parts without a channel are empty or None."""

    accel_rms_m_s2: dict[str, float]  # above 15 Hz, in hover
    axis_separation: float | None  # mean of z over the spread of x and y: low where they overlap
    command_peak_hz: dict[str, float]
    n_hover_frames: int


def vibration_of(recording: Recording, frames: Frames) -> Vibration:
    """Measure vibration in the calm frames of a flight.

    Accelerometer RMS [m/s²] is the power of its density above 15 Hz. `axis_separation` is the distance of z's mean
    from those of x and y over the joint spread: it falls as vibration lets the traces overlap (common practice, no
    source). `command_peak_hz` is where the spectrum of the commanded control has its peak, 2 to 250 Hz: below 20 Hz
    in a healthy hover, bad near 90 Hz (common practice, no source).
    """
    calm = frames.is_calm
    shaking = frames.frequency_hz >= _LOWEST_SHAKE_HZ
    rms = {
        axis: float(np.sqrt(np.mean(frames.power[role][calm][:, shaking].sum(axis=1)) * frames.bin_hz))
        for axis in "xyz"
        if (role := f"accel.{axis}") in frames.power
    }
    inside = _samples(recording, frames)
    peaks: dict[str, float] = {}
    for axis in AXES:
        command = commanded(recording, axis)
        if command is not None and (peak := _peak_hz(np.where(inside, command, np.nan), recording.sample_rate_hz)):
            peaks[axis] = peak
    return Vibration(
        accel_rms_m_s2=rms,
        axis_separation=_separation(recording, inside) if len(rms) == 3 else None,
        command_peak_hz=peaks,
        n_hover_frames=int(calm.sum()),
    )


def _samples(recording: Recording, frames: Frames) -> BoolArray:
    """True for samples in the middle half of a calm frame."""
    half = 0.064
    inside: BoolArray = np.zeros(recording.n_samples, bool)
    for t_s in frames.t_s[frames.is_calm]:
        first = round((t_s - half - recording.start_s) * recording.sample_rate_hz)
        inside[max(0, first) : first + round(2 * half * recording.sample_rate_hz) + 1] = True
    return inside


def _separation(recording: Recording, inside: BoolArray) -> float:
    parts = [np.asarray(recording.channels[f"accel.{axis}"])[inside] for axis in "xyz"]
    x, y, z = (part[np.isfinite(part)] for part in parts)
    if min(x.size, y.size, z.size) < 50:
        return float("nan")
    distance = abs(abs(float(z.mean())) - max(abs(float(x.mean())), abs(float(y.mean()))))
    return distance / max(float(np.sqrt(np.var(z) + max(np.var(x), np.var(y)))), 1e-9)


def _peak_hz(values: FloatArray, rate_hz: float) -> float | None:
    try:
        spectrum = welch_spectrum(values, sample_rate_hz=rate_hz, segment_s=0.25)
    except NotEnoughData:
        return None
    inside = (spectrum.frequency_hz >= _COMMAND_BAND_HZ[0]) & (spectrum.frequency_hz <= _COMMAND_BAND_HZ[1])
    density = spectrum.psd_dps2_per_hz[inside]
    return float(spectrum.frequency_hz[inside][density.argmax()]) if density.size and density.max() > 0 else None


def blade_pass_hz(rotor_rpm: float, blades: int) -> float:
    """How often a blade passes a place [Hz].

    >>> blade_pass_hz(18000, 3)
    900.0
    """
    return rotor_rpm / 60 * blades
