"""Real gains from the logged terms, and how late the gyro filters are.

All terms are worked out by the controller without noise, so that few seconds tell them well.
"""

import math
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.records.log import Recording
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.terms import Curve, moves
from nembrit.core.response.transfer import cross_response, interpolated
from nembrit.core.types import BoolArray, ComplexArray, FloatArray

_STEP_S = 0.05  # of the I term's increments
_SEGMENT_S = 0.5
_D_BAND_HZ = (3.0, 80.0)
_CHAIN_BAND_HZ = (3.0, 40.0)


def logged_gains(
    recording: Recording, axis: str, usable: BoolArray, curve: Curve | None, d_filter: ComplexArray | None = None
) -> dict[str, Estimate]:
    """Real gains of one axis from its logged terms [share per deg/s, per deg, per deg/s², per deg/s²].

    kp by least squares of P on the error. ki by regression of 50 ms increments of I on the integral of the error, held or
    clamped ones left out. kd from gyro → D over 3 to 80 Hz divided by jω and the D filter, where that is known
    (`d_filter`, on `d_frequencies`), else over 3 to 10 Hz, where a filter takes little; not by a derivative in time,
    which is biased up to 13 %; `curve` is what `d_curve` measured. kf by regression of 50 ms sums of F on how far the
    set-point went. A term that is not recorded or never moves is absent.
    Errors measured: `docs/accuracy.md`.
    """
    found: dict[str, Estimate] = {}
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
        return found
    error = recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"]
    for term, gain in (
        ("p", _kp(recording, axis, error, usable)),
        ("i", _ki(recording, axis, error, usable)),
        ("d", _kd(curve, d_filter)),
        ("f", _kf(recording, axis)),
    ):
        if gain is not None:
            found[term] = gain
    return found


def d_frequencies() -> FloatArray:
    """Where gyro → D is judged, for `d_filter` [Hz]."""
    return np.arange(_D_BAND_HZ[0], _D_BAND_HZ[1] + 0.1, 1 / _SEGMENT_S)


def _kp(recording: Recording, axis: str, error: FloatArray, usable: BoolArray) -> Estimate | None:
    term = moves(recording, f"term_p.{axis}")
    if term is None:
        return None
    use = usable & recording.is_recorded(f"term_p.{axis}", f"setpoint.{axis}", f"gyro.{axis}")
    if use.sum() < 100:
        return None
    x, y = error[use], term[use]
    gain = float(x @ y / (x @ x))
    rest = y - gain * x
    spread = 2 * float(np.sqrt((rest @ rest) / x.size / (x @ x)))
    return Estimate(value=gain, low=gain - spread - 0.002 * abs(gain), high=gain + spread + 0.002 * abs(gain))


def _ki(recording: Recording, axis: str, error: FloatArray, usable: BoolArray) -> Estimate | None:
    term = moves(recording, f"term_i.{axis}")
    step = max(1, round(_STEP_S * recording.sample_rate_hz))
    n = recording.n_samples // step
    if term is None or n < 41:
        return None
    whole = usable & np.isfinite(error) & np.isfinite(term)
    good: BoolArray = np.asarray(whole[: n * step].reshape(n, step).all(axis=1))
    # increments from sample to sample of the I term go with the error at the later one
    area = filled(error)[1 : (n - 1) * step + 1].reshape(n - 1, step).sum(axis=1) / recording.sample_rate_hz
    moved = np.diff(filled(term)[: n * step : step])
    use = good[:-1] & good[1:] & (np.abs(moved) > 1e-9)
    for _ in range(4):  # held and clamped increments stand far off
        if use.sum() < 12:
            return None
        gain = float(area[use] @ moved[use] / (area[use] @ area[use]))
        rest = moved - gain * area
        near = 4 * 1.4826 * float(np.median(np.abs(rest[use]))) + 1e-12
        kept = use & (np.abs(rest) <= near)
        if (kept == use).all():
            break
        use = kept
    spread = 2 * float(np.sqrt((rest[use] @ rest[use]) / use.sum() / (area[use] @ area[use])))
    return Estimate(value=gain, low=gain - spread - 0.01 * abs(gain), high=gain + spread + 0.01 * abs(gain))


def _kd(curve: Curve | None, d_filter: ComplexArray | None) -> Estimate | None:
    if curve is None:
        return None
    known_hz, response = curve
    top_hz = _D_BAND_HZ[1] if d_filter is not None else 10.0
    at = d_frequencies()
    use = (at >= _D_BAND_HZ[0]) & (at <= min(top_hz, known_hz[-1]))
    through = np.ones(at.size) if d_filter is None else np.abs(d_filter)
    values = np.abs(interpolated(at[use], known_hz, response)) / (2 * np.pi * at[use] * through[use])
    gain = float(np.median(values))
    spread = 0.005 * gain if d_filter is not None else 0.02 * gain
    scatter = 2 * 1.4826 * float(np.median(np.abs(values - gain))) / math.sqrt(max(1, values.size / 4))
    return Estimate(value=gain, low=gain - spread - scatter, high=gain + spread + scatter)


def _kf(recording: Recording, axis: str) -> Estimate | None:
    term = moves(recording, f"term_f.{axis}")
    if term is None:
        return None
    # over 50 ms the term's sum is the gain times how far the set-point went, whatever smooths it
    rate_hz = recording.sample_rate_hz
    step = max(1, round(_STEP_S * rate_hz))
    n = recording.n_samples // step
    setpoint = recording.channels[f"setpoint.{axis}"]
    went = np.diff(setpoint[: n * step : step])
    summed = term[1 : (n - 1) * step + 1].reshape(n - 1, step).sum(axis=1) / rate_hz
    use = np.isfinite(went) & np.isfinite(summed)
    if use.sum() < 20 or float(np.std(went[use])) < 1.0:
        return None
    x, y = went[use], summed[use]
    gain = float(x @ y / (x @ x))
    rest = y - gain * x
    spread = 2 * float(np.sqrt((rest @ rest) / x.size / (x @ x))) + 0.005 * abs(gain)
    return Estimate(value=gain, low=gain - spread, high=gain + spread)


def filter_delay(recording: Recording, axis: str) -> "FilterDelay | None":
    """How late the filtered gyro is after the raw one from 3 to 40 Hz; None where one is not recorded, or they do not agree.

    From the phase of H1 alone, each frequency by its square and its coherence: raw noise that a log too slow folds down
    makes the size of H1 too small, but does not turn its phase.
    """
    if not recording.has(f"gyro_raw.{axis}", f"gyro.{axis}"):
        return None
    everywhere = np.ones(recording.n_samples, bool)
    raw, filtered = recording.channels[f"gyro_raw.{axis}"], recording.channels[f"gyro.{axis}"]
    try:
        found = cross_response(raw, filtered, everywhere, sample_rate_hz=recording.sample_rate_hz, segment_s=_SEGMENT_S)
    except NotEnoughData:
        return None
    use = (found.frequency_hz >= _CHAIN_BAND_HZ[0]) & (found.frequency_hz <= _CHAIN_BAND_HZ[1]) & (found.coherence > 0.6)
    if use.sum() < 8:
        return None
    frequency_hz, coherence = found.frequency_hz[use], np.minimum(found.coherence[use], 0.9999)
    phase = np.unwrap(np.angle(found.response[use]))
    weight = coherence / (1 - coherence)
    omega = 2 * np.pi * frequency_hz
    delay_s = float(-(weight * omega) @ phase / ((weight * omega) @ omega))
    return FilterDelay(frequency_hz=frequency_hz, weight=weight, delay_s=delay_s)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FilterDelay:
    """The measured delay of the gyro filters, and with what weights it was read where."""

    frequency_hz: FloatArray
    weight: FloatArray
    delay_s: float

    def of(self, response: ComplexArray) -> float:
        """The delay of another response, given on the same frequencies, read in the same way [s]."""
        omega, phase = 2 * np.pi * self.frequency_hz, np.unwrap(np.angle(response))
        return float(-(self.weight * omega) @ phase / ((self.weight * omega) @ omega))
