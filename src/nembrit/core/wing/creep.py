"""How fast the course creeps with the sticks let go."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.stats import t as student

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray
from nembrit.core.wing.track import RATE_HZ, Track, stretches
from nembrit.core.wing.wind import Wind

LEAST_S = 10.0
_BLOCK_S, _FEWEST_BLOCKS = 4.0, 4
_LEVEL_DEG, _SETTLE_S = 5.0, 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Creep:
    """Turning with wings level and sticks let go, clockwise positive [deg/s]."""

    rate_deg_s: float
    error_deg_s: float
    seconds: float
    blocks: int  # that the error rests on
    airspeed_m_s: float | None
    wind_removed: bool

    @property
    def half_width_deg_s(self) -> float:
        """Of the 95 % interval, by Student's t of the blocks."""
        return float(student.ppf(0.975, max(1, self.blocks - 1))) * self.error_deg_s

    @property
    def interval_deg_s(self) -> tuple[float, float]:
        return self.rate_deg_s - self.half_width_deg_s, self.rate_deg_s + self.half_width_deg_s


def hands_off_parts(track: Track, *, least_s: float = LEAST_S) -> list[slice]:
    """Stretches with sticks let go and wings near level, at least so long."""
    if track.hands_off is None or track.bank_deg is None or track.north_m_s is None:
        return []
    with np.errstate(invalid="ignore"):
        still = track.hands_off & (np.abs(track.bank_deg) < _LEVEL_DEG) & np.isfinite(track.north_m_s) & track.in_the_air
    followed = np.zeros(still.size, dtype=bool) if track.course_wanted_deg is None else np.isfinite(track.course_wanted_deg)
    if not followed.all():  # a line that is followed lets nothing creep; a wanted course that is always there tells no line
        still &= ~followed
    skip = round(_SETTLE_S * RATE_HZ)  # a turn or a climb still goes out of it
    return [slice(part.start + skip, part.stop) for part in stretches(still, round(least_s * RATE_HZ) + skip)]


def creep_of(track: Track, wind: Wind | None) -> Creep:
    """Creep over all hands-off stretches together.

    The mean rate of blocks of B = min(4 s, T/4); SE² = max(c0 + c1, 0.15 c0)/n with the variance and the lag-1 covariance of
    the blocks, which telescope, so that ordinary errors are far too small. Without the wind removed a wind of 4 m/s biases
    it by about 0.3 deg/s. Raises NotEnoughData below ten seconds hands off. Method measured in the project's own trials.
    """
    parts = hands_off_parts(track)
    if not parts:
        raise NotEnoughData("no ten seconds hands off and level: fly level, hands off, for half a minute")
    course = track.air_course_deg(*((wind.north_m_s, wind.east_m_s) if wind else (0.0, 0.0)))
    assert course is not None
    total_s = sum(part.stop - part.start for part in parts) / RATE_HZ
    block = max(2, round(min(_BLOCK_S, total_s / _FEWEST_BLOCKS) * RATE_HZ))
    rates = np.concatenate([_block_rates(course[part], block) for part in parts])
    rates = rates[np.isfinite(rates)]
    if rates.size < 2:
        raise NotEnoughData("too few position fixes while hands off")
    x = rates - rates.mean()
    c0 = float(x @ x) / max(rates.size - 1, 1)
    c1 = float(x[1:] @ x[:-1]) / max(rates.size - 1, 1)
    speed = None if track.airspeed_m_s is None else np.concatenate([track.airspeed_m_s[part] for part in parts])
    return Creep(
        rate_deg_s=float(rates.mean()), error_deg_s=math.sqrt(max(c0 + c1, 0.15 * c0) / rates.size), seconds=total_s,
        blocks=int(rates.size),
        airspeed_m_s=None if speed is None or not np.isfinite(speed).any() else float(np.nanmedian(speed)),
        wind_removed=wind is not None,
    )  # fmt: skip


def _block_rates(course_deg: FloatArray, block: int) -> FloatArray:
    ends = course_deg[::block]
    return np.diff(ends) * RATE_HZ / block
