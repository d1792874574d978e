"""Step response of one axis from ordinary flying: a regularised finite impulse response.

T. Chen, H. Ohlsson, L. Ljung, "On the estimation of transfer functions, regularizations and Gaussian
processes - Revisited", Automatica 48 (2012) 1525-1535; L. Ljung, System Identification, 2nd ed.
"""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.response.estimate import jackknifed
from nembrit.core.response.impulse import N_BLOCKS, decimated, whitened_problem
from nembrit.core.types import BoolArray, FloatArray

_LEAST_USABLE_S = 6.0
_LEAST_SETPOINT_DPS = 12.0  # RMS of the set-point's movement (starting value, no source)
_LARGEST_OVERSHOOT_ERROR = 0.10
_LARGEST_GAIN_ERROR = 0.30
_FLOORS = {"overshoot": 0.009, "delay_s": 0.0008}  # what the jackknife cannot see; measured (docs/accuracy.md)
_OVERSHOOT_SHARE, _DELAY_SHARE = 0.08, 0.04  # the same: throttle and gain vary while large and slow answers are averaged


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class StepResponse:
    """How an axis follows a unit step of its set-point; intervals are 95 %."""

    t_s: FloatArray  # (n_taps,)
    response: FloatArray  # (n_taps,) response to a unit step
    low: FloatArray  # pointwise interval
    high: FloatArray
    overshoot_ratio: float
    overshoot_interval: tuple[float, float]
    least_overshoot_ratio: float  # by scatter alone, as the ranking of causes was fitted to
    delay_s: float | None  # to 50 % of the step; None: never got there
    delay_interval_s: tuple[float, float] | None
    usable_s: float
    excitation: str  # good or weak


class UncertainStep(NotEnoughData):
    """A step response too uncertain to be shown; how far it overshoots at least may still be known."""

    def __init__(self, overshoot_ratio: float, error_ratio: float) -> None:
        self.least_overshoot_ratio = max(0.0, overshoot_ratio - error_ratio)
        super().__init__(
            f"the step response is too uncertain (overshoot {100 * overshoot_ratio:.0f} ± {100 * error_ratio:.0f} percentage "
            "points): fly longer, with quick stick movements on this axis and less wind"
        )


def step_response(setpoint_dps: FloatArray, gyro_dps: FloatArray, usable: BoolArray, *, sample_rate_hz: float) -> StepResponse:
    """Estimate the closed-loop step response set-point → gyro of one axis.

    Parameters
    ----------
    setpoint_dps, gyro_dps : ndarray, shape (n_samples,)
        Wanted and filtered measured rate [deg/s] on one uniform clock; NaN marks gaps.
    usable : ndarray of bool, shape (n_samples,)
        Where the craft had authority (`authority.usable_mask`). Rows elsewhere are left out, never bridged.
    sample_rate_hz : float
        Log rate [Hz], at least 200.

    Returns
    -------
    StepResponse

    Raises
    ------
    NotEnoughData
        With what to fly, if less than 6 s are usable, the sticks hardly moved, the gyro does not follow
        (its gain is off by more than 0.3), or the overshoot is not known within 10 percentage points (`UncertainStep`).
    InputError
        If the log rate is below 200 Hz.

    Notes
    -----
    Both signals are brought to 500 Hz by one zero-phase FIR (a slower log keeps its rate). Taps of 0.4 s; prior covariance
    c·α^max(i, j) with c, α and the noise level by marginal likelihood; errors whitened by an AR(10)
    model. Intervals: ± 2·√(jackknife SE² over 12 blocks + floor²), floors 0.9 percentage points with 8 % of the
    overshoot, and 0.8 ms with 4 % of the delay. ``cumsum(g)`` belongs to t + dt/2, which the returned times allow
    for. The gain after 0.4 s is left free: forcing it to 1 cuts off the slow tail of the I term and cost 1 point of
    overshoot (`docs/methods.md`).
    """
    if sample_rate_hz < 200:
        raise InputError(f"a step response needs a log of 200 Hz or more, this one has {sample_rate_hz:.4g} Hz")
    usable = usable & np.isfinite(setpoint_dps) & np.isfinite(gyro_dps)
    slowed = decimated((setpoint_dps, gyro_dps), usable, sample_rate_hz)
    (r, y), keep, rate_hz = slowed.signals, slowed.keep, slowed.rate_hz
    usable_s = float(keep.sum() / rate_hz)
    if usable_s < _LEAST_USABLE_S:
        raise NotEnoughData(
            f"only {usable_s:.1f} s of flying with authority and moderate throttle; fly at least {_LEAST_USABLE_S:g} s "
            "of quick stick movements on this axis at middle throttle"
        )
    movement_dps = float(np.std(r[keep]))
    if movement_dps < _LEAST_SETPOINT_DPS:
        raise NotEnoughData(
            f"not enough stick movement (set-point moves by {movement_dps:.0f} deg/s RMS, {_LEAST_SETPOINT_DPS:g} needed): "
            "fly the half-minute card, or weave with quick stick movements on this axis for ten seconds"
        )
    problem = whitened_problem(r, y, keep, slowed.n_taps)
    alpha, scale = problem.best_prior(refine=True)
    step = np.cumsum(problem.solve(alpha, scale))
    if abs(step[-1] - 1) > _LARGEST_GAIN_ERROR:
        raise NotEnoughData(
            f"the gyro does not follow the set-point (it moves {step[-1]:.2f} times as far): check that both belong to "
            "the same axis and scale, and that the craft was flown in rate mode"
        )
    leave_out = np.stack([np.cumsum(problem.solve(alpha, scale, without=block)) for block in range(N_BLOCKS)])
    se = np.sqrt((N_BLOCKS - 1) / N_BLOCKS * ((leave_out - leave_out.mean(axis=0)) ** 2).sum(axis=0))
    dt = 1 / rate_hz
    t_s = (np.arange(step.size, dtype=np.float64) + 0.5) * dt
    overshoot = _overshoot(step)
    overshoots = [_overshoot(row) for row in leave_out]
    scatter = _error(overshoots, _FLOORS["overshoot"])
    if scatter > _LARGEST_OVERSHOOT_ERROR:
        raise UncertainStep(overshoot, scatter)
    overshoot_error = _error(overshoots, float(np.hypot(_FLOORS["overshoot"], _OVERSHOOT_SHARE * overshoot)))
    delay_s = _delay(t_s, step)
    delay_interval_s = None
    if delay_s is not None:
        delays = [_delay(t_s, row) for row in leave_out]
        told = jackknifed(delay_s, delays, floor=float(np.hypot(_FLOORS["delay_s"], _DELAY_SHARE * delay_s)))
        delay_interval_s = None if told is None else (told.low, told.high)
    return StepResponse(
        t_s=t_s,
        response=step,
        low=step - 2 * se,
        high=step + 2 * se,
        overshoot_ratio=overshoot,
        least_overshoot_ratio=max(0.0, overshoot - scatter),
        overshoot_interval=(max(0.0, overshoot - overshoot_error), overshoot + overshoot_error),
        delay_s=delay_s,
        delay_interval_s=delay_interval_s,
        usable_s=usable_s,
        excitation="good" if scatter < 0.03 else "weak",
    )


def _overshoot(step: FloatArray) -> float:
    return max(0.0, float(step.max()) - 1.0)


def _delay(t_s: FloatArray, step: FloatArray) -> float | None:
    """First crossing of half the step, by linear interpolation."""
    above = np.flatnonzero(step >= 0.5)
    if above.size == 0:
        return None
    at = int(above[0])
    before_t, before = (t_s[at - 1], step[at - 1]) if at else (0.0, 0.0)
    return float(before_t + (0.5 - before) / (step[at] - before) * (t_s[at] - before_t))


def _error(leave_out: list[float], floor: float) -> float:
    """± 95 % from jackknife values and a floor for what the jackknife cannot see."""
    told = jackknifed(0.0, leave_out, floor=floor)
    assert told is not None  # an overshoot can always be read
    return told.error
