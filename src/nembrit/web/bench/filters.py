"""A chain tried on a flight's noise, as its page shows it."""

from typing import Any
from urllib.parse import urlencode

import numpy as np

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.errors import NotEnoughData
from nembrit.core.filters.stated import stated_delay_s, whole_response
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.design import SCHOOLS, best_chain, lag_of, motor_rms_of, target_for, trade_curve
from nembrit.core.tuning.residual import folded_sentence
from nembrit.core.tuning.whatif import Change
from nembrit.core.types import AXES, ComplexArray, FloatArray
from nembrit.web.bench.chainform import KINDS, PLACES, fields_of, query_of
from nembrit.web.common.charts import Axis, Band, Chart, Line, Mark, decibels
from nembrit.web.hangar.models import Craft

_WARM, _HOT = 1.25, 2.0  # motor noise over the flown one; starting values of our own, no source
_MAP_TOP_HZ = 640.0
_CURVE_HZ = np.geomspace(2.0, 500.0, 160)
_LOOKS = {"as set": "after", "chip": "before", "software": "third"}


def page_of(bench: Choosing, chains: Controller, axis: str, craft: Craft) -> dict[str, Any]:
    """Everything that the page shows of a chain. Raises NotEnoughData where not even a delay could be told."""
    flown, change = bench.known, Change(chains=chains)
    is_tried = chains != flown
    context: dict[str, Any] = {
        "is_tried": is_tried, "kinds": KINDS, "query": urlencode(query_of(chains)), "places": PLACES, "reasons": [],
        "chosen": axis, "axes": AXES,
    }  # fmt: skip
    gyro = (chains.chip, chains.gyro) != (flown.chip, flown.gyro)
    context["slips"] = [("gyro_filters", "gyro filters")] * gyro + [("d_filters", "D filters")] * (chains.d_term != flown.d_term)
    costs: dict[tuple[str, int], tuple[float, float]] = {}
    try:
        costs = {(one.place, one.position): (one.delay_s, one.lag_deg) for one in bench.budget(chains)}
    except NotEnoughData as error:
        context["reasons"].append(str(error))
        for place in PLACES:
            for k, one in enumerate(getattr(chains, place)):
                costs[place, k] = (stated_delay_s((one,), chains.loop_rate_hz, bench.rotor_hz), float("nan"))
    context["blocks"] = fields_of(chains, costs)
    context["sums"] = _sums(bench, flown, chains, change, axis)
    context["ruling"] = stands = bench.ruling(change, target_rms=target_for("usual", craft.propeller_diameter_in))
    context["risk"] = {} if stands.forbidden else _risk(bench, change)
    if stands.forbidden:
        context["slips"] = []
    if bench.loop is not None and axis in bench.loop.axes:
        was, becomes = bench.loop.axes[axis], bench.predicted(axis, change)
        context["throttles"] = list(zip(was.by_throttle, becomes.by_throttle, strict=True))
    charts = []
    try:
        charts.append(("residual", _residual_chart(bench, change, axis)))
        errors = bench.check.error_db.get(axis)
        context["checked"] = max(0.05, *(abs(error) for error in errors.values())) if errors else None
        context["folded"] = folded_sentence(bench.check, axis)
        context["notes"] = bench.noise.notes
        context["has_map"] = bool(bench.rotor_hz.size)
    except NotEnoughData as error:
        context["reasons"].append(str(error))
    charts += [("delay", _delay_chart(bench, flown, chains)), ("size", _size_chart(bench, flown, chains))]
    context["charts"] = charts
    context["headline"] = _headline(context["sums"], is_tried=is_tried)
    return context


def map_of(bench: Choosing, chains: Controller, axis: str) -> dict[str, Any]:
    """What is left behind a chain over motor speed, as the map's script draws it. Raises NotEnoughData."""
    rows = bench.noise.rows
    if not rows.rotor_hz.shape[1]:
        raise NotEnoughData("motor speeds of this flight are unknown, so there is no map by motor speed")
    found = bench.residual(Change(chains=chains)).rows
    if axis not in found:
        raise NotEnoughData(f"no gyro of {axis} in this log")
    speeds = rows.rotor_hz.mean(axis=1)
    middles = (speeds[1:] + speeds[:-1]) / 2
    edges = [float(speeds[0]), *(float(value) for value in middles), float(speeds[-1])]
    top = int(np.searchsorted(rows.frequency_hz, _MAP_TOP_HZ)) + 1
    level = np.rint(10 * np.log10(np.maximum(found[axis][:, :top], 1e-12))).astype(int)
    return {
        "role": f"gyro.{axis}", "by": "speed", "bin_hz": float(rows.frequency_hz[1]), "lines": [], "drive": "motor speed",
        "unit": "turns/s", "edges": [round(edge, 2) for edge in edges], "db": level.tolist(),
        "seconds": [round(float(value), 2) for value in rows.seconds], "tracks": [round(float(value), 2) for value in speeds],
        "marked_hz": [], "marked_order": None,
    }  # fmt: skip


def trade_of(bench: Choosing, craft: Craft, caution: str, pins: frozenset[str]) -> dict[str, Any]:
    """Motor noise against lag in every school, the flown chain on it, and the chain that is advised."""
    task = bench.task(pins)
    target = target_for(caution, craft.propeller_diameter_in)
    flown_rms, flown_lag = motor_rms_of(task, task.flown), lag_of(task, task.flown)
    curves = [trade_curve(task, school) for school in SCHOOLS]
    designs = [best_chain(task, target, school) for school in SCHOOLS]
    stands = {one.school: bench.ruling(Change(chains=one.chains), target_rms=target) for one in designs}
    safe = [one for one in designs if not stands[one.school].forbidden and one.lag_deg <= task.most_lag_deg + 0.01]
    advised = min(safe, key=lambda one: (not one.meets_target, one.lag_deg if one.meets_target else one.motor_rms), default=None)
    percent = [float(np.log10(100 * value)) for curve in curves for value in curve.motor_rms]
    chart = Chart(
        title="Motor noise against lag",
        x=Axis(label="motor noise, share of full range", unit="%", low=min(percent), high=max(percent), is_log=True),
        y=Axis(label="phase lag at crossover", unit="°", low=0),
        lines=[
            Line(
                label=f"{curve.school} school" if curve.school != "as set" else "as set",
                x=[float(np.log10(100 * value)) for value in curve.motor_rms],
                y=curve.lag_deg.tolist(), look=_LOOKS[curve.school],
            )
            for curve in curves
        ],
        marks=[
            Mark(x=float(np.log10(100 * flown_rms)), y=flown_lag, label="flown"),
            *(
                [Mark(x=float(np.log10(100 * advised.motor_rms)), y=advised.lag_deg, label="best here", is_marked=True)]
                if advised
                else []
            ),
        ],
    )  # fmt: skip
    rows = [
        {
            "school": one.school, "says": SCHOOLS[one.school], "design": one, "query": urlencode(query_of(one.chains)),
            "is_advised": one is advised, "forbidden": "; ".join(stands[one.school].forbidden),
            "saves_deg": flown_lag - one.lag_deg,
            "saves_ms": 1000 * (flown_lag - one.lag_deg) / 360 / task.crossover_hz[task.axis],
        }
        for one in designs
    ]  # fmt: skip
    return {
        "trade": chart, "designs": rows, "advised": advised, "target": target, "flown_rms": flown_rms, "flown_lag": flown_lag,
        "crossover_hz": task.crossover_hz[task.axis], "lag_axis": task.axis,
    }  # fmt: skip


def _sums(bench: Choosing, flown: Controller, chains: Controller, change: Change, axis: str) -> list[dict[str, Any]]:
    """Rows of name, flown and tried number and unit; margins as estimates."""
    rate_hz, rotor_hz = chains.loop_rate_hz, bench.rotor_hz

    def delay_ms(one: Controller, *places: str) -> float:
        return 1000 * sum(stated_delay_s(getattr(one, place), rate_hz, rotor_hz) for place in places)

    rows = [
        {"name": "total gyro delay, with the chip", "flown": delay_ms(flown, "chip", "gyro"),
         "tried": delay_ms(chains, "chip", "gyro"), "unit": "ms"},
        {"name": "total D-term delay", "flown": delay_ms(flown, "chip", "gyro", "d_term"),
         "tried": delay_ms(chains, "chip", "gyro", "d_term"), "unit": "ms"},
    ]  # fmt: skip
    try:
        task = bench.task()
        rows.append({"name": f"lag at the crossover, {task.crossover_hz[task.axis]:.2g} Hz", "flown": lag_of(task, flown),
                     "tried": lag_of(task, chains), "unit": "°"})  # fmt: skip
        before, after = (bench.residual(one).bands_dps.get(axis, {}) for one in (Change(), change))
        for band, label in (("motion", "noise remaining, 20 to 100 Hz"), ("jitter", "noise remaining, 100 to 300 Hz")):
            if band in before:
                rows.append({"name": f"{label}, {axis}", "flown": before[band], "tried": after[band], "unit": "deg/s"})
    except NotEnoughData:
        pass
    motors = [bench.motors(one) for one in (Change(), change)]
    if motors[0] is not None and motors[1] is not None:
        rows.append({"name": "motor noise", "flown": 100 * motors[0].value, "tried": 100 * motors[1].value, "unit": "%"})
    try:
        becomes = bench.predicted(axis, change)
        rough = bench.flown_rough(axis)
        for label, field, unit in (("phase margin", "phase_margin_deg", "°"), ("sensitivity peak", "sensitivity_peak", "")):
            rows.append({
                "name": f"{label}, {axis}", "own": bench.flown_number(axis, field), "is_rough": rough[field], "suffix": unit,
                "becomes": getattr(becomes, field), "is_rough_tried": becomes.rough[field], "is_stable": becomes.is_stable,
            })  # fmt: skip
    except NotEnoughData:
        pass
    return rows


def _risk(bench: Choosing, change: Change) -> dict[str, str]:
    """How warm the motors may get, in words, against the flown chain."""
    told = bench.motors(change)
    if told is None:
        return {"word": "", "told": "Motor heat could not be estimated: motors or gains of this flight are unknown."}
    ratio = bench.motor_ratio(change)
    if ratio > _HOT:
        return {
            "word": "stop",
            "told": f"{ratio:.1f} times the motor noise: the motors may burn. Do not make this change in one step.",
        }
    if ratio > _WARM:
        return {
            "word": "caution",
            "told": f"{ratio:.1f} times the motor noise: hover low for 20 s, land, touch every motor with care.",
        }
    return {"word": "", "told": f"{ratio:.2f} times the motor noise: no warmer than now." if ratio < 1.05 else
            f"{ratio:.2f} times the motor noise: a little warmer. Touch the motors after the first hover."}  # fmt: skip


def _headline(sums: list[dict[str, Any]], *, is_tried: bool) -> str:
    lag = next((row for row in sums if row["name"].startswith("lag")), None)
    delay = sums[0]
    row = lag or delay
    unit = "°" if row["unit"] == "°" else f" {row['unit']}"
    what = "lag at the crossover" if lag else "delay of the gyro"
    if not is_tried:
        return f"The current filters cost {row['flown']:.2g}{unit} of {what}"
    change = row["tried"] - row["flown"]
    if abs(change) < 0.05:
        return f"The tried filters cost as much as the current ones: {row['tried']:.2g}{unit} of {what}"
    return f"The tried filters cost {abs(change):.2g}{unit} {'less' if change < 0 else 'more'} {what} than the current ones"


def _residual_chart(bench: Choosing, change: Change, axis: str) -> Chart:
    noise, hz = bench.noise, bench.noise.rows.frequency_hz
    shown = (hz >= 8) & (hz <= 640)
    x = [round(float(value), 3) for value in hz[shown]]
    raw = noise.rows.share @ noise.power[axis] if axis in noise.power else None
    lines = []
    if raw is not None:
        before, after = (bench.residual(one).density[axis] for one in (Change(), change))
        parts = [("before the filters", raw, "raw", "ink"), ("after the current filters", before, "before", "ink")]
        if change.chains != bench.known:
            parts.append(("after the tried filters", after, "after", axis))
        lines = [
            Line(label=label, x=x, y=decibels(values[shown].tolist()), look=look, colour=colour)
            for label, values, look, colour in parts
        ]
    return Chart(
        title=f"Remaining noise, {axis}", x=Axis(label="frequency", unit="Hz", low=0, high=max(x, default=640.0)),
        y=Axis(label="density", unit="dB re 1 (deg/s)²/Hz", from_x=20), lines=lines,
        bands=[Band(start=20, end=100, label="motion"), Band(start=100, end=300, label="jitter")],
    )  # fmt: skip


def _through(bench: Choosing, one: Controller) -> ComplexArray:
    return whole_response((*one.chip, *one.gyro), _CURVE_HZ, one.loop_rate_hz, bench.rotor_hz)


def _curves(bench: Choosing, flown: Controller, chains: Controller, made: Any) -> list[Line]:
    x = [round(float(value), 4) for value in np.log10(_CURVE_HZ)]
    parts = [("gyro, flown", _through(bench, flown), "before")]
    word = "flown"
    if chains != flown:
        word = "tried"
        parts.append(("gyro, tried", _through(bench, chains), "after"))
    d_only = whole_response(chains.d_term, _CURVE_HZ, chains.loop_rate_hz)
    parts.append((f"D term, {word}", parts[-1][1] * d_only, "third"))
    return [Line(label=label, x=x, y=_rounded(made(response)), look=look) for label, response, look in parts]


def _delay_chart(bench: Choosing, flown: Controller, chains: Controller) -> Chart:
    def delay_ms(response: ComplexArray) -> FloatArray:
        phase = np.unwrap(np.angle(response))
        slope = -np.gradient(phase, 2 * np.pi * _CURVE_HZ)
        return np.asarray(np.clip(1000 * slope, -2.0, 12.0))

    x = Axis(label="frequency", unit="Hz", low=float(np.log10(2)), high=float(np.log10(500)), is_log=True)
    lines = _curves(bench, flown, chains, delay_ms)
    return Chart(title="Group delay of the chain", x=x, y=Axis(label="group delay", unit="ms"), lines=lines)


def _size_chart(bench: Choosing, flown: Controller, chains: Controller) -> Chart:
    def size_db(response: ComplexArray) -> FloatArray:
        return np.asarray(np.maximum(20 * np.log10(np.maximum(np.abs(response), 1e-6)), -50.0))

    x = Axis(label="frequency", unit="Hz", low=float(np.log10(2)), high=float(np.log10(500)), is_log=True)
    lines = _curves(bench, flown, chains, size_db)
    return Chart(title="Gain of the filter chain", x=x, y=Axis(label="size", unit="dB", low=-50, high=6), lines=lines)


def _rounded(values: FloatArray) -> list[float | None]:
    return [round(float(value), 3) for value in values]
