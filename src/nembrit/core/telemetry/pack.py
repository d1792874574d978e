"""What a pack holds: its charge by the voltage at rest, and when later voltages contradict that."""

from dataclasses import dataclass, field

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.packs import CHEMISTRIES, USABLE_RATIO

# voltage of a cell at rest → share of its charge (typical curves from memory, common practice, no source)
_AT_REST: dict[str, tuple[tuple[float, ...], tuple[float, ...]]] = {
    "lipo": ((3.27, 3.61, 3.69, 3.73, 3.77, 3.80, 3.84, 3.87, 3.95, 4.02, 4.11, 4.20),
             (0.0, 0.05, 0.10, 0.20, 0.30, 0.40, 0.50, 0.60, 0.70, 0.80, 0.90, 1.0)),
    "lihv": ((3.27, 3.61, 3.69, 3.75, 3.80, 3.85, 3.91, 3.98, 4.06, 4.14, 4.24, 4.35),
             (0.0, 0.05, 0.10, 0.20, 0.30, 0.40, 0.50, 0.60, 0.70, 0.80, 0.90, 1.0)),
    "liion": ((2.80, 3.20, 3.40, 3.50, 3.57, 3.62, 3.68, 3.76, 3.84, 3.94, 4.05, 4.20),
              (0.0, 0.05, 0.10, 0.20, 0.30, 0.40, 0.50, 0.60, 0.70, 0.80, 0.90, 1.0)),
}  # fmt: skip
_ERROR_V, _ERROR_RATIO = 0.02, 0.05  # of the meter and of the curve from pack to pack
REST_A, _FIRST_MAH_RATIO = 1.5, 0.02  # a pack counts as at rest below this current, and before this share was used
_LOW_S, _CONTRADICTED_RATIO = 3.0, 0.35


@dataclass(frozen=True, slots=True, kw_only=True)
class Charge:
    """Share of a pack's charge, and the least that it may be."""

    ratio: float
    least_ratio: float


def charge_at_rest(cell_v: float, *, chemistry: str = "lipo") -> Charge:
    """Charge by the voltage of a cell that has rested. Raises InputError for another chemistry.

    Error: 20 mV of the meter and 5 % of the curve; on its flat middle that makes up to 15 % of the charge.

    >>> charge_at_rest(4.2).ratio, charge_at_rest(3.8).ratio, round(charge_at_rest(3.8).least_ratio, 2)
    (1.0, 0.4, 0.28)
    """
    if chemistry not in _AT_REST:
        raise InputError(f"“{chemistry}” is no chemistry; expected one of {', '.join(_AT_REST)}")
    volts, ratios = _AT_REST[chemistry]
    ratio = float(np.interp(cell_v, volts, ratios))
    if ratio >= 1:
        return Charge(ratio=1.0, least_ratio=1.0 - _ERROR_RATIO)
    return Charge(ratio=ratio, least_ratio=max(0.0, float(np.interp(cell_v - _ERROR_V, volts, ratios)) - _ERROR_RATIO))


@dataclass(slots=True)
class PackWatch:
    """Follows one pack: how much it held when it was first seen at rest, and whether its voltage agrees with what is counted.

    `note` is empty or says why nothing can be said of what is left.
    """

    capacity_mah: float
    chemistry: str = "lipo"
    start: Charge | None = None
    note: str = ""
    _low_since_s: float | None = None
    _rested: list[float] = field(default_factory=list)

    def feed(self, now_s: float, *, cell_v: float | None, current_a: float, used_mah: float) -> float | None:
        """Charge above the reserve, at least [mAh]; None where it is unknown."""
        if cell_v is not None:
            self._look(now_s, cell_v, current_a, used_mah)
        if self.start is None:
            self.note = "Minutes left are unknown: the recording began under load. Start it before take-off"
            return None
        if self.note:
            return None
        return self.capacity_mah * (self.start.least_ratio - (1 - USABLE_RATIO)) - used_mah

    def _look(self, now_s: float, cell_v: float, current_a: float, used_mah: float) -> None:
        if current_a <= REST_A and used_mah <= _FIRST_MAH_RATIO * self.capacity_mah:
            self._rested = [*self._rested[-8:], cell_v]
            self.start = charge_at_rest(float(np.median(self._rested)), chemistry=self.chemistry)
            self.note = ""
        if cell_v >= CHEMISTRIES[self.chemistry].landing_v:
            self._low_since_s = None
            return
        self._low_since_s = now_s if self._low_since_s is None else self._low_since_s
        left = (self.start.ratio if self.start else 0.0) - used_mah / self.capacity_mah
        if now_s - self._low_since_s >= _LOW_S and left > _CONTRADICTED_RATIO:
            self.note = (
                f"Minutes left are unknown: {100 * left:.0f} % should remain, yet a cell is down at {cell_v:.2f} V. "
                "Land; check capacity and cells"
            )
