"""Ground, take-off, flight and touch-down; the usable window leaves out all but the flight.

Limits are starting values of a prototype, no source (`docs/methods.md`).
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy.ndimage

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span, runs
from nembrit.core.records.log import QualityNote, Recording
from nembrit.core.types import BoolArray, FloatArray

_FLYING_THROTTLE = 0.12
_SETTLE_S = 1.5
_LANDING_S = 1.0
_LEAST_FLIGHT_S = 2.0
_FLOAT_S = 3.5  # a longer stretch without power is a landing, a shorter one a float in the air
_BOUNCE_S = 0.8  # a burst of power shorter than this after the power was off is a bounce
_BOUNCE_PAUSE_S = 0.25
_MOVES_S, _STANDS_S, _GROUND_S = 3.0, 8.0, 4.0  # of a plane
_SLOW_SHARE, _LEAST_M_S, _OFTEN = 0.35, 4.0, 0.02
_HARD_M_S2 = 22.0  # a jolt beyond the usual that a touch-down gives


@dataclass(frozen=True, slots=True, kw_only=True)
class Phases:
    """What the craft was doing: flights with the part of each that analyses may use."""

    spans: tuple[Span, ...]  # ground, take_off and touch_down, in order
    flights_s: tuple[tuple[float, float], ...]  # first to last powered moment of every flight
    windows_s: tuple[tuple[float, float], ...]  # the usable part of each
    rests_on: str  # the channel that told, in words
    doubt: str = ""  # why the window should be looked at


def phases_of(recording: Recording) -> Phases:
    """Part a recording into ground, take-off, flight and touch-down.

    Works from the throttle, else from the motors' mean, else from how much the gyro shakes. Where throttle and motors
    contradict each other (the one leaves less than a third of the other), the motors count, and the window is doubted. A float
    at zero throttle stays inside a flight; bounces after the touch-down do not. Without any of these channels the whole
    recording counts as flight. A plane glides without power: its flights are told by how fast it moves.
    """
    if (moving := _moving(recording)) is not None:
        return _gliding(recording, moving)
    by_throttle = _throttle(recording)
    by_motors = _motors(recording)
    found = _phases(recording, by_throttle or by_motors or _shaking(recording))
    if by_throttle is None or by_motors is None:
        return found
    other = _phases(recording, by_motors)
    used_s, powered_s = (max(end - start for start, end in one.windows_s) for one in (found, other))
    if used_s >= powered_s / 3:
        return found
    doubt = (
        f"The throttle column shows only {used_s:.3g} s of flight, the motors show {powered_s:.3g} s. The motors are used. "
        "Check the meaning of the throttle column"
    )
    return replace(other, doubt=doubt)


def _phases(recording: Recording, told: tuple[FloatArray, str] | None) -> Phases:
    power, rests_on = told if told is not None else (None, "ground and flight could not be separated; the whole log counts")
    begin_s, end_s = recording.start_s, recording.start_s + recording.duration_s
    if power is None:
        return Phases(spans=(), flights_s=((begin_s, end_s),), windows_s=((begin_s, end_s),), rests_on=rests_on)
    rate_hz = recording.sample_rate_hz
    powered = runs(power > _FLYING_THROTTLE, least=max(1, round(0.05 * rate_hz)))
    flights = _flights(powered, rate_hz)
    if not flights:
        return Phases(
            spans=(), flights_s=((begin_s, end_s),), windows_s=((begin_s, end_s),), rests_on="the throttle was never raised"
        )
    spans: list[Span] = []
    windows_s, flights_s = [], []
    ground_s = begin_s
    for start, end in flights:
        start_s, last_s = begin_s + start / rate_hz, begin_s + end / rate_hz
        touch_s = _touch_s(recording, start, end)
        window_s = (start_s + _SETTLE_S, min(last_s - _LANDING_S, touch_s))
        if start_s > ground_s:
            spans.append(Span(kind="ground", start_s=ground_s, end_s=start_s))
        if window_s[1] - window_s[0] < _LEAST_FLIGHT_S:
            window_s = (start_s, last_s)
        else:
            spans.append(Span(kind="take_off", start_s=start_s, end_s=window_s[0]))
            spans.append(Span(kind="touch_down", start_s=window_s[1], end_s=min(end_s, last_s + 0.2)))
        ground_s = spans[-1].end_s if spans and spans[-1].kind == "touch_down" else last_s
        windows_s.append(window_s)
        flights_s.append((start_s, last_s))
    if end_s - ground_s > 0.05:
        spans.append(Span(kind="ground", start_s=ground_s, end_s=end_s))
    return Phases(spans=tuple(spans), flights_s=tuple(flights_s), windows_s=tuple(windows_s), rests_on=rests_on)


def _gliding(recording: Recording, moving: BoolArray) -> Phases:
    """A plane's flights: from a little before it moves to where it lies still, so that the ground itself is seen, too."""
    rate_hz = recording.sample_rate_hz
    begin_s, end_s = recording.start_s, recording.start_s + recording.duration_s
    flights: list[list[int]] = []
    for start, end in runs(moving, least=max(1, round(_MOVES_S * rate_hz))):
        if flights and start - flights[-1][1] < _STANDS_S * rate_hz:
            flights[-1][1] = end
        else:
            flights.append([start, end])
    if not flights:
        return Phases(
            spans=(), flights_s=((begin_s, end_s),), windows_s=((begin_s, end_s),), rests_on="it never moved as in flight"
        )
    flights_s = tuple((begin_s + start / rate_hz, begin_s + end / rate_hz) for start, end in flights)
    windows_s = tuple((max(begin_s, start - _GROUND_S), min(end_s, end + _GROUND_S)) for start, end in flights_s)
    spans, ground_s = [], begin_s
    for start_s, last_s in flights_s:
        if start_s - ground_s > 0.05:
            spans.append(Span(kind="ground", start_s=ground_s, end_s=start_s))
        ground_s = last_s
    if end_s - ground_s > 0.05:
        spans.append(Span(kind="ground", start_s=ground_s, end_s=end_s))
    return Phases(spans=tuple(spans), flights_s=flights_s, windows_s=windows_s, rests_on="how fast the plane moves")


def window_notes(recording: Recording) -> tuple[QualityNote, ...]:
    """What makes the usable window doubtful."""
    doubt = phases_of(recording).doubt
    return (QualityNote(code="window_doubt", severity="warning", detail=doubt),) if doubt else ()


def usable_window_s(recording: Recording) -> tuple[float, float]:
    """Start and end [s] of the longest flight's usable part; the whole recording where nothing can be told."""
    windows_s = phases_of(recording).windows_s
    longest = max(windows_s, key=lambda window_s: window_s[1] - window_s[0])
    if longest[1] - longest[0] < _LEAST_FLIGHT_S:
        return recording.start_s, recording.start_s + recording.duration_s
    return longest


def _moving(recording: Recording) -> BoolArray | None:
    """Where a plane moves as in flight, by airspeed, else over ground; None for what is no plane's log, or says no speed."""
    roles = recording.channels
    if not any(role.startswith("servo.") for role in roles) or "motor.2" in roles:
        return None
    speed = next((own for role in ("airspeed", "ground_speed") if (own := roles.get(role)) is not None), None)
    if speed is None or np.isfinite(speed).mean() < _OFTEN:
        return None
    usual = float(np.nanpercentile(speed, 80))
    if usual < _LEAST_M_S:
        return None
    known = np.flatnonzero(np.isfinite(speed))
    slow = np.interp(np.arange(speed.size), known, speed[known])
    width = max(1, round(recording.sample_rate_hz))
    return np.asarray(scipy.ndimage.uniform_filter1d(slow, width) > _SLOW_SHARE * usual)


# measures of power, 0 on the ground and above 0.12 in flight, with the channel that they come from; None without it


def _throttle(recording: Recording) -> tuple[FloatArray, str] | None:
    throttle = recording.channels.get("throttle")
    return None if throttle is None else (filled(throttle), "throttle")


def _motors(recording: Recording) -> tuple[FloatArray, str] | None:
    motors = [values for role, values in recording.channels.items() if role.startswith("motor.")]
    if not motors:
        return None
    mean = filled(np.mean(motors, axis=0))
    idle = float(np.percentile(mean, 1)) if mean.size else 0.0
    return np.maximum(mean - min(idle, 0.1), 0.0) * 1.2, "motor outputs"


def _shaking(recording: Recording) -> tuple[FloatArray, str] | None:
    gyros = [values for role, values in recording.channels.items() if role.startswith(("gyro.", "gyro_raw."))]
    if gyros and recording.sample_rate_hz >= 20:
        width = max(3, round(0.5 * recording.sample_rate_hz))
        squares = filled(np.sum(np.square(np.diff(gyros, axis=1, append=0.0)), axis=0))
        shaking = np.sqrt(scipy.ndimage.uniform_filter1d(squares, width))
        floor, usual = np.percentile(shaking, (2, 60))
        if usual > 4 * max(floor, 1e-9):
            return np.asarray((shaking - floor) / max(usual - floor, 1e-9) * 0.4), "how much the gyro shakes"
    return None


def _flights(powered: list[tuple[int, int]], rate_hz: float) -> list[tuple[int, int]]:
    """Join powered runs into flights; bursts after the power was off are bounces and do not count."""
    joined: list[list[tuple[int, int]]] = []
    for run in powered:
        if joined and run[0] - joined[-1][-1][1] < _FLOAT_S * rate_hz:
            joined[-1].append(run)
        else:
            joined.append([run])
    flights = []
    for parts in joined:
        while (
            len(parts) > 1
            and parts[-1][1] - parts[-1][0] < _BOUNCE_S * rate_hz
            and parts[-1][0] - parts[-2][1] > _BOUNCE_PAUSE_S * rate_hz
        ):
            parts.pop()
        if parts[-1][1] - parts[0][0] >= _BOUNCE_S * rate_hz:
            flights.append((parts[0][0], parts[-1][1]))
    return flights


def _touch_s(recording: Recording, start: int, end: int) -> float:
    """First jolt of the accelerometer in the last four seconds [s], where the craft was coming down; else infinity."""
    axes = [recording.channels[role] for role in ("accel.x", "accel.y", "accel.z") if role in recording.channels]
    rate_hz = recording.sample_rate_hz
    first = max(start, end - round(4 * rate_hz))
    if len(axes) < 3 or end - first < rate_hz:
        return float("inf")
    force = np.nan_to_num(np.sqrt(np.sum(np.square(axes), axis=0)), nan=9.8)
    usual = float(np.percentile(force[start:end], 99.5))
    # only a jolt far beyond what the flight itself had, and near the end, is the ground
    hard = np.flatnonzero(force[first:end] > max(1.6 * usual, 9.8 + _HARD_M_S2))
    return recording.start_s + (first + int(hard[0])) / rate_hz - 0.1 if hard.size else float("inf")
