"""An automatic gain flight: how often and how long the stick was held, and whether the gain has settled."""

import itertools
from dataclasses import dataclass

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray

_FULL, _SETTLE_S, _AT_LIMIT, _OVER, _FALL = 0.9, 0.3, 0.97, 1.02, 0.004
_ENOUGH, _LONG_S, _HOLD_S = 8, 2.0, 1.0
_LAST, _SPREAD, _SLOPE, _NEVER_SPREAD, _NEVER_SLOPE = 5, 0.15, 0.035, 0.02, 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class GainFlight:
    """What one axis of such a flight shows."""

    repetitions: int
    hold_median_s: float
    long_enough_ratio: float  # share of holds of two seconds or more
    overshoots: int
    gains: tuple[float, ...]  # after every hold, where the gain was logged
    verdict: str  # settled, still_rising, too_few, not_settled, never_moved, unknown (the gain was not logged)

    @property
    def gain_last(self) -> float | None:
        return self.gains[-1] if self.gains else None


def gain_flight(recording: Recording, axis: str) -> GainFlight:
    """Judge the holds of one axis.

    A hold is |stick| > 0.9, split where its sign changes. The achieved over the wanted rate counts only while the hold lasts
    for more than 0.3 s and the wanted rate is at its limit; an overshoot is a ratio above 1.02 or a logged gain that falls by
    more than 0.4 %. Settled: at least one lowering, the last five gains within 15 % and a slope below 3.5 % a hold; or no
    lowering and a spread below 2 %. Below eight holds of a second: too few; a gain that never changed proves nothing. Rules
    measured in the project's own trials; that the count
    matters is common practice, no source. Raises NotEnoughData without stick, wanted and achieved rate, or without any hold.
    """
    roles = (f"stick.{axis}", f"setpoint.{axis}", f"gyro.{axis}")
    if not recording.has(*roles):
        raise NotEnoughData(f"stick, wanted and achieved rate of {axis} are needed: switch their logging on")
    stick, wanted, achieved = (recording.channels[role] for role in roles)
    holds = _holds(stick, recording.sample_rate_hz)
    if not holds:
        raise NotEnoughData(f"the {axis} stick was never held at its end: hold it for two full seconds, at least twenty times")
    gain = recording.channels.get(f"gain.{axis}.f")
    gains = tuple(_after(gain, part, recording.sample_rate_hz) for part in holds) if gain is not None else ()
    limit = float(np.nanmax(np.abs(wanted)))
    over = 0
    for place, part in enumerate(holds):
        ratio = _ratio(wanted[part], achieved[part], limit, recording.sample_rate_hz)
        before = gains[place - 1] if gains and place else (float(gain[0]) if gain is not None else None)
        fell = bool(gains) and before is not None and gains[place] < before * (1 - _FALL)
        over += fell if gains else (ratio is not None and ratio > _OVER)
    lengths = np.array([(part.stop - part.start) / recording.sample_rate_hz for part in holds])
    return GainFlight(
        repetitions=len(holds), hold_median_s=float(np.median(lengths)), long_enough_ratio=float((lengths >= _LONG_S).mean()),
        overshoots=int(over), gains=gains, verdict=_verdict(np.array(gains), int(over), int((lengths >= _HOLD_S).sum())),
    )  # fmt: skip


def _holds(stick: FloatArray, rate_hz: float) -> list[slice]:
    with np.errstate(invalid="ignore"):
        side = np.where(stick > _FULL, 1, np.where(stick < -_FULL, -1, 0))
    edges = np.flatnonzero(np.diff(np.concatenate(([0], side, [0]))))
    found = []
    for a, b in itertools.pairwise(edges):
        if side[a] != 0 and (b - a) / rate_hz > 0.1:
            found.append(slice(int(a), int(b)))
    return found


def _after(gain: FloatArray, part: slice, rate_hz: float) -> float:
    """The gain a little after a hold: controllers write it when the stick is let go."""
    later = gain[part.stop : part.stop + max(1, round(0.3 * rate_hz))]
    good = later[np.isfinite(later)]
    return float(good[-1]) if good.size else float(gain[part.stop - 1])


def _ratio(wanted: FloatArray, achieved: FloatArray, limit: float, rate_hz: float) -> float | None:
    settled: BoolArray = np.arange(wanted.size) / rate_hz > _SETTLE_S
    with np.errstate(invalid="ignore"):
        usable = settled & (np.abs(wanted) > _AT_LIMIT * limit) & np.isfinite(achieved)
    return float(achieved[usable].sum() / wanted[usable].sum()) if usable.any() else None


def _verdict(gains: FloatArray, lowered: int, n_held: int) -> str:
    if gains.size == 0:
        return "unknown"
    if n_held >= _ENOUGH and float(np.ptp(gains)) <= 1e-9:
        return "never_moved"
    last = gains[-_LAST:]
    slope = float(np.polyfit(np.arange(last.size), np.log(np.maximum(last, 1e-9)), 1)[0]) if last.size > 1 else 0.0
    spread = float((last.max() - last.min()) / max(last.mean(), 1e-9))
    if n_held < _ENOUGH:
        return "too_few"
    if lowered >= 1 and spread < _SPREAD and abs(slope) < _SLOPE:
        return "settled"
    if lowered == 0 and spread < _NEVER_SPREAD:
        return "settled"
    return "still_rising" if lowered == 0 and slope > _NEVER_SLOPE else "not_settled"
