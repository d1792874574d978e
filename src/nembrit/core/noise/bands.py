"""Noise within the bands of the trade, with its interval."""

import math
from dataclasses import dataclass

import numpy as np
import scipy.stats

from nembrit.core.spectra.density import Spectrum
from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class BandLevel:
    """Noise within one band. `high_hz` is cut at half the log rate; None levels: the log is too slow
    to see the whole band."""

    name: str
    low_hz: float
    high_hz: float
    rms_dps: float | None = None
    rms_interval_dps: tuple[float, float] | None = None
    floor_dps2_per_hz: float | None = None  # median density


# what craft do, what shakes and jitters, and what ordinary filters crush (common practice, no source)
BANDS = (("motion", 20.0, 100.0), ("jitter", 100.0, 300.0), ("above", 300.0, math.inf))


_HANN_NEIGHBOURS = 1 + 2 * (2 / 3) ** 2 + 2 * (1 / 6) ** 2


def band_levels(spectrum: Spectrum) -> tuple[BandLevel, ...]:
    """RMS and floor in the motion, jitter and upper bands.

    The RMS interval is that of a chi-square variable whose degrees of freedom follow from the density's
    spread over the band (Welch-Satterthwaite), 95 %. Neighbouring bins of a Hann window are correlated by 2/3 and the
    next by 1/6 (Harris, Proc. IEEE 66, 1978), which makes their sum scatter 1 + 2·(2/3)² + 2·(1/6)² = 35/18 times as much.
    """
    levels = []
    top_hz = float(spectrum.frequency_hz[-1])
    for name, low_hz, high_hz in BANDS:
        # every bin counts by how much of it lies in the band: a rate that is off by a millionth moves no number
        half = spectrum.bin_hz / 2
        upper, lower = np.minimum(spectrum.frequency_hz + half, high_hz), np.maximum(spectrum.frequency_hz - half, low_hz)
        part: FloatArray = np.clip((upper - lower) / spectrum.bin_hz, 0.0, 1.0)
        inside = part > 0.5 - 1e-3
        if inside.sum() < 2 or (math.isfinite(high_hz) and top_hz < high_hz):
            levels.append(BandLevel(name=name, low_hz=low_hz, high_hz=min(high_hz, top_hz)))
            continue
        density = spectrum.psd_dps2_per_hz * part
        power = float(density.sum() * spectrum.bin_hz)
        spread = float((density @ density) / density.sum() ** 2) if density.sum() > 0 else 1.0
        freedom = 2 * spectrum.n_effective / (_HANN_NEIGHBOURS * spread)
        low, high = scipy.stats.chi2.ppf((0.975, 0.025), freedom)
        levels.append(
            BandLevel(
                name=name,
                low_hz=low_hz,
                high_hz=min(high_hz, top_hz),
                rms_dps=math.sqrt(power),
                rms_interval_dps=(math.sqrt(power * freedom / low), math.sqrt(power * freedom / high)),
                floor_dps2_per_hz=float(np.median(spectrum.psd_dps2_per_hz[inside])),
            )
        )
    return tuple(levels)
