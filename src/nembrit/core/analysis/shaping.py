"""What filters have to work on: the noise before and after them by motor speed, and how rough the motors were."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.noise.rows import NoiseRows, noise_rows
from nembrit.core.spectra.frames import frames_with
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Shaping:
    """`rows` is None where no noise could be measured; `reason` says why."""

    rows: NoiseRows | None
    roughness_ratio: float | None  # RMS of motor commands above 60 Hz, share of full range
    reason: str = ""


def _run(flight: Flight) -> Shaping:
    frames = flight.frames
    if frames is None:
        return Shaping(rows=None, roughness_ratio=None, reason=flight.reasons["frames"])
    densities = {role: values for role, values in frames.power.items() if role.startswith("gyro")}
    others = [role for axis in AXES if flight.recording.has(role := f"gyro.{axis}") and role not in densities]
    alike = frames_with(frames, flight.recording, others) if others else None
    if alike is not None:
        densities |= {role: alike.power[role] for role in others}
    rows = noise_rows(frames, densities, flight.track)
    rough = flight.roughness
    return Shaping(
        rows=rows,
        roughness_ratio=None if rough is None else rough.overall_ratio,
        reason="" if rows is not None else "no gyro channel in this log",
    )


SHAPING = Analysis(key="shaping", version=1, result=Shaping, run=_run, in_words="what filters work on")
