"""Flight cards: the manoeuvres to fly, with purpose, what to watch and listen for, and when to stop."""

from dataclasses import asdict, dataclass
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.given import checked
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
WING_KINDS = (
    "launch",
    "hands_off",
    "to_manual",
    "two_speeds",
    "legs",
    "box",
    "circles",
    "full_hold",
    "return_home",
    "slow_flight",
    "stall",
    "failsafe",
    "on_ground",
    "landing",
)


_ALWAYS = ("people, animals or other craft come near: land", "a cell below its landing voltage: land")
STOP_RULES = ("buzzing, shaking or an uncommanded climb: land at once and touch the motors with care", *_ALWAYS)
WING_STOP_RULES = ("flutter, an uneven motor or a control that does not respond: throttle back and land", *_ALWAYS)


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
    title: str = ""  # as the tuner calls it, where the kind alone does not say enough
    height_m: tuple[float, float] | None = None  # above ground, from and to
    space: str = ""
    stop: str = ""  # when to break off, besides the card's own rules
    skill: int = 1  # 1 anybody who hovers, 2 who flies figures, 3 who is at home upside down

    @property
    def name(self) -> str:
        """“Hard stop, roll”."""
        return self.title or ", ".join(filter(None, (self.kind.replace("_", " "), self.axis or "")))


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """A card to fly from take-off to landing."""

    key: str
    name: str
    purpose: str
    manoeuvres: tuple[Manoeuvre, ...]
    stop_criteria: tuple[str, ...] = STOP_RULES

    @property
    def seconds(self) -> float:
        return sum(manoeuvre.seconds for manoeuvre in self.manoeuvres)


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
            manoeuvre = Manoeuvre(**(step | {"height_m": _height(step["height_m"])} if step.get("height_m") else step))
            seconds = within(manoeuvre.seconds, "seconds", 0, 1e6)
            size_ratio = within(manoeuvre.size_ratio, "size_ratio", -1e6, 1e6)
        except (TypeError, ValueError, AttributeError) as error:
            raise InputError(f"manoeuvre {number}: {error}") from None
        if manoeuvre.kind not in (*KINDS, *WING_KINDS):
            raise InputError(f"manoeuvre {number}: “{manoeuvre.kind}” is no kind; expected {', '.join((*KINDS, *WING_KINDS))}")
        if manoeuvre.skill not in (1, 2, 3):
            raise InputError(f"manoeuvre {number}: skill goes from 1 to 3")
        if not 0.5 <= seconds <= 600 or not 0 <= size_ratio <= 1:
            raise InputError(f"manoeuvre {number}: seconds go from 0.5 to 600, size_ratio from 0 to 1")
        if manoeuvre.axis is not None and manoeuvre.axis not in AXES:
            raise InputError(f"manoeuvre {number}: “{manoeuvre.axis}” is no axis; expected {', '.join(AXES)}")
        manoeuvres.append(manoeuvre)
    name = str(document.get("name", "Card"))
    told = checked(list[str], document.get("stop_criteria") or [], where="stop_criteria")
    rules = tuple(told) or STOP_RULES
    return Card(
        key=str(document.get("key", name)),
        name=name,
        purpose=str(document.get("purpose", "")),
        manoeuvres=tuple(manoeuvres),
        stop_criteria=rules,
    )


def _height(given: Any) -> tuple[float, float]:
    low, high = given
    return within(low, "height_m", 0, 1000), within(high, "height_m", 0, 1000)


def card_to_json(card: Card) -> dict[str, Any]:
    """The `nembrit.card/1` document that `card_from_json` reads back."""
    plain = Manoeuvre(kind="", seconds=0.0)
    always = ("kind", "seconds", "axis", "size_ratio", "how", "watch", "listen", "tells")
    steps = [
        {key: value for key, value in asdict(step).items() if key in always or value != getattr(plain, key)}
        for step in card.manoeuvres
    ]
    return {
        "schema": "nembrit.card/1",
        "key": card.key,
        "name": card.name,
        "purpose": card.purpose,
        "stop_criteria": list(card.stop_criteria),
        "manoeuvres": steps,
    }
