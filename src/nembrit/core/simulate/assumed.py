"""What the simulator assumes where a craft's settings do not tell its gains, so that every craft can be flown."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.filters.stated import whole_response
from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.controller import Controller, controller_from_settings
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
_MOST_PEAK, _SOFTER, _SOFTEST = 1.7, 0.8, 0.05  # sensitivity peak of an assumed loop, and the steps down to it
_LOOP_RATES_HZ, _USUAL_RATE_HZ = (500.0, 16_000.0), 4000.0
_HZ = np.geomspace(1.0, 250.0, 200)


@dataclass(frozen=True, slots=True, kw_only=True)
class Assumption:
    """One gain whose scale is not known, and what its number is taken to stand for; or one that no setting tells."""

    name: str  # of the setting; what it is in words where there is none
    shown: float  # the reference's number, or a usual one where that is 0
    is_shown: bool
    gain: float  # in SI units
    unit: str
    is_there: bool = True

    @property
    def in_words(self) -> str:
        if not self.is_there:
            return f"{self.name}: no setting has this meaning; {self.gain:.3g} {self.unit}"
        told = f"{self.shown:g} stands for" if self.is_shown else f"0; {self.shown:g} would stand for"
        return f"{self.name} = {told} {self.gain:.3g} {self.unit}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Filled:
    """A name map without unknown scales of gains, settings for gains that none tells, and what was assumed."""

    names: NameMap
    extra: tuple[Setting, ...] = ()
    assumptions: tuple[Assumption, ...] = ()

    def controller(self, settings: Sequence[Setting]) -> Controller:
        """The controller that settings describe with what is assumed beside them. Raises InputError for a value in them."""
        return controller_from_settings((*settings, *self.extra), self.names)


def filled_map(reference: Sequence[Setting], names: NameMap, airframe: Airframe) -> Filled:
    """Fill in what the settings leave open.

    The gains of the reference configuration are taken as sound for this craft: each unknown scale is the sound gain over the
    number shown. So later changes act in proportion, while how near the edge the reference itself flies is not told. Gains
    that no setting tells are the sound ones. Where the reference's own filters would make such a loop oscillate, all that is
    assumed is softer by as much as it takes.
    """
    share = 1.0
    found = _filled(reference, names, airframe, share)
    while found.assumptions and share > _SOFTEST and _peak(found, reference, airframe) > _MOST_PEAK:
        share *= _SOFTER
        found = _filled(reference, names, airframe, share)
    return found


def _filled(reference: Sequence[Setting], names: NameMap, airframe: Airframe, share: float) -> Filled:
    shown = {setting.name: number(setting.value) for setting in reference}
    filled, extra, assumed = dict(names), list[Setting](), list[Assumption]()
    named = {meaning.key: name for name, meaning in names.items() if name in shown}
    for axis in AXES:
        for term, sound in _SOUND[axis].items():
            key, unit = f"gain.rate.{axis}.{term}", GAIN_UNITS[term]
            gain = share * _sound_gain(airframe, axis, term, sound)
            name = named.get(key)
            if term == "p" and name is not None and names[name].scale is None and not shown[name]:
                name = None  # nothing flies without P
            if name is None and term != "f":
                name = MEANINGS[key]
                filled[name] = Meaning(key, gain)
                extra.append(Setting(name, "1"))
                assumed.append(Assumption(name=name, shown=1.0, is_shown=False, gain=gain, unit=unit, is_there=False))
            elif name is not None and names[name].scale is None:
                own = shown[name] or _USUAL_NUMBER
                filled[name] = Meaning(key, gain / own)
                assumed.append(Assumption(name=name, shown=own, is_shown=bool(shown[name]), gain=gain, unit=unit))
    rate = next((name for name, meaning in names.items() if meaning.key == "loop_rate_hz" and name in shown), None)
    if rate is not None and not _is_flyable_rate(shown[rate], filled[rate].scale):
        filled[rate] = Meaning("loop_rate_hz", _USUAL_RATE_HZ / (shown[rate] or 1.0))
    return Filled(names=filled, extra=tuple(extra), assumptions=tuple(assumed))


def _is_flyable_rate(shown: float | None, scale: float | None) -> bool:
    low, high = _LOOP_RATES_HZ
    return shown is not None and low <= shown * (scale or 1.0) <= high


def _sound_gain(airframe: Airframe, axis: str, term: str, sound: float) -> float:
    """A sound gain for a craft: the less authority, the larger; P lower for slow motors."""
    scale = _AUTHORITY_DPS2 / airframe.authority_dps2[0]
    slow = airframe.motor_lag_s / _LAG_S if term == "p" else 1.0
    return sound * scale / slow


def _peak(filled: Filled, reference: Sequence[Setting], airframe: Airframe) -> float:
    """Largest sensitivity peak of the assumed loops on the airframe: |1 / (1 + L)| up to 250 Hz."""
    controller = filled.controller(reference)
    s = 2j * np.pi * _HZ
    gyro = whole_response((*controller.chip, *controller.gyro), _HZ, controller.loop_rate_hz)
    d_filters = whole_response(controller.d_term, _HZ, controller.loop_rate_hz)
    delay_s = airframe.motor_delay_s + 1.5 / controller.loop_rate_hz
    motor = np.exp(-s * delay_s) / (1 + airframe.motor_lag_s * s)
    peaks = []
    for axis, authority, damping in zip(AXES[:2], airframe.authority_dps2, airframe.damping_per_s, strict=False):
        gains = controller.gains[axis]
        command = gains.p + gains.i / s + gains.d * s * d_filters
        loop = authority / (s + damping) * motor * gyro * command
        turns = float(np.unwrap(np.angle(1 + loop))[-1] - np.angle(1 + loop[0]))
        peaks.append(np.inf if abs(turns) > np.pi else float(np.max(1 / np.abs(1 + loop))))
    return max(peaks)
