"""Two gyros against each other: on one flight, and across a swap of their places."""

import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.noise.spectra import Spectrum, band_levels
from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class BandRatio:
    """Noise of one gyro over another in one band."""

    band: str
    ratio: float  # of RMS
    interval: tuple[float, float]  # 95 %

    @property
    def is_different(self) -> bool:
        return self.interval[0] > 1 or self.interval[1] < 1


def band_ratios(first: Spectrum, second: Spectrum) -> tuple[BandRatio, ...]:
    """RMS of `first` over `second` by band, with intervals.

    The interval joins those of both in log (independent errors; on one flight shared shaking makes it too wide, never
    too narrow).
    """
    found = []
    for one, other in zip(band_levels(first), band_levels(second), strict=True):
        if not one.rms_dps or not other.rms_dps or not one.rms_interval_dps or not other.rms_interval_dps:
            continue
        ratio = one.rms_dps / other.rms_dps
        spread = math.hypot(_log_spread(one.rms_interval_dps), _log_spread(other.rms_interval_dps))
        found.append(BandRatio(band=one.name, ratio=ratio, interval=(ratio * math.exp(-spread), ratio * math.exp(spread))))
    return tuple(found)


def plainest(ratios: Mapping[str, Sequence[BandRatio]]) -> tuple[str, BandRatio] | None:
    """Axis and band in which two gyros differ most among those where they surely do; None where they do nowhere.

    Three axes in three bands are nine chances to be wrong: here the intervals are those of 0.05 / 9 (Bonferroni).

    >>> plainest({"roll": [BandRatio(band="motion", ratio=1.1, interval=(0.9, 1.3))]}) is None
    True
    """
    wider = statistics.NormalDist().inv_cdf(1 - 0.025 / 9) / statistics.NormalDist().inv_cdf(0.975)
    sure = [
        (axis, ratio)
        for axis, own in ratios.items()
        for ratio in own
        if abs(math.log(ratio.ratio)) > wider * _log_spread(ratio.interval)
    ]
    return max(sure, key=lambda pair: abs(math.log(pair[1].ratio)), default=None)


def _log_spread(interval: tuple[float, float]) -> float:
    return 0.5 * math.log(interval[1] / interval[0])


@dataclass(frozen=True, slots=True, kw_only=True)
class Attribution:
    """Whether a difference belongs to the sensor or to its place, from a swap."""

    band: str
    sensor_ratio: float  # noise of the first sensor over the second, places evened out
    place_ratio: float  # noise at the first place over the second, sensors evened out
    sensor_interval: tuple[float, float]
    place_interval: tuple[float, float]
    verdict: str  # sensor, place, both or neither


def attribute(before: BandRatio, after: BandRatio) -> Attribution:
    """Split a difference by a swap: before, sensor A sits at place 1 and B at 2; afterwards A at 2 and B at 1.

    Both ratios are A over B. In logs ``before = sensor + place`` and ``after = sensor − place``: a two-by-two crossover
    (Jones & Kenward, Design and Analysis of Cross-Over Trials).
    """
    b, a = math.log(before.ratio), math.log(after.ratio)
    spread = math.hypot(_log_spread(before.interval), _log_spread(after.interval)) / 2
    sensor, place = (b + a) / 2, (b - a) / 2
    by_sensor, by_place = abs(sensor) > spread, abs(place) > spread
    return Attribution(
        band=before.band,
        sensor_ratio=math.exp(sensor),
        place_ratio=math.exp(place),
        sensor_interval=(math.exp(sensor - spread), math.exp(sensor + spread)),
        place_interval=(math.exp(place - spread), math.exp(place + spread)),
        verdict="both" if by_sensor and by_place else "sensor" if by_sensor else "place" if by_place else "neither",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Ringing:
    """A bump at the end of a gyro's own band: its low-pass rings."""

    frequency_hz: float
    level_db: float  # above the plateau below it
    drop_db: float  # from the bump to what lies above


def chip_ringing(spectrum: Spectrum) -> Ringing | None:
    """A bump followed by a steep fall at high frequency, as a low-pass of too little damping leaves it in the noise.

    Looked for from 150 Hz to 0.42 of the sample rate in the density smoothed over 20 Hz: at least 2 dB above the
    median of the octave below and 6 dB above that of the half octave beyond (common practice; thresholds are starting
    values).
    """
    f = spectrum.frequency_hz
    width = max(1, round(20 / spectrum.bin_hz))
    level = 10 * np.log10(np.maximum(spectrum.psd_dps2_per_hz, 1e-12))
    smooth: FloatArray = np.convolve(level, np.ones(width) / width, mode="same")
    best: Ringing | None = None
    for at in np.flatnonzero((f >= 150) & (f <= 0.42 * 2 * f[-1])):
        below = (f >= f[at] / 2) & (f < f[at] * 0.8)
        beyond = (f > f[at] * 1.25) & (f <= min(f[at] * 1.6, f[-1] * 0.98))
        if below.sum() < 5 or beyond.sum() < 5:
            continue
        rise, drop = float(smooth[at] - np.median(smooth[below])), float(smooth[at] - np.median(smooth[beyond]))
        is_top = smooth[at] >= smooth[max(0, at - width) : at + width + 1].max() - 1e-9
        if is_top and rise >= 2.0 and drop >= 6.0 and (best is None or rise + drop > best.level_db + best.drop_db):
            best = Ringing(frequency_hz=float(f[at]), level_db=rise, drop_db=drop)
    return best
