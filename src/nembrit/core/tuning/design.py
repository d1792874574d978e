"""Choosing a chain: the least phase lag at the crossover for the noise that the motors may have."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.filters.chain import chain_response, chain_sos
from nembrit.core.filters.sections import FilterSection
from nembrit.core.filters.stated import fixed_response, whole_response
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.tuning.residual import MOTORS_FROM_HZ, Incoming, command_of, motor_weights, residual
from nembrit.core.types import ComplexArray, FloatArray

# what may be chosen; all ranges are starting values of our own, no source
_GYRO_HZ, _D_HZ = (50.0, 600.0), (35.0, 500.0)
_GRID, _ROUNDS = 28, 3
_NOTCH_QS = (2.0, 3.0, 5.0, 8.0)
_CLEAR_OF_CONTROL = 3.0  # no notch below this many crossovers
SCHOOLS = {
    "as set": "chip filter and notches unchanged, low-passes moved",
    "chip": "chip filter: low-pass in the gyro chip at 275 Hz, no motor notches",
    "software": "software filters: chip at 650 Hz, motor-tracking notches, then low-passes",
}
_LEAST_OVER_REST = 1.02  # no chain reaches the noise that filters cannot touch
_CHIP_HZ = {"chip": 275.0, "software": 650.0}
# RMS of motor commands above 60 Hz that is aimed at, share of full range; starting values of our own, no source
TARGETS = {"careful": 0.008, "usual": 0.012, "bold": 0.018}
_SIZE_IN = 5.0  # larger propellers stand less: they store more heat in slower motors


def target_for(caution: str, diameter_in: float) -> float:
    """What motor noise is aimed at, by experience and size of propeller [share of full range].

    >>> target_for("usual", 5.0), round(target_for("usual", 10.0), 4)
    (0.012, 0.0085)
    """
    return TARGETS[caution] * min(1.3, math.sqrt(_SIZE_IN / max(1.0, diameter_in)))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Task:
    """What a chain is chosen for."""

    noise: Incoming
    flown: Controller
    mixer: FloatArray
    gains: Mapping[str, AxisGains]  # real ones, SI
    crossover_hz: Mapping[str, float]  # by axis
    scale: float = 1.0  # measured over modelled motor noise of the flown chain, where the model says more than was measured
    rest_rms: float = 0.0  # measured motor noise that no filter touches: movements, and what the model does not explain
    most_lag_deg: float = math.inf  # that the loops' margins allow at the crossover
    pins: frozenset[str] = frozenset()  # "gyro", "d_term", "notches": what stays as it is
    most_notches: int = 2  # fixed ones, that the craft's settings can say

    @property
    def axis(self) -> str:
        """The axis whose crossover is highest: delay costs it most."""
        return max(self.crossover_hz, key=lambda axis: self.crossover_hz[axis])


@dataclass(frozen=True, slots=True, kw_only=True)
class Design:
    """A chain and what it is expected to do."""

    school: str
    chains: Controller
    motor_rms: float  # share of full range, above 60 Hz
    lag_deg: float  # of gyro chain and P with D at the crossover, the chip's with it
    meets_target: bool


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TradeCurve:
    """Least lag for every amount of motor noise, in one school."""

    school: str
    motor_rms: FloatArray
    lag_deg: FloatArray


def lag_of(task: Task, chains: Controller) -> float:
    """Phase lag [°] at the crossover of chip, gyro filters and the D filters' part in P with D, against none of them."""
    at = np.array([task.crossover_hz[task.axis]])
    rotor_hz = task.noise.rows.usual_rotor_hz
    gyro = fixed_response(chains.chip, at, chains.loop_rate_hz) * whole_response(chains.gyro, at, chains.loop_rate_hz, rotor_hz)
    gains = task.gains[task.axis]
    shaped, free = command_of(gains, chains, at), command_of(gains, replace(chains, d_term=()), at)
    return float(-np.degrees(np.angle(gyro * shaped / free))[0])


def motor_rms_of(task: Task, chains: Controller) -> float:
    """Motor noise behind a chain, by the model and as the flown chain's was measured [share of full range]."""
    found = residual(task.noise, task.flown, chains, mixer=task.mixer, gains=task.gains).motor_rms
    return task.scale * math.hypot(found or 0.0, task.rest_rms)


def best_chain(task: Task, target: float, school: str = "as set") -> Design:
    """The chain of one school with the least lag whose motor noise stays within the target, and whose lag the margins allow.

    The low-passes' cutoffs by a grid over both that is drawn closer three times (for a fixed set of notches the noise falls
    and the lag rises with every cutoff, so the best lies where the target is just met); then up to two notches where most
    is left, tried at four widths and kept where they allow less lag. Where even the lowest cutoffs leave too much, the
    quietest chain, told as such.
    """
    start = _school(task, school)
    target = max(target, _LEAST_OVER_REST * task.scale * task.rest_rms)
    best = _low_passes(task, target, start)
    if "notches" not in task.pins:
        for _ in range(task.most_notches - sum(one.kind == "notch" for one in start.gyro)):
            tried = [_low_passes(task, target, _with_notch(best[0], hz, q)) for hz in _peaks(task, best[0]) for q in _NOTCH_QS]
            better = min(tried, key=lambda one: (not one[3], one[2]), default=best)
            if (not better[3], better[2]) >= (not best[3], best[2] - 0.05):
                break
            best = better
    chains, rms, lag, meets = best
    return Design(school=school, chains=chains, motor_rms=rms, lag_deg=lag, meets_target=meets)


def trade_curve(task: Task, school: str, n_points: int = 15) -> TradeCurve:
    """Least lag over motor noise, both low-passes free, from the same grid."""
    start = _school(task, school)
    grid = _Grid(task, start, _axis(_GYRO_HZ), _axis(_D_HZ))
    order = np.argsort(grid.rms.ravel())
    rms, lag = grid.rms.ravel()[order], np.minimum.accumulate(grid.lag.ravel()[order])
    wanted = np.geomspace(rms[0] * 1.001, rms[-1], n_points)
    keep = np.unique(np.searchsorted(rms, wanted, side="right") - 1)
    return TradeCurve(school=school, motor_rms=rms[keep], lag_deg=lag[keep])


def _school(task: Task, school: str) -> Controller:
    """The flown chains without what the school leaves out, and with what it wants."""
    flown = task.flown
    if school == "as set":
        return flown
    chip = (Filter(kind="lowpass_2", frequency_hz=_CHIP_HZ[school]),)
    others = tuple(one for one in flown.gyro if one.kind not in ("rotor_notch", "notch"))
    if school == "software" and task.noise.rows.rotor_hz.shape[1]:
        known = next((one for one in flown.gyro if one.kind == "rotor_notch"), None)
        others += (known or Filter(kind="rotor_notch", frequency_hz=70.0, q=4.0, orders=(1, 2), blend_hz=20.0),)
    return replace(flown, chip=chip, gyro=others)


Tried = tuple[Controller, float, float, bool]  # chain, motor noise, lag, whether the target is met


def _low_passes(task: Task, target: float, start: Controller) -> Tried:
    gyro_hz, d_hz = _axis(_GYRO_HZ), _axis(_D_HZ)
    if "gyro" in task.pins:
        gyro_hz = np.array([_cutoff(start.gyro)])
    if "d_term" in task.pins:
        d_hz = np.array([_cutoff(start.d_term)])
    for _ in range(_ROUNDS):
        grid = _Grid(task, start, gyro_hz, d_hz)
        within = grid.lag <= task.most_lag_deg
        allowed = (grid.rms <= target) & within
        meets = bool(allowed.any())
        # where not both can be had, stability goes first: the quietest that the margins allow, else the earliest
        otherwise = np.where(within, grid.rms, np.inf) if within.any() else grid.lag
        k, m = np.unravel_index(int(np.argmin(np.where(allowed, grid.lag, np.inf) if meets else otherwise)), grid.rms.shape)
        best = (grid.chain(int(k), int(m)), float(grid.rms[k, m]), float(grid.lag[k, m]), meets)
        gyro_hz, d_hz = _closer(gyro_hz, int(k)), _closer(d_hz, int(m))
    return best


def _axis(ends: tuple[float, float]) -> FloatArray:
    return np.asarray(np.append(np.geomspace(*ends, _GRID), np.inf))  # the last one: off


def _closer(values: FloatArray, at: int) -> FloatArray:
    """A finer grid between the neighbours of the best; off stays off."""
    if values.size == 1 or not math.isfinite(values[at]):
        return values[at : at + 1]
    low, high = values[max(0, at - 1)], values[min(values.size - 1, at + 1)]
    if not math.isfinite(high):
        return np.append(np.geomspace(low, values[at], _GRID // 2), np.inf)
    return np.asarray(np.geomspace(low, high, _GRID // 2))


def _cutoff(filters: Sequence[Filter]) -> float:
    return next((one.frequency_hz for one in filters if one.kind == "lowpass_2"), math.inf)


class _Grid:
    """Motor noise and lag for every pair of cutoffs of the gyro's and the D term's second-order low-pass."""

    def __init__(self, task: Task, start: Controller, gyro_hz: FloatArray, d_hz: FloatArray) -> None:
        self._start, self._gyro_hz, self._d_hz = start, gyro_hz, d_hz
        rest = replace(start, gyro=tuple(one for one in start.gyro if one.kind != "lowpass_2"))
        left = residual(task.noise, task.flown, rest, mixer=task.mixer, gains={})
        hz, use = left.frequency_hz, left.frequency_hz >= MOTORS_FROM_HZ
        bin_hz = float(hz[1] - hz[0])
        at = np.array([task.crossover_hz[task.axis]])
        places = np.concatenate((hz[use], at))
        rate_hz = start.loop_rate_hz
        gyro = np.stack([_low_pass(cutoff, places, rate_hz) for cutoff in gyro_hz])
        d_part = np.stack([_low_pass(cutoff, places, rate_hz) for cutoff in d_hz])
        d_rest = fixed_response([one for one in start.d_term if one.kind != "lowpass_2"], places, rate_hz)
        slope = (1 - np.exp(-2j * np.pi * places / rate_hz)) * rate_hz
        weights = motor_weights(task.mixer)
        power = np.zeros((gyro_hz.size, d_hz.size))
        for axis, density in left.density.items():
            gains = task.gains.get(axis)
            if gains is None:
                continue
            command = np.abs(gains.p + gains.d * slope[:-1] * d_rest[:-1] * d_part[:, :-1]) ** 2
            power += weights[axis] * bin_hz * (np.abs(gyro[:, :-1]) ** 2 * density[use]) @ command.T
        self.rms = task.scale * np.sqrt(power + task.rest_rms**2)
        own = task.gains[task.axis]
        turned = np.angle((own.p + own.d * slope[-1] * d_rest[-1] * d_part[:, -1]) / (own.p + own.d * slope[-1]))
        others = lag_of(task, replace(rest, d_term=()))
        self.lag = others - np.degrees(np.angle(gyro[:, -1])[:, None] + turned[None, :])

    def chain(self, k: int, m: int) -> Controller:
        """The chain of one pair of cutoffs."""
        gyro = _exchanged(self._start.gyro, float(self._gyro_hz[k]))
        return replace(self._start, gyro=gyro, d_term=_exchanged(self._start.d_term, float(self._d_hz[m])))


def _low_pass(cutoff_hz: float, frequency_hz: FloatArray, rate_hz: float) -> ComplexArray:
    if not math.isfinite(cutoff_hz) or cutoff_hz >= 0.49 * rate_hz:
        return np.ones(frequency_hz.size, np.complex128)
    sos = chain_sos([FilterSection(kind="lowpass_2", frequency_hz=cutoff_hz)], sample_rate_hz=rate_hz)
    return chain_response(sos, frequency_hz, sample_rate_hz=rate_hz)


def _exchanged(filters: Sequence[Filter], cutoff_hz: float) -> tuple[Filter, ...]:
    others = tuple(one for one in filters if one.kind != "lowpass_2")
    return others if not math.isfinite(cutoff_hz) else (Filter(kind="lowpass_2", frequency_hz=round(cutoff_hz, 1)), *others)


def _with_notch(chains: Controller, centre_hz: float, q: float) -> Controller:
    return replace(chains, gyro=(*chains.gyro, Filter(kind="notch", frequency_hz=round(centre_hz, 1), q=q)))


def _peaks(task: Task, chains: Controller) -> list[float]:
    """Up to two frequencies at which most of the motor noise is left, clear of control and of notches that are there."""
    found = residual(task.noise, task.flown, chains, mixer=task.mixer, gains=task.gains)
    hz, weights = found.frequency_hz, motor_weights(task.mixer)
    made = sum(
        weights[axis] * np.abs(command_of(task.gains[axis], chains, hz)) ** 2 * density
        for axis, density in found.density.items()
        if axis in task.gains
    )
    lowest = max(MOTORS_FROM_HZ, _CLEAR_OF_CONTROL * task.crossover_hz[task.axis])
    free = (hz >= lowest) & (hz < 0.4 * chains.loop_rate_hz)
    for one in chains.gyro:
        if one.kind == "notch":
            free &= np.abs(hz - one.frequency_hz) > one.frequency_hz / one.q
    peaks: list[float] = []
    for _ in range(2):
        if not free.any():
            break
        top = float(hz[int(np.argmax(np.where(free, made, 0.0)))])
        peaks.append(top)
        free &= np.abs(hz - top) > 20.0
    return peaks
