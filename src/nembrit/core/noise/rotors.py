"""How fast the motors turn in every frame: as recorded, or estimated from the lines that move with them."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.noise.frames import Frames
from nembrit.core.noise.levels import folded
from nembrit.core.noise.order_search import relative_volts, speed_law
from nembrit.core.types import BoolArray, FloatArray

ORDERS = (1, 2, 3, 4)
_LEAST_RISE = 1.5
_USUAL_FULL_HZ = 450.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RotorTrack:
    """Speed of every motor in every frame [turns a second], shape (n_frames, n_motors)."""

    hz: FloatArray
    is_recorded: bool
    level: float  # how far the estimated lines stand out (natural log of power); 0 where recorded
    full_hz: float | None = None  # speed at full command and the median pack voltage, where estimated
    is_relative: bool = False  # only how the motors' speeds compare is known, not how fast they turn

    @property
    def mean_hz(self) -> FloatArray:
        mean: FloatArray = self.hz.mean(axis=1)
        return mean


def rotor_track(frames: Frames) -> RotorTrack | None:
    """Speeds as recorded, else by an order search; None where neither motors nor lines say anything."""
    if frames.rotor_hz is not None and float(np.median(frames.rotor_hz)) > 5:
        return RotorTrack(hz=frames.rotor_hz, is_recorded=True, level=0.0)
    law = speed_law(frames)
    if law is None or frames.motors is None:
        return None
    hz = np.maximum(frames.motors, 0) ** law.exponent * relative_volts(frames)[:, None] * law.full_hz
    return RotorTrack(hz=hz, is_recorded=False, level=law.level, full_hz=law.full_hz)


def commanded_track(frames: Frames) -> RotorTrack | None:
    """Motors' speeds against one another from their commands alone, as if a usual motor; no place of a line follows.

    None where no motor is commanded or the throttle hardly moves. Speed rises with command to the power of 0.8, the
    middle of what `speed_law` finds (our own trials, no source).
    """
    if frames.motors is None or frames.motors.shape[1] < 3:
        return None
    mean = frames.motors.mean(axis=1)
    if float(np.quantile(mean, 0.95)) < _LEAST_RISE * float(np.quantile(mean, 0.05)):
        return None
    hz = np.maximum(frames.motors, 0) ** 0.8 * relative_volts(frames)[:, None] * _USUAL_FULL_HZ
    return RotorTrack(hz=hz, is_recorded=False, level=0.0, is_relative=True)


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
