"""The report's `response` part: how each axis follows, its margins, the real scale of its gains, the craft behind it."""

import math
from typing import Any

from nembrit.core.analysis.loop import Loop
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.margins import MOST_GAIN_MARGIN_DB
from nembrit.core.response.step import StepResponse
from nembrit.core.response.tracking import Tracking
from nembrit.core.setup.controller import ShownGains

# keys of this part whose interval may be too wide for one number, by the loop's own names
_ROUGH_AS = {
    "phase_margin_deg": "phase_margin_deg", "gain_margin_db": "gain_margin_db", "sensitivity_peak": "sensitivity_peak",
    "bandwidth_hz": "bandwidth_hz", "peak_db": "peak_db", "rise_time_s": "rise_time_ms", "delay_s": "delay_ms",
    "settling_time_s": "settling_time_ms",
}  # fmt: skip


def rounded(value: float | None, digits: int = 6) -> float | None:
    """Significant digits for JSON; NaN and infinities become null."""
    if value is None or not math.isfinite(value):
        return None
    return float(f"{value:.{digits}g}")


def response_part(step: StepResponse | None, loop: Loop | None, axis: str, shown: ShownGains | None) -> dict[str, Any]:
    """One axis. Overshoot comes from the step response itself, delay from the refined model where there is one."""
    found = loop.axes.get(axis) if loop else None
    tracked = loop.tracking.get(axis) if loop else None
    return {
        **_following(step, found),
        **_margins(found),
        "handling_bandwidth_hz": rounded(found.handling_bandwidth_hz) if found else None,
        "phase_delay_ms": _ms(found.phase_delay_s) if found else None,
        "coherent_band_hz": _coherent(tracked),
        "excitation": step.excitation if step else "weak" if found else "none",
        "gain_scale": _scales(found, axis, shown),
        "gains": {term: rounded(found.gains[term].value) if found and term in found.gains else None for term in "pidf"},
        "plant": _plant(found),
        "rough": [] if found is None else [_ROUGH_AS[name] for name, yes in found.rough.items() if yes and name in _ROUGH_AS],
    }


def _following(step: StepResponse | None, found: AxisLoop | None) -> dict[str, Any]:
    delay = found.delay_s if found else None
    if delay is None and step is not None and step.delay_s is not None and step.delay_interval_s is not None:
        delay = Estimate(value=step.delay_s, low=step.delay_interval_s[0], high=step.delay_interval_s[1])
    rise, settling = (found.rise_time_s, found.settling_time_s) if found else (None, None)
    bandwidth = found.bandwidth_hz if found else None
    return {
        "bandwidth_hz": _value(bandwidth),
        "bandwidth_interval_hz": _interval(bandwidth),
        "peak_db": _value(found.peak_db) if found else None,
        "delay_ms": _value(delay, 1000),
        "delay_interval_ms": _interval(delay, 1000),
        "rise_time_ms": _value(rise, 1000),
        "rise_time_interval_ms": _interval(rise, 1000),
        "overshoot_pct": None if step is None else rounded(step.overshoot_ratio * 100),
        "overshoot_interval_pct": None if step is None else [rounded(edge * 100) for edge in step.overshoot_interval],
        "settling_time_ms": _value(settling, 1000),
    }


def _margins(found: AxisLoop | None) -> dict[str, Any]:
    keys = ("gain_margin_db", "phase_margin_deg", "sensitivity_peak")
    part: dict[str, Any] = {}
    for key in keys:
        own: Estimate | None = getattr(found, key) if found else None
        name, _, unit = key.rpartition("_")
        part[key] = _value(own)
        part[f"{name}_interval_{unit}" if unit in ("db", "deg") else f"{key}_interval"] = _interval(own)
    if found is not None and found.gain_margin_db is None:
        part["gain_margin_above_db"] = MOST_GAIN_MARGIN_DB
    return part


def _plant(found: AxisLoop | None) -> dict[str, Any] | None:
    if found is None:
        return None
    plant = found.plant
    return {
        "gain": rounded(plant.gain), "lag_ms": _ms(plant.lag_s), "delay_ms": _ms(plant.delay_s),
        "damping_per_s": rounded(plant.damping_per_s),
    }  # fmt: skip


def _scales(found: AxisLoop | None, axis: str, shown: ShownGains | None) -> dict[str, float | None]:
    """SI units per number shown; of a configuration in SI units itself, about 1."""
    known = found.gains if found is not None and found.gains_from == "terms" else {}
    numbers = shown.get(axis, {}) if shown else {}
    return {term: rounded(known[term].value / numbers[term]) if term in known and numbers.get(term) else None for term in "pidf"}


def _coherent(tracked: Tracking | None) -> list[float | None] | None:
    if tracked is None or tracked.coherent_band_hz is None:
        return None
    return [rounded(edge) for edge in tracked.coherent_band_hz]


def _value(own: Estimate | None, factor: float = 1.0) -> float | None:
    return None if own is None else rounded(own.value * factor)


def _interval(own: Estimate | None, factor: float = 1.0) -> list[float | None] | None:
    return None if own is None else [rounded(own.low * factor), rounded(own.high * factor)]


def _ms(value_s: float | None) -> float | None:
    return None if value_s is None else rounded(1000 * value_s)
