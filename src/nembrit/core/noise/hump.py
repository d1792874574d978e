"""The broad hump that a loose mount raises in the motion band."""

from dataclasses import dataclass

import numpy as np
import scipy.ndimage

from nembrit.core.spectra.density import Spectrum


@dataclass(frozen=True, slots=True, kw_only=True)
class Hump:
    """Excess of the smoothed density over a straight base line, 42 to 132 Hz."""

    excess_db: float  # mean over the span
    peak_hz: float
    peak_db: float
    width_hz: float  # where the excess is above half its peak


def hump_of(spectrum: Spectrum) -> Hump | None:
    """Measure the hump; None if the log rate is too low to see 320 Hz.

    Smooths the density in dB over 10 Hz; the base line is straight in log frequency from the median of
    18–30 Hz to that of 170–320 Hz. Starting values of a prototype, no source (`docs/methods.md`, 4b).
    """
    frequency_hz = spectrum.frequency_hz
    if frequency_hz[-1] < 320 or spectrum.psd_dps2_per_hz.max() <= 0:
        return None
    level_db = 10 * np.log10(np.maximum(spectrum.psd_dps2_per_hz, 1e-12))
    smooth_db = scipy.ndimage.uniform_filter1d(level_db, max(1, round(10 / spectrum.bin_hz)))
    low_db = float(np.median(smooth_db[(frequency_hz >= 18) & (frequency_hz <= 30)]))
    high_db = float(np.median(smooth_db[(frequency_hz >= 170) & (frequency_hz <= 320)]))
    inside = (frequency_hz >= 42) & (frequency_hz <= 132)
    share = (np.log(frequency_hz[inside]) - np.log(24)) / (np.log(245) - np.log(24))
    excess_db = smooth_db[inside] - (low_db + share * (high_db - low_db))
    at = int(excess_db.argmax())
    peak_db = float(excess_db[at])
    width_hz = float((excess_db > peak_db / 2).sum() * spectrum.bin_hz)
    return Hump(excess_db=float(excess_db.mean()), peak_hz=float(frequency_hz[inside][at]), peak_db=peak_db, width_hz=width_hz)
