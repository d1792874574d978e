"""What happens in the first second after a switch to manual, when nothing hides a mis-trim any more."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording

MANUAL_WORDS = ("manual", "direct", "passthrough")
LURCHES_DPS = 8.0  # from where a pilot has to catch it (starting value, no source)
_FROM_S, _TO_S, _LEAST_S = 0.35, 0.8, 1.0
_HELD = 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class Lurch:
    """Mean rates from 0.35 to 0.8 s after the switch, right and nose up positive; before the pilot's hand takes over."""

    at_s: float
    rates_dps: dict[str, float]

    @property
    def largest(self) -> tuple[str, float]:
        return max(self.rates_dps.items(), key=lambda pair: abs(pair[1]))


def lurches_of(recording: Recording) -> tuple[Lurch, ...]:
    """Every switch to manual with the sticks let go.

    A switch drops what the controller held, so that the plane turns by its mis-trim: rate over roll gain is the trim, good to
    about 3 µs (median) and 12 (nine in ten; method measured in the project's own trials). Gusts alone make a few deg/s. Raises
    NotEnoughData without modes, rates or such a switch.
    """
    mode, names = recording.channels.get("mode"), recording.labels.get("mode", ())
    if mode is None:
        raise NotEnoughData("no flight mode in this log: log the mode to find switches to manual")
    manual = [number for number, name in enumerate(names) if any(word in name.lower() for word in MANUAL_WORDS)]
    is_manual = np.isin(mode, manual)
    starts = np.flatnonzero(is_manual[1:] & ~is_manual[:-1]) + 1
    rate_hz = recording.sample_rate_hz
    found = [one for start in starts.tolist() if (one := _lurch(recording, start, is_manual, rate_hz)) is not None]
    if not found:
        known = ", ".join(name for name in names if name) or "none"
        raise NotEnoughData(f"no switch to manual with the sticks let go (modes here: {known}); fly the trim card")
    return tuple(found)


def _lurch(recording: Recording, start: int, is_manual: object, rate_hz: float) -> Lurch | None:
    assert isinstance(is_manual, np.ndarray)
    if not is_manual[start : start + round(_LEAST_S * rate_hz)].all():
        return None
    part = slice(start + round(_FROM_S * rate_hz), start + round(_TO_S * rate_hz))
    rates = {}
    for axis in ("roll", "pitch"):
        stick, gyro = recording.channels.get(f"stick.{axis}"), recording.channels.get(f"gyro.{axis}")
        if stick is not None and np.nanmax(np.abs(stick[start : part.stop]), initial=0.0) > _HELD:
            return None
        if gyro is not None and np.isfinite(gyro[part]).any():
            rates[axis] = float(np.nanmean(gyro[part]))
    return Lurch(at_s=float(recording.start_s + start / rate_hz), rates_dps=rates) if rates else None
