"""Link quality over distance."""

import math
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.types import FloatArray

_LEAST_M, _LEAST_S, _BANDS = 50.0, 2.0, 6
_WIDTHS_M = (10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0, 5000.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class LinkBand:
    """Link quality within one band of distance: median, and the share that 95 % of the time was better than."""

    from_m: float
    to_m: float
    median: float
    worst: float
    seconds: float


def link_over_distance(quality: FloatArray, distance_m: FloatArray, *, sample_rate_hz: float) -> tuple[LinkBand, ...]:
    """Link quality by distance from home, both of shape (n,) on one clock, quality from 0 to 1.

    Six bands at most, each as wide as a round number; one that was flown for less than two seconds is left out. Nothing is
    said of what lies farther out. Raises NotEnoughData where both were never recorded together, or within 50 m only.
    """
    if quality.shape != distance_m.shape or sample_rate_hz <= 0:
        raise InputError("link quality and distance need the same shape, and a rate above 0")
    good = np.isfinite(quality) & np.isfinite(distance_m) & (distance_m >= 0)
    own, away = quality[good], distance_m[good]
    if not own.size:
        raise NotEnoughData("link quality and distance from home were never recorded together")
    far = float(np.percentile(away, 99.5))
    if far < _LEAST_M:
        raise NotEnoughData(f"the craft stayed within {far:.0f} m: fly farther out to see how the link falls")
    width = next((one for one in _WIDTHS_M if far / one <= _BANDS), math.ceil(far / _BANDS))
    bands = []
    for start in np.arange(0.0, far, width).tolist():
        inside = own[(away >= start) & (away < start + width)]
        if inside.size >= _LEAST_S * sample_rate_hz:
            median, worst = np.percentile(inside, (50, 5)).tolist()
            bands.append(
                LinkBand(from_m=start, to_m=start + width, median=median, worst=worst, seconds=inside.size / sample_rate_hz)
            )
    return tuple(bands)


def free_space_loss_db(distance_m: float, frequency_mhz: float) -> float:
    """Loss between isotropic antennas in free space: 32.4 + 20·log f[MHz] + 20·log d[km].

    ITU-R Recommendation P.525-4 (2019), equation (4). Ground, trees and the craft itself only add to it.

    >>> round(free_space_loss_db(1000, 2400), 1)
    100.0
    """
    if not 1 <= distance_m <= 1e6 or not 1 <= frequency_mhz <= 1e5:
        raise InputError("distance goes from 1 m to 1000 km, frequency from 1 to 100,000 MHz")
    return 32.4 + 20 * math.log10(frequency_mhz) + 20 * math.log10(distance_m / 1000)


def distance_at_limit(*, signal_dbm: float, at_m: float, limit_dbm: float, reserve_db: float = 6.0) -> float:
    """Where a signal that was measured at one distance falls to a limit plus a reserve [m], in free space.

    The signal falls by 20 dB for ten times the distance (ITU-R P.525-4). Raises InputError where it is below the limit already.

    >>> distance_at_limit(signal_dbm=-70, at_m=200, limit_dbm=-96, reserve_db=6)
    2000.0
    """
    if not -150 <= signal_dbm <= 30 or not -150 <= limit_dbm <= 30 or not 1 <= at_m <= 1e6 or not 0 <= reserve_db <= 60:
        raise InputError("signals go from −150 to 30 dBm, distances from 1 m to 1000 km")
    left_db = signal_dbm - limit_dbm - reserve_db
    if left_db < 0:
        raise InputError(f"{signal_dbm:g} dBm leave less than {reserve_db:g} dB above {limit_dbm:g} dBm: turn back earlier")
    return at_m * 10 ** (left_db / 20)
