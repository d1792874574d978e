"""The noise as it comes in, in rows of like motor speed: what any filter chain can be tried on in an instant."""

from dataclasses import dataclass

import numpy as np
import scipy.cluster.vq

from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import AXES, FloatArray, IntArray

_MOST_ROWS = 48


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class NoiseRows:
    """Mean one-sided densities [(deg/s)²/Hz] of the frames in which the motors turned about alike."""

    frequency_hz: FloatArray  # (n_bins,)
    seconds: FloatArray  # (n_rows,) slow ones first; how much flying each row stands for
    rotor_hz: FloatArray  # (n_rows, n_motors) once-per-turn frequency of each motor; (n_rows, 0) where not known
    raw: dict[str, FloatArray]  # axis → (n_rows, n_bins), before the filters
    filtered: dict[str, FloatArray]  # axis → (n_rows, n_bins), as the controller used it, where recorded

    @property
    def share(self) -> FloatArray:
        """Share of the flying that each row stands for, shape (n_rows,)."""
        return np.asarray(self.seconds / self.seconds.sum())

    @property
    def usual_rotor_hz(self) -> FloatArray:
        """Median speed of each motor over the flying, shape (n_motors,)."""
        order = np.argsort(self.rotor_hz, axis=0)
        flown = np.cumsum(self.seconds[order], axis=0)
        middle = (flown >= flown[-1] / 2).argmax(axis=0) if order.size else np.empty(0, np.int64)
        places = np.arange(middle.size)
        return np.asarray(self.rotor_hz[order[middle, places], places]) if order.size else np.empty(0)


def noise_rows(frames: Frames, densities: dict[str, FloatArray], track: RotorTrack | None) -> NoiseRows | None:
    """Frames gathered into at most 48 rows of like motor speeds, slow ones first; by throttle where speeds are not known.

    `densities` are by role (n_frames, n_bins) as `Frames.power`. None where no gyro's density is among them. Estimated
    speeds count like recorded ones; speeds that are only relative do not. Rows are clusters of all motors' speeds (k-means,
    S. Lloyd, IEEE Trans. Inf. Theory 28 (1982) 129-137): gathered by mean speed alone, notches that follow the motors were
    predicted 2 to 2.6 dB too weak between 100 and 300 Hz, so 1 to 1.4 dB, and frame by frame 0.9 to 1.2 dB.
    """
    axes = [axis for axis in AXES if f"gyro_raw.{axis}" in densities or f"gyro.{axis}" in densities]
    if not axes:
        return None
    turning = np.empty((frames.t_s.size, 0)) if track is None or track.is_relative else track.hz
    drive = turning
    if not turning.shape[1]:
        asked = frames.drive()
        drive = (asked[0] if asked else np.zeros(frames.t_s.size))[:, None]
    rows = _alike(drive)
    hop_s = float(np.median(np.diff(frames.t_s))) if frames.t_s.size > 1 else 1.0

    def gathered(values: FloatArray) -> FloatArray:
        return np.stack([values[own].mean(axis=0, dtype=np.float64) for own in rows])

    return NoiseRows(
        frequency_hz=frames.frequency_hz,
        seconds=np.array([hop_s * own.size for own in rows]),
        rotor_hz=gathered(turning),
        raw={axis: gathered(densities[f"gyro_raw.{axis}"]) for axis in axes if f"gyro_raw.{axis}" in densities},
        filtered={axis: gathered(densities[f"gyro.{axis}"]) for axis in axes if f"gyro.{axis}" in densities},
    )


def _alike(drive: FloatArray) -> list[IntArray]:
    """Frames in clusters of like drive (n_frames, n), the lowest mean first."""
    n_rows = int(min(_MOST_ROWS, max(1, drive.shape[0] // 12)))
    scale = float(np.abs(drive).mean())
    if n_rows == 1 or scale == 0:
        return [np.arange(drive.shape[0])]
    labels = scipy.cluster.vq.kmeans2(drive / scale, n_rows, minit="++", seed=1)[1]
    rows = [own for k in range(n_rows) if (own := np.flatnonzero(labels == k)).size]
    return sorted(rows, key=lambda own: float(drive[own].mean()))
