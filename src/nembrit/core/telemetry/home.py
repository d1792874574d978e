"""What is left in the pack against what the way home takes."""

import math
from dataclasses import dataclass

_LEAST_M_S = 1.0
_UNKNOWN_WIND_RATIO = 0.7  # of the usual speed, where nothing is known of the wind


@dataclass(frozen=True, slots=True, kw_only=True)
class WayHome:
    """Energies in mAh at the present current and speed."""

    needed_mah: float
    left_mah: float  # without the reserve
    speed_m_s: float
    seconds: float

    @property
    def margin(self) -> float:
        """What remains after the way home, as share of what is left; below 0 it is not enough."""
        return (self.left_mah - self.needed_mah) / max(self.left_mah, 1e-9) if self.left_mah > 0 else -1.0


def way_home(
    *, distance_m: float, speed_m_s: float, current_a: float, left_mah: float, headwind_m_s: float | None = None
) -> WayHome:
    """Energy for the way home at today's speed, wind and current.

    `speed_m_s` through the air; `headwind_m_s` against the plane on the way home (from behind: negative), None where it is not
    known: then 70 % of the speed counts. `left_mah` is what the pack holds above its reserve. Error: that of speed and current,
    which a climb changes.

    >>> found = way_home(distance_m=900, speed_m_s=15, current_a=12, left_mah=560, headwind_m_s=5)
    >>> found.seconds, found.needed_mah
    (90.0, 300.0)
    """
    over_ground = speed_m_s * _UNKNOWN_WIND_RATIO if headwind_m_s is None else speed_m_s - headwind_m_s
    seconds = distance_m / over_ground if over_ground > _LEAST_M_S else math.inf
    return WayHome(needed_mah=current_a * 1000 * seconds / 3600, left_mah=left_mah, speed_m_s=over_ground, seconds=seconds)


def minutes_left(*, left_mah: float, current_a: float) -> float | None:
    """Until the reserve, at the present current; `left_mah` is what the pack holds above its reserve.

    >>> minutes_left(left_mah=1100, current_a=11)
    6.0
    """
    if current_a <= 0.05:
        return None
    return max(0.0, left_mah / 1000 / current_a * 60)


def headwind_home(north_m: float, east_m: float, wind_north_m_s: float, wind_east_m_s: float) -> float:
    """Wind against the craft on its way home [m/s]; `wind_*` is the way the air moves, places count from home.

    >>> headwind_home(100.0, 0.0, 5.0, 0.0)  # home lies south, the air moves north
    5.0
    """
    away = math.hypot(north_m, east_m)
    return (wind_north_m_s * north_m + wind_east_m_s * east_m) / away if away > 1 else 0.0
