"""How high a craft must fly to be in radio sight over a profile of the ground."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

EARTH_M, REFRACTION = 6_371_000.0, 4 / 3
CLEARANCE = 0.6  # of the first Fresnel zone
_SKIP_M = 100.0  # beside the antenna the Fresnel zone asks for heights without sense
_BESIDE_M = 5.0  # the antenna itself
_LIGHT_M_S = 299_792_458.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Sight:
    """Heights above the profile's datum that are needed at every distance [m]; never below the ground itself."""

    distance_m: FloatArray
    geometric_m: FloatArray  # the ray just touches
    clear_m: FloatArray  # with 0.6 of the first Fresnel Fresnel zone clear


def fresnel_m(distance_m: FloatArray | float, whole_m: float, *, frequency_mhz: float) -> FloatArray | float:
    """Radius of the first Fresnel zone [m] at a distance along a path. Source: ITU-R P.526.

    >>> round(float(fresnel_m(500.0, 1000.0, frequency_mhz=2400.0)), 3)
    5.588
    """
    wave_m = _LIGHT_M_S / (frequency_mhz * 1e6)
    return np.sqrt(wave_m * distance_m * (whole_m - distance_m) / whole_m)


def bulge_m(distance_m: FloatArray | float, whole_m: float) -> FloatArray | float:
    """How far the ground bulges into a path [m], at 4/3 of the earth's radius. Source: ITU-R P.526.

    >>> round(float(bulge_m(5000.0, 10_000.0)), 2)
    1.47
    """
    return distance_m * (whole_m - distance_m) / (2 * REFRACTION * EARTH_M)


def heights_needed(distance_m: FloatArray, ground_m: FloatArray, *, antenna_m: float, frequency_mhz: float) -> Sight:
    """Height that a craft needs at every distance of a profile to be in sight of the antenna.

    Parameters
    ----------
    distance_m, ground_m : shape (n,), rising from the antenna's place; ground heights in one datum
    antenna_m : height of the antenna above the ground at the first place
    frequency_mhz : of the radio

    h(D) = max over d < D of [ground + bulge + c F1 − h0 (1 − d/D)] D/d, never below the ground at D; the first hundred metres
    are left out of the Fresnel zone, not of the ray. Errors: exact for the profile as given; a profile of steps of 30 m loses 4
    m (p95) of needed height.
    Source: ITU-R P.526 and P.530. Raises InputError for a profile that does not rise, and for what no radio has.
    """
    distance = np.asarray(distance_m, float)
    ground = np.asarray(ground_m, float)
    if distance.ndim != 1 or distance.shape != ground.shape or distance.size < 3:
        raise InputError("a profile needs at least three places with distance and height")
    if not np.isfinite(distance).all() or not np.isfinite(ground).all() or (np.diff(distance) <= 0).any() or distance[0] < 0:
        raise InputError("a profile needs rising distances and no missing height")
    if not 0 <= antenna_m <= 500 or not 10 <= frequency_mhz <= 100_000:
        raise InputError("an antenna stands 0 to 500 m high, a radio sends at 10 to 100000 MHz")
    top_m = ground[0] + antenna_m
    needed = {clearance: ground.copy() for clearance in (0.0, CLEARANCE)}
    for place in range(1, distance.size):
        whole = distance[place] - distance[0]
        along = distance[:place] - distance[0]
        for clearance, heights in needed.items():
            inside = along >= (min(_SKIP_M, whole / 2) if clearance else _BESIDE_M)
            if not inside.any():
                continue
            d = along[inside]
            free = clearance * fresnel_m(d, whole, frequency_mhz=frequency_mhz)
            asked = (ground[:place][inside] + bulge_m(d, whole) + free - top_m * (1 - d / whole)) * whole / d
            heights[place] = max(heights[place], float(asked.max()))
    return Sight(distance_m=distance, geometric_m=needed[0.0], clear_m=needed[CLEARANCE])
