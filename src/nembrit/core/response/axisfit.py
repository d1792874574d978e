"""What an axis's plant is fitted to, and what a fitted plant makes of margins and following."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.response.curves import ControllerCurves
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.following import Following, following, step_frequencies, step_of
from nembrit.core.response.margins import Margins, margins
from nembrit.core.response.physical import impossible_number
from nembrit.core.response.plant import Measured, Plant, fit_plant
from nembrit.core.response.transfer import LoopResponses, log_errors
from nembrit.core.types import BoolArray, ComplexArray, FloatArray

FIT_HZ = np.geomspace(2.0, 60.0, 44)
LOOP_HZ = np.geomspace(0.4, 220.0, 900)
_MOST_LOG_ERROR = 0.5  # responses less sure than this say nothing
_LEAST_FREQUENCIES = 10
_ROUTES_APART_DEG = 3.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fit:
    """Everything that a plant is fitted to."""

    axis: str
    curves: Callable[[FloatArray], ControllerCurves]
    chain: Callable[[FloatArray], ComplexArray]
    responses: LoopResponses

    def _rows(self) -> tuple[ComplexArray, ComplexArray]:
        assert self.responses.command is not None
        return self.responses.gyro, self.responses.command

    def _sure(self) -> tuple[BoolArray, FloatArray, FloatArray, FloatArray]:
        """Frequencies that say something, and the log errors of both answers and of their quotient."""
        gyro, command = self._rows()
        errors = log_errors(gyro), log_errors(command), log_errors(gyro / command)
        sure = (errors[0] < _MOST_LOG_ERROR) & (errors[2] < _MOST_LOG_ERROR)
        if sure.sum() < _LEAST_FREQUENCIES:
            raise NotEnoughData(
                f"the sticks moved too little or too slowly on {self.axis} to separate the craft from the air: fly "
                f"the half-minute "
                "card, or weave with quick stick movements for fifteen seconds"
            )
        return sure, *(error[sure] for error in errors)  # type: ignore[return-value]  # three of them

    def by_instrument(self, row: int, start: Plant | None = None) -> Plant:
        """Route one: the plant from the quotient of both answers alone."""
        sure, _, _, error = self._sure()
        gyro, command = self._rows()
        chain = self.chain(FIT_HZ)[sure]
        one = Measured(response=(gyro / command)[row, sure], error=error, model=lambda plant: plant * chain)
        return fit_plant(FIT_HZ[sure], [one], has_lead=self.axis == "yaw", start=start)

    def refined(self, row: int, start: Plant | None) -> Plant:
        """Route two: from both answers with the controller, begun at the first; route one where the controller is no filter."""
        if self.curves(FIT_HZ).calm_d is not None:
            return self.by_instrument(row, start)
        sure, error_gyro, error_command, _ = self._sure()
        gyro, command = self._rows()
        curves, chain = self.curves(FIT_HZ), self.chain(FIT_HZ)[sure]
        feedback, forward = curves.feedback[sure], curves.forward[sure]

        def closed(plant: ComplexArray) -> ComplexArray:
            return plant * chain * forward / (1 + plant * chain * feedback)

        def asked(plant: ComplexArray) -> ComplexArray:
            return forward / (1 + plant * chain * feedback)

        both = [
            Measured(response=gyro[row, sure], error=error_gyro, model=closed),
            Measured(response=command[row, sure], error=error_command, model=asked),
        ]
        begin = start or self.by_instrument(row)
        return fit_plant(FIT_HZ[sure], both, has_lead=self.axis == "yaw", start=begin)

    def ahead(self, plant: Plant, frequency_hz: FloatArray) -> ComplexArray:
        """Command → filtered gyro."""
        return np.asarray(plant.response(frequency_hz) * self.chain(frequency_hz))

    def loop(self, plant: Plant, frequency_hz: FloatArray) -> ComplexArray:
        return np.asarray(self.ahead(plant, frequency_hz) * self.curves(frequency_hz).calm_feedback)

    def closed(self, plant: Plant, frequency_hz: FloatArray) -> ComplexArray:
        ahead = self.ahead(plant, frequency_hz)
        curves = self.curves(frequency_hz)
        return np.asarray(ahead * curves.forward / (1 + ahead * curves.feedback))

    def step(self, plant: Plant) -> tuple[FloatArray, FloatArray]:
        frequency_hz = step_frequencies().copy()
        frequency_hz[0] = 1e-3  # an integrator's own zero frequency
        return step_of(self.closed(plant, frequency_hz))

    def margins(self, plant: Plant) -> Margins:
        return margins(LOOP_HZ, self.loop(plant, LOOP_HZ))

    def following(self, plant: Plant) -> Following:
        return following(LOOP_HZ, self.closed(plant, LOOP_HZ), *self.step(plant))

    def require_possible(self, plant: Plant) -> None:
        """Raises NotEnoughData for a loop with numbers that no craft has."""
        edge, moves = self.margins(plant), self.following(plant)
        rise_s, width_hz = moves.rise_time_s, moves.bandwidth_hz
        found = impossible_number({
            "plant_delay_s": plant.delay_s, "lag_and_delay_s": plant.lag_s + plant.delay_s,
            "phase_margin_deg": edge.phase_margin_deg, "gain_margin_db": edge.gain_margin_db,
            "rise_time_s": rise_s, "bandwidth_hz": width_hz, "delay_s": moves.delay_s, "overshoot_ratio": moves.overshoot_ratio,
            "settling_time_s": moves.settling_time_s, "peak_db": moves.peak_db,
            "rise_times_bandwidth": rise_s * width_hz if rise_s and width_hz else None,
        })  # fmt: skip
        if found:
            raise NotEnoughData(
                f"the loop of {self.axis} could not be measured: {found}. Check units and the order of the motors, or "
                f"fly the half-minute card with quicker inputs in {self.axis}"
            )

    def disagreement_deg(self, plant: Plant, own: Estimate | None) -> float | None:
        """How far both routes to the phase margin are apart; None where they agree. Then something is not as assumed."""
        other = self.margins(self.by_instrument(0, plant)).phase_margin_deg
        if own is None or other is None or abs(own.value - other) <= _ROUTES_APART_DEG + own.error:
            return None
        return abs(own.value - other)
