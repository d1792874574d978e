"""Where the craft had no authority left to give: those stretches say nothing about the tune."""

import numpy as np
import scipy.ndimage
import scipy.stats

from nembrit.core.gaps import filled
from nembrit.core.records.commands import commanded
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, BoolArray, FloatArray

_DIFFERENCE = 0.03  # share of full motor range
_WINDOW_S, _BEFORE_S, _AFTER_S = 0.020, 0.020, 0.300
_LOST_SHARE = 0.40
_THROTTLE_LIMITS = (0.15, 0.70)
_FULL, _NEAR_LEAST = 0.99, 0.005
_LEVEL, _AROUND_S = 0.05, 0.05
_LEAST_CLIPPED = 6  # samples


def applied(recording: Recording, mixer: FloatArray) -> FloatArray | None:
    """Command that the motor outputs really carry, shape (3, n_samples): inverse mixer of the motors."""
    roles = [f"motor.{n + 1}" for n in range(mixer.shape[0])]
    has_other_motors = recording.has(f"motor.{mixer.shape[0] + 1}")  # not this craft's log
    if mixer.shape[0] < 3 or has_other_motors or not recording.has(*roles):
        return None
    with_throttle = np.hstack([mixer, np.ones((mixer.shape[0], 1))])
    motors = np.stack([recording.channels[role] for role in roles])
    return (np.linalg.pinv(with_throttle) @ motors)[:3]


def usable_mask(
    recording: Recording, axis: str, *, mixer: FloatArray | None, throttle_limits: tuple[float, float] = _THROTTLE_LIMITS
) -> tuple[BoolArray, tuple[str, ...]]:
    """True where the response of `axis` may be judged, shape (n_samples,), and notes on what was not checked.

    Leaves out, from 20 ms before to 300 ms after: stretches whose applied command differs from the
    commanded one by more than 0.03, or sits at its limit, for over 40 % of a 20 ms window; a gyro at the end of its range; and
    throttle below 0.15 or above 0.70, unless told otherwise. Starting values from a prototype (`docs/methods.md`, section 2).
    """
    notes: list[str] = []
    lost = np.zeros(recording.n_samples, dtype=bool)
    if recording.has("throttle"):
        throttle = filled(recording.channels["throttle"])
        low, high = throttle_limits
        lost |= (throttle < low) | (throttle > high)
    else:
        notes.append("no throttle channel: high and low throttle could not be left out")
    for role in (f"gyro_raw.{axis}", f"gyro.{axis}"):
        if role in recording.channels:
            lost |= _clipped(recording.channels[role])
    wanted, given = commanded(recording, axis), applied(recording, mixer) if mixer is not None else None
    if wanted is None or given is None:
        notes.append("no control terms with outputs of just the craft's motors: lost authority could not be left out")
    else:
        limit = float(np.nanmax(np.abs(wanted), initial=0.0))
        at_limit = (np.abs(wanted) >= limit - 1e-4) & (limit > 0.05) if _is_clipped(wanted, limit) else np.zeros_like(lost)
        differs = np.abs(filled(given[AXES.index(axis)] - wanted)) > _DIFFERENCE
        n_window = max(1, round(_WINDOW_S * recording.sample_rate_hz))
        share = scipy.ndimage.uniform_filter1d((differs | at_limit).astype(np.float64), n_window)
        lost |= share > _LOST_SHARE
    return ~_widened(lost, recording.sample_rate_hz), tuple(notes)


def _clipped(gyro: FloatArray) -> BoolArray:
    """Where a gyro stays at the very end of its range, several times, for a few samples each."""
    top = float(np.nanmax(np.abs(gyro), initial=0.0))
    at_end = np.abs(gyro) >= top * (1 - 1e-9)
    held = at_end & np.roll(at_end, 1) & np.roll(at_end, 2)
    return at_end if top > 0 and held.sum() >= _LEAST_CLIPPED else np.zeros(gyro.size, bool)


def level_mask(recording: Recording, n_motors: int) -> BoolArray:
    """True where the mixer left the motors' common level as the throttle asked, shape (n_samples,).

    A large command at low throttle lifts or lowers all motors to keep its differences: the craft answers with another gain
    then. The mean motor is set against a straight line in throttle, fitted to where it holds; more than 0.05 off, and the
    50 ms around it, count as moved (starting values from our own trials, no source). All True without throttle or motors.
    """
    roles = [f"motor.{n + 1}" for n in range(n_motors)]
    everywhere = np.ones(recording.n_samples, dtype=bool)
    if n_motors < 3 or not recording.has("throttle", *roles):
        return everywhere
    mean = np.mean([filled(recording.channels[role]) for role in roles], axis=0)
    throttle = filled(recording.channels["throttle"])
    low, high = _THROTTLE_LIMITS
    held = (throttle > low) & (throttle < high)
    if held.sum() < 3 * recording.sample_rate_hz or float(np.std(throttle[held])) < 1e-4:
        return everywhere
    off = mean - _line(throttle, mean, held)
    for _ in range(3):
        near = held & (np.abs(off) < 0.4 * _LEVEL)
        if near.sum() < recording.sample_rate_hz:
            return everywhere
        off = mean - _line(throttle, mean, near)
    moved = np.abs(off) > _LEVEL
    n_around = 2 * max(1, round(_AROUND_S * recording.sample_rate_hz)) + 1
    return np.asarray(scipy.ndimage.maximum_filter1d(moved.astype(np.uint8), n_around) == 0)


def _line(x: FloatArray, y: FloatArray, inside: BoolArray) -> FloatArray:
    """The straight line of least squares through the places inside, at every place."""
    fitted = scipy.stats.linregress(x[inside], y[inside])
    return np.asarray(fitted.intercept + fitted.slope * x)


def motors_limited_share(recording: Recording, inside: BoolArray) -> float | None:
    """Share of the samples inside with a motor at its highest or lowest command; None without motors.

    The lowest is what a motor's command stays at: it must be held in more than one of a thousand samples.
    """
    roles = [role for n in range(1, 13) if recording.has(role := f"motor.{n}")]
    if not roles or not inside.any():
        return None
    motors = np.stack([filled(recording.channels[role]) for role in roles])
    least = float(motors.min())
    at_least = motors <= least + _NEAR_LEAST
    is_floor = float(np.mean(at_least)) > 1e-3
    at_limit = np.any((motors >= _FULL) | (at_least & is_floor), axis=0)
    return float(np.mean(at_limit[inside]))


def lost_share(recording: Recording, usable: BoolArray) -> float | None:
    """Share of the flying at middle throttle at the motor limits and with a motor at its limit within 0.3 s.

    None without throttle or motors. The motors must be seen at their limits: a mixer that is not the craft's own
    makes authority look lost everywhere.
    """
    roles = [role for n in range(1, 9) if recording.has(role := f"motor.{n}")]
    if not recording.has("throttle") or not roles:
        return None
    throttle = filled(recording.channels["throttle"])
    middle = (throttle > _THROTTLE_LIMITS[0]) & (throttle < _THROTTLE_LIMITS[1])
    motors = np.stack([filled(recording.channels[role]) for role in roles])
    at_limit = np.any((motors >= _FULL) | (motors <= _NEAR_LEAST + np.quantile(motors, 0.001)), axis=0)
    lost = ~usable & _widened(at_limit, recording.sample_rate_hz)
    return float(np.mean(lost[middle])) if middle.sum() > recording.sample_rate_hz else None


def _is_clipped(command: FloatArray, limit: float) -> bool:
    """A command that stays at its largest value for long is limited; one that only touches it is not."""
    return bool(np.mean(np.abs(command) >= limit - 1e-4) > 1e-3)


def _widened(lost: BoolArray, sample_rate_hz: float) -> BoolArray:
    before, after = round(_BEFORE_S * sample_rate_hz), round(_AFTER_S * sample_rate_hz)
    edges = np.zeros(lost.size + 1)
    starts = np.flatnonzero(lost)
    np.add.at(edges, np.maximum(0, starts - before), 1)
    np.add.at(edges, np.minimum(lost.size, starts + after + 1), -1)
    return np.asarray(np.cumsum(edges[:-1]) > 0)
