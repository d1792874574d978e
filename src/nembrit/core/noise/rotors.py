"""How fast the motors turn in every frame: as recorded, or estimated from the lines that move with them."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage

from nembrit.core.noise.frames import Frames
from nembrit.core.types import BoolArray, FloatArray, IntArray

ORDERS = (1, 2, 3, 4)
_LOWEST_HZ, _HIGHEST_HZ = 25.0, 900.0  # of one turn, at full command
_OWN_MOTION_HZ = 40.0
_SAME, _LEAD = 0.12, 1.35  # speeds within 12 % are one answer, which must beat all others by a third
_LEAST_LEVEL = 0.12  # log-power above the surroundings, mean over orders (starting value of a prototype, no source)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RotorTrack:
    """Speed of every motor in every frame [turns a second], shape (n_frames, n_motors)."""

    hz: FloatArray
    is_recorded: bool
    level: float  # how far the estimated lines stand out (natural log of power); 0 where recorded
    full_hz: float | None = None  # speed at full command and the median pack voltage, where estimated

    @property
    def mean_hz(self) -> FloatArray:
        mean: FloatArray = self.hz.mean(axis=1)
        return mean


def whitened(power: FloatArray, *, bin_hz: float, span_hz: float = 60.0) -> FloatArray:
    """Natural log of power less its running median over 60 Hz, frame by frame: level above the surroundings."""
    logs = np.log(np.maximum(power, 1e-12))
    width = max(3, round(span_hz / bin_hz) | 1)
    # a median of every third bin is as good for a floor and three times as fast
    floor = scipy.ndimage.median_filter(logs[:, ::3], size=(1, max(3, (width // 3) | 1)), mode="nearest")
    return np.asarray(logs - np.repeat(floor, 3, axis=1)[:, : logs.shape[1]])


def folded(frequency_hz: FloatArray, sample_rate_hz: float) -> FloatArray:
    """Where a frequency shows up in a sampled log.

    >>> folded(np.array([620.0, 1300.0]), 1000.0)
    array([380., 300.])
    """
    return np.asarray(np.abs(frequency_hz - np.round(frequency_hz / sample_rate_hz) * sample_rate_hz))


def moving_level(frames: Frames) -> FloatArray:
    """Whitened level of all gyro axes together without what stays at its frequency, shape (n_frames, n_bins)."""
    gyros = [power for role, power in frames.power.items() if role.startswith("gyro")]
    level = np.mean([whitened(power, bin_hz=frames.bin_hz) for power in gyros], axis=0)
    drive = frames.drive()
    if drive is None:
        return np.asarray(level - np.median(level, axis=0))
    # fixed lines stay in the median over time; every third of the drive counts the same
    order = np.argsort(drive[0])
    thirds = [np.median(level[part], axis=0) for part in np.array_split(order, 3)]
    return np.asarray(level - np.median(thirds, axis=0))


def rotor_track(frames: Frames) -> RotorTrack | None:
    """Speeds as recorded, else by an order search; None where neither motors nor lines say anything.

    The search tries ``f = full · m^e · V / median V`` for m the motor command averaged over a frame and takes
    the `full` whose orders 1 to 4, folded at half the log rate, stand out most; frames weigh by how rare their
    drive is. Source: Brandt, Noise and Vibration Analysis (order tracking); the numbers are starting values of a
    prototype, no source.
    """
    if frames.rotor_hz is not None and float(np.median(frames.rotor_hz)) > 5:
        return RotorTrack(hz=frames.rotor_hz, is_recorded=True, level=0.0)
    if frames.motors is None:
        return None
    level = moving_level(frames)
    rows = np.arange(level.shape[0])
    volts = np.ones(rows.size)
    if frames.voltage is not None and float(np.median(frames.voltage)) > 2:
        volts = frames.voltage / float(np.median(frames.voltage))
    mean = frames.motors.mean(axis=1)
    counts, edges = np.histogram(mean, bins=20)
    weight = 1 / np.maximum(counts[np.clip(np.digitize(mean, edges) - 1, 0, 19)], 1)
    weight = np.where(mean > 0.08, weight, 0.0)
    if weight.sum() == 0 or float(np.ptp(mean[mean > 0.08])) < 0.1:
        return None  # a throttle that never moves cannot tell moving lines from fixed ones
    weight /= weight.sum()
    level[:, frames.frequency_hz < _OWN_MOTION_HZ] = -0.3  # the craft's own movement goes with throttle too
    usual = float(np.median(mean[mean > 0.08]))
    tried = [
        (_score(level, rows, mean**exponent * volts * full_hz, weight, frames), float(full_hz), exponent)
        for exponent in (0.65, 0.8, 1.0)
        for full_hz in np.geomspace(_LOWEST_HZ * 2, _HIGHEST_HZ, 240)
    ]
    score, full_hz, exponent = max(tried)
    # another speed at the usual throttle that fits nearly as well: then it is not known
    here_hz = full_hz * usual**exponent
    rival = max(other for other, full, e in tried if abs(np.log(full * usual**e / here_hz)) > _SAME)
    if score < _LEAST_LEVEL or score < _LEAD * rival:
        return None
    finer = [
        (_score(level, rows, mean**exponent * volts * f, weight, frames), f) for f in full_hz * np.linspace(0.985, 1.015, 31)
    ]
    full_hz = float(max(finer)[1])
    return RotorTrack(
        hz=np.maximum(frames.motors, 0) ** exponent * volts[:, None] * full_hz, is_recorded=False, level=score, full_hz=full_hz
    )


def _score(level: FloatArray, rows: IntArray, first_hz: FloatArray, weight: FloatArray, frames: Frames) -> float:
    """Weighted level at orders 1 to 4; half of the first counts against taking a blade line for it."""
    total = 0.0
    for order in ORDERS:
        at = np.rint(folded(first_hz * order, frames.sample_rate_hz) / frames.bin_hz).astype(int)
        at = np.clip(at, 0, level.shape[1] - 1)
        share = 1.0 if order == 1 else 0.4
        total += share * float(weight @ np.clip(level[rows, at], -1.0, 2.0))
    return total / 2.2


def order_mask(frames: Frames, track: RotorTrack, *, orders: tuple[int, ...] = ORDERS) -> BoolArray:
    """True for bins within 7 Hz + 1.2 % of an order of any motor, shape (n_frames, n_bins)."""
    mask = np.zeros((frames.t_s.size, frames.frequency_hz.size), bool)
    for order in orders:
        centre = folded(track.hz * order, frames.sample_rate_hz)
        reach = 7.0 + 0.012 * track.hz * order
        for motor in range(track.hz.shape[1]):
            mask |= np.abs(frames.frequency_hz[None, :] - centre[:, motor, None]) <= reach[:, motor, None]
    return mask


def cleaned_density(frames: Frames, role: str, mask: BoolArray | None, use: BoolArray) -> FloatArray:
    """Median over the chosen frames of a role's density with the motors' orders left out, shape (n_bins,).

    Bins that are masked in nearly every frame are bridged in log power. The median of a chi-square of two degrees
    of freedom is ln 2 of its mean; it is scaled back to a mean (Allen et al., Phys. Rev. D 85, 122006, 2012).
    """
    power = frames.power[role][use].astype(np.float64)
    if mask is None:
        return np.asarray(np.median(power, axis=0) / np.log(2))
    power = np.where(mask[use], np.nan, power)
    seen = np.isfinite(power).sum(axis=0)
    density = np.full(power.shape[1], np.nan)
    enough = seen >= max(4, 0.04 * power.shape[0])
    density[enough] = np.nanmedian(power[:, enough], axis=0) / np.log(2)
    if enough.sum() < 2:
        return np.asarray(np.median(frames.power[role][use], axis=0) / np.log(2))
    grid = np.arange(density.size)
    return np.asarray(np.exp(np.interp(grid, grid[enough], np.log(np.maximum(density[enough], 1e-12)))))
