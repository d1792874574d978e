"""Numbers that follow from a stream of values: per cell, used charge, minutes left, the way home, distance from home."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from nembrit.core.telemetry.air import Air
from nembrit.core.telemetry.home import headwind_home, minutes_left, way_home
from nembrit.core.telemetry.pack import REST_A, Charge, PackWatch

Value = float | str
_METRES_PER_DEGREE = 111_320.0
_SMOOTH_S, _LONGEST_STEP_S, _NEAR_M = 20.0, 3.0, 20.0


@dataclass(slots=True)
class Watch:
    """Carries what is summed from row to row."""

    cells: int = 4
    capacity_mah: float | None = None
    chemistry: str = "lipo"
    used_mah: float = 0.0
    home_deg: tuple[float, float] | None = None
    pack: PackWatch | None = None
    air: Air = field(default_factory=Air)
    counted_until_s: float = -math.inf  # charge up to here is summed already
    _last_s: float | None = None
    _smooth: dict[str, float] = field(default_factory=dict)
    _left_mah: float | None = None

    def __post_init__(self) -> None:
        if self.capacity_mah and self.pack is None:
            self.pack = PackWatch(capacity_mah=self.capacity_mah, chemistry=self.chemistry)

    @property
    def carried(self) -> dict[str, Any]:
        """What another watch needs to carry on from here."""
        start = self.pack.start if self.pack else None
        return {
            "used_mah": self.used_mah, "home_deg": self.home_deg, "start": [start.ratio, start.least_ratio] if start else None,
            "pack_note": self.pack.note if self.pack else "",
        }  # fmt: skip

    def carry_on(self, document: Mapping[str, Any]) -> None:
        """Take over from a watch that ended: used charge, home, and what the pack held."""
        self.used_mah = float(document.get("used_mah") or 0.0)
        self.counted_until_s = float(document.get("last_s") or -math.inf)
        home, start = document.get("home_deg"), document.get("start")
        self.home_deg = (float(home[0]), float(home[1])) if home else None
        if self.pack and start:
            self.pack.start = Charge(ratio=float(start[0]), least_ratio=float(start[1]))
            self.pack.note = str(document.get("pack_note") or "")

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
            self._charge(now_s, found, current, step_s)
        self._place(found)
        self.air.feed(now_s, found)
        self._home(found, step_s)
        return found

    def _charge(self, now_s: float, found: dict[str, Value], current: float, step_s: float) -> None:
        if now_s > self.counted_until_s:
            self.used_mah += max(0.0, current) * step_s / 3.6
        used = _number(found, "used_mah")
        if used is None:
            found["used_mah"] = used = self.used_mah
        if self.pack is None:
            return
        self._left_mah = self.pack.feed(now_s, cell_v=_number(found, "cell_v"), current_a=current, used_mah=used)
        if self.pack.note:
            found["pack_note"] = self.pack.note
        if current <= REST_A:  # on the ground: what it takes there says nothing of flying
            self._smooth.pop("current", None)
            return
        usual_a = self._usual("current", current, step_s)
        if self._left_mah is not None:
            left = minutes_left(left_mah=self._left_mah, current_a=usual_a)
            if left is not None:
                found["minutes_left"] = left

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
        """Whether what the pack holds at least brings it home: by the wind where it was measured."""
        speed = _number(found, "airspeed")
        if speed is None:
            speed = _number(found, "ground_speed")
        distance = _number(found, "home_distance")
        if speed is None or distance is None or self._left_mah is None or "current" not in self._smooth:
            return
        usual = self._usual("speed", speed, step_s)
        wind, north, east = self.air.wind, _number(found, "north_m"), _number(found, "east_m")
        against = (
            None if wind is None or north is None or east is None else headwind_home(north, east, wind.north_m_s, wind.east_m_s)
        )
        if wind is not None:
            found |= {"wind_m_s": wind.speed_m_s, "wind_from_deg": wind.from_deg}
        own = way_home(
            distance_m=distance, speed_m_s=usual, current_a=self._smooth["current"], left_mah=self._left_mah, headwind_m_s=against
        )
        if distance > _NEAR_M:
            found["energy_margin"] = max(-1.0, own.margin) if math.isfinite(own.margin) else -1.0

    def _usual(self, name: str, value: float, step_s: float) -> float:
        share = 1 - math.exp(-step_s / _SMOOTH_S)
        self._smooth[name] = self._smooth.get(name, value) + share * (value - self._smooth.get(name, value))
        return self._smooth[name]


def _number(values: Mapping[str, Value], name: str) -> float | None:
    value = values.get(name)
    return value if isinstance(value, float) else None
