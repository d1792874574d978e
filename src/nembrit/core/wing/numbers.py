"""The numbers that a plane's flights are compared by: one a flight each."""

import math
from collections.abc import Mapping, Sequence

from nembrit.core.wing.lurch import Lurch
from nembrit.core.wing.navigation import Navigation
from nembrit.core.wing.rates import RateResponse
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.weaving import Weaving

_FLOORS = {"held_trim": 2.0, "lurch": 1.0, "pull": 0.1}  # below these nobody tells one flight from another: changes are ratios


def wing_numbers(
    trim: Trim | None,
    lurches: Sequence[Lurch],
    weaving: Weaving | None,
    navigation: Navigation | None,
    rates: Mapping[str, RateResponse],
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
    if weaving is not None:
        found |= {"pull": max(abs(weaving.creep_deg_s), _FLOORS["pull"]), "sway": weaving.swing_deg}
    for axis, own in rates.items():
        found |= {f"rate_delay.{axis}": own.delay_s[0], f"rate_peak.{axis}": own.peak_ratio[0]}
    wanted = [leg for leg in navigation.legs if leg.is_wanted and leg.cross_track_m is not None] if navigation else []
    if wanted:
        squares = [(leg.cross_track_m or 0.0) ** 2 + leg.cross_track_rms_m**2 for leg in wanted]
        found["off_line"] = (sum(squares) / len(squares)) ** 0.5
    return {name: value for name, value in found.items() if math.isfinite(value)}
