"""The `wing` part of a report: a plane's trims, wind, weaving and gains."""

from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.report.response import rounded
from nembrit.core.wing.gainflight import GainFlight
from nembrit.core.wing.rates import RateResponse
from nembrit.core.wing.returns import Return
from nembrit.core.wing.trim import Trim
from nembrit.core.wing.weaving import Weaving
from nembrit.core.wing.wind import Wind


def wing_part(wing: Wing | None) -> dict[str, Any]:
    """Each part is null where it could not be told; the reasons stand in the report's notes."""
    if wing is None:
        return {}
    creep = wing.creep
    return {
        "trim": _trim(wing.trim),
        "creep": None
        if creep is None
        else {
            "rate_deg_s": rounded(creep.rate_deg_s), "interval_deg_s": [rounded(edge) for edge in creep.interval_deg_s],
            "wind_removed": creep.wind_removed, "seconds": rounded(creep.seconds),
        },
        "weaving": _weaving(wing.weaving),
        "wind": _wind(wing.wind),
        "returns": [_return(one) for one in wing.returns],
        "gain_flight": {axis: _gains(own) for axis, own in wing.gain_flight.items()},
        "rate_response": {axis: _rates(own) for axis, own in wing.rate_response.items()},
    }  # fmt: skip


def _trim(trim: Trim | None) -> dict[str, Any] | None:
    if trim is None:
        return None
    return {
        "axes": {
            axis: {"trim_us": rounded(own.trim_us), "interval_us": [rounded(edge) for edge in own.interval_us],
                   "seconds": rounded(own.seconds)}
            for axis, own in trim.axes.items()
        },
        "servos": {
            number: {"centre_us": rounded(own.centre_us), "trim_us": rounded(own.trim_us), "direction": own.direction}
            for number, own in trim.servos.items()
        },
        "throttle": rounded(trim.throttle),
        "airspeed_m_s": rounded(trim.airspeed_m_s),
    }  # fmt: skip


def _weaving(weaving: Weaving | None) -> dict[str, Any]:
    if weaving is None:
        return {"verdict": "not_enough", "side": None, "line_hz": None, "legs": 0}
    return {
        "verdict": weaving.verdict, "side": weaving.side, "line_hz": rounded(weaving.line_hz), "legs": len(weaving.legs),
    }  # fmt: skip


def _wind(wind: Wind | None) -> dict[str, Any] | None:
    if wind is None:
        return None
    low, high = max(0.0, wind.speed_m_s - wind.half_axis_m_s), wind.speed_m_s + wind.half_axis_m_s
    return {
        "speed_m_s": rounded(wind.speed_m_s), "speed_interval_m_s": [rounded(low), rounded(high)],
        "from_deg": rounded(wind.from_deg) if wind.has_direction else None,
        "from_interval_deg": [rounded(edge) for edge in wind.from_interval_deg] if wind.has_direction else None,
        "course_change_deg": rounded(wind.turned_deg),
    }  # fmt: skip


def _return(own: Return) -> dict[str, Any]:
    """Which way it turned is “either” where home lay so nearly behind that both ways were short."""
    return {
        "start_s": rounded(own.start_s), "turn_start_s": rounded(own.turn_start_s), "turn_height_m": rounded(own.turn_height_m),
        "turn_direction": "either" if own.either_way and own.turn_direction else own.turn_direction, "short_way": own.short_way,
        "target_height_m": rounded(own.target_height_m), "height_overshoot_m": rounded(own.height_overshoot_m),
        "turn_radius_m": rounded(own.turn_radius_m), "circled": own.circled, "circle_direction": own.circle_direction,
        "circle_radius_m": rounded(own.circle_radius_m), "turns": rounded(own.turns), "landed": own.landed,
        "nearest_m": rounded(own.nearest_m), "farthest_m": rounded(own.farthest_m),
    }  # fmt: skip


def _rates(own: RateResponse) -> dict[str, Any]:
    """Each number with its interval; effectiveness in deg/s of full deflection at the mean airspeed."""
    parts = {
        "delay_ms": (own.delay_s, 1000.0), "peak_ratio": (own.peak_ratio, 1.0), "level_ratio_at_0_5_s": (own.level_ratio, 1.0),
        "effectiveness": (own.effectiveness_dps, 1.0), "lag_ms": (own.lag_s, 1000.0),
    }  # fmt: skip
    told: dict[str, Any] = {}
    for name, (found, factor) in parts.items():
        told[name] = None if found is None else rounded(factor * found[0])
        told[f"{name}_interval"] = None if found is None else [rounded(factor * edge) for edge in found[1]]
    return told


def _gains(own: GainFlight) -> dict[str, Any]:
    return {
        "repetitions": own.repetitions, "hold_median_s": rounded(own.hold_median_s),
        "long_enough_ratio": rounded(own.long_enough_ratio), "overshoots": own.overshoots, "gain_last": rounded(own.gain_last),
        "verdict": own.verdict,
    }  # fmt: skip


def wing_notes(wing: Wing | None) -> list[str]:
    if wing is None:
        return []
    margins = [next(iter(wing.rate_response.values())).no_margins] if wing.rate_response else []
    return [f"wing.{name}: {reason}" for name, reason in wing.reasons.items()] + margins
