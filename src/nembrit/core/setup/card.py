"""Flight cards: the manoeuvres to fly, with purpose, what to watch and listen for, and when to stop."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.setup.limits import within
from nembrit.core.types import AXES

KINDS = (
    "take_off",
    "hover",
    "cruise",
    "punch",
    "chop",
    "snap_stop",
    "doublet",
    "sweep",
    "wash_descent",
    "turn",
    "full_throttle",
    "zero_throttle",
    "touch_down",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Manoeuvre:
    """One step of a card. `size_ratio` is stick or throttle travel as a share of full."""

    kind: str
    seconds: float
    axis: str | None = None
    size_ratio: float = 0.5
    how: str = ""
    watch: str = ""
    listen: str = ""
    tells: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """A card to fly from take-off to landing."""

    key: str
    name: str
    purpose: str
    manoeuvres: tuple[Manoeuvre, ...]
    stop_criteria: tuple[str, ...] = (
        "buzzing, shaking or a climb by itself: land at once and touch the motors with care",
        "people, animals or other craft come near: land",
        "a cell below its landing voltage: land",
    )

    @property
    def seconds(self) -> float:
        return sum(manoeuvre.seconds for manoeuvre in self.manoeuvres)


def _step(kind: str, seconds: float, how: str, axis: str | None = None, size: float = 0.5, **notes: str) -> Manoeuvre:
    return Manoeuvre(kind=kind, seconds=seconds, axis=axis, size_ratio=size, how=how, **notes)


_TAKE_OFF = _step(
    "take_off",
    3.0,
    "Rise to two metres and hold, close by.",
    watch="fast shaking",
    listen="for a buzz",
    tells="whether P or D is far too high",
)
_LAND = _step("touch_down", 2.0, "Come down gently and cut the throttle on the ground.")

CARDS: tuple[Card, ...] = (
    Card(
        key="first_hover",
        name="First hover",
        purpose="Is it safe to go on? Low and close, in rate mode.",
        manoeuvres=(
            _TAKE_OFF,
            _step(
                "hover", 8.0, "Hold still at two metres.", watch="slow wobble", listen="for a rough tone", tells="I and balance"
            ),
            _step(
                "cruise",
                6.0,
                "Small slow stick movements on every axis.",
                watch="whether it follows",
                tells="directions and gains",
            ),
            _LAND,
        ),
    ),
    Card(
        key="response",
        name="Half-minute card",
        purpose="Enough stick movement on every axis to measure response and noise in one short flight.",
        manoeuvres=(
            _TAKE_OFF,
            _step("hover", 4.0, "Hold still.", watch="drift", listen="for a rough tone", tells="noise without stick movement"),
            _step("cruise", 5.0, "Weave about with lively sticks.", size=0.4, watch="lag", tells="response of every axis"),
            _step(
                "snap_stop",
                2.5,
                "Roll fast one way, stop hard.",
                axis="roll",
                size=0.8,
                watch="bounce-back",
                tells="P and D, roll",
            ),
            _step(
                "snap_stop",
                2.5,
                "Pitch fast one way, stop hard.",
                axis="pitch",
                size=0.8,
                watch="bounce-back",
                tells="P and D, pitch",
            ),
            _step("snap_stop", 2.5, "Yaw fast one way, stop hard.", axis="yaw", size=0.8, watch="slide", tells="yaw P"),
            _step(
                "punch",
                2.0,
                "Full throttle for one second, then back.",
                size=0.9,
                watch="the nose",
                listen="for a buzz",
                tells="I",
            ),
            _step("wash_descent", 4.0, "Sink straight down through your own wash.", watch="wobble", tells="D, delay and I"),
            _step("cruise", 2.5, "Fly home with lively sticks.", size=0.4),
            _LAND,
        ),
    ),
    Card(
        key="noise_ramp",
        name="Throttle ramp",
        purpose="Noise at every throttle: tells motors, frame and mount apart.",
        manoeuvres=(
            _TAKE_OFF,
            _step("hover", 6.0, "Hold still.", listen="for a rough tone"),
            _step(
                "sweep",
                12.0,
                "Raise the throttle slowly from a quarter to nearly full; climb.",
                size=0.9,
                listen="where the tone changes",
                tells="which noise follows the motors",
            ),
            _step("wash_descent", 5.0, "Come down with some forward speed.", watch="wobble"),
            _step("hover", 4.0, "Hold still."),
            _LAND,
        ),
    ),
    Card(
        key="full",
        name="Full card",
        purpose="All components of a test flight, in one minute and a bit.",
        manoeuvres=(
            _TAKE_OFF,
            _step("hover", 8.0, "Hold still.", watch="slow swing", tells="I and balance"),
            *(
                _step(
                    "doublet",
                    3.0,
                    f"Two quick opposite {axis} pulses.",
                    axis=axis,
                    size=0.5,
                    watch="overshoot",
                    tells=f"{axis} response",
                )
                for axis in AXES
            ),
            _step("cruise", 10.0, "Weave about with lively sticks.", size=0.45, watch="lag", tells="response of every axis"),
            *(
                _step(
                    "snap_stop",
                    3.0,
                    f"A full {axis} movement, stop hard.",
                    axis=axis,
                    size=0.9,
                    watch="bounce-back",
                    tells=f"P and D, {axis}",
                )
                for axis in AXES
            ),
            _step(
                "punch",
                3.0,
                "Full throttle for one second, then back.",
                size=0.95,
                watch="the nose",
                listen="for a buzz",
                tells="I",
            ),
            _step("punch", 3.0, "The same, flying sideways.", size=0.95, watch="the arm", tells="I on the other axis"),
            _step("wash_descent", 6.0, "Sink straight down through your own wash.", watch="wobble", tells="D, delay and I"),
            _step("turn", 6.0, "Fast turns with yaw mixed in.", size=0.6, watch="sliding past the turn", tells="yaw P"),
            _step("zero_throttle", 2.0, "Over the top at zero throttle.", watch="shimmy as power returns", tells="idle"),
            _step(
                "full_throttle",
                3.0,
                "Full throttle, straight.",
                size=1.0,
                listen="for oscillation",
                tells="P and D at high throttle",
            ),
            _step("cruise", 5.0, "Fly home with lively sticks.", size=0.4),
            _LAND,
        ),
    ),
)


def card_from_json(document: dict[str, Any]) -> Card:
    """Read a `nembrit.card/1` document; raises InputError naming the manoeuvre at fault."""
    if document.get("schema") != "nembrit.card/1":
        raise InputError('expected a card with "schema": "nembrit.card/1"')
    steps = document.get("manoeuvres")
    if not isinstance(steps, list) or not steps:
        raise InputError("a card needs at least one manoeuvre")
    manoeuvres = []
    for number, step in enumerate(steps, start=1):
        try:
            manoeuvre = Manoeuvre(**step)
            seconds = within(manoeuvre.seconds, "seconds", 0, 1e6)
            size_ratio = within(manoeuvre.size_ratio, "size_ratio", -1e6, 1e6)
        except (TypeError, ValueError) as error:
            raise InputError(f"manoeuvre {number}: {error}") from None
        if manoeuvre.kind not in KINDS:
            raise InputError(f"manoeuvre {number}: “{manoeuvre.kind}” is no kind; expected {', '.join(KINDS)}")
        if not 0.5 <= seconds <= 600 or not 0 <= size_ratio <= 1:
            raise InputError(f"manoeuvre {number}: seconds go from 0.5 to 600, size_ratio from 0 to 1")
        if manoeuvre.axis is not None and manoeuvre.axis not in AXES:
            raise InputError(f"manoeuvre {number}: “{manoeuvre.axis}” is no axis; expected {', '.join(AXES)}")
        manoeuvres.append(manoeuvre)
    name = str(document.get("name", "Card"))
    return Card(
        key=str(document.get("key", name)),
        name=name,
        purpose=str(document.get("purpose", "")),
        manoeuvres=tuple(manoeuvres),
    )


def card_to_json(card: Card) -> dict[str, Any]:
    """The `nembrit.card/1` document that `card_from_json` reads back."""
    steps = [
        {
            "kind": step.kind,
            "seconds": step.seconds,
            "axis": step.axis,
            "size_ratio": step.size_ratio,
            "how": step.how,
            "watch": step.watch,
            "listen": step.listen,
            "tells": step.tells,
        }
        for step in card.manoeuvres
    ]
    return {
        "schema": "nembrit.card/1",
        "key": card.key,
        "name": card.name,
        "purpose": card.purpose,
        "manoeuvres": steps,
    }


_IN_EVERY_FLIGHT = ("take_off", "hover", "cruise", "touch_down")
_MOST_OF_IT = 0.75


def likely_card(flown: Iterable[tuple[str, str | None]]) -> Card | None:
    """The card whose manoeuvres a flight shows, from its manoeuvres as kind and axis; None where none is told apart.

    The one with the most own manoeuvres flown, of those that were flown for the most part (common practice, no source).

    >>> likely_card([("hover", None), ("sweep", None), ("wash_descent", None)]).key, likely_card([("hover", None)])
    ('noise_ramp', None)
    """
    done = set(flown)
    found = []
    for card in CARDS:
        own = {(step.kind, step.axis) for step in card.manoeuvres if step.kind not in _IN_EVERY_FLIGHT}
        if own and len(own & done) >= _MOST_OF_IT * len(own):
            found.append((len(own & done), card))
    return max(found, key=lambda pair: pair[0])[1] if found else None
