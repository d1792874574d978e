"""How a plane's rates follow what is wanted, at the 50 to 200 Hz that its recorders write; margins cannot be told from these."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy.linalg
import scipy.optimize
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import BoolArray, FloatArray, IntArray

RATE_HZ = 50.0
_TAPS, _ALPHA = 60, 0.9  # of 20 ms: 1.2 s
_AR, _PASSES, _HIGH_HZ, _PLANT_HIGH_HZ = 6, 3, 0.1, 0.15
_SCALES = tuple(10.0**power for power in np.arange(-5.0, 1.01, 0.5))
_BLOCKS, _MOST_S, _STRETCH_S = 8, 240.0, 5.0
_LEAST_S, _LEAST_DPS, _LEAST_SHARE = 25.0, 6.0, 0.01
_LEVEL_S, _PEAK_S = 0.5, 1.0
_NO_MARGINS = (
    "margins are not told: P and I give less than a fifth of what the servo does, and nothing above 4 Hz is seen at this rate"
)

Told = tuple[float, tuple[float, float]]  # a number and its interval of 95 %


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RateResponse:
    """One axis: wanted rate → gyro as a step, and surface → gyro; each number with its 95 % interval."""

    t_s: FloatArray
    step: FloatArray  # share of the step, shape (60,)
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
    deflection: FloatArray | None = None, airspeed_m_s: FloatArray | None = None,
) -> RateResponse:  # fmt: skip
    """The rate response of one axis from lively flying.

    Parameters
    ----------
    wanted_dps, gyro_dps : shape (n,), NaN marks gaps
    usable : where the controller followed the wanted rate (not manual), shape (n,)
    deflection : of the surface as share of full, the right way round; None: the plane itself is not asked about
    airspeed_m_s : scales the surface's effect; None: taken as constant

    Raises
    ------
    NotEnoughData : below 25 s of use or 6 deg/s RMS of wanted rate.

    Notes
    -----
    Step: regularised impulse response of 1.2 s with the prior c·0.9^max(i, j) per 20 ms (Chen, Ohlsson, Ljung, Automatica 48
    (2012) 1525-1535), three prewhitening passes AR(6), both signals above 0.1 Hz; the ratio is not 1 at rest and is not made so.
    Surface: output error K/(1 + sτ)·e^(−sT), above 0.15 Hz (Ljung, System Identification); τ and T trade off, so that their sum
    is told. Intervals by leaving out an eighth of the flight at a time. Errors on simulated flights (nine in ten): delay 12 ms,
    peak 5 points, level 4, K 5 %, τ + T 14 ms.
    """
    step_n = max(1, round(sample_rate_hz / RATE_HZ))
    rate_hz = sample_rate_hz / step_n
    n = wanted_dps.size // step_n

    def thin(values: FloatArray) -> FloatArray:
        return np.asarray(values[: n * step_n].reshape(n, step_n).mean(axis=1))

    wanted, gyro = thin(wanted_dps), thin(gyro_dps)
    good = usable[: n * step_n].reshape(n, step_n).all(axis=1) & np.isfinite(wanted) & np.isfinite(gyro)
    seconds = float(good.sum() / rate_hz)
    if seconds < _LEAST_S:
        raise NotEnoughData(f"only {seconds:.0f} s where {axis} followed a wanted rate: fly lively for half a minute at least")
    moved = float(np.std(wanted[good]))
    if moved < _LEAST_DPS:
        raise NotEnoughData(f"{axis} was hardly asked to move ({moved:.1f} deg/s RMS): fly the card “Full holds”, or lively")
    filled = [np.where(good, values, 0.0) for values in (wanted, gyro)]
    steps = _steps(filled[0], filled[1], good, rate_hz)
    t_s: FloatArray = np.asarray((np.arange(_TAPS) + 0.5) / rate_hz, dtype=np.float64)
    plant = None if deflection is None else _plant_of(
        thin(deflection), gyro, good, rate_hz, None if airspeed_m_s is None else thin(airspeed_m_s)
    )  # fmt: skip
    forward = None
    if plant is not None and deflection is not None:
        share = _forward(thin(deflection), wanted, gyro, good, rate_hz)
        gain, (low, high) = plant[0]
        forward = None if share is None else (share * gain, (share * low, share * high))
    return RateResponse(
        t_s=t_s, step=steps[0], seconds=seconds,
        delay_s=_told(steps, lambda own: _delay(t_s, own)), peak_ratio=_told(steps, lambda own: float(own[t_s <= _PEAK_S].max())),
        level_ratio=None if axis == "pitch" else _told(steps, lambda own: float(np.interp(_LEVEL_S, t_s, own))),
        effectiveness_dps=plant[0] if plant else None, lag_s=plant[1] if plant else None, forward_ratio=forward,
    )  # fmt: skip


def _block_of(n: int) -> IntArray:
    return np.arange(n) * _BLOCKS // n


def _told(fits: list[FloatArray], read: Callable[[FloatArray], float]) -> Told:
    whole, parts = read(fits[0]), np.array([read(own) for own in fits[1:]])
    parts = parts[np.isfinite(parts)]
    error = math.sqrt((_BLOCKS - 1) / _BLOCKS * float(((parts - parts.mean()) ** 2).sum())) if parts.size > 1 else math.inf
    return whole, (whole - 2.36 * error, whole + 2.36 * error)  # Student's t of seven degrees of freedom


def _spread(rows: BoolArray, rate_hz: float) -> BoolArray:
    """At most four minutes of rows, in stretches of 5 s spread over the flight."""
    share = float(rows.sum()) / (_MOST_S * rate_hz)
    if share <= 1:
        return rows
    stretch = np.arange(rows.size) // max(1, round(_STRETCH_S * rate_hz))
    return rows & (np.floor((stretch + 1) / share) > np.floor(stretch / share))


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
    rows = _spread(rows, rate_hz)
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


def _plant_of(
    deflection: FloatArray, gyro: FloatArray, good: BoolArray, rate_hz: float, airspeed: FloatArray | None
) -> tuple[Told, Told] | None:
    usable = good & np.isfinite(deflection)
    speed = np.ones(gyro.size) if airspeed is None else airspeed
    usable &= np.isfinite(speed)
    if usable.sum() < _LEAST_S * rate_hz or float(np.std(deflection[usable])) < _LEAST_SHARE:
        return None
    scaled = np.where(usable, deflection * speed / float(np.mean(speed[usable])), 0.0)
    high = scipy.signal.butter(1, _PLANT_HIGH_HZ, "highpass", fs=rate_hz)
    u, y = (scipy.signal.lfilter(*high, values) for values in (scaled, np.where(usable, gyro, 0.0)))
    rows = _spread(usable, rate_hz)
    start = _plant(u, y, rows, rate_hz, np.array([0.08, 0.04]))
    blocks = _block_of(gyro.size)
    fits = [start, *(_plant(u, y, rows & (blocks != block), rate_hz, start[1:]) for block in range(_BLOCKS))]
    return _told(fits, lambda own: float(own[0])), _told(fits, lambda own: float(own[1] + own[2]))


def _plant(u: FloatArray, y: FloatArray, rows: BoolArray, rate_hz: float, start: FloatArray) -> FloatArray:
    """K, τ and T of least output error; K follows from the two others."""
    places = np.flatnonzero(rows)
    t = np.arange(u.size) / rate_hz

    def shaped(lag_s: float, dead_s: float) -> FloatArray:
        keep = math.exp(-1 / (rate_hz * max(lag_s, 1e-3)))
        return np.asarray(scipy.signal.lfilter([1 - keep], [1, -keep], np.interp(t - dead_s, t, u))[places])

    def miss(point: FloatArray) -> float:
        lag_s, dead_s = abs(float(point[0])), abs(float(point[1]))
        x = shaped(lag_s, dead_s)
        power = float(x @ x)
        return float(y[places] @ y[places]) - (float(x @ y[places]) ** 2 / power if power > 0 else 0.0)

    options = {"xatol": 1e-3, "fatol": 1e-3, "maxfev": 80}
    best = scipy.optimize.minimize(miss, np.maximum(start, 5e-3), method="Nelder-Mead", options=options)
    lag_s, dead_s = (abs(float(value)) for value in best.x)
    x = shaped(lag_s, dead_s)
    return np.array([float(x @ y[places]) / float(x @ x), lag_s, dead_s])


def _forward(deflection: FloatArray, wanted: FloatArray, gyro: FloatArray, good: BoolArray, rate_hz: float) -> float | None:
    """Share of full deflection per deg/s of wanted rate that was flown, beside what its error and their sum ask for."""
    rows = good & np.isfinite(deflection)
    error = np.where(good, wanted - gyro, 0.0)
    design = np.column_stack([wanted, error, np.cumsum(error) / rate_hz, np.ones(wanted.size)])[rows]
    solved, *_ = np.linalg.lstsq(design, deflection[rows], rcond=None)
    return float(solved[0]) if solved[0] > 0 else None
