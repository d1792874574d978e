"""What is wrong with a log, before anyone trusts a number from it. Limits are starting values, no source."""

from dataclasses import replace
from functools import partial

import numpy as np

from nembrit.core.records.log import Channel, FlightLog, QualityNote, Stream
from nembrit.core.records.relations import held, likeness, middle_rows
from nembrit.core.records.timebase import clock_notes, clock_of
from nembrit.core.together import together
from nembrit.core.types import AXES, BoolArray, FloatArray, IntArray

_SHARE_ROLES = ("throttle", "motor.", "stick.", "term_", "command.")
_FAST_ROLES = ("gyro", "setpoint.", "motor.", "accel.")  # what is sampled evenly; positions come when they come
_MOVING_ROLES = ("gyro", "gyro_raw", "accel", "motor_rpm")
_STUCK_S = 0.25
_CLIPPED_RUN = 4  # samples in a row at the same extreme
_JITTER_RATIO = 0.2


def quality_notes(log: FlightLog) -> tuple[QualityNote, ...]:
    """Everything about a log that a tuner should know: the reader's notes, the clocks, every channel."""
    notes = list(log.quality)
    for stream in log.streams:
        clock = clock_of(stream.t_s)
        moves = any(channel.role and channel.role.removeprefix("b/").startswith(_FAST_ROLES) for channel in stream.channels)
        notes += [note for note in clock_notes(clock) if moves or note.code == "gap"]
        if moves and clock.jitter_ratio > _JITTER_RATIO:
            detail = f"times between samples vary by {clock.jitter_ratio:.0%}: an overloaded recorder, or missing rows"
            notes.append(QualityNote(code="jitter", severity="warning", detail=detail))
        measured = [channel for channel in stream.channels if channel.labels is None]
        for found in together(partial(_channel_notes, stream=stream, rate_hz=clock.sample_rate_hz), measured):
            notes += found
        notes += _axis_notes(stream, clock.sample_rate_hz)
    return tuple(notes)


@np.errstate(over="ignore", invalid="ignore")  # numbers beyond all reason are kept, and noted
def _channel_notes(channel: Channel, stream: Stream, rate_hz: float) -> list[QualityNote]:
    samples = channel.samples
    n_missing = int(np.count_nonzero(np.isnan(samples))) if samples.dtype.kind == "f" else 0
    notes = []
    if n_missing:
        notes.append(_note("missing", channel, f"{n_missing} samples missing ({n_missing / samples.size:.1%})", "warning"))
    if n_missing == samples.size:
        return notes
    ends = replace(channel, samples=np.array([np.fmin.reduce(samples), np.fmax.reduce(samples)])).values()
    low, high = float(ends.min()), float(ends.max())
    if low == high:
        moves = channel.role is not None and channel.role.split(".")[0] in _MOVING_ROLES
        notes.append(_note("constant", channel, f"never changes from {low:g}", "fault" if moves else "info"))
        return notes
    if channel.role is None:
        return notes
    family = channel.role.removeprefix("b/").split(".")[0]
    if channel.role.removeprefix("b/").startswith(_SHARE_ROLES) and max(abs(low), abs(high)) > 2.5:
        detail = f"reaches {max(abs(low), abs(high)):g}, although 1 is the full range: wrong scale?"
        notes.append(_note("scale", channel, detail, "fault"))
    if family in ("gyro", "gyro_raw") and max(abs(low), abs(high)) > 4500:
        detail = f"reaches {max(abs(low), abs(high)):.0f} deg/s, faster than any craft turns: wrong scale?"
        notes.append(_note("scale", channel, detail, "fault"))
    if family in _MOVING_ROLES:
        notes += _stuck(channel, stream, rate_hz)
        notes += _clipped(channel)
        notes += _coarse(channel, family)
    return notes


def _stuck(channel: Channel, stream: Stream, rate_hz: float) -> list[QualityNote]:
    """A moving quantity that stands still to the last digit."""
    least = max(8, round(_STUCK_S * rate_hz))
    starts, ends = _runs(channel.samples[1:] == channel.samples[:-1])
    starts, ends = starts[ends - starts >= least], ends[ends - starts >= least]
    moved = replace(channel, samples=channel.samples[starts]).values() != 0  # standing at nought on the ground is no fault
    long = list(zip(starts[moved].tolist(), ends[moved].tolist(), strict=True))
    if not long:
        return []
    total_s = sum(b - a for a, b in long) / rate_hz
    first_s, last_s = float(stream.t_s[long[0][0]]), float(stream.t_s[min(long[0][1], stream.n_samples - 1)])
    detail = f"stands still for {total_s:.2g} s in total, first at {first_s:.2f} s: lost samples or a stuck sensor"
    return [QualityNote(code="stuck", severity="warning", column=channel.name, detail=detail, start_s=first_s, end_s=last_s)]


def _runs(is_so: BoolArray) -> tuple[IntArray, IntArray]:
    """First and one past last position of every run of true values."""
    edges = np.flatnonzero(is_so[1:] != is_so[:-1]) + 1
    first, last = ([0] if is_so[0] else []), ([is_so.size] if is_so[-1] else [])
    edges = np.concatenate((first, edges, last)).astype(np.int64)
    return edges[::2], edges[1::2]


def _clipped(channel: Channel) -> list[QualityNote]:
    """Runs of samples at the very highest or lowest value."""
    edges = np.array([np.fmin.reduce(channel.samples), np.fmax.reduce(channel.samples)])
    low, high = replace(channel, samples=edges).values().tolist()
    n_runs = 0
    for edge, value in zip(edges, (low, high), strict=True):
        starts, ends = _runs(channel.samples == edge)
        n_runs += int(np.count_nonzero(ends - starts >= _CLIPPED_RUN)) if value else 0
    if n_runs < 2:
        return []
    low, high = sorted((low, high))
    return [_note("clipped", channel, f"cut off at {low:g} or {high:g} in {n_runs} places: beyond the sensor's range", "warning")]


def _coarse(channel: Channel, family: str) -> list[QualityNote]:
    """A step between neighbouring values that is large against the movement from sample to sample."""
    if channel.samples.dtype.kind != "i" or family == "motor_rpm":
        return []
    excerpted = channel.samples[:200_000]
    steps = np.unique(np.abs(np.diff(excerpted.astype(np.int64))))
    steps = steps[steps > 0]
    if steps.size == 0:
        return []
    step = float(np.gcd.reduce(steps)) / channel.divisor * abs(channel.factor)
    spread = float(np.std(np.diff(replace(channel, samples=excerpted).values())))
    if step > 2.5 * spread:
        return [
            _note("coarse", channel, f"recorded in steps of {step:.3g} {channel.unit}: fine noise cannot be measured", "warning")
        ]
    return []


@np.errstate(over="ignore", invalid="ignore")
def _axis_notes(stream: Stream, rate_hz: float) -> list[QualityNote]:
    """Swapped and mirrored axes: the gyro should follow the set-point of its own axis, the same way round."""
    setpoints = {axis: channel for axis in AXES if (channel := stream.find(f"setpoint.{axis}"))}
    gyros = {axis: channel for axis in AXES if (channel := stream.find(f"gyro.{axis}") or stream.find(f"gyro_raw.{axis}"))}
    if rate_hz < 20:
        return []
    wanted = {axis: _middle(channel) for axis, channel in setpoints.items()}
    notes = []
    for axis, gyro in gyros.items():
        turned = _middle(gyro)
        pairs = {other: likeness(wanted[other], turned, rate_hz=rate_hz) for other in wanted}
        own = pairs.get(axis)
        if own is None:
            continue
        if own.correlation < -0.6:
            notes.append(_note("mirrored", gyro, f"moves against its set-point: {axis} is mirrored", "fault"))
        rival = max((other for other in pairs if other != axis), key=lambda other: abs(pairs[other].correlation), default=None)
        if rival and abs(pairs[rival].correlation) > 0.7 and abs(own.correlation) < 0.4:
            notes.append(_note("swapped", gyro, f"follows the set-point of {rival}, not of {axis}: axes swapped?", "fault"))
    return notes


def _middle(channel: Channel) -> FloatArray:
    first, last = middle_rows(channel.samples.size)
    return held(replace(channel, samples=channel.samples[first:last]).values())


def _note(code: str, channel: Channel, detail: str, severity: str) -> QualityNote:
    return QualityNote(code=code, severity=severity, column=channel.name, detail=detail)
