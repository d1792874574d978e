"""Motors, vibration and spikes as their page shows them."""

from collections.abc import Sequence
from math import isfinite
from statistics import median
from typing import Any

from nembrit.core.analysis.run import FlightResults
from nembrit.core.causes.finding import Finding
from nembrit.core.noise.motors import apart
from nembrit.core.noise.spikes import Spikes


def page_of(results: FlightResults) -> dict[str, Any]:
    """What the motors' page shows of a flight's results."""
    motors, judgement = results.motors, results.judgement
    if motors is None or judgement is None:
        return {}
    vibration = motors.vibration
    peaks = [{"axis": axis, "hz": peak_hz} for axis, peak_hz in (vibration.command_peak_hz if vibration else {}).items()]
    spikes = list(motors.spikes.items())
    return {
        "vibration": vibration,
        "peaks": peaks,
        "motors": motor_rows(results),
        "speeds_recorded": motors.has_recorded_speeds,
        "has_turning": motors.turning is not None,
        "spikes": spikes,
        "n_spikes": sum(len(found.times_s) for _, found in spikes),
        "findings": judgement.findings,
        "untested_propeller": judgement.untested.get("propeller", ""),
        "headline": headline(results, spikes),
        "unproven": unproven(results),
    }


def motor_rows(results: FlightResults) -> list[dict[str, Any]]:
    """One row a motor: its own shaking, roughness and output, each as a share of the largest."""
    motors = results.motors
    if motors is None:
        return []
    outputs = motors.roughness.by_motor if motors.roughness else {}
    turning = motors.turning.values if motors.turning else None
    rough = motors.rough.values if motors.rough else None
    count = max(len(turning or ()), len(rough or ()), len(outputs))
    blamed = {(finding.code, finding.motor) for finding in (results.judgement.findings if results.judgement else ())}

    def cell(label: str, values: Sequence[float | None] | None, n: int, factor: float, code: str) -> dict[str, Any]:
        value = values[n] if values is not None and n < len(values) else None
        if values is None or value is None or value != value:  # not a number: not told apart from its neighbours
            return {"label": label, "value": None}
        is_out, stands = (code, n + 1) in blamed, apart(values)
        found = {"label": label, "value": value, "shown": value * factor, "is_out": is_out, "stands": n + 1 in stands}
        if stands:  # a bar only where its length means something
            found["share"] = 100 * value / max(one for one in values if one is not None and one == one)
        return found

    output = [outputs.get(n + 1) for n in range(count)]
    columns: tuple[tuple[str, Sequence[float | None] | None, float, str], ...] = (
        ("once per turn", turning, 1.0, "propeller"), ("rough", rough, 1.0, "bearing"), ("output", output, 100.0, ""),
    )  # fmt: skip
    return [
        {"motor": n + 1, "cells": [cell(label, values, n, factor, code) for label, values, factor, code in columns]}
        for n in range(count)
    ]


def unproven(results: FlightResults) -> str:
    """Motors that read far more than the rest without a finding about them, in words."""
    motors = results.motors
    blamed = {finding.motor for finding in (results.judgement.findings if results.judgement else ())}
    columns = ((motors.turning, "once-per-turn shaking"), (motors.rough, "broadband noise")) if motors else ()
    for shares, what in columns:
        found = apart(shares.values) if shares else ()
        if shares is None or not found or blamed & set(found):
            continue
        others = [value for n, value in enumerate(shares.values) if n + 1 not in found and isfinite(value)]
        ratio = max(shares.values[n - 1] for n in found) / max(median(others), 1e-12)
        name = f"motor {found[0]} shows" if len(found) == 1 else f"motors {' and '.join(map(str, found))} show"
        return f"{name} {ratio:.0f} times the {what} of the others"
    return ""


def headline(results: FlightResults, spikes: Sequence[tuple[str, Spikes]]) -> str:
    """The page's title: what stands out."""
    findings: tuple[Finding, ...] = results.judgement.findings if results.judgement else ()
    for finding in findings:
        if finding.is_about_motors:
            return finding.highlight
    if any(found.times_s for _, found in spikes):
        return "Spikes in the raw gyro, no motor out of line"
    if in_words := unproven(results):
        return f"No motor named yet: {in_words}"
    if results.motors and results.motors.turning:
        return "No motor stands out from its neighbours"
    return "Vibration in hover, by motor"
