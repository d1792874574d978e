"""One axis's loop as it was flown, taken apart so that any part can be exchanged."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.transfer import interpolated
from nembrit.core.types import ComplexArray, FloatArray

_NEARLY_0_HZ = 1e-3


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FlownLoop:
    """Curves on one grid of frequencies [Hz]: what P, I and D make of the filtered gyro, and command → filtered gyro."""

    frequency_hz: FloatArray
    ahead: ComplexArray  # motors, craft and gyro filters
    p: ComplexArray
    i: ComplexArray
    d: ComplexArray
    f: ComplexArray  # feed-forward on the set-point
    is_d_on_error: bool

    def loop(self, with_: "Exchanged | None" = None) -> ComplexArray:
        """Open loop, parts exchanged; as flown without."""
        new = with_ or Exchanged()
        return np.asarray(self.ahead * new.gyro * (new.p * self.p + new.i * self.i + new.d * self.d))

    def closed(self, with_: "Exchanged | None" = None) -> ComplexArray:
        """Set-point → filtered gyro, parts exchanged likewise."""
        new = with_ or Exchanged()
        forward = new.p * self.p + new.i * self.i + new.f * self.f + (new.d * self.d if self.is_d_on_error else 0.0)
        return np.asarray(self.ahead * new.gyro * forward / (1 + self.loop(new)))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Exchanged:
    """What each part is multiplied by: ratios of gains, quotients of new and flown filters."""

    p: float = 1.0
    i: float = 1.0
    d: ComplexArray | float = 1.0
    f: ComplexArray | float = 1.0
    gyro: ComplexArray | float = 1.0


def flown_loop(found: AxisLoop) -> FlownLoop:
    """Take a measured loop apart; its curves are the refined model's with the controller as measured."""
    hz = found.frequency_hz
    s = 2j * np.pi * hz
    gains = {term: estimate.value for term, estimate in found.gains.items()}
    i = np.asarray(gains.get("i", 0.0) / s, complex)
    p, d, f = (_curve(part, hz.size) for part in (found.p_part, found.d_part, found.f_part))
    opened = 10 ** (found.open_db / 20) * np.exp(1j * np.radians(found.open_deg))
    return FlownLoop(frequency_hz=hz, ahead=opened / (p + i + d), p=p, i=i, d=d, f=f, is_d_on_error=found.is_d_on_error)


def _curve(part: FloatArray, n: int) -> ComplexArray:
    """A part of the controller from its size and phase; nought where it does nothing."""
    return np.asarray(part[0] * np.exp(1j * np.radians(part[1])) if part.shape[1] else np.zeros(n, complex))


def on_grid(frequency_hz: FloatArray, known_hz: FloatArray, closed: ComplexArray) -> ComplexArray:
    """A closed loop on another grid; towards 0 Hz it follows fully, as a loop with an integral does."""
    return interpolated(frequency_hz, np.concatenate(([_NEARLY_0_HZ], known_hz)), np.concatenate(([1.0 + 0j], closed)))
