"""The stability margin of each axis, in zones."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.estimate import Estimate

# sensitivity peaks at which the zones meet: common practice, no source
SWINGS_PEAK, NEAR_PEAK, SOUND_PEAK, CALM_PEAK = 3.0, 2.0, 1.6, 1.2
# share of the room between a loop that answers nothing and one that swings by itself
ZONES = (
    ("close to oscillation", 0.0, 1 / SWINGS_PEAK), ("low margin", 1 / SWINGS_PEAK, 1 / NEAR_PEAK),
    ("under-damped", 1 / NEAR_PEAK, 1 / SOUND_PEAK), ("good", 1 / SOUND_PEAK, 1 / CALM_PEAK),
    ("conservative", 1 / CALM_PEAK, 1.0),
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """How far one axis keeps from the edge, as shares of the way; 0 is the edge."""

    axis: str
    value: float
    low: float
    high: float
    swing_hz: float
    is_rough: bool  # only the interval should be told
    lively_at: str  # the part of the throttle where it is surely livelier than sound, while hover is not; mostly empty

    @property
    def zone(self) -> str:
        return zone_of(self.value)

    @property
    def is_open(self) -> bool:
        """Whether the flight leaves open if anything has to change; what is most likely too near is led back, not flown again."""
        return self.is_rough and self.low < 1 / SOUND_PEAK < self.high and self.value >= 1 / NEAR_PEAK

    @property
    def told_zone(self) -> str:
        """The zone, or those at both ends of a rough number's interval."""
        first, last = zone_of(self.low), zone_of(self.high)
        return f"{first} to {last}" if self.is_rough and first != last else self.zone


def zone_of(room: float) -> str:
    """
    >>> zone_of(0.4), zone_of(1 / 1.5)
    ('low margin', 'good')
    """
    return next(name for name, start, end in ZONES if start <= room <= end)


def room_of(axis: str, loop: AxisLoop) -> Room:
    """The least distance of the open loop from −1, which is 1 / Ms."""
    peak = loop.sensitivity_peak
    parts = {part.gain.part: part.sensitivity_peak for part in loop.by_throttle if part.gain.part != "hover"}
    lively = [part for part, own in parts.items() if own is not None and surely_beyond(own, SOUND_PEAK)]
    return Room(
        axis=axis,
        value=min(1.0, 1 / peak.value),
        low=1 / peak.high,
        high=min(1.0, 1 / peak.low),
        swing_hz=loop.swing_hz,
        is_rough=loop.rough["sensitivity_peak"],
        lively_at=lively[-1] if lively and peak.value <= SOUND_PEAK else "",
    )


def surely_beyond(own: Estimate, limit: float) -> bool:
    """Whether a whole interval passes a limit."""
    return own.low > limit


def headline(rooms: Sequence[Room], *, is_whole: bool) -> str:
    """What the flight says of the edge, in a sentence; `is_whole`: every axis that followed could be told."""
    if not rooms:
        return "Stability margin unknown: no axis could be measured in this flight"
    nearest = min(rooms, key=lambda one: one.value)
    name = nearest.axis.capitalize()
    if nearest.is_open:
        return f"{name}’s stability margin is uncertain: {nearest.told_zone}"
    if nearest.value < 1 / NEAR_PEAK:
        return f"{name} is close to oscillation, at {nearest.swing_hz:.0f} Hz"
    if not is_whole:
        return f"{name} has the lowest margin of the axes measured: {nearest.zone}"
    if nearest.value < 1 / SOUND_PEAK:
        may_be = nearest.low < 1 / NEAR_PEAK
        return f"{name} is under-damped{', and its margin may be too low' if may_be else '; every margin is within its limit'}"
    return f"Every axis has a good stability margin; {nearest.axis}’s is the lowest"
