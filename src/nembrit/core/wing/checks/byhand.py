"""Checks without a log: readings from a screen, a tape or a stopwatch, and what they come to."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.wing.checks.criteria import Check, CheckResult, Measured
from nembrit.core.wing.checks.level import result_of

_TWO_LEGS = 0.05  # what wind across leaves open
_BY_EYE = 0.10  # a speed read off a screen as the nose falls
_BY_COUNT_S = 0.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """One number to write down."""

    key: str
    label: str
    low: float
    high: float
    is_needed: bool = True


READINGS: dict[str, tuple[Reading, ...]] = {
    "range": (
        Reading(key="distance_m", label="Full control up to, m", low=0, high=2000),
        Reading(key="servo_jumps", label="Servo jumps on the way", low=0, high=100),
    ),
    "failsafe": (
        Reading(key="reacts_s", label="Reacted after, s", low=0, high=120),
        Reading(key="obeys_s", label="Obeyed again after, s", low=0, high=120, is_needed=False),
        Reading(key="sinks_m", label="Sank by, m (in the air only)", low=0, high=400, is_needed=False),
    ),
    "slow": (
        Reading(key="stall_m_s", label="Airspeed as the nose fell, m/s", low=2, high=60),
        Reading(key="cruise_m_s", label="Airspeed in cruise, m/s", low=2, high=100),
        Reading(key="drop_deg", label="A wing dropped by, °", low=0, high=180, is_needed=False),
        Reading(key="lost_m", label="Height lost, m", low=0, high=400, is_needed=False),
    ),
    "level": (
        Reading(key="roll", label="Roll, °", low=-90, high=90),
        Reading(key="pitch", label="Pitch, °", low=-90, high=90),
        Reading(key="roll_turned", label="Roll after turning it round, °", low=-90, high=90, is_needed=False),
        Reading(key="pitch_turned", label="Pitch after turning it round, °", low=-90, high=90, is_needed=False),
    ),
    "airspeed": (
        Reading(key="ground_there", label="Ground speed there, m/s", low=0.5, high=100),
        Reading(key="ground_back", label="Ground speed back, m/s", low=0.5, high=100),
        Reading(key="told_there", label="Airspeed shown there, m/s", low=1, high=100),
        Reading(key="told_back", label="Airspeed shown back, m/s", low=1, high=100),
    ),
}


def by_hand(check: Check, given: Mapping[str, float]) -> CheckResult:
    """What readings come to, with what they leave open. Raises InputError for readings that are missing or beyond any plane."""
    values: dict[str, float] = {}
    for one in READINGS[check.key]:
        value = given.get(one.key)
        if value is None:
            if one.is_needed:
                raise InputError(f"{one.label}: enter a number")
            continue
        if not math.isfinite(value) or not one.low <= value <= one.high:
            raise InputError(f"{one.label}: expected {one.low:g} to {one.high:g}")
        values[one.key] = value
    return {"level": _level, "airspeed": _airspeed, "slow": _slow}.get(check.key, _plain)(check, values)


def _plain(check: Check, values: Mapping[str, float]) -> CheckResult:
    measured = {key: Measured(value=value, error=_BY_COUNT_S if key.endswith("_s") else 0.0) for key, value in values.items()}
    return CheckResult(key=check.key, at_s=None, measured=measured, headline="Entered by hand")


def _level(check: Check, values: Mapping[str, float]) -> CheckResult:
    turned = (values["roll_turned"], values["pitch_turned"]) if {"roll_turned", "pitch_turned"} <= values.keys() else None
    return result_of((values["roll"], values["pitch"]), turned)


def _airspeed(check: Check, values: Mapping[str, float]) -> CheckResult:
    """Mean ground speed of a leg there and back over mean airspeed shown: wind along the legs cancels, wind across does not."""
    told = (values["told_there"] + values["told_back"]) / 2
    off = 100 * (told / ((values["ground_there"] + values["ground_back"]) / 2) - 1)
    return CheckResult(
        key=check.key, at_s=None, measured={"off_pct": Measured(value=abs(off), error=100 * _TWO_LEGS)},
        headline=f"The airspeed sensor tells {abs(off):.1f} ± {100 * _TWO_LEGS:.0f} % {'too much' if off > 0 else 'too little'}",
        more=("Entered by hand. Legs into and with the wind; legs across would leave more open.",),
    )  # fmt: skip


def _slow(check: Check, values: Mapping[str, float]) -> CheckResult:
    ratio = values["cruise_m_s"] / values["stall_m_s"]
    measured = {"stall_ratio": Measured(value=ratio, error=_BY_EYE * ratio)}
    measured |= {key: Measured(value=values[key]) for key in ("drop_deg", "lost_m") if key in values}
    return CheckResult(
        key=check.key, at_s=None, measured=measured, headline=f"Stalls at about {values['stall_m_s']:g} m/s, entered by hand"
    )
