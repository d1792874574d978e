"""Motors, vibration, spikes, balance sums and sensors as their pages show them."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.http import QueryDict

from nembrit.core.errors import CoreError, InputError, NotEnoughData
from nembrit.core.noise import balance
from nembrit.core.noise.allan import AllanCurve, Drift, RestNoise, allan_deviation, drift_with_temperature, rest_noise
from nembrit.core.noise.select import chosen_spectrum
from nembrit.core.noise.sensors import Attribution, BandRatio, attribute, band_ratios, plainest, raw_gyro_ringing
from nembrit.core.noise.vibration import BAD_COMMAND_PEAK_HZ, GOOD_COMMAND_PEAK_HZ, blade_pass_hz
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, FloatArray
from nembrit.web.bench import noise
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.common.fields import number, row_number
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs import traces
from nembrit.web.logs.desk import main_segment
from nembrit.web.logs.models import Segment
from nembrit.web.logs.storage import load_recording

_REST_DPS = 3.0  # a gyro whose second-long means stay within this is lying still


def page_of(flight: Flight, payload: dict[str, Any]) -> dict[str, Any]:
    """What the motors' page shows of a flight's evidence."""
    vibration = payload.get("vibration") or {}
    high_hz = 0.6 * BAD_COMMAND_PEAK_HZ
    peaks = [
        {"axis": axis, "hz": peak, "state": "good" if peak < GOOD_COMMAND_PEAK_HZ else "bad" if peak > high_hz else "between"}
        for axis, peak in (vibration.get("command_peak_hz") or {}).items()
        if peak is not None
    ]
    spikes = [(axis, found) for axis, found in payload.get("spikes", {}).items() if found]
    return {
        "payload": payload,
        "vibration": vibration,
        "peaks": peaks,
        "motors": motor_rows(payload),
        "spikes": spikes,
        "n_spikes": sum(found["count"] for _, found in spikes),
        "headline": headline(payload, spikes),
    }


def motor_rows(payload: dict[str, Any]) -> list[dict[str, Any]]:
    """One row a motor: its own shaking, roughness and output, each as a share of the largest."""
    motors = payload.get("motors") or {}
    outputs = motors.get("output_roughness_ratio") or {}
    turning, rough = motors.get("once_per_turn"), motors.get("rough")
    count = max(len(turning or []), len(rough or []), len(outputs))

    blamed = {(finding["code"], finding["motor"]) for finding in payload["findings"]}

    def cell(label: str, values: list[float | None] | None, n: int, factor: float, code: str) -> dict[str, Any]:
        value = values[n] if values is not None and n < len(values) else None
        if values is None or value is None:
            return {"label": label, "value": None}
        known = sorted(one for one in values if one is not None)
        share = 100 * value / max(known[-1], 1e-12)
        return {"label": label, "value": value, "shown": value * factor, "share": share, "is_out": (code, n + 1) in blamed}

    output = [outputs.get(str(n + 1)) for n in range(count)]
    columns = (("once per turn", turning, 1.0, "propeller"), ("rough", rough, 1.0, "bearing"), ("output", output, 100.0, ""))
    return [
        {"motor": n + 1, "cells": [cell(label, values, n, factor, code) for label, values, factor, code in columns]}
        for n in range(count)
    ]


def headline(payload: dict[str, Any], spikes: list[tuple[str, Any]]) -> str:
    """The page's title: what stands out."""
    for finding in payload["findings"]:
        if finding["code"] in ("propeller", "bearing", "electrical_spikes", "vibration"):
            return f"{finding['highlight']}"
    if any(found["count"] for _, found in spikes):
        return "Spikes in the raw gyro, no motor out of line"
    if payload.get("motors", {}).get("once_per_turn"):
        return "No motor stands out from its neighbours"
    return "Vibration in hover, motor by motor"


@dataclass(frozen=True, slots=True, kw_only=True)
class Sums:
    """The balance form and its answers."""

    mass_g: str
    speed_rpm: str
    grade: str
    diameter_in: str
    blades: str
    accel: str
    craft_mass_g: str
    found: balance.Balance | None = None
    blade_hz: float | None = None
    tip_m_s: float | None = None
    mach: float | None = None


def balance_of(given: QueryDict, craft: Craft) -> tuple[Sums, str]:
    """Balance sums from the form; what cannot be computed is told."""
    sums = {
        "mass_g": given.get("mass_g", "4"),
        "speed_rpm": given.get("speed_rpm", "18000"),
        "grade": given.get("grade", "6.3"),
        "diameter_in": given.get("diameter_in", f"{craft.propeller_diameter_in:g}"),
        "blades": given.get("blades", f"{craft.propeller_blades}"),
        "accel": given.get("accel", ""),
        "craft_mass_g": given.get("craft_mass_g", f"{craft.mass_g:g}"),
    }
    try:
        numbers = {name: _number(text, name) for name, text in sums.items() if text.strip()}
        residual = None
        if "accel" in numbers:
            force = balance.force_from_vibration_n(numbers["accel"], numbers["craft_mass_g"])
            residual = balance.unbalance_g_mm(force, numbers["speed_rpm"])
        found = balance.permissible(numbers["grade"], numbers["mass_g"], numbers["speed_rpm"], residual_g_mm=residual)
        if not 1 <= numbers["blades"] <= 8:
            raise InputError(f"a propeller has 1 to 8 blades, not {numbers['blades']:g}")
        tip, mach = balance.tip_speed(numbers["diameter_in"], numbers["speed_rpm"])
        blade_hz = blade_pass_hz(numbers["speed_rpm"], int(numbers["blades"]))
    except CoreError as error:
        return Sums(**sums), str(error)
    except KeyError as missing:
        return Sums(**sums), f"the field {missing.args[0].replace('_', ' ')} is empty"
    return Sums(**sums, found=found, blade_hz=blade_hz, tip_m_s=tip, mach=mach), ""


def _number(text: str, name: str) -> float:
    value = number(text, name.replace("_", " "))
    if value <= 0:
        raise InputError(f"{name.replace('_', ' ')} must be above 0, got {text[:20]}")
    return value


@dataclass(frozen=True, slots=True, kw_only=True)
class SensorRow:
    """One axis of two gyros."""

    axis: str
    ratios: tuple[BandRatio, ...]
    attributions: tuple[Attribution, ...] = ()


def sensors_of(flight: Flight, segment: Segment, given: QueryDict) -> dict[str, Any]:
    """Second board against the first, a swap, ringing of the chip's low-pass, and a recording at rest."""
    bench = noise.bench_of(segment)
    recording = bench.recording
    rest = rest_rows(recording)
    swapped, swap_reason = _swapped(flight, given)
    companion, companion_name = _companion(flight, segment)
    rows, refused = [], []
    for axis in AXES:
        try:
            now = _ratios(recording, axis) or _companion_ratios(recording, companion, axis)
            if now is None:
                continue
            after = _ratios(swapped, axis) if swapped is not None else None
            rows.append(
                SensorRow(
                    axis=axis, ratios=now, attributions=tuple(attribute(a, b) for a, b in zip(now, after or (), strict=False))
                )
            )
        except NotEnoughData as error:
            refused.append(f"{axis}: {error}")
    return {
        "rows": rows,
        "plainest": plainest({row.axis: row.ratios for row in rows}),
        "refused": refused,
        "swap_reason": swap_reason,
        "companion": companion_name if companion is not None and not recording.has("b/gyro_raw.roll") else "",
        "others": flight.craft.flights.active().exclude(pk=flight.pk).order_by("-number")[:40],
        "swap_id": given.get("swap", ""),
        "ringing": list(raw_gyro_ringing(bench.frames, bench.track).items()) if bench.frames is not None else [],
        "rest": rest,
        "settle_s": max((row.drift.settles_after_s or 0.0 for row in rest if row.drift), default=0.0),
    }


def _swapped(flight: Flight, given: QueryDict) -> tuple[Recording | None, str]:
    wanted = row_number(given.get("swap"))
    if wanted is None:
        return None, ""
    other = flight.craft.flights.active().filter(pk=wanted).first()
    segment = main_segment(other) if other else None
    if segment is None:
        return None, "that flight has no log"
    recording = noise.bench_of(segment).recording
    if not recording.has("b/gyro_raw.roll"):
        return None, "that flight has no second gyro"
    return recording, ""


def _ratios(recording: Recording, axis: str) -> tuple[BandRatio, ...] | None:
    pair = (f"gyro_raw.{axis}", f"b/gyro_raw.{axis}")
    if not recording.has(*pair):
        return None
    use = recording.is_whole(pair[0]) & recording.is_whole(pair[1])
    first, second = (chosen_spectrum(recording, role, use) for role in pair)
    return band_ratios(first, second)


def _companion(flight: Flight, segment: Segment) -> tuple[Recording | None, str]:
    """Another board's log of the same flight, cut to the same stretch by the clocks that were lined up."""
    for other in flight.segments.exclude(pk=segment.pk).select_related("log"):
        if not other.log.streams.filter(channels__role__startswith="gyro").exists():
            continue
        clocks = traces.clocks_of(flight)
        edges_s = clocks[segment.log_id].page(np.array([segment.start_s, segment.end_s]))
        start_s, end_s = (clocks[other.log_id].own(float(edge)) for edge in edges_s)
        found = load_recording(other.log, noise.gyro_roles(other.log))
        return found.span(start_s, end_s), other.log.file_name
    return None, ""


def _companion_ratios(recording: Recording, companion: Recording | None, axis: str) -> tuple[BandRatio, ...] | None:
    if companion is None:
        return None
    for family in ("gyro_raw", "gyro"):
        role = f"{family}.{axis}"
        if recording.has(role) and companion.has(role):
            return band_ratios(
                chosen_spectrum(recording, role, recording.is_whole(role)),
                chosen_spectrum(companion, role, companion.is_whole(role)),
            )
    return None


def is_at_rest(recording: Recording) -> bool:
    """True where every gyro axis lies still from start to end."""
    roles = [role for axis in AXES if recording.has(role := f"gyro_raw.{axis}") or recording.has(role := f"gyro.{axis}")]
    n = round(recording.sample_rate_hz)
    for role in roles:
        values = np.nan_to_num(recording.channels[role])
        means = values[: values.size // n * n].reshape(-1, n).mean(axis=1)
        if means.size < 5 or np.ptp(means) > _REST_DPS:
            return False
    return bool(roles)


@dataclass(frozen=True, slots=True, kw_only=True)
class RestRow:
    """One axis at rest."""

    axis: str
    noise: RestNoise
    curve: AllanCurve
    drift: Drift | None
    drift_reason: str


def rest_rows(recording: Recording) -> list[RestRow]:
    """Allan deviation and drift of a recording at rest; empty for a flight."""
    if not is_at_rest(recording):
        return []
    found = []
    for axis in AXES:
        role = next((role for family in ("gyro_raw", "gyro") if recording.has(role := f"{family}.{axis}")), "")
        if not role:
            continue
        values = recording.channels[role]
        values = values[np.isfinite(values)]
        drift, reason = None, "the gyro’s temperature is not recorded"
        if recording.has("gyro_temperature"):
            try:
                drift = drift_with_temperature(
                    values, recording.channels["gyro_temperature"][: values.size], sample_rate_hz=recording.sample_rate_hz
                )
            except NotEnoughData as error:
                reason = str(error)
        rate = recording.sample_rate_hz
        found.append(
            RestRow(
                axis=axis,
                noise=rest_noise(values, sample_rate_hz=rate),
                curve=allan_deviation(values, sample_rate_hz=rate),
                drift=drift,
                drift_reason=reason,
            )
        )
    return found


def allan_chart(rows: list[RestRow]) -> Chart | None:
    """Allan deviation of all axes, both scales logarithmic."""
    if not rows:
        return None

    def logs(values: FloatArray) -> list[float | None]:
        return [round(math.log10(max(value, 1e-12)), 4) for value in values.tolist()]

    lines = [
        Line(
            label=row.axis,
            x=logs(row.curve.tau_s),
            y=logs(row.curve.deviation),
            low=logs(row.curve.low),
            high=logs(row.curve.high),
            colour=row.axis,
        )
        for row in rows
    ]
    return Chart(
        title="Allan deviation",
        x=Axis(label="averaging time", unit="s", is_log=True),
        y=Axis(label="deviation", unit="deg/s", is_log=True),
        lines=lines,
    )
