"""Spikes in the raw gyro, and whether they come when the motors are told to jump."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, FloatArray

_SIGMAS, _LEAST_DPS = 10.0, 60.0
_APART_S = 0.003
_BEFORE_S = 0.003
_N_SHIFTS = 400
_LEAST_JUMP = 0.03
_RISE_S = 0.005
_RARE = 0.97


@dataclass(frozen=True, slots=True, kw_only=True)
class Spikes:
    """Spikes of one axis; `p_value` is the chance of so many coincidences if spikes knew nothing of the motors."""

    times_s: tuple[float, ...]
    sizes_dps: tuple[float, ...]
    coincident_ratio: float | None = None  # share that follow a motor jump within 3 ms; None: not answerable
    p_value: float | None = None
    chance_ratio: float | None = None  # share that would coincide by chance

    @property
    def verdict(self) -> str:
        """none, suspected (spikes alone) or likely (they follow the motors)."""
        if len(self.times_s) < 3:
            return "none"
        if self.coincident_ratio is None or self.p_value is None:
            return "suspected"
        return "likely" if self.coincident_ratio >= 0.5 and self.p_value < 0.01 else "suspected"


def spikes_of(recording: Recording, axis: str) -> Spikes | None:
    """Find single-sample outliers of the raw gyro and test whether they follow jumps of a motor command.

    A spike is a second difference beyond 10 robust standard deviations and 60 deg/s. A jump is a change of any
    motor command within 5 ms that is among the largest 3 % and beyond 0.03. Coincidence counts spikes with a jump
    up to 3 ms before; its chance is that of 400 circular shifts of the jumps (a permutation test; Good,
    Permutation Tests). None without a raw gyro. Numbers: starting values of a prototype, no source.
    """
    role = f"gyro_raw.{axis}"
    if not recording.has(role):
        return None
    values, rate_hz = recording.channels[role], recording.sample_rate_hz
    second = np.zeros(values.size)
    second[1:-1] = values[2:] - 2 * values[1:-1] + values[:-2]
    second[~np.isfinite(second)] = 0.0
    sigma = 1.4826 * float(np.median(np.abs(second)))
    beyond = np.flatnonzero(np.abs(second) > max(_SIGMAS * sigma, _LEAST_DPS))
    if beyond.size == 0:
        return Spikes(times_s=(), sizes_dps=())
    breaks = np.flatnonzero(np.diff(beyond) > _APART_S * rate_hz)
    groups = np.split(beyond, breaks + 1)
    firsts = np.array([group[0] for group in groups])
    peaks = [group[np.abs(second[group]).argmax()] for group in groups]
    jumps = _jumps(recording)
    ratio = p_value = chance = None
    if jumps is not None and jumps.any():
        reach = np.zeros(values.size)
        for lag in range(round(_BEFORE_S * rate_hz) + 1):
            reach += np.roll(jumps, lag)
        near = reach > 0
        ratio = float(near[firsts].mean())
        rng = np.random.default_rng(firsts.size)
        shifts = rng.integers(round(0.2 * rate_hz), max(values.size - round(0.2 * rate_hz), round(0.2 * rate_hz) + 1), _N_SHIFTS)
        by_chance = np.array([near[(firsts + shift) % values.size].mean() for shift in shifts])
        chance = float(by_chance.mean())
        p_value = float((1 + np.sum(by_chance >= ratio - 1e-12)) / (_N_SHIFTS + 1))
    return Spikes(
        times_s=tuple(float(recording.start_s + peak / rate_hz) for peak in peaks),
        sizes_dps=tuple(float(second[peak] / -2) for peak in peaks),
        coincident_ratio=ratio,
        p_value=p_value,
        chance_ratio=chance,
    )


def _jumps(recording: Recording) -> FloatArray | None:
    roles = [f"motor.{n}" for n in range(1, 9) if recording.has(f"motor.{n}")]
    if not roles:
        return None
    lag = max(1, round(_RISE_S * recording.sample_rate_hz))
    steps = np.zeros(recording.n_samples)
    for role in roles:
        values = filled(recording.channels[role])
        steps[lag:] = np.maximum(steps[lag:], np.abs(values[lag:] - values[:-lag]))
    return np.asarray(steps > max(_LEAST_JUMP, float(np.quantile(steps, _RARE))), dtype=np.float64)


def noisiest_axis(spikes: dict[str, Spikes]) -> str | None:
    """The axis with the most spikes, where it has at least three times those of any other.

    >>> noisiest_axis({"roll": Spikes(times_s=(1.0, 2.0, 3.0), sizes_dps=(9, 9, 9)), "pitch": Spikes(times_s=(), sizes_dps=())})
    'roll'
    """
    counts = sorted(((len(found.times_s), axis) for axis, found in spikes.items() if axis in AXES), reverse=True)
    if not counts or counts[0][0] < 3:
        return None
    return counts[0][1] if len(counts) < 2 or counts[0][0] >= 3 * counts[1][0] else None
