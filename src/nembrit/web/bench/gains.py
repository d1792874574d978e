"""Gains tried on a flight, as their page shows them."""

from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import QueryDict

from nembrit.core.analysis.choosing import Choosing, axes_told
from nembrit.core.errors import NotEnoughData
from nembrit.core.response.edge import ZONES
from nembrit.core.response.margins import margins
from nembrit.core.setup.configuration import number as number_in
from nembrit.core.tuning.best import left_open, limits_for
from nembrit.core.tuning.classical import classical_gains
from nembrit.core.tuning.design import target_for
from nembrit.core.tuning.flown import Exchanged, flown_loop
from nembrit.core.tuning.translate import like
from nembrit.core.tuning.whatif import Change, Predicted, swings
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.common.fields import number
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, name_map

TERMS = {"p": "P", "i": "I", "d": "D", "f": "feed-forward"}
_LEAST, _MOST = 0.3, 3.0  # ratios that are tried
_GRID = np.geomspace(0.5, 2.0, 13)
_ROWS = (
    ("bandwidth", "bandwidth_hz", 1.0, "Hz"), ("rise, 10 to 90 %", "rise_time_s", 1000.0, "ms"),
    ("overshoot", "overshoot_ratio", 100.0, "%"), ("time to half", "delay_s", 1000.0, "ms"),
    ("settling time (5 %)", "settling_time_s", 1000.0, "ms"), ("phase margin", "phase_margin_deg", 1.0, "°"),
    ("gain margin", "gain_margin_db", 1.0, "dB"), ("sensitivity peak", "sensitivity_peak", 1.0, ""),
)  # fmt: skip


_KEY_ROWS = ("rise, 10 to 90 %", "overshoot", "sensitivity peak", "motor noise")  # shown beside the sliders


@dataclass(frozen=True, slots=True, kw_only=True)
class GainField:
    """One gain: the number as shown now, as tried, and what it was flown with; in per cent where numbers are not known."""

    term: str
    label: str
    name: str  # of the setting; empty: not known
    flown: float
    shown: str
    ratio: float


def fields_of(flight: Flight, bench: Choosing, axis: str, given: QueryDict) -> list[GainField]:
    """The gains of an axis that act, with what the page's fields say of them. Raises InputError."""
    if bench.loop is None or axis not in bench.loop.axes:
        return []
    names = name_map(flight.craft) if flight.configuration else {}
    settings = core_settings(flight.configuration) if flight.configuration else []
    by_key = {meaning.key: name for name, meaning in names.items()}
    values = {one.name: one.value for one in settings}
    found = []
    for term, label in TERMS.items():
        if term not in bench.loop.axes[axis].gains:
            continue
        name = by_key.get(f"gain.rate.{axis}.{term}", "")
        shown = number_in(values.get(name, "")) or 0.0
        flown, name = (shown, name) if shown else (100.0, "")
        text = given.get(term, "")
        value = number(text, f"{label} of {axis}", low=_LEAST * flown, high=_MOST * flown) if text else flown
        shown_text = like(values[name], value) if name else f"{value:.0f}"
        found.append(GainField(term=term, label=label, name=name, flown=flown, shown=shown_text, ratio=value / flown))
    return found


def page_of(bench: Choosing, axis: str, fields: list[GainField], craft: Craft) -> dict[str, Any]:
    """What the tried gains of an axis would do, beside the flown ones. Raises NotEnoughData."""
    change = Change(gains={axis: {one.term: one.ratio for one in fields}})
    is_tried = any(abs(one.ratio - 1) > 1e-3 for one in fields)
    was, told = bench.predicted(axis, Change()), bench.predicted(axis, change)
    motors = [bench.motors(one) for one in (Change(), change)]
    rows: list[dict[str, Any]] = []
    rough, rough_tried = bench.flown_rough(axis), told.rough
    for name, field, factor, unit in _ROWS:
        one, other = bench.flown_number(axis, field), getattr(told, field)
        rows.append({
            "name": name, "flown": one, "tried": other, "factor": factor, "unit": unit, "suffix": _after(unit),
            "is_rough": rough[field], "is_rough_tried": rough_tried[field],
        })  # fmt: skip
    rows.append({"name": "motor noise", "flown": motors[0], "tried": motors[1], "factor": 100.0, "unit": "%", "suffix": " %"})
    found = bench.loop.axes[axis] if bench.loop else None
    moved = {one.term for one in fields if abs(one.ratio - 1) > 1e-3}
    stands = bench.ruling(change, target_rms=target_for("usual", craft.propeller_diameter_in))  # as slips are judged
    groups = (({"p", "d"}, f"pd.{axis}", f"P with D of {axis}"), ({"i"}, "i", "I"), ({"f"}, "feed_forward", "feed-forward"))
    return {
        "slips": [] if stands.forbidden else [(group, words) for terms, group, words in groups if moved & terms],
        "ruling": stands,
        "fields": fields, "is_tried": is_tried, "rows": rows, "told": told,
        "key_rows": [row for row in rows if row["name"] in _KEY_ROWS],
        "throttles": list(zip(found.by_throttle, told.by_throttle, strict=True)) if found else [],
        "charts": [("step", _step_chart(axis, was, told, is_tried=is_tried))],
        "region": region_of(bench, axis, fields), "zones": ZONES, "headline": _headline(axis, was, told, is_tried=is_tried),
        "rules": [
            {"rule": rule, "ratio": rule.p / found.gains["p"].value} for rule in classical_gains(found) if rule.p is not None
        ] if found else [],
        "answering": axes_told(bench), "left_open": left_open(found, limits_for("usual", 1.0)) if found else "",
    }  # fmt: skip


def _after(unit: str) -> str:
    """A unit as it stands behind a number."""
    return unit if unit in ("", "°") else f" {unit}"


def best_of(flight: Flight, bench: Choosing, craft: Craft, caution: str) -> dict[str, Any]:
    """The fastest gains within limits of every axis, one group a slip, in the order in which to fly them."""
    limits = limits_for(caution, motor_room(bench, craft, caution))
    rows = []
    for axis in axes_told(bench):
        try:
            found = bench.best(axis, limits)
        except NotEnoughData:
            continue
        fields = fields_of(flight, bench, axis, QueryDict())
        ratios = {"p": found.p, "d": found.d}
        words = {one.term: like(one.shown, one.flown * ratios.get(one.term, 1.0)) for one in fields}
        rows.append({
            "axis": axis, "best": found, "query": urlencode({"axis": axis, **words}),
            "changes": [(one, words[one.term]) for one in fields if one.term in ratios and words[one.term] != one.shown],
        })  # fmt: skip
    measured, target = _measured(bench), target_for(caution, craft.propeller_diameter_in)
    return {
        "rows": rows,
        "limits": limits,
        "measured": measured,
        "target": target,
        "is_loud": measured is not None and measured > target,
    }


def motor_room(bench: Choosing, craft: Craft, caution: str) -> float:
    """How much more noise the motors may have than flown: up to the target; none more where that is passed already."""
    measured = _measured(bench)
    return max(1.0, target_for(caution, craft.propeller_diameter_in) / measured) if measured else 1.0


def _measured(bench: Choosing) -> float | None:
    """Motor noise as flown, share of full range."""
    return bench.shaping.roughness_ratio if bench.shaping else None


def region_of(bench: Choosing, axis: str, fields: list[GainField]) -> dict[str, Any]:
    """The stability margin over P and D together: zones over ratios from half to double, and where the tried pair is."""
    assert bench.loop is not None
    found = bench.loop.axes[axis]
    parts = flown_loop(found)
    scale = (1 / found.sensitivity_peak.value) / (1 / margins(parts.frequency_hz, parts.loop()).sensitivity_peak)
    cells = []
    has_d = "d" in found.gains
    for row, d in enumerate(_GRID[::-1] if has_d else np.ones(1)):
        for column, p in enumerate(_GRID):
            loop = parts.loop(Exchanged(p=float(p), d=float(d)))
            room = 0.0 if swings(loop) else min(1.0, scale * float(np.abs(1 + loop).min()))
            zone = next(k for k, (_, low, high) in enumerate(ZONES, start=1) if low <= room <= high)
            cells.append({"x": column, "y": row, "zone": zone})
    ratios = {one.term: one.ratio for one in fields}
    side = _GRID.size

    def along(ratio: float) -> float:
        return float(np.clip(np.log(ratio / _GRID[0]) / np.log(_GRID[-1] / _GRID[0]), 0, 1)) * side

    upwards = "; D from half to double, upwards" if has_d else ""
    return {
        "spoken": f"Stability margin of {axis}: P from half to double, left to right{upwards}",
        "cells": cells, "side": side, "height": side if has_d else 1, "has_d": has_d,
        "here": {"x": f"{along(ratios.get('p', 1.0)):.2f}", "y": f"{side - along(ratios.get('d', 1.0)) if has_d else 0.5:.2f}"},
        "flown": {"x": f"{along(1.0):.2f}", "y": f"{side - along(1.0) if has_d else 0.5:.2f}"},
    }  # fmt: skip


def _headline(axis: str, was: Predicted, told: Predicted, *, is_tried: bool) -> str:
    name = axis.capitalize()
    if not told.is_stable:
        return f"{name} would oscillate at about {told.swing_hz:.0f} Hz: do not fly this"
    if not is_tried:
        return f"Try other gains on {axis}"
    if was.rise_time_s is None or told.rise_time_s is None:
        return f"{name} with the tried gains"
    change = told.rise_time_s.value / was.rise_time_s.value - 1
    pace = (
        "as fast as now"
        if abs(change) < 0.01
        else f"{abs(change):.0%} {'slower' if change > 0 else 'faster'}".replace("%", "\N{THIN SPACE}%")
    )
    return f"{name} would be {pace}"


def _step_chart(axis: str, was: Predicted, told: Predicted, *, is_tried: bool) -> Chart:
    x = (1000 * was.step_t_s).tolist()
    lines = [Line(label="now", x=x, y=_rounded(was.step), look="before")]
    if is_tried and told.is_stable:
        # as far as overshoot and delay may be off: the band of the largest of both
        half = told.overshoot_ratio.error if told.overshoot_ratio else 0.0
        low, high = (_rounded(told.step + sign * half * np.minimum(1.0, told.step_t_s / 0.02)) for sign in (-1, 1))
        lines.append(Line(label="predicted", x=x, y=_rounded(told.step), look="after", colour=axis, low=low, high=high))
    return Chart(
        title=f"Step response, {axis}", x=Axis(label="time after the step", unit="ms", low=0, high=300),
        y=Axis(label="response to a unit step", unit="1", low=-0.1, high=1.5), lines=lines, level=1.0,
    )  # fmt: skip


def _rounded(values: Any) -> list[float | None]:
    return [round(float(value), 4) for value in values]
