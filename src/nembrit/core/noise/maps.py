"""Noise laid out over throttle, motor speed or time."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import FloatArray

N_ROWS = 26
_LEAST_FRAMES = 3


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class NoiseMap:
    """Density by drive: row n covers `edges[n]` to `edges[n + 1]`; NaN rows were flown for too short a time."""

    drive: str  # throttle, motor command or motor speed
    edges: FloatArray  # (n_rows + 1,)
    frequency_hz: FloatArray  # (n_bins,)
    density: FloatArray  # (n_rows, n_bins), units² per Hz
    seconds: FloatArray  # (n_rows,) how long each row was flown


def noise_map(frames: Frames, role: str, *, track: RotorTrack | None = None, by_speed: bool = False) -> NoiseMap:
    """Mean density of a channel by throttle, or by mean motor speed.

    Every row is the mean over its own frames, so that a throttle that was flown rarely is as bright as any other;
    rows with fewer than three frames are NaN, and `seconds` says how much each rests on.

    Raises
    ------
    NotEnoughData
        If neither throttle nor motors are recorded, or for motor speed if it is not known.
    """
    if by_speed:
        if track is None:
            raise NotEnoughData("motor speed is not recorded and could not be estimated: fly the throttle ramp")
        drive, name, top = track.mean_hz, "motor speed", float(np.max(track.mean_hz)) * 1.02
    else:
        found = frames.drive()
        if found is None:
            raise NotEnoughData("neither throttle nor motor commands in this log: switch one on for noise by throttle")
        drive, name, top = found[0], found[1], 1.0
    edges = np.linspace(0.0, max(top, 1e-6), N_ROWS + 1)
    place = np.clip(np.digitize(drive, edges) - 1, 0, N_ROWS - 1)
    power = frames.power[role]
    density = np.full((N_ROWS, power.shape[1]), np.nan)
    counts = np.bincount(place, minlength=N_ROWS)
    for row in np.flatnonzero(counts >= _LEAST_FRAMES):
        density[row] = power[place == row].mean(axis=0)
    hop_s = float(np.median(np.diff(frames.t_s)))
    return NoiseMap(
        drive=name,
        edges=edges,
        frequency_hz=frames.frequency_hz,
        density=density,
        seconds=np.asarray(counts * hop_s, dtype=np.float64),
    )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Spectrogram:
    """Density over time, thinned to what a picture can show."""

    t_s: FloatArray  # (n_columns,) middles
    frequency_hz: FloatArray
    density: FloatArray  # (n_columns, n_bins)


def spectrogram(frames: Frames, role: str, *, n_columns: int = 240) -> Spectrogram:
    """Mean density of neighbouring frames, at most `n_columns` of them."""
    groups = np.array_split(np.arange(frames.t_s.size), min(n_columns, frames.t_s.size))
    power = frames.power[role]
    return Spectrogram(
        t_s=np.array([float(frames.t_s[group].mean()) for group in groups]),
        frequency_hz=frames.frequency_hz,
        density=np.stack([power[group].mean(axis=0) for group in groups]).astype(np.float64),
    )
