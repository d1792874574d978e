"""Two gyros against each other: on one flight, and across a swap of their places."""

import math
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.noise.bands import band_levels
from nembrit.core.rotors.orders import cleaned_density
from nembrit.core.spectra.density import Spectrum
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import BoolArray, FloatArray

_SAME_FILTER, _SAME_HEIGHT_DB = 1.06, 5.0  # starting values


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
    median of the octave below and 6 dB above that of the half octave beyond, and beyond it stays low: 1.5 dB below the
    octave before it at once, 6 dB from 1.8 times its frequency on. A resonance of the frame comes back to the level
    before it (common practice; thresholds are starting values).
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
        far = f > f[at] * 1.8
        stays = drop - rise >= 1.5 and (far.sum() < 5 or np.median(smooth[below]) - np.median(smooth[far]) >= 6.0)
        if is_top and rise >= 2.0 and drop >= 6.0 and stays and (best is None or rise + drop > best.level_db + best.drop_db):
            best = Ringing(frequency_hz=float(f[at]), level_db=rise, drop_db=drop)
    return best


def shared_ringing(spectra: Mapping[str, Spectrum]) -> dict[str, Ringing]:
    """Ringing of the chip's low-pass by axis: every axis must show it, within 6 % of one frequency and 5 dB of one height.

    The axes of a chip pass the same filter, while a frame rings at another frequency on every axis. Give densities with
    the motors' orders left out: their lines are alike on all axes too. Empty where that is not so, or for one axis alone.
    """
    found = {axis: ringing for axis, spectrum in spectra.items() if (ringing := chip_ringing(spectrum)) is not None}
    if len(found) < max(2, len(spectra)):
        return {}
    frequencies, levels = [one.frequency_hz for one in found.values()], [one.level_db for one in found.values()]
    is_one = max(frequencies) < _SAME_FILTER * min(frequencies) and max(levels) - min(levels) < _SAME_HEIGHT_DB
    return found if is_one else {}


def raw_gyro_ringing(frames: Frames, mask: BoolArray | None) -> dict[str, Ringing]:
    """`shared_ringing` of the raw gyro over a whole flight; `mask` are the motors' orders, None where they are not known."""
    n = frames.t_s.size
    spectra = {
        role.split(".")[-1]: Spectrum(
            frequency_hz=frames.frequency_hz,
            psd_dps2_per_hz=cleaned_density(frames, role, mask, np.ones(n, bool)),
            n_segments=n,
            n_effective=n / 3,
        )
        for role in frames.power
        if role.startswith("gyro_raw")
    }
    return shared_ringing(spectra)
