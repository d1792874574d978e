"""Where the motors' orders lie in a spectrum, and what is left of it without them."""

import numpy as np

from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.spectra.levels import folded
from nembrit.core.types import BoolArray, FloatArray

ORDERS = (1, 2, 3, 4)


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
