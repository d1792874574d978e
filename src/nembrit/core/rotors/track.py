"""How fast the motors turn in every frame: as recorded, or estimated from the lines that move with them."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.rotors.search import relative_volts, speed_law
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import FloatArray

_LEAST_RISE = 1.5
_USUAL_FULL_HZ = 450.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RotorTrack:
    """Speed of every motor in every frame [turns a second], shape (n_frames, n_motors)."""

    hz: FloatArray
    is_recorded: bool
    level: float  # how far the estimated lines stand out (natural log of power); 0 where recorded
    full_hz: float | None = None  # speed at full command and the median pack voltage, where estimated
    is_relative: bool = False  # only how the motors' speeds compare is known, not how fast they turn

    @property
    def mean_hz(self) -> FloatArray:
        mean: FloatArray = self.hz.mean(axis=1)
        return mean


def rotor_track(frames: Frames) -> RotorTrack | None:
    """Speeds as recorded, else by an order search; None where neither motors nor lines say anything."""
    if frames.rotor_hz is not None and float(np.median(frames.rotor_hz)) > 5:
        return RotorTrack(hz=frames.rotor_hz, is_recorded=True, level=0.0)
    law = speed_law(frames)
    if law is None or frames.motors is None:
        return None
    hz = np.maximum(frames.motors, 0) ** law.exponent * relative_volts(frames)[:, None] * law.full_hz
    return RotorTrack(hz=hz, is_recorded=False, level=law.level, full_hz=law.full_hz)


def commanded_track(frames: Frames) -> RotorTrack | None:
    """Motors' speeds against one another from their commands alone, as if a usual motor; no place of a line follows.

    None where no motor is commanded or the throttle hardly moves. Speed rises with command to the power of 0.8, the
    middle of what `speed_law` finds (our own trials, no source).
    """
    if frames.motors is None or frames.motors.shape[1] < 3:
        return None
    mean = frames.motors.mean(axis=1)
    if float(np.quantile(mean, 0.95)) < _LEAST_RISE * float(np.quantile(mean, 0.05)):
        return None
    hz = np.maximum(frames.motors, 0) ** 0.8 * relative_volts(frames)[:, None] * _USUAL_FULL_HZ
    return RotorTrack(hz=hz, is_recorded=False, level=0.0, is_relative=True)
