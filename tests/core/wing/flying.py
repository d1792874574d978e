"""Ground velocity of a plane in wind, for tests: circles and boxes, gusts, and the errors of its sensors."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Flown:
    """What a log would hold."""

    rate_hz: float
    north_m_s: FloatArray
    east_m_s: FloatArray
    airspeed_m_s: FloatArray


def flown(
    headings_deg: FloatArray, *, wind: tuple[float, float], seed: int, airspeed_m_s: float = 15.0, gusts_m_s: float = 0.8,
    rate_hz: float = 5.0, pitot_offset_m_s: float = 0.4,
) -> Flown:  # fmt: skip
    """Fly these headings at one airspeed; gusts are first-order noise with a time constant of two seconds."""
    rng = np.random.default_rng(seed)
    n = headings_deg.size
    keep = np.exp(-1 / (2.0 * rate_hz))
    gusts = np.zeros((n, 3))
    for k in range(1, n):
        gusts[k] = keep * gusts[k - 1] + gusts_m_s * np.sqrt(1 - keep**2) * rng.standard_normal(3)
    heading = np.radians(headings_deg)
    speed = airspeed_m_s + gusts[:, 2]
    north = speed * np.cos(heading) + wind[0] + gusts[:, 0] + 0.1 * rng.standard_normal(n)
    east = speed * np.sin(heading) + wind[1] + gusts[:, 1] + 0.1 * rng.standard_normal(n)
    return Flown(
        rate_hz=rate_hz, north_m_s=north, east_m_s=east, airspeed_m_s=speed + pitot_offset_m_s + 0.2 * rng.standard_normal(n)
    )


def circle(turned_deg: float, *, seconds: float = 60.0, rate_hz: float = 5.0) -> FloatArray:
    return np.linspace(0.0, turned_deg, int(seconds * rate_hz))


def box(*, leg_s: float = 20.0, rate_hz: float = 5.0) -> FloatArray:
    """Four legs with turns of five seconds between them."""
    parts = []
    for leg in range(4):
        parts += [np.full(int(leg_s * rate_hz), 90.0 * leg), np.linspace(90.0 * leg, 90.0 * (leg + 1), int(5 * rate_hz))]
    return np.concatenate(parts)
