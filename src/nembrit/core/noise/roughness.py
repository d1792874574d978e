"""How rough the motor outputs are: what makes motors hot."""

import math
from dataclasses import dataclass

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.spectra.density import welch_spectrum

_LOWEST_HZ = 60.0  # motors and D term: above this only heat comes of it
_LEAST_RATE_HZ = 250.0
_SEGMENT_S = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class OutputRoughness:
    """RMS of motor commands above 60 Hz, share of full range."""

    by_motor: dict[int, float]  # motors count from 1

    @property
    def overall_ratio(self) -> float:
        """Root of the mean power over all motors."""
        return math.sqrt(sum(value**2 for value in self.by_motor.values()) / len(self.by_motor))


def output_roughness(recording: Recording) -> OutputRoughness | None:
    """RMS of every motor's command above 60 Hz over the whole part [share of full range].

    None without motor channels, below a log rate of 250 Hz, or with too little flight free of gaps. The power of
    Welch's density (0.25 s, Hann) above 60 Hz, so that a gap costs only its own segments.

    >>> import numpy as np
    >>> t_s = np.arange(4000) / 1000
    >>> shaking = Recording.of({"motor.1": 0.5 + 0.02 * np.sin(2 * np.pi * 120 * t_s)}, sample_rate_hz=1000)
    >>> round(output_roughness(shaking).overall_ratio * math.sqrt(2), 4)
    0.02
    """
    found = {n: level for n in range(1, 9) if (level := rms_above(recording, f"motor.{n}")) is not None}
    return OutputRoughness(by_motor=found) if found else None


def rms_above(recording: Recording, role: str, low_hz: float = _LOWEST_HZ) -> float | None:
    """RMS of one channel above a frequency, in its unit; None where it cannot be told."""
    if not recording.has(role) or recording.sample_rate_hz < _LEAST_RATE_HZ:
        return None
    try:
        spectrum = welch_spectrum(recording.channels[role], sample_rate_hz=recording.sample_rate_hz, segment_s=_SEGMENT_S)
    except NotEnoughData:
        return None
    above = spectrum.frequency_hz >= low_hz
    return math.sqrt(float(spectrum.psd_dps2_per_hz[above].sum() * spectrum.bin_hz))
