"""Filters and gains tried on one flight: what pages and the command line ask of it, in an instant."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from nembrit.core.analysis.loop import Loop
from nembrit.core.analysis.shaping import Shaping
from nembrit.core.errors import NotEnoughData
from nembrit.core.filters.stated import stated_delay_s
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.step import StepResponse
from nembrit.core.response.sureness import FLOORS, rough_of
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.tuning.best import BestGains, BestTerm, Limits, best_gains, best_term
from nembrit.core.tuning.design import Task, lag_of
from nembrit.core.tuning.flown import flown_loop
from nembrit.core.tuning.gate import LEAST_PHASE_DEG, MOST_PEAK, Ruling, ruling
from nembrit.core.tuning.residual import Check, Incoming, Residual, check_of, incoming, residual
from nembrit.core.tuning.whatif import Change, Predicted, exchanged, predicted, step_overshoot, swings
from nembrit.core.types import AXES, FloatArray

_MOTOR_SHARE, _MOTOR_FLOOR = 0.3, 0.11  # interval of predicted motor noise: of the log of its change, and from flight to flight
_NO_CHAIN = "unknown filters: enter the settings of this flight, and mark its filters on the page “Setting names”"


@dataclass(frozen=True, eq=False)
class Choosing:
    """One flight with the settings that it flew, to try others on."""

    loop: Loop | None
    steps: Mapping[str, StepResponse]
    shaping: Shaping | None
    flown: Controller | None  # its filters as configured; None where they are not known
    mixer: FloatArray  # (n_motors, 3)
    most_notches: int = 2  # fixed ones, that the craft's settings can say
    widened: float = 1.0  # intervals, by the craft's own record of predictions

    @cached_property
    def noise(self) -> Incoming:
        """The noise before the filters. Raises NotEnoughData where it or the flown chain is not known."""
        if self.shaping is None or self.shaping.rows is None:
            raise NotEnoughData(self.shaping.reason if self.shaping else "this flight is not analysed yet")
        return incoming(self.shaping.rows, self.known)

    @property
    def known(self) -> Controller:
        if self.flown is None:
            raise NotEnoughData(_NO_CHAIN)
        return self.flown

    @cached_property
    def gains(self) -> dict[str, AxisGains]:
        """Real gains by axis [SI]: from the logged terms, else as configured."""
        found = dict(self.flown.gains) if self.flown else {}
        for axis, own in (self.loop.axes if self.loop else {}).items():
            told = {term: estimate.value for term, estimate in own.gains.items()}
            found[axis] = AxisGains(p=told["p"], i=told.get("i", 0.0), d=told.get("d", 0.0), f=told.get("f", 0.0))
        return found

    @property
    def crossovers_hz(self) -> dict[str, float]:
        """Where the open loop of roll and pitch falls through 1; yaw where neither is known."""
        axes = self.loop.axes if self.loop else {}
        found = {axis: own.crossover_hz for axis, own in axes.items() if own.crossover_hz is not None}
        return {axis: hz for axis, hz in found.items() if axis != "yaw"} or found

    @property
    def rotor_hz(self) -> FloatArray:
        rows = self.shaping.rows if self.shaping else None
        return rows.usual_rotor_hz if rows is not None else np.empty(0)

    def task(self, pins: frozenset[str] = frozenset()) -> Task:
        """What a chain is chosen for. Raises NotEnoughData with what is missing."""
        if not self.crossovers_hz:
            raise NotEnoughData("no loop could be measured in this flight: fly the half-minute card")
        made = self._residual(self.known, self.gains).motor_rms
        measured = self.shaping.roughness_ratio if self.shaping else None
        rest = math.sqrt(max(0.0, measured**2 - made**2)) if made and measured else 0.0
        scale = measured / math.hypot(made, rest) if made and measured else 1.0
        task = Task(
            noise=self.noise, flown=self.known, mixer=self.mixer, gains=self.gains, crossover_hz=self.crossovers_hz,
            scale=scale, rest_rms=rest, pins=pins, most_notches=self.most_notches,
        )  # fmt: skip
        return replace(task, most_lag_deg=lag_of(task, self.known) + self.lag_room_deg)

    @property
    def lag_room_deg(self) -> float:
        """By how much the margins of all measured axes let the filters be later: nothing where one is low already."""
        rooms = [
            0.0 if own.sensitivity_peak.high > MOST_PEAK else own.phase_margin_deg.low - LEAST_PHASE_DEG
            for own in (self.loop.axes.values() if self.loop else ())
            if own.phase_margin_deg is not None
        ]
        return max(0.0, min(rooms, default=0.0))

    def predicted(self, axis: str, change: Change) -> Predicted:
        """Margins and following of one axis. Raises NotEnoughData with what to fly where the flight could not tell its loop."""
        if self.loop is None or axis not in self.loop.axes:
            reason = self.loop.reasons.get(axis) if self.loop else None
            raise NotEnoughData(reason or f"{axis} could not be measured in this flight: fly the half-minute card")
        return predicted(
            self.loop.axes[axis], axis, change, flown=self.flown, step=self.steps.get(axis), rotor_hz=self.rotor_hz,
            widened=self.widened,
        )  # fmt: skip

    def flown_number(self, axis: str, name: str) -> Estimate | None:
        """A number of the axis as it flew: the overshoot of the measured step response where there is one."""
        assert self.loop is not None
        measured = step_overshoot(self.steps.get(axis)) if name == "overshoot_ratio" else None
        found: Estimate | None = measured or getattr(self.loop.axes[axis], name)
        return found

    def flown_rough(self, axis: str) -> dict[str, bool]:
        """Which of an axis's numbers the flight leaves so open that only their intervals should be told."""
        return rough_of({name: self.flown_number(axis, name) for name in FLOORS})

    def residual(self, change: Change) -> Residual:
        """The noise behind the changed chain, the loop's own change with it. Raises NotEnoughData."""
        return self._residual(change.chains or self.known, self._gains_with(change), self._sensitivity(change))

    def motors(self, change: Change) -> Estimate | None:
        """Motor noise with the change: RMS above 60 Hz, share of full range. None without motors, gains or noise.

        What the model of the flown chain does not explain of what was measured (movements, their edges) stays as it is.
        """
        measured = self.shaping.roughness_ratio if self.shaping else None
        try:
            before, after = self._residual(self.known, self.gains).motor_rms, self.residual(change).motor_rms
        except NotEnoughData:
            return None
        if not measured or not before or not after or self._oscillates(change):
            return None
        rest = max(0.0, measured**2 - before**2)
        scale = measured / math.hypot(before, math.sqrt(rest))
        value = scale * math.hypot(after, math.sqrt(rest))
        half = math.hypot(_MOTOR_FLOOR, _MOTOR_SHARE * math.log(value / measured)) * self.widened
        return Estimate(value=value, low=value * math.exp(-half), high=value * math.exp(half))

    def motor_ratio(self, change: Change) -> float:
        """Motor noise with the change over the flown one; 1 where it cannot be told."""
        told = self.motors(change)
        measured = self.shaping.roughness_ratio if self.shaping else None
        return told.value / measured if told and measured else 1.0

    def ruling(self, change: Change, *, target_rms: float | None = None) -> Ruling:
        """What stands against a change, over all axes and throttle."""
        was, becomes = self.motors(Change()), self.motors(change)
        return ruling(
            self.loop.axes if self.loop else {},
            change,
            flown=self.flown,
            rotor_hz=self.rotor_hz,
            steps=self.steps,
            motors=None if was is None or becomes is None else (was, becomes),
            target_rms=target_rms,
            widened=self.widened,
        )

    def best(self, axis: str, limits: Limits) -> BestGains:
        """The fastest P with D of one axis within the limits. Raises NotEnoughData."""
        if self.loop is None or axis not in self.loop.axes:
            self.predicted(axis, Change())  # raises with the reason
        assert self.loop is not None

        def ratio(p: float, d: float) -> float:
            return self.motor_ratio(Change(gains={axis: {"p": p, "d": d}}))

        return best_gains(
            self.loop.axes[axis],
            axis,
            limits,
            motor_ratio=ratio,
            flown=self.flown,
            step=self.steps.get(axis),
            widened=self.widened,
        )

    def best_term(self, axis: str, term: str, limits: Limits) -> BestTerm | None:
        """The best I or feed-forward of one axis; None where the flight could not tell the axis, or the gain is not there."""
        own = self.loop.axes.get(axis) if self.loop else None
        if own is None or term not in own.gains:
            return None
        return best_term(own, axis, term, limits, flown=self.flown, step=self.steps.get(axis), widened=self.widened)

    @cached_property
    def check(self) -> Check:
        """How well the flown chain's own prediction matches the logged filtered gyro. Raises NotEnoughData."""
        return check_of(self.noise, self.known)

    def budget(self, chains: Controller) -> list["Block"]:
        """What each block of a chain costs. Raises NotEnoughData where no crossover is known."""
        task = self.task()
        found = []
        for place in ("chip", "gyro", "d_term", "feed_forward"):
            for k, one in enumerate(getattr(chains, place)):
                only: dict[str, Any] = {"chip": (), "gyro": (), "d_term": (), "feed_forward": (), place: (one,)}
                alone = replace(chains, **only)
                lag = lag_of(task, alone) if place != "feed_forward" else 0.0
                delay_s = stated_delay_s((one,), chains.loop_rate_hz, self.rotor_hz)
                found.append(Block(place=place, position=k, filter=one, delay_s=delay_s, lag_deg=lag))
        return found

    def _residual(
        self, chains: Controller, gains: Mapping[str, AxisGains], sensitivity: Mapping[str, FloatArray] | None = None
    ) -> Residual:
        return residual(self.noise, self.known, chains, mixer=self.mixer, gains=gains, sensitivity=sensitivity)

    def _gains_with(self, change: Change) -> dict[str, AxisGains]:
        return {
            axis: AxisGains(**{term: getattr(own, term) * change.ratio(axis, term) for term in "pidf"})
            for axis, own in self.gains.items()
        }

    def _oscillates(self, change: Change) -> bool:
        """Whether any axis would: then its noise is no number."""
        return any(
            swings(flown_loop(own).loop(exchanged(own, axis, change, self.flown, self.rotor_hz)))
            and not swings(flown_loop(own).loop())
            for axis, own in (self.loop.axes if self.loop else {}).items()
        )

    def _sensitivity(self, change: Change) -> dict[str, FloatArray]:
        """|S_new / S_flown|² on the noise's frequencies: what the loop itself makes of it."""
        hz = self.noise.rows.frequency_hz
        found = {}
        for axis, own in (self.loop.axes if self.loop else {}).items():
            parts = flown_loop(own)
            after = parts.loop(exchanged(own, axis, change, self.flown, self.rotor_hz))
            if not swings(after):
                ratio = np.abs((1 + parts.loop()) / (1 + after)) ** 2
                found[axis] = np.interp(hz, parts.frequency_hz, ratio, right=1.0)
        return found


@dataclass(frozen=True, slots=True, kw_only=True)
class Block:
    """One filter of a chain and what it costs."""

    place: str
    position: int
    filter: Filter
    delay_s: float  # group delay at 0 Hz
    lag_deg: float  # at the crossover, of what passes through P with D


def axes_told(choosing: Choosing) -> list[str]:
    """Axes whose loop the flight could tell."""
    return [axis for axis in AXES if choosing.loop is not None and axis in choosing.loop.axes]
