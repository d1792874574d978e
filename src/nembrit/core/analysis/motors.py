"""What shakes: vibration in hover, spikes, and every motor by itself."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.noise.motors import MotorShares
from nembrit.core.noise.roughness import OutputRoughness
from nembrit.core.noise.spikes import Spikes
from nembrit.core.noise.vibration import Vibration


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Motors:
    """Parts without their channels are None or absent."""

    vibration: Vibration | None
    spikes: dict[str, Spikes]  # by axis; without the raw gyro there are none
    turning: MotorShares | None  # once per turn
    rough: MotorShares | None  # at high frequencies
    roughness: OutputRoughness | None
    has_recorded_speeds: bool | None  # None: speeds are not known


def _run(flight: Flight) -> Motors:
    return Motors(
        vibration=flight.vibration,
        spikes=dict(flight.spikes),
        turning=flight.symptoms.seen["propeller"],
        rough=flight.symptoms.seen["bearing"],
        roughness=flight.roughness,
        has_recorded_speeds=flight.track.is_recorded if flight.track else None,
    )


MOTORS = Analysis(key="motors", version=1, result=Motors, run=_run, in_words="vibration and motors")
