"""Where the motors' orders lie in a spectrum, and what is left of it without them."""

from collections.abc import Sequence

import numpy as np

from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.spectra.levels import folded
from nembrit.core.types import BoolArray, FloatArray

ORDERS = (1, 2, 3, 4)


def order_mask(frames: Frames, track: RotorTrack, *, orders: tuple[int, ...] = ORDERS) -> BoolArray:
    """True for bins within 7 Hz + 1.2 % of an order of any motor, shape (n_frames, n_bins)."""
    centres = [folded(track.hz * order, frames.sample_rate_hz) for order in orders]
    return near_mask(frames, centres, [7.0 + 0.012 * track.hz * order for order in orders])


def near_mask(frames: Frames, centres_hz: Sequence[FloatArray], reaches_hz: Sequence[FloatArray]) -> BoolArray:
    """True for bins no further from any centre than its reach, shape (n_frames, n_bins).

    Centres and reaches are lists of arrays of shape (n_frames, n_motors). Where each stretch of bins begins and ends is
    counted up along the frequencies, which costs nothing like a comparison of every bin with every centre.
    """
    n_frames, n_bins = frames.t_s.size, frames.frequency_hz.size
    edges = np.zeros((n_frames, n_bins + 1), np.int16)
    rows = np.arange(n_frames)
    for centre, reach in zip(centres_hz, reaches_hz, strict=True):
        for motor in range(centre.shape[1]):
            first = np.ceil((centre[:, motor] - reach[:, motor]) / frames.bin_hz - 1e-9).astype(np.int64)
            past = np.floor((centre[:, motor] + reach[:, motor]) / frames.bin_hz + 1e-9).astype(np.int64) + 1
            first, past = np.clip(first, 0, n_bins), np.clip(past, 0, n_bins)
            edges[rows, first] += past > first
            edges[rows, past] -= past > first
    return np.asarray(np.cumsum(edges, axis=1, dtype=np.int16)[:, :n_bins] > 0)


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
