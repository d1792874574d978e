"""Logs in memory: the one shape that every reader makes and every analysis accepts."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.records.roles import unit_of
from nembrit.core.types import AnyArray, BoolArray, FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Channel:
    """One recorded quantity, in the sample type it came in: value = samples / divisor × factor + offset.

    Decimal text such as ``12.34`` is kept as the integer 1234 with divisor 100, which gives back
    exactly the number that was written.
    """

    role: str | None  # None: kept without a meaning
    name: str  # header text before the unit
    unit: str  # unit of `values`
    samples: AnyArray  # (n_samples,) int16, int32, int64, float32 or float64
    divisor: float = 1.0
    factor: float = 1.0
    offset: float = 0.0
    confidence: float | None = None  # how sure the role is, 0 to 1; None without a role
    stated_unit: str = ""  # as the file says it
    reason: str = ""  # why the role was given
    column: int = 0  # place in the file's table
    labels: tuple[str, ...] | None = None  # text channels: samples are positions in this list

    def values(self) -> FloatArray:
        """Samples as float64 in `unit`, shape (n_samples,); missing ones are NaN."""
        values = self.samples.astype(np.float64)
        if self.divisor != 1.0:
            values /= self.divisor
        if self.factor != 1.0:
            values *= self.factor
        if self.offset != 0.0:
            values += self.offset
        return values


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Stream:
    """One time base with its channels."""

    t_s: FloatArray  # (n_samples,) strictly increasing
    channels: tuple[Channel, ...]
    table: int = 0  # place of its table in the file

    @property
    def n_samples(self) -> int:
        return int(self.t_s.size)

    def find(self, role: str) -> Channel | None:
        return next((channel for channel in self.channels if channel.role == role), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class QualityNote:
    """Something about a log that the tuner should know before trusting a number from it."""

    code: str
    severity: str  # info, warning or fault
    detail: str
    start_s: float | None = None
    end_s: float | None = None
    column: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FlightLog:
    """What one recorder wrote."""

    format_key: str
    streams: tuple[Stream, ...]
    rows_read: int
    rows_dropped: int = 0
    quality: tuple[QualityNote, ...] = field(default_factory=tuple)

    @property
    def main(self) -> Stream:
        """The stream with the most samples: the control loop's own."""
        return max(self.streams, key=lambda stream: stream.n_samples)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Recording:
    """Channels of one stream on a uniform clock; long gaps are NaN in every channel, short ones are bridged.

    `channels` holds float64 arrays of shape (n_samples,), by role, in the role's own unit; of a text role they are positions
    in its `labels`. `bridged` tells by role which samples were not recorded but stand between recorded ones (at most 5 ms, or
    two samples); roles without any are absent.
    """

    sample_rate_hz: float
    start_s: float
    n_samples: int
    channels: dict[str, FloatArray]
    labels: dict[str, tuple[str, ...]] = field(default_factory=dict)
    bridged: dict[str, BoolArray] = field(default_factory=dict)

    @classmethod
    def of(
        cls, channels: dict[str, FloatArray], *, sample_rate_hz: float, start_s: float = 0.0, modes: Sequence[str] = ()
    ) -> "Recording":
        """A recording whose length is that of its channels; `modes`: a word a sample."""
        n_samples = next(int(values.size) for values in channels.values())
        labels: dict[str, tuple[str, ...]] = {}
        if modes:
            labels["mode"] = tuple(dict.fromkeys(modes))
            place = {word: float(number) for number, word in enumerate(labels["mode"])}
            channels = channels | {"mode": np.array([place[word] for word in modes])}
        return cls(sample_rate_hz=sample_rate_hz, start_s=start_s, n_samples=n_samples, channels=channels, labels=labels)

    @property
    def duration_s(self) -> float:
        return self.n_samples / self.sample_rate_hz

    def has(self, *roles: str) -> bool:
        return all(role in self.channels for role in roles)

    def is_whole(self, role: str) -> BoolArray:
        """True where the channel has a usable sample, recorded or bridged, shape (n_samples,)."""
        return np.isfinite(self.channels[role])

    def is_recorded(self, *roles: str) -> BoolArray:
        """True where all these channels were really recorded, shape (n_samples,)."""
        found = np.ones(self.n_samples, bool)
        for role in roles:
            found &= np.isfinite(self.channels[role])
            if role in self.bridged:
                found &= ~self.bridged[role]
        return found

    def span(self, start_s: float, end_s: float) -> "Recording":
        """The part from `start_s` to `end_s`, on the same clock."""
        first = max(0, round((start_s - self.start_s) * self.sample_rate_hz))
        last = min(self.n_samples, round((end_s - self.start_s) * self.sample_rate_hz))
        return Recording(
            sample_rate_hz=self.sample_rate_hz,
            start_s=self.start_s + first / self.sample_rate_hz,
            n_samples=max(0, last - first),
            channels={role: values[first:last] for role, values in self.channels.items()},
            labels=self.labels,
            bridged={role: part for role, flags in self.bridged.items() if (part := flags[first:last]).any()},
        )


def channel(role: str, samples: AnyArray, *, divisor: float = 1.0) -> Channel:
    """A channel of a known role in the role's own unit."""
    return Channel(role=role, name=role, unit=unit_of(role), samples=samples, divisor=divisor)
