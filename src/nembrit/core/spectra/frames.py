"""A log cut into short frames: the spectrum of each beside what the craft was doing."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, BoolArray, FloatArray, IntArray

FRAME_S = 0.256
_HOP_SHARE = 4
_LEAST_FRAMES = 12
_MOTOR_LAG_S = 0.03  # of usual motors with their propellers (our own choice, no source)
_SMALL_STICK = 0.15


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Frames:
    """Short spectra and what went on in each; channels that are not recorded are None."""

    t_s: FloatArray  # (n_frames,) middle of each frame
    frequency_hz: FloatArray  # (n_bins,)
    power: dict[str, FloatArray]  # role → (n_frames, n_bins), one-sided density in units² per Hz
    sample_rate_hz: float
    throttle: FloatArray | None  # (n_frames,) mean
    motors: FloatArray | None  # (n_frames, n_motors) mean command as a motor follows it, seen through the window
    rotor_hz: FloatArray | None  # (n_frames, n_motors) mean recorded speed, turns a second
    voltage: FloatArray | None
    is_calm: BoolArray  # (n_frames,) throttle about hover, little stick, little change
    is_low: BoolArray  # (n_frames,) throttle in its lowest quarter

    @property
    def bin_hz(self) -> float:
        return float(self.frequency_hz[1] - self.frequency_hz[0])

    def drive(self) -> tuple[FloatArray, str] | None:
        """What the noise is laid out over: throttle, else the motors' mean; with its name."""
        if self.throttle is not None:
            return self.throttle, "throttle"
        if self.motors is not None:
            return self.motors.mean(axis=1), "motor command"
        return None


def frames_of(recording: Recording, roles: tuple[str, ...] = ("gyro_raw", "gyro")) -> Frames:
    """Cut a recording into Hann-windowed frames of 0.256 s, a quarter apart.

    For every axis the first recorded family of `roles` is taken, and every accelerometer axis. Frames with a gap
    in any of them are left out.

    Raises
    ------
    NotEnoughData
        If no gyro is recorded, or fewer than twelve whole frames are left.

    Notes
    -----
    Density by ``|X|² / (fs Σw²)``, doubled (Welch 1967). Calm is throttle from 0.8 to 1.5 times its mode, sticks
    below 0.15 and little throttle change (starting values of a prototype, no source). Motor commands are taken 30 ms
    late and weighted as the window weighs, which puts the lines they make where they are.
    """
    rate_hz = recording.sample_rate_hz
    chosen = [next((role for family in roles if recording.has(role := f"{family}.{axis}")), "") for axis in AXES]
    chosen = [role for role in chosen if role] + [role for axis in "xyz" if recording.has(role := f"accel.{axis}")]
    if not any(role.startswith("gyro") for role in chosen):
        raise NotEnoughData("no gyro channel in this log: switch the gyro on in the recorder before the next flight")
    n_window = round(FRAME_S * rate_hz)
    n_hop = max(1, n_window // _HOP_SHARE)
    starts = np.arange(0, recording.n_samples - n_window + 1, n_hop)
    whole = np.all([recording.is_whole(role) for role in chosen], axis=0)
    before = np.concatenate(([0], np.cumsum(whole)))
    if starts.size and n_window >= 16:
        starts = starts[before[starts + n_window] - before[starts] == n_window]
    if n_window < 16 or starts.size < _LEAST_FRAMES:
        raise NotEnoughData(
            f"noise by throttle needs at least {_LEAST_FRAMES * FRAME_S / _HOP_SHARE:.0f} s of flight without gaps at 100 Hz or "
            f"more; this part has {recording.duration_s:.1f} s at {rate_hz:.0f} Hz"
        )
    window = scipy.signal.get_window("hann", n_window)
    power = {role: _densities(recording.channels[role], starts, window, rate_hz) for role in chosen}
    throttle = _means(recording, "throttle", starts, n_window)
    numbers = [n for n in range(1, 9) if recording.has(f"motor.{n}")]
    motors = _followed(recording, numbers, starts, window)
    turning = [n for n in numbers if recording.has(f"motor_rpm.{n}")]
    rotor = _stacked(recording, "motor_rpm", turning, starts, n_window) if turning == numbers else None
    drive = throttle if throttle is not None else motors.mean(axis=1) if motors is not None else None
    return Frames(
        t_s=np.asarray(recording.start_s + (starts + n_window / 2) / rate_hz, dtype=np.float64),
        frequency_hz=np.arange(n_window // 2 + 1) * rate_hz / n_window,
        power=power,
        sample_rate_hz=rate_hz,
        throttle=throttle,
        motors=motors,
        rotor_hz=None if rotor is None else rotor / 60,
        voltage=_means(recording, "battery_voltage", starts, n_window),
        is_calm=_calm(recording, drive, starts, n_window),
        is_low=np.zeros(starts.size, bool) if drive is None else drive <= np.quantile(drive, 0.25),
    )


def frames_with(frames: Frames, recording: Recording, roles: Sequence[str]) -> Frames | None:
    """The same frames with other channels of the recording that they were cut from; None where one has a gap in them."""
    n_window = round(FRAME_S * recording.sample_rate_hz)
    starts = np.rint((frames.t_s - recording.start_s) * recording.sample_rate_hz - n_window / 2).astype(np.int64)
    for role in roles:
        before = np.concatenate(([0], np.cumsum(recording.is_whole(role))))
        if np.any(before[starts + n_window] - before[starts] != n_window):
            return None
    window = scipy.signal.get_window("hann", n_window)
    power = {role: _densities(recording.channels[role], starts, window, recording.sample_rate_hz) for role in roles}
    return replace(frames, power=power)


def _densities(values: FloatArray, starts: IntArray, window: FloatArray, rate_hz: float) -> FloatArray:
    scale = 2 / (rate_hz * float(window @ window))
    parts = []
    for block in np.array_split(starts, max(1, starts.size * window.size // 2_000_000)):
        segments = values[block[:, None] + np.arange(window.size)]
        segments = segments - segments.mean(axis=1, keepdims=True)
        spectra = np.fft.rfft(segments * window, axis=1)
        parts.append(((spectra.real**2 + spectra.imag**2) * scale).astype(np.float32))
    return np.concatenate(parts)


def _means(recording: Recording, role: str, starts: IntArray, n_window: int) -> FloatArray | None:
    if not recording.has(role):
        return None
    total = np.concatenate(([0.0], np.cumsum(filled(recording.channels[role]))))
    means: FloatArray = (total[starts + n_window] - total[starts]) / n_window
    return means


def _followed(recording: Recording, numbers: list[int], starts: IntArray, window: FloatArray) -> FloatArray | None:
    """Commands behind a lag of 30 ms, their mean weighted by the window's power: where a frame's lines stand.

    A line stands where its motor turns in the middle of the frame, and a motor turns as it was told a little before.
    """
    if not numbers:
        return None
    share = 1 - np.exp(-1 / (_MOTOR_LAG_S * recording.sample_rate_hz))
    weight = window**2 / float(window @ window)
    rows = []
    for n in numbers:
        command = filled(recording.channels[f"motor.{n}"])
        late, _ = scipy.signal.lfilter([share], [1, share - 1], command, zi=[(1 - share) * command[0]])
        rows.append(np.lib.stride_tricks.sliding_window_view(late, window.size)[starts] @ weight)
    return np.stack(rows, axis=1)


def _stacked(recording: Recording, family: str, numbers: list[int], starts: IntArray, n_window: int) -> FloatArray | None:
    if not numbers:
        return None
    rows = [_means(recording, f"{family}.{n}", starts, n_window) for n in numbers]
    return np.stack([row for row in rows if row is not None], axis=1)


def _calm(recording: Recording, drive: FloatArray | None, starts: IntArray, n_window: int) -> BoolArray:
    """True for frames that could be hover; all of them where that leaves too few."""
    if drive is None:
        return np.ones(starts.size, bool)
    counts, edges = np.histogram(drive[drive > 0.05], bins=40, range=(0.05, 1.0))
    mode = float(edges[counts.argmax()] + 0.5 * (edges[1] - edges[0]))
    calm = (drive > 0.8 * mode) & (drive < 1.5 * mode) & (np.abs(np.gradient(drive)) < 0.04)
    for axis in AXES:
        if (stick := _means(recording, f"stick.{axis}", starts, n_window)) is not None:
            calm &= np.abs(stick) < _SMALL_STICK
        elif (wanted := _means(recording, f"setpoint.{axis}", starts, n_window)) is not None:
            calm &= np.abs(wanted) < 0.1 * max(float(np.abs(recording.channels[f"setpoint.{axis}"]).max()), 60.0)
    return calm if calm.sum() >= _LEAST_FRAMES else np.ones(starts.size, bool)
