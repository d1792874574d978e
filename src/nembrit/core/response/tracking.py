"""How closely an axis followed, what band of it was asked, and what authority was left."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.response.transfer import TransferEstimate, cross_response
from nembrit.core.types import AXES, BoolArray, FloatArray

_COHERENT, _CHANCE = 0.6, 0.001
_TOP_HZ = 100.0
_COUPLING_BAND_HZ = (1.0, 8.0)
_FULL, _NEAR_LEAST = 0.99, 0.005
_MIDDLE = (0.15, 0.70)
_OWN_WILL_SHARE = 0.25  # of the set-point's power that the stick does not explain: a mode that flies by itself
_LEAST_STICK = 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class Coupling:
    """What another axis's set-point does to this one, 1 to 8 Hz; beyond what this axis was asked itself."""

    ratio: float  # deg/s of this axis per deg/s asked there
    below: float  # what chance alone could give (95 %)
    is_seen: bool  # beyond chance


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tracking:
    """One axis; what the log does not hold is None or empty. Arrays are for the picture, shape (n,)."""

    error_rms_dps: float
    error_p95_dps: float
    coherent_band_hz: tuple[float, float] | None  # where set-point and gyro belong together (coherence 0.6)
    coupling: dict[str, Coupling]  # by the other axis, whose set-point moved
    frequency_hz: FloatArray
    amplitude_db: FloatArray
    phase_deg: FloatArray
    coherence: FloatArray
    random_error: FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Authority:
    """Motor headroom; shares of the flying at middle throttle unless said otherwise."""

    lost_share: float | None
    at_top_share: float | None  # a motor at full command
    at_floor_share: float | None  # a motor at its lowest command
    hover_headroom: float | None  # from the highest motor's mean in hover to full
    punch_at_top_share: float | None  # of the punches
    sag_v: float | None  # pack voltage at rest less that in punches


def tracking(recording: Recording, axis: str, usable: BoolArray) -> Tracking | None:
    """How closely one axis followed where it had authority; None without set-point or gyro, or with less than 3 s.

    Frequency response by H1, Hann 2 s, 75 % overlap (1 s where the flight has too few whole stretches of 2 s).
    """
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
        return None
    setpoint, gyro = recording.channels[f"setpoint.{axis}"], recording.channels[f"gyro.{axis}"]
    error = (setpoint - gyro)[usable & np.isfinite(setpoint - gyro)]
    if error.size < 3 * recording.sample_rate_hz:
        return None
    found = _response(setpoint, gyro, usable, recording.sample_rate_hz)
    shown = slice(0, 0) if found is None else slice(1, int(np.searchsorted(found.frequency_hz, _TOP_HZ)))
    empty = np.zeros(0)
    return Tracking(
        error_rms_dps=float(np.sqrt(np.mean(error**2))),
        error_p95_dps=float(np.quantile(np.abs(error), 0.95)),
        coherent_band_hz=None if found is None else _band(found),
        coupling={} if found is None else _coupling(recording, axis, usable),
        frequency_hz=empty if found is None else found.frequency_hz[shown],
        amplitude_db=empty if found is None else 20 * np.log10(np.maximum(np.abs(found.response[shown]), 1e-9)),
        phase_deg=empty if found is None else np.degrees(np.unwrap(np.angle(found.response[shown]))),
        coherence=empty if found is None else found.coherence[shown],
        random_error=empty if found is None else np.minimum(found.random_error[shown], 9.0),
    )


def _response(x: FloatArray, y: FloatArray, usable: BoolArray, rate_hz: float) -> TransferEstimate | None:
    for segment_s in (2.0, 1.0):
        try:
            return cross_response(x, y, usable, sample_rate_hz=rate_hz, segment_s=segment_s)
        except NotEnoughData:
            continue
    return None


def _band(found: TransferEstimate) -> tuple[float, float] | None:
    """The longest run of coherent frequencies up to 100 Hz; single bins that fall short are bridged.

    Coherent is 0.6, or what independent signals reach in one of a thousand bins where the averages are few:
    1 − 0.001^(1 / (n_d − 1)) (Bendat & Piersol, Random Data). None for fewer than two averages.
    """
    if found.n_effective < 2:
        return None
    inside = (found.frequency_hz > 0) & (found.frequency_hz <= _TOP_HZ)
    by_chance = 1 - _CHANCE ** (1 / (found.n_effective - 1))
    good = (found.coherence >= max(_COHERENT, by_chance)) & inside
    good[1:-1] |= good[:-2] & good[2:] & inside[1:-1]
    edges = np.flatnonzero(np.diff(np.concatenate(([0], good.astype(int), [0]))))
    runs = [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= 3]
    if not runs:
        return None
    first, last = max(runs, key=lambda run: run[1] - run[0])
    return float(found.frequency_hz[first]), float(found.frequency_hz[last - 1])


def _coupling(recording: Recording, axis: str, usable: BoolArray) -> dict[str, Coupling]:
    """Seen where the median coherence passes what independent signals reach in one of twenty cases,
    1 − 0.05^(1 / (n_d − 1)) (Bendat & Piersol, Random Data)."""
    found: dict[str, Coupling] = {}
    error = recording.channels[f"gyro.{axis}"] - recording.channels[f"setpoint.{axis}"]
    for other in AXES:
        if other == axis or not recording.has(f"setpoint.{other}"):
            continue
        cross = _response(recording.channels[f"setpoint.{other}"], error, usable, recording.sample_rate_hz)
        if cross is None or cross.n_effective < 3:
            continue
        use = (cross.frequency_hz >= _COUPLING_BAND_HZ[0]) & (cross.frequency_hz <= _COUPLING_BAND_HZ[1])
        size = np.abs(cross.response[use])
        chance = 1 - 0.05 ** (1 / (cross.n_effective - 1))
        found[other] = Coupling(
            ratio=float(np.median(size)),
            below=float(np.median(size * np.sqrt(chance / np.maximum(cross.coherence[use], 1e-6)))),
            is_seen=bool(np.median(cross.coherence[use]) > chance),
        )
    return found


def authority(recording: Recording, usable: BoolArray | None, spans: Sequence[Span]) -> Authority | None:
    """Motor headroom in hover and punches, and how often they were at their ends; None without motors."""
    roles = [role for n in range(1, 13) if recording.has(role := f"motor.{n}")]
    if len(roles) < 3:
        return None
    motors = np.stack([filled(recording.channels[role]) for role in roles])
    highest, lowest = motors.max(axis=0), motors.min(axis=0)
    middle = np.ones(recording.n_samples, bool)
    if recording.has("throttle"):
        throttle = filled(recording.channels["throttle"])
        middle = (throttle > _MIDDLE[0]) & (throttle < _MIDDLE[1])
    floor = float(np.quantile(lowest, 0.001)) + _NEAR_LEAST
    hover, punch = (_inside(recording, spans, kind) for kind in ("hover", "punch"))
    is_flying = bool(middle.sum() > recording.sample_rate_hz)
    sag = None
    if recording.has("battery_voltage") and hover.any() and punch.any():
        volts = recording.channels["battery_voltage"]
        sag = float(np.nanmedian(volts[hover]) - np.nanquantile(volts[punch], 0.1))
    return Authority(
        lost_share=float(np.mean(~usable[middle])) if usable is not None and is_flying else None,
        at_top_share=float(np.mean(highest[middle] >= _FULL)) if is_flying else None,
        at_floor_share=float(np.mean(lowest[middle] <= floor)) if is_flying else None,
        hover_headroom=float(1 - motors[:, hover].mean(axis=1).max()) if hover.any() else None,
        punch_at_top_share=float(np.mean(highest[punch] >= _FULL)) if punch.any() else None,
        sag_v=sag,
    )


def _inside(recording: Recording, spans: Sequence[Span], kind: str) -> BoolArray:
    found = np.zeros(recording.n_samples, bool)
    for span in spans:
        if span.kind == kind:
            found[span.places(recording)] = True
    return found


def flies_itself_share(recording: Recording, axis: str) -> float | None:
    """Share of the set-point's power below 5 Hz that the stick does not explain; None where either is missing or at rest.

    In rate mode a set-point is a curve of the stick; levelling and position-holding modes put their own will on top, so
    that the set-point depends on the gyro and is no instrument any more (our own measure, no source).
    """
    if not recording.has(f"stick.{axis}", f"setpoint.{axis}") or recording.sample_rate_hz < 20:
        return None
    stick, setpoint = (filled(recording.channels[role]) for role in (f"stick.{axis}", f"setpoint.{axis}"))
    sos = scipy.signal.butter(2, 5.0, fs=recording.sample_rate_hz, output="sos")
    slow, asked = (scipy.signal.sosfiltfilt(sos, values) for values in (_curve_of(stick, setpoint), setpoint))
    if float(np.std(scipy.signal.sosfiltfilt(sos, stick))) < _LEAST_STICK or float(np.std(asked)) < 1.0:
        return None
    return float(np.var(asked - slow) / np.var(asked))


def _curve_of(stick: FloatArray, setpoint: FloatArray) -> FloatArray:
    """What a curve of the stick makes of it: the set-point's means over fortieths of its samples and of its range."""
    ends = np.linspace(0, 1, 41)
    edges = np.unique(np.concatenate((np.quantile(stick, ends), stick.min() + ends * np.ptp(stick))))
    place = np.clip(np.searchsorted(edges, stick) - 1, 0, max(0, edges.size - 2))
    counts = np.bincount(place)
    centre, means = (np.bincount(place, weights=values)[counts > 0] / counts[counts > 0] for values in (stick, setpoint))
    return np.interp(stick, centre, means)


def flies_itself(recording: Recording, axis: str) -> bool:
    share = flies_itself_share(recording, axis)
    return share is not None and share > _OWN_WILL_SHARE
