"""Lines of the spectrum named: what stays at its frequency, and what moves with the motors."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage
import scipy.signal

from nembrit.core.noise.resonance import resonance_near
from nembrit.core.rotors.orders import near_mask, order_mask
from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.spectra.levels import folded, whitened
from nembrit.core.types import BoolArray, FloatArray

_DB_PER_NEPER = 10 / np.log(10)
_LEAST_PEAK, _LEAST_PROMINENCE, _LEAST_SIGMA = 0.18, 0.22, 4.5  # natural log of power; starting values of a prototype
_LEAST_THIRD = 0.12
_BINS = 3  # smoothed over
_LOWEST_HZ = 25.0
_MOTOR_LEVEL = 0.15
_REACH = (8.0, 0.035)
_REACH_RECORDED = (8.0, 0.02)
_MASKED_ORDERS = (1, 2, 3, 4, 5, 6)
_REACH_NEAR, _NEAR_ORDERS = (14.0, 0.02), (1, 2, 3, 4)  # where only the frequency of a line is asked for


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One line; `kind` is resonance, motor, blade or unknown, and moving lines have a range."""

    kind: str
    frequency_hz: float
    low_hz: float
    high_hz: float
    level_db: float  # above the local floor (running median over 60 Hz)
    confidence: float
    order: int | None = None  # of the motors' turning
    width_hz: float = 0.0  # of fixed lines, where the level is above half its peak
    error_hz: float | None = None  # of fixed lines, half width of the 95 % interval of their frequency


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class OrderMasks:
    """What belongs to the motors and is left out in the search for fixed lines: the same for every axis."""

    wide: BoolArray  # (n_frames, n_bins), where lines are looked for
    near: BoolArray  # where only the frequency of one is asked for


def order_masks(frames: Frames, track: RotorTrack) -> OrderMasks:
    """Masks of all motors' orders."""
    reach = _REACH_RECORDED if track.is_recorded else _REACH
    return OrderMasks(
        wide=_wide_mask(frames, track, _MASKED_ORDERS, reach), near=_wide_mask(frames, track, _NEAR_ORDERS, _REACH_NEAR)
    )


def noise_lines(
    frames: Frames, role: str, track: RotorTrack | None, *, blades: int | None = None, masks: OrderMasks | None = None
) -> tuple[Line, ...]:
    """Lines of one gyro axis, strongest first.

    Parameters
    ----------
    frames : Frames
    role : str
        Which of the frames' channels.
    track : RotorTrack or None
        Motor speeds; None: moving lines cannot be told, and the others are unknown.
    blades : int, optional
        Blades of a propeller, to call that order by its name.
    masks : OrderMasks, optional
        Where `order_masks` was worked out already, for another axis.

    Notes
    -----
    Level is log power less its running median over 60 Hz; of fixed lines the mean amplitude over frames and three
    bins, of a motor line the mean at its order. A fixed line must reach 0.18 (0.8 dB), stand out by 0.22, be 4.5
    standard errors above zero and show in two thirds of the throttle range; orders 1 to 6 of every motor are left out
    first (8 Hz or 3.5 % to either side, 2 % where speeds are recorded). Its frequency is that of a resonance fitted
    near the top of a parabola through what lies above two thirds of its peak, 14 Hz around orders 1 to 4 left out
    (`resonance_near`). Source: Brandt, Noise and Vibration Analysis (order tracking); numbers:
    started from those of a prototype, then tried on 120 simulated flights of their own seeds (`docs/methods.md`, 4).
    """
    level = whitened(frames.power[role], bin_hz=frames.bin_hz)
    if masks is None and track is not None:
        masks = order_masks(frames, track)
    found = [*_moving(frames, level, track, blades), *_fixed(frames, role, level, track, masks)]
    return tuple(sorted(found, key=lambda line: -line.level_db))


def _moving(frames: Frames, level: FloatArray, track: RotorTrack | None, blades: int | None) -> list[Line]:
    if track is None:
        return []
    turning = track.mean_hz > 0.2 * float(np.max(track.mean_hz))
    if turning.sum() < 8:
        return []
    found = []
    for order in (1, 2, 3, 4, 5, 6):
        first_hz = track.hz[turning] * order
        at = np.rint(folded(first_hz, frames.sample_rate_hz) / frames.bin_hz).astype(int)
        at = np.clip(at, 0, level.shape[1] - 2)
        rows = np.flatnonzero(turning)[:, None]
        own = np.maximum(level[rows, at], np.maximum(level[rows, np.maximum(at - 1, 0)], level[rows, at + 1]))
        height = float(np.mean(own)) - _BEST_OF_THREE
        if height < _MOTOR_LEVEL or float(np.median(first_hz)) > 0.5 * frames.sample_rate_hz:
            continue
        low, middle, high = np.quantile(first_hz, (0.05, 0.5, 0.95))
        sure = 0.97 if track.is_recorded else float(np.clip(0.5 + track.level, 0.5, 0.95))
        found.append(
            Line(
                kind="blade" if order == blades else "motor",
                frequency_hz=float(middle),
                low_hz=float(low),
                high_hz=float(high),
                level_db=height * _DB_PER_NEPER,
                confidence=sure,
                order=order,
            )
        )
    return found


_BEST_OF_THREE = 0.62  # what the largest of three neighbouring bins of plain noise reaches above the median's level


def _fixed(frames: Frames, role: str, level: FloatArray, track: RotorTrack | None, masks: OrderMasks | None) -> list[Line]:
    nothing: BoolArray = np.zeros(level.shape, bool)
    mask, mask_near = (masks.wide, masks.near) if masks else (nothing, nothing)
    shown = np.where(mask, np.nan, np.exp(level / 2))  # amplitudes scatter less than logs, and outliers weigh less than in power
    seen = np.isfinite(shown).sum(axis=0)
    usable = seen >= max(6, 0.05 * level.shape[0])
    if usable.sum() < 20:
        return []
    mean, spread = np.full(level.shape[1], np.nan), np.full(level.shape[1], np.nan)
    amplitude = np.nanmean(shown[:, usable], axis=0)
    mean[usable], spread[usable] = 2 * np.log(amplitude), 2 * np.nanstd(shown[:, usable], axis=0) / amplitude
    grid = np.arange(level.shape[1])
    # a resonance is wider than a bin, and a Hann line fills three: their mean scatters less
    plain = scipy.ndimage.uniform_filter1d(np.interp(grid, grid[usable], mean[usable]), _BINS, mode="nearest")
    plain -= np.median(plain[usable])
    at, told = scipy.signal.find_peaks(plain, height=_LEAST_PEAK, prominence=_LEAST_PROMINENCE)
    drive = frames.drive()
    thirds = np.array_split(np.argsort(drive[0] if drive else frames.t_s), 3)
    offset = float(np.nanmedian(mean[usable]))
    found = []
    for index, height in zip(at, told["peak_heights"], strict=True):
        frequency = float(frames.frequency_hz[index])
        if frequency < _LOWEST_HZ or frequency > 0.47 * frames.sample_rate_hz or not usable[index]:
            continue
        # frames overlap by three quarters, and Hann's neighbours in frequency by a half
        error = spread[index] / np.sqrt(max(1.0, seen[index] / 2.5) * _BINS * 2 / 3)
        near = slice(max(0, index - 1), index + 2)
        present = 0
        for part in thirds:
            own = shown[part, near]
            if np.isfinite(own).sum() >= 6 and 2 * float(np.log(np.nanmean(own))) - offset > _LEAST_THIRD:
                present += 1
        if height < _LEAST_SIGMA * error or (present < 2 and drive is not None):
            continue
        middle, n_wide = _shape(plain, int(index))
        refined, width = middle * frames.bin_hz, n_wide * frames.bin_hz
        fit = resonance_near(frames.power[role], mask_near, frames.frequency_hz, refined)
        if fit is not None:
            refined = fit.frequency_hz
        sure = float(np.clip(0.55 + 0.03 * (height / error - _LEAST_SIGMA) + 0.1 * (present - 2), 0.5, 0.97))
        if track is None:
            sure = min(sure, 0.6)
        found.append(
            Line(
                kind="resonance" if track is not None else "unknown",
                frequency_hz=refined,
                low_hz=refined - width / 2,
                high_hz=refined + width / 2,
                level_db=float(height) * _DB_PER_NEPER,
                confidence=sure,
                width_hz=width,
                error_hz=None if fit is None else fit.error_hz,
            )
        )
    return found


def _wide_mask(frames: Frames, track: RotorTrack, orders: tuple[int, ...], reach: tuple[float, float]) -> BoolArray:
    """True for bins nearer to an order of any motor than some Hz or a share of the order's frequency."""
    least_hz, share = reach
    centres = [folded(track.hz * order, frames.sample_rate_hz) for order in orders]
    away = [np.maximum(least_hz, share * track.hz * order) for order in orders]
    return order_mask(frames, track, orders=orders) | near_mask(frames, centres, away)


def _shape(values: FloatArray, at: int) -> tuple[float, float]:
    """Middle of a peak, by a parabola through what lies above two thirds of it, and its width at half, both in bins."""
    left, right = _above(values, at, values[at] / 2)
    low, high = _above(values, at, values[at] * 2 / 3)
    low, high = min(low, at - 1), max(high, at + 1)
    if low < 0 or high >= values.size:
        return float(at), float(right - left + 1)
    bend, slope, _ = np.polyfit(np.arange(low, high + 1) - at, values[low : high + 1], 2)
    middle = float(np.clip(-slope / (2 * bend), low - at, high - at)) if bend < 0 else 0.0
    return at + middle, float(right - left + 1)


def _above(values: FloatArray, at: int, least: float) -> tuple[int, int]:
    """First and last bin around a peak that stay above a level."""
    left = right = at
    while left > 0 and values[left - 1] > least:
        left -= 1
    while right < values.size - 1 and values[right + 1] > least:
        right += 1
    return left, right
