"""How fast the motors answer at zero throttle, against how fast they answer in flight."""

from collections.abc import Sequence

import numpy as np

from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray

_STEP_S = 0.004
_LEAST_FLOAT_S = 0.3
_LEAST_SAMPLES = 25
_SLOWEST = (0.01, 1.5)  # quantile of the speeds at zero throttle, and how far above it still counts as slow
_EXPONENTS = (0.5, 1.2)  # of speed over command
_MOST = 10.0  # of the ratio: beyond it the speed hardly moves at all
_IN_FLIGHT = 0.7  # of the flight's median speed


def spool_ratio(recording: Recording, spans: Sequence[Span]) -> float | None:
    """Lag of the motors' speed behind their command while they turn slowest at zero throttle, over that in flight.

    Needs every motor's command and recorded speed, at 250 Hz or more, and a stretch at zero throttle; else None.

    Notes
    -----
    A motor and its propeller follow their command as a first-order lag, dω/dt = a + b·uᵉ - ω/τ (any text on electric
    drives; e from log speed over log command in flight); 1/τ by least squares at 4 ms, once over the slowest speeds at
    zero throttle and once over what is faster than 0.7 of the flight's median. The slow one is taken half a standard
    error towards fast; noise in the speeds makes it look faster still, so neither gives an alarm. Median over motors,
    at most 10. A sound motor's own 1/τ grows with speed, by twice its propeller's drag slope beside its back-EMF: some
    1.2 to 1.3 from idle to hover for a usual efficiency of 0.8 (our own sum from the motor equation; the simulator
    leaves it out and its sound craft reach 1.2). Beyond that propellers lose grip.
    """
    numbers = [n for n in range(1, 9) if recording.has(f"motor.{n}")]
    floats = [span for span in spans if span.kind == "zero_throttle" and span.end_s - span.start_s > _LEAST_FLOAT_S]
    roles = [f"motor_rpm.{n}" for n in numbers]
    if not numbers or not recording.has(*roles) or not floats or recording.sample_rate_hz < 1 / _STEP_S:
        return None
    step = max(1, round(_STEP_S * recording.sample_rate_hz))
    t_s = recording.start_s + np.arange(0, recording.n_samples - step, step) / recording.sample_rate_hz
    is_float = np.any([(t_s >= span.start_s) & (t_s < span.end_s) for span in floats], axis=0)
    ratios = []
    for n, role in zip(numbers, roles, strict=True):
        command = _means(recording.channels[f"motor.{n}"], step)[: t_s.size]
        speed = recording.channels[role][::step][: t_s.size + 1] / 60
        if (ratio := _lag_ratio(command, speed, is_float, step / recording.sample_rate_hz)) is not None:
            ratios.append(ratio)
    return float(np.median(ratios)) if ratios else None


def _lag_ratio(command: FloatArray, speed: FloatArray, is_float: BoolArray, step_s: float) -> float | None:
    slope, now = np.diff(speed) / step_s, speed[:-1]
    is_whole = np.isfinite(slope) & np.isfinite(command)
    slow = is_float & is_whole
    if slow.sum() < _LEAST_SAMPLES:
        return None
    quantile, times = _SLOWEST
    slow &= now < times * float(np.quantile(now[slow], quantile))
    fast = ~is_float & is_whole & (now > _IN_FLIGHT * float(np.nanmedian(now))) & (command > 0)
    if fast.sum() < _LEAST_SAMPLES or float(np.ptp(command[fast])) == 0:
        return None
    exponent = float(np.clip(np.polyfit(np.log(command[fast]), np.log(now[fast]), 1)[0], *_EXPONENTS))
    wanted = np.maximum(command, 0.0) ** exponent
    at_idle, in_flight = _rate(wanted, now, slope, slow), _rate(wanted, now, slope, fast)
    if at_idle is None or in_flight is None or in_flight[0] <= 2 * in_flight[1]:
        return None
    return in_flight[0] / max(at_idle[0] + at_idle[1] / 2, in_flight[0] / _MOST)


def _rate(wanted: FloatArray, speed: FloatArray, slope: FloatArray, use: BoolArray) -> tuple[float, float] | None:
    """1/τ [1/s] and its standard error."""
    if use.sum() < _LEAST_SAMPLES:
        return None
    parts = np.stack([np.ones(int(use.sum())), wanted[use], speed[use]], axis=1)
    normal = parts.T @ parts
    if np.linalg.cond(normal / np.sqrt(np.outer(np.diag(normal), np.diag(normal)) + 1e-30)) > 1e10:
        return None  # nothing moved
    found = np.linalg.solve(normal, parts.T @ slope[use])
    scatter = float(np.sum((slope[use] - parts @ found) ** 2)) / (use.sum() - 3)
    return -float(found[2]), float(np.sqrt(scatter * np.linalg.inv(normal)[2, 2]))


def _means(values: FloatArray, step: int) -> FloatArray:
    n = values.size // step
    return np.asarray(values[: n * step].reshape(n, step).mean(axis=1))
