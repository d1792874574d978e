"""Traces for the browser: lowest and highest value per picture column, as binary."""

import json

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.types import FloatArray
from nembrit.web.logs.models import Channel, Log
from nembrit.web.logs.packing import PYRAMID_SAMPLES
from nembrit.web.logs.storage import load_pyramid, load_values, main_stream

_MOST_COLUMNS = 4000


def trace_bytes(log: Log, roles: list[str], *, start_s: float, end_s: float, n_columns: int) -> bytes:
    """Envelope of channels over a span.

    Layout: uint32 length of the JSON header, the header padded to 4 bytes, then float32 arrays of
    `n` values each: time after the header's `start_s`, then low and high of each role. A gap in the
    log is a column of NaN. Raises InputError for a role that the log lacks.
    """
    stream = main_stream(log)
    channels = {channel.role: channel for channel in stream.channels.select_related("stream")}
    missing = [role for role in roles if role not in channels]
    if missing:
        raise InputError(f"this log has no channel {missing[0]}")
    n_columns = max(2, min(n_columns, _MOST_COLUMNS))
    first, last = _span(channels["time"], start_s, end_s, stream.sample_rate_hz, stream.start_s, stream.n_samples)
    group = max(1, -(-(last - first) // n_columns))
    if group >= PYRAMID_SAMPLES:
        arrays = _from_pyramid(channels, roles, first, last, -(-group // PYRAMID_SAMPLES))
    else:
        arrays = _from_samples(channels, roles, first, last, group)
    arrays[0] = arrays[0] - start_s
    return _encoded({"roles": roles, "n": int(arrays[0].size), "start_s": start_s, "group": group}, arrays)


def _span(times: Channel, start_s: float, end_s: float, rate_hz: float, begin_s: float, n: int) -> tuple[int, int]:
    """Sample range of a time span: exact where the clock has no gaps, else found among all times."""
    if abs((times.stream.end_s - begin_s) * rate_hz - (n - 1)) < 0.5:
        first = int(np.floor((start_s - begin_s) * rate_hz))
        last = int(np.ceil((end_s - begin_s) * rate_hz)) + 1
    else:
        t_s = load_values(times)
        first, last = int(np.searchsorted(t_s, start_s)) - 1, int(np.searchsorted(t_s, end_s)) + 1
    return max(0, first), max(min(n, last), min(n, max(0, first) + 1))


def _from_samples(channels: dict[str, Channel], roles: list[str], first: int, last: int, group: int) -> list[FloatArray]:
    t_s = load_values(channels["time"], first=first, last=last)
    starts = np.arange(0, t_s.size, group)
    arrays = [t_s[starts]]
    for role in roles:
        values = load_values(channels[role], first=first, last=last)
        arrays += [np.fmin.reduceat(values, starts), np.fmax.reduceat(values, starts)]
    return _with_gaps(arrays, group / channels["time"].stream.sample_rate_hz)


def _from_pyramid(channels: dict[str, Channel], roles: list[str], first: int, last: int, group: int) -> list[FloatArray]:
    rows = slice(first // PYRAMID_SAMPLES, -(-last // PYRAMID_SAMPLES))
    times = load_pyramid(channels["time"])[rows]
    starts = np.arange(0, times.shape[0], group)
    arrays = [times[starts, 0]]
    for role in roles:
        envelope = load_pyramid(channels[role])[rows]
        arrays += [np.fmin.reduceat(envelope[:, 0], starts), np.fmax.reduceat(envelope[:, 1], starts)]
    return _with_gaps(arrays, group * PYRAMID_SAMPLES / channels["time"].stream.sample_rate_hz)


def _with_gaps(arrays: list[FloatArray], step_s: float) -> list[FloatArray]:
    """Insert a column of NaN after every column that a gap follows."""
    after = np.flatnonzero(np.diff(arrays[0]) > 1.75 * step_s)
    times = np.insert(arrays[0], after + 1, arrays[0][after] + step_s)
    return [times, *(np.insert(values, after + 1, np.nan) for values in arrays[1:])]


def _encoded(header: dict[str, object], arrays: list[FloatArray]) -> bytes:
    text = json.dumps(header).encode()
    text += b" " * (-len(text) % 4)
    body = b"".join(values.astype("<f4").tobytes() for values in arrays)
    return np.uint32(len(text)).astype("<u4").tobytes() + text + body
