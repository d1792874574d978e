"""The craft itself: what the gyro does of a command, as a model with few numbers."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy.optimize

from nembrit.core.types import ComplexArray, FloatArray

_START_LAG_S, _START_DELAY_S, _START_DAMPING, _START_LEAD_S = 0.02, 0.006, 2.0, 0.015
_LOOSE = {"damping": 0.7, "lead": 0.7, "lag": 1.2, "delay": 0.8}  # how far logs of parameters go from their usual values, 1 sigma
_LEAST_ERROR = 0.015  # of a log response: what the model itself leaves out


@dataclass(frozen=True, slots=True, kw_only=True)
class Plant:
    """G(s) = gain · e^(−s·delay) · (1 + s·lead) / ((1 + s·lag)(s + damping)), from command share to deg/s."""

    gain: float  # deg/s² at full command
    lag_s: float
    delay_s: float
    damping_per_s: float
    lead_s: float = 0.0  # yaw: the reaction of motors that speed up

    def response(self, frequency_hz: FloatArray) -> ComplexArray:
        s = 2j * np.pi * frequency_hz
        return np.asarray(
            self.gain * np.exp(-s * self.delay_s) * (1 + s * self.lead_s) / ((1 + s * self.lag_s) * (s + self.damping_per_s))
        )


Model = Callable[[ComplexArray], ComplexArray]  # plant's response → what was measured


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Measured:
    """A measured response, how sure its log is, and how a plant makes it."""

    response: ComplexArray
    error: FloatArray  # standard error of its log
    model: Model


def fit_plant(frequency_hz: FloatArray, measured: list[Measured], *, has_lead: bool, start: Plant | None = None) -> Plant:
    """The plant whose measured responses fit best, by least squares of logs with a robust loss.

    Parameters
    ----------
    frequency_hz : ndarray, shape (n,)
        Where all responses were measured.
    measured : list of Measured
        One response or several; each log difference counts by its standard error, at least 1.5 %, and less the denser
        frequencies lie (log-spaced ones count alike).
    has_lead : bool
        Whether the zero of a motor's reaction is fitted too (yaw).
    start : Plant, optional
        Where to begin; without it the usual lag and delay, and the gain that fits them.

    Notes
    -----
    Lag, delay, damping and lead are drawn weakly towards usual values (common practice, no source): a flight tells
    lag and delay together far better than each. Levenberg and Marquardt's method as scipy has it, soft L1 loss.
    """
    begin = start or _start(frequency_hz, measured, has_lead=has_lead)
    centre = np.log([begin.gain, _START_LAG_S, _START_DELAY_S, _START_DAMPING, _START_LEAD_S])
    first = np.log([begin.gain, begin.lag_s, begin.delay_s, begin.damping_per_s, begin.lead_s or _START_LEAD_S])
    free = np.array([True, True, True, True, has_lead])
    sigma = np.array([_LOOSE["lag"], _LOOSE["delay"], _LOOSE["damping"], _LOOSE["lead"]])

    def plant_of(point: FloatArray) -> Plant:
        whole = first.copy()
        whole[free] = point
        gain, lag, delay, damping, lead = np.exp(np.clip(whole, -30, 30))
        return Plant(
            gain=float(gain),
            lag_s=float(lag),
            delay_s=float(delay),
            damping_per_s=float(damping),
            lead_s=float(lead) if has_lead else 0.0,
        )

    def residuals(point: FloatArray) -> FloatArray:
        response = plant_of(point).response(frequency_hz)
        parts = []
        for one in measured:
            logs = np.log(one.response / one.model(response))
            # a phase may come out a whole turn off
            logs = logs.real + 1j * ((logs.imag + np.pi) % (2 * np.pi) - np.pi)
            weighed = logs / np.hypot(one.error, _LEAST_ERROR)
            parts += [weighed.real, weighed.imag]
        whole = first.copy()
        whole[free] = point
        parts.append(((whole - centre)[1:] / sigma)[free[1:]])
        return np.concatenate(parts)

    found = scipy.optimize.least_squares(residuals, first[free], loss="soft_l1", max_nfev=60)
    return plant_of(found.x)


def _start(frequency_hz: FloatArray, measured: list[Measured], *, has_lead: bool) -> Plant:
    """The usual lag and delay, with the gain that makes the surest middle frequencies fit."""
    unit = Plant(
        gain=1.0, lag_s=_START_LAG_S, delay_s=_START_DELAY_S, damping_per_s=_START_DAMPING,
        lead_s=_START_LEAD_S if has_lead else 0.0,
    )  # fmt: skip
    tried = np.geomspace(300, 3e6, 60)
    one = measured[0]

    def misfit(gain: float) -> float:
        logs = np.abs(np.log(np.abs(one.response / one.model(gain * unit.response(frequency_hz)))))
        return float(np.median(logs / np.hypot(one.error, 0.1)))

    best = min(tried, key=misfit)
    return Plant(gain=float(best), lag_s=unit.lag_s, delay_s=unit.delay_s, damping_per_s=unit.damping_per_s, lead_s=unit.lead_s)
