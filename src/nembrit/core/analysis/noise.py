"""How loud the gyro is: spectra, bands, peaks and lines by axis."""

from dataclasses import dataclass

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError
from nembrit.core.noise.bands import BandLevel, band_levels
from nembrit.core.noise.lines import Line
from nembrit.core.noise.peaks import Peak, largest_peaks
from nembrit.core.spectra.density import Spectrum
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class GyroNoise:
    """Noise of one channel of one axis."""

    spectrum: Spectrum
    levels: tuple[BandLevel, ...]
    peaks: tuple[Peak, ...]

    @property
    def bands(self) -> dict[str, BandLevel]:
        return {level.name: level for level in self.levels}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AxisNoise:
    """Noise of one axis; `lines` are those of the raw gyro where it is recorded."""

    raw: GyroNoise | None = None
    filtered: GyroNoise | None = None
    lines: tuple[Line, ...] = ()
    reason: str = ""  # why there is none

    @property
    def shown(self) -> GyroNoise | None:
        """The raw gyro's, else the filtered one's."""
        return self.raw or self.filtered


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Noise:
    """Noise by axis."""

    axes: dict[str, AxisNoise]

    @property
    def is_there(self) -> bool:
        return any(axis.shown for axis in self.axes.values())


def _run(flight: Flight) -> Noise:
    return Noise(axes={axis: _of_axis(flight, axis) for axis in AXES})


def _of_axis(flight: Flight, axis: str) -> AxisNoise:
    found: dict[str, GyroNoise] = {}
    reason = ""
    for name, family in (("raw", "gyro_raw"), ("filtered", "gyro")):
        if flight.recording.has(role := f"{family}.{axis}"):
            try:
                found[name] = noise_of(flight, role)
            except CoreError as error:
                reason = str(error)
    if not found:
        reason = reason or f"no gyro channel for {axis} in this log"
    lines = next((lines for role, lines in flight.lines.items() if role.endswith(f".{axis}")), ())
    return AxisNoise(raw=found.get("raw"), filtered=found.get("filtered"), lines=lines, reason=reason)


def noise_of(flight: Flight, role: str) -> GyroNoise:
    """Spectrum, bands and peaks of one channel. Raises NotEnoughData."""
    spectrum = flight.spectrum(role)
    return GyroNoise(spectrum=spectrum, levels=band_levels(spectrum), peaks=largest_peaks(spectrum))


NOISE = Analysis(key="noise", version=1, result=Noise, run=_run, in_words="noise and its lines")
