"""Two mirrored servos taken apart: what they do together is one axis, what they do against each other the other."""

from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

PAIRS = {"v_tail": ("pitch", "yaw"), "a_tail": ("pitch", "yaw"), "elevons": ("pitch", "roll")}
_LEFT_FIRST = ("v_tail",)  # where the left surface counts positive in the difference


@dataclass(frozen=True, slots=True, kw_only=True)
class Servo:
    """One servo: pulse at the middle [µs], travel for full deflection [µs], and which way it counts (+1 or −1)."""

    centre_us: float = 1500.0
    throw_us: float = 500.0
    direction: int = 1

    def __post_init__(self) -> None:
        if not 500 <= self.centre_us <= 2500 or not 50 <= self.throw_us <= 1000:
            raise InputError(f"a servo’s centre lies from 500 to 2500 µs and its travel from 50 to 1000 µs, got {self}")
        if self.direction not in (1, -1):
            raise InputError(f"a direction is 1 or -1, got {self.direction}")

    def deflection(self, pulse_us: FloatArray | float) -> FloatArray | float:
        """Share of full deflection, positive the way the surface’s own axis counts (a V-tail’s and an elevon’s: nose up)."""
        return self.direction * (pulse_us - self.centre_us) / self.throw_us

    def pulse_us(self, deflection: FloatArray | float) -> FloatArray | float:
        """The pulse that gives a deflection: the inverse of `deflection`."""
        return self.centre_us + self.direction * self.throw_us * deflection


def split(left: FloatArray | float, right: FloatArray | float, pair: str) -> tuple[FloatArray | float, FloatArray | float]:
    """Common and differential part of two deflections.

    V-tail: pitch = (left + right)/2, yaw = (left − right)/2; elevons: pitch = (left + right)/2, roll = (right − left)/2.
    An inverted V-tail (A-tail) leans the other way, so that its yaw is (right − left)/2. By definition. Mirrored servos have
    opposite directions, so that in microseconds the common part is yaw (or roll).

    >>> split(0.25, -0.25, "v_tail"), split(0.25, 0.25, "elevons")
    ((0.0, 0.25), (0.25, 0.0))
    """
    if pair not in PAIRS:
        raise InputError(f"“{pair}” is not a pair; expected one of {', '.join(PAIRS)}")
    against = (left - right) / 2 if pair in _LEFT_FIRST else (right - left) / 2
    return (left + right) / 2, against


def joined(common: FloatArray | float, against: FloatArray | float, pair: str) -> tuple[FloatArray | float, FloatArray | float]:
    """Deflections of the left and the right servo: the inverse of `split`.

    >>> joined(0.0, 0.25, "v_tail"), joined(0.1, 0.3, "elevons")
    ((0.25, -0.25), (-0.19999999999999998, 0.4))
    """
    if pair not in PAIRS:
        raise InputError(f"“{pair}” is not a pair; expected one of {', '.join(PAIRS)}")
    half = against if pair in _LEFT_FIRST else -against
    return common + half, common - half
