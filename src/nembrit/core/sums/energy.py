"""Charge, endurance and range, with and against the wind."""

from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.setup.packs import USABLE_RATIO, endurance_s


@dataclass(frozen=True, slots=True, kw_only=True)
class Endurance:
    """How long a pack lasts to landing, what is left then, and how hard it is worked."""

    seconds: float
    reserve_mah: float
    reserve_s: float
    c_rate: float  # current over capacity [1/h]


def endurance(capacity_mah: float, current_a: float) -> Endurance:
    """Four fifths of the capacity are used; the rest is the reserve (common practice, no source).

    The C rate is the current over the capacity in ampere hours. Raises InputError for what cannot be.

    >>> endurance(1500, 18)
    Endurance(seconds=240.0, reserve_mah=300.0, reserve_s=60.0, c_rate=12.0)
    """
    seconds = endurance_s(capacity_mah, current_a)
    reserve_mah = round(capacity_mah * (1 - USABLE_RATIO), 6)
    return Endurance(
        seconds=seconds, reserve_mah=reserve_mah, reserve_s=reserve_mah * 3.6 / current_a, c_rate=1000 * current_a / capacity_mah
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class RangeOut:
    """Consumption and reach of a plane in today's wind; None: it cannot come home against it."""

    with_wind_mah_km: float
    against_wind_mah_km: float | None
    out_and_back_m: float | None
    seconds_left: float


def range_out(*, airspeed_m_s: float, wind_m_s: float, current_a: float, usable_mah: float) -> RangeOut:
    """Flight out and back along the wind at one airspeed and current.

    Ground speeds are v + w and v − w. Per kilometre a plane uses I/(3.6·v_ground) · 1000 mAh. The radius of action is
    T·v₁·v₂/(v₁ + v₂) for ground speeds out and back (Federal Aviation Administration, *Flight Navigator Handbook*,
    FAA-H-8083-18, 2011, chapter 4: radius of action). The point of no return is how far out, on the way out, what is then left
    just brings it home: the same distance. Raises InputError for what cannot be.
    """
    if not 3 <= airspeed_m_s <= 100 or not 0 <= wind_m_s <= 60:
        raise InputError("airspeed goes from 3 to 100 m/s, wind from 0 to 60 m/s")
    if not 0 < current_a < 1000 or not 0 < usable_mah < 1e6:
        raise InputError("current and charge must be above 0 and plausible")
    down, up = airspeed_m_s + wind_m_s, airspeed_m_s - wind_m_s
    seconds = usable_mah * 3.6 / current_a
    per_km = [None if speed <= 0 else current_a / 3.6 * 1000 / speed for speed in (down, up)]
    reach = None if up <= 0 else seconds * down * up / (down + up)
    return RangeOut(
        with_wind_mah_km=per_km[0] or 0.0, against_wind_mah_km=per_km[1], out_and_back_m=reach,
        seconds_left=seconds,
    )  # fmt: skip


def distance_home(*, remaining_mah: float, current_a: float, airspeed_m_s: float, headwind_m_s: float) -> float | None:
    """How far a plane still comes on what is left [m], against a headwind (negative: a tailwind); None if it stands still.

    Distance is time times ground speed, and the time is charge over current.

    >>> distance_home(remaining_mah=500, current_a=5, airspeed_m_s=15, headwind_m_s=5)
    3600.0
    """
    if not 0 <= remaining_mah < 1e6 or not 0 < current_a < 1000:
        raise InputError("charge and current must be plausible")
    speed = airspeed_m_s - headwind_m_s
    return None if speed <= 0 else remaining_mah * 3.6 / current_a * speed
