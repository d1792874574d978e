"""Units of columns that do not state one, from the range of their numbers. Starting values, no source."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np

from nembrit.core.records.roles import quantity_of
from nembrit.core.records.units import unit_for
from nembrit.core.types import FloatArray

_DEG_PER_RAD = 57.29577951308232
_G_M_S2 = 9.80665


_FULL_RANGES = (2000.0, 2047.0, 4000.0, 4095.0, 5000.0, 10_000.0, 16_383.0, 20_000.0, 32_767.0, 65_535.0)
_LEAST_AT_TOP = 3  # a range is full where its end was reached and held


@dataclass(frozen=True, slots=True, kw_only=True)
class Scale:
    """value = number × factor + offset, how sure, and why."""

    factor: float
    offset: float = 0.0
    confidence: float = 0.5
    reason: str = ""


def _range(values: FloatArray) -> tuple[float, float]:
    finite = values[np.isfinite(values)]
    if finite.size == 0:
        return 0.0, 0.0
    low, high = np.percentile(finite, (0.05, 99.95))
    return float(low), float(high)


def share_scale(values: FloatArray) -> Scale:
    """Throttle and motors: 0 to 1, per cent, per mille, servo pulses in µs, or whole numbers of 11 bits.

    >>> share_scale(np.array([1000.0, 1500.0, 1850.0])).offset
    -1.0
    """
    low, high = _range(values)
    if low > -0.06 and high <= 1.06:
        return Scale(factor=1.0, confidence=0.9, reason="runs from 0 to 1")
    if low >= 750 and high <= 2250:
        return Scale(factor=1e-3, offset=-1.0, confidence=0.9, reason="runs like a pulse, 1000 to 2000 µs")
    if low > -6 and high <= 106:
        return Scale(factor=0.01, confidence=0.85, reason="runs from 0 to 100")
    if low > -60 and high <= 1060:
        return Scale(factor=1e-3, confidence=0.75, reason="runs from 0 to 1000")
    if low < -0.06 * max(high, 1.0):
        return Scale(factor=1.0, confidence=0.1, reason=f"runs from {low:.4g}: power is never negative")
    top = float(np.nanmax(values))
    if top in _FULL_RANGES and np.sum(values == top) >= _LEAST_AT_TOP:
        return Scale(factor=1 / top, confidence=0.65, reason=f"stays at {top:.0f} at full throttle")
    for bits in (11, 12, 14, 16):
        if high <= 2**bits:
            return Scale(factor=1 / (2**bits - 1), confidence=0.5, reason=f"fits {bits} bits; check the full range")
    return Scale(factor=1.0, confidence=0.1, reason="no known range")


def stick_scale(values: FloatArray) -> Scale:
    """Sticks: −1 to 1, ±100 %, ±500, or pulses in µs around 1500."""
    low, high = _range(values)
    most = max(abs(low), abs(high))
    if most <= 1.06:
        return Scale(factor=1.0, confidence=0.85, reason="runs within ±1")
    if low >= 750 and high <= 2250:
        return Scale(factor=1 / 500, offset=-3.0, confidence=0.9, reason="runs like a pulse around 1500 µs")
    if most <= 106:
        return Scale(factor=0.01, confidence=0.8, reason="runs within ±100")
    if most <= 530:
        return Scale(factor=1 / 500, confidence=0.65, reason="runs within ±500")
    return Scale(factor=1e-3, confidence=0.5, reason="runs within ±1000")


def rate_scale(values: FloatArray) -> Scale:
    """Rotation rates without a unit: rad/s where the fastest stays below 15, else deg/s, else raw numbers."""
    low, high = _range(values)
    most = max(abs(low), abs(high))
    is_whole = bool(np.all(np.mod(values[np.isfinite(values)][:2000], 1) == 0))
    if most < 15 and not is_whole:
        return Scale(factor=_DEG_PER_RAD, confidence=0.55, reason=f"never beyond {most:.3g}: rad/s rather than deg/s")
    if most <= 2300:
        return Scale(factor=1.0, confidence=0.75, reason=f"up to {most:.0f}: looks like deg/s")
    return Scale(factor=1.0, confidence=0.15, reason=f"up to {most:.0f}: raw numbers whose scale is not known")


def accel_factor(norm: float, is_counted: bool = False) -> Scale:
    """Accelerometers from the median length of their vector, which is about gravity in flight.

    Raw counts (`is_counted`) are taken for a power of two a g, as converters have it (common practice, no source).
    """
    for factor, name in ((1.0, "m/s²"), (_G_M_S2, "g"), (_G_M_S2 / 1000, "mg"), (0.01, "cm/s²")):
        if 0.75 < norm * factor / _G_M_S2 < 1.35:
            return Scale(factor=factor, confidence=0.85, reason=f"gravity reads {norm:.4g}: {name}")
    nearest = 2.0 ** round(np.log2(max(norm, 1.0)))
    if is_counted and nearest >= 256 and 0.75 < norm / nearest < 1.35:
        return Scale(factor=_G_M_S2 / nearest, confidence=0.6, reason=f"raw; gravity reads {norm:.4g}: {nearest:.0f} a g")
    if norm > 0:
        return Scale(factor=_G_M_S2 / norm, confidence=0.6, reason=f"raw; gravity reads {norm:.4g} in the median")
    return Scale(factor=1.0, confidence=0.1, reason="no gravity in it")


def voltage_scale(values: FloatArray) -> Scale:
    """Pack voltage: volts, tenths, hundredths or thousandths, so that 2.5 to 65 V result."""
    finite = values[np.isfinite(values)]
    middle = float(np.median(finite)) if finite.size else 0.0
    for low, high, factor, name, confidence in (
        (2.5, 65, 1.0, "volts", 0.85),
        (65, 280, 0.1, "tenths of a volt", 0.6),
        (280, 6500, 0.01, "hundredths of a volt", 0.6),
        (6500, 65000, 1e-3, "millivolts", 0.8),
    ):
        if low <= middle < high:
            return Scale(factor=factor, confidence=confidence, reason=f"about {middle:.4g}: {name}")
    return Scale(factor=1.0, confidence=0.1, reason=f"about {middle:.3g}: no pack reads so")


def angle_scale(values: FloatArray) -> Scale:
    """Attitude without a unit: rad where it stays within ±3.2, else degrees, tenths or hundredths."""
    low, high = _range(values)
    most = max(abs(low), abs(high))
    for limit, factor, name, confidence in (
        (3.3, _DEG_PER_RAD, "radians", 0.55),
        (365, 1.0, "degrees", 0.75),
        (3650, 0.1, "tenths of a degree", 0.6),
        (36500, 0.01, "hundredths of a degree", 0.5),
    ):
        if most <= limit:
            return Scale(factor=factor, confidence=confidence, reason=f"up to {most:.4g}: {name}")
    return Scale(factor=1.0, confidence=0.1, reason="no known range")


def place_scale(values: FloatArray, most_deg: float) -> Scale:
    """Latitude and longitude: degrees, or whole numbers of 1e-7 degrees."""
    low, high = _range(values)
    most = max(abs(low), abs(high))
    if most <= most_deg:
        return Scale(factor=1.0, confidence=0.9, reason="degrees")
    if most <= most_deg * 1e7:
        return Scale(factor=1e-7, confidence=0.85, reason="ten-millionths of a degree")
    return Scale(factor=1.0, confidence=0.1, reason="not a valid position")


def speed_scale(values: FloatArray) -> Scale:
    """Motor speed: rpm, or revolutions a second where the fastest stays below 900."""
    _, high = _range(values)
    if high < 900:
        return Scale(factor=60.0, confidence=0.55, reason=f"never above {high:.0f}: revolutions a second")
    return Scale(factor=1.0, confidence=0.75 if high < 80_000 else 0.3, reason=f"up to {high:.0f}: rpm")


# families whose members share a scale, and how their range tells it
RANGES: tuple[tuple[tuple[str, ...], Callable[[FloatArray], Scale]], ...] = (
    (("throttle",), share_scale),
    (("motor",), share_scale),
    (("link_quality",), share_scale),
    (("stick",), stick_scale),
    (("setpoint",), rate_scale),
    (("gyro_raw", "gyro"), rate_scale),
    (("battery_voltage",), voltage_scale),
    (("attitude", "attitude_wanted"), angle_scale),
    (("motor_rpm",), speed_scale),
    (("latitude",), partial(place_scale, most_deg=90.0)),
    (("longitude",), partial(place_scale, most_deg=180.0)),
)


def scale_for_role(role: str, stated_unit: str, values: FloatArray) -> Scale:
    """Scale of a column whose role is known: from its stated unit, else from the range of its raw numbers.

    >>> scale_for_role("gyro.roll", "rad/s", np.array([-3.0, 3.0])).reason
    'in rad/s'
    """
    unit = unit_for(stated_unit, quantity_of(role) or "") if stated_unit else None
    if unit is not None:
        return Scale(factor=unit.factor, offset=unit.offset, confidence=0.9, reason=f"in {stated_unit}")
    family = role.removeprefix("b/").split(".")[0]
    by_range = next((scale_of for families, scale_of in RANGES if family in families), None)
    return by_range(values) if by_range else Scale(factor=1.0, reason="as written")
