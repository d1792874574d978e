"""A loose or cracked arm: one axis alone has a mode that moves down as the arm carries more."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage

from nembrit.core.causes.cause import LEAST_S, MECHANICAL, Cause, Measured, Repair, Shown, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.rotors.orders import cleaned_density
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import AXES, BoolArray, FloatArray

_BAND_HZ, _SMOOTH_HZ, _AROUND_HZ = (25.0, 140.0), 6.0, 60.0
_SEARCH_RATIO = 0.35  # of its frequency, to either side, for the same mode at other throttle
_LEAST_FRAMES = 8
_TOP_HZ = 220.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ArmMode:
    """The mode that stands out most in one of roll and pitch."""

    axis: str
    frequency_hz: float
    level_db: float  # over its surroundings
    beyond_db: float  # over the other axis's level at the same place, each above its own surroundings
    softening_ratio: float | None  # by which it moves down from low to high throttle; None: throttle did not vary


def _measure(sight: Sight) -> Measured:
    frames = sight.frames
    if frames is None:
        return Measured(untested=sight.reasons["frames"])
    roles = {role.split(".")[-1]: role for role in sight.densities}
    if not set(AXES[:2]) <= roles.keys() or frames.frequency_hz[-1] < _TOP_HZ:
        return Measured(untested="needs the gyro of roll and pitch, logged at 450 Hz or more")
    above = {axis: _above(frames, sight.densities[roles[axis]]) for axis in AXES[:2]}
    band = (frames.frequency_hz >= _BAND_HZ[0]) & (frames.frequency_hz <= _BAND_HZ[1])
    apart = {axis: above[axis] - np.maximum(above[other], 0.0) for axis, other in zip(AXES[:2], AXES[1::-1], strict=True)}
    axis = max(AXES[:2], key=lambda one: float(apart[one][band].max()))
    at = int(np.flatnonzero(band)[apart[axis][band].argmax()])
    mode = ArmMode(
        axis=axis,
        frequency_hz=float(frames.frequency_hz[at]),
        level_db=float(above[axis][at]),
        beyond_db=float(apart[axis][at]),
        softening_ratio=_softening(sight, frames, roles[axis], float(frames.frequency_hz[at])),
    )
    values = {"arm_db": mode.level_db, "arm_beyond_db": mode.beyond_db}
    if mode.softening_ratio is not None:
        values["arm_softening_ratio"] = mode.softening_ratio
    return Measured(values=values, seen=mode)


def _above(frames: Frames, density: FloatArray) -> FloatArray:
    """A density over its surroundings [dB]: smoothed over 6 Hz, less the median of 60 Hz around."""
    level_db = 10 * np.log10(np.maximum(density, 1e-12))
    smooth = scipy.ndimage.uniform_filter1d(level_db, max(1, round(_SMOOTH_HZ / frames.bin_hz)))
    # the surroundings of a broad mode are its own flanks: a low share of them is the floor
    floor = scipy.ndimage.percentile_filter(level_db, 25, size=max(3, round(_AROUND_HZ / frames.bin_hz)))
    return np.asarray(smooth - floor)


def _softening(sight: Sight, frames: Frames, role: str, mode_hz: float) -> float | None:
    """By what share the mode's frequency is lower in the third of frames with most throttle than in that with least."""
    drive = frames.drive()
    if not drive or frames.t_s.size < 3 * _LEAST_FRAMES:
        return None
    order = np.argsort(drive[0])
    thirds = order[: order.size // 3], order[-(order.size // 3) :]
    if float(np.median(drive[0][thirds[1]])) < 1.15 * float(np.median(drive[0][thirds[0]])):
        return None
    low_hz, high_hz = (_peak_hz(sight, frames, role, np.isin(np.arange(order.size), part), mode_hz) for part in thirds)
    return (low_hz - high_hz) / mode_hz


def _peak_hz(sight: Sight, frames: Frames, role: str, part: BoolArray, near_hz: float) -> float:
    density = cleaned_density(frames, role, sight.order_mask, part)
    smooth = scipy.ndimage.uniform_filter1d(np.log(np.maximum(density, 1e-12)), max(1, round(_SMOOTH_HZ / frames.bin_hz)))
    inside = np.abs(frames.frequency_hz - near_hz) <= _SEARCH_RATIO * near_hz
    return float(frames.frequency_hz[inside][smooth[inside].argmax()])


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "arm_beyond_db" not in v:
        return None
    alone = over(v["arm_beyond_db"], 5.0, 2.5)
    moves = over(v["arm_softening_ratio"], 0.04, 0.05) if "arm_softening_ratio" in v else 0.0
    return (alone, min(alone, moves))


def _words(v: Values, mode: ArmMode) -> Words:
    falls = f", and it falls by {mode.softening_ratio:.0%} with throttle" if (mode.softening_ratio or 0.0) > 0.04 else ""
    return Words(
        axis=mode.axis,
        highlight=f"{mode.axis.capitalize()} alone shakes at {mode.frequency_hz:.0f} Hz, {mode.beyond_db:.0f} dB above the "
        f"other axis{falls}",
        conclusion=": an arm is probably loose or cracked.",
        evidence={"frequency_hz": mode.frequency_hz, "level_db": mode.level_db, "beyond_db": mode.beyond_db},
    )


CAUSE = Cause(
    code="loose_arm",
    kind=MECHANICAL,
    name="loose or cracked arm",
    needs=Need(rate_hz=450, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(
        (
            "a resonating part of the frame",
            "fly the throttle ramp: a resonance keeps its frequency, that of a loose arm falls",
        ),
        ("a loose mount", "a mount shakes roll and pitch alike; press and twist every arm by hand"),
    ),
    shows=(
        Shown(name="arm_beyond_db", label="level above the other axis", unit="dB"),
        Shown(name="arm_softening_ratio", label="fall of its frequency with throttle", unit="%", scale=100.0),
    ),
    proof="Propellers off: press, twist and tap every arm and compare it with its neighbours. Then fly the same card again.",
    repair=Repair(part="arm", title="Tightened or replaced an arm", button="Record the arm repair", metric="motion_noise.{axis}"),
)
