"""A craft as a small picture from above: its arms and motors, or the shape of a plane."""

from dataclasses import dataclass

from nembrit.web.hangar.models import Actuator, Craft
from nembrit.web.hangar.services import motor_places

_ARM = 44.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Outline:
    """Motors as places around the middle; a plane by its tail: v, plain or none (a flying wing)."""

    motors: tuple[tuple[str, str], ...] = ()
    tail: str = ""
    spoken: str = ""


def outline_of(craft: Craft) -> Outline:
    """The picture of a craft."""
    if craft.kind != Craft.Kind.FIXED_WING:
        places = motor_places(craft)
        motors = tuple((f"{_ARM * one.right:.1f}", f"{-_ARM * one.ahead:.1f}") for one in places)
        return Outline(motors=motors, spoken=f"{craft.summary}, from above")
    roles = set(craft.actuators.filter(kind=Actuator.Kind.SERVO).values_list("role", flat=True))
    tail = (
        "none"
        if any(role.startswith("elevon") for role in roles)
        else "v"
        if any("v_tail" in role for role in roles)
        else "plain"
    )
    return Outline(tail=tail, spoken=f"{craft.summary}, from above")
