"""How a loop's gain changes with throttle, and its margins at low and high throttle."""

from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.detect import hover_throttle
from nembrit.core.records.log import Recording
from nembrit.core.response.estimate import Estimate, jackknifed
from nembrit.core.types import BoolArray, ComplexArray, FloatArray

_BAND_HZ = (2.0, 20.0)
_LIMITS = (0.06, 0.92)
_EDGES = (0.78, 1.28)  # of the throttle in hover: below is low, above is high (our own choice)
_LEAST_S, _N_BLOCKS = 2.0, 8
_MOST_ERROR = 0.35  # a gain less sure than this is not told
_FLOOR = 0.08


@dataclass(frozen=True, slots=True, kw_only=True)
class ThrottleGain:
    """The craft's gain in one part of the throttle, over that in hover."""

    part: str  # low, hover or high
    throttle: float  # mean of the flying that it rests on
    seconds: float
    ratio: Estimate | None  # None: not flown enough to say


def throttle_gains(
    recording: Recording,
    axis: str,
    command: FloatArray,
    usable: BoolArray,
    *,
    plant_of: ComplexArray,
    closed_of: ComplexArray,
    frequency_hz: FloatArray,
) -> tuple[ThrottleGain, ...]:
    """Gain of the craft at low, middle and high throttle against the model's, by instrumental regression part by part.

    Parameters
    ----------
    recording, axis, command, usable
        The flight, the axis, its applied command, and where it had authority at any throttle.
    plant_of, closed_of : ndarray, shape (n,)
        The model's command → filtered gyro and set-point → filtered gyro on `frequency_hz`.

    Notes
    -----
    Gyro against what the model makes of the command, both from 2 to 20 Hz; the instrument is what the model makes of the
    set-point, which gusts do not reach. Jackknife over eighths of each part. Methods: as `transfer.loop_responses`.
    Empty without throttle, and for logs that are too slow for that band.
    """
    if not recording.has("throttle") or recording.sample_rate_hz <= 2.2 * _BAND_HZ[1]:
        return ()
    rate_hz = recording.sample_rate_hz
    throttle = filled(recording.channels["throttle"])
    gyro = _within(filled(recording.channels[f"gyro.{axis}"]), rate_hz)
    made = _within(_through(filled(command), plant_of, frequency_hz, rate_hz), rate_hz)
    asked = _within(_through(filled(recording.channels[f"setpoint.{axis}"]), closed_of, frequency_hz, rate_hz), rate_hz)
    hover = hover_throttle(throttle[usable])
    parts = {
        "low": usable & (throttle < _EDGES[0] * hover),
        "hover": usable & (throttle >= _EDGES[0] * hover) & (throttle <= _EDGES[1] * hover),
        "high": usable & (throttle > _EDGES[1] * hover),
    }
    found = []
    for part, inside in parts.items():
        seconds = float(inside.sum() / rate_hz)
        ratio = _gain(gyro, made, asked, inside) if seconds >= _LEAST_S else None
        mean = float(throttle[inside].mean()) if inside.any() else 0.0
        found.append(ThrottleGain(part=part, throttle=mean, seconds=seconds, ratio=ratio))
    middle = next(one.ratio for one in found if one.part == "hover")
    if middle is None:
        return ()
    return tuple(_over(one, middle) for one in found)


def throttle_limits() -> tuple[float, float]:
    """Throttle within which authority is looked for here."""
    return _LIMITS


def _over(one: ThrottleGain, middle: Estimate) -> ThrottleGain:
    """Over the gain in hover; what is not sure is left out."""
    if one.ratio is None or one.part == "hover":
        unit = Estimate(value=1.0, low=1.0, high=1.0)
        return ThrottleGain(part=one.part, throttle=one.throttle, seconds=one.seconds, ratio=unit if one.ratio else None)
    value = one.ratio.value / middle.value
    spread = float(np.hypot(one.ratio.error / one.ratio.value, middle.error / middle.value))
    sure = one.ratio.value > 0 and spread <= _MOST_ERROR
    told = Estimate(value=value, low=value * (1 - spread), high=value * (1 + spread)) if sure else None
    return ThrottleGain(part=one.part, throttle=one.throttle, seconds=one.seconds, ratio=told)


def _gain(gyro: FloatArray, made: FloatArray, asked: FloatArray, inside: BoolArray) -> Estimate | None:
    rows = np.flatnonzero(inside)
    above = np.array([float(asked[block] @ gyro[block]) for block in np.array_split(rows, _N_BLOCKS)])
    below = np.array([float(asked[block] @ made[block]) for block in np.array_split(rows, _N_BLOCKS)])
    if below.sum() <= 0 or (below.sum() - below <= 0).any():
        return None
    value = float(above.sum() / below.sum())
    left_out = (above.sum() - above) / (below.sum() - below)
    return jackknifed(value, left_out.tolist(), floor=_FLOOR * abs(value)) if value > 0 else None


def _through(values: FloatArray, response: ComplexArray, frequency_hz: FloatArray, rate_hz: float) -> FloatArray:
    """A signal through a response that is known on some frequencies; nothing passes beyond them."""
    n = 2 ** int(np.ceil(np.log2(values.size + 4 * rate_hz)))
    at_hz = np.fft.rfftfreq(n, 1 / rate_hz)
    size = np.interp(at_hz, frequency_hz, np.abs(response), left=float(np.abs(response[0])), right=0.0)
    phase = np.interp(at_hz, frequency_hz, np.unwrap(np.angle(response)))
    return np.asarray(np.fft.irfft(np.fft.rfft(values, n) * size * np.exp(1j * phase), n)[: values.size])


def _within(values: FloatArray, rate_hz: float) -> FloatArray:
    sos = scipy.signal.butter(2, _BAND_HZ, btype="bandpass", fs=rate_hz, output="sos")
    return np.asarray(scipy.signal.sosfiltfilt(sos, values))
