"""Logs in and out of the database."""

from collections.abc import Iterable
from dataclasses import replace
from functools import lru_cache

import numpy as np
from django.db import transaction

from nembrit.core.errors import InputError
from nembrit.core.formats.progress import Progress, no_progress
from nembrit.core.records import log as core_log
from nembrit.core.records.timebase import clock_of, uniform
from nembrit.core.types import AnyArray, FloatArray
from nembrit.web.logs.models import Channel, Chunk, Log, Pyramid, Stream
from nembrit.web.logs.packing import CHUNK_SAMPLES, PYRAMID_SAMPLES, pack, pyramid_of, unpack

_TIME_DIVISOR = 1e9  # times are kept as whole nanoseconds


def store_log(log: Log, content: core_log.FlightLog, *, progress: Progress = no_progress) -> None:
    """Keep all streams of a log; what an interrupted earlier try left is deleted first."""
    packed = [_packed_stream(stream, progress) for stream in content.streams]
    with transaction.atomic():
        log.streams.all().delete()
        for stream, channels in packed:
            stream.log = log
            stream.save()
            for channel, chunks, pyramid in channels:
                channel.stream = stream
                channel.save()
                for chunk in chunks:
                    chunk.channel = channel
                pyramid.channel = channel
                Chunk.objects.bulk_create(chunks)
                pyramid.save()


_Packed = tuple[Channel, list[Chunk], Pyramid]


def _packed_stream(stream: core_log.Stream, progress: Progress) -> tuple[Stream, list[_Packed]]:
    times = core_log.Channel(
        role="time", name="time", unit="s", samples=np.rint(stream.t_s * _TIME_DIVISOR).astype(np.int64), divisor=_TIME_DIVISOR
    )
    row = Stream(
        n_samples=stream.n_samples,
        sample_rate_hz=clock_of(stream.t_s).sample_rate_hz,
        start_s=float(stream.t_s[0]),
        end_s=float(stream.t_s[-1]),
        table=stream.table,
    )
    channels = []
    for position, channel in enumerate((times, *stream.channels)):
        progress(f"keeping {channel.name}", position / (len(stream.channels) + 1))
        channels.append(_packed_channel(channel, position))
    return row, channels


def _packed_channel(channel: core_log.Channel, position: int) -> _Packed:
    row = Channel(
        position=position,
        role=channel.role or "",
        name=channel.name[:200],
        unit=channel.unit[:30],
        dtype=channel.samples.dtype.name,
        divisor=channel.divisor,
        factor=channel.factor,
        offset=channel.offset,
        confidence=channel.confidence,
        stated_unit=channel.stated_unit[:30],
        reason=channel.reason,
        column=channel.column,
        labels=list(channel.labels) if channel.labels is not None else None,
        stats=_stats(channel),
    )
    starts = range(0, channel.samples.size, CHUNK_SAMPLES)
    parts = [channel.samples[start : start + CHUNK_SAMPLES] for start in starts]
    chunks = [Chunk(index=index, n_samples=part.size, content=pack(part)) for index, part in enumerate(parts)]
    return row, chunks, Pyramid(content=pack(pyramid_of(channel.values())))


def _stats(channel: core_log.Channel) -> dict[str, float | None]:
    """Range and mean of the numbers as written, and the share that is missing."""
    if channel.labels is not None:
        return {"labels": float(len(channel.labels))}
    numbers = channel.samples
    missing = np.isnan(numbers) if numbers.dtype.kind == "f" else None
    kept = numbers if missing is None or not missing.any() else numbers[~missing]
    if kept.size == 0:
        return {"missing": 1.0}
    share = 0.0 if missing is None else float(missing.mean())
    low, high, mean = (float(value) / channel.divisor for value in (kept.min(), kept.max(), kept.mean(dtype=np.float64)))
    return {"low": low, "high": high, "mean": mean, "missing": share}


def load_samples(channel: Channel, *, first: int = 0, last: int | None = None) -> AnyArray:
    """Samples `first` to `last` (one past) of a channel; only the chunks that hold them are read."""
    last = channel.stream.n_samples if last is None else min(last, channel.stream.n_samples)
    if first >= last:
        return np.empty(0, dtype=channel.dtype)
    first_chunk, last_chunk = first // CHUNK_SAMPLES, (last - 1) // CHUNK_SAMPLES
    rows = channel.chunks.filter(index__gte=first_chunk, index__lte=last_chunk)
    parts = [unpack(row.content, dtype=channel.dtype, n_samples=row.n_samples) for row in rows]
    joined: AnyArray = np.concatenate(parts)
    return joined[first - first_chunk * CHUNK_SAMPLES : last - first_chunk * CHUNK_SAMPLES]


def load_values(channel: Channel, *, first: int = 0, last: int | None = None) -> FloatArray:
    """The same as numbers in the channel's unit."""
    return _core_channel(channel, load_samples(channel, first=first, last=last)).values()


def load_pyramid(channel: Channel) -> AnyArray:
    """Lowest and highest of every 64 samples, float32, shape (n_groups, 2)."""
    n_groups = -(-channel.stream.n_samples // PYRAMID_SAMPLES)
    return unpack(channel.pyramid.content, dtype="float32", n_samples=2 * n_groups).reshape(n_groups, 2)


def cached_pyramid(channel: Channel) -> AnyArray:
    """The same, kept in memory for the next view; a channel read anew has another id."""
    return _pyramid_of(channel.pk, channel.stream.n_samples)


@lru_cache(maxsize=128)
def _pyramid_of(channel_id: int, n_samples: int) -> AnyArray:
    return load_pyramid(Channel.objects.select_related("stream", "pyramid").get(pk=channel_id))


def _core_channel(channel: Channel, samples: AnyArray) -> core_log.Channel:
    return core_log.Channel(
        role=channel.role or None,
        name=channel.name,
        unit=channel.unit,
        samples=samples,
        divisor=channel.divisor,
        factor=channel.factor,
        offset=channel.offset,
        labels=tuple(channel.labels) if channel.labels is not None else None,
    )


def load_stream(times: Channel, channels: list[Channel], *, first: int = 0, last: int | None = None) -> core_log.Stream:
    """Some channels of one stream over a range of samples; nameless ones get a role to be found by."""
    rows = [_core_channel(channel, load_samples(channel, first=first, last=last)) for channel in channels]
    named = tuple(
        row if row.role else replace(row, role=f"channel {channel.pk}") for row, channel in zip(rows, channels, strict=True)
    )
    return core_log.Stream(t_s=load_values(times, first=first, last=last), channels=named)


def main_stream(log: Log) -> Stream:
    """The stream with the most samples."""
    stream = log.streams.order_by("-n_samples").first()
    if stream is None:
        raise InputError(f"{log.file_name} holds no samples")
    return stream


def load_recording(log: Log, roles: Iterable[str] | None = None, *, stream: Stream | None = None) -> core_log.Recording:
    """Channels of a stream (the main one) on a uniform clock; all channels with a role if none are named."""
    stream = stream or main_stream(log)
    channels = {channel.role: channel for channel in stream.channels.select_related("stream") if channel.role}
    wanted = [role for role in channels if role != "time" and (roles is None or role in set(roles))]
    content = core_log.Stream(
        t_s=load_values(channels["time"]),
        channels=tuple(_core_channel(channels[role], load_samples(channels[role])) for role in wanted),
    )
    return uniform(content)
