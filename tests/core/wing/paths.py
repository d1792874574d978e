"""Paths of a plane drawn by geometry, for tests: legs, turns, circles and returns, as a recorder would log them."""

import math

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray

RATE_HZ, SPEED_M_S = 10.0, 13.0
HOME_DEG = (51.5, -1.5)
_PER_DEG = 111_320.0


class Drawn:
    """A path that is extended piece by piece, heading in degrees clockwise from north."""

    def __init__(self, *, heading_deg: float = 0.0, north_m: float = 0.0, east_m: float = 0.0, height_m: float = 60.0) -> None:
        self.rows: list[tuple[float, ...]] = []
        self.modes: list[str] = []
        self.heading, self.north, self.east, self.height = heading_deg, north_m, east_m, height_m

    def fly(
        self, seconds: float, *, turn_deg_s: float = 0.0, climb_m_s: float = 0.0, mode: str = "track",
        speed_m_s: float = SPEED_M_S, wanted_deg: float = math.nan, aside_m: float = math.nan,
        wanted_height_m: float = math.nan, throttle: float = 0.5,
    ) -> "Drawn":  # fmt: skip
        """Bank follows from the turn: tan φ = V ω / g."""
        for _ in range(round(seconds * RATE_HZ)):
            way = math.radians(self.heading)
            bank = math.degrees(math.atan(speed_m_s * math.radians(turn_deg_s) / 9.80665))
            self.rows.append(
                (
                    self.north,
                    self.east,
                    self.height,
                    self.heading % 360,
                    speed_m_s,
                    bank,
                    wanted_deg,
                    aside_m,
                    wanted_height_m,
                    throttle,
                )
            )
            self.modes.append(mode)
            self.north += speed_m_s * math.cos(way) / RATE_HZ
            self.east += speed_m_s * math.sin(way) / RATE_HZ
            self.heading += turn_deg_s / RATE_HZ
            self.height += climb_m_s / RATE_HZ
        return self

    def recording(self, *without: str) -> Recording:
        north, east, height, course, speed, bank, wanted, aside, wanted_height, throttle = np.array(self.rows).T
        channels: dict[str, FloatArray] = {
            "latitude": HOME_DEG[0] + north / _PER_DEG,
            "longitude": HOME_DEG[1] + east / (_PER_DEG * math.cos(math.radians(HOME_DEG[0]))), "altitude": height,
            "course": course, "ground_speed": speed, "airspeed": speed, "attitude.roll": bank, "course_wanted": wanted,
            "cross_track": aside, "altitude_wanted": wanted_height, "home_distance": np.hypot(north, east), "throttle": throttle,
        }  # fmt: skip
        kept = {role: own for role, own in channels.items() if role not in without}
        return Recording.of(kept, sample_rate_hz=RATE_HZ, modes=() if "mode" in without else self.modes)


def returned(
    *, side: float = 1.0, offset_deg: float = 0.0, circles: bool = True, lands: bool = False, over_m: float = 0.0
) -> Drawn:
    """Out to the north, then a return that turns after eight seconds to one side, comes home, and circles or lands there."""
    path = Drawn(height_m=60.0).fly(25.0, mode="level")
    path.heading += offset_deg
    path.fly(8.0, climb_m_s=2.5, mode="return", wanted_height_m=80.0)
    path.fly(180.0 / 18, turn_deg_s=side * 18.0, mode="return", wanted_height_m=80.0)
    if over_m:
        path.fly(4.0, climb_m_s=over_m / 4, mode="return", wanted_height_m=80.0).fly(1.5, mode="return", wanted_height_m=80.0)
        path.fly(4.0, climb_m_s=-over_m / 4, mode="return", wanted_height_m=80.0)
    # home lies ahead: turn onto it at once, as a follower would
    bearing = math.degrees(math.atan2(-path.east, -path.north))
    away = math.hypot(path.north, path.east)
    path.heading = bearing
    path.fly((away - 50.0) / SPEED_M_S, mode="return", wanted_height_m=80.0)
    if circles:
        path.heading -= 90.0
        path.fly(
            2 * math.pi * 50.0 / SPEED_M_S * 2, turn_deg_s=math.degrees(SPEED_M_S / 50.0), mode="return", wanted_height_m=80.0
        )
    if lands:
        path.fly(20.0, climb_m_s=-4.0, mode="return", wanted_height_m=80.0, throttle=0.0)
        path.fly(5.0, mode="return", speed_m_s=0.2, wanted_height_m=80.0, throttle=0.0)
    return path
