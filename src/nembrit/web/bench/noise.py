"""The noise bench's pictures, computed from a flight's kept samples when asked for."""

import itertools
import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from django.http import QueryDict

from nembrit.core.errors import InputError, NotEnoughData
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.frames import Frames, frames_of
from nembrit.core.noise.lines import Line, noise_lines
from nembrit.core.noise.maps import noise_map, spectrogram
from nembrit.core.noise.rotors import RotorTrack, rotor_track
from nembrit.core.noise.select import amplitude, chosen_samples, chosen_spectrum, cumulative_rms
from nembrit.core.noise.spectra import BandLevel, Spectrum, band_levels
from nembrit.core.records.log import Recording
from nembrit.core.report.evidence import ROLES
from nembrit.core.types import AXES, FloatArray
from nembrit.web.bench.charts import BANDS, own_motion_hz
from nembrit.web.common.charts import Axis, Chart
from nembrit.web.common.charts import Line as ChartLine
from nembrit.web.common.database import generation
from nembrit.web.common.fields import number, row_numbers
from nembrit.web.flights.models import Flight
from nembrit.web.logs.desk import current_spans, main_segment
from nembrit.web.logs.models import Log, Segment
from nembrit.web.logs.storage import load_recording

MAP_TOP_HZ = 640.0
FAMILIES = {"gyro_raw": "raw", "gyro": "filtered", "b/gyro_raw": "second board"}
UNITS = {"density": "density", "amplitude": "amplitude", "cumulative": "summed-up RMS"}
_LOWEST_DB = -120.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Bench:
    """What the pictures of one flight are computed from."""

    recording: Recording
    frames: Frames | None
    track: RotorTrack | None
    reason: str  # why there are no frames


def bench_of(segment: Segment) -> Bench:
    """Samples, frames and motor speeds of a segment; the last few are kept in memory."""
    log = segment.log
    stream_ids = tuple(log.streams.order_by("pk").values_list("pk", flat=True))
    return _bench(log.pk, (generation(), *stream_ids), segment.start_s, segment.end_s)


@lru_cache(maxsize=4)
def _bench(log_id: int, version: tuple[object, ...], start_s: float, end_s: float) -> Bench:
    """`version` is the workshop's generation and the streams' keys, which change with a restore and when a log is read anew."""
    log = Log.objects.get(pk=log_id)
    roles = [
        role
        for role in log.streams.values_list("channels__role", flat=True)
        if role and role.removeprefix("b/").startswith((*ROLES, "gyro_temperature"))
    ]
    recording = load_recording(log, roles).span(start_s, end_s)
    try:
        frames = frames_of(recording)
    except NotEnoughData as error:
        return Bench(recording=recording, frames=None, track=None, reason=str(error))
    return Bench(recording=recording, frames=frames, track=rotor_track(frames), reason="")


def gyro_roles(log: Log) -> list[str]:
    """Gyro channels of a log."""
    return [role for role in log.streams.values_list("channels__role", flat=True) if role and role.startswith("gyro")]


def roles_of(bench: Bench) -> list[str]:
    """Gyro channels that can be shown."""
    return [role for family in FAMILIES for axis in AXES if bench.recording.has(role := f"{family}.{axis}")]


def _frames_with(bench: Bench, role: str) -> Frames:
    if bench.frames is None:
        raise NotEnoughData(bench.reason)
    if role in bench.frames.power:
        return bench.frames
    return frames_of(bench.recording, (role.rsplit(".", 1)[0],))


def map_data(bench: Bench, role: str, by: str, *, blades: int | None) -> dict[str, Any]:
    """A map as whole decibels, with its axes, how long each row was flown, and the lines named in it."""
    if role not in roles_of(bench):
        raise InputError(f"“{role[:40]}” is not recorded in this flight")
    frames = _frames_with(bench, role)
    top = int(np.searchsorted(frames.frequency_hz, MAP_TOP_HZ)) + 1
    lines = noise_lines(frames, role, bench.track, blades=blades)
    data: dict[str, Any] = {"role": role, "by": by, "bin_hz": frames.bin_hz, "lines": [line_row(line) for line in lines]}
    if by == "time":
        shown = spectrogram(frames, role)
        edges = np.concatenate((shown.t_s, [shown.t_s[-1] + (shown.t_s[-1] - shown.t_s[0]) / max(1, shown.t_s.size - 1)]))
        return data | {
            "drive": "time",
            "unit": "s",
            "edges": _list(edges, 3),
            "db": _decibels(shown.density[:, :top]),
            "seconds": [],
        }
    found = noise_map(frames, role, track=bench.track, by_speed=by == "speed")
    unit, factor = ("turns/s", 1.0) if by == "speed" else ("%", 100.0)
    used = np.flatnonzero(found.seconds > 0)
    first, last = int(used[0]), int(used[-1]) + 1
    return data | {
        "drive": found.drive,
        "unit": unit,
        "edges": _list(found.edges[first : last + 1] * factor, 2),
        "db": _decibels(found.density[first:last, :top]),
        "seconds": _list(found.seconds[first:last], 2),
        "tracks": _tracks(bench, found.edges[first : last + 1], by),
    }


def _tracks(bench: Bench, edges: FloatArray, by: str) -> list[float | None]:
    """Median once-per-turn frequency in every row, where motor speeds are known."""
    laid_over = bench.frames.drive() if bench.frames is not None else None
    if bench.track is None or laid_over is None:
        return []
    drive = bench.track.mean_hz if by == "speed" else laid_over[0]
    found: list[float | None] = []
    for low, high in itertools.pairwise(edges.tolist()):
        inside = (drive >= low) & (drive < high)
        found.append(round(float(np.median(bench.track.mean_hz[inside])), 2) if inside.sum() >= 3 else None)
    return found


def _list(values: FloatArray, places: int) -> list[float]:
    return [round(float(value), places) for value in values]


def _decibels(density: FloatArray) -> list[list[int | None]]:
    with np.errstate(divide="ignore", invalid="ignore"):
        level = 10 * np.log10(density)
    return [[None if not math.isfinite(value) else round(max(value, _LOWEST_DB)) for value in row] for row in level.tolist()]


def line_row(line: Line) -> dict[str, Any]:
    """One line for the page: what it is, where, how strong, how sure."""
    names = {
        "resonance": "stays put: resonance",
        "unknown": "not told: stays put or moves",
        "blade": "with the motors: blades",
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
        "confidence": round(line.confidence, 2),
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
    """Spectra of one axis over the chosen stretches, of this flight and of others laid over it."""
    flights = [flight, *Flight.objects.active().filter(pk__in=chosen.others, craft=flight.craft).exclude(pk=flight.pk)]
    lines, rows, refused = [], [], []
    for place, shown in enumerate(flights):
        segment = main_segment(shown)
        if segment is None:
            refused.append(f"flight {shown.number} has no log")
            continue
        bench = bench_of(segment)
        spans: list[Span] = current_spans(segment.log)
        for family in chosen.families:
            role, label = (
                f"{family}.{chosen.axis}",
                f"{shown.number} {FAMILIES[family]}" if len(flights) > 1 else FAMILIES[family],
            )
            if not bench.recording.has(role):
                continue
            try:
                use = chosen_samples(bench.recording, kind=chosen.kind, spans=spans, throttle=chosen.throttle)
                spectrum = chosen_spectrum(bench.recording, role, use)
            except NotEnoughData as error:
                refused.append(f"flight {shown.number}, {FAMILIES[family]}: {error}")
                continue
            lines.append(_line(spectrum, label, chosen, look=_look(place, family)))
            rows.append((label, float(use.sum()) / bench.recording.sample_rate_hz, band_levels(spectrum)))
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
