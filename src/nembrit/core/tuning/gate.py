"""The gate before every change of gains and filters: what must not be flown, and what needs a reason."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nembrit.core.filters.stated import lag_deg
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.step import StepResponse
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.flown import flown_loop
from nembrit.core.tuning.whatif import Change, Predicted, exchanged, predicted, swings
from nembrit.core.types import AXES, ComplexArray, FloatArray

# a sensitivity peak of 2 leaves 29° of phase margin and 6 dB of gain margin (Åström & Murray, Feedback Systems, 2008, chapter 9)
MOST_PEAK, LEAST_PHASE_DEG = 2.0, 29.0
MOST_STEP, LEAST_STEP = 1.25, 0.5  # up and down, of a gain in one flight (common practice, no source)
_RESERVE_DB = 3.0  # kept for throttle that was not flown
_UNMEASURED_LAG_DEG, _UNMEASURED_AT_HZ = 0.5, 20.0  # that a shared chain may add to an axis whose loop is not known
_NEARLY, _CLEARLY = 1.005, 0.97


@dataclass(frozen=True, slots=True, kw_only=True)
class Ruling:
    """What stands against a change. `forbidden` cannot be overridden; `limits` can, with a reason that is kept."""

    forbidden: tuple[str, ...] = ()
    limits: tuple[str, ...] = ()

    @property
    def is_open(self) -> bool:
        """Whether nothing stands against it."""
        return not self.forbidden and not self.limits


def ruling(
    loops: Mapping[str, AxisLoop],
    change: Change,
    *,
    flown: Controller | None = None,
    rotor_hz: FloatArray | None = None,
    steps: Mapping[str, StepResponse] | None = None,
    motors: tuple[Estimate, Estimate] | None = None,
    target_rms: float | None = None,
    widened: float = 1.0,
) -> Ruling:
    """Put a change from the flown settings before the gate.

    Parameters
    ----------
    loops : mapping of axis to AxisLoop
        Every axis whose loop the flight could tell; others may not change.
    change : Change
        All that would differ from what was flown, over all axes, since parts that each pass may fail together.
    flown, rotor_hz, steps, widened
        As of `predicted`.
    motors : (Estimate, Estimate), optional
        Motor noise as flown and with the change [share of full range].
    target_rms : float, optional
        Motor noise that is aimed at: it may rise so far without a reason.

    Notes
    -----
    Forbidden: a loop that encircles the critical point in hover, or at low or high throttle with the craft's gain at its value or
    at either end of its interval (3 dB more where that throttle was not flown), or whose margins reach nought within their
    intervals, unless the flown loop did so as well and both ends improve. Limits: the sensitivity peak's upper end above 2 (or
    above the flown one where that was beyond already), motor noise above target and flown, a gain up by more than a quarter or
    down by more than half, an axis that was not measured.
    """
    speeds = np.empty(0) if rotor_hz is None else rotor_hz
    forbidden: list[str] = []
    limits: list[str] = []
    for axis in AXES:
        if not _touches(change, axis):
            continue
        if axis not in loops:
            limits += _unmeasured(axis, change, flown, speeds)
            continue
        told = predicted(loops[axis], axis, change, flown=flown, step=(steps or {}).get(axis), rotor_hz=rotor_hz, widened=widened)
        own = _oscillates(axis, loops[axis], change, flown, speeds, told)
        forbidden += own
        limits += [] if own else _peaks(axis, loops[axis], told)
        limits += _steps(axis, change)
    if motors is not None:
        was, becomes = motors
        most = max(was.high, target_rms or 0.0)
        if becomes.high > _NEARLY * most:
            limits.append(f"motor noise could reach {100 * becomes.high:.2g} % ({100 * most:.2g} % allowed)")
    return Ruling(forbidden=tuple(forbidden), limits=tuple(limits))


def _touches(change: Change, axis: str) -> bool:
    return change.chains is not None or any(change.ratio(axis, term) != 1.0 for term in "pidf")


def _oscillates(
    axis: str, found: AxisLoop, change: Change, flown: Controller | None, rotor_hz: FloatArray, told: Predicted
) -> list[str]:
    """Why the changed loop oscillates, or may; empty where neither."""
    parts = flown_loop(found)
    before, after = parts.loop(), parts.loop(exchanged(found, axis, change, flown, rotor_hz))
    for words, gains in _throttles(found):
        if _any_oscillates(after, gains) and not _any_oscillates(before, gains):
            return [f"{axis} would oscillate {words}"]
    if not told.is_stable:
        return [f"{axis} would oscillate at {told.swing_hz:.0f} Hz"]
    for own, was in ((told.phase_margin_deg, found.phase_margin_deg), (told.gain_margin_db, found.gain_margin_db)):
        if own is not None and own.low <= 0 and not (was is not None and was.low <= 0 and own.low >= was.low):
            return [f"{axis} may oscillate: its margin could be zero"]
    return []


def _throttles(found: AxisLoop) -> list[tuple[str, list[float]]]:
    """Parts of the throttle in words, with the craft's gain there against hover: its value and both ends of its interval."""
    asked = [("in hover", [1.0])]
    reserve = 10 ** (_RESERVE_DB / 20)
    for part in found.by_throttle:
        ratio = part.gain.ratio
        gains = [1.0, reserve] if ratio is None else [ratio.low, ratio.value, ratio.high]
        asked.append((f"at {part.gain.part} throttle", gains))
    return asked if found.by_throttle else [*asked, ("at other throttle, which was not flown", [reserve])]


def _any_oscillates(loop: ComplexArray, gains: list[float]) -> bool:
    return any(swings(gain * loop) for gain in gains)


def _peaks(axis: str, found: AxisLoop, told: Predicted) -> list[str]:
    """Sensitivity peaks whose upper end passes 2 and does not come down."""
    pairs: list[tuple[str, Estimate | None, Estimate | None]] = [("", found.sensitivity_peak, told.sensitivity_peak)]
    flown = {part.gain.part: part.sensitivity_peak for part in found.by_throttle}
    pairs += [(f" at {part.part} throttle", flown.get(part.part), part.sensitivity_peak) for part in told.by_throttle]
    for words, was, becomes in pairs:
        if becomes is None or becomes.high <= MOST_PEAK:
            continue
        clearly = was is not None and becomes.value <= _CLEARLY * was.value  # whatever the interval of a poor loop does
        improves = was is not None and becomes.value <= _NEARLY * was.value and becomes.high <= _NEARLY * was.high
        improves = improves or clearly
        if not improves:
            return [f"the sensitivity peak of {axis}{words} could reach {becomes.high:.1f} ({MOST_PEAK:g} allowed)"]
    return []


def _steps(axis: str, change: Change) -> list[str]:
    names = {"p": "P", "i": "I", "d": "D", "f": "feed-forward"}
    return [
        f"{names[term]} of {axis} changes by a factor of {ratio:.2g} in one flight ({LEAST_STEP:g} to {MOST_STEP:g} allowed)"
        for term in "pidf"
        if (ratio := change.ratio(axis, term)) > _NEARLY * MOST_STEP or 0 < ratio < LEAST_STEP
    ]


def _unmeasured(axis: str, change: Change, flown: Controller | None, rotor_hz: FloatArray) -> list[str]:
    """An axis whose loop is not known keeps its gains, and takes no later filters."""
    if any(change.ratio(axis, term) > 1.0 for term in "pidf"):
        return [f"the loop of {axis} could not be measured: its gains should not rise"]
    if change.chains is None or flown is None:
        return []
    added = sum(
        lag_deg(getattr(change.chains, place), _UNMEASURED_AT_HZ, change.chains.loop_rate_hz, rotor_hz)
        - lag_deg(getattr(flown, place), _UNMEASURED_AT_HZ, flown.loop_rate_hz, rotor_hz)
        for place in ("chip", "gyro", "d_term")
    )
    if added <= _UNMEASURED_LAG_DEG:
        return []
    return [f"the loop of {axis} could not be measured, and these filters add {added:.1f}° of lag at {_UNMEASURED_AT_HZ:g} Hz"]
