"""Whether creep grows with airspeed (a yaw trim) or falls with it (a tilted horizon, or a motor that pulls to one side)."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.types import FloatArray
from nembrit.core.wing.creep import Creep

_APART = 1.25  # ratio of airspeeds from which stretches make a two-speed test
_CREEPS_DEG_S, _SIGMAS = 0.35, 3.0
_BETTER_CHI2, _REJECTED_CHI2 = 3.84, 6.63  # 5 % and 1 % of one degree of freedom


@dataclass(frozen=True, slots=True, kw_only=True)
class BySpeed:
    """Creep of level stretches at two airspeeds or more, taken apart: c = A·V/V₀ for a trim, B·V₀/V for a horizon."""

    verdict: str  # trim, horizon, both, cannot tell
    speed_m_s: float  # V₀
    slow_m_s: float
    fast_m_s: float
    trim_deg_s: float  # A alone, clockwise positive
    trim_error_deg_s: float
    horizon_deg_s: float  # B alone
    horizon_error_deg_s: float
    trim_chi2: float
    horizon_chi2: float

    @property
    def in_words(self) -> str:
        return {
            "trim": "it grows with airspeed: a yaw trim error",
            "horizon": "it falls with airspeed: a tilted horizon, or a motor that pulls to one side",
            "both": "one part grows with airspeed, one falls: a yaw trim error and a tilted horizon",
        }.get(self.verdict, "two speeds could not separate a yaw trim error from a tilted horizon")


def by_speed(creeps: Sequence[Creep]) -> BySpeed | None:
    """Fit both laws to creeps with their errors, and say which of them holds.

    A mis-trimmed rudder turns a plane by a rate ∝ V, a bank that the controller takes for level by g·tan(bank)/V. Each law is
    fitted by weighted least squares; the better one is named where its χ² is smaller by more than 3.84, its size is beyond
    three of its errors and 0.35 deg/s, and it is not itself rejected at 1 %. Where both alone are rejected and both together
    are significant, both are named. None below a ratio of airspeeds of 1.25.

    >>> slow = Creep(rate_deg_s=1.0, error_deg_s=0.05, seconds=50, blocks=12, airspeed_m_s=12.0, wind_removed=True)
    >>> fast = Creep(rate_deg_s=1.6, error_deg_s=0.05, seconds=50, blocks=12, airspeed_m_s=19.0, wind_removed=True)
    >>> by_speed([slow, fast]).verdict
    'trim'
    """
    known = [one for one in creeps if one.airspeed_m_s]
    if len(known) < 2:
        return None
    speed = np.array([one.airspeed_m_s for one in known], dtype=float)
    rate = np.array([one.rate_deg_s for one in known])
    error = np.array([max(one.half_width_deg_s / 1.96, 1e-3) for one in known])
    if speed.max() < _APART * speed.min():
        return None
    middle = float(np.exp(np.average(np.log(speed), weights=1 / error**2)))
    laws = np.column_stack([speed / middle, middle / speed])
    (trim, trim_error, trim_chi2), (tilt, tilt_error, tilt_chi2) = (_alone(laws[:, k], rate, error) for k in (0, 1))
    return BySpeed(
        verdict=_verdict(laws, rate, error, [(trim, trim_error, trim_chi2), (tilt, tilt_error, tilt_chi2)]), speed_m_s=middle,
        slow_m_s=float(speed.min()), fast_m_s=float(speed.max()), trim_deg_s=trim, trim_error_deg_s=trim_error,
        horizon_deg_s=tilt, horizon_error_deg_s=tilt_error, trim_chi2=trim_chi2, horizon_chi2=tilt_chi2,
    )  # fmt: skip


def _alone(law: FloatArray, rate: FloatArray, error: FloatArray) -> tuple[float, float, float]:
    """Size, its error and χ² of one law by itself."""
    weight = 1 / error**2
    power = float((law**2 * weight).sum())
    size = float((law * rate * weight).sum()) / power
    return size, power**-0.5, float((((rate - size * law) / error) ** 2).sum())


def _verdict(laws: FloatArray, rate: FloatArray, error: FloatArray, alone: list[tuple[float, float, float]]) -> str:
    better, other = sorted((0, 1), key=lambda k: alone[k][2])
    size, own_error, chi2 = alone[better]
    freedom = rate.size - 1
    if chi2 > _REJECTED_CHI2 + 2 * (freedom - 1):
        return "both" if _both_hold(laws, rate, error) else "cannot tell"
    if alone[other][2] - chi2 <= _BETTER_CHI2 or abs(size) < max(_CREEPS_DEG_S, _SIGMAS * own_error):
        return "cannot tell"
    return ("trim", "horizon")[better]


def _both_hold(laws: FloatArray, rate: FloatArray, error: FloatArray) -> bool:
    weighted = laws / error[:, None]
    covariance = np.linalg.pinv(weighted.T @ weighted)
    sizes = covariance @ weighted.T @ (rate / error)
    return bool((np.abs(sizes) > np.maximum(_CREEPS_DEG_S, _SIGMAS * np.sqrt(np.diag(covariance)))).all())
