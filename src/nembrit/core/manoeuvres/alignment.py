"""Lines up two logs of one flight, and two flights of one card manoeuvre by manoeuvre."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.interpolate
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray

_BAND_HZ = (0.3, 25.0)
_COARSE_HZ = 100.0
_WINDOW_S = 6.0
_LEAST_S = 10.0
_FINE_LOW_HZ = 1.0  # slower movement tells little of time, and rings longest from the ends
_EDGE_S = 1.5  # where the band-pass still swings from its start
_SHARED = (
    "throttle",
    "stick.",
    "setpoint.",
    "gyro.",
    "gyro_raw.",
    "accel.",
    "altitude",
    "ground_speed",
    "battery_voltage",
    "motor.",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Alignment:
    """Times of the other log in the first one's clock: t = other × (1 + skew_ppm × 1e-6) + offset_s."""

    offset_s: float
    offset_interval_s: tuple[float, float]  # 95 %, at the middle of the overlap
    skew_ppm: float
    skew_interval_ppm: tuple[float, float]
    correlation: float  # of the shared channels, once aligned
    certainty_ratio: float  # lead of the best lag over the next best, 0 to 1
    roles: tuple[str, ...]
    n_windows: int

    def to_first(self, other_s: float) -> float:
        """A time of the other log in the first log's clock."""
        return other_s * (1 + self.skew_ppm * 1e-6) + self.offset_s


def align(first: Recording, other: Recording) -> Alignment:
    """Find offset and clock skew between two recordings of the same flight from the channels both hold.

    Coarse: FFT cross-correlation of the channels, band-passed to 0.3–25 Hz and summed, with a parabolic
    peak. Fine: Gauss–Newton shift in windows of 6 s, an energy-weighted line through them, outliers
    rejected. Raises NotEnoughData without a shared channel or with less than 10 s in common.

    Source: C. H. Knapp and G. C. Carter, IEEE Trans. ASSP 24 (1976) 320-327; fine step our own prototype.
    """
    roles = tuple(
        role
        for role in first.channels
        if role in other.channels
        and role.startswith(_SHARED)
        and np.nanstd(first.channels[role]) > 0
        and np.nanstd(other.channels[role]) > 0
    )
    plain = tuple(role for role in roles if role.startswith(("throttle", "stick.", "setpoint.")))
    roles = plain or roles  # what the pilot did is the same in every log; what sensors saw is not
    if not roles:
        raise NotEnoughData("the two logs share no moving channel: record throttle or sticks in both")
    if min(first.duration_s, other.duration_s) < _LEAST_S:
        raise NotEnoughData(
            f"alignment needs {_LEAST_S:.0f} s in both logs, the shorter one has {min(first.duration_s, other.duration_s):.1f} s"
        )
    lag_s, certainty = _coarse(first, other, roles)
    return _fine(first, other, roles, lag_s, certainty)


def _band(recording: Recording, role: str, top_hz: float, low_hz: float = _BAND_HZ[0]) -> FloatArray:
    """One channel within the band, gaps as nought, unit spread."""
    values = filled(recording.channels[role] - np.nanmedian(recording.channels[role]))
    sos = scipy.signal.butter(2, (low_hz, top_hz), btype="bandpass", fs=recording.sample_rate_hz, output="sos")
    passed = scipy.signal.sosfiltfilt(sos, values)
    return np.asarray(passed / max(float(np.std(passed)), 1e-12))


def _top_hz(first: Recording, other: Recording) -> float:
    return min(_BAND_HZ[1], 0.4 * min(first.sample_rate_hz, other.sample_rate_hz))


def _coarse(first: Recording, other: Recording, roles: tuple[str, ...]) -> tuple[float, float]:
    """Lag [s] to add to the other's times, and the lead of its peak over the next best."""
    top_hz = _top_hz(first, other)
    rate_hz = min(_COARSE_HZ, first.sample_rate_hz, other.sample_rate_hz)
    total = None
    for role in roles:
        a, b = (_at_rate(recording, _band(recording, role, top_hz), rate_hz) for recording in (first, other))
        found = scipy.signal.correlate(a, b, mode="full", method="fft")
        total = found if total is None else total + found
        n_b = b.size
    assert total is not None
    peak = int(total.argmax())
    around = round(1.0 * rate_hz)
    rest = np.concatenate((total[: max(0, peak - around)], total[peak + around :]))
    second = float(rest.max(initial=0.0))
    lead = 1 - max(second, 0.0) / float(total[peak]) if total[peak] > 0 else 0.0
    lag_samples = peak - (n_b - 1) + _parabolic(total, peak)
    return float(lag_samples / rate_hz + first.start_s - other.start_s), float(np.clip(lead, 0.0, 1.0))


def _at_rate(recording: Recording, values: FloatArray, rate_hz: float) -> FloatArray:
    """Values on a coarser clock by linear interpolation; they hold nothing above the band already."""
    t_s = np.arange(recording.n_samples) / recording.sample_rate_hz
    n = int(recording.duration_s * rate_hz)
    return np.interp(np.arange(n) / rate_hz, t_s, values)


def _parabolic(values: FloatArray, peak: int) -> float:
    """Place of the top of the parabola through a peak and its neighbours, in samples from the peak."""
    if not 0 < peak < values.size - 1:
        return 0.0
    left, middle, right = values[peak - 1 : peak + 2]
    bend = left - 2 * middle + right
    return float(0.5 * (left - right) / bend) if bend < 0 else 0.0


def _fine(first: Recording, other: Recording, roles: tuple[str, ...], lag_s: float, certainty: float) -> Alignment:
    top_hz = _top_hz(first, other)
    slow, fast = (first, other) if first.sample_rate_hz <= other.sample_rate_hz else (other, first)
    sign = 1.0 if slow is other else -1.0  # lag to add to the other's times
    t_slow = slow.start_s + np.arange(slow.n_samples) / slow.sample_rate_hz
    t_fast = fast.start_s + np.arange(fast.n_samples) / fast.sample_rate_hz
    every = max(1, int(slow.sample_rate_hz // 200))
    curves = []
    for role in roles:
        step = max(1, int(fast.sample_rate_hz // 500))
        curve = scipy.interpolate.make_interp_spline(t_fast[::step], _band(fast, role, top_hz, _FINE_LOW_HZ)[::step], k=3)
        curves.append((_band(slow, role, top_hz, _FINE_LOW_HZ)[::every], curve, curve.derivative()))
    t_slow = t_slow[::every]
    width = round(_WINDOW_S * slow.sample_rate_hz / every)
    places, shifts, weights, left, right, both = [], [], [], 0.0, 0.0, 0.0
    for start in range(0, max(1, t_slow.size - width // 2), width):
        at_s = t_slow[start : start + width]
        shift_s = sign * lag_s
        for _ in range(6):
            moved = at_s + shift_s
            inside = (moved > t_fast[0] + _EDGE_S) & (moved < t_fast[-1] - _EDGE_S)
            inside &= (at_s > t_slow[0] + _EDGE_S) & (at_s < t_slow[-1] - _EDGE_S)
            if inside.sum() < 0.5 * width:
                break
            slope_power = error = moment = 0.0
            for values, curve, slope_of in curves:
                slope = slope_of(moved[inside])
                difference = values[start : start + width][inside] - curve(moved[inside])
                slope_power += float(slope @ slope)
                moment += float((slope * slope) @ at_s[inside])
                error += float(slope @ difference)
            change = error / max(slope_power, 1e-12)
            shift_s += float(np.clip(change, -0.05, 0.05))
            if abs(change) < 1e-7:
                break
        if inside.sum() < 0.5 * width:
            continue
        for values, curve, _ in curves:
            a, b = values[start : start + width][inside], curve(at_s[inside] + shift_s)
            left, right, both = left + float(a @ a), right + float(b @ b), both + float(a @ b)
        places.append(moment / max(slope_power, 1e-12))  # a shift belongs to where the movement was
        shifts.append(shift_s)
        weights.append(slope_power)
    if not shifts:
        raise NotEnoughData("the two logs overlap by less than 6 s once aligned")
    correlation = both / max(np.sqrt(left * right), 1e-12)
    place, shift, weight = np.array(places), np.array(shifts), np.array(weights)
    line = _line(place, shift, weight)
    return _as_alignment(line, slow is other, correlation=float(correlation), certainty=certainty, roles=roles)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Line:
    """shift = at_middle + slope × (t − middle), with standard errors."""

    middle_s: float
    at_middle_s: float
    slope: float
    at_middle_se_s: float
    slope_se: float
    n: int


def _line(place_s: FloatArray, shift_s: FloatArray, weight: FloatArray) -> _Line:
    """Weighted line through the windows' shifts; windows far from the others are left out."""
    keep = np.abs(shift_s - np.median(shift_s)) <= max(5 * 1.4826 * float(np.median(np.abs(shift_s - np.median(shift_s)))), 2e-3)
    for _ in range(3):
        x, y, w = place_s[keep], shift_s[keep], weight[keep] / weight[keep].sum()
        middle = float(w @ x)
        spread = float(w @ (x - middle) ** 2)
        slope = float(w @ ((x - middle) * y)) / spread if keep.sum() >= 3 and spread > 0 else 0.0
        level = float(w @ y)
        residual = shift_s - level - slope * (place_s - middle)
        scale = 1.4826 * float(np.median(np.abs(residual[keep])))
        better = np.abs(residual) <= max(4 * scale, 5e-5)
        if (better == keep).all() or better.sum() < 2:
            break
        keep = better
    sigma = float(np.sqrt(w @ residual[keep] ** 2)) if keep.sum() == x.size else 0.0
    n_effective = 1 / float(w @ w)
    error = sigma / np.sqrt(max(n_effective - 1, 1.0))
    slope_error = error / np.sqrt(spread) if spread > 0 else 0.0
    return _Line(
        middle_s=middle,
        at_middle_s=level,
        slope=slope,
        at_middle_se_s=float(error),
        slope_se=float(slope_error),
        n=int(keep.sum()),
    )


def _as_alignment(line: _Line, slow_is_other: bool, *, correlation: float, certainty: float, roles: tuple[str, ...]) -> Alignment:
    # a shift maps slow times to fast times: fast = slow × (1 + slope) + (at_middle − slope × middle)
    scale, constant = 1 + line.slope, line.at_middle_s - line.slope * line.middle_s
    if not slow_is_other:
        scale, constant = 1 / scale, -constant / scale
    skew_ppm = (scale - 1) * 1e6
    half, skew_half = 2 * line.at_middle_se_s, 2 * line.slope_se * 1e6
    return Alignment(
        offset_s=constant,
        offset_interval_s=(constant - half, constant + half),
        skew_ppm=skew_ppm,
        skew_interval_ppm=(skew_ppm - skew_half, skew_ppm + skew_half),
        correlation=correlation,
        certainty_ratio=certainty,
        roles=roles,
        n_windows=line.n,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class MatchedManoeuvre:
    """The same manoeuvre in two flights: add `lag_s` to the other's times to lay it over the first."""

    first: Span
    other: Span
    lag_s: float
    correlation: float


def align_manoeuvres(
    first: Recording, first_spans: Sequence[Span], other: Recording, other_spans: Sequence[Span]
) -> tuple[MatchedManoeuvre, ...]:
    """Pair the manoeuvres of two flights of one card, in order, and find the lag of each pair.

    The lag is that of the best correlation of set-point (of the manoeuvre's axis) or throttle; the way
    flown may differ, so the size of the set-point is compared.
    """
    found = []
    queue: dict[tuple[str, str | None], list[Span]] = {}
    for span in other_spans:
        queue.setdefault((span.kind, span.axis), []).append(span)
    for span in first_spans:
        waiting = queue.get((span.kind, span.axis))
        if span.kind in ("ground", "take_off", "touch_down") or not waiting:
            continue
        partner = waiting.pop(0)
        role = f"setpoint.{span.axis}" if span.axis else "throttle"
        if not (first.has(role) and other.has(role)):
            continue
        lag_s, correlation = _manoeuvre_lag(first, span, other, partner, role)
        found.append(MatchedManoeuvre(first=span, other=partner, lag_s=lag_s, correlation=correlation))
    return tuple(found)


def _manoeuvre_lag(first: Recording, span: Span, other: Recording, partner: Span, role: str) -> tuple[float, float]:
    rate_hz = 200.0
    margin_s = 0.4

    def piece(recording: Recording, at: Span) -> FloatArray:
        t_s = np.arange(at.start_s - margin_s, at.end_s + margin_s, 1 / rate_hz)
        known_s = recording.start_s + np.arange(recording.n_samples) / recording.sample_rate_hz
        values = np.interp(t_s, known_s, filled(recording.channels[role]))
        values = np.abs(values) if at.axis else values
        return np.asarray(values - values.mean())

    a, b = piece(first, span), piece(other, partner)
    power = float(np.sqrt((a @ a) * (b @ b)))
    begin_s = span.start_s - partner.start_s
    if power == 0:
        return begin_s, 0.0
    total = scipy.signal.correlate(a, b, mode="full")
    peak = int(total.argmax())
    lag = peak - (b.size - 1) + _parabolic(total, peak)
    return float(begin_s + lag / rate_hz), float(total[peak] / power)
