"""The numbers that a plane's flights are compared by: one a flight each."""

import math
from collections.abc import Mapping, Sequence

from nembrit.core.wing.lurch import Lurch
from nembrit.core.wing.navigation import Navigation
from nembrit.core.wing.pull import Pull
from nembrit.core.wing.rates import RateResponse
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.weaving import Weaving

_NORMAL_95, _SWING_S = 1.959964, 8.0
_FLOORS = {"held_trim": 2.0, "lurch": 1.0, "pull": 0.1}  # below these nobody tells one flight from another: changes are ratios


def wing_numbers(
    trim: Trim | None,
    lurches: Sequence[Lurch],
    weaving: Weaving | None,
    navigation: Navigation | None,
    rates: Mapping[str, RateResponse],
    pull: Pull | None,
) -> dict[str, float]:
    """Sizes without sign, by the metric's full name; what a flight cannot answer is absent.

    held_trim [µs], lurch and pull [deg/s], sway: standard deviation of bank on straight legs [deg], off_line: RMS distance from
    the lines that were wanted [m], rate_delay [s] and rate_peak [ratio] of the rate response.
    """
    found: dict[str, float] = {}
    if trim is not None:
        found |= {f"held_trim.{axis}": max(abs(own.trim_us), _FLOORS["held_trim"]) for axis, own in trim.axes.items()}
    for axis in ("roll", "pitch"):
        turned = [abs(one.rates_dps[axis]) for one in lurches if axis in one.rates_dps]
        if turned:
            found[f"lurch.{axis}"] = max(sum(turned) / len(turned), _FLOORS["lurch"])
    if pull is not None:
        found["pull"] = max(abs(pull.creep_deg_s), _FLOORS["pull"])
    if weaving is not None:
        found["sway"] = weaving.swing_deg
    for axis, own in rates.items():
        found |= {f"rate_delay.{axis}": own.delay_s[0], f"rate_peak.{axis}": own.peak_ratio[0]}
    wanted = [leg for leg in navigation.legs if leg.is_wanted and leg.cross_track_m is not None] if navigation else []
    if wanted:
        squares = [(leg.cross_track_m or 0.0) ** 2 + leg.cross_track_rms_m**2 for leg in wanted]
        found["off_line"] = (sum(squares) / len(squares)) ** 0.5
    return {name: value for name, value in found.items() if math.isfinite(value)}


def wing_errors(trim: Trim | None, weaving: Weaving | None, navigation: Navigation | None, pull: Pull | None) -> dict[str, float]:
    """Standard errors of the numbers above, where one flight shows them: by blocks of it, or by what its legs scatter."""
    found: dict[str, float] = {}
    if trim is not None:
        found |= {f"held_trim.{axis}": own.half_width_us / _NORMAL_95 for axis, own in trim.axes.items()}
    if pull is not None:
        found["pull"] = pull.error_deg_s
    if weaving is not None and len(weaving.legs) > 1:
        # a leg holds few swings: a standard deviation of n of them is known to 1/√(2n)
        seconds = sum(leg.end_s - leg.start_s for leg in weaving.legs)
        found["sway"] = weaving.swing_deg / math.sqrt(2 * max(1.0, seconds / _SWING_S))
    wanted = [leg for leg in navigation.legs if leg.is_wanted and leg.cross_track_m is not None] if navigation else []
    if len(wanted) > 1:
        off = [math.hypot(leg.cross_track_m or 0.0, leg.cross_track_rms_m) for leg in wanted]
        mean = sum(off) / len(off)
        found["off_line"] = math.sqrt(sum((one - mean) ** 2 for one in off) / (len(off) - 1) / len(off))
    return {name: max(value, 1e-6) for name, value in found.items() if math.isfinite(value)}
