"""How a plane's rates follow what is wanted, at the 50 to 200 Hz that its recorders write; margins cannot be told from these."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import scipy.linalg
import scipy.optimize
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.spectra.spread import spread
from nembrit.core.types import BoolArray, FloatArray, IntArray

RATE_HZ = 50.0
_TAPS, _ALPHA = 60, 0.9  # of 20 ms: 1.2 s
_AR, _PASSES, _HIGH_HZ, _PLANT_HIGH_HZ, _FORWARD_HIGH_HZ = 6, 3, 0.1, 0.15, 0.3
_SCALES = tuple(10.0**power for power in np.arange(-5.0, 1.01, 0.5))
_BLOCKS, _MOST_S = 8, 240.0
_LEAST_S, _LEAST_DPS, _LEAST_SHARE = 25.0, 6.0, 0.01
_LEAST_HZ = 40.0
_LEVEL_S, _PEAK_S = 0.5, 1.0
_FORWARD_OFF, _FORWARD_FITS = 0.15, 0.25
# sideslip and adverse yaw take a part of what a surface does: one lag and a delay came out at 0.935 ± 0.03 of the rate that a
# feed-forward is asked for, in either of two simulated worlds; a share has what its regression leaves out besides
_SLIPS, _MODEL_RATIO, _SHARE_RATIO = 0.935, 0.06, 0.10
_INSTRUMENT_S, _INSTRUMENT_STEP_S = 1.2, 0.06
_POWERS = (0, 1, 2)  # of one over airspeed, in a feed-forward
_NO_MARGINS = (
    "margins could not be measured: P and I are less than a fifth of the servo command, and this rate shows nothing above 4 Hz"
)

Told = tuple[float, tuple[float, float]]  # a number and its interval of 95 %


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RateResponse:
    """One axis: wanted rate → gyro as a step, and surface → gyro; each number with its 95 % interval."""

    t_s: FloatArray
    step: FloatArray  # response to a unit step, shape (60,)
    delay_s: Told  # to half of the step
    peak_ratio: Told  # within a second
    level_ratio: Told | None  # after half a second; None for pitch, where it comes out high
    effectiveness_dps: Told | None  # of full deflection, at the mean airspeed
    lag_s: Told | None  # lag and dead time of servo and plane together
    forward_ratio: Told | None  # feed-forward that was flown over what the surface needs
    seconds: float
    no_margins: str = _NO_MARGINS


def rate_response(
    axis: str, wanted_dps: FloatArray, gyro_dps: FloatArray, *, sample_rate_hz: float, usable: BoolArray,
    deflection: FloatArray | None = None, airspeed_m_s: FloatArray | None = None, instruments: Sequence[FloatArray] = (),
) -> RateResponse:  # fmt: skip
    """The rate response of one axis from lively flying.

    Parameters
    ----------
    wanted_dps, gyro_dps : shape (n,), NaN marks gaps
    usable : where the controller followed the wanted rate (not manual), shape (n,)
    deflection : of the surface as share of full, the right way round; None: the plane itself is not asked about
    airspeed_m_s : scales the surface's effect; None: taken as constant
    instruments : what was asked for from outside the loop (stick, wanted bank), shape (n,) each; none: the fit is a plain one

    Raises
    ------
    NotEnoughData : below 40 Hz, 25 s of use or 6 deg/s RMS of wanted rate.

    Notes
    -----
    Step: regularised impulse response of 1.2 s with the prior c·0.9^max(i, j) per 20 ms (Chen, Ohlsson, Ljung, Automatica 48
    (2012) 1525-1535), three prewhitening passes AR(6), both signals above 0.1 Hz; the ratio is not 1 at rest and is not made so.
    Surface: output error K/(1 + sτ)·e^(−sT), above 0.15 Hz (Ljung, System Identification), with what was asked for as instrument;
    τ and T trade off, so that their sum is told. Feed-forward: regression beside the error and its integral. Intervals by
    leaving out an eighth of the flight at a time. Errors on simulated flights (nine in ten): delay 12 ms,
    peak 5 points, level 4, K 5 %, τ + T 14 ms.
    """
    if sample_rate_hz < _LEAST_HZ:
        raise NotEnoughData(f"logged at {sample_rate_hz:.0f} Hz: how rates follow needs 50 Hz; raise the log rate")
    rate_hz = RATE_HZ
    n = int(wanted_dps.size * rate_hz / sample_rate_hz + 1e-9)
    edges = np.minimum(np.arange(n + 1) * sample_rate_hz / rate_hz, wanted_dps.size)

    def thin(values: FloatArray) -> FloatArray:
        """Means of every 20 ms, whatever the log's rate; not-a-number where a sample is missing."""
        whole = np.isfinite(values)
        sums, missing = (
            np.diff(np.interp(edges, np.arange(values.size + 1), np.concatenate(([0.0], np.cumsum(part)))))
            for part in (np.where(whole, values, 0.0), ~whole)
        )
        return np.asarray(np.where(missing > 1e-9, np.nan, sums / np.diff(edges)))

    wanted, gyro = thin(wanted_dps), thin(gyro_dps)
    good = (thin(usable.astype(np.float64)) > 1 - 1e-9) & np.isfinite(wanted) & np.isfinite(gyro)
    seconds = float(good.sum() / rate_hz)
    if seconds < _LEAST_S:
        raise NotEnoughData(
            f"only {seconds:.0f} s of {axis} following a wanted rate: fly quick movements for at least half a minute"
        )
    lively = float(np.std(wanted[good]))
    if lively < _LEAST_DPS:
        raise NotEnoughData(
            f"{axis} was hardly commanded ({lively:.1f} deg/s RMS): fly the card “Full holds”, or quick movements"
        )
    filled = [np.where(good, values, 0.0) for values in (wanted, gyro)]
    steps = _steps(filled[0], filled[1], good, rate_hz)
    t_s: FloatArray = np.asarray((np.arange(_TAPS) + 0.5) / rate_hz, dtype=np.float64)
    moved = None if deflection is None or axis == "pitch" else thin(deflection)  # pitch is no first-order answer
    speed: FloatArray = np.ones(n) if airspeed_m_s is None else np.maximum(thin(airspeed_m_s), 1.0)
    asked = [thin(np.where(np.isfinite(one), one, 0.0)) for one in instruments]
    plants = None if moved is None else _plants(moved, gyro, good & np.isfinite(speed), rate_hz, speed, asked)
    shares = None
    if moved is not None and plants is not None:
        slow = float(np.nanmean(speed[good])) / speed
        shares = _forwards(moved, wanted, gyro, slow, good, rate_hz)
    return RateResponse(
        t_s=t_s, step=steps[0], seconds=seconds,
        delay_s=_told(steps, lambda own: _delay(t_s, own)), peak_ratio=_told(steps, lambda own: float(own[t_s <= _PEAK_S].max())),
        level_ratio=None if axis == "pitch" else _told(steps, lambda own: float(np.interp(_LEVEL_S, t_s, own))),
        effectiveness_dps=_told(plants, lambda own: float(own[0]), model_ratio=_MODEL_RATIO) if plants else None,
        lag_s=_told(plants, lambda own: float(own[1] + own[2])) if plants else None,
        forward_ratio=_told(
            [a[:1] * b for a, b in zip(plants, shares, strict=True)], lambda own: float(own[0]) / _SLIPS, model_ratio=_SHARE_RATIO
        )
        if plants and shares and shares[0][0] > 0
        else None,
    )  # fmt: skip


def _block_of(n: int) -> IntArray:
    return np.arange(n) * _BLOCKS // n


def forward_word(told: Told) -> str:
    """“low” or “high” where the whole interval lies more than 0.15 from one, “fits” where all of it lies within 0.25, else “open”
    (starting values, no source).
    """
    _, (low, high) = told
    if high < 1 - _FORWARD_OFF:
        return "low"
    if low > 1 + _FORWARD_OFF:
        return "high"
    return "fits" if low > 1 - _FORWARD_FITS and high < 1 + _FORWARD_FITS else "open"


def _told(fits: list[FloatArray], read: Callable[[FloatArray], float], *, model_ratio: float = 0.0) -> Told:
    whole, parts = read(fits[0]), np.array([read(own) for own in fits[1:]])
    parts = parts[np.isfinite(parts)]
    error = math.sqrt((_BLOCKS - 1) / _BLOCKS * float(((parts - parts.mean()) ** 2).sum())) if parts.size > 1 else math.inf
    half = math.hypot(2.36 * error, model_ratio * whole)  # Student's t of seven degrees of freedom
    return whole, (whole - half, whole + half)


@dataclass(frozen=True, slots=True, eq=False)
class _Normal:
    """Normal equations by block."""

    gram: FloatArray  # (blocks, taps, taps)
    cross: FloatArray  # (blocks, taps)
    power: float
    n_rows: int


def _steps(wanted: FloatArray, gyro: FloatArray, good: BoolArray, rate_hz: float) -> list[FloatArray]:
    """The step over everything, then without each block; whitened once, over everything."""
    high = scipy.signal.butter(1, _HIGH_HZ, "highpass", fs=rate_hz)
    r, y = (scipy.signal.lfilter(*high, values) for values in (wanted, gyro))
    rows = good.copy()
    rows[: _TAPS + _AR] = False
    rows = spread(rows, rate_hz, most_s=_MOST_S)
    normal = _normal(r, y, rows)
    scale = _best_scale(normal)
    for _ in range(_PASSES):
        impulse = _solved(normal, scale)
        whitener = _whitener(y - scipy.signal.lfilter(impulse, [1.0], r), rows)
        white = [scipy.signal.lfilter(whitener, [1.0], values) for values in (r, y)]
        normal = _normal(white[0], white[1], rows)
        scale = _best_scale(normal)
    return [np.asarray(np.cumsum(_solved(normal, scale, without=block))) for block in (None, *range(_BLOCKS))]


def _normal(r: FloatArray, y: FloatArray, rows: BoolArray) -> _Normal:
    windows = np.lib.stride_tricks.sliding_window_view(np.concatenate((np.zeros(_TAPS - 1), r)), _TAPS)
    blocks, gram, cross = _block_of(r.size), [], []
    for block in range(_BLOCKS):
        places = np.flatnonzero(rows & (blocks == block))
        own = windows[places][:, ::-1]
        gram.append(own.T @ own)
        cross.append(own.T @ y[places])
    return _Normal(np.array(gram), np.array(cross), float(y[rows] @ y[rows]), int(rows.sum()))


_PRIOR_ROOT = np.linalg.cholesky(_ALPHA ** np.maximum.outer(np.arange(_TAPS), np.arange(_TAPS)) + 1e-12 * np.eye(_TAPS))


def _best_scale(normal: _Normal) -> float:
    """Size of the prior over the noise by marginal likelihood, over a grid."""
    inner = _PRIOR_ROOT.T @ normal.gram.sum(axis=0) @ _PRIOR_ROOT
    reached = _PRIOR_ROOT.T @ normal.cross.sum(axis=0)

    def cost(scale: float) -> float:
        lower = np.linalg.cholesky(np.eye(_TAPS) + scale * inner)
        explained = scipy.linalg.solve_triangular(lower, math.sqrt(scale) * reached, lower=True)
        rest = max(normal.power - float(explained @ explained), 1e-9)
        return float(normal.n_rows * math.log(rest) + 2 * float(np.log(np.diag(lower)).sum()))

    return float(min(_SCALES, key=cost))


def _solved(normal: _Normal, scale: float, *, without: int | None = None) -> FloatArray:
    """Posterior mean of the taps; one block can be left out."""
    gram, cross = normal.gram.sum(axis=0), normal.cross.sum(axis=0)
    if without is not None:
        gram, cross = gram - normal.gram[without], cross - normal.cross[without]
    inner = _PRIOR_ROOT.T @ gram @ _PRIOR_ROOT
    return np.asarray(_PRIOR_ROOT @ np.linalg.solve(np.eye(_TAPS) + scale * inner, scale * (_PRIOR_ROOT.T @ cross)))


def _whitener(error: FloatArray, rows: BoolArray) -> FloatArray:
    places = np.flatnonzero(rows)
    past = np.stack([error[places - lag] for lag in range(1, _AR + 1)], axis=1)
    gram = past.T @ past + 1e-9 * np.eye(_AR)
    return np.concatenate(([1.0], -np.linalg.solve(gram, past.T @ error[places])))


def _delay(t_s: FloatArray, step: FloatArray) -> float:
    """When half of the step is reached; NaN where it never is."""
    above = np.flatnonzero(step >= 0.5)
    if not above.size:
        return math.nan
    k = int(above[0])
    if k == 0:
        return float(t_s[0] * 0.5 / max(step[0], 1e-9))
    return float(np.interp(0.5, step[k - 1 : k + 1], t_s[k - 1 : k + 1]))


def _plants(
    deflection: FloatArray, gyro: FloatArray, good: BoolArray, rate_hz: float, speed: FloatArray,
    instruments: Sequence[FloatArray],
) -> list[FloatArray] | None:  # fmt: skip
    """K, τ and T over everything, then without each block; None where the surface hardly moved."""
    usable = good & np.isfinite(deflection)
    if usable.sum() < _LEAST_S * rate_hz or float(np.std(deflection[usable])) < _LEAST_SHARE:
        return None
    scaled = np.where(usable, deflection * speed / float(np.mean(speed[usable])), 0.0)
    high = scipy.signal.butter(1, _PLANT_HIGH_HZ, "highpass", fs=rate_hz)
    u, y, *asked = (
        scipy.signal.lfilter(*high, values)
        for values in (
            scaled,
            np.where(usable, gyro, 0.0),
            *(np.where(usable & np.isfinite(one), one, 0.0) for one in instruments),
        )
    )
    lags = _lagged(asked, rate_hz)
    rows = spread(usable, rate_hz, most_s=_MOST_S)
    start = _plant(u, y, lags, rows, rate_hz, np.array([0.08, 0.04]))
    blocks = _block_of(gyro.size)
    return [start, *(_plant(u, y, lags, rows & (blocks != block), rate_hz, start[1:]) for block in range(_BLOCKS))]


def _lagged(asked: Sequence[FloatArray], rate_hz: float) -> FloatArray | None:
    """What was asked for, at lags of 60 ms up to 1.2 s, shape (n, lags); None where nothing was asked that the gusts did not."""
    moving = [own for own in asked if float(np.std(own)) > 1e-9]
    if not moving:
        return None
    steps = np.arange(0, round(_INSTRUMENT_S * rate_hz), round(_INSTRUMENT_STEP_S * rate_hz))
    return np.column_stack([np.concatenate((np.zeros(step), own[: own.size - step])) for own in moving for step in steps])


def _plant(
    u: FloatArray, y: FloatArray, lags: FloatArray | None, rows: BoolArray, rate_hz: float, start: FloatArray
) -> FloatArray:
    """K, τ and T of least output error, of the part of it that what was asked for explains; K follows from the two others.

    The controller answers gusts with the surface, so that a plain fit takes the answer for the cause. What the pilot or the
    navigation asked for knows nothing of gusts: nonlinear two-stage least squares with it as instrument (Amemiya, J. Econometrics
    2 (1974) 105-110).
    """
    places = np.flatnonzero(rows)
    t = np.arange(u.size) / rate_hz
    basis = None if lags is None else np.linalg.qr(lags[places])[0]

    def seen(values: FloatArray) -> FloatArray:
        return values if basis is None else np.asarray(basis.T @ values)

    def shaped(lag_s: float, dead_s: float) -> FloatArray:
        keep = math.exp(-1 / (rate_hz * max(lag_s, 1e-3)))
        return seen(np.asarray(scipy.signal.lfilter([1 - keep], [1, -keep], np.interp(t - dead_s, t, u))[places]))

    target = seen(y[places])
    whole = float(target @ target)

    def miss(point: FloatArray) -> float:
        x = shaped(abs(float(point[0])), abs(float(point[1])))
        power = float(x @ x)
        return whole - (float(x @ target) ** 2 / power if power > 0 else 0.0)

    options = {"xatol": 1e-3, "fatol": 1e-6 * max(whole, 1e-9), "maxfev": 80}
    best = scipy.optimize.minimize(miss, np.maximum(start, 5e-3), method="Nelder-Mead", options=options)
    lag_s, dead_s = (abs(float(value)) for value in best.x)
    x = shaped(lag_s, dead_s)
    return np.array([float(x @ target) / max(float(x @ x), 1e-12), lag_s, dead_s])


def _forwards(
    deflection: FloatArray, wanted: FloatArray, gyro: FloatArray, slow: FloatArray, good: BoolArray, rate_hz: float
) -> list[FloatArray]:
    """Share of full deflection per deg/s of wanted rate, at the mean airspeed, beside what the error and its integral ask for;
    with each block. How the feed-forward goes with airspeed (not, as one over it, or over its square) is chosen by what is left.
    """
    rows = good & np.isfinite(deflection) & np.isfinite(slow)
    high = scipy.signal.butter(2, _FORWARD_HIGH_HZ, "highpass", fs=rate_hz)

    def above(values: FloatArray) -> FloatArray:
        return np.asarray(scipy.signal.lfilter(*high, values))

    missed = np.where(rows, wanted - gyro, 0.0)
    error, held, moved = above(missed), above(np.cumsum(missed) / rate_hz), above(np.where(rows, deflection, 0.0))
    columns = min(
        (np.column_stack([above(np.where(rows, wanted * slow**power, 0.0)), error, held]) for power in _POWERS),
        key=lambda own: _left(own[rows], moved[rows]),
    )
    blocks, found = _block_of(wanted.size), []
    for block in (None, *range(_BLOCKS)):
        own = rows if block is None else rows & (blocks != block)
        solved, *_ = np.linalg.lstsq(columns[own], moved[own], rcond=None)
        found.append(np.asarray(solved[:1]))
    return found


def _left(columns: FloatArray, target: FloatArray) -> float:
    solved, *_ = np.linalg.lstsq(columns, target, rcond=None)
    return float(np.sum((target - columns @ solved) ** 2))
