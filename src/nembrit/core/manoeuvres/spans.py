"""One manoeuvre in a log, and runs of samples that could be one."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """One manoeuvre in a log [s]; `axis` where it has one."""

    kind: str
    start_s: float
    end_s: float
    axis: str | None = None

    def places(self, recording: Recording) -> slice:
        """The samples of a recording that lie within; empty where none do."""
        first, last = (
            min(recording.n_samples, max(0, round((edge - recording.start_s) * recording.sample_rate_hz)))
            for edge in (self.start_s, self.end_s)
        )
        return slice(first, max(first, last))

    def overlap_s(self, other: "Span") -> float:
        return min(self.end_s, other.end_s) - max(self.start_s, other.start_s)


def runs(flags: BoolArray, *, least: int = 1, bridge: int = 0) -> list[tuple[int, int]]:
    """Start and end (one past) of every run of True of at least `least` samples; breaks up to `bridge` are closed.

    >>> runs(np.array([True, False, True, True]), bridge=1), runs(np.array([True, False, True, True]), least=2)
    ([(0, 4)], [(2, 4)])
    """
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])).astype(np.int8)))
    found: list[tuple[int, int]] = []
    for start, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if found and start - found[-1][1] <= bridge:
            found[-1] = (found[-1][0], end)
        else:
            found.append((start, end))
    return [(start, end) for start, end in found if end - start >= least]
