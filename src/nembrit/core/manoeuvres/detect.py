"""Finds snap stops and descents through the own wash, from set-point and throttle alone.

Starting values of a prototype, no source (`docs/methods.md`, section 6).
"""

from dataclasses import dataclass

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, BoolArray, FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """One manoeuvre in a log [s]; `axis` where it has one."""

    kind: str
    start_s: float
    end_s: float
    axis: str | None = None


def snap_stops(recording: Recording, axis: str, *, least_dps: float = 120.0) -> tuple[Span, ...]:
    """Stops after a fast rate was held: |set-point| above half its maximum for over 0.25 s, then below 15 %
    of that rate within 0.25 s. The span runs from the last fast sample to 0.5 s later."""
    if not recording.has(f"setpoint.{axis}"):
        return ()
    setpoint_dps = np.nan_to_num(recording.channels[f"setpoint.{axis}"])
    rate_hz = recording.sample_rate_hz
    top_dps = float(np.abs(setpoint_dps).max(initial=0.0))
    if top_dps < least_dps:
        return ()
    found = []
    for start, end in _runs(np.abs(setpoint_dps) > top_dps / 2):
        if end - start < 0.25 * rate_hz:
            continue
        held_dps = float(np.abs(setpoint_dps[start:end]).max())
        after = np.abs(setpoint_dps[end : end + round(0.25 * rate_hz)])
        if after.size and after.min() < 0.15 * held_dps and end + 0.5 * rate_hz <= setpoint_dps.size:
            start_s = recording.start_s + end / rate_hz
            found.append(Span(kind="snap_stop", axis=axis, start_s=start_s, end_s=start_s + 0.5))
    return tuple(found)


def wash_descents(recording: Recording) -> tuple[Span, ...]:
    """Throttle 0.30 to 0.78 of hover and flat (thirds within 10 %) for over 1.2 s, with small sticks."""
    if not recording.has("throttle"):
        return ()
    throttle = np.nan_to_num(recording.channels["throttle"])
    hover = hover_throttle(throttle)
    calm = np.ones(throttle.size, dtype=bool)
    for axis in AXES:
        if recording.has(f"setpoint.{axis}"):
            calm &= np.abs(np.nan_to_num(recording.channels[f"setpoint.{axis}"])) < 40.0
    rate_hz = recording.sample_rate_hz
    found = []
    for start, end in _runs((throttle > 0.30 * hover) & (throttle < 0.78 * hover) & calm):
        if end - start < 1.2 * rate_hz:
            continue
        thirds = [float(part.mean()) for part in np.array_split(throttle[start:end], 3)]
        if max(thirds) - min(thirds) <= 0.1 * max(thirds):
            found.append(
                Span(
                    kind="wash_descent",
                    start_s=recording.start_s + start / rate_hz,
                    end_s=recording.start_s + end / rate_hz,
                )
            )
    return tuple(found)


def hover_throttle(throttle: FloatArray) -> float:
    """The throttle flown most: the mode of its histogram in steps of 2 %, ground left out."""
    flying = throttle[throttle > 0.1]
    if flying.size == 0:
        return 0.0
    counts, edges = np.histogram(flying, bins=np.linspace(0.1, 1.0, 46))
    at = int(counts.argmax())
    return float((edges[at] + edges[at + 1]) / 2)


def _runs(flags: BoolArray) -> list[tuple[int, int]]:
    """Start and end (one past) of every run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])).astype(np.int8)))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
