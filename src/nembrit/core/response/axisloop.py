"""One axis as a loop: the craft found in closed-loop flying, its margins, and how it follows, each with its interval."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.filters.stated import fixed_response
from nembrit.core.records.commands import commanded
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import applied, level_mask, motors_limited_share, usable_mask
from nembrit.core.response.axisfit import FIT_HZ, LOOP_HZ, Fit
from nembrit.core.response.curves import ControllerCurves, controller_from_terms, curves_from_configuration
from nembrit.core.response.estimate import Estimate, jackknifed
from nembrit.core.response.following import Following
from nembrit.core.response.gains import filter_delay
from nembrit.core.response.margins import MOST_GAIN_MARGIN_DB, Margins, margins
from nembrit.core.response.plant import Plant
from nembrit.core.response.sureness import FLOORS, rough_of
from nembrit.core.response.throttle import ThrottleGain, throttle_gains, throttle_limits
from nembrit.core.response.transfer import loop_responses
from nembrit.core.setup.controller import Controller
from nembrit.core.types import AXES, BoolArray, ComplexArray, FloatArray

_LEAST_HELD_S = 9.0
_PLENTY_S = 18.0  # with less flying the floors grow in proportion
# floors grow so (our own trials): what unlogged motors gave is not seen; a controller that changes leaves one route of two
_UNSEEN_MOTORS, _ONE_ROUTE = 2.0, 2.0
_DISAGREE = (
    "two methods for the phase margin differ by {:.0f}°: the motors reached their limits unseen, or gains and filters "
    "are not those "
    "that flew; the margins are uncertain"
)
_OFTEN_LIMITED = 0.15  # of the samples, with a motor at either end (our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class AtThrottle:
    """Margins in one part of the throttle, the craft's gain taken as measured there; None where that was not flown enough."""

    gain: ThrottleGain
    phase_margin_deg: Estimate | None
    gain_margin_db: Estimate | None
    sensitivity_peak: Estimate | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AxisLoop:
    """What one flight says of one axis's loop. Numbers that it cannot tell are None."""

    plant: Plant
    lag_and_delay_s: Estimate  # one flight tells their sum far better than each
    gains: dict[str, Estimate]
    gains_from: str  # terms, or configuration
    command_from: str  # motors, or terms
    phase_margin_deg: Estimate | None
    gain_margin_db: Estimate | None  # None: above 20 dB
    sensitivity_peak: Estimate
    crossover_hz: float | None
    swing_hz: float  # where it would swing if it went too far
    by_throttle: tuple[AtThrottle, ...]  # margins at low, hover and high throttle; empty without throttle
    bandwidth_hz: Estimate | None
    peak_db: Estimate
    rise_time_s: Estimate | None
    delay_s: Estimate | None
    settling_time_s: Estimate | None
    overshoot_ratio: Estimate
    handling_bandwidth_hz: float | None
    phase_delay_s: float | None
    frequency_hz: FloatArray  # of the curves below
    closed_db: FloatArray
    closed_deg: FloatArray
    open_db: FloatArray
    open_deg: FloatArray
    # (2, n) size [share per deg/s] and phase [°] of what a part makes of its input; (2, 0) without it
    p_part: FloatArray
    d_part: FloatArray
    f_part: FloatArray  # of the set-point
    is_d_on_error: bool
    step_t_s: FloatArray
    step: FloatArray
    usable_s: float
    notes: tuple[str, ...]

    @property
    def rough(self) -> dict[str, bool]:
        """By name of a number: whether this flight leaves it so open that its interval says more than the number itself."""
        return rough_of({name: getattr(self, name) for name in FLOORS})


def axis_loop(
    recording: Recording, axis: str, usable: BoolArray, *, mixer: FloatArray | None = None, controller: Controller | None = None
) -> AxisLoop:
    """Identify one axis in closed loop and say how near the edge it flies.

    The applied command comes from the motors through the inverse mixer, else from the control terms; the controller from
    its logged terms, else from a configuration in SI units. Set-point → gyro and set-point → command are estimated
    with lost authority left out; the plant is fitted to their quotient (set-point as instrument), then refined to
    both with the known controller. Margins and following are those of the refined model; intervals by leaving out
    each twelfth of the flight, with measured floors.

    Raises
    ------
    NotEnoughData
        With what is missing: channels, authority, stick movement, gains.
    """
    notes: list[str] = []
    command, command_from = _command(recording, axis, mixer, notes)
    curves = _curves(recording, axis, usable, controller)
    held = usable & level_mask(recording, 0 if mixer is None else mixer.shape[0])
    if held.sum() < _LEAST_HELD_S * recording.sample_rate_hz:
        held = usable
        notes.append("large throttle commands most of the time: gain and margins are those of hard flying")
    limited = motors_limited_share(recording, held)
    if limited is not None and limited > _OFTEN_LIMITED:
        notes.append(
            f"motors reached their limits in {limited:.0%} of this flying (noise, or hard moves): margins and tracking are "
            "those of the saturated loop"
        )
    responses = loop_responses(
        recording.channels[f"setpoint.{axis}"], recording.channels[f"gyro.{axis}"], command, held,
        sample_rate_hz=recording.sample_rate_hz, frequency_hz=FIT_HZ,
    )  # fmt: skip
    chain = _chain(recording, axis, controller)
    fitted = Fit(axis=axis, curves=curves, chain=chain, responses=responses)
    whole = fitted.refined(0, None)
    fitted.require_possible(whole)
    rows = [fitted.refined(k, whole) for k in range(1, responses.gyro.shape[0])]
    free, _ = usable_mask(recording, axis, mixer=mixer, throttle_limits=throttle_limits())
    parts = throttle_gains(
        recording, axis, command, free, plant_of=fitted.ahead(whole, LOOP_HZ), closed_of=fitted.closed(whole, LOOP_HZ),
        frequency_hz=LOOP_HZ,
    )  # fmt: skip
    return _told(fitted, whole, rows, command_from=command_from, parts=parts, notes=notes)


def _command(recording: Recording, axis: str, mixer: FloatArray | None, notes: list[str]) -> tuple[FloatArray, str]:
    given = None if mixer is None else applied(recording, mixer)
    if given is not None:
        return np.asarray(given[AXES.index(axis)]), "motors"
    asked = commanded(recording, axis)
    if asked is None:
        raise NotEnoughData(
            f"margins need the motors’ commands or the control terms of {axis}: log P, I, D and the motors, then fly again"
        )
    notes.append("no motor commands in the log: commands are taken as delivered, so lost authority is not seen")
    return asked, "terms"


def _curves(
    recording: Recording, axis: str, usable: BoolArray, controller: Controller | None
) -> Callable[[FloatArray], ControllerCurves]:
    logged = controller_from_terms(recording, axis, usable, controller)
    if logged is None and controller is None:
        raise NotEnoughData(f"the gains of {axis} are unknown: log the control terms, or give the scales of the settings")

    def at(frequency_hz: FloatArray) -> ControllerCurves:
        if logged is not None:
            return logged.curves(frequency_hz)
        assert controller is not None
        return curves_from_configuration(controller, axis, frequency_hz)

    kept: dict[bytes, ControllerCurves] = {}  # by the frequencies themselves

    def known(frequency_hz: FloatArray) -> ControllerCurves:
        key = frequency_hz.tobytes()
        if key not in kept:
            kept[key] = at(frequency_hz)
        return kept[key]

    return known


def _chain(recording: Recording, axis: str, controller: Controller | None) -> Callable[[FloatArray], ComplexArray]:
    """The gyro filters between raw and filtered gyro.

    As configured, made later by what the log shows beyond that (filters that follow the motors); without a configuration
    one low-pass of second order that is as late as the log shows; without the raw gyro as configured, or else a part of the
    craft's own delay.
    """
    found = filter_delay(recording, axis)
    if controller is not None:
        rate_hz, known = controller.loop_rate_hz, controller.gyro
        extra_s = 0.0 if found is None else found.delay_s - found.of(fixed_response(known, found.frequency_hz, rate_hz))
        return lambda frequency_hz: fixed_response(known, frequency_hz, rate_hz) * np.exp(-2j * np.pi * frequency_hz * extra_s)
    if found is not None and found.delay_s > 1e-5:
        w = math.sqrt(2) / found.delay_s
        return lambda frequency_hz: np.asarray(1 / (1 + math.sqrt(2) * (s := 2j * np.pi * frequency_hz / w) + s**2), complex)
    return lambda frequency_hz: np.ones(frequency_hz.size, complex)


def _told(
    fitted: Fit, plant: Plant, rows: list[Plant], *, command_from: str, parts: tuple[ThrottleGain, ...], notes: list[str]
) -> AxisLoop:
    edge, others = fitted.margins(plant), [fitted.margins(row) for row in rows]
    moves, other_moves = fitted.following(plant), [fitted.following(row) for row in rows]
    curves = fitted.curves(LOOP_HZ)
    scarce = max(1.0, _PLENTY_S / fitted.responses.usable_s)
    scarce *= (1.0 if command_from == "motors" else _UNSEEN_MOTORS) * (1.0 if curves.calm_d is None else _ONE_ROUTE)

    def told(
        name: str, whole: Margins | Following, left_out: list[Margins] | list[Following], *, is_ratio: bool
    ) -> Estimate | None:
        value = getattr(whole, name)
        if value is None:
            return None
        return jackknifed(float(value), [getattr(one, name) for one in left_out], floor=FLOORS[name] * scarce, is_ratio=is_ratio)

    gain_margin = told("gain_margin_db", edge, others, is_ratio=False)
    gain_margin_all = gain_margin
    if gain_margin is not None and gain_margin.value > MOST_GAIN_MARGIN_DB:
        gain_margin = None
    peak = told("sensitivity_peak", edge, others, is_ratio=True)
    overshoot, peak_db = (
        told("overshoot_ratio", moves, other_moves, is_ratio=False),
        told("peak_db", moves, other_moves, is_ratio=False),
    )
    peak = _surely(peak)
    peak = replace(peak, low=max(1.0, peak.low))  # no loop with a delay is below
    step_t_s, step = fitted.step(plant)
    shown, every = step_t_s <= 0.4, slice(None, None, 6)
    open_loop, closed = fitted.loop(plant, LOOP_HZ), fitted.closed(plant, LOOP_HZ)
    sums = [row.lag_s + row.delay_s for row in rows]
    phase_margin = told("phase_margin_deg", edge, others, is_ratio=False)
    apart_deg = fitted.disagreement_deg(plant, phase_margin)
    if phase_margin is not None and apart_deg is not None:
        notes.append(_DISAGREE.format(apart_deg))
        phase_margin = Estimate(value=phase_margin.value, low=phase_margin.value - apart_deg, high=phase_margin.value + apart_deg)
    notes += curves.notes
    return AxisLoop(
        plant=plant,
        lag_and_delay_s=_surely(jackknifed(plant.lag_s + plant.delay_s, sums, floor=0.0008)),
        gains=curves.gains,
        gains_from=curves.source,
        command_from=command_from,
        phase_margin_deg=phase_margin,
        gain_margin_db=gain_margin,
        sensitivity_peak=peak,
        crossover_hz=edge.crossover_hz,
        swing_hz=edge.peak_hz,
        by_throttle=tuple(_at_throttle(one, open_loop, phase_margin, gain_margin_all, peak) for one in parts),
        bandwidth_hz=told("bandwidth_hz", moves, other_moves, is_ratio=True),
        peak_db=_surely(peak_db),
        rise_time_s=told("rise_time_s", moves, other_moves, is_ratio=True),
        delay_s=told("delay_s", moves, other_moves, is_ratio=False),
        settling_time_s=told("settling_time_s", moves, other_moves, is_ratio=True),
        overshoot_ratio=_surely(overshoot),
        handling_bandwidth_hz=moves.handling_bandwidth_hz,
        phase_delay_s=moves.phase_delay_s,
        frequency_hz=LOOP_HZ[every],
        closed_db=_db(closed)[every],
        closed_deg=_deg(closed)[every],
        open_db=_db(open_loop)[every],
        open_deg=_deg(open_loop)[every],
        p_part=_part(curves.p)[:, every],
        d_part=_part(curves.d if curves.calm_d is None else curves.calm_d)[:, every],
        f_part=_part(curves.f)[:, every],
        is_d_on_error=curves.is_d_on_error,
        step_t_s=step_t_s[shown][::2],
        step=step[shown][::2],
        usable_s=fitted.responses.usable_s,
        notes=tuple(notes),
    )


def _at_throttle(
    gain: ThrottleGain, loop: ComplexArray, phase: Estimate | None, margin: Estimate | None, peak: Estimate
) -> AtThrottle:
    """Margins of the loop with another gain; the interval joins that of hover with what the gain leaves open."""
    if gain.ratio is None:
        return AtThrottle(gain=gain, phase_margin_deg=None, gain_margin_db=None, sensitivity_peak=None)
    here, *edges = (margins(LOOP_HZ, ratio * loop) for ratio in (gain.ratio.value, gain.ratio.low, gain.ratio.high))

    def told(name: str, whole: Estimate | None, least: float | None = None) -> Estimate | None:
        value = getattr(here, name)
        if value is None or whole is None:
            return None
        ends = [end for one in edges if (end := getattr(one, name)) is not None]
        half = float(np.hypot(whole.error, max((abs(end - value) for end in ends), default=0.0)))
        low = value - half if least is None else max(least, value - half)
        return Estimate(value=float(value), low=low, high=value + half)

    found = told("gain_margin_db", margin)
    return AtThrottle(
        gain=gain,
        phase_margin_deg=told("phase_margin_deg", phase),
        gain_margin_db=None if found is None or found.value > MOST_GAIN_MARGIN_DB else found,
        sensitivity_peak=told("sensitivity_peak", peak, 1.0),
    )


def _surely(found: Estimate | None) -> Estimate:
    """A number that every model has, whatever block is left out."""
    assert found is not None
    return found


def _part(response: ComplexArray) -> FloatArray:
    """Size and phase of one part of the controller; (2, 0) where it does nothing."""
    return np.stack([np.abs(response), _deg(response)]) if np.any(response) else np.empty((2, 0))


def _db(values: ComplexArray) -> FloatArray:
    return np.asarray(20 * np.log10(np.maximum(np.abs(values), 1e-12)))


def _deg(values: ComplexArray) -> FloatArray:
    return np.asarray(np.unwrap(np.angle(values)) * 180 / math.pi)
