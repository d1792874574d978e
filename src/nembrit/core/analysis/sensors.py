"""What the gyros are like: two boards against each other, the chip's own filter, a recording at rest."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import NotEnoughData
from nembrit.core.noise.allan import AllanCurve, Drift, RestNoise, allan_deviation, drift_with_temperature, rest_noise
from nembrit.core.noise.rest import is_at_rest
from nembrit.core.noise.select import chosen_spectrum
from nembrit.core.noise.sensors import BandRatio, Ringing, band_ratios, raw_gyro_ringing
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AxisAtRest:
    """One axis of a gyro that lay still."""

    noise: RestNoise
    curve: AllanCurve
    drift: Drift | None
    drift_reason: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Sensors:
    """Parts that this recording cannot answer are empty."""

    has_second_board: bool
    ratios: dict[str, tuple[BandRatio, ...]]  # by axis, first board over second
    refused: dict[str, str]  # axes whose boards could not be compared
    ringing: dict[str, Ringing]
    rest: dict[str, AxisAtRest]


def _run(flight: Flight) -> Sensors:
    ratios: dict[str, tuple[BandRatio, ...]] = {}
    refused: dict[str, str] = {}
    for axis in AXES:
        pair = (f"gyro_raw.{axis}", f"b/gyro_raw.{axis}")
        if not flight.recording.has(*pair):
            continue
        use = flight.recording.is_whole(pair[0]) & flight.recording.is_whole(pair[1])
        try:
            first, second = (chosen_spectrum(flight.recording, role, use) for role in pair)
        except NotEnoughData as error:
            refused[axis] = str(error)
            continue
        ratios[axis] = band_ratios(first, second)
    return Sensors(
        has_second_board=flight.recording.has("b/gyro_raw.roll"),
        ratios=ratios,
        refused=refused,
        ringing=dict(raw_gyro_ringing(flight.frames, flight.order_mask)) if flight.frames is not None else {},
        rest=_at_rest(flight),
    )


def _at_rest(flight: Flight) -> dict[str, AxisAtRest]:
    recording = flight.recording
    if not is_at_rest(recording):
        return {}
    found = {}
    for axis in AXES:
        role = next((role for family in ("gyro_raw", "gyro") if recording.has(role := f"{family}.{axis}")), "")
        if not role:
            continue
        values = recording.channels[role]
        values = values[np.isfinite(values)]
        rate_hz = recording.sample_rate_hz
        drift, reason = None, "the gyro’s temperature is not recorded"
        if recording.has("gyro_temperature"):
            try:
                temperature = recording.channels["gyro_temperature"][: values.size]
                drift = drift_with_temperature(values, temperature, sample_rate_hz=rate_hz)
            except NotEnoughData as error:
                reason = str(error)
        found[axis] = AxisAtRest(
            noise=rest_noise(values, sample_rate_hz=rate_hz),
            curve=allan_deviation(values, sample_rate_hz=rate_hz),
            drift=drift,
            drift_reason="" if drift else reason,
        )
    return found


SENSORS = Analysis(key="sensors", version=1, result=Sensors, run=_run, in_words="what the gyros are like")
