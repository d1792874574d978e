"""What another chain or other gains would do to one axis: the measured loop with its parts exchanged."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.filters.stated import fixed_response, rotor_response
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.following import Following, following, step_frequencies, step_of
from nembrit.core.response.margins import MOST_GAIN_MARGIN_DB, Margins, margins
from nembrit.core.response.step import StepResponse
from nembrit.core.response.sureness import FLOORS, rough_of
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.flown import Exchanged, flown_loop, on_grid
from nembrit.core.types import ComplexArray, FloatArray

_SHOWN_S = 0.4
# what a prediction adds to the flown number's own interval, as a share of the change it predicts (measured: docs/accuracy.md)
_SHARES = {
    "phase_margin_deg": 0.3, "gain_margin_db": 0.3, "room": 0.35, "bandwidth_hz": 0.3, "peak_db": 0.4, "rise_time_s": 0.3,
    "delay_s": 0.3, "settling_time_s": 0.5, "overshoot_ratio": 0.4,
}  # fmt: skip
_NEW_GAIN_MARGIN_DB = 3.0  # half an interval where the flown one was beyond what is told


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """Gains as ratios to the flown ones, by axis and term; filters as a controller that carries the new chains."""

    gains: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    chains: Controller | None = None

    def ratio(self, axis: str, term: str) -> float:
        return self.gains.get(axis, {}).get(term, 1.0)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PredictedThrottle:
    """Margins in one part of the throttle; None where the flight could not tell the craft's gain there."""

    part: str
    throttle: float
    phase_margin_deg: Estimate | None
    sensitivity_peak: Estimate | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Predicted:
    """One axis with the change. Numbers that the flight could not tell are None; a loop that swings by itself has none."""

    is_stable: bool
    swing_hz: float
    crossover_hz: float | None
    phase_margin_deg: Estimate | None
    gain_margin_db: Estimate | None  # None: above 20 dB
    sensitivity_peak: Estimate | None
    bandwidth_hz: Estimate | None
    peak_db: Estimate | None
    rise_time_s: Estimate | None
    delay_s: Estimate | None
    settling_time_s: Estimate | None
    overshoot_ratio: Estimate | None
    step_delay_s: Estimate | None  # as the step response itself reads it, to be compared with the next flights'
    by_throttle: tuple[PredictedThrottle, ...]
    step_t_s: FloatArray
    step: FloatArray
    frequency_hz: FloatArray
    loop: ComplexArray  # the new open loop

    @property
    def rough(self) -> dict[str, bool]:
        """As `AxisLoop.rough`."""
        return rough_of({name: getattr(self, name) for name in FLOORS})


def chain_quotients(
    flown: Controller, new: Controller, frequency_hz: FloatArray, rotor_hz: FloatArray
) -> tuple[ComplexArray, ComplexArray, ComplexArray]:
    """New over flown response of the gyro chain with the chip, of the D filters, and of the feed-forward's."""

    def through(controller: Controller, place: str) -> ComplexArray:
        return fixed_response(getattr(controller, place), frequency_hz, controller.loop_rate_hz)

    def gyro(controller: Controller) -> ComplexArray:
        turning = rotor_response(controller.gyro, frequency_hz, controller.loop_rate_hz, rotor_hz)
        return np.asarray(through(controller, "chip") * through(controller, "gyro") * turning)

    d, f = (np.asarray(through(new, place) / _floored(through(flown, place))) for place in ("d_term", "feed_forward"))
    return np.asarray(gyro(new) / _floored(gyro(flown))), d, f


def _floored(response: ComplexArray) -> ComplexArray:
    """A response that is divided by: what a notch takes away for good is not brought back without end."""
    size = np.abs(response)
    return np.asarray(response * np.maximum(size, 0.03) / np.maximum(size, 1e-9))


def predicted(
    found: AxisLoop, axis: str, change: Change, *, flown: Controller | None = None, step: StepResponse | None = None,
    rotor_hz: FloatArray | None = None, widened: float = 1.0,
) -> Predicted:  # fmt: skip
    """Margins and following of one axis with other gains or filters.

    Every number is the flown one plus what the model says of the change (times it, for times and bandwidth), so that no
    change predicts what was measured. The interval joins the flown number's own with a share of the change that was
    measured on newly flown simulated flights, times `widened` (the craft's own record of predictions, which makes the
    flown number's own interval no less than it was). Filters change the loop by the quotient of new and flown response as
    discrete sections; `flown` must be the flown configuration for that.
    """
    parts = flown_loop(found)
    new_parts = exchanged(found, axis, change, flown, np.empty(0) if rotor_hz is None else rotor_hz)
    loop, closed = parts.loop(new_parts), parts.closed(new_parts)
    hz = parts.frequency_hz
    before, after = margins(hz, parts.loop()), margins(hz, loop)
    is_stable = not swings(loop)
    grid = step_frequencies()
    step_t_s, moved = step_of(on_grid(grid, hz, closed))
    _, unmoved = step_of(on_grid(grid, hz, parts.closed()))
    old, new = following(hz, parts.closed(), step_t_s, unmoved), following(hz, closed, step_t_s, moved)
    teller = _Teller(widened=widened if is_stable else math.inf)
    shown = step_t_s <= _SHOWN_S
    overshoot = step_overshoot(step) or found.overshoot_ratio
    step_delay = _step_delay(step)
    return Predicted(
        is_stable=is_stable,
        swing_hz=after.peak_hz,
        crossover_hz=after.crossover_hz,
        phase_margin_deg=teller.added("phase_margin_deg", found.phase_margin_deg, before, after),
        gain_margin_db=_gain_margin(teller, found.gain_margin_db, before, after),
        sensitivity_peak=teller.peak(found.sensitivity_peak, before, after),
        bandwidth_hz=teller.times("bandwidth_hz", found.bandwidth_hz, old, new),
        peak_db=teller.added("peak_db", found.peak_db, old, new),
        rise_time_s=teller.times("rise_time_s", found.rise_time_s, old, new),
        delay_s=teller.added("delay_s", found.delay_s, old, new),
        settling_time_s=teller.times("settling_time_s", found.settling_time_s, old, new),
        overshoot_ratio=teller.added("overshoot_ratio", overshoot, old, new, least=0.0),
        step_delay_s=teller.added("delay_s", step_delay, old, new),
        by_throttle=tuple(_by_throttle(found, loop, teller, before, hz)),
        step_t_s=step_t_s[shown][::2],
        step=moved[shown][::2],
        frequency_hz=hz,
        loop=loop,
    )


def step_overshoot(step: StepResponse | None) -> Estimate | None:
    if step is None:
        return None
    return Estimate(value=step.overshoot_ratio, low=step.overshoot_interval[0], high=step.overshoot_interval[1])


def _step_delay(step: StepResponse | None) -> Estimate | None:
    if step is None or step.delay_s is None or step.delay_interval_s is None:
        return None
    return Estimate(value=step.delay_s, low=step.delay_interval_s[0], high=step.delay_interval_s[1])


def exchanged(found: AxisLoop, axis: str, change: Change, flown: Controller | None, rotor_hz: FloatArray) -> Exchanged:
    """What a change multiplies each part of an axis's loop by."""
    ratio = {term: change.ratio(axis, term) for term in "pidf"}
    if change.chains is None or flown is None:
        return Exchanged(**ratio)
    gyro, d_filter, f_filter = chain_quotients(flown, change.chains, found.frequency_hz, rotor_hz)
    return Exchanged(p=ratio["p"], i=ratio["i"], d=ratio["d"] * d_filter, f=ratio["f"] * f_filter, gyro=gyro)


def swings(loop: ComplexArray) -> bool:
    """Whether the closed loop swings by itself: how often 1 + L goes round 0 (Nyquist), the open loop not doing so.

    >>> s = 2j * np.pi * np.geomspace(0.01, 1000, 3000)
    >>> bool(swings(4 / (s + 1) ** 3)), bool(swings(9 / (s + 1) ** 3))
    (False, True)
    """
    turned = np.unwrap(np.angle(1 + loop))
    return bool(abs(turned[-1]) > math.pi)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Teller:
    """Puts numbers of the model onto the flown ones."""

    widened: float

    def _half(self, name: str, own: float, change: float) -> float:
        """A record of good predictions narrows what the change adds, never what the flight itself left open."""
        return math.hypot(own * max(1.0, self.widened), _SHARES[name] * change * self.widened)

    def added(
        self, name: str, flown: Estimate | None, before: Margins | Following, after: Margins | Following, least: float = -math.inf
    ) -> Estimate | None:
        was, becomes = getattr(before, name), getattr(after, name)
        if flown is None or was is None or becomes is None or math.isinf(self.widened):
            return None
        value, half = flown.value + becomes - was, self._half(name, flown.error, becomes - was)
        return Estimate(value=max(least, value), low=max(least, value - half), high=max(least, value + half))

    def times(self, name: str, flown: Estimate | None, before: Following, after: Following) -> Estimate | None:
        was, becomes = getattr(before, name), getattr(after, name)
        if flown is None or not was or not becomes or math.isinf(self.widened):
            return None
        change = math.log(becomes / was)
        half = self._half(name, math.log(flown.high / flown.low) / 2, change)
        value = flown.value * becomes / was
        return Estimate(value=value, low=value * math.exp(-half), high=value * math.exp(half))

    def peak(self, flown: Estimate, before: Margins, after: Margins) -> Estimate | None:
        """The sensitivity peak by way of its inverse, the least distance from the edge."""
        if math.isinf(self.widened):
            return None
        change = 1 / after.sensitivity_peak - 1 / before.sensitivity_peak
        room = min(1.0, max(0.05, 1 / flown.value + change))
        half = self._half("room", (1 / flown.low - 1 / flown.high) / 2, change)
        return Estimate(value=1 / room, low=1 / min(1.0, room + half), high=1 / max(0.02, room - half))


def _gain_margin(teller: _Teller, flown: Estimate | None, before: Margins, after: Margins) -> Estimate | None:
    told = teller.added("gain_margin_db", flown, before, after)
    if flown is None and after.gain_margin_db is not None and not math.isinf(teller.widened):
        half = _NEW_GAIN_MARGIN_DB * teller.widened
        told = Estimate(value=after.gain_margin_db, low=after.gain_margin_db - half, high=after.gain_margin_db + half)
    return None if told is None or told.value > MOST_GAIN_MARGIN_DB else told


def _by_throttle(
    found: AxisLoop, loop: ComplexArray, teller: _Teller, before: Margins, frequency_hz: FloatArray
) -> list[PredictedThrottle]:
    told = []
    for part in found.by_throttle:
        phase = peak = None
        if part.gain.ratio is not None:
            after = margins(frequency_hz, part.gain.ratio.value * loop)
            if not swings(part.gain.ratio.value * loop):
                was = margins(frequency_hz, part.gain.ratio.value * flown_loop(found).loop())
                phase = teller.added("phase_margin_deg", part.phase_margin_deg, was, after)
                peak = teller.peak(part.sensitivity_peak, was, after) if part.sensitivity_peak is not None else None
        told.append(
            PredictedThrottle(part=part.gain.part, throttle=part.gain.throttle, phase_margin_deg=phase, sensitivity_peak=peak)
        )
    return told
