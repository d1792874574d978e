"""Slow flight: the stall speed with its interval, the wing that drops, the height that is lost, and what follows from it."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.stats import t as student

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.checks.criteria import CheckResult, Measured
from nembrit.core.wing.track import Track

SAFE_OVER_STALL = 1.3  # 14 CFR 23.73 (1996): reference landing speed of small aeroplanes, from memory
_SLOW = 0.85  # of the usual airspeed
_FLOWN_SLOW, _HELD_S = 0.75, 5.0  # of the usual airspeed, held so long: slow flight was meant
_DROPS_DEG, _WITHIN_S = 8.0, 1.5  # the nose, uncommanded
_SINKS_M_S = 1.0
_PUSHED = -0.15
_WATCHED_S, _LOST_S = 3.0, 12.0
_RECOVERED = 0.95  # of the usual airspeed
_AGAINST_DEG = 4.0
_HIGH_M = 15.0  # lower than that it lands
_ONE_ERROR = 0.07  # of a single stall
_SMOOTH_S = 0.4


@dataclass(frozen=True, slots=True, kw_only=True)
class Stall:
    """One stall: slowest airspeed before the nose fell, angle that a wing dropped by, height lost."""

    at_s: float
    airspeed_m_s: float
    drop_deg: float | None
    lost_m: float | None


def turn_factor(bank_deg: float) -> float:
    """How much faster the stall comes in a level turn: 1/√cos φ, since lift must bear n = 1/cos φ (Anderson, Introduction to
    Flight, level turn).

    >>> round(turn_factor(60.0), 3)
    1.414
    """
    return 1 / math.sqrt(math.cos(math.radians(bank_deg)))


def slow_of(recording: Recording, track: Track) -> CheckResult:
    """Stalls of a flight by their signs: airspeed below 85 % of the usual, and the nose falls by 8° within 1.5 s while the stick
    does not push, no mode changes, the controller does not ask for it, and the plane sinks faster by 1 m/s.

    Several stalls: mean with Student's interval; a single one ± 7 %. Without a stall only the slowest speed flown is known: the
    stall lies below it. Raises NotEnoughData without airspeed and pitch, or where it was never slow. Signs as a certification
    flight test names them, an uncommanded pitch down (14 CFR 23.201, from memory); thresholds common practice, no source.
    """
    airspeed, pitch = recording.channels.get("airspeed"), recording.channels.get("attitude.pitch")
    if airspeed is None or pitch is None or not np.isfinite(airspeed).any() or not np.isfinite(pitch).any():
        raise NotEnoughData("airspeed and pitch attitude are needed to find a stall: switch their logging on")
    if "stick.pitch" not in recording.channels and "attitude_wanted.pitch" not in recording.channels:
        raise NotEnoughData("a stall cannot be told from a dive: switch on logging of the pitch stick, or of the wanted pitch")
    rate_hz = recording.sample_rate_hz
    speed, nose = _smooth(airspeed, rate_hz), _smooth(pitch, rate_hz)
    air = _high(track, recording.start_s + np.arange(speed.size) / rate_hz)
    if not air.any():
        raise NotEnoughData("the plane never flew above 15 m in this log")
    usual = float(np.median(speed[air]))
    stalls = _stalls(recording, speed, nose, air, usual)
    slowest = float(np.min(uniform_filter1d(np.where(air, speed, usual), max(1, round(_HELD_S * rate_hz)))))
    if stalls:
        return _result(stalls, usual)
    if slowest > _FLOWN_SLOW * usual:
        raise NotEnoughData(
            f"the slowest flight was {slowest:.1f} m/s, not slow for this plane: fly the card “Slow flight and stall”"
        )
    return CheckResult(
        key="slow", at_s=None, measured={"stall_ratio": Measured(value=None, words=f"no stall down to {slowest:.1f} m/s")},
        headline=f"No stall down to {slowest:.1f} m/s: do not fly slower than that",
        more=(f"The usual airspeed was {usual:.1f} m/s.",),
    )  # fmt: skip


def _high(track: Track, t_s: FloatArray) -> BoolArray:
    """Where it is too high for a landing; everywhere where no height was recorded."""
    if track.height_m is None:
        return np.ones(t_s.size, dtype=bool)
    high = np.nan_to_num(track.height_m, nan=0.0) > _HIGH_M
    return np.asarray(np.interp(t_s, track.t_s, high.astype(float)) > 0.5)


def _smooth(values: FloatArray, rate_hz: float) -> FloatArray:
    good = np.flatnonzero(np.isfinite(values))
    filled = np.interp(np.arange(values.size), good, values[good])
    return np.asarray(uniform_filter1d(filled, max(1, round(_SMOOTH_S * rate_hz))), dtype=np.float64)


def _stalls(recording: Recording, speed: FloatArray, nose: FloatArray, air: BoolArray, usual: float) -> list[Stall]:
    rate_hz = recording.sample_rate_hz
    ahead = max(1, round(_WITHIN_S * rate_hz))
    height = recording.channels.get("altitude")
    climb = None
    if height is not None and np.isfinite(height).any():
        climb = np.gradient(_smooth(height, rate_hz)) * rate_hz
    stick, mode = recording.channels.get("stick.pitch"), recording.channels.get("mode")
    wanted = recording.channels.get("attitude_wanted.pitch")
    falls = np.zeros(speed.size, dtype=bool)
    falls[:-ahead] = (nose[ahead:] - nose[:-ahead] <= -_DROPS_DEG) & (speed[:-ahead] < _SLOW * usual) & air[:-ahead]
    found: list[Stall] = []
    last = -1
    for place in np.flatnonzero(falls).tolist():
        at_s = recording.start_s + place / rate_hz
        if last >= 0 and speed[last:place].max() < _RECOVERED * usual:
            last = place
            continue  # it stalls again before it has recovered
        own = slice(place, place + ahead)
        if mode is not None and np.ptp(mode[max(0, place - ahead) : place + ahead]) > 0:
            continue  # another mode, another attitude
        asked_for = np.nan if wanted is None or not np.isfinite(wanted[own]).any() else float(np.nanmin(wanted[own]))
        if stick is None and np.isnan(asked_for):
            continue  # it may have been flown down on purpose
        if asked_for - np.min(nose[own]) < _AGAINST_DEG:
            continue  # the controller asked for it
        if stick is not None and np.nanmin(stick[max(0, place - ahead // 2) : place + ahead // 2 + 1], initial=0.0) < _PUSHED:
            continue  # the pilot pushed
        if climb is not None and float(np.min(climb[own])) > float(climb[place]) - _SINKS_M_S:
            continue
        last = place
        found.append(_stall(recording, speed, height, place, at_s))
    return found


def _stall(recording: Recording, speed: FloatArray, height: FloatArray | None, place: int, at_s: float) -> Stall:
    rate_hz = recording.sample_rate_hz
    before = slice(max(0, place - round(rate_hz)), place + max(1, round(0.5 * rate_hz)))
    bank = recording.channels.get("attitude.roll")
    drop = None
    if bank is not None:
        after = bank[place : place + round(_WATCHED_S * rate_hz)]
        if np.isfinite(after).any() and np.isfinite(bank[place]):
            drop = float(np.nanmax(np.abs(after - bank[place])))
    lost = None
    if height is not None:
        own = height[place : place + round(_LOST_S * rate_hz)]
        if np.isfinite(own).any() and np.isfinite(height[place]):
            lost = max(0.0, float(height[place] - np.nanmin(own)))
    return Stall(at_s=float(at_s), airspeed_m_s=float(np.min(speed[before])), drop_deg=drop, lost_m=lost)


def _result(stalls: list[Stall], usual: float) -> CheckResult:
    speeds = np.array([one.airspeed_m_s for one in stalls])
    stall = float(speeds.mean())
    n = speeds.size
    error = _ONE_ERROR * stall if n == 1 else max(
        float(student.ppf(0.975, n - 1) * speeds.std(ddof=1) / math.sqrt(n)), 0.02 * stall
    )  # fmt: skip
    ratio = usual / stall
    drops = [one.drop_deg for one in stalls if one.drop_deg is not None]
    losses = [one.lost_m for one in stalls if one.lost_m is not None]
    safe = SAFE_OVER_STALL * (stall + error)
    measured = {
        "stall_ratio": Measured(value=ratio, error=ratio * error / stall),
        "drop_deg": Measured(value=max(drops), error=2.0) if drops else Measured(value=None, words="bank not logged"),
        "lost_m": Measured(value=max(losses), error=2.0) if losses else Measured(value=None, words="height not logged"),
    }
    turns = ", ".join(f"{safe * turn_factor(bank):.1f} m/s at {bank}°" for bank in (30, 45, 60))
    return CheckResult(
        key="slow", at_s=stalls[0].at_s, measured=measured,
        headline=f"Stalls at {stall:.1f} ± {error:.1f} m/s; lowest safe speed {safe:.1f} m/s",
        more=(f"{n} stall{'' if n == 1 else 's'} found; {SAFE_OVER_STALL:g} times the stall speed is the usual margin.",
              f"In a level turn fly faster: {turns} of bank."),
    )  # fmt: skip
