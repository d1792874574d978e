"""Under which conditions a flight was flown: what a comparison should have alike, and what an old fault needs to come back."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray

_START_S, _FULL_THROTTLE, _SAG_S = 3.0, 0.9, 0.2


@dataclass(frozen=True, slots=True, kw_only=True)
class Conditions:
    """Of the usable part of a flight; None where it was not recorded."""

    duration_s: float
    start_v: float | None  # of the pack, in flight
    lowest_v: float | None  # under load
    mean_current_a: float | None
    highest_throttle_ratio: float | None
    full_throttle_s: float | None
    highest_temperature_c: float | None  # of the gyro


def conditions_of(recording: Recording) -> Conditions:
    """Measure the conditions of a recording.

    `start_v` is the highest voltage of the first three seconds; `lowest_v` and the highest throttle are those that lasted
    for 0.2 s, so that no single sample makes them; voltages [V], current [A], throttle as a share of full, times [s].
    Method of our own, by definition.
    """

    def known(role: str) -> FloatArray | None:
        samples = recording.channels.get(role)
        return samples if samples is not None and np.isfinite(samples).any() else None

    rate_hz = recording.sample_rate_hz
    volts, amps, throttle = known("battery_voltage"), known("battery_current"), known("throttle")
    warmth = known("gyro_temperature")
    short = max(1, round(_SAG_S * rate_hz))
    return Conditions(
        duration_s=recording.duration_s,
        start_v=None if volts is None else float(np.nanmax(volts[: max(1, round(_START_S * rate_hz))])),
        lowest_v=None if volts is None else _lasting(volts, short, lowest=True),
        mean_current_a=None if amps is None else float(np.nanmean(amps)),
        highest_throttle_ratio=None if throttle is None else _lasting(throttle, short, lowest=False),
        full_throttle_s=None if throttle is None else float(np.count_nonzero(throttle >= _FULL_THROTTLE) / rate_hz),
        highest_temperature_c=None if warmth is None else float(np.nanmax(warmth)),
    )


def _lasting(samples: FloatArray, n: int, *, lowest: bool) -> float:
    """The lowest, or highest, mean of n samples in a row."""
    whole = samples[: samples.size // n * n].reshape(-1, n)
    means = np.nanmean(whole, axis=1) if whole.size else np.array([np.nanmean(samples)])
    return float(np.nanmin(means) if lowest else np.nanmax(means))


def _run(flight: Flight) -> Conditions:
    return conditions_of(flight.recording)


CONDITIONS = Analysis(key="conditions", version=1, result=Conditions, run=_run, in_words="conditions it was flown in")
