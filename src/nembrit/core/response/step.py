"""Step response of one axis from ordinary flying: a regularised finite impulse response.

T. Chen, H. Ohlsson, L. Ljung, "On the estimation of transfer functions, regularizations and Gaussian
processes - Revisited", Automatica 48 (2012) 1525-1535; L. Ljung, System Identification, 2nd ed.
"""

import math
from dataclasses import dataclass

import numpy as np
import scipy.linalg
import scipy.optimize
import scipy.signal

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.types import BoolArray, FloatArray

WORK_RATE_HZ = 500.0
_N_TAPS = 200
_N_AR = 10
_N_BLOCKS = 12
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
    response: FloatArray  # (n_taps,) share of the step
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
            "points): fly longer, with lively sticks on this axis and less wind"
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
    Both signals are decimated by one zero-phase FIR to about 500 Hz. 200 taps; prior covariance
    c·α^max(i, j) with c, α and the noise level by marginal likelihood; errors whitened by an AR(10)
    model. Intervals: ± 2·√(jackknife SE² over 12 blocks + floor²), floors 0.9 percentage points with 8 % of the
    overshoot, and 0.8 ms with 4 % of the delay. ``cumsum(g)`` belongs to t + dt/2, which the returned times allow
    for. The gain after 0.4 s is left free: forcing it to 1 cuts off the slow tail of the I term and cost 1 point of
    overshoot (`docs/methods.md`).
    """
    if sample_rate_hz < 200:
        raise InputError(f"a step response needs a log of 200 Hz or more, this one has {sample_rate_hz:.4g} Hz")
    usable = usable & np.isfinite(setpoint_dps) & np.isfinite(gyro_dps)
    r, y, keep, rate_hz = _decimated(setpoint_dps, gyro_dps, usable, sample_rate_hz)
    usable_s = float(keep.sum() / rate_hz)
    if usable_s < _LEAST_USABLE_S:
        raise NotEnoughData(
            f"only {usable_s:.1f} s of flying with authority and moderate throttle; fly at least {_LEAST_USABLE_S:g} s "
            "of lively stick movement on this axis at middle throttle"
        )
    movement_dps = float(np.std(r[keep]))
    if movement_dps < _LEAST_SETPOINT_DPS:
        raise NotEnoughData(
            f"not enough stick movement (set-point moves by {movement_dps:.0f} deg/s RMS, {_LEAST_SETPOINT_DPS:g} needed): "
            "fly the half-minute card, or weave about with lively sticks on this axis for ten seconds"
        )
    problem = _whitened_problem(r, y, keep)
    alpha, scale = problem.best_prior(refine=True)
    step = np.cumsum(problem.solve(alpha, scale))
    if abs(step[-1] - 1) > _LARGEST_GAIN_ERROR:
        raise NotEnoughData(
            f"the gyro does not follow the set-point (it moves {step[-1]:.2f} times as far): check that both belong to "
            "the same axis and scale, and that the craft was flown in rate mode"
        )
    leave_out = np.stack([np.cumsum(problem.solve(alpha, scale, without=block)) for block in range(_N_BLOCKS)])
    se = np.sqrt((_N_BLOCKS - 1) / _N_BLOCKS * ((leave_out - leave_out.mean(axis=0)) ** 2).sum(axis=0))
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
        error_s = _error(
            [delay for delay in delays if delay is not None], float(np.hypot(_FLOORS["delay_s"], _DELAY_SHARE * delay_s))
        )
        delay_interval_s = (delay_s - error_s, delay_s + error_s)
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


def _decimated(
    r: FloatArray, y: FloatArray, usable: BoolArray, sample_rate_hz: float
) -> tuple[FloatArray, FloatArray, BoolArray, float]:
    """Both signals through the same zero-phase FIR and down to about 500 Hz, with the rows to keep."""
    factor = max(1, int(sample_rate_hz / WORK_RATE_HZ))
    rate_hz = sample_rate_hz / factor
    signals = [np.nan_to_num(signal) for signal in (r, y)]
    whole = np.isfinite(r) & np.isfinite(y)
    if factor > 1:
        taps = scipy.signal.firwin(8 * factor + 1, 0.8 / factor)
        signals = [scipy.signal.fftconvolve(signal, taps, mode="same")[::factor] for signal in signals]
        usable = scipy.signal.fftconvolve((~usable).astype(float), np.ones(taps.size), mode="same")[::factor] < 0.5
        whole = scipy.signal.fftconvolve((~whole).astype(float), np.ones(taps.size), mode="same")[::factor] < 0.5
    # a row needs its whole history of set-points, and the errors before it that whiten it
    n_history = _N_TAPS + _N_AR
    has_history = np.convolve(~whole, np.ones(n_history), mode="full")[: whole.size] < 0.5
    has_history[:n_history] = False
    n_whiten = np.convolve(~usable, np.ones(_N_AR + 1), mode="full")[: whole.size] < 0.5
    return signals[0], signals[1], usable & has_history & n_whiten, rate_hz


@dataclass(frozen=True, slots=True, eq=False)
class _Problem:
    """Normal equations in steps of the impulse response, whose prior is independent.

    The prior covariance scale·σ²·α^max(i, j) has the root U·D: U sums up from a tap to the last one, D is
    diagonal and holds all that α and the scale change. So `gram` = UᵀRU and `cross` = Uᵀf are made once.
    """

    gram: FloatArray  # (n_blocks, n_taps, n_taps)
    cross: FloatArray  # (n_blocks, n_taps)
    power: float  # of the output
    n_rows: int

    def solve(self, alpha: float, scale: float, *, without: int | None = None) -> FloatArray:
        """Posterior mean of the impulse response; one block can be left out."""
        gram, cross = self.gram.sum(axis=0), self.cross.sum(axis=0)
        if without is not None:
            gram, cross = gram - self.gram[without], cross - self.cross[without]
        d = _prior_diagonal(alpha, scale, cross.size)
        factor = scipy.linalg.cho_factor(np.eye(d.size) + d[:, None] * gram * d)
        steps = d * scipy.linalg.cho_solve(factor, d * cross)
        return np.asarray(np.cumsum(steps[::-1])[::-1])  # U times the steps

    def best_prior(self, *, refine: bool) -> tuple[float, float]:
        """Decay α and prior scale over noise variance by marginal likelihood."""
        gram, cross = self.gram.sum(axis=0), self.cross.sum(axis=0)

        def prior(point: FloatArray) -> tuple[float, float]:
            # bounded: without noise the likelihood would drive the scale beyond what doubles can invert
            alpha = 1 / (1 + math.exp(-float(np.clip(point[0], 0.0, 6.5))))
            return alpha, math.exp(float(np.clip(point[1], -25.0, 4.0)))

        def cost(point: FloatArray) -> float:
            """−2 log marginal likelihood with the noise level profiled out."""
            d = _prior_diagonal(*prior(point), cross.size)
            lower = np.linalg.cholesky(np.eye(d.size) + d[:, None] * gram * d)
            explained = scipy.linalg.solve_triangular(lower, d * cross, lower=True)
            rest = max(self.power - float(explained @ explained), 1e-12)
            return self.n_rows * math.log(rest / self.n_rows) + 2 * float(np.log(np.diag(lower)).sum())

        grid = [(cost(np.array([a, s])), a, s) for a in (1.5, 2.5, 3.5) for s in (-14.0, -10.0, -6.0, -2.0)]
        _, a, s = min(grid)
        if not refine:
            return prior(np.array([a, s]))
        options = {"xatol": 0.05, "fatol": 0.5, "maxfev": 60}
        return prior(scipy.optimize.minimize(cost, np.array([a, s]), method="Nelder-Mead", options=options).x)


def _prior_diagonal(alpha: float, scale: float, n_taps: int) -> FloatArray:
    """Standard deviations of the steps: α^k − α^(k+1), the last one α^(n−1)."""
    powers = alpha ** np.arange(n_taps, dtype=np.float64)
    return np.asarray(np.sqrt(scale * np.append(powers[:-1] - powers[1:], powers[-1])))


def _whitened_problem(r: FloatArray, y: FloatArray, keep: BoolArray) -> _Problem:
    plain = _problem(r, y, keep)
    impulse = plain.solve(*plain.best_prior(refine=False))
    error = y - scipy.signal.lfilter(impulse, [1.0], r)
    whitener = _ar_whitener(error, keep)
    return _problem(scipy.signal.lfilter(whitener, [1.0], r), scipy.signal.lfilter(whitener, [1.0], y), keep)


def _ar_whitener(error: FloatArray, keep: BoolArray) -> FloatArray:
    """Coefficients (1, −a1 … −a10) that turn the fit's error into white noise, by least squares on kept rows."""
    rows = np.flatnonzero(keep)
    past = np.stack([error[rows - lag] for lag in range(1, _N_AR + 1)], axis=1)
    gram = past.T @ past
    gram[np.diag_indices_from(gram)] *= 1 + 1e-9
    return np.concatenate(([1.0], -np.linalg.solve(gram + 1e-12 * np.eye(_N_AR), past.T @ error[rows])))


def _problem(r: FloatArray, y: FloatArray, keep: BoolArray) -> _Problem:
    rows = np.flatnonzero(keep)
    # column k of the inputs is Σ r[t − i] over i ≤ k: the running sum over the taps is the factor U
    shifted = np.lib.stride_tricks.sliding_window_view(np.concatenate((np.zeros(_N_TAPS - 1), r)), _N_TAPS)[:, ::-1]
    grams, crosses = [], []
    for block in np.array_split(rows, _N_BLOCKS):
        inputs = np.cumsum(shifted[block], axis=1)
        grams.append(inputs.T @ inputs)
        crosses.append(inputs.T @ y[block])
    return _Problem(np.stack(grams), np.stack(crosses), float(y[rows] @ y[rows]), int(rows.size))


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
    values = np.array(leave_out)
    se_square = (values.size - 1) / values.size * float(((values - values.mean()) ** 2).sum()) if values.size > 1 else 0.0
    return 2 * float(np.sqrt(se_square + floor**2))
