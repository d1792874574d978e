"""How near the edge each axis flies, in zones, and what to do about it."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.estimate import Estimate

# sensitivity peaks at which the zones meet: common practice, no source
SWINGS_PEAK, NEAR_PEAK, SOUND_PEAK, CALM_PEAK = 3.0, 2.0, 1.6, 1.2
# share of the room between a loop that answers nothing and one that swings by itself
ZONES = (
    ("swings soon", 0.0, 1 / SWINGS_PEAK), ("too near", 1 / SWINGS_PEAK, 1 / NEAR_PEAK),
    ("lively", 1 / NEAR_PEAK, 1 / SOUND_PEAK), ("sound", 1 / SOUND_PEAK, 1 / CALM_PEAK),
    ("calm", 1 / CALM_PEAK, 1.0),
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
        return f"anything from {first} to {last}" if self.is_rough and first != last else self.zone


def zone_of(room: float) -> str:
    """
    >>> zone_of(0.4), zone_of(1 / 1.5)
    ('too near', 'sound')
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
        return "This flight cannot tell how near the edge it flies"
    nearest = min(rooms, key=lambda one: one.value)
    name = nearest.axis.capitalize()
    if nearest.is_open:
        return f"This flight leaves open how near the edge {nearest.axis} flies: {nearest.told_zone}"
    if nearest.value < 1 / NEAR_PEAK:
        return f"{name} flies too near the edge: it would swing at {nearest.swing_hz:.0f} Hz"
    if not is_whole:
        return f"{name} is the nearest to the edge of those that could be told, {nearest.zone}"
    if nearest.value < 1 / SOUND_PEAK:
        may_be = nearest.low < 1 / NEAR_PEAK
        return f"{name} is lively{' and may be' if may_be else '; no axis is'} too near the edge"
    return f"Every axis keeps well away from the edge; {nearest.axis} is the nearest"


def needs_card(rooms: Sequence[Room]) -> list[str]:
    """Axes to be flown again before anything else; none where another is surely lively."""
    return [] if _too_lively(rooms) else [one.axis for one in rooms if one.is_open]


def _too_lively(rooms: Sequence[Room]) -> list[Room]:
    """Those that are, or may be, too near the edge, and are surely no sound ones."""
    return [one for one in rooms if one.value < 1 / SOUND_PEAK and one.low < 1 / NEAR_PEAK and not one.is_open]


def advice(rooms: Sequence[Room], *, refused: bool = False) -> str:
    """What to do next; `refused`: there are axes that could not be told, with a reason each."""
    if not rooms:
        return "Mend what is named beside each axis, then fly the half-minute card." if refused else ""
    if hot := _too_lively(rooms):
        near = [one.axis for one in hot if one.value < 1 / NEAR_PEAK]
        if near:
            return f"Lower P and D of {_all(near)} by a fifth, or let the filters be faster; then fly the same card."
        may_be = _all([one.axis for one in hot])
        return f"Lower P and D of {may_be} a little, or let the filters be faster; the gains bench says how much."
    if unknown := needs_card(rooms):
        return (
            f"Fly the half-minute card with lively sticks on {_all(unknown)} first: what this flight tells of it is too open to "
            "move gains by."
        )
    lively = [one.axis for one in rooms if one.value < 1 / SOUND_PEAK]
    if lively:
        what = f"{_all(lively).capitalize()} {'is' if len(lively) == 1 else 'are'} flyable, though lively"
        return f"{what}: the gains bench has what would make it sound. Nothing has to change for safety."
    for one in rooms:
        if one.lively_at:
            return (
                f"{one.axis.capitalize()} is sound in hover, and lively at {one.lively_at} throttle: the gains bench has what "
                "would make it sound there, too."
            )
    if all(one.value > 1 / CALM_PEAK for one in rooms):
        return "There is room on every axis: P may go up by a tenth, one axis at a time, as long as motors stay cool."
    return "Nothing has to change for steadiness; what the findings name comes first."


def _all(axes: list[str]) -> str:
    return " and ".join(axes)
