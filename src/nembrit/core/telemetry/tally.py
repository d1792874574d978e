"""What telemetry alone says of a flight: endurance, link and track, summed row by row."""

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any

from nembrit.core.setup.packs import endurance_s
from nembrit.core.telemetry.pack import REST_A

Value = float | str
_LONGEST_STEP_S, _LEAST_MOVE_M, _LEAST_FLIGHT_S = 3.0, 3.0, 30.0


@dataclass(slots=True)
class Tally:
    """Sums and extremes over the rows; None where a quantity never came."""

    flying_s: float = 0.0  # with a current above that of the ground
    flying_mah: float = 0.0
    track_m: float = 0.0
    lowest_cell_v: float | None = None
    highest_current_a: float | None = None
    furthest_m: float | None = None
    highest_m: float | None = None
    fastest_m_s: float | None = None
    weakest_link: float | None = None
    weakest_link_at_m: float | None = None  # distance from home there
    last_s: float | None = None
    last_north_m: float | None = None
    last_east_m: float | None = None

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> "Tally":
        """A tally that was written as `as_document`; what is no number counts as missing."""
        known = {one.name: document.get(one.name) for one in fields(cls)}
        found = cls(**{name: float(value) for name, value in known.items() if isinstance(value, (int, float))})
        found.flying_s, found.flying_mah, found.track_m = (
            value or 0.0 for value in (found.flying_s, found.flying_mah, found.track_m)
        )
        return found

    def as_document(self) -> dict[str, float | None]:
        return asdict(self)

    def feed(self, now_s: float, values: Mapping[str, Value]) -> None:
        """Take a row as `Watch` made it."""
        current = _number(values, "battery_current")
        if current is not None:
            step_s = 0.0 if self.last_s is None else min(max(0.0, now_s - self.last_s), _LONGEST_STEP_S)
            self.last_s = now_s
            if current > REST_A:
                self.flying_s += step_s
                self.flying_mah += current * step_s / 3.6
        self.highest_current_a = _most(self.highest_current_a, current)
        self.furthest_m = _most(self.furthest_m, _number(values, "home_distance"))
        self.highest_m = _most(self.highest_m, _number(values, "altitude"))
        self.fastest_m_s = _most(self.fastest_m_s, _number(values, "ground_speed"))
        cell_v = _number(values, "cell_v")
        if cell_v is not None and cell_v > 0.5 and (self.lowest_cell_v is None or cell_v < self.lowest_cell_v):
            self.lowest_cell_v = cell_v
        link = _number(values, "link_quality")
        if link is not None and (self.weakest_link is None or link < self.weakest_link):
            self.weakest_link, self.weakest_link_at_m = link, _number(values, "home_distance")
        self._move(_number(values, "north_m"), _number(values, "east_m"))

    def _move(self, north: float | None, east: float | None) -> None:
        if north is None or east is None:
            return
        if self.last_north_m is None or self.last_east_m is None:
            self.last_north_m, self.last_east_m = north, east
            return
        moved = math.hypot(north - self.last_north_m, east - self.last_east_m)
        if moved >= _LEAST_MOVE_M:  # below it the receiver's own scatter would add up
            self.track_m += moved
            self.last_north_m, self.last_east_m = north, east

    @property
    def mean_current_a(self) -> float | None:
        """While it flew; None below half a minute."""
        return self.flying_mah * 3.6 / self.flying_s if self.flying_s >= _LEAST_FLIGHT_S else None

    def endurance_s(self, capacity_mah: float | None) -> float | None:
        """Of a full pack at this flight's mean current, with a fifth kept."""
        mean_a = self.mean_current_a
        return None if mean_a is None or not capacity_mah else endurance_s(capacity_mah, mean_a)


def _number(values: Mapping[str, Value], name: str) -> float | None:
    value = values.get(name)
    return value if isinstance(value, float) else None


def _most(known: float | None, value: float | None) -> float | None:
    return known if value is None else value if known is None else max(known, value)
