"""The controller as it acted, as curves over frequency: from its logged terms, or from a configuration in SI units.

The assumed controller: P and I act on set-point minus filtered gyro, D on the filtered gyro alone, feed-forward on the
set-point's derivative. What the logged terms show beyond that is measured: a filter on P or on the feed-forward, D on the error,
D that grows in quick moves.
"""

from dataclasses import dataclass

import numpy as np

from nembrit.core.filters.stated import fixed_response
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.gains import d_frequencies, logged_gains
from nembrit.core.response.terms import DCurve, Smoothed, Smoothing, d_curve, is_unknown, level_at, moves, smoothed_gain
from nembrit.core.setup.controller import AxisGains, Controller
from nembrit.core.types import BoolArray, ComplexArray, FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ControllerCurves:
    """What each part of the controller makes of its input, on one grid of frequencies [share per deg/s]."""

    p: ComplexArray  # of the error
    i: ComplexArray
    d: ComplexArray  # of the filtered gyro, the sign of the error
    f: ComplexArray  # of the set-point
    gains: dict[str, Estimate]  # p, i, d, f in SI units; a term that is not known is absent
    source: str  # terms, or configuration
    is_d_on_error: bool = False
    calm_d: ComplexArray | None = None  # D in calm flying, where it grows in quick moves
    notes: tuple[str, ...] = ()

    @property
    def feedback(self) -> ComplexArray:
        """Command per deg/s of filtered gyro, the sign of the error."""
        return np.asarray(self.p + self.i + self.d)

    @property
    def calm_feedback(self) -> ComplexArray:
        """The feedback of calm flying: what margins are told of."""
        return np.asarray(self.p + self.i + (self.d if self.calm_d is None else self.calm_d))

    @property
    def forward(self) -> ComplexArray:
        """Command per deg/s of set-point."""
        return np.asarray(self.p + self.i + self.f + (self.d if self.is_d_on_error else 0.0))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoggedController:
    """What the logged terms tell of one axis; measured once, asked at any frequencies."""

    gains: dict[str, Estimate]
    d_term: DCurve | None
    p_smoothing: Smoothing | None
    f_smoothing: Smoothing | None
    notes: tuple[str, ...]

    def curves(self, frequency_hz: FloatArray) -> ControllerCurves:
        s: ComplexArray = np.asarray(2j * np.pi * frequency_hz, complex)
        nothing = np.zeros(frequency_hz.size, complex)
        value = {term: estimate.value for term, estimate in self.gains.items()}
        p: ComplexArray = np.full(frequency_hz.size, value["p"], complex)
        f: ComplexArray = np.asarray(s * value.get("f", 0.0), complex)
        return ControllerCurves(
            p=p if self.p_smoothing is None else np.asarray(p * self.p_smoothing.response(frequency_hz)),
            i=np.asarray(value.get("i", 0.0) / s),
            d=nothing if self.d_term is None else level_at(self.d_term.curve, frequency_hz),
            f=np.asarray(f if self.f_smoothing is None else f * self.f_smoothing.response(frequency_hz)),
            gains=self.gains,
            source="terms",
            is_d_on_error=self.d_term is not None and self.d_term.is_on_error,
            calm_d=self._calm_d(s, frequency_hz),
            notes=self.notes,
        )

    def _calm_d(self, s: ComplexArray, frequency_hz: FloatArray) -> ComplexArray | None:
        calm = None if self.d_term is None else self.d_term.calm
        if calm is None:
            return None
        smooth = 1.0 if calm.smoothing is None else calm.smoothing.response(frequency_hz)
        return np.asarray(calm.gain * s * smooth)


def controller_from_terms(
    recording: Recording, axis: str, usable: BoolArray, controller: Controller | None
) -> LoggedController | None:
    """What the controller did, from its logged terms; None without a P term."""
    d_filter = None if controller is None else fixed_response(controller.d_term, d_frequencies(), controller.loop_rate_hz)
    d_term = d_curve(recording, axis)
    gains = logged_gains(recording, axis, usable, None if d_term is None else d_term.curve, d_filter)
    if "p" not in gains:
        return None
    p, f = _p_seen(recording, axis, gains["p"]), _f_seen(recording, axis, gains.get("f"))
    for term, seen in (("p", p), ("f", f)):
        if seen is not None and seen.smoothing is not None:
            gains[term] = _scaled(gains[term], seen.gain)
    return LoggedController(
        gains=gains,
        d_term=d_term,
        p_smoothing=None if p is None else p.smoothing,
        f_smoothing=None if f is None else f.smoothing,
        notes=_notes(axis, d_term, p),
    )


def _p_seen(recording: Recording, axis: str, gain: Estimate) -> Smoothed | None:
    """What P shows between error and term; None where its gain alone explains it."""
    term = recording.channels[f"term_p.{axis}"]
    error = recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"]
    whole = recording.is_recorded(f"term_p.{axis}", f"setpoint.{axis}", f"gyro.{axis}")
    rest = term[whole] - gain.value * error[whole]
    if float(rest @ rest) < _PLAIN * float(term[whole] @ term[whole]):
        return None
    return smoothed_gain(recording, filled(term), filled(error), gain.value, is_slope=False)


def _f_seen(recording: Recording, axis: str, gain: Estimate | None) -> Smoothed | None:
    term = moves(recording, f"term_f.{axis}")
    if gain is None or term is None:
        return None
    return smoothed_gain(recording, term, recording.channels[f"setpoint.{axis}"], gain.value, is_slope=True)


_PLAIN = 1e-3  # unexplained share of P up to which its gain alone is right


def _scaled(gain: Estimate, value: float) -> Estimate:
    ratio = value / gain.value
    low, high = sorted((gain.low * ratio, gain.high * ratio))
    return Estimate(value=value, low=low, high=high)


def _notes(axis: str, d: DCurve | None, p: Smoothed | None) -> tuple[str, ...]:
    found = []
    if d is not None and d.calm is not None:
        found.append(f"D of {axis} grows in quick movements: the margins are those of calm flying")
    # F is left out: a log slower than the loop misses what single steps of the stick make of it
    left = {"P": p.unexplained_ratio if p else 0.0}
    if d is not None and d.calm is None:
        left["D"] = d.unexplained_ratio
    unknown = [term for term, share in left.items() if is_unknown(share)]
    if unknown:
        share = max(left[term] for term in unknown)
        found.append(
            f"the controller does something that this model does not include: {' and '.join(unknown)} of {axis} "
            f"{'follows' if len(unknown) == 1 else 'follow'} neither stick nor gyro for up to {share:.0%}; the "
            f"margins are uncertain"
        )
    return tuple(found)


def curves_from_configuration(controller: Controller, axis: str, frequency_hz: FloatArray) -> ControllerCurves:
    """What a configuration in SI units does, its filters as the discrete sections that they are."""
    gains: AxisGains = controller.gains[axis]
    rate_hz, s = controller.loop_rate_hz, 2j * np.pi * frequency_hz
    # the derivative as a controller takes it: the last difference
    slope = (1 - np.exp(-s / rate_hz)) * rate_hz
    exact = {term: Estimate(value=value, low=value, high=value) for term in "pidf" if (value := getattr(gains, term))}
    return ControllerCurves(
        p=np.full(frequency_hz.size, gains.p, complex),
        i=np.asarray(gains.i / s),
        d=np.asarray(gains.d * slope * fixed_response(controller.d_term, frequency_hz, rate_hz)),
        f=np.asarray(gains.f * slope * fixed_response(controller.feed_forward, frequency_hz, rate_hz)),
        gains=exact,
        source="configuration",
    )
