"""Finds the manoeuvres of a card in a log, from set-point and throttle alone.

Starting values of a prototype, no source; how often they are right stands in `docs/accuracy.md`.
"""

import itertools

import numpy as np
import scipy.ndimage

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.phases import phases_of
from nembrit.core.manoeuvres.spans import Span, runs
from nembrit.core.records.log import Recording
from nembrit.core.types import AXES, BoolArray, FloatArray

_CALM_DPS = 40.0
_LEAST_RATE_HZ = 5.0  # a slower log shows no manoeuvre
_LIVELY_DPS = 45.0


def manoeuvres(recording: Recording) -> tuple[Span, ...]:
    """All manoeuvres of a recording in order of time, with ground, take-off and touch-down.

    Kinds: ground, take_off, hover, cruise, punch, chop, snap_stop, doublet, sweep, wash_descent, turn,
    full_throttle, zero_throttle, touch_down. Spans may overlap: a punch begins a stretch of full throttle.
    """
    phases = phases_of(recording)
    if recording.sample_rate_hz < _LEAST_RATE_HZ:
        return phases.spans
    found = list(phases.spans)
    inside = _inside(recording, phases.flights_s)
    stops = [span for axis in AXES for span in snap_stops(recording, axis)]
    pulses = [span for axis in AXES for span in doublets(recording, axis)]
    found += stops + pulses
    found += throttle_jumps(recording, inside)
    found += [*held_throttle(recording, inside), *sweeps(recording, inside), *wash_descents(recording), *turns(recording)]
    found += _hovers_and_cruises(recording, inside, found)
    return tuple(sorted(found, key=lambda span: (span.start_s, span.end_s, span.kind)))


def _inside(recording: Recording, windows_s: tuple[tuple[float, float], ...]) -> BoolArray:
    inside = np.zeros(recording.n_samples, dtype=bool)
    for start_s, end_s in windows_s:
        first, last = (round((edge - recording.start_s) * recording.sample_rate_hz) for edge in (start_s, end_s))
        inside[max(0, first) : max(0, last)] = True
    return inside


def _span(recording: Recording, kind: str, start: int, end: int, axis: str | None = None) -> Span:
    rate_hz = recording.sample_rate_hz
    return Span(kind=kind, axis=axis, start_s=recording.start_s + start / rate_hz, end_s=recording.start_s + end / rate_hz)


def _setpoint(recording: Recording, axis: str) -> FloatArray:
    return filled(recording.channels[f"setpoint.{axis}"])


def snap_stops(recording: Recording, axis: str, *, least_dps: float = 160.0) -> tuple[Span, ...]:
    """Stops after a fast rate was held: |set-point| above half its maximum for over 0.25 s, then below 15 %
    of that rate within 0.25 s. The span runs from the last fast sample to 0.5 s later.

    A reversal is no stop: the rate must stay low for 0.25 s; nor is weaving about, where other axes move too.
    """
    if not recording.has(f"setpoint.{axis}"):
        return ()
    setpoint_dps = _setpoint(recording, axis)
    rate_hz = recording.sample_rate_hz
    top_dps = float(np.abs(setpoint_dps).max(initial=0.0))
    if top_dps < least_dps:
        return ()
    found = []
    for start, end in runs(np.abs(setpoint_dps) > top_dps / 2, least=max(1, round(0.25 * rate_hz))):
        held_dps = float(np.abs(setpoint_dps[start:end]).max())
        flat = np.abs(setpoint_dps[start:end]) > 0.85 * held_dps  # a stick held, not one that passes by
        if flat.sum() < 0.2 * rate_hz:
            continue
        slow = np.abs(setpoint_dps[end : end + round(0.25 * rate_hz)]) < 0.15 * held_dps
        if not slow.any() or end + 0.5 * rate_hz > setpoint_dps.size:
            continue
        rest = np.abs(setpoint_dps[end + int(slow.argmax()) :][: max(1, round(0.25 * rate_hz))])
        if rest.max(initial=0.0) < 0.2 * held_dps and _others_rest(recording, axis, start, end + rest.size, 0.4 * held_dps):
            found.append(_span(recording, "snap_stop", end, end + round(0.5 * rate_hz), axis))
    return tuple(found)


def doublets(recording: Recording, axis: str, *, least_dps: float = 60.0) -> tuple[Span, ...]:
    """Two opposite pulses of 0.12 to 0.36 s of like size, from rest to rest, the other axes at rest."""
    if not recording.has(f"setpoint.{axis}"):
        return ()
    setpoint_dps = _setpoint(recording, axis)
    rate_hz = recording.sample_rate_hz
    top_dps = float(np.abs(setpoint_dps).max(initial=0.0))
    level = max(least_dps / 2, 0.12 * top_dps)
    least, most = round(0.1 * rate_hz), round(0.42 * rate_hz)
    rest = round(0.12 * rate_hz)
    found: list[Span] = []
    pulses = [(a, b, float(np.sign(setpoint_dps[(a + b) // 2]))) for a, b in runs(np.abs(setpoint_dps) > level)]
    pulses = [pulse for part in pulses for pulse in _parted(setpoint_dps, *part[:2])]
    for (a, b, way), (c, d, back) in itertools.pairwise(pulses):
        if way == back or c - b > 0.12 * rate_hz or not (least <= b - a <= most and least <= d - c <= most):
            continue
        first, second = float(np.abs(setpoint_dps[a:b]).max()), float(np.abs(setpoint_dps[c:d]).max())
        if min(first, second) < max(least_dps, 0.6 * max(first, second)):
            continue
        before, after = setpoint_dps[max(0, a - rest) : a], setpoint_dps[d : d + rest]
        quiet = 0.35 * max(first, second)
        settled = np.abs(np.concatenate((before[: rest // 2], after[rest // 2 :]))).max(initial=0.0)
        if settled < quiet and _others_rest(recording, axis, a, d, 0.35 * max(first, second)):
            found.append(_span(recording, "doublet", a, d, axis))
    return tuple(found)


def _parted(values: FloatArray, start: int, end: int) -> list[tuple[int, int, float]]:
    """Parts of one sign inside a run."""
    signs = np.sign(values[start:end])
    edges = [0, *(np.flatnonzero(np.diff(signs)) + 1).tolist(), end - start]
    return [(start + a, start + b, float(signs[a])) for a, b in itertools.pairwise(edges)]


def _others_rest(recording: Recording, axis: str, start: int, end: int, most_dps: float) -> bool:
    others = [recording.channels[f"setpoint.{other}"] for other in AXES if other != axis and recording.has(f"setpoint.{other}")]
    return all(float(np.fmax.reduce(np.abs(values[start:end]), initial=0.0)) < most_dps for values in others)


def throttle_jumps(recording: Recording, inside: BoolArray) -> list[Span]:
    """Punches (rise > 0.36 within 0.3 s to > 0.7) and chops, their mirror; 1 s each from where it begins."""
    if not recording.has("throttle"):
        return []
    throttle = filled(recording.channels["throttle"])
    rate_hz = recording.sample_rate_hz
    width = max(1, round(0.3 * rate_hz))
    if throttle.size <= width:
        return []
    change = np.zeros(throttle.size)
    change[:-width] = throttle[width:] - throttle[:-width]
    later = np.concatenate((throttle[width:], np.full(width, throttle[-1])))
    found = []
    for kind, flags in (
        ("punch", (change > 0.36) & (later > 0.7) & inside),
        ("chop", (change < -0.36) & (throttle > 0.7) & inside),
    ):
        for start, _ in runs(flags, bridge=round(0.2 * rate_hz)):
            found.append(_span(recording, kind, start, min(throttle.size, start + round(1.0 * rate_hz))))
    return found


def held_throttle(recording: Recording, inside: BoolArray) -> list[Span]:
    """Full throttle (above 0.9 for over 1.2 s) and floats at zero throttle (below 0.05 for 0.3 to 3.5 s in flight)."""
    if not recording.has("throttle"):
        return []
    throttle = filled(recording.channels["throttle"])
    rate_hz = recording.sample_rate_hz
    full = runs(throttle > 0.9, least=round(1.2 * rate_hz), bridge=round(0.05 * rate_hz))
    zero = [
        (a, b)
        for a, b in runs(throttle < 0.05, least=round(0.3 * rate_hz))
        if b - a <= 3.5 * rate_hz and inside[a] and inside[min(b, inside.size - 1)]
    ]
    return [
        *(_span(recording, "full_throttle", a, b) for a, b in full),
        *(_span(recording, "zero_throttle", a, b) for a, b in zero),
    ]


def sweeps(recording: Recording, inside: BoolArray) -> list[Span]:
    """Throttle raised steadily by more than 0.25 over more than 3 s."""
    if not recording.has("throttle"):
        return []
    rate_hz = recording.sample_rate_hz
    throttle = filled(recording.channels["throttle"])
    smooth = scipy.ndimage.uniform_filter1d(throttle, max(1, round(1.0 * rate_hz)))
    slope = np.gradient(smooth) * rate_hz if smooth.size > 2 else np.zeros(smooth.size)
    found = []
    for start, end in runs((slope > 0.012) & (slope < 0.35) & inside, least=round(3.0 * rate_hz), bridge=round(0.25 * rate_hz)):
        rise = smooth[end - 1] - smooth[start]
        straight = np.abs(smooth[start:end] - np.linspace(smooth[start], smooth[end - 1], end - start)).max()
        if rise > 0.25 and straight < 0.2 * rise:
            found.append(_span(recording, "sweep", start, end))
    return found


def turns(recording: Recording) -> list[Span]:
    """Fast turns: roll and yaw held the same way for over 0.6 s, pitch pulled; sides in a row are one manoeuvre."""
    if not recording.has("setpoint.roll", "setpoint.yaw"):
        return []
    roll, yaw = _setpoint(recording, "roll"), _setpoint(recording, "yaw")
    rate_hz = recording.sample_rate_hz
    held = (np.abs(roll) > 60) & (np.abs(yaw) > 40) & (np.sign(roll) == np.sign(yaw))
    sides = runs(held, least=round(0.6 * rate_hz), bridge=round(0.04 * rate_hz))
    joined: list[tuple[int, int]] = []
    for start, end in sides:
        if joined and start - joined[-1][1] < 0.5 * rate_hz:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return [_span(recording, "turn", a, b) for a, b in joined if b - a > 1.0 * rate_hz]


def wash_descents(recording: Recording) -> tuple[Span, ...]:
    """Throttle 0.30 to 0.78 of hover and flat (thirds within 10 %) for over 1.2 s, with small sticks."""
    if not recording.has("throttle"):
        return ()
    throttle = filled(recording.channels["throttle"])
    hover = hover_throttle(throttle)
    calm = _calm(recording, _CALM_DPS)
    rate_hz = recording.sample_rate_hz
    found = []
    for start, end in runs((throttle > 0.30 * hover) & (throttle < 0.78 * hover) & calm, least=max(1, round(1.2 * rate_hz))):
        thirds = [float(part.mean()) for part in np.array_split(throttle[start:end], 3)]
        if max(thirds) - min(thirds) <= 0.1 * max(thirds):
            found.append(_span(recording, "wash_descent", start, end))
    return tuple(found)


def _calm(recording: Recording, most_dps: float) -> BoolArray:
    calm = np.ones(recording.n_samples, dtype=bool)
    for axis in AXES:
        if recording.has(f"setpoint.{axis}"):
            calm &= np.abs(_setpoint(recording, axis)) < most_dps
    return calm


def _hovers_and_cruises(recording: Recording, inside: BoolArray, found: list[Span]) -> list[Span]:
    """What is left of a flight: hovers (throttle near its mode, sticks at rest) and cruises (lively sticks)."""
    if not recording.has("throttle") or not any(recording.has(f"setpoint.{axis}") for axis in AXES):
        return []
    rate_hz = recording.sample_rate_hz
    throttle = filled(recording.channels["throttle"])
    hover = hover_throttle(throttle)
    free = inside.copy()
    for span in found:
        first, last = (round((edge - recording.start_s) * rate_hz) for edge in (span.start_s, span.end_s))
        free[max(0, first) : max(0, last)] = False
    near = np.abs(throttle - hover) < 0.14 * hover
    still = runs(free & near & _calm(recording, 30.0), least=round(1.5 * rate_hz), bridge=round(0.1 * rate_hz))
    hovers = [_span(recording, "hover", a, b) for a, b in still]
    for a, b in still:
        free[a:b] = False
    busy = np.zeros(recording.n_samples)
    for axis in AXES:
        if recording.has(f"setpoint.{axis}"):
            busy = np.maximum(busy, np.abs(_setpoint(recording, axis)))
    lively = scipy.ndimage.uniform_filter1d((busy > _LIVELY_DPS).astype(float), max(1, round(1.0 * rate_hz))) > 0.35
    moving = runs(free & lively, least=round(1.5 * rate_hz), bridge=round(0.5 * rate_hz))
    return hovers + [_span(recording, "cruise", a, b) for a, b in moving]


def hover_throttle(throttle: FloatArray) -> float:
    """The throttle flown most: the mode of its histogram in steps of 2 %, ground left out."""
    flying = throttle[throttle > 0.1]
    if flying.size == 0:
        return 0.0
    counts, edges = np.histogram(flying, bins=np.linspace(0.1, 1.0, 46))
    at = int(counts.argmax())
    return float((edges[at] + edges[at + 1]) / 2)
