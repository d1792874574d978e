"""Numbers that follow from a stream of values: per cell, used charge, minutes left, the way home, distance from home."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field

from nembrit.core.telemetry.home import minutes_left, way_home

Value = float | str
_METRES_PER_DEGREE = 111_320.0
_SMOOTH_S, _LONGEST_STEP_S = 20.0, 3.0


@dataclass(slots=True)
class Watch:
    """Carries what is summed from row to row."""

    cells: int = 4
    capacity_mah: float | None = None
    used_mah: float = 0.0
    home_deg: tuple[float, float] | None = None
    _last_s: float | None = None
    _smooth: dict[str, float] = field(default_factory=dict)

    def feed(self, now_s: float, values: Mapping[str, Value]) -> dict[str, Value]:
        """The values with what follows from them."""
        found = dict(values)
        voltage, current = _number(found, "battery_voltage"), _number(found, "battery_current")
        step_s = 0.0
        if current is not None:  # other lines between two with a current take no time of theirs
            step_s = 0.0 if self._last_s is None else min(max(0.0, now_s - self._last_s), _LONGEST_STEP_S)
            self._last_s = now_s
        if voltage is not None and "cell_v" not in found:
            found["cell_v"] = voltage / max(1, self.cells)
        if current is not None:
            self.used_mah += max(0.0, current) * step_s / 3.6
            usual_a = self._usual("current", current, step_s)
            if "used_mah" not in found:
                found["used_mah"] = self.used_mah
            if self.capacity_mah:
                left = minutes_left(capacity_mah=self.capacity_mah, used_mah=_number(found, "used_mah") or 0.0, current_a=usual_a)
                if left is not None:
                    found["minutes_left"] = left
        self._place(found)
        self._home(found, step_s)
        return found

    def _place(self, found: dict[str, Value]) -> None:
        latitude, longitude = _number(found, "latitude"), _number(found, "longitude")
        if latitude is None or longitude is None or (latitude == 0 and longitude == 0):
            return
        if self.home_deg is None:
            self.home_deg = (latitude, longitude)
        north = (latitude - self.home_deg[0]) * _METRES_PER_DEGREE
        east = (longitude - self.home_deg[1]) * _METRES_PER_DEGREE * math.cos(math.radians(self.home_deg[0]))
        found |= {"north_m": north, "east_m": east}
        found.setdefault("home_distance", math.hypot(north, east))

    def _home(self, found: dict[str, Value], step_s: float) -> None:
        speed = _number(found, "airspeed")
        if speed is None:
            speed = _number(found, "ground_speed")
        distance, used = _number(found, "home_distance"), _number(found, "used_mah")
        if speed is None or distance is None or used is None or not self.capacity_mah or "current" not in self._smooth:
            return
        usual = self._usual("speed", speed, step_s)
        own = way_home(
            distance_m=distance, speed_m_s=usual, current_a=self._smooth["current"], capacity_mah=self.capacity_mah, used_mah=used
        )
        if distance > 20:
            found["energy_margin"] = max(-1.0, own.margin) if math.isfinite(own.margin) else -1.0

    def _usual(self, name: str, value: float, step_s: float) -> float:
        share = 1 - math.exp(-step_s / _SMOOTH_S)
        self._smooth[name] = self._smooth.get(name, value) + share * (value - self._smooth.get(name, value))
        return self._smooth[name]


def _number(values: Mapping[str, Value], name: str) -> float | None:
    value = values.get(name)
    return value if isinstance(value, float) else None
