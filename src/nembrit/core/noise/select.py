"""Spectra of selected parts: by manoeuvre, by throttle, as density or amplitude, summed up."""

from collections.abc import Sequence

import numpy as np
import scipy.ndimage

from nembrit.core.errors import NotEnoughData
from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.spectra.density import SEGMENT_S, Spectrum, welch_spectrum
from nembrit.core.types import BoolArray, FloatArray


def chosen_samples(
    recording: Recording, *, kind: str = "", spans: Sequence[Span] = (), throttle: tuple[float, float] = (0.0, 1.0)
) -> BoolArray:
    """True for samples within manoeuvres of a kind and a throttle range, shape (n_samples,).

    The throttle counts as its mean over the segment of a spectrum, so that stick jitter does not cut stretches to
    pieces. Raises NotEnoughData where a throttle range is asked of a log without throttle.
    """
    use: BoolArray = np.ones(recording.n_samples, bool)
    if kind:
        use[:] = False
        for span in spans:
            if span.kind == kind:
                first = round((span.start_s - recording.start_s) * recording.sample_rate_hz)
                use[max(0, first) : round((span.end_s - recording.start_s) * recording.sample_rate_hz)] = True
    if throttle != (0.0, 1.0):
        if not recording.has("throttle"):
            raise NotEnoughData("no throttle in this log: a throttle range cannot be chosen")
        width = max(1, round(SEGMENT_S * recording.sample_rate_hz))
        slow = scipy.ndimage.uniform_filter1d(filled(recording.channels["throttle"]), width)
        use &= (slow >= throttle[0]) & (slow <= throttle[1])
    return use


def chosen_spectrum(recording: Recording, role: str, use: BoolArray, *, segment_s: float = SEGMENT_S) -> Spectrum:
    """Welch density of one channel over the chosen samples; shorter segments where the stretches are short.

    Raises NotEnoughData, with what is there, if not even three segments of an eighth of a second fit.
    """
    values = np.where(use, recording.channels[role], np.nan)
    for length_s in (segment_s, segment_s / 2, segment_s / 4):
        try:
            return welch_spectrum(values, sample_rate_hz=recording.sample_rate_hz, segment_s=length_s)
        except NotEnoughData:
            continue
    raise NotEnoughData(f"only {use.sum() / recording.sample_rate_hz:.1f} s of this flight are in this range: choose a wider one")


def amplitude(spectrum: Spectrum) -> FloatArray:
    """Amplitude of a sine in each bin, peak, in the channel's unit: ``√(2 · density · bin · 1.5)``.

    1.5 bins is the noise bandwidth of the Hann window (Harris, Proc. IEEE 66, 1978): a sine on a bin reads right, noise
    does not have an amplitude and depends on the bin width.
    """
    return np.asarray(np.sqrt(2 * spectrum.psd_dps2_per_hz * spectrum.bin_hz * 1.5))


def cumulative_rms(spectrum: Spectrum, *, from_hz: float = 0.0) -> FloatArray:
    """RMS of everything from `from_hz` up to each frequency, in the channel's unit.

    >>> t_s = np.arange(8000) / 2000
    >>> found = welch_spectrum(np.sqrt(2) * 3 * np.sin(2 * np.pi * 100 * t_s), sample_rate_hz=2000)
    >>> round(float(cumulative_rms(found)[-1]), 3)
    3.0
    """
    inside = spectrum.frequency_hz >= from_hz
    return np.asarray(np.sqrt(np.cumsum(np.where(inside, spectrum.psd_dps2_per_hz, 0.0)) * spectrum.bin_hz))
