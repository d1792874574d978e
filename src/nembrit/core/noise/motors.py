"""Which motor shakes: once-per-revolution lines and rough high-frequency noise, motor by motor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.optimize

from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.rotors.orders import ORDERS, order_mask
from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames
from nembrit.core.spectra.levels import folded
from nembrit.core.types import AXES, FloatArray

_BLOCK_S = 0.16
_APART_HZ = 5.0  # speeds closer than this cannot be told apart within a block
_LEAST_BLOCKS = 6
_HIGH_BAND = (0.18, 0.47)  # of the sample rate
_MOST_TIMES = 100.0
_LEAST_LEAD = 1.15  # over the second, of estimated speeds: below it the roughest motor is a draw
_APART_RATIO = 2.5  # over the median of all: enough to be looked at (starting value, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class MotorShares:
    """A number for every motor and how the largest stands against the rest; `motor` counts from 1."""

    values: tuple[float, ...]  # not finite where a motor could not be told from its neighbours
    motor: int
    over_median: float
    over_second: float
    n_used: int  # blocks or frames that it rests on, of the motor with the fewest


def _shares(values: FloatArray, n_used: int) -> MotorShares | None:
    good = np.flatnonzero(np.isfinite(values))
    if good.size < 3:
        return None
    order = good[np.argsort(-values[good])]
    others = values[order[1:]]
    return MotorShares(
        values=tuple(float(value) for value in values),
        motor=int(order[0]) + 1,
        over_median=_times(values[order[0]], float(np.median(others))),
        over_second=_times(values[order[0]], float(others[0])),
        n_used=n_used,
    )


def _times(value: float, other: float) -> float:
    """How many times another number; what is next to nothing makes no more than a hundred of it."""
    return float(min(_MOST_TIMES, value / max(other, 1e-12)))


def apart(values: Sequence[float | None]) -> tuple[int, ...]:
    """Motors, counted from 1, whose number is at least 2.5 times the median of all: worth a look, no proof.

    Values that are missing or not finite are left out; with fewer than three nothing can be said.

    >>> apart((1.0, 7.0, 1.1, 0.9, 6.5, 1.2)), apart((1.0, 1.4, 0.9))
    ((2, 5), ())
    """
    known = {n + 1: value for n, value in enumerate(values) if value is not None and np.isfinite(value)}
    if len(known) < 3:
        return ()
    usual = float(np.median(list(known.values())))
    return tuple(n for n, value in known.items() if value >= _APART_RATIO * max(usual, 1e-12))


def once_per_turn(recording: Recording, n_motors: int) -> MotorShares | None:
    """Amplitude at each motor's own turning over its speed, [deg/s at 100 turns a second].

    Fits, block by block of 0.16 s, a sine at every motor's phase (recorded speed, summed up) to the gyro of roll and
    pitch by least squares; blocks in which a motor turns within 5 Hz of another say nothing about it. The median over
    blocks of amplitude / speed is compared: an unbalance pulls with the square of speed, and on a rigid frame a torque that
    alternates at ω turns it at a rate of torque / (inertia · ω). None where speeds are not recorded or never far enough
    apart: snaps in roll and yaw part them.

    Source: Brandt, Noise and Vibration Analysis (synchronous orders); numbers: starting values of a prototype.
    """
    roles = [f"motor_rpm.{n + 1}" for n in range(n_motors)]
    gyros = [_gyro(recording, axis) for axis in AXES[:2]]
    if not recording.has(*roles) or any(gyro is None for gyro in gyros):
        return None
    rate_hz = recording.sample_rate_hz
    speed = filled(np.stack([recording.channels[role] for role in roles])) / 60
    phase = 2 * np.pi * np.cumsum(speed, axis=1) / rate_hz
    signal = np.stack([filled(gyro) for gyro in gyros if gyro is not None], axis=1)
    n_block = round(_BLOCK_S * rate_hz)
    starts = np.arange(0, speed.shape[1] - n_block + 1, n_block)
    kept: list[list[float]] = [[] for _ in range(n_motors)]
    trend = np.stack([np.ones(n_block), np.linspace(-1, 1, n_block), np.linspace(-1, 1, n_block) ** 2], axis=1)
    for start in starts:
        part = slice(start, start + n_block)
        middle = speed[:, part].mean(axis=1)
        turning = np.flatnonzero(middle > 15)
        if turning.size < 2:
            continue
        design = np.concatenate((np.cos(phase[turning, part]).T, np.sin(phase[turning, part]).T, trend), axis=1)
        gram = design.T @ design
        gram[np.diag_indices_from(gram)] += 1e-3 * n_block
        fit = np.linalg.solve(gram, design.T @ signal[part])
        amplitude = np.sqrt((fit[: turning.size] ** 2 + fit[turning.size : 2 * turning.size] ** 2).sum(axis=1))
        for place, motor in enumerate(turning):
            apart = np.abs(np.delete(middle, motor) - middle[motor]).min()
            if apart >= _APART_HZ:
                kept[motor].append(float(amplitude[place] / (middle[motor] / 100)))
    values = np.array([np.median(own) if len(own) >= _LEAST_BLOCKS else np.nan for own in kept])
    return _shares(values, min((len(own) for own in kept if len(own) >= _LEAST_BLOCKS), default=0))


def once_per_turn_estimated(frames: Frames, track: RotorTrack) -> MotorShares | None:
    """The same from estimated speeds: power within 2.5 % of each motor's line in frames where it stands alone.

    Coarser: it may name the roughest motor, never prove it; None where two are as rough within 15 %.
    """
    gyros = [power for role, power in frames.power.items() if role.split(".")[-1] in AXES[:2]]
    if not gyros:
        return None
    power = np.sum(gyros, axis=0)
    values = np.full(track.hz.shape[1], np.nan)
    counts = []
    for motor in range(track.hz.shape[1]):
        own = track.hz[:, motor]
        others = np.abs(np.delete(track.hz, motor, axis=1) - own[:, None]).min(axis=1)
        use = np.flatnonzero((others > np.maximum(12.0, 0.08 * own)) & (own > 30))
        if use.size < _LEAST_BLOCKS:
            continue
        reach = np.maximum(4.0, 0.025 * own[use])
        near = np.abs(frames.frequency_hz[None, :] - own[use, None]) <= reach[:, None]
        band = np.where(near, power[use], 0.0).sum(axis=1) * frames.bin_hz
        values[motor] = float(np.median(np.sqrt(2 * band) / (own[use] / 100)))
        counts.append(use.size)
    found = _shares(values, min(counts, default=0))
    return found if found is None or found.over_second >= _LEAST_LEAD else None


def rough_noise(frames: Frames, track: RotorTrack) -> MotorShares | None:
    """Noise at 0.18 to 0.47 of the log rate by motor [(deg/s)² at 100 turns a second].

    Non-negative least squares of each frame's power in that band, orders 1 to 4 left out, on the cubed speed of every
    motor and a constant (Lawson & Hanson, Solving Least Squares Problems, 1974). Where speeds are only known against
    one another, lines stay in and the level is in units of a usual motor.
    """
    low_hz, high_hz = (share * frames.sample_rate_hz for share in _HIGH_BAND)
    band = (frames.frequency_hz >= low_hz) & (frames.frequency_hz <= high_hz)
    gyros = [power for role, power in frames.power.items() if role.split(".")[-1] in AXES[:2]]
    if not gyros or band.sum() < 12:
        return None
    mask = order_mask(frames, track, orders=() if track.is_relative else ORDERS)[:, band]
    power = np.where(mask, np.nan, np.sum([gyro[:, band] for gyro in gyros], axis=0).astype(np.float64))
    enough = np.isfinite(power).sum(axis=1) >= 8
    if enough.sum() < 24:
        return None
    level = np.nanmedian(power[enough], axis=1) / np.log(2) * (high_hz - low_hz)
    design = np.concatenate(((track.hz[enough] / 100) ** 3, np.ones((int(enough.sum()), 1))), axis=1)
    scale = 1 / np.maximum(level, np.median(level) * 0.1)  # relative errors: loud frames must not outvote the rest
    values, _ = scipy.optimize.nnls(design * scale[:, None], level * scale)
    floor = 0.02 * float(np.median(level)) / max(float(np.median((track.hz / 100) ** 3)), 1e-9)
    return _shares(np.maximum(values[:-1], floor), int(enough.sum()))


def _gyro(recording: Recording, axis: str) -> FloatArray | None:
    return next((recording.channels[role] for family in ("gyro_raw", "gyro") if recording.has(role := f"{family}.{axis}")), None)


def line_frequency_hz(rotor_hz: float, order: int, sample_rate_hz: float) -> float:
    """Where an order of a motor shows in a log, folded at half its rate.

    >>> line_frequency_hz(310.0, 2, 1000.0)
    380.0
    """
    return float(folded(np.array([rotor_hz * order]), sample_rate_hz)[0])
