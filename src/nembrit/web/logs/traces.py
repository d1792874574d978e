"""Traces for the browser: lowest and highest value per picture column, as binary; spectra, measures, tracks."""

import json
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from nembrit.core.errors import CoreError, InputError
from nembrit.core.records.measure import measure
from nembrit.core.records.roles import spoken
from nembrit.core.records.timebase import uniform
from nembrit.core.records.track import track_of
from nembrit.core.spectra.density import welch_spectrum
from nembrit.core.types import FloatArray
from nembrit.web.common.charts import Axis, Chart, Line, decibels
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Channel, Log, Stream
from nembrit.web.logs.packing import PYRAMID_SAMPLES
from nembrit.web.logs.storage import cached_pyramid, load_stream, load_together, load_values, values_of
from nembrit.web.logs.windows import roles_of

_MOST_COLUMNS = 4000
_MOST_CHANNELS = 60
_MOST_TRACK_POINTS = 4000
_MOST_SPECTRUM_SAMPLES = 4_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Clock:
    """How a log's own times become the times of the page: t = own × (1 + skew) + offset."""

    offset_s: float = 0.0
    skew_ppm: float = 0.0

    def own(self, page_s: float) -> float:
        return (page_s - self.offset_s) / (1 + self.skew_ppm * 1e-6)

    def page(self, own_s: FloatArray) -> FloatArray:
        return own_s * (1 + self.skew_ppm * 1e-6) + self.offset_s


def clocks_of(flight: Flight) -> dict[int, Clock]:
    """Clocks of all logs of a flight, by log id."""
    return {segment.log_id: Clock(offset_s=segment.offset_s, skew_ppm=segment.skew_ppm) for segment in flight.segments.all()}


def channels_of(log_ids: list[int], wanted: list[int]) -> list[Channel]:
    """Channels by id, of these logs only, in the wanted order. Raises InputError for others."""
    rows = {
        channel.pk: channel
        for channel in Channel.objects.filter(pk__in=wanted[:_MOST_CHANNELS], stream__log__in=log_ids).select_related("stream")
    }
    missing = [pk for pk in wanted[:_MOST_CHANNELS] if pk not in rows]
    if missing:
        raise InputError(f"there is no channel {missing[0]} here. The log may have been read again: reload the page")
    return [rows[pk] for pk in wanted[:_MOST_CHANNELS]]


def trace_bytes(channels: list[Channel], clocks: dict[int, Clock], *, start_s: float, end_s: float, n_columns: int) -> bytes:
    """Envelope of channels over a span of page time.

    Layout: uint32 length of the JSON header, the header padded to 4 bytes, then float32 arrays. The
    header lists `streams`, each with `n`, `group` (samples a column) and its `channels`; for each stream
    follow time after `start_s`, then low and high of each channel, `n` values each. A gap is a column of NaN.
    """
    n_columns = max(2, min(n_columns, _MOST_COLUMNS))
    by_stream: dict[int, list[Channel]] = {}
    for channel in channels:
        by_stream.setdefault(channel.stream_id, []).append(channel)
    header: dict[str, Any] = {"start_s": start_s, "streams": []}
    body: list[FloatArray] = []
    times = {
        channel.stream_id: channel
        for channel in Channel.objects.filter(stream__in=by_stream, position=0).select_related("stream")
    }
    for stream_id, members in by_stream.items():
        clock = clocks.get(members[0].stream.log_id or 0, Clock())
        arrays, group = _envelope(times[stream_id], members, clock.own(start_s), clock.own(end_s), n_columns)
        arrays[0] = clock.page(arrays[0]) - start_s
        header["streams"].append({"n": int(arrays[0].size), "group": group, "channels": [channel.pk for channel in members]})
        body += arrays
    return _encoded(header, body)


def _envelope(
    times: Channel, members: list[Channel], start_s: float, end_s: float, n_columns: int
) -> tuple[list[FloatArray], int]:
    first, last = sample_range(times, start_s, end_s)
    group = max(1, -(-(last - first) // n_columns))
    if group >= PYRAMID_SAMPLES:
        return _from_pyramid(times, members, first, last, -(-group // PYRAMID_SAMPLES)), group
    return _from_samples(times, members, first, last, group), group


def sample_range(times: Channel, start_s: float, end_s: float) -> tuple[int, int]:
    """First sample and one past the last of a span of the log's own time, one more on either side."""
    stream = times.stream
    n, rate_hz, begin_s = stream.n_samples, stream.sample_rate_hz, stream.start_s
    if abs((stream.end_s - begin_s) * rate_hz - (n - 1)) < 0.5:  # no gaps: the place is known
        first = int(np.floor((start_s - begin_s) * rate_hz))
        last = int(np.ceil((end_s - begin_s) * rate_hz)) + 1
    else:
        first, last = _place(times, start_s) - 1, _place(times, end_s) + 1
    return max(0, min(first, n - 1)), max(min(n, last), min(n, max(0, first) + 1))


def _place(times: Channel, at_s: float) -> int:
    """Number of samples before a time: the pyramid says in which groups, their samples say exactly."""
    groups = cached_pyramid(times)
    about = int(np.searchsorted(groups[:, 0], at_s))
    low = max(0, (about - 2) * PYRAMID_SAMPLES)  # the pyramid's times are rounded
    high = min(times.stream.n_samples, (about + 2) * PYRAMID_SAMPLES)
    return low + int(np.searchsorted(load_values(times, first=low, last=high), at_s))


def _from_samples(times: Channel, members: list[Channel], first: int, last: int, group: int) -> list[FloatArray]:
    samples = load_together([times, *members], first=first, last=last)
    t_s = values_of(times, samples[times.pk])
    starts = np.arange(0, t_s.size, group)
    arrays = [t_s[starts]]
    for channel in members:
        values = values_of(channel, samples[channel.pk])
        arrays += [np.fmin.reduceat(values, starts), np.fmax.reduceat(values, starts)]
    return _with_gaps(arrays, group / times.stream.sample_rate_hz)


def _from_pyramid(times: Channel, members: list[Channel], first: int, last: int, group: int) -> list[FloatArray]:
    rows = slice(first // PYRAMID_SAMPLES, -(-last // PYRAMID_SAMPLES))
    t_s = cached_pyramid(times)[rows]
    starts = np.arange(0, t_s.shape[0], group)
    arrays: list[FloatArray] = [t_s[starts, 0].astype(np.float64)]
    for channel in members:
        envelope = cached_pyramid(channel)[rows]
        arrays += [np.fmin.reduceat(envelope[:, 0], starts), np.fmax.reduceat(envelope[:, 1], starts)]
    return _with_gaps(arrays, group * PYRAMID_SAMPLES / times.stream.sample_rate_hz)


def _with_gaps(arrays: list[FloatArray], step_s: float) -> list[FloatArray]:
    """Insert a column of NaN after every column that a gap follows."""
    after = np.flatnonzero(np.diff(arrays[0]) > 1.75 * step_s)
    if after.size == 0:
        return arrays
    times = np.insert(arrays[0], after + 1, arrays[0][after] + step_s)
    return [times, *(np.insert(values, after + 1, np.nan) for values in arrays[1:])]


def _encoded(header: dict[str, object], arrays: list[FloatArray]) -> bytes:
    text = json.dumps(header).encode()
    text += b" " * (-len(text) % 4)
    body = b"".join(values.astype("<f4").tobytes() for values in arrays)
    return len(text).to_bytes(4, "little") + text + body


def exact_range(times: Channel, start_s: float, end_s: float) -> tuple[int, int]:
    """First sample and one past the last whose own time lies within a span, both ends included."""
    first, last = sample_range(times, start_s, end_s)
    t_s = load_values(times, first=first, last=last)
    return first + int(np.searchsorted(t_s, start_s - 1e-9)), first + int(np.searchsorted(t_s, end_s + 1e-9, side="right"))


def overview_role(log: Log) -> str:
    """The channel that shows best what was flown."""
    roles = roles_of(log)
    for wanted in ("throttle", "motor.1", "gyro.roll", "gyro_raw.roll", "altitude", "ground_speed"):
        if wanted in roles:
            return wanted
    return next(iter(roles), "")


@while_unchanged
def overview(log: Log) -> dict[str, Any]:
    """What the log's own page draws: the channel, its unit, and the manoeuvres as bands."""
    role = overview_role(log)
    channel = Channel.objects.filter(stream__log=log, role=role).first() if role else None
    spans = [
        {"start": row.start_s, "end": row.end_s, "label": row.kind.replace("_", " ")}
        for row in log.manoeuvres.filter(is_removed=False)
        if row.kind not in ("ground", "take_off", "touch_down")
    ]
    return {"overview": role, "overview_unit": (channel.unit or "1") if channel else "1", "overview_spans": spans}


def spectrum_chart(channel: Channel, clock: Clock, *, start_s: float, end_s: float) -> Chart:
    """Power spectral density of one channel over exactly a span of page time.

    Raises NotEnoughData where the span is too short for three windows.
    """
    times = Channel.objects.select_related("stream").get(stream=channel.stream_id, position=0)
    first, last = exact_range(times, clock.own(start_s), clock.own(end_s))
    last = min(last, first + _MOST_SPECTRUM_SAMPLES)
    recording = uniform(load_stream(times, [channel], first=first, last=last))
    values = next(iter(recording.channels.values()))
    length_s = values.size / recording.sample_rate_hz
    spectrum = welch_spectrum(values, sample_rate_hz=recording.sample_rate_hz, segment_s=min(0.5, length_s / 3))
    unit = channel.unit or "1"
    top_hz = float(spectrum.frequency_hz[-1])
    return Chart(
        title=f"Spectrum of {spoken(channel.role) if channel.role else channel.name}, {start_s:.2f} to {end_s:.2f} s",
        x=Axis(label="frequency", unit="Hz", low=0, high=min(top_hz, 1000.0)),
        y=Axis(label="density", unit=f"dB re 1 ({unit})²/Hz", from_x=min(10.0, top_hz / 20)),
        lines=[
            Line(
                label=spoken(channel.role) if channel.role else channel.name,
                x=[round(value, 3) for value in spectrum.frequency_hz.tolist()],
                y=decibels(spectrum.psd_dps2_per_hz.tolist()),
            )
        ],
    )


def measures(channels: list[Channel], clocks: dict[int, Clock], *, start_s: float, end_s: float) -> list[dict[str, Any]]:
    """What every channel does between two cursors; channels without samples there say so."""
    found = []
    for channel in channels:
        times = Channel.objects.select_related("stream").get(stream=channel.stream_id, position=0)
        clock = clocks.get(channel.stream.log_id or 0, Clock())
        first, last = exact_range(times, clock.own(start_s), clock.own(end_s))
        row: dict[str, Any] = {
            "channel": channel.pk,
            "name": spoken(channel.role) if channel.role else channel.name,
            "unit": channel.unit,
        }
        try:
            row |= asdict(measure(load_values(channel, first=first, last=last)))
        except CoreError as error:
            row["reason"] = str(error)
        found.append(row)
    return found


def track_json(flight: Flight, colour: Channel | None) -> dict[str, Any]:
    """The flight's path on a local grid: east, north, height, page time and a value to colour by.

    Raises InputError where no log of the flight holds positions.
    """
    clocks = clocks_of(flight)
    stream = Stream.objects.filter(log__segments__flight=flight, channels__role="latitude").select_related("log").first()
    if stream is None:
        raise InputError("no log of this flight holds positions")
    channels = {channel.role: channel for channel in stream.channels.select_related("stream")}
    if "longitude" not in channels:
        raise InputError("this log holds latitudes without longitudes")
    clock = clocks.get(stream.log_id or 0, Clock())
    t_s = clock.page(load_values(channels["time"]))
    parts = stream.channels.filter(name="segment", role="").select_related("stream").first()
    segment = load_values(parts) if parts else None
    track = track_of(t_s, load_values(channels["latitude"]), load_values(channels["longitude"]), segment=segment)
    every = max(1, -(-t_s.size // _MOST_TRACK_POINTS))
    height = load_values(channels["altitude"]) if "altitude" in channels else None
    value, labels = _colouring(colour, clocks, t_s) if colour else (None, None)
    return {
        "t": _listed(t_s[::every], 3),
        "east": _listed(track.east_m[::every], 2),
        "north": _listed(track.north_m[::every], 2),
        "segment": segment[::every].tolist() if segment is not None else None,
        "height": _listed(height[::every], 2) if height is not None else None,
        "value": _listed(value[::every], 4) if value is not None else None,
        "labels": labels,
        "name": (colour.role or colour.name) if colour else "",
        "unit": colour.unit if colour else "",
        "length_m": round(track.length_m, 1),
        "farthest_m": round(track.farthest_m, 1),
        "rises_m": None
        if height is None or not np.isfinite(height).any()
        else round(float(np.nanmax(height) - np.nanmin(height)), 1),
    }


def _colouring(channel: Channel, clocks: dict[int, Clock], t_s: FloatArray) -> tuple[FloatArray, list[str] | None]:
    """A channel's value at each position's time: the nearest sample before."""
    times = Channel.objects.select_related("stream").get(stream=channel.stream_id, position=0)
    own_s = clocks.get(channel.stream.log_id or 0, Clock()).page(load_values(times))
    values = load_values(channel)
    at = np.clip(np.searchsorted(own_s, t_s, side="right") - 1, 0, values.size - 1)
    inside = (t_s >= own_s[0]) & (t_s <= own_s[-1])
    return np.where(inside, values[at], np.nan), channel.labels


def _listed(values: FloatArray, digits: int) -> list[float | None]:
    return [round(value, digits) if np.isfinite(value) else None for value in values.tolist()]
