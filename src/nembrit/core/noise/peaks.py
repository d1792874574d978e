"""The peaks of a spectrum that stand out most."""

from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.spectra.density import Spectrum


@dataclass(frozen=True, slots=True, kw_only=True)
class Peak:
    """A peak of the spectrum; `level_db` is above the local floor (running median over 60 Hz)."""

    frequency_hz: float
    level_db: float
    psd_dps2_per_hz: float


def largest_peaks(spectrum: Spectrum, *, lowest_hz: float = 20.0, n_most: int = 3, least_db: float = 6.0) -> tuple[Peak, ...]:
    """The peaks that stand out most above their surroundings, strongest first.

    The frequency is refined by a parabola through the three highest bins in dB. A peak must be 6 dB
    above the local floor and 4 dB above the valleys beside it (starting values, prototype, no source).
    """
    inside = spectrum.frequency_hz >= lowest_hz
    frequency_hz, psd = spectrum.frequency_hz[inside], spectrum.psd_dps2_per_hz[inside]
    if frequency_hz.size < 8 or psd.max() <= 0:
        return ()
    level_db = 10 * np.log10(np.maximum(psd, psd.max() * 1e-12))
    n_median = min(frequency_hz.size // 2 * 2 - 1, max(3, round(60.0 / spectrum.bin_hz) | 1))
    padded = np.pad(level_db, n_median // 2, mode="edge")
    floor_db = np.median(np.lib.stride_tricks.sliding_window_view(padded, n_median), axis=1)
    above_db = level_db - floor_db
    at, _ = scipy.signal.find_peaks(above_db, height=least_db, prominence=4.0, distance=max(1, round(8 / spectrum.bin_hz)))
    strongest = at[np.argsort(-above_db[at])][:n_most]
    found = []
    for index in strongest:
        shift = 0.0
        if 0 < index < level_db.size - 1:
            before, here, after = level_db[index - 1 : index + 2]
            shift = 0.5 * (before - after) / (before - 2 * here + after)
        found.append(
            Peak(
                frequency_hz=float(frequency_hz[index] + shift * spectrum.bin_hz),
                level_db=float(above_db[index]),
                psd_dps2_per_hz=float(psd[index]),
            )
        )
    return tuple(found)
