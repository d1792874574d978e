"""How well a flight followed the sticks, manoeuvre by manoeuvre."""

from collections.abc import Sequence

import numpy as np
import scipy.signal

from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray


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
    """Mean swing back after snap stops [deg/s]: the largest rate beyond the set-point, against the way flown.

    None without a snap stop on this axis among `spans`.
    """
    error = _error_dps(recording, axis)
    if error is None:
        return None
    swings = []
    for span in spans:
        if span.kind != "snap_stop" or span.axis != axis or span.start_s <= recording.start_s:
            continue
        first = round((span.start_s - recording.start_s) * recording.sample_rate_hz)
        last = round((span.end_s - recording.start_s) * recording.sample_rate_hz)
        way = np.sign(recording.channels[f"setpoint.{axis}"][first - 1])
        beyond = way * error[first:last]
        if beyond.size and np.isfinite(beyond).all():
            swings.append(max(0.0, float(beyond.max())))
    return float(np.mean(swings)) if swings else None


def wash_rms_dps(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    """RMS of the 2 to 40 Hz tracking error [deg/s] in descents through the own wash among `spans`; None without one."""
    error = _error_dps(recording, axis)
    end_s = recording.start_s + recording.duration_s
    spans = [span for span in spans if span.kind == "wash_descent" and span.end_s > recording.start_s and span.start_s < end_s]
    if error is None or not spans or recording.sample_rate_hz < 100 or not np.isfinite(error).all():
        return None
    sos = scipy.signal.butter(2, (2, 40), btype="bandpass", fs=recording.sample_rate_hz, output="sos")
    shaking = scipy.signal.sosfiltfilt(sos, error)
    kept = np.concatenate(
        [
            shaking[
                max(0, round((span.start_s - recording.start_s) * recording.sample_rate_hz)) : round(
                    (span.end_s - recording.start_s) * recording.sample_rate_hz
                )
            ]
            for span in spans
        ]
    )
    return float(np.sqrt(np.mean(kept**2)))
