"""Tip speed, blade-pass frequency, and where notches would sit."""

import math
from dataclasses import dataclass

from nembrit.core.errors import InputError

_SOUND_M_S, _INCH_M = 340.3, 0.0254  # speed of sound at 15 °C (ICAO Standard Atmosphere, Doc 7488)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rotor:
    """A propeller at one speed."""

    turns_hz: float
    tip_m_s: float
    tip_mach: float
    blade_pass_hz: float
    notches_hz: tuple[tuple[str, float], ...]
    pitch_m_s: float  # speed at which the blades would no longer bite


def rotor(*, diameter_in: float, pitch_in: float, blades: int, rpm: float) -> Rotor:
    """Tip speed π·D·n, blade pass n times blades, pitch speed n times pitch.

    Notches sit on once per revolution and its second, and on the blade pass, which is one of them for two blades.
    Raises InputError for what cannot be.

    >>> rotor(diameter_in=5, pitch_in=4.3, blades=3, rpm=24000).blade_pass_hz
    1200.0
    """
    if not 0.5 <= diameter_in <= 60 or not 1 <= blades <= 8 or not 100 <= rpm <= 200_000 or not 0 <= pitch_in <= 60:
        raise InputError("propellers go from 0.5 to 60 inches with 1 to 8 blades, speeds from 100 to 200,000 per minute")
    turns_hz = rpm / 60
    tip = math.pi * diameter_in * _INCH_M * turns_hz
    places = {"once per revolution": turns_hz, "twice": 2 * turns_hz, "blade pass": blades * turns_hz}
    notches = tuple((name, hz) for name, hz in places.items() if name == "blade pass" or hz != places["blade pass"])
    return Rotor(
        turns_hz=turns_hz, tip_m_s=tip, tip_mach=tip / _SOUND_M_S, blade_pass_hz=blades * turns_hz, notches_hz=notches,
        pitch_m_s=pitch_in * _INCH_M * turns_hz,
    )  # fmt: skip
