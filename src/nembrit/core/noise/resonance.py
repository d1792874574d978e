"""Where a resonance lies: a resonance's shape fitted to what frames have in common, motors' orders left out."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.types import BoolArray, FloatArray, IntArray

_SPAN_HZ = 40.0  # frames are compared over this much to either side
_REACH_HZ = 22.0  # and the shape is fitted over this much
_STEP_HZ = 0.25
_SEARCH_HZ = np.arange(-6.0, 6.01, _STEP_HZ)
_HALF_WIDTHS_HZ = (4.0, 6.0, 9.0)  # half of a tenth to a twentieth of usual frequencies, window included
_LEAST_FRAMES = 6
_ROUNDS = 6
_SHARED = 2.5 * 1.5  # frames overlap by three quarters, and Hann's neighbours in frequency by a half
_ERROR_TIMES, _LEAST_ERROR_HZ = 1.2, 0.25
_Q95 = 3.841 / 2  # of half a chi-square of one degree of freedom


@dataclass(frozen=True, slots=True, kw_only=True)
class Resonance:
    """Natural frequency, with the half width of its 95 % interval."""

    frequency_hz: float
    error_hz: float


def resonance_near(power: FloatArray, mask: BoolArray, frequency_hz: FloatArray, near_hz: float) -> Resonance | None:
    """Natural frequency of the resonance near a peak; None where too little is seen to fit one.

    Parameters
    ----------
    power : (n_frames, n_bins) array
        Density of each frame, units² per Hz; overlapping Hann frames as `frames_of` makes them.
    mask : (n_frames, n_bins) array of bool
        What belongs to the motors and is not looked at.
    frequency_hz : (n_bins,) array
    near_hz : float
        The peak; the answer is within 6 Hz of it.

    Notes
    -----
    Orders of the motors sweep through a resonance, so every bin is seen in other frames than its neighbour, louder
    ones or quieter ones, and a mean over frames bends the peak. Here a frame's loudness and a bin's share are told
    apart first: loudness × share, in turns until both agree (two-way fit), of fourth roots of density, where what
    leaks past the mask weighs little. The share's fourth power is then matched by a straight floor and a resonance,
    1 / (1 + (f₀(f/f₀ - f₀/f) / 2w)²), w from three half widths, by the likelihood of a density's estimate, ln S + Ŝ/S
    (Whittle, J. R. Stat. Soc. B 15, 125, 1953). The interval is where twice the likelihood falls by 3.84, frames'
    overlap and the window's neighbours taken off the count; it is widened 1.2 times and by 0.25 Hz, for what leaks
    past the mask (from 180 simulated flights of their own seeds).
    """
    bins = np.flatnonzero(np.abs(frequency_hz - near_hz) < _SPAN_HZ)
    bins = bins[bins > 0]
    share, seen = _share_of_bins(power[:, bins], mask[:, bins])
    use = (np.abs(frequency_hz[bins] - near_hz) < _REACH_HZ) & (seen >= _LEAST_FRAMES)
    if use.sum() < 6 or not power[:, bins].any():
        return None
    at_hz, weight = frequency_hz[bins][use], seen[use] / _SHARED
    cost = np.min([_misfit(share[use] ** 4, weight, at_hz, near_hz, width) for width in _HALF_WIDTHS_HZ], axis=0)
    best = int(np.argmin(cost))
    likely = _SEARCH_HZ[cost - cost[best] <= _Q95]
    error = float(np.hypot(_ERROR_TIMES * (np.ptp(likely) + _STEP_HZ) / 2, _LEAST_ERROR_HZ))
    return Resonance(frequency_hz=near_hz + _lowest(cost, best), error_hz=error)


def _share_of_bins(power: FloatArray, mask: BoolArray) -> tuple[FloatArray, IntArray]:
    """Fourth root of every bin's density as a share of its frames' loudness, and in how many frames it is seen."""
    root = np.where(mask, 0.0, np.asarray(power, np.float64) ** 0.25)
    open_ = np.asarray(~mask, np.float64)
    share = np.ones(root.shape[1])
    for _ in range(_ROUNDS):
        loudness = _ratio((root / share).sum(axis=1), open_.sum(axis=1))
        used = open_ * (loudness[:, None] > 0)
        share = _ratio((root / np.where(loudness > 0, loudness, 1.0)[:, None]).sum(axis=0), used.sum(axis=0))
        share = np.where(share > 0, share, 1.0)
    return share, np.asarray((~mask).sum(axis=0))


def _ratio(total: FloatArray, count: FloatArray) -> FloatArray:
    return np.divide(total, count, out=np.zeros_like(total), where=count > 0)


def _misfit(density: FloatArray, weight: FloatArray, at_hz: FloatArray, near_hz: float, half_width_hz: float) -> FloatArray:
    """Less the log likelihood of every frequency searched, floor and height fitted anew for each, shape (n_searched,)."""
    centre = near_hz + _SEARCH_HZ[:, None]
    peak = 1 / (1 + (centre * (at_hz / centre - centre / at_hz) / 2 / half_width_hz) ** 2)
    parts = np.stack([np.ones_like(peak), np.broadcast_to((at_hz - near_hz) / _REACH_HZ, peak.shape), peak], axis=-1)
    model = np.broadcast_to(np.maximum(density, 1e-12), peak.shape)
    for _ in range(2):  # least squares, weighted by the model's own scatter
        root = np.sqrt(weight) / model
        scaled = parts * root[..., None]
        normal = np.einsum("sbi,sbj->sij", scaled, scaled)
        height = np.linalg.solve(normal, np.einsum("sbi,sb->si", scaled, density * root)[..., None])[..., 0]
        height[:, 2] = np.maximum(height[:, 2], 0.0)
        model = np.maximum(np.einsum("sbi,si->sb", parts, height), 0.2 * np.median(density))
    return np.asarray((weight * (np.log(model) + density / model)).sum(axis=1))


def _lowest(cost: FloatArray, best: int) -> float:
    """Where a parabola through the lowest cost and its neighbours is lowest."""
    if not 0 < best < cost.size - 1:
        return float(_SEARCH_HZ[best])
    before, at, after = cost[best - 1 : best + 2]
    bend = before - 2 * at + after
    return float(_SEARCH_HZ[best] + (_STEP_HZ * (before - after) / 2 / bend if bend > 0 else 0.0))
