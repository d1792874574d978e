"""What the wing page of a plane's flight shows."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import ceil
from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.wing.cure import LEAST_MOVE_US
from nembrit.core.wing.gainflight import GainFlight
from nembrit.core.wing.gainruns import gain_runs, is_saved
from nembrit.core.wing.rates import RateResponse, forward_word
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.words import signed
from nembrit.web.common.charts import Axis, Chart, Line

_QUESTIONS = {
    "trim": "Is it trimmed?",
    "creep": "Does its heading creep?",
    "weaving": "Does it weave, and why?",
    "wind": "What did the wind do?",
    "lurch": "Does it lurch at the switch to manual?",
    "navigation": "Does it hold its lines?",
    "return": "Can its return be trusted?",
    "rate_response.roll": "How does roll follow?",
    "rate_response.pitch": "How does pitch follow?",
    "gain_flight.roll": "Have the automatic gains of roll settled?",
    "gain_flight.pitch": "Have the automatic gains of pitch settled?",
}
_VERDICTS = {
    "none": "no side is preferred and nothing swings",
    "trim": "pulled to one side: a yaw trim",
    "trim_or_horizon": "pulled to one side: a yaw trim or a tilted horizon",
    "navigation_gain": "swings by itself: the navigation is too tight",
    "both": "pulled to one side, and the navigation swings",
}
_GAINS = {
    "settled": "settled", "still_rising": "still rising", "too_few": "too few holds", "not_settled": "not settled",
    "unknown": "the gain was not logged",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """What to move so that nothing is held any more."""

    servo: str
    old_us: float
    new_us: float


def wing_of(wing: Wing) -> dict[str, Any]:
    """For the template."""
    weaving = wing.weaving
    return {
        "wing": wing,
        "headline": headline(wing),
        "verdict": _VERDICTS[weaving.verdict] if weaving else "",
        "moves": moves(wing),
        "rates": [(axis, own, rate_words(own)) for axis, own in wing.rate_response.items()],
        "is_pulled": weaving is not None and weaving.side is not None,
        "axes": list(wing.trim.axes.items()) if wing.trim else [],
        "open": [(_QUESTIONS.get(name, name), reason) for name, reason in wing.reasons.items()],
    }


def rate_words(own: RateResponse) -> str:
    """What the feed-forward is, in words."""
    if own.forward_ratio is None:
        return "not told"
    ratio, (low, high) = own.forward_ratio
    return f"{forward_word(own.forward_ratio)}, {ratio:.2f} ({low:.2f} to {high:.2f}) of what it needs"


def headline(wing: Wing) -> str:
    """What it says, in one line."""
    weaving = wing.weaving
    if weaving is not None and weaving.side is not None:
        return f"Pulled to the {weaving.side}, {abs(weaving.creep_deg_s):.1f} deg/s"
    if weaving is not None and weaving.verdict == "navigation_gain":
        return f"Swings at {weaving.line_hz or 0:.2f} Hz: the navigation is too tight"
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
    return "This flight answers none of the wing’s questions yet"


def _trim_in_words(trim: Trim) -> str:
    """The axis that is held most, or how far all are known to stand at most: the far end of the widest interval."""
    axis, own = max(trim.axes.items(), key=lambda pair: abs(pair[1].trim_us))
    if abs(own.trim_us) >= LEAST_MOVE_US:
        return f"{axis.capitalize()} is held by {signed(own.trim_us)} ± {1.96 * own.error_us:.0f} µs"
    reach_us = ceil(max(abs(end) for one in trim.axes.values() for end in one.interval_us))
    return f"Trimmed within {reach_us} µs on every axis"


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


def moves(wing: Wing) -> list[Move]:
    """New servo centres, in whole microseconds, for those that stand off by 5 µs or more hands off."""
    if wing.trim is None:
        return []
    return [
        Move(servo=number, old_us=own.centre_us, new_us=round(own.centre_us + own.trim_us))
        for number, own in wing.trim.servos.items()
        if abs(own.trim_us) >= LEAST_MOVE_US
    ]
