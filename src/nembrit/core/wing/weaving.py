"""Weaving on straight legs told apart: pulled to one side (trim), or swinging by itself (navigation gain)."""

import itertools
import math
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.signal import welch

from nembrit.core.errors import NotEnoughData
from nembrit.core.types import FloatArray
from nembrit.core.wing.errors import combined, hac_error
from nembrit.core.wing.track import RATE_HZ, Track, stretches
from nembrit.core.wing.wind import Wind

_G_M_S2 = 9.80665
_TURN_DEG_S, _SMOOTH_S, _LEAST_LEG_S, _SKIP_S = 2.5, 8.0, 20.0, 5.0
_CREEP_DEG_S, _BANK_DEG, _SIGMAS, _LEGS, _SAME_SIDE = 0.35, 0.5, 2.0, 2, 0.75
_HELD_DEG_S = 0.5
_SWINGS, _EVEN = 4, 0.4  # whole swings of like length
_SAME_COURSE_DEG, _TURNED_S, _ALONG_DEG = 1.0, 10.0, 15.0
_LINE_SHARE, _LINE_WIDTH, _SWING_DEG, _WINDOW_S, _FEWEST_SWINGS = 0.55, 0.25, 8.0, 120.0, 1.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Leg:
    """One straight leg: bank and turn rate not explained by bank, right and clockwise positive."""

    start_s: float
    end_s: float
    bank_deg: float
    bank_error_deg: float
    creep_deg_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Weaving:
    """What the legs say together."""

    verdict: str  # none, trim, trim_or_horizon, navigation_gain, both, not_enough
    side: str | None  # to which the plane is pulled
    line_hz: float | None  # of the swing
    legs: tuple[Leg, ...]
    bank_deg: float
    bank_error_deg: float
    creep_deg_s: float
    creep_error_deg_s: float
    swing_share: float  # of the bank's variance in its strongest line
    swing_deg: float  # standard deviation of the bank on the legs


def weaving_of(track: Track, wind: Wind | None, *, told_by_speed: str = "cannot tell") -> Weaving:
    """Judge all straight legs of a flight.

    Trim: |creep| > 0.35 deg/s, |mean bank| > 0.5° and more than two of its errors, to the same side on three legs of four (two
    at least); the
    side is opposite to the bank that holds against it. A tilted horizon looks the same at one speed, so that *trim* alone is
    said only where two speeds told it. Gain: more than 55 % of the bank's variance lies within a quarter of its strongest
    line, and it swings by more than 8°. Errors of means by Newey and West, legs together by inverse variance (Birge).
    Thresholds measured in the project's own trials. Raises NotEnoughData without attitude, velocity or two legs of 20 s.
    """
    if track.bank_deg is None:
        raise NotEnoughData("no attitude in this log: switch on logging of roll and pitch angle")
    course = track.air_course_deg(*((wind.north_m_s, wind.east_m_s) if wind else (0.0, 0.0)))
    speed = _airspeed(track, wind)
    if course is None or speed is None:
        raise NotEnoughData("no ground speed and course, and no positions: switch on logging of the position")
    followed = _followed(track)
    parts = followed or _legs(course)
    legs = [leg for part in parts if (leg := _leg(track, course, speed, part, is_line=bool(followed))) is not None]
    if len(legs) < _LEGS:
        raise NotEnoughData(f"{len(legs)} straight leg{'' if len(legs) == 1 else 's'} of 20 s: fly four legs there and back")
    bank, error = combined(np.array([one.bank_deg for one in legs]), np.array([one.bank_error_deg for one in legs]))
    creep, creep_error = _creep(legs, error, float(np.nanmedian(speed)))
    same_side = max(sum(one.bank_deg > 0 for one in legs), sum(one.bank_deg < 0 for one in legs))
    is_one_sided = same_side >= max(_LEGS, math.ceil(_SAME_SIDE * len(legs)))
    is_trim = abs(creep) > _CREEP_DEG_S and abs(bank) > _BANK_DEG and abs(bank) > _SIGMAS * error and is_one_sided
    line_hz, share, swing = _swing(track.bank_deg, parts)
    is_gain = share > _LINE_SHARE and swing > _SWING_DEG
    trim_word = "trim" if told_by_speed == "trim" else "trim_or_horizon"
    verdict = "both" if is_trim and is_gain else trim_word if is_trim else "navigation_gain" if is_gain else "none"
    return Weaving(
        verdict=verdict, side=("left" if bank > 0 else "right") if is_trim else None, line_hz=line_hz if is_gain else None,
        legs=tuple(legs), bank_deg=bank, bank_error_deg=error, creep_deg_s=creep,
        creep_error_deg_s=creep_error, swing_share=share, swing_deg=swing,
    )  # fmt: skip


def _creep(legs: list[Leg], bank_error_deg: float, speed_m_s: float) -> tuple[float, float]:
    """Median of the legs, and its error: from their scatter, at least that of the bank that explains the turning."""
    own = np.array([one.creep_deg_s for one in legs])
    scatter = 1.4826 * float(np.median(np.abs(own - np.median(own)))) if own.size > 2 else float(own.std(ddof=1))
    by_bank = math.degrees(_G_M_S2 * math.radians(bank_error_deg) / max(speed_m_s, 3.0))
    return float(np.median(own)), max(1.2533 * scatter / math.sqrt(own.size), by_bank)


def _airspeed(track: Track, wind: Wind | None) -> FloatArray | None:
    if track.airspeed_m_s is not None:
        return track.airspeed_m_s
    if track.north_m_s is None or track.east_m_s is None:
        return None
    moved = (wind.north_m_s, wind.east_m_s) if wind else (0.0, 0.0)
    return np.hypot(track.north_m_s - moved[0], track.east_m_s - moved[1])


def straight_parts(track: Track, course_deg: FloatArray) -> list[slice]:
    """Straight legs: by the course that was wanted, else by what the course did."""
    return _followed(track) or _legs(course_deg)


def _followed(track: Track) -> list[slice]:
    """Legs by the course that was to be held: from ten seconds on, and from where the plane flies along it."""
    course_deg = track.air_course_deg(0.0, 0.0)  # over ground: that is what is wanted
    if track.course_wanted_deg is None or course_deg is None:
        return []
    held = np.abs(np.diff(track.course_wanted_deg, prepend=np.nan)) < _SAME_COURSE_DEG
    good = np.isfinite(course_deg)
    if not good.any():
        return []
    smooth = uniform_filter1d(np.interp(np.arange(good.size), np.flatnonzero(good), course_deg[good]), round(_SMOOTH_S * RATE_HZ))
    found = []
    for part in stretches(held, round((_LEAST_LEG_S + _TURNED_S) * RATE_HZ)):
        error = np.abs((smooth[part] - track.course_wanted_deg[part] + 180.0) % 360.0 - 180.0)
        error[: round(_TURNED_S * RATE_HZ)] = np.inf
        on_line = np.flatnonzero(error < _ALONG_DEG)
        if on_line.size and (part.stop - part.start - on_line[0]) >= _LEAST_LEG_S * RATE_HZ:
            found.append(slice(part.start + int(on_line[0]), part.stop))
    return found


def _legs(course_deg: FloatArray) -> list[slice]:
    """Stretches that hold their course in the mean; weaving about it does not end a leg."""
    good = np.isfinite(course_deg)
    if good.sum() < _LEAST_LEG_S * RATE_HZ:
        return []
    filled = np.interp(np.arange(course_deg.size), np.flatnonzero(good), course_deg[good])
    smooth = uniform_filter1d(filled, round(_SMOOTH_S * RATE_HZ))
    straight = (np.abs(np.gradient(smooth) * RATE_HZ) < _TURN_DEG_S) & good
    skip = round(_SKIP_S * RATE_HZ)
    found = stretches(straight, round((_LEAST_LEG_S + _SKIP_S) * RATE_HZ))
    return [slice(part.start + skip, part.stop - skip // 2) for part in found]


def _leg(track: Track, course: FloatArray, speed: FloatArray, part: slice, *, is_line: bool) -> Leg | None:
    assert track.bank_deg is not None
    bank, own_course, own_speed = track.bank_deg[part], course[part], speed[part]
    good = np.isfinite(bank) & np.isfinite(own_course) & np.isfinite(own_speed) & (own_speed > 3) & track.in_the_air[part]
    if good.sum() < 0.8 * _LEAST_LEG_S * RATE_HZ:
        return None
    bank, own_course, own_speed = bank[good], own_course[good], own_speed[good]
    turned = (own_course[-1] - own_course[0]) / (own_course.size - 1) * RATE_HZ
    if abs(turned) > _HELD_DEG_S and not is_line:  # nobody holds this course: it is hands-off flying, which `creep` judges
        return None
    mean, error = _mean_bank(bank)
    explained = float(np.degrees(np.mean(_G_M_S2 * np.tan(np.radians(bank)) / own_speed)))
    return Leg(
        start_s=float(track.t_s[part.start]), end_s=float(track.t_s[part.stop - 1]), bank_deg=mean,
        bank_error_deg=max(error, 0.02), creep_deg_s=float(turned - explained),
    )  # fmt: skip


def _mean_bank(bank_deg: FloatArray) -> tuple[float, float]:
    """Mean of the bank on a leg and its error; of whole swings where it swings, since a cut-off one would bias it."""
    plain = float(bank_deg.mean())
    crossings = np.flatnonzero((bank_deg[:-1] < plain) & (bank_deg[1:] >= plain)) + 1
    gaps = np.diff(crossings)
    if bank_deg.std() < _SWING_DEG or gaps.size < _SWINGS or gaps.std() > _EVEN * gaps.mean():
        return plain, hac_error(bank_deg)
    swings = np.array([float(bank_deg[a:b].mean()) for a, b in itertools.pairwise(crossings)])
    return float(np.average(swings, weights=gaps)), float(swings.std(ddof=1) / math.sqrt(swings.size))


def _swing(bank_deg: FloatArray, parts: list[slice]) -> tuple[float, float, float]:
    """Strongest line of the bank on the legs [Hz], its share of the variance, and how far it swings [deg].

    Whole legs, two minutes of each at most; a line of which they hold fewer than one and a half swings has no share.
    """
    longest = round(_WINDOW_S * RATE_HZ)
    banks = [own[np.isfinite(own)] for own in (bank_deg[part] for part in parts)]
    banks = [own[:longest] for own in banks if own.size >= _LEAST_LEG_S * RATE_HZ / 2]
    if not banks:
        return 0.0, 0.0, 0.0
    spectra = [welch(own - own.mean(), fs=RATE_HZ, nperseg=own.size, nfft=longest) for own in banks]
    frequency, power = spectra[0][0], np.mean([one[1] for one in spectra], axis=0)
    window_s = float(np.median([own.size for own in banks])) / RATE_HZ
    seen = frequency >= 0.5 / window_s
    strongest = int(np.argmax(np.where(seen, power, 0.0)))
    line_hz = float(frequency[strongest])
    swing = math.sqrt(float(np.mean([own.var() for own in banks])))
    if line_hz * window_s < _FEWEST_SWINGS:
        return line_hz, 0.0, swing
    width = max(_LINE_WIDTH * line_hz, min(2.0 / window_s, 0.5 * line_hz))  # a Hann window's own width
    inside = np.abs(frequency - line_hz) <= width
    total = float(power[seen].sum())
    return line_hz, float(power[inside & seen].sum() / total) if total > 0 else 0.0, swing
