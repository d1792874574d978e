"""Impulse response of one signal to another from ordinary flying: a regularised finite impulse response.

T. Chen, H. Ohlsson, L. Ljung, "On the estimation of transfer functions, regularizations and Gaussian
processes - Revisited", Automatica 48 (2012) 1525-1535; L. Ljung, System Identification, 2nd ed.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy.linalg
import scipy.optimize
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.spectra.spread import spread
from nembrit.core.types import BoolArray, FloatArray, IntArray

WORK_RATE_HZ = 500.0
MEMORY_TAPS = 200  # of an impulse response at the work rate; at a lower one as many as take the same time
_N_AR = 10
N_BLOCKS = 12
_MOST_S = 120.0
_NEARLY_WHOLE = 0.01  # factors between rates this near a whole number need no resampling


@dataclass(frozen=True, eq=False)
class Slowed:
    """Signals at the work rate, the set-point first, with the rows to keep."""

    signals: list[FloatArray]
    keep: BoolArray
    rate_hz: float
    n_taps: int


def decimated(
    signals: Sequence[FloatArray], usable: BoolArray, sample_rate_hz: float, *, work_rate_hz: float = WORK_RATE_HZ
) -> Slowed:
    """All signals, the set-point first, through the same zero-phase FIR and down to the work rate.

    A log written more slowly keeps its own rate. An impulse response takes the same time at any rate: 0.4 s at 500 Hz. Rows
    to keep are those that are usable, have the set-point's whole history, and whole neighbours to be whitened by.
    """
    factor = max(1.0, sample_rate_hz / work_rate_hz)
    rate_hz = sample_rate_hz / factor
    n_taps = max(2 * _N_AR, round(MEMORY_TAPS * rate_hz / work_rate_hz))
    whole = np.logical_and.reduce([np.isfinite(signal) for signal in signals])
    signals = [filled(signal) for signal in signals]
    if factor > 1:
        every = round(factor)
        if abs(factor / every - 1) < _NEARLY_WHOLE:
            n_slow = -(-whole.size // every)
            taps = scipy.signal.firwin(8 * every + 1, 0.8 / every)
            # centred: eight of every nine places of the filter's length are whole steps
            signals = [scipy.signal.upfirdn(taps, signal, down=every)[4 : 4 + n_slow] for signal in signals]
            usable, whole = (_all_near(good, 4 * every)[::every] for good in (usable, whole))
            rate_hz = sample_rate_hz / every
        else:
            places = np.arange(0.0, whole.size - 1, factor)
            signals = _resampled(signals, places, factor)
            near = np.rint(places).astype(np.int64)
            usable, whole = (_all_near(good, math.ceil(4 * factor))[near] for good in (usable, whole))
    # a row needs its whole history of set-points, and the errors before it that whiten it
    n_history = n_taps + _N_AR
    has_history = _all_before(whole, n_history)
    has_history[:n_history] = False
    keep = spread(usable & has_history & _all_before(usable, _N_AR + 1), rate_hz, most_s=_MOST_S)
    return Slowed(list(signals), keep, rate_hz, n_taps)


def _resampled(signals: Sequence[FloatArray], places: FloatArray, factor: float) -> list[FloatArray]:
    """Signals at places between their samples, through a windowed sinc that passes 0.8 of the new band.

    A. V. Oppenheim, R. W. Schafer, Discrete-Time Signal Processing, chapter 4: the low-pass and the interpolation are one sum.
    """
    half = math.ceil(4 * factor)
    first = np.floor(places).astype(np.int64)
    offsets = np.arange(-half + 1, half + 1)
    away = (first[:, None] + offsets) - places[:, None]
    inside = np.abs(away) <= half
    window = np.where(inside, 0.54 + 0.46 * np.cos(np.pi * away / half), 0.0)
    weights = np.sinc(0.8 * away / factor) * window
    weights /= weights.sum(axis=1, keepdims=True)
    around = np.clip(first[:, None] + offsets, 0, signals[0].size - 1)
    return [np.asarray(np.einsum("ij,ij->i", weights, signal[around])) for signal in signals]


def _all_before(good: BoolArray, n: int) -> BoolArray:
    """Whether a sample and those before it, n in all, are good; what lies before the first one is."""
    n_bad: IntArray = np.concatenate((np.zeros(n, np.int64), np.cumsum(~good, dtype=np.int64)))
    return np.asarray(n_bad[n:] == n_bad[:-n])


def _all_near(good: BoolArray, n: int) -> BoolArray:
    """Whether a sample and n on either side are good."""
    padded = np.concatenate((good, np.ones(n, bool)))
    return _all_before(padded, 2 * n + 1)[n:]


@dataclass(frozen=True, eq=False)
class Problem:
    """Normal equations in steps of the impulse response, whose prior is independent.

    The prior covariance scale·σ²·α^max(i, j) has the root U·D: U sums up from a tap to the last one, D is
    diagonal and holds all that α and the scale change. So `gram` = UᵀRU and `cross` = Uᵀf are made once.
    """

    gram: FloatArray  # (n_blocks, n_taps, n_taps)
    cross: FloatArray  # (n_blocks, n_taps)
    power: float  # of the output
    n_rows: int

    @cached_property
    def _sums(self) -> tuple[FloatArray, FloatArray]:
        return self.gram.sum(axis=0), self.cross.sum(axis=0)

    def solve(self, alpha: float, scale: float, *, without: int | None = None, times: int = 1) -> FloatArray:
        """Posterior mean of the impulse response; one block can be left out.

        With `times` above one, the prior is put to what the last round left unexplained again (iterated Tikhonov
        regularisation; J. T. King, D. Chillingworth, Numer. Funct. Anal. Optim. 1 (1979) 499-513, from memory). The prior
        pulls energy to early times, so that one round alone reads a loop too early, by up to 0.6 ms in our own trials.
        """
        gram, cross = self._sums
        if without is not None:
            gram, cross = gram - self.gram[without], cross - self.cross[without]
        d = _prior_diagonal(alpha, scale, cross.size)
        factor = scipy.linalg.cho_factor(_with_prior(gram, d), check_finite=False)
        steps = d * scipy.linalg.cho_solve(factor, d * cross, check_finite=False)
        for _ in range(times - 1):
            steps += d * scipy.linalg.cho_solve(factor, d * (cross - gram @ steps), check_finite=False)
        return np.asarray(np.cumsum(steps[::-1])[::-1])  # U times the steps

    def best_prior(self, *, refine: bool) -> tuple[float, float]:
        """Decay α and prior scale over noise variance by marginal likelihood."""
        gram, cross = self._sums

        def prior(point: FloatArray) -> tuple[float, float]:
            # bounded: without noise the likelihood would drive the scale beyond what doubles can invert
            alpha = 1 / (1 + math.exp(-float(np.clip(point[0], 0.0, 6.5))))
            return alpha, math.exp(float(np.clip(point[1], -25.0, 4.0)))

        def cost(point: FloatArray) -> float:
            """−2 log marginal likelihood with the noise level profiled out."""
            d = _prior_diagonal(*prior(point), cross.size)
            lower = scipy.linalg.cholesky(_with_prior(gram, d), lower=True, overwrite_a=True, check_finite=False)
            explained = scipy.linalg.solve_triangular(lower, d * cross, lower=True, check_finite=False)
            rest = max(self.power - float(explained @ explained), 1e-12)
            return self.n_rows * math.log(rest / self.n_rows) + 2 * float(np.log(np.diag(lower)).sum())

        grid = [(cost(np.array([a, s])), a, s) for a in (1.5, 2.5, 3.5) for s in (-14.0, -10.0, -6.0, -2.0)]
        _, a, s = min(grid)
        if not refine:
            return prior(np.array([a, s]))
        options = {"xatol": 0.05, "fatol": 0.5, "maxfev": 60}
        return prior(scipy.optimize.minimize(cost, np.array([a, s]), method="Nelder-Mead", options=options).x)


def _with_prior(gram: FloatArray, d: FloatArray) -> FloatArray:
    """I + D·gram·D."""
    whole = gram * d
    whole *= d[:, None]
    whole.flat[:: d.size + 1] += 1.0
    return whole


def _prior_diagonal(alpha: float, scale: float, n_taps: int) -> FloatArray:
    """Standard deviations of the steps: α^k − α^(k+1), the last one α^(n−1)."""
    powers = alpha ** np.arange(n_taps, dtype=np.float64)
    return np.asarray(np.sqrt(scale * np.append(powers[:-1] - powers[1:], powers[-1])))


def whitened_problem(r: FloatArray, y: FloatArray, keep: BoolArray, n_taps: int) -> Problem:
    plain = _problem(r, y, keep, n_taps)
    impulse = plain.solve(*plain.best_prior(refine=False))
    error = y - scipy.signal.lfilter(impulse, [1.0], r)
    whitener = _ar_whitener(error, keep)
    return _problem(scipy.signal.lfilter(whitener, [1.0], r), scipy.signal.lfilter(whitener, [1.0], y), keep, n_taps)


def _ar_whitener(error: FloatArray, keep: BoolArray) -> FloatArray:
    """Coefficients (1, −a1 … −a10) that turn the fit's error into white noise, by least squares on kept rows."""
    rows = np.flatnonzero(keep)
    past = np.stack([error[rows - lag] for lag in range(1, _N_AR + 1)], axis=1)
    gram = past.T @ past
    gram[np.diag_indices_from(gram)] *= 1 + 1e-9
    return np.concatenate(([1.0], -np.linalg.solve(gram + 1e-12 * np.eye(_N_AR), past.T @ error[rows])))


def _problem(r: FloatArray, y: FloatArray, keep: BoolArray, n_taps: int) -> Problem:
    """Normal equations of the kept rows y[t] = Σ g[i]·r[t − i], by blocks of them."""
    rows = np.flatnonzero(keep)
    before = np.concatenate((np.zeros(n_taps), r))  # the set-point, silent before the log
    firsts, crosses, edges = (np.zeros((N_BLOCKS, *shape)) for shape in ((n_taps,), (n_taps,), (n_taps, n_taps)))
    for k, block in enumerate(part for part in np.array_split(rows, N_BLOCKS) if part.size):
        start, stop = int(block[0]), int(block[-1]) + 1
        own = np.zeros(stop - start, bool)
        own[block - start] = True
        firsts[k], crosses[k] = (
            np.correlate(before[start + 1 : stop + n_taps], np.where(own, values[start:stop], 0.0), "valid")[::-1]
            for values in (r, y)
        )
        edges[k] = _edge_products(before, own, start, n_taps)
    # column k of U's inputs is Σ r[t − i] over i ≤ k: sums over the taps, taken of the products
    gram = _along_diagonals(firsts, edges).cumsum(axis=1).cumsum(axis=2)
    return Problem(gram, crosses.cumsum(axis=1), float(y[rows] @ y[rows]), int(rows.size))


def _edge_products(before: FloatArray, own: BoolArray, start: int, n_taps: int) -> FloatArray:
    """What one tap more, on both sides, adds to a product of two taps: the sample before each run of rows less its last."""
    edges = np.diff(np.concatenate(([0], own.view(np.int8), [0])))
    places, signs = np.flatnonzero(edges) + start, edges[edges != 0].astype(np.float64)
    past = np.lib.stride_tricks.sliding_window_view(before, n_taps)[places][:, ::-1]  # r[t − 1 − i] of each edge t
    return np.asarray((past * signs[:, None]).T @ past)


def _along_diagonals(first_rows: FloatArray, edges: FloatArray) -> FloatArray:
    """Σ r[t − i]·r[t − j] of every block from those with i = 0: a run of rows moved by one keeps all but its ends."""
    gram = np.empty_like(edges)
    gram[:, 0] = first_rows
    for i in range(1, first_rows.shape[1]):
        gram[:, i, i:] = gram[:, i - 1, i - 1 : -1] + edges[:, i - 1, i - 1 : -1]
        gram[:, i:, i - 1] = gram[:, i - 1, i:]
    return gram
