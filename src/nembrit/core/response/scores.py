"""How well a flight followed the sticks, manoeuvre by manoeuvre."""

from collections.abc import Sequence

import numpy as np
import scipy.ndimage
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray

_MOVES_HZ = 60.0
_MEMORY_S, _LEAST_WASH_S = 0.15, 0.5


def _error_dps(recording: Recording, axis: str) -> FloatArray | None:
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
        return None
    difference: FloatArray = recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"]
    return difference


def tracking_error_dps(recording: Recording, axis: str, *, usable: BoolArray) -> float | None:
    """RMS of set-point minus gyro [deg/s] where the craft had authority; None with less than 3 s of it."""
    error = _error_dps(recording, axis)
    if error is None:
        return None
    kept = error[usable & np.isfinite(error)]
    return float(np.sqrt(np.mean(kept**2))) if kept.size >= 3 * recording.sample_rate_hz else None


def bounce_back_dps(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    """Mean bounce-back after snap stops [deg/s]: the largest rate beyond the set-point, against the direction flown.

    Below 60 Hz, by a filter without delay: what the craft moves, not what its gyro hears (noise alone would score 15 to
    70 deg/s). None without a whole snap stop on this axis among `spans`, and for logs too slow for that band.
    """
    error = _error_dps(recording, axis)
    if error is None or recording.sample_rate_hz <= 2.2 * _MOVES_HZ:
        return None
    whole = np.isfinite(error)
    error = scipy.signal.sosfiltfilt(scipy.signal.butter(4, _MOVES_HZ, fs=recording.sample_rate_hz, output="sos"), filled(error))
    swings = []
    for span in spans:
        if span.kind != "snap_stop" or span.axis != axis or span.start_s <= recording.start_s:
            continue
        places = span.places(recording)
        if places.start == 0 or places.stop - places.start < 0.5 * (span.end_s - span.start_s) * recording.sample_rate_hz:
            continue
        direction = np.sign(recording.channels[f"setpoint.{axis}"][places.start - 1])
        if whole[places].all() and np.isfinite(direction):
            swings.append(max(0.0, float((direction * error[places]).max())))
    return float(np.mean(swings)) if swings else None


def wash_rms_dps(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    """RMS of the 2 to 40 Hz tracking error [deg/s] in descents through the own wash among `spans`; None without one."""
    error = _error_dps(recording, axis)
    end_s = recording.start_s + recording.duration_s
    spans = [span for span in spans if span.kind == "wash_descent" and span.end_s > recording.start_s and span.start_s < end_s]
    if error is None or not spans or recording.sample_rate_hz < 100:
        return None
    whole = np.isfinite(error)
    sos = scipy.signal.butter(2, (2, 40), btype="bandpass", fs=recording.sample_rate_hz, output="sos")
    shaking = scipy.signal.sosfiltfilt(sos, filled(error))
    # a gap is felt for a while on both sides: the filter's own memory
    whole = scipy.ndimage.minimum_filter1d(whole.astype(np.uint8), 1 + 2 * round(_MEMORY_S * recording.sample_rate_hz)) > 0
    kept = np.concatenate([shaking[places][whole[places]] for span in spans for places in (span.places(recording),)])
    return float(np.sqrt(np.mean(kept**2))) if kept.size >= _LEAST_WASH_S * recording.sample_rate_hz else None
