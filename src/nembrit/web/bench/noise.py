"""The noise bench's pictures: stored maps as data, and spectra of stretches chosen by the tuner."""

import math
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from django.http import QueryDict

from nembrit.core.analysis.maps import NOTHING_DB, Maps, RoleMaps
from nembrit.core.causes.finding import Finding
from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.bands import BandLevel, band_levels
from nembrit.core.noise.lines import Line
from nembrit.core.noise.select import amplitude, chosen_samples, chosen_spectrum, cumulative_rms
from nembrit.core.spectra.density import Spectrum
from nembrit.core.types import AXES, FloatArray
from nembrit.web.bench.charts import BANDS, own_motion_hz
from nembrit.web.common.charts import Axis, Chart
from nembrit.web.common.charts import Line as ChartLine
from nembrit.web.common.database import generation
from nembrit.web.common.fields import number, row_numbers
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Segment
from nembrit.web.logs.storage import load_recording
from nembrit.web.logs.windows import current_spans, main_segment, main_segments

_FEW_AT_ONCE = threading.BoundedSemaphore(2)  # requests that hold samples in memory
FAMILIES = {"gyro_raw": "raw", "gyro": "filtered", "b/gyro_raw": "second board"}
UNITS = {"density": "density", "amplitude": "amplitude", "cumulative": "summed-up RMS"}


def map_data(role_maps: RoleMaps, role: str, by: str) -> dict[str, Any]:
    """A map as whole decibels, with its axes, how long each row was flown, and the lines named in it.

    Raises InputError where this map could not be made.
    """
    shown = role_maps.over.get(by)
    if shown is None:
        raise InputError(role_maps.reasons.get(by, "this map is not available"))
    unit, factor = {"time": ("s", 1.0), "speed": ("turns/s", 1.0)}.get(by, ("%", 100.0))
    return {
        "role": role,
        "by": by,
        "bin_hz": role_maps.bin_hz,
        "lines": [line_row(line) for line in role_maps.lines],
        "drive": shown.drive,
        "unit": unit,
        "edges": [round(float(edge) * factor, 3 if by == "time" else 2) for edge in shown.edges],
        "db": [[None if value == NOTHING_DB else value for value in row] for row in shown.db.tolist()],
        "seconds": [round(float(value), 2) for value in shown.seconds],
        "tracks": [round(float(value), 2) if math.isfinite(value) else None for value in shown.track_hz],
    }


def _stands(line: Line) -> str:
    """How far a line stands out, in words: how often such lines are right was never measured, so no per cent."""
    return "stands out clearly" if line.confidence >= 0.9 else "stands out" if line.confidence >= 0.7 else "faint, may be chance"


def line_row(line: Line) -> dict[str, Any]:
    """One line for the page: what it is, where, how strong, how sure."""
    names = {
        "resonance": "fixed: resonance",
        "unknown": "unknown whether fixed or moving with the motors",
        "blade": "moves with the motors: blades",
    }
    order = {1: "once per turn", 2: "twice per turn"}.get(line.order or 0, f"{line.order} times per turn")
    return {
        "kind": line.kind,
        "name": names.get(line.kind, f"with the motors: {order}"),
        "frequency_hz": round(line.frequency_hz, 1),
        "error_hz": None if line.error_hz is None else max(0.1, round(line.error_hz, 1)),
        "low_hz": round(line.low_hz, 1),
        "high_hz": round(line.high_hz, 1),
        "level_db": round(line.level_db, 1),
        "stands": _stands(line),
        "order": line.order,
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class Chosen:
    """What the spectrum form asks for."""

    axis: str = "roll"
    families: tuple[str, ...] = ("gyro_raw", "gyro")
    show: str = "density"
    linear: bool = False
    log_axis: bool = False
    kind: str = ""
    throttle: tuple[float, float] = (0.0, 1.0)
    others: tuple[int, ...] = ()

    @classmethod
    def of(cls, given: QueryDict) -> "Chosen":
        """From the address; raises InputError for what cannot be."""
        axis, show = given.get("axis", "roll"), given.get("show", "density")
        families = tuple(family for family in given.getlist("family") if family in FAMILIES)
        if axis not in AXES or show not in UNITS:
            raise InputError("choose an axis and what to show from the lists")
        low, high = (number(given.get(key, start), "a throttle range") for key, start in (("low", "0"), ("high", "100")))
        others = tuple(row_numbers(given.getlist("with")))
        if not 0 <= low < high <= 100:
            raise InputError(f"a throttle range goes from a lower to a higher number within 0 to 100 %, not {low:g} to {high:g}")
        return cls(
            axis=axis,
            families=families or ("gyro_raw", "gyro"),
            show=show,
            linear=given.get("scale") == "linear",
            log_axis=given.get("x") == "log",
            kind=given.get("kind", ""),
            throttle=(low / 100, high / 100),
            others=others[:4],
        )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChosenSpectra:
    """The picture, its band table, and what could not be shown."""

    chart: Chart
    rows: tuple[tuple[str, float, tuple[BandLevel, ...]], ...]  # label, seconds used, levels
    refused: tuple[str, ...]


def chosen_spectra(flight: Flight, chosen: Chosen) -> ChosenSpectra:
    """Spectra of one axis over the chosen stretches, of this flight and of others laid over it.

    Only the channels that are asked for are loaded, by a few requests at once whatever the number of open pages;
    the last answers stay in memory.
    """
    flights = [flight, *Flight.objects.active().filter(number__in=chosen.others, craft=flight.craft).exclude(pk=flight.pk)]
    segments = main_segments(flights)
    rests_on = tuple(_rests_on(segments[one.pk]) if one.pk in segments else () for one in flights)
    with _FEW_AT_ONCE:
        return _spectra(tuple(one.pk for one in flights), chosen, generation(), rests_on)


@while_unchanged
def _rests_on(segment_id: int) -> tuple[object, ...]:
    """What changes when a log is read anew, or its window or manoeuvres are changed."""
    segment = Segment.objects.get(pk=segment_id)
    spans = tuple((span.kind, span.axis, span.start_s, span.end_s) for span in current_spans(segment.log))
    return (segment.pk, segment.start_s, segment.end_s, *segment.log.streams.values_list("pk", flat=True), spans)


@lru_cache(maxsize=64)
def _spectra(flight_ids: tuple[int, ...], chosen: Chosen, of_generation: int, rests_on: tuple[object, ...]) -> ChosenSpectra:
    known = Flight.objects.in_bulk(flight_ids)
    flights = [known[pk] for pk in flight_ids]
    lines, rows, refused = [], [], []
    for place, shown in enumerate(flights):
        segment = main_segment(shown)
        if segment is None:
            refused.append(f"flight {shown.number} has no log")
            continue
        roles = [f"{family}.{chosen.axis}" for family in chosen.families]
        recorded = set(segment.log.streams.values_list("channels__role", flat=True))
        present = [role for role in roles if role in recorded]
        if not present:
            continue
        recording = load_recording(segment.log, [*present, "throttle"]).span(segment.start_s, segment.end_s)
        spans: list[Span] = current_spans(segment.log)
        for role in present:
            family = role.rsplit(".", 1)[0]
            label = f"{shown.number} {FAMILIES[family]}" if len(flights) > 1 else FAMILIES[family]
            try:
                use = chosen_samples(recording, kind=chosen.kind, spans=spans, throttle=chosen.throttle)
                spectrum = chosen_spectrum(recording, role, use)
            except NotEnoughData as error:
                refused.append(f"flight {shown.number}, {FAMILIES[family]}: {error}")
                continue
            lines.append(_line(spectrum, label, chosen, look=_look(place, family)))
            rows.append((label, float(use.sum()) / recording.sample_rate_hz, band_levels(spectrum)))
    return ChosenSpectra(chart=_chart(chosen, lines), rows=tuple(rows), refused=tuple(dict.fromkeys(refused)))


def _look(place: int, family: str) -> str:
    if place:
        return "before"
    return "filtered" if family == "gyro" else "raw" if family == "gyro_raw" else "setpoint"


def _line(spectrum: Spectrum, label: str, chosen: Chosen, *, look: str) -> ChartLine:
    low, high = spectrum.interval_ratio()
    factor = {"density": 10.0, "amplitude": 20.0, "cumulative": 20.0}[chosen.show]
    if chosen.show == "density":
        values, edges = spectrum.psd_dps2_per_hz, (low, high)
    elif chosen.show == "amplitude":
        values, edges = amplitude(spectrum), (math.sqrt(low), math.sqrt(high))
    else:
        values, edges = cumulative_rms(spectrum, from_hz=20.0), None

    def shown(part: FloatArray) -> list[float | None]:
        with np.errstate(divide="ignore"):
            scaled = part if chosen.linear else factor * np.log10(part)
        return [float(f"{value:.5g}") if math.isfinite(value) else None for value in scaled.tolist()]

    frequency = spectrum.frequency_hz
    x = np.log10(np.maximum(frequency, 1.0)) if chosen.log_axis else frequency
    return ChartLine(
        label=label,
        x=[float(f"{value:.6g}") for value in x.tolist()],
        y=shown(values),
        look=look,
        colour=chosen.axis,
        low=shown(values * edges[0]) if edges and look in ("filtered", "before") else None,
        high=shown(values * edges[1]) if edges and look in ("filtered", "before") else None,
    )


def _chart(chosen: Chosen, lines: list[ChartLine]) -> Chart:
    unit = {"density": "(deg/s)²/Hz", "amplitude": "deg/s", "cumulative": "deg/s"}[chosen.show]
    top = max((line.x[-1] or 0.0 for line in lines), default=1.0)
    begin = (math.log10(own_motion_hz(1000) or 15.0) if chosen.log_axis else own_motion_hz(top)) if lines else None
    return Chart(
        title=f"Spectrum, {chosen.axis}, {UNITS[chosen.show]}",
        x=Axis(label="frequency", unit="Hz", low=0.0, high=top, is_log=chosen.log_axis),
        y=Axis(
            label=UNITS[chosen.show],
            unit=unit if chosen.linear else f"dB re 1 {unit}",
            low=0.0 if chosen.linear else None,
            from_x=begin,
        ),
        lines=lines,
        bands=[] if chosen.log_axis else BANDS,
    )


def speeds_in_words(maps: Maps) -> str:
    """How the motors' speeds are known."""
    if maps.has_recorded_speeds is None:
        return "Motor speed is not recorded and could not be estimated. Record it, or fly the throttle ramp."
    if maps.has_recorded_speeds:
        return "Motor speeds are recorded in this log."
    return (
        "Motor speeds are estimated from the lines that move with the commands: "
        f"{maps.full_hz or 0:.0f} revolutions per second at full command. Record them to be sure."
    )


def marked(findings: Sequence[Finding]) -> dict[str, Any]:
    """What findings rest on, to be marked in the map: fixed frequencies, and an order of the motors."""
    fixed = [finding.evidence["peak_hz"] for finding in findings if "peak_hz" in finding.evidence]
    orders = [finding.marks_order for finding in findings if finding.marks_order is not None]
    return {"marked_hz": fixed, "marked_order": orders[0] if orders else None}
