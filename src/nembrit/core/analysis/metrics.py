"""The numbers that flights are compared by."""

from dataclasses import dataclass, field

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.analysis.noise import noise_of
from nembrit.core.analysis.wing import wing_of
from nembrit.core.errors import CoreError
from nembrit.core.noise.bands import BandLevel
from nembrit.core.trials.metrics import flight_metrics
from nembrit.core.types import AXES
from nembrit.core.wing.numbers import wing_errors, wing_numbers

_NOISE_CHANNELS = ("gyro_raw", "gyro")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Metrics:
    """Values by the metric's full name, in core units; what this flight cannot answer is absent.

    The rest tells which other flights they may be compared with.
    """

    values: dict[str, float]
    errors: dict[str, float] = field(default_factory=dict)  # standard errors, of what a flight measures with one
    noise_channel: str  # the gyro that noise was measured on: gyro_raw, gyro, or nothing
    sample_rate_hz: float
    window_s: float  # how long the usable part is


def metrics_of(flight: Flight) -> dict[str, float]:
    """The same, from what was worked out already."""
    return flight_metrics(
        flight.recording,
        levels={axis: levels for axis in AXES if (levels := _levels(flight, axis))},
        usable=flight.usable,
        steps=flight.steps,
        spans=flight.spans,
        roughness=flight.roughness,
    )


def _levels(flight: Flight, axis: str) -> tuple[BandLevel, ...]:
    for family in _NOISE_CHANNELS:
        if flight.recording.has(role := f"{family}.{axis}"):
            try:
                return noise_of(flight, role).levels
            except CoreError:
                continue
    return ()


def _run(flight: Flight) -> Metrics:
    recording = flight.recording
    if flight.craft.kind == "fixed_wing":
        wing = wing_of(flight)
        values = wing_numbers(wing.trim, wing.lurches, wing.weaving, wing.navigation, wing.rate_response, wing.pull)
        return Metrics(
            values=values, errors=wing_errors(wing.trim, wing.weaving, wing.navigation, wing.pull), noise_channel="",
            sample_rate_hz=recording.sample_rate_hz, window_s=recording.duration_s,
        )  # fmt: skip
    heard = [family for family in _NOISE_CHANNELS if any(recording.has(f"{family}.{axis}") for axis in AXES)]
    return Metrics(
        values=metrics_of(flight),
        noise_channel=heard[0] if heard else "",
        sample_rate_hz=recording.sample_rate_hz,
        window_s=recording.duration_s,
    )


METRICS = Analysis(key="metrics", version=5, result=Metrics, run=_run, in_words="numbers to compare flights by")
