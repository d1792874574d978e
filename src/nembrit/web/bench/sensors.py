"""Two gyros against each other, across a swap, and a gyro at rest, as their page shows them."""

import math
import threading
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.http import QueryDict

from nembrit.core.analysis.run import FlightResults
from nembrit.core.analysis.sensors import AxisAtRest
from nembrit.core.errors import NotEnoughData
from nembrit.core.noise.select import chosen_spectrum
from nembrit.core.noise.sensors import Attribution, BandRatio, attribute, band_ratios, plainest
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, FloatArray
from nembrit.web.bench.results import evidence_of, stored_results
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.common.fields import row_number
from nembrit.web.flights.models import Flight
from nembrit.web.logs import traces
from nembrit.web.logs.models import Log, Segment
from nembrit.web.logs.storage import load_recording
from nembrit.web.logs.windows import main_segment

_ONE_AT_A_TIME = threading.Lock()  # two logs of a flight in memory are enough


@dataclass(frozen=True, slots=True, kw_only=True)
class SensorRow:
    """One axis of two gyros."""

    axis: str
    ratios: tuple[BandRatio, ...]
    attributions: tuple[Attribution, ...] = ()


def sensors_of(flight: Flight, segment: Segment, results: FlightResults, given: QueryDict) -> dict[str, Any]:
    """Second board against the first, a swap, ringing of the chip's low-pass, and a recording at rest."""
    own = results.sensors
    if own is None:
        return {}
    swapped, swap_reason = _swapped(flight, given)
    ratios, refused = dict(own.ratios), [f"{axis}: {reason}" for axis, reason in own.refused.items()]
    companion = ""
    if not own.has_second_board:
        ratios, more, companion = _companion_ratios(flight, segment)
        refused += more
    rows = [
        SensorRow(
            axis=axis,
            ratios=now,
            attributions=tuple(attribute(a, b) for a, b in zip(now, swapped.get(axis, ()), strict=False)),
        )
        for axis, now in ratios.items()
    ]
    return {
        "rows": rows,
        "plainest": plainest(ratios),
        "refused": refused,
        "swap_reason": swap_reason,
        "companion": companion,
        "others": flight.craft.flights.active().exclude(pk=flight.pk).order_by("-number")[:40],
        "swap_id": given.get("swap", ""),
        "ringing": list(own.ringing.items()),
        "rest": list(own.rest.items()),
        "settle_s": max((one.drift.settles_after_s or 0.0 for one in own.rest.values() if one.drift), default=0.0),
    }


def nothing_for(flight: Flight) -> str:
    """Why the page has nothing for this flight; empty where it has, or where the flight is not analysed yet."""
    own = stored_results([flight], "sensors").get(flight.pk)
    if own is None or own.sensors is None:
        return ""
    if own.sensors.has_second_board or own.sensors.rest or own.sensors.ringing or flight.segments.count() > 1:
        return ""
    return "this log has no second gyro, and the craft never lay still"


def _swapped(flight: Flight, given: QueryDict) -> tuple[dict[str, tuple[BandRatio, ...]], str]:
    wanted = row_number(given.get("swap"))
    if wanted is None:
        return {}, ""
    other = flight.craft.flights.active().filter(number=wanted).first()
    if other is None or main_segment(other) is None:
        return {}, "that flight has no log"
    results = evidence_of(other, "sensors").results
    if results is None or results.sensors is None:
        return {}, "that flight is being analysed: try again in a moment"
    return results.sensors.ratios, "" if results.sensors.has_second_board else "that flight has no second gyro"


def _companion_ratios(flight: Flight, segment: Segment) -> tuple[dict[str, tuple[BandRatio, ...]], list[str], str]:
    """Another board's log of the same flight, cut to the same stretch by the clocks that were lined up."""
    other = next((one for one in flight.segments.exclude(pk=segment.pk).select_related("log") if _gyro_roles(one.log)), None)
    if other is None:
        return {}, [], ""
    clocks = traces.clocks_of(flight)
    edges_s = clocks[segment.log_id].page(np.array([segment.start_s, segment.end_s]))
    start_s, end_s = (clocks[other.log_id].own(float(edge)) for edge in edges_s)
    found: dict[str, tuple[BandRatio, ...]] = {}
    refused = []
    with _ONE_AT_A_TIME:
        first = load_recording(segment.log, _gyro_roles(segment.log)).span(segment.start_s, segment.end_s)
        second = load_recording(other.log, _gyro_roles(other.log)).span(start_s, end_s)
        for axis in AXES:
            role = next((role for family in ("gyro_raw", "gyro") if _both(first, second, role := f"{family}.{axis}")), "")
            if not role:
                continue
            try:
                found[axis] = band_ratios(*(chosen_spectrum(one, role, one.is_whole(role)) for one in (first, second)))
            except NotEnoughData as error:
                refused.append(f"{axis}: {error}")
    return found, refused, other.log.file_name


def _both(first: Recording, second: Recording, role: str) -> bool:
    return first.has(role) and second.has(role)


def _gyro_roles(log: Log) -> list[str]:
    return [role for role in log.streams.values_list("channels__role", flat=True) if role and role.startswith("gyro")]


def allan_chart(rest: dict[str, AxisAtRest]) -> Chart | None:
    """Allan deviation of all axes, both scales logarithmic."""
    if not rest:
        return None

    def logs(values: FloatArray) -> list[float | None]:
        return [round(math.log10(max(value, 1e-12)), 4) for value in values.tolist()]

    lines = [
        Line(
            label=axis,
            x=logs(one.curve.tau_s),
            y=logs(one.curve.deviation),
            low=logs(one.curve.low),
            high=logs(one.curve.high),
            colour=axis,
        )
        for axis, one in rest.items()
    ]
    return Chart(
        title="Allan deviation",
        x=Axis(label="averaging time", unit="s", is_log=True),
        y=Axis(label="deviation", unit="deg/s", is_log=True),
        lines=lines,
    )
