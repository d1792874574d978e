"""What the simulator assumes where a tuner does not know the scale of their gains."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.namemap import GAIN_UNITS, MEANINGS, Meaning, NameMap
from nembrit.core.simulate.airframe import Airframe
from nembrit.core.types import AXES

# share of full motor range per unit of error, sound on a craft of _AUTHORITY with motors of _LAG_S (our own trials, no source)
_SOUND = {
    "roll": {"p": 0.0021, "i": 0.008, "d": 3.4e-5, "f": 1e-5},
    "pitch": {"p": 0.0025, "i": 0.009, "d": 4e-5, "f": 1e-5},
    "yaw": {"p": 0.006, "i": 0.016, "d": 1e-5, "f": 1e-5},
}
_AUTHORITY_DPS2, _LAG_S = 38_000.0, 0.018
_USUAL_NUMBER = 40.0  # stands for a sound gain where the reference shows 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Assumption:
    """One gain whose scale is not known, and what its number is taken to stand for."""

    name: str
    shown: float  # the reference's number, or a usual one where that is 0
    is_shown: bool
    gain: float  # in SI units
    unit: str

    @property
    def in_words(self) -> str:
        told = f"{self.shown:g} stands for" if self.is_shown else f"0; {self.shown:g} would stand for"
        return f"{self.name} = {told} {self.gain:.3g} {self.unit}"


def assumed_scales(reference: Sequence[Setting], names: NameMap, airframe: Airframe) -> tuple[NameMap, tuple[Assumption, ...]]:
    """A name map without unknown scales of gains, and what was assumed.

    The gains of the reference configuration are taken as sound for this craft: each scale is the sound gain over the
    number shown. So later changes act in proportion, while how near the edge the reference itself flies is not told.
    """
    shown = {setting.name: number(setting.value) for setting in reference}
    filled: dict[str, Meaning] = dict(names)
    assumed = []
    for name, meaning in names.items():
        if meaning.scale is not None or not meaning.key.startswith("gain.rate."):
            continue
        _, _, axis, term = meaning.key.split(".")
        if axis not in AXES or meaning.key not in MEANINGS:
            continue
        own = shown.get(name) or _USUAL_NUMBER
        gain = _sound_gain(airframe, axis, term)
        filled[name] = Meaning(meaning.key, gain / own)
        assumed.append(Assumption(name=name, shown=own, is_shown=bool(shown.get(name)), gain=gain, unit=GAIN_UNITS[term]))
    return filled, tuple(assumed)


def _sound_gain(airframe: Airframe, axis: str, term: str) -> float:
    """A sound gain for a craft: the less authority, the larger; P lower for slow motors."""
    scale = _AUTHORITY_DPS2 / airframe.authority_dps2[0]
    slow = airframe.motor_lag_s / _LAG_S if term == "p" else 1.0
    return _SOUND[axis][term] * scale / slow
