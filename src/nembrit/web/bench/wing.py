"""What the wing page of a plane's flight shows."""

from collections.abc import Mapping, Sequence
from math import ceil
from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.wing.cure import LEAST_MOVE_US
from nembrit.core.wing.gainflight import GainFlight
from nembrit.core.wing.gainruns import gain_runs, is_saved
from nembrit.core.wing.lurch import LURCHES_DPS, Lurch
from nembrit.core.wing.rates import RateResponse, forward_word
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.words import signed
from nembrit.web.common.charts import Axis, Chart, Line

_QUESTIONS = {
    "trim": "Trims, hands off",
    "creep": "Heading drift",
    "weaving": "Weaving on straight legs",
    "wind": "Wind",
    "lurch": "Lurch at the switch to manual",
    "navigation": "Lines and circles",
    "return": "Return home",
    "rate_response.roll": "Rate response, roll",
    "rate_response.pitch": "Rate response, pitch",
    "gain_flight.roll": "Automatic gains, roll",
    "gain_flight.pitch": "Automatic gains, pitch",
}
_VERDICTS = {
    "none": "no pull to a side, no oscillation",
    "trim": "pulled to one side: a yaw trim",
    "trim_or_horizon": "pulled to one side: a yaw trim or a tilted horizon",
    "navigation_gain": "oscillates: the navigation gain is too high",
    "both": "pulled to one side, and the navigation oscillates",
}
_CAUSES = {
    "trim": ": a yaw trim", "horizon": ": a tilted horizon, or a motor that pulls", "both": ": a yaw trim and a tilted horizon",
}  # fmt: skip
_GAINS = {
    "settled": "settled", "still_rising": "still rising", "too_few": "too few holds", "not_settled": "not settled",
    "never_moved": "never changed",
    "unknown": "the gain was not logged",
}  # fmt: skip


def wing_of(wing: Wing) -> dict[str, Any]:
    """For the template."""
    weaving = wing.weaving
    return {
        "wing": wing,
        "headline": headline(wing),
        "verdict": _VERDICTS[weaving.verdict] if weaving else "",
        "rates": [(axis, own, rate_words(own)) for axis, own in wing.rate_response.items()],
        "flown_at": _flown_at(wing.trim),
        "by_speed": wing.speeds.in_words if wing.speeds else "a yaw trim and a tilted horizon look the same at one airspeed",
        "wind_removed": "wind removed" if wing.creep and wing.creep.wind_removed else "wind not removed, which may add 0.3 deg/s",
        "lurches": [_lurch_words(one) for one in wing.lurches],
        "axes": [pair for pair in wing.trim.axes.items() if pair[0] != "yaw"] if wing.trim else [],
        "open": [(_QUESTIONS.get(name, name), reason) for name, reason in wing.reasons.items()],
    }


def _flown_at(trim: Trim | None) -> str:
    """Throttle and airspeed at which trims were measured, as the rest of a sentence."""
    if trim is None:
        return ""
    throttle = "" if trim.throttle is None else f", throttle {100 * trim.throttle:.0f} %"
    return throttle + ("" if trim.airspeed_m_s is None else f", {trim.airspeed_m_s:.1f} m/s")


def _lurch_words(lurch: Lurch) -> str:
    rates = ", ".join(f"{axis} {signed(rate)} deg/s" for axis, rate in lurch.rates_dps.items())
    return f"At {lurch.at_s:.0f} s: {rates}" + (": it lurches" if abs(lurch.largest[1]) > LURCHES_DPS else ": it stays")


def rate_words(own: RateResponse) -> str:
    """What the feed-forward is, in words."""
    if own.forward_ratio is None:
        return "could not be measured"
    ratio, (low, high) = own.forward_ratio
    word = forward_word(own.forward_ratio)
    return f"{'not proven' if word == 'open' else word}, {ratio:.2f} ({low:.2f} to {high:.2f}) of the ideal"


def headline(wing: Wing) -> str:
    """What it says, in one line."""
    weaving, pull = wing.weaving, wing.pull
    if pull is not None and pull.side is not None:
        return f"Pulled to the {pull.side} by {abs(pull.creep_deg_s):.1f} deg/s{_CAUSES.get(pull.cause, '')}"
    if weaving is not None and weaving.verdict == "navigation_gain":
        return f"Oscillates at {weaving.line_hz or 0:.2f} Hz: the navigation gain is too high"
    if wing.gain_flight:
        told = ", ".join(
            f"{axis} {_GAINS[own.verdict]}{f' at {own.gain_last:.3g}' if own.gain_last is not None else ''}"
            for axis, own in wing.gain_flight.items()
        )
        return f"Automatic gains: {told}"
    if wing.trim is not None and wing.trim.axes:
        return _trim_in_words(wing.trim)
    if wing.wind is not None:
        return f"Wind {wing.wind.in_words}"
    return "This flight has no data for the wing bench"


def _trim_in_words(trim: Trim) -> str:
    """The axis that is held most, or how far all are known to stand at most: the far end of the widest interval."""
    held = {axis: own for axis, own in trim.axes.items() if axis != "yaw"} or trim.axes
    axis, own = max(held.items(), key=lambda pair: abs(pair[1].trim_us))
    if abs(own.trim_us) >= LEAST_MOVE_US and abs(own.trim_us) > own.half_width_us:
        return f"{axis.capitalize()} is held by {signed(own.trim_us)} ± {own.half_width_us:.0f} µs"
    reach_us = ceil(max(abs(end) for one in held.values() for end in one.interval_us))
    return f"Trimmed within {reach_us} µs: {' and '.join(sorted(held))}"


def gain_rows(wing: Wing, earlier: Sequence[Wing], saved: Mapping[str, float]) -> list[dict[str, Any]]:
    """Each axis's automatic gains: this flight, earlier runs beside it, and whether the settings hold them."""
    found = []
    for axis, own in wing.gain_flight.items():
        runs = gain_runs([one.gain_flight[axis] for one in reversed(earlier) if axis in one.gain_flight] + [own])
        last = own.gain_last
        found.append(
            {
                "axis": axis, "own": own, "verdict": _GAINS[own.verdict], "runs": runs, "last": last, "saved": saved.get(axis),
                "is_saved": None if last is None or axis not in saved else is_saved(last, saved[axis]),
                "chart": gain_chart(axis, own) if own.gains else None,
            }
        )  # fmt: skip
    return found


def gain_chart(axis: str, own: GainFlight) -> dict[str, Any]:
    """The gain after each hold."""
    x: list[float | None] = [float(number) for number in range(1, len(own.gains) + 1)]
    return Chart(
        title=f"Gain over the holds, {axis}", x=Axis(label="hold", unit="1", low=0, high=len(own.gains) + 1.0),
        y=Axis(label="gain", unit="1"),
        lines=[Line(label="after each hold", x=x, y=[round(value, 4) for value in own.gains], look="filtered", colour=axis)],
    ).as_json()  # fmt: skip
