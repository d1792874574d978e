"""Impulse response of one signal to another from ordinary flying: a regularised finite impulse response.

T. Chen, H. Ohlsson, L. Ljung, "On the estimation of transfer functions, regularizations and Gaussian
processes - Revisited", Automatica 48 (2012) 1525-1535; L. Ljung, System Identification, 2nd ed.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.linalg
import scipy.optimize
import scipy.signal

from nembrit.core.spectra.spread import spread
from nembrit.core.types import BoolArray, FloatArray, IntArray

WORK_RATE_HZ = 500.0
N_TAPS = 200
_N_AR = 10
N_BLOCKS = 12
_MOST_S = 120.0


def decimated(
    signals: Sequence[FloatArray], usable: BoolArray, sample_rate_hz: float, *, work_rate_hz: float = WORK_RATE_HZ
) -> tuple[list[FloatArray], BoolArray, float]:
    """All signals, the set-point first, through the same zero-phase FIR and down to about the work rate.

    With the rows to keep: those that are usable, have the set-point's whole history, and whole neighbours to be
    whitened by; and the new rate [Hz].
    """
    factor = max(1, int(sample_rate_hz / work_rate_hz))
    rate_hz = sample_rate_hz / factor
    whole = np.logical_and.reduce([np.isfinite(signal) for signal in signals])
    signals = [np.nan_to_num(signal) for signal in signals]
    if factor > 1:
        taps = scipy.signal.firwin(8 * factor + 1, 0.8 / factor)
        n_slow = -(-whole.size // factor)
        # centred: eight of every nine places of the filter's length are whole steps
        signals = [scipy.signal.upfirdn(taps, signal, down=factor)[4 : 4 + n_slow] for signal in signals]
        usable, whole = (_all_near(good, 4 * factor)[::factor] for good in (usable, whole))
    # a row needs its whole history of set-points, and the errors before it that whiten it
    n_history = N_TAPS + _N_AR
    has_history = _all_before(whole, n_history)
    has_history[:n_history] = False
    return list(signals), spread(usable & has_history & _all_before(usable, _N_AR + 1), rate_hz, most_s=_MOST_S), rate_hz


def _all_before(good: BoolArray, n: int) -> BoolArray:
    """Whether a sample and those before it, n in all, are good; what lies before the first one is."""
    n_bad: IntArray = np.concatenate((np.zeros(n, np.int64), np.cumsum(~good, dtype=np.int64)))
    return np.asarray(n_bad[n:] == n_bad[:-n])


def _all_near(good: BoolArray, n: int) -> BoolArray:
    """Whether a sample and n on either side are good."""
    padded = np.concatenate((good, np.ones(n, bool)))
    return _all_before(padded, 2 * n + 1)[n:]


@dataclass(frozen=True, slots=True, eq=False)
class Problem:
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


def whitened_problem(r: FloatArray, y: FloatArray, keep: BoolArray) -> Problem:
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


def _problem(r: FloatArray, y: FloatArray, keep: BoolArray) -> Problem:
    rows = np.flatnonzero(keep)
    shifted = np.lib.stride_tricks.sliding_window_view(np.concatenate((np.zeros(N_TAPS - 1), r)), N_TAPS)
    grams, crosses = [], []
    for block in np.array_split(rows, N_BLOCKS):
        inputs = shifted[block]  # the newest set-point comes last
        # column k of U's inputs is Σ r[t − i] over i ≤ k: sums over the taps, taken of the products
        grams.append((inputs.T @ inputs)[::-1, ::-1].cumsum(axis=0).cumsum(axis=1))
        crosses.append((inputs.T @ y[block])[::-1].cumsum())
    return Problem(np.stack(grams), np.stack(crosses), float(y[rows] @ y[rows]), int(rows.size))
