"""Giving out: channels of a span as a table, positions as a track, or without positions."""

from dataclasses import dataclass
from datetime import UTC, datetime

from nembrit.core.errors import InputError
from nembrit.core.formats import gpx
from nembrit.core.formats.give import WRITERS, GivenColumn, to_geojson
from nembrit.core.formats.registry import label_of
from nembrit.web.logs.models import Channel, Log, Stream
from nembrit.web.logs.storage import load_samples, load_values
from nembrit.web.logs.traces import exact_range

KINDS = {
    "csv": ("CSV, reads back identically", "text/csv"),
    "parquet": ("Apache Parquet, reads back identically", "application/vnd.apache.parquet"),
    "jsonl": ("JSON Lines", "application/jsonl"),
    "gpx": ("GPX 1.1 track of the positions", "application/gpx+xml"),
    "geojson": ("GeoJSON line of the positions", "application/geo+json"),
}
PLACES = ("latitude", "longitude")
TRACKS = ("gpx", "geojson")


def has_places(stream: Stream) -> bool:
    return {channel.role for channel in stream.channels.all()} >= set(PLACES)


def kinds_for(stream: Stream) -> dict[str, tuple[str, str]]:
    """The forms that a stream can be given out in: a track only where there are positions."""
    return {key: kind for key, kind in KINDS.items() if key not in TRACKS or has_places(stream)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Given:
    """A file to hand out."""

    name: str
    content: bytes
    media_type: str


def format_label(log: Log) -> str:
    """The file's format in words."""
    return label_of(log.format_key)


def give(
    log: Log, kind: str, *, stream: Stream, channels: list[Channel], start_s: float, end_s: float, with_places: bool
) -> Given:
    """Write a span of one stream. Raises InputError where there is nothing to write."""
    if kind not in KINDS:
        raise InputError(f"“{kind}” is not an export format; choose one of {', '.join(KINDS)}")
    if not start_s < end_s:
        raise InputError("the span's start must lie before its end")
    times = stream.channels.select_related("stream").get(position=0)
    first, last = exact_range(times, start_s, end_s)
    stem = log.file_name.rsplit(".", 1)[0][:80] or "log"
    if kind in TRACKS:
        if not with_places:
            raise InputError("a track is made of positions; tick “positions” to export one")
        return _track(log, stream, kind, first, last, stem)
    chosen = [channel for channel in channels if with_places or channel.role not in PLACES]
    columns = [_column(channel, first, last) for channel in chosen]
    content = WRITERS[kind](load_values(times, first=first, last=last), columns)
    return Given(name=f"{stem}.{kind}", content=content, media_type=KINDS[kind][1])


def _column(channel: Channel, first: int, last: int) -> GivenColumn:
    samples = load_samples(channel, first=first, last=last)
    labels = tuple(channel.labels) if channel.labels is not None else None
    values = samples if labels is not None else load_values(channel, first=first, last=last)
    unit = channel.unit or channel.stated_unit
    return GivenColumn(
        role=channel.role or None, name=channel.name.removeprefix("other."), unit=unit, values=values, labels=labels
    )


def _track(log: Log, stream: Stream, kind: str, first: int, last: int, stem: str) -> Given:
    channels = {channel.role: channel for channel in stream.channels.select_related("stream")}
    if not all(role in channels for role in PLACES):
        raise InputError("this stream holds no positions: there is no track to write")
    latitude, longitude = (load_values(channels[role], first=first, last=last) for role in PLACES)
    height = load_values(channels["altitude"], first=first, last=last) if "altitude" in channels else None
    if kind == "geojson":
        content = to_geojson(latitude, longitude, height, name=stem)
    else:
        started_at = log.recorded_at or datetime(2000, 1, 1, tzinfo=UTC)
        t_s = load_values(channels["time"], first=first, last=last)
        content = gpx.write(t_s, latitude, longitude, height, name=stem, started_at=started_at)
    return Given(name=f"{stem}.{kind}", content=content, media_type=KINDS[kind][1])
