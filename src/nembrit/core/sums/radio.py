"""Link quality over distance."""

import math

from nembrit.core.errors import InputError


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
