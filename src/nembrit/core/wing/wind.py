"""Wind from a flight that changes its course: with a pitot, or from ground speed alone."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.optimize import least_squares

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.types import FloatArray

LEAST_TURN_DEG, _LEAST_TURN_ALONE_DEG = 90.0, 150.0  # with airspeed, without
_WEAVES_S = 8.0
_PITOT_PRIOR_M_S, _WIND_PRIOR_M_S, _DRIFT_PRIOR_M_S = 0.7, 10.0, 4.0
_TAU_S = 4.0  # gusts stay alike for so long
_FLOOR_M_S = {True: 0.3, False: 0.5}  # with pitot, without
_ROUGH_M_S, _SIDES = 1.0, 2.0
_WORDS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


@dataclass(frozen=True, slots=True, kw_only=True)
class Wind:
    """Wind in the horizontal plane. `from_deg` is where it blows from, clockwise from north."""

    north_m_s: float  # the way the air moves
    east_m_s: float
    half_axis_m_s: float  # longer half-axis of the 95 % ellipse
    covariance: tuple[tuple[float, float], tuple[float, float]]
    airspeed_m_s: float
    turned_deg: float
    with_pitot: bool

    @property
    def speed_m_s(self) -> float:
        return math.hypot(self.north_m_s, self.east_m_s)

    @property
    def from_deg(self) -> float:
        return math.degrees(math.atan2(-self.east_m_s, -self.north_m_s)) % 360.0

    @property
    def from_interval_deg(self) -> tuple[float, float]:
        """The direction with what the ellipse leaves open, to both sides; it may pass north."""
        half = math.degrees(math.asin(min(1.0, self.half_axis_m_s / max(self.speed_m_s, 1e-9))))
        return (self.from_deg - half) % 360.0, (self.from_deg + half) % 360.0

    @property
    def is_rough(self) -> bool:
        return self.half_axis_m_s > _ROUGH_M_S

    @property
    def has_direction(self) -> bool:
        """Whether the direction is told apart from chance: the wind is twice its own uncertainty."""
        return self.speed_m_s > _SIDES * self.half_axis_m_s

    @property
    def in_words(self) -> str:
        """“5.2 m/s from the south-west”."""
        how = f"{self.speed_m_s:.1f} ± {self.half_axis_m_s:.1f} m/s"
        if not self.has_direction:
            return f"{how}, direction unknown"
        return f"{how} from the {direction_word(self.from_deg)}{', roughly' if self.is_rough else ''}"


def direction_word(from_deg: float) -> str:
    """The nearest of eight directions.

    >>> direction_word(225), direction_word(350)
    ('south-west', 'north')
    """
    return _WORDS[round(from_deg / 45.0) % 8]


def estimate_wind(north_m_s: FloatArray, east_m_s: FloatArray, *, rate_hz: float, airspeed_m_s: FloatArray | None = None) -> Wind:
    """The steady wind of a stretch of flight.

    Parameters
    ----------
    north_m_s, east_m_s : ground velocity, shape (n,), evenly spaced
    rate_hz : their rate
    airspeed_m_s : of a pitot, on the same clock; without it the airspeed is taken as constant and found, too

    Raises
    ------
    NotEnoughData : below 90° of turning over ground (150° without airspeed). InputError : for shapes that do not fit.

    Notes
    -----
    |v − w| = V. With a pitot the residual is |v − w| − (V + c), its offset c normal around 0 with 0.7 m/s; without, V is free
    and may drift from end to end (normal with 4 m/s).
    Start by the circle of Kåsa, IEEE Trans. Instrum. Meas. 25 (1976) 8-14, then geometric least squares (Coope, J. Optim.
    Theory Appl. 76 (1993) 381-388). Samples within 4 s count as one; the covariance is the inverse normal matrix plus
    0.3 (without a pitot 0.5) m/s squared.
    """
    velocity = np.column_stack([np.asarray(north_m_s, float), np.asarray(east_m_s, float)])
    own = None if airspeed_m_s is None else np.asarray(airspeed_m_s, float)
    if velocity.ndim != 2 or rate_hz <= 0 or (own is not None and own.shape != velocity.shape[:1]):
        raise InputError("ground velocity and airspeed need the same shape, and a rate above 0")
    good = np.isfinite(velocity).all(axis=1) & (np.isfinite(own) if own is not None else True)
    velocity, own = velocity[good], None if own is None else own[good]
    if velocity.shape[0] < 8:
        raise NotEnoughData("too few fixes: the wind needs a quarter turn at least, better a whole circle")
    start, radius = _kasa(velocity)
    first = _solved(velocity, own, start, radius, sigma=1.0, weight=1.0)
    residual = _residuals(first, velocity, own)
    sigma = max(0.05, 1.4826 * float(np.median(np.abs(residual - np.median(residual)))))
    n_alike = max(1.0, 2 * _TAU_S * rate_hz)
    found = _solved(velocity, own, first[:2], first[2], sigma=sigma, weight=1 / math.sqrt(n_alike))
    turned, least = _turned_deg(velocity, rate_hz), LEAST_TURN_DEG if own is not None else _LEAST_TURN_ALONE_DEG
    if turned < least:
        how = "a quarter turn" if own is not None else "half a turn without airspeed"
        raise NotEnoughData(
            f"only {turned:.0f}° of turning over ground: fly a circle or a box to measure the wind, {how} at least"
        )
    covariance = _covariance(found, velocity, own, sigma=sigma, weight=1 / math.sqrt(n_alike))
    half_axis = math.sqrt(5.991 * float(np.linalg.eigvalsh(covariance)[-1]))  # 95 % of two dimensions
    speed = float(np.median(np.hypot(*(velocity - found[:2]).T)))
    return Wind(
        north_m_s=float(found[0]), east_m_s=float(found[1]), half_axis_m_s=half_axis, turned_deg=turned,
        covariance=((float(covariance[0, 0]), float(covariance[0, 1])), (float(covariance[1, 0]), float(covariance[1, 1]))),
        airspeed_m_s=speed, with_pitot=own is not None,
    )  # fmt: skip


def _kasa(velocity: FloatArray) -> tuple[FloatArray, float]:
    """Centre and radius of the circle that is nearest in the algebraic sense."""
    design = np.column_stack([2 * velocity, np.ones(velocity.shape[0])])
    solved, *_ = np.linalg.lstsq(design, (velocity**2).sum(axis=1), rcond=None)
    centre = solved[:2]
    if not np.isfinite(centre).all() or np.hypot(*centre) > 25:
        centre = velocity.mean(axis=0) * 0
    return centre, float(np.median(np.hypot(*(velocity - centre).T)))


def _residuals(found: FloatArray, velocity: FloatArray, own: FloatArray | None) -> FloatArray:
    speed = np.hypot(velocity[:, 0] - found[0], velocity[:, 1] - found[1])
    # without a pitot the airspeed may drift a little from the first to the last sample
    assumed = own if own is not None else found[3] * np.linspace(-0.5, 0.5, speed.size)
    residual: FloatArray = speed - assumed - found[2]
    return residual


def _weighted(found: FloatArray, velocity: FloatArray, own: FloatArray | None, *, sigma: float, weight: float) -> FloatArray:
    """Residuals over their scatter, with the priors as further ones; without a pitot the third number is the airspeed."""
    priors = [found[0] / _WIND_PRIOR_M_S, found[1] / _WIND_PRIOR_M_S]
    priors += [found[3] / _DRIFT_PRIOR_M_S] if own is None else [found[2] / _PITOT_PRIOR_M_S]
    return np.concatenate([_residuals(found, velocity, own) * weight / sigma, priors])


def _solved(
    velocity: FloatArray, own: FloatArray | None, start: FloatArray, third: float, *, sigma: float, weight: float
) -> FloatArray:
    rest = [third, 0.0] if own is None else [min(max(third, -2.0), 2.0)]
    begin = np.array([start[0], start[1], *rest])
    solved = least_squares(_weighted, begin, args=(velocity, own), kwargs={"sigma": sigma, "weight": weight})
    result: FloatArray = solved.x
    return result


def _covariance(found: FloatArray, velocity: FloatArray, own: FloatArray | None, *, sigma: float, weight: float) -> FloatArray:
    solved = least_squares(_weighted, found, args=(velocity, own), kwargs={"sigma": sigma, "weight": weight}, max_nfev=1)
    inverse = np.linalg.pinv(solved.jac.T @ solved.jac)[:2, :2]
    result: FloatArray = inverse + _FLOOR_M_S[own is not None] ** 2 * np.eye(2)
    return result


def _turned_deg(velocity: FloatArray, rate_hz: float) -> float:
    """Range of courses over ground, unwrapped, smoothed over eight seconds: weaving along a line is no turning.

    Around the wind that was fitted it would prove nothing: a wrong wind makes its own turning.
    """
    width = max(1, round(_WEAVES_S * rate_hz))
    smooth = np.stack([uniform_filter1d(own, width) for own in velocity.T], axis=1)
    course = np.unwrap(np.arctan2(smooth[:, 1], smooth[:, 0]))
    return float(np.degrees(course.max() - course.min()))
