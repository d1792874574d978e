"""Balance calculator: force and unbalance of a rotor, and what a balance quality grade permits."""

import math
from dataclasses import dataclass

from nembrit.core.errors import InputError

GRADES = (0.4, 1.0, 2.5, 6.3, 16.0, 40.0, 100.0, 250.0, 630.0)  # mm/s, ISO 21940-11
_SOUND_M_S = 340.294  # ISO 2533, 15 °C


@dataclass(frozen=True, slots=True, kw_only=True)
class Balance:
    """What a grade permits at one speed, and what an unbalance does there."""

    permissible_um: float  # distance of the centre of mass from the axis
    permissible_g_mm: float
    permissible_force_n: float
    residual_g_mm: float | None = None
    grade_reached_mm_s: float | None = None
    smallest_grade_mm_s: float | None = None  # the first of the ladder that it meets


def permissible(grade_mm_s: float, mass_g: float, speed_rpm: float, *, residual_g_mm: float | None = None) -> Balance:
    """Permissible residual unbalance of a rotor by quality grade.

    ``e_per = G / ω`` and ``U_per = e_per · m`` (ISO 21940-11). `residual_g_mm`, where known, is rated by the grade
    that it reaches. Raises InputError for numbers that are not positive.

    >>> round(permissible(6.3, 12, 20000).permissible_g_mm, 4)
    0.0361
    """
    for name, value in (("grade", grade_mm_s), ("mass", mass_g), ("speed", speed_rpm)):
        if not (math.isfinite(value) and value > 0):
            raise InputError(f"the {name} must be a number above 0, got {value:g}")
    if residual_g_mm is not None and not (math.isfinite(residual_g_mm) and residual_g_mm >= 0):
        raise InputError(f"the unbalance must be 0 or more, got {residual_g_mm:g}")
    omega = 2 * math.pi * speed_rpm / 60
    e_um = 1000 * grade_mm_s / omega
    u_g_mm = e_um * mass_g / 1000
    reached = None if residual_g_mm is None else residual_g_mm / mass_g * omega
    return Balance(
        permissible_um=e_um,
        permissible_g_mm=u_g_mm,
        permissible_force_n=force_n(u_g_mm, speed_rpm),
        residual_g_mm=residual_g_mm,
        grade_reached_mm_s=reached,
        smallest_grade_mm_s=None if reached is None else next((grade for grade in GRADES if grade >= reached - 1e-12), None),
    )


def force_n(unbalance_g_mm: float, speed_rpm: float) -> float:
    """Turning force of an unbalance [N]: ``U ω²``.

    >>> round(force_n(0.0361, 20000), 4)
    0.1584
    """
    omega = 2 * math.pi * speed_rpm / 60
    return unbalance_g_mm * 1e-6 * omega**2


def unbalance_g_mm(force: float, speed_rpm: float) -> float:
    """Unbalance that pulls with a measured once-per-revolution force [N]; the inverse of `force_n`."""
    omega = 2 * math.pi * speed_rpm / 60
    return force * 1e6 / omega**2


def force_from_vibration_n(accel_rms_m_s2: float, mass_g: float) -> float:
    """Peak once-per-revolution force on a free body from its acceleration at that line: ``√2 a m``.

    Holds for a craft that nothing else holds; on the bench, hung up softly, it is an upper guess.
    """
    return math.sqrt(2) * accel_rms_m_s2 * mass_g / 1000


def tip_speed(diameter_in: float, speed_rpm: float) -> tuple[float, float]:
    """Speed of a propeller's tip [m/s] and its Mach number at 15 °C (ISO 2533).

    >>> [round(value, 4) for value in tip_speed(5, 25000)]
    [166.2426, 0.4885]
    """
    speed_m_s = math.pi * diameter_in * 0.0254 * speed_rpm / 60
    return speed_m_s, speed_m_s / _SOUND_M_S
