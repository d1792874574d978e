"""Where each motor sits and which way it turns, as a frame is seen from above; and a frame put in another order."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from nembrit.core.errors import InputError
from nembrit.core.setup.craft import Motor

_SECTORS = ("at the nose", "front right", "right", "rear right", "at the tail", "rear left", "left", "front left")


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A motor's place: to the right and ahead of the middle, as shares of the longest arm."""

    number: int  # of the motor, as logs count it, from 1
    name: str
    right: float
    ahead: float
    turns: str  # clockwise, anticlockwise, or nothing where yaw does not come from it


def places_of(motors: Sequence[Motor]) -> tuple[Place, ...]:
    """Places clockwise from the right of the nose, seen from above; the first of two on one arm is the upper one.

    >>> from nembrit.core.setup.craft import layout_motors
    >>> [place.name for place in places_of(layout_motors("quad"))]
    ['front right', 'rear right', 'rear left', 'front left']
    """
    longest = max((math.hypot(motor.roll, motor.pitch) for motor in motors), default=1.0) or 1.0
    found: list[Place] = []
    order = sorted(range(len(motors)), key=lambda k: (_turned_deg(motors[k]), k))
    for k in order:
        motor = motors[k]
        twins = [other for other in motors if (other.roll, other.pitch) == (motor.roll, motor.pitch)]
        level = "" if len(twins) == 1 else ", upper" if twins[0] is motor else ", lower"
        name = f"{_SECTORS[round(_turned_deg(motor) / 45) % 8]}{level}"
        turns = "clockwise" if motor.yaw < 0 else "anticlockwise" if motor.yaw > 0 else ""
        found.append(Place(number=k + 1, name=name, right=-motor.roll / longest, ahead=motor.pitch / longest, turns=turns))
    names = [place.name for place in found]
    return tuple(
        replace(place, name=f"{place.name} ({1 + names[:k].count(place.name)})") if names.count(place.name) > 1 else place
        for k, place in enumerate(found)
    )


def rearranged(motors: Sequence[Motor], numbers: Sequence[int], clockwise: Sequence[bool]) -> tuple[Motor, ...]:
    """The same frame with its motors counted in another order and turning another way, place by place.

    Raises InputError where a number is missing or twice, or where all motors would turn one way: such a craft cannot yaw.
    """
    places = places_of(motors)
    if sorted(numbers) != list(range(1, len(motors) + 1)):
        raise InputError(f"each motor from 1 to {len(motors)} sits at one place: got {', '.join(map(str, numbers))}")
    has_yaw = any(motor.yaw for motor in motors)
    if has_yaw and len(set(clockwise)) < 2:
        raise InputError("all motors turn the same way, so yaw cannot be controlled: check the propellers")
    found: dict[int, Motor] = {}
    for place, number, is_clockwise in zip(places, numbers, clockwise, strict=True):
        old = motors[place.number - 1]
        yaw = abs(old.yaw) * (-1.0 if is_clockwise else 1.0) if has_yaw else 0.0
        found[number] = replace(old, yaw=yaw)
    return tuple(found[number] for number in range(1, len(motors) + 1))


def _turned_deg(motor: Motor) -> float:
    """Angle of an arm from the nose, clockwise [0 to 360)."""
    return round(math.degrees(math.atan2(-motor.roll, motor.pitch)) % 360, 3)
