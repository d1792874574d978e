"""Cards composed of the library's manoeuvres: easy to hard, the first seconds close and low."""

from collections.abc import Sequence

from nembrit.core.errors import InputError
from nembrit.core.setup.card import STOP_RULES, WING_STOP_RULES, Card, Manoeuvre
from nembrit.core.setup.library import known_manoeuvre

_MOST_STEPS, _MOST_S = 20, 1800.0
_START = {
    "multirotor": (
        Manoeuvre(kind="take_off", seconds=3.0, how="Rise to two metres and hold, close by.", watch="fast shaking",
                  listen="for a buzz", tells="whether P or D is far too high", height_m=(0.0, 2.0), space="ten metres all round"),
    ),
    "fixed_wing": (
        Manoeuvre(kind="launch", seconds=15.0, how="Launch into the wind, climb straight ahead, trim by feel.",
                  watch="a pull to one side", listen="for an uneven motor", tells="whether it is safe to continue",
                  height_m=(0.0, 50.0), space="two football pitches, nobody below"),
    ),
}  # fmt: skip
_END = {
    "multirotor": Manoeuvre(kind="touch_down", seconds=2.0, how="Come down gently and cut the throttle on the ground."),
    "fixed_wing": Manoeuvre(kind="landing", seconds=25.0, how="Into the wind, throttle cut before it touches."),
}


def composed(kind: str, keys: Sequence[str], *, key: str, name: str, purpose: str = "") -> Card:
    """A card of these manoeuvres for a kind of craft.

    It starts with take-off close by, then goes from easy to hard and, among equals, from low to high; it ends with a landing.
    A manoeuvre that is flown by axis gives one step an axis. The stop rules of the steps stand with those of every card.
    Raises InputError for what is not in the library or not for this craft, for nothing, and for a card beyond half an hour.
    """
    if kind not in _START:
        raise InputError(f"“{kind}” is no kind of craft")
    found = []
    for one in dict.fromkeys(keys):
        known = known_manoeuvre(one)
        if known is None or kind not in known.kinds:
            raise InputError(f"“{one}” is no manoeuvre for this craft")
        found.append(known)
    if not found:
        raise InputError("choose at least one manoeuvre")
    ordered = sorted(found, key=lambda known: (known.step.skill, (known.step.height_m or (0.0, 0.0))[1]))
    steps = (*_START[kind], *(step for known in ordered for step in known.steps), _END[kind])
    if len(steps) > _MOST_STEPS or sum(step.seconds for step in steps) > _MOST_S:
        raise InputError(f"a card has at most {_MOST_STEPS} steps and {_MOST_S / 60:.0f} minutes: split it into two cards")
    if not name.strip():
        raise InputError("a card needs a name")
    own = tuple(dict.fromkeys(step.stop for step in steps if step.stop))
    rules = (WING_STOP_RULES if kind == "fixed_wing" else STOP_RULES) + own
    return Card(key=key, name=name.strip(), purpose=purpose.strip(), manoeuvres=steps, stop_criteria=rules)
