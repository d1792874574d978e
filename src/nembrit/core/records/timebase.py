"""The clock of a log: its rate, its gaps, and the uniform grid that analyses work on."""

from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.gaps import bridged, short_gaps
from nembrit.core.records.log import QualityNote, Recording, Stream
from nembrit.core.types import BoolArray, FloatArray, IntArray

_COUNTED_PERIODS = 8.0
_PERHAPS_PERIODS = 1.4  # with stamps that jitter
_GAP_PERIODS = 1.75  # a step longer than this many periods is a gap (half a period of jitter is none)
_MAX_GRID_SAMPLES = 200_000_000
_BRIDGED_S, _BRIDGED_SAMPLES = 0.005, 2  # gaps up to the longer of both are bridged
_NOISY_ROLES = ("gyro", "accel.", "term_", "command.", "motor")  # what carries vibration
_ROUND_ROLES = ("attitude", "heading", "course")  # angles jump by a whole turn: the value before is held
_JITTERY, _AROUND = 0.05, 5  # from this jitter on, a lost row shows in the times of five rows on either side
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

    The rate comes from the mean step, lost rows counted and long gaps left out, so that a clock counted in whole microseconds
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
        raise InputError(f"samples {median_s:.3g} s apart: the clock is probably in another unit than seconds")
    is_gap = steps_s > _GAP_PERIODS * median_s
    regular_s = steps_s[~is_gap]
    # lost rows count as the periods they took: left out, they would take the longer ones of an uneven clock with them
    short = steps_s < _COUNTED_PERIODS * median_s
    n_periods = float(np.maximum(1, np.rint(steps_s[short] / median_s)).sum())
    jitter_ratio = float(regular_s.std() / regular_s.mean())
    if jitter_ratio > _JITTERY:
        periods = np.where(short, steps_s / regular_s.mean(), 1.0)
        n_periods = float(short.sum() + _lost_at(periods, np.flatnonzero(periods > _PERHAPS_PERIODS)).sum())
    gaps_s = tuple((float(t_s[i]), float(t_s[i + 1])) for i in np.flatnonzero(is_gap))
    return Clock(
        sample_rate_hz=n_periods / float(steps_s[short].sum()),
        jitter_ratio=jitter_ratio,
        gaps_s=gaps_s,
    )


def clock_notes(clock: Clock) -> tuple[QualityNote, ...]:
    """Say what the clock means for the analyses."""
    most_s = (_most_bridged(clock.sample_rate_hz) + 1.5) / clock.sample_rate_hz
    long = [gap for gap in clock.gaps_s if gap[1] - gap[0] > most_s]
    notes = [
        QualityNote(
            code="gap",
            severity="warning",
            start_s=start_s,
            end_s=end_s,
            detail=f"{(end_s - start_s) * 1000:.0f} ms without samples, left out of every analysis",
        )
        for start_s, end_s in long[:8]
    ]
    if len(long) > 8:
        notes.append(QualityNote(code="gap", severity="warning", detail=f"{len(long) - 8} more gaps"))
    if n_short := len(clock.gaps_s) - len(long):
        detail = f"samples are missing in {n_short} short {'gaps' if n_short > 1 else 'gap'} (5 ms at most): bridged"
        notes.append(QualityNote(code="short_gaps", severity="info", detail=detail))
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
    """Lay a stream on a uniform grid; grid points without a sample are NaN, short gaps are bridged and marked.

    Every sample goes to its nearest grid point. The grid is re-anchored after each gap, which keeps a slow clock drift from
    shifting samples.
    """
    clock = clock_of(stream.t_s)
    sample_rate_hz = clock.sample_rate_hz
    index = _grid_index(stream.t_s, clock)
    n_grid = int(index[-1]) + 1
    if n_grid > _MAX_GRID_SAMPLES or n_grid > 50 * stream.n_samples + 1000:
        raise InputError("the log is mostly gaps: split it into its flights first")
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
    invented = _bridge(channels, [role for role in channels if role not in labels], sample_rate_hz)
    return Recording(
        sample_rate_hz=sample_rate_hz,
        start_s=float(stream.t_s[0]),
        n_samples=n_grid,
        channels=channels,
        labels=labels,
        bridged=invented,
    )


def _bridge(channels: dict[str, FloatArray], roles: list[str], sample_rate_hz: float) -> dict[str, BoolArray]:
    """Bridge short gaps of the channels in place; by role, which samples were not recorded."""
    most = _most_bridged(sample_rate_hz)
    found = {}
    for role in roles:
        values = channels[role]
        if np.isfinite(values).all():
            continue
        short = short_gaps(values, most=most)
        if not short.any():
            continue
        plain = role.removeprefix("b/")
        if plain.startswith(_ROUND_ROLES):
            channels[role] = _held(values, short)
        else:
            channels[role] = bridged(values, short, is_noisy=plain.startswith(_NOISY_ROLES))
        found[role] = short
    return found


def _most_bridged(sample_rate_hz: float) -> int:
    return max(_BRIDGED_SAMPLES, int(_BRIDGED_S * sample_rate_hz + 1e-6))


def _held(values: FloatArray, short: BoolArray) -> FloatArray:
    """The value before each short gap, held across it."""
    last = np.maximum.accumulate(np.where(np.isfinite(values), np.arange(values.size), 0))
    return np.where(short, values[last], values)


def _lost_at(periods: FloatArray, candidates: IntArray) -> FloatArray:
    """Rows lost at each candidate among the steps [periods], in order: how far the stamps after it are behind those before.

    A late stamp is made up for by the next one; lost rows move all the stamps that follow. What was found just before a
    candidate is taken out.
    """
    lag = np.concatenate(([0.0], np.cumsum(periods - 1)))
    found = np.zeros(candidates.size)
    for n, k in enumerate(candidates.tolist()):
        before, after = lag[max(0, k + 1 - _AROUND) : k + 1].copy(), lag[k + 1 : k + 1 + _AROUND]
        for m in range(n - 1, -1, -1):
            place = int(candidates[m])
            if place <= k - _AROUND:
                break
            before[: max(0, before.size - (k - place))] += found[m]
        found[n] = max(0.0, float(np.rint(np.median(after) - np.median(before))))
    return found


def _grid_index(t_s: FloatArray, clock: Clock) -> IntArray:
    """Grid position of every sample: one step per sample, more across gaps."""
    periods = np.diff(t_s) * clock.sample_rate_hz
    steps: IntArray = np.ones(periods.size, np.int64)
    is_jittery = clock.jitter_ratio > _JITTERY
    long = np.flatnonzero(periods > (_PERHAPS_PERIODS if is_jittery else _GAP_PERIODS))
    if long.size and is_jittery:
        near = long[periods[long] < 2 * _AROUND]
        periods[near] = 1 + _lost_at(periods, near)
    steps[long] = np.maximum(1, np.rint(periods[long])).astype(np.int64)
    return np.concatenate((np.zeros(1, np.int64), np.cumsum(steps)))
