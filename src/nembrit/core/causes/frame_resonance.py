"""A part of the frame that rings: a narrow line that stays at its frequency at every throttle."""

import numpy as np

from nembrit.core.causes.cause import LEAST_S, MECHANICAL, Cause, Measured, Repair, Shown, Values, Words, log2, over
from nembrit.core.causes.sight import Sight
from nembrit.core.noise.lines import Line
from nembrit.core.records.needs import Need
from nembrit.core.rotors.orders import cleaned_density
from nembrit.core.rotors.track import commanded_track
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import FloatArray

_NARROW_HZ = 30.0
_LOWEST_HZ = 60.0


def _measure(sight: Sight) -> Measured:
    """The strongest narrow line of roll or pitch that stays put, its level and what it amounts to in hover."""
    frames = sight.frames
    if frames is None:
        return Measured(untested=sight.reasons["frames"])
    if sight.track is None and commanded_track(frames) is None:
        return Measured(
            untested="needs motor speeds, or a throttle ramp, to separate fixed lines from lines that follow the motors"
        )
    best: tuple[float, float, str, Line] | None = None
    for role, found in sight.lines.items():
        density = sight.densities[role] if sight.track is not None else _steady_density(frames, role)
        for line in found:
            is_narrow = line.width_hz < _NARROW_HZ and line.frequency_hz >= _LOWEST_HZ
            if line.kind not in ("resonance", "unknown") or not is_narrow or role.endswith("yaw"):
                continue
            level_db, rms_dps = _strength(frames, density, line)
            if best is None or rms_dps > best[1]:
                best = (level_db, rms_dps, role, line)
    values = {"resonance_db": best[0] if best else 0.0, "resonance_rms_dps": best[1] if best else 0.0}
    return Measured(values=values, seen=(best[2].split(".")[-1], best[3]) if best else None)


def _steady_density(frames: Frames, role: str) -> FloatArray:
    """The middle one of the densities at low, middle and high throttle: a motor's line is in one of them only."""
    drive = frames.drive()
    thirds = np.array_split(np.argsort(drive[0] if drive else frames.t_s), 3)
    return np.asarray(
        np.median([cleaned_density(frames, role, None, np.isin(np.arange(frames.t_s.size), part)) for part in thirds], axis=0)
    )


def _strength(frames: Frames, density: FloatArray, line: Line) -> tuple[float, float]:
    """Level above the surroundings [dB] and RMS above them [deg/s]."""
    near = np.abs(frames.frequency_hz - line.frequency_hz)
    floor = float(np.median(density[(near > 20) & (near <= 60)]))
    excess = np.clip(density[near <= 12] - floor, 0, None)
    level_db = 10 * np.log10(max(float(density[near <= 5].max()), 1e-12) / max(floor, 1e-12))
    return float(level_db), float(np.sqrt(excess.sum() * frames.bin_hz))


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "resonance_db" not in v:
        return None
    loud = over(log2(v["resonance_rms_dps"]), -2.0, 0.5)  # from a quarter of a degree a second on
    return (min(loud, over(v["resonance_db"], 6.0, 2.5)), loud)


def _words(v: Values, seen: tuple[str, Line]) -> Words:
    axis, line = seen
    error = "" if line.error_hz is None else f" ± {max(1, round(line.error_hz))}"
    return Words(
        axis=axis,
        highlight=f"A {line.level_db:.1f} dB line is fixed at {line.frequency_hz:.0f}{error} Hz",
        conclusion=f"at every throttle, strongest in {axis}: a part of the frame resonates.",
        evidence={"peak_hz": line.frequency_hz, "level_db": line.level_db, "width_hz": line.width_hz},
    )


CAUSE = Cause(
    code="frame_resonance",
    kind=MECHANICAL,
    name="frame resonance",
    needs=Need(rate_hz=450, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(("a motor line that hardly moves", "fly the throttle ramp: a resonance keeps its frequency"),),
    shows=(
        Shown(name="resonance_db", label="line above the noise around it", unit="dB"),
        Shown(name="resonance_rms_dps", label="its size in hover", unit="deg/s"),
    ),
    proof="Fly the throttle ramp from a tenth to nine tenths: a resonance keeps its frequency, motor lines move. Then "
    "stiffen that part.",
    repair=Repair(
        part="frame", title="Stiffened the ringing part", button="Record the stiffened frame", metric="jitter_noise.{axis}"
    ),
)
