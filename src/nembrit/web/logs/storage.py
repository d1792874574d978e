"""Logs in and out of the database."""

from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import lru_cache

import numpy as np
from django.db import transaction

from nembrit.core.errors import InputError
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records import log as core_log
from nembrit.core.records.timebase import clock_of, thinned, uniform
from nembrit.core.types import AnyArray, FloatArray
from nembrit.web.common.database import generation
from nembrit.web.logs.models import Channel, Chunk, Log, Pyramid, Stream
from nembrit.web.logs.packing import CHUNK_SAMPLES, PYRAMID_SAMPLES, extremes_of, pack, unpack

_POOL = ThreadPoolExecutor(max_workers=2)
_BYTES_AT_ONCE = 4 * 1024 * 1024
_TIME_DIVISOR = 1e9  # times are kept as whole nanoseconds


def store_draft(log: Log, content: core_log.FlightLog, *, progress: Progress = no_progress) -> None:
    """Keep all streams of a log as drafts, in short transactions; what an interrupted earlier try left is deleted first.

    Nobody sees a draft, and nobody waits for it: `settle_draft` makes it the log's own in one step.
    """
    discard_drafts(log)
    with ThreadPoolExecutor(max_workers=2) as pool:  # packing leaves the interpreter free
        packed = [_packed_stream(stream, progress, pool) for stream in content.streams]
    for stream, channels in packed:
        stream.draft_of = log
        with transaction.atomic():
            stream.save()
        for group in _small_groups(channels):
            with transaction.atomic():
                for channel, chunks, pyramid in group:
                    channel.stream = stream
                    if channel.pk is None:
                        channel.save()
                        pyramid.channel = channel
                        pyramid.save()
                    for chunk in chunks:
                        chunk.channel = channel
                    Chunk.objects.bulk_create(chunks)


def _small_groups(channels: list["_Packed"]) -> Iterator[list["_Packed"]]:
    """Channels in groups that are written within some tens of milliseconds; a large one comes in parts."""
    group: list[_Packed] = []
    size = 0
    for channel, chunks, pyramid in channels:
        part: list[Chunk] = []
        for chunk in chunks:
            part.append(chunk)
            size += len(chunk.content)
            if size >= _BYTES_AT_ONCE:
                yield [*group, (channel, part, pyramid)]
                group, part, size = [], [], 0
        group.append((channel, part, pyramid))
    if group:
        yield group


def settle_draft(log: Log) -> None:
    """Within the caller's transaction: the drafts become the log's streams, and its old streams drafts to be discarded."""
    drafts = list(log.drafts.values_list("pk", flat=True))
    log.streams.update(log=None, draft_of=log)
    Stream.objects.filter(pk__in=drafts).update(log=log, draft_of=None)


def discard_drafts(log: Log) -> None:
    """Delete a log's drafts, channel by channel, so that others may write in between."""
    for stream in log.drafts.all():
        for channel in stream.channels.all():
            channel.delete()
        stream.delete()


_Packed = tuple[Channel, list[Chunk], Pyramid]


def _packed_stream(stream: core_log.Stream, progress: Progress, pool: ThreadPoolExecutor) -> tuple[Stream, list[_Packed]]:
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
    members = (times, *stream.channels)
    channels = []
    for position, packed in enumerate(pool.map(_packed_channel, members, range(len(members)))):
        progress(f"keeping {members[position].name}", position / len(members))
        channels.append(packed)
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
    return row, chunks, Pyramid(content=pack(_pyramid(channel)))


def keep_samples(channel: Channel, samples: AnyArray) -> None:
    """Keep the samples of a channel whose row is there already, with their overview."""
    starts = range(0, samples.size, CHUNK_SAMPLES)
    parts = [samples[start : start + CHUNK_SAMPLES] for start in starts]
    chunks = [Chunk(channel=channel, index=index, n_samples=part.size, content=pack(part)) for index, part in enumerate(parts)]
    Chunk.objects.bulk_create(chunks)
    Pyramid.objects.create(channel=channel, content=pack(_pyramid(_core_channel(channel, samples))))


def _pyramid(channel: core_log.Channel) -> AnyArray:
    """Lowest and highest value of every 64 samples, float32: low, high, low, high …"""
    values = replace(channel, samples=extremes_of(channel.samples)).values().astype(np.float32)
    return np.ascontiguousarray(values if channel.factor >= 0 else values[:, ::-1]).ravel()


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
    return load_together([channel], first=first, last=last)[channel.pk]


def load_together(channels: list[Channel], *, first: int = 0, last: int | None = None) -> dict[int, AnyArray]:
    """The same for several channels of one stream, by channel id, with one query."""
    n_samples = channels[0].stream.n_samples
    last = n_samples if last is None else min(last, n_samples)
    if first >= last:
        return {channel.pk: np.empty(0, dtype=channel.dtype) for channel in channels}
    first_chunk, last_chunk = first // CHUNK_SAMPLES, (last - 1) // CHUNK_SAMPLES
    kinds = {channel.pk: channel.dtype for channel in channels}
    rows = Chunk.objects.filter(channel__in=kinds, index__gte=first_chunk, index__lte=last_chunk).order_by("channel", "index")
    parts: dict[int, list[AnyArray]] = {pk: [] for pk in kinds}
    found = list(rows.values_list("channel_id", "n_samples", "content"))
    # unpacking leaves the interpreter free
    unpacked = _POOL.map(lambda row: unpack(bytes(row[2]), dtype=kinds[row[0]], n_samples=row[1]), found)
    for (pk, _, _), samples in zip(found, unpacked, strict=True):
        parts[pk].append(samples)
    skip = first - first_chunk * CHUNK_SAMPLES
    return {pk: (np.concatenate(own) if len(own) > 1 else own[0])[skip : skip + last - first] for pk, own in parts.items()}


def values_of(channel: Channel, samples: AnyArray) -> FloatArray:
    """Samples as numbers in the channel's unit."""
    return _core_channel(channel, samples).values()


def load_values(channel: Channel, *, first: int = 0, last: int | None = None) -> FloatArray:
    """The same as numbers in the channel's unit."""
    return _core_channel(channel, load_samples(channel, first=first, last=last)).values()


def load_pyramid(channel: Channel) -> AnyArray:
    """Lowest and highest of every 64 samples, float32, shape (n_groups, 2)."""
    n_groups = -(-channel.stream.n_samples // PYRAMID_SAMPLES)
    return unpack(bytes(channel.pyramid.content), dtype="float32", n_samples=2 * n_groups).reshape(n_groups, 2)


def cached_pyramid(channel: Channel) -> AnyArray:
    """The same, kept in memory for the next view; a channel read anew has another number, a restored one another generation."""
    return _pyramid_of(channel.pk, generation())


@lru_cache(maxsize=128)
def _pyramid_of(channel_id: int, of_generation: int) -> AnyArray:
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


def load_recording(log: Log, roles: Iterable[str] | None = None, *, most_hz: float | None = None) -> core_log.Recording:
    """Channels of the main stream on a uniform clock; all channels with a role if none are named.

    `most_hz` thins them to about that rate, for slow movements.
    """
    stream = main_stream(log)
    channels = {channel.role: channel for channel in stream.channels.select_related("stream") if channel.role}
    wanted = [role for role in channels if role != "time" and (roles is None or role in set(roles))]
    content = core_log.Stream(
        t_s=load_values(channels["time"]),
        channels=tuple(_core_channel(channels[role], load_samples(channels[role])) for role in wanted),
    )
    return uniform(thinned(content, most_hz=most_hz) if most_hz else content)
