"""The clock of a log: its rate, its gaps, and the uniform grid that analyses work on."""

from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.records.log import QualityNote, Recording, Stream
from nembrit.core.types import FloatArray

_GAP_PERIODS = 1.75  # a step longer than this many periods is a gap (half a period of jitter is none)
_MAX_GRID_SAMPLES = 200_000_000
_TEXT_ROLES = ("mode",)  # words that analyses ask for
_LEAST_STEP_S, _MOST_STEP_S = 1e-6, 3600.0  # no recorder writes faster than a million rows a second


@dataclass(frozen=True, slots=True, kw_only=True)
class Clock:
    """How evenly a stream was sampled."""

    sample_rate_hz: float
    jitter_ratio: float  # standard deviation of the step over the median step, gaps left out
    gaps_s: tuple[tuple[float, float], ...]  # (last sample before, first sample after)


def clock_of(t_s: FloatArray) -> Clock:
    """Find the sample rate [Hz], the jitter and the gaps of strictly increasing times.

    The rate comes from the mean step outside gaps, so that a clock counted in whole microseconds
    gives the right rate. Raises InputError for fewer than two samples or a time that does not rise.

    >>> clock_of(np.array([0.0, 0.1, 0.2, 0.3, 0.8, 0.9])).gaps_s
    ((0.3, 0.8),)
    """
    if t_s.size < 2:
        raise InputError(f"a log needs at least two samples, this one has {t_s.size}")
    steps_s = np.diff(t_s)
    if not steps_s.min() > 0:
        raise InputError("time must rise from sample to sample")
    median_s = float(np.median(steps_s))
    if not _LEAST_STEP_S <= median_s <= _MOST_STEP_S:
        raise InputError(f"samples {median_s:.3g} s apart are no log’s: a clock in another unit is taken for seconds")
    is_gap = steps_s > _GAP_PERIODS * median_s
    regular_s = steps_s[~is_gap]
    gaps_s = tuple((float(t_s[i]), float(t_s[i + 1])) for i in np.flatnonzero(is_gap))
    return Clock(
        sample_rate_hz=1 / float(regular_s.mean()),
        jitter_ratio=float(regular_s.std() / regular_s.mean()),
        gaps_s=gaps_s,
    )


def clock_notes(clock: Clock) -> tuple[QualityNote, ...]:
    """Say what the clock means for the analyses."""
    notes = [
        QualityNote(
            code="gap",
            severity="warning",
            start_s=start_s,
            end_s=end_s,
            detail=f"{(end_s - start_s) * 1000:.0f} ms without samples, left out of every analysis",
        )
        for start_s, end_s in clock.gaps_s[:8]
    ]
    if len(clock.gaps_s) > 8:
        notes.append(QualityNote(code="gap", severity="warning", detail=f"{len(clock.gaps_s) - 8} more gaps"))
    if clock.sample_rate_hz < 950:
        notes.append(
            QualityNote(
                code="rate_low",
                severity="warning",
                detail=f"logged at {clock.sample_rate_hz:.4g} Hz: noise above {clock.sample_rate_hz / 2:.4g} Hz cannot be "
                "seen; log at 1 kHz or more next time",
            )
        )
    return tuple(notes)


def thinned(stream: Stream, *, most_hz: float) -> Stream:
    """Every k-th sample of a stream, at about that rate or below: for movements that are slow beside it.

    Nothing is filtered, so this is not for spectra.
    """
    every = int(stream.n_samples / max(float(stream.t_s[-1] - stream.t_s[0]), 1e-9) / most_hz)
    if every < 2:
        return stream
    channels = tuple(replace(channel, samples=np.ascontiguousarray(channel.samples[::every])) for channel in stream.channels)
    return replace(stream, t_s=stream.t_s[::every], channels=channels)


def uniform(stream: Stream, *, roles: tuple[str, ...] | None = None) -> Recording:
    """Lay a stream on a uniform grid; grid points without a sample are NaN.

    Every sample goes to its nearest grid point, so no value is invented or smoothed. The grid is
    re-anchored after each gap, which keeps a slow clock drift from shifting samples.
    """
    clock = clock_of(stream.t_s)
    sample_rate_hz = clock.sample_rate_hz
    index = _grid_index(stream.t_s, sample_rate_hz)
    n_grid = int(index[-1]) + 1
    if n_grid > _MAX_GRID_SAMPLES or n_grid > 50 * stream.n_samples + 1000:
        raise InputError("the log is nearly all gap: split it into its flights first")
    wanted = [channel for channel in stream.channels if channel.role and (roles is None or channel.role in roles)]
    channels, labels = {}, {}
    for channel in wanted:
        if channel.labels is not None:
            if channel.role not in _TEXT_ROLES:
                continue
            labels[str(channel.role)] = channel.labels
        values = np.full(n_grid, np.nan)
        values[index] = channel.values()
        channels[str(channel.role)] = values
    return Recording(
        sample_rate_hz=sample_rate_hz, start_s=float(stream.t_s[0]), n_samples=n_grid, channels=channels, labels=labels
    )


def _grid_index(t_s: FloatArray, sample_rate_hz: float) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """Grid position of every sample: one step per sample, more across gaps."""
    steps = np.maximum(1, np.rint(np.diff(t_s) * sample_rate_hz)).astype(np.int64)
    steps[np.diff(t_s) * sample_rate_hz <= _GAP_PERIODS] = 1
    return np.concatenate(([0], np.cumsum(steps)))
