"""Stick rates by skill, their curve, and how they feel around the centre."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray

# full-stick rates by skill [deg/s] (common practice, no source)
SKILLS = {"unsure": (400.0, 500.0), "usual": (600.0, 600.0), "aerobatics": (700.0, 700.0)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Curve:
    """Rate over stick: stick from 0 to 1, rate [deg/s], and the slope at centre [deg/s per percent of stick]."""

    stick: FloatArray
    rate_dps: FloatArray
    centre_dps_per_pct: float
    word: str  # soft, usual, sharp around the centre
    skill: str


def stick_curve(full_dps: float, half_dps: float) -> Curve:
    """The curve a·s + b·s³ through the rates at half and full stick.

    From full = a + b and half = a/2 + b/8 follow a = (8·half − full)/3 and b = full − a. The cube is the usual form of expo
    (common practice, no source). Raises InputError where no rising curve passes through both.

    >>> stick_curve(600, 180).centre_dps_per_pct
    2.8
    """
    if not 20 <= full_dps <= 3000:
        raise InputError(f"the rate at full stick goes from 20 to 3000 deg/s, got {full_dps:g}")
    a = (8 * half_dps - full_dps) / 3
    b = full_dps - a
    if not 0 < a <= 1.5 * full_dps:
        raise InputError(f"{half_dps:g} deg/s at half stick do not fit {full_dps:g} at full: from {full_dps / 8:.0f} to "
                         f"{0.6875 * full_dps:.0f} do")  # fmt: skip
    stick = np.linspace(0.0, 1.0, 41)
    share = a / full_dps
    word = "soft" if share < 0.35 else "sharp" if share > 0.75 else "usual"
    skill = next((name for name, (low, high) in SKILLS.items() if full_dps <= high + 50), "aerobatics")
    return Curve(stick=stick, rate_dps=a * stick + b * stick**3, centre_dps_per_pct=a / 100, word=word, skill=skill)
