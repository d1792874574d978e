"""The fastest gains within limits, one step of a flight at a time."""

import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.edge import NEAR_PEAK, SOUND_PEAK, surely_beyond
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.step import StepResponse
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.whatif import Change, Predicted, predicted

_N_RATIOS = 7
_DAMPING_STEPS = 5
_MOST_BACK = 0.79  # of P in one flight
_CONSERVATIVE_PEAK = 1.5  # by the upper end (our own, no source)
# limits by experience: sensitivity peak, overshoot, most that a gain may move in one flight (starting values, no source)
CAUTIONS = {"careful": (1.4, 0.08, 1.15), "usual": (SOUND_PEAK, 0.10, 1.25), "bold": (1.75, 0.14, 1.4)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What gains must keep to; a sensitivity peak and an overshoot by the upper ends of their intervals."""

    sensitivity_peak: float
    overshoot_ratio: float
    most_step: float  # a gain may move to this many times its flown value in one flight, or to one over it
    motor_ratio: float = 1.0  # motor noise, as a ratio to the flown one


def limits_for(caution: str, motor_ratio: float) -> Limits:
    peak, overshoot, step = CAUTIONS[caution]
    return Limits(sensitivity_peak=peak, overshoot_ratio=overshoot, most_step=step, motor_ratio=motor_ratio)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BestGains:
    """Ratios to the flown gains of one axis, what they are expected to do, and what kept them from more."""

    p: float
    d: float
    predicted: Predicted
    bound_by: str
    breaks: str  # the limit that the flown gains pass, so that they are led back; empty where they pass none
    left_open: str  # the number that the flight leaves so open that gains stay as flown; mostly empty
    is_change: bool  # less than a thirtieth is none


def best_gains(
    found: AxisLoop, axis: str, limits: Limits, *, motor_ratio: Callable[[float, float], float], flown: Controller | None = None,
    step: StepResponse | None = None, widened: float = 1.0,
) -> BestGains:  # fmt: skip
    """P and D of one axis for the shortest rise within the limits, I and feed-forward as they are.

    All pairs on a grid within one flight's step. The upper ends of the intervals count, so that what is uncertain starts
    low. `motor_ratio(p, d)` is the motor noise with these ratios over the flown one. Where the flown gains break a limit
    and no step mends it, the pair that breaks it least. What bound: the limit that the next larger step of P would pass.
    A flight that leaves open whether the flown gains keep to the sensitivity peak moves none.
    """
    has_d = "d" in found.gains
    p_ratios = np.geomspace(1 / limits.most_step, limits.most_step, _N_RATIOS)
    d_ratios = np.geomspace(1 / limits.most_step, limits.most_step, _DAMPING_STEPS) if has_d else np.ones(1)

    def tried(p: float, d: float) -> tuple[Predicted, dict[str, float]]:
        one = predicted(found, axis, Change(gains={axis: {"p": p, "d": d}}), flown=flown, step=step, widened=widened)
        return one, _excess(one, kept, motor_ratio(p, d), is_of_damping=True)

    as_flown = predicted(found, axis, Change(), flown=flown, step=step, widened=widened)
    if is_open := left_open(found, limits):
        return BestGains(p=1.0, d=1.0, predicted=as_flown, bound_by=is_open, breaks="", left_open=is_open, is_change=False)
    kept = _allowing(limits, as_flown)
    every = {(float(p), float(d)): tried(float(p), float(d)) for p, d in itertools.product(p_ratios, d_ratios)}
    every[1.0, 1.0] = tried(1.0, 1.0)
    sound = {pair: one for pair, (one, excess) in every.items() if max(excess.values()) <= 0 and one.rise_time_s}
    if sound:
        p, d = min(sound, key=lambda pair: (sound[pair].rise_time_s.value, abs(np.log(pair[1]))))  # type: ignore[union-attr]  # all have one
    else:
        p, d = _led_back(every)
    return BestGains(
        p=p,
        d=d,
        predicted=every[p, d][0],
        bound_by=_bound(tried, p, d, limits),
        breaks=_broken(every[1.0, 1.0][1]),
        left_open="",
        is_change=bool(max(abs(np.log(p)), abs(np.log(d))) > 1 / 30),
    )


def _led_back(every: dict[tuple[float, float], tuple[Predicted, dict[str, float]]]) -> tuple[float, float]:
    """Where nothing keeps all limits: P down by up to a fifth with D kept, which wins most margin; no more of anything."""
    lower = [pair for pair in every if _MOST_BACK <= pair[0] <= 1.0 and abs(np.log(pair[1])) < 1e-6]

    def breaks(pair: tuple[float, float]) -> float:
        return max(every[pair][1].values())

    best = min(lower, key=lambda pair: (round(breaks(pair), 3), -pair[0]))
    if breaks(best) < breaks((1.0, 1.0)) - 1e-3:
        return best
    quieter = [pair for pair in every if pair[0] <= 1.0 and pair[1] <= 1.0]  # motor noise binds: less of both
    return min(quieter, key=lambda pair: (round(breaks(pair), 3), -pair[0] * pair[1]))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BestTerm:
    """The ratio of one gain to the flown one, what it is expected to do, and what kept it from more."""

    ratio: float
    predicted: Predicted
    bound_by: str
    left_open: str  # as of `BestGains`
    is_change: bool


def best_term(
    found: AxisLoop, axis: str, term: str, limits: Limits, *, flown: Controller | None = None, step: StepResponse | None = None,
    widened: float = 1.0,
) -> BestTerm:  # fmt: skip
    """I or feed-forward of one axis within the limits and one flight's step, all other gains as they are.

    I: the most of it, since what it holds against (throttle, wind, an offset balance) the log does not ask for. Feed-forward:
    what keeps the step nearest to 1 over its first 0.3 s. Where the flown gain breaks a limit, what breaks it least.
    """
    ratios = np.geomspace(1 / limits.most_step, limits.most_step, 2 * _N_RATIOS - 1)
    as_flown = predicted(found, axis, Change(), flown=flown, step=step, widened=widened)
    if is_open := left_open(found, limits):
        return BestTerm(ratio=1.0, predicted=as_flown, bound_by=is_open, left_open=is_open, is_change=False)
    kept = _allowing(limits, as_flown)

    def tried(ratio: float) -> tuple[Predicted, dict[str, float]]:
        one = predicted(found, axis, Change(gains={axis: {term: ratio}}), flown=flown, step=step, widened=widened)
        return one, _excess(one, kept, 0.0)

    every = {float(ratio): tried(float(ratio)) for ratio in ratios}
    sound = {ratio: one for ratio, (one, excess) in every.items() if max(excess.values()) <= 0}
    if not sound:
        ratio = min(every, key=lambda one: max(every[one][1].values()))
    elif term == "i":
        ratio = max(sound)
    else:
        ratio = min(sound, key=lambda one: _off_the_step(sound[one]))
    larger = min((one for one in every if one > ratio * 1.001), default=None)
    passed = _broken(every[larger][1]) if larger else "the largest step per flight"
    return BestTerm(
        ratio=ratio,
        predicted=every[ratio][0],
        bound_by=passed or "no further gain",
        left_open="",
        is_change=bool(abs(np.log(ratio)) > 1 / 30),
    )


def left_open(found: AxisLoop, limits: Limits) -> str:
    """The number that would have to be surer before gains are moved by it: a rough one whose interval holds its limit."""
    peak = found.sensitivity_peak
    is_between = peak.low <= limits.sensitivity_peak < peak.high and peak.value <= NEAR_PEAK
    is_open = found.rough["sensitivity_peak"] and is_between
    return f"the sensitivity peak ({peak.low:.3g} to {peak.high:.3g})" if is_open else ""


def _off_the_step(one: Predicted) -> float:
    shown = one.step_t_s <= 0.3
    return float(np.abs(1 - one.step[shown]).sum())


@dataclass(frozen=True, slots=True, kw_only=True)
class _Kept:
    """The limits by what they bind."""

    peaks: dict[str, float]  # by part of the throttle; "" is the loop as identified
    overshoot_ratio: float
    motor_ratio: float


def _allowing(limits: Limits, flown: Predicted) -> _Kept:
    """A flown number within its limit whose interval passes it asks for no less than was flown: only for no more.

    Of low and high throttle, whose gain is less sure, one that does not surely pass it.
    """

    def kept(limit: float, own: Estimate | None, is_within: bool) -> float:
        return limit if own is None or not is_within else max(limit, 1.001 * own.high)

    whole, overshoot, peak = flown.sensitivity_peak, flown.overshoot_ratio, limits.sensitivity_peak
    parts = {part.part: part.sensitivity_peak for part in flown.by_throttle}
    return _Kept(
        peaks={
            "": kept(peak, whole, whole is not None and whole.value <= peak),
            **{part: kept(peak, own, own is not None and not surely_beyond(own, peak)) for part, own in parts.items()},
        },
        overshoot_ratio=kept(
            limits.overshoot_ratio, overshoot, overshoot is not None and overshoot.value <= limits.overshoot_ratio
        ),
        motor_ratio=limits.motor_ratio,
    )


def _excess(one: Predicted, kept: _Kept, motor_ratio: float, *, is_of_damping: bool = False) -> dict[str, float]:
    """How far each limit is passed, as a share of it; below 0 within it."""
    if not one.is_stable or one.sensitivity_peak is None:
        return {"it would oscillate": 10.0}
    peaks = {"": one.sensitivity_peak, **{part.part: part.sensitivity_peak for part in one.by_throttle}}
    found = {
        "the sensitivity peak": max(own.high / kept.peaks[part] - 1 for part, own in peaks.items() if own is not None),
        "motor noise": motor_ratio / kept.motor_ratio - 1,
    }
    # overshoot of a loop with much margin comes from I or feed-forward, and less P makes none of it
    is_conservative = is_of_damping and one.sensitivity_peak.high <= _CONSERVATIVE_PEAK
    if one.overshoot_ratio is not None and not is_conservative:
        found["overshoot"] = (one.overshoot_ratio.high - kept.overshoot_ratio) / max(kept.overshoot_ratio, 0.01)
    return found


def _broken(excess: dict[str, float]) -> str:
    worst = max(excess, key=lambda name: excess[name])
    return worst if excess[worst] > 0 else ""


def _bound(tried: Callable[[float, float], tuple[Predicted, dict[str, float]]], p: float, d: float, limits: Limits) -> str:
    """What stands against more P: a limit that a little more would pass, or the step of one flight."""
    if p >= limits.most_step * 0.99:
        return "the largest step per flight"
    _, excess = tried(p * limits.most_step ** (2 / (_N_RATIOS - 1)), d)
    worst = max(excess, key=lambda name: excess[name])
    return worst if excess[worst] > 0 else "no further gain"
