"""The cards that ship with the application, and which of them a flight flew."""

from collections.abc import Iterable

from nembrit.core.setup.card import Card, Manoeuvre
from nembrit.core.setup.compose import composed
from nembrit.core.types import AXES


def _step(kind: str, seconds: float, how: str, axis: str | None = None, size: float = 0.5, *,
          watch: str = "", listen: str = "", tells: str = "") -> Manoeuvre:  # fmt: skip
    return Manoeuvre(
        kind=kind, seconds=seconds, axis=axis, size_ratio=size, how=how, watch=watch, listen=listen, tells=tells
    )  # fmt: skip


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
        purpose="Is it safe to continue? Fly low and close, in rate mode.",
        manoeuvres=(
            _TAKE_OFF,
            _step(
                "hover", 8.0, "Hold still at two metres.", watch="slow wobble", listen="for an uneven tone", tells="I and balance"
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
            _step("hover", 4.0, "Hold still.", watch="drift", listen="for an uneven tone", tells="noise without stick movement"),
            _step("cruise", 5.0, "Weave with quick stick movements.", size=0.4, watch="lag", tells="response of every axis"),
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
            _step("wash_descent", 4.0, "Descend straight down through the prop wash.", watch="wobble", tells="D, delay and I"),
            _step("cruise", 2.5, "Fly home with quick stick movements.", size=0.4),
            _LAND,
        ),
    ),
    Card(
        key="noise_ramp",
        name="Throttle ramp",
        purpose="Noise at every throttle: separates motors, frame and mount.",
        manoeuvres=(
            _TAKE_OFF,
            _step("hover", 6.0, "Hold still.", listen="for an uneven tone"),
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
        purpose="A complete test flight in a little over a minute.",
        manoeuvres=(
            _TAKE_OFF,
            _step("hover", 8.0, "Hold still.", watch="slow wobble", tells="I and balance"),
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
            _step("cruise", 10.0, "Weave with quick stick movements.", size=0.45, watch="lag", tells="response of every axis"),
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
            _step("wash_descent", 6.0, "Descend straight down through the prop wash.", watch="wobble", tells="D, delay and I"),
            _step("turn", 6.0, "Fast turns with yaw mixed in.", size=0.6, watch="sliding wide", tells="yaw P"),
            _step("zero_throttle", 2.0, "Float over the top at zero throttle.", watch="shimmy when power returns", tells="idle"),
            _step(
                "full_throttle",
                3.0,
                "Full throttle, straight.",
                size=1.0,
                listen="for oscillation",
                tells="P and D at high throttle",
            ),
            _step("cruise", 5.0, "Fly home with quick stick movements.", size=0.4),
            _LAND,
        ),
    ),
)


_ON_GROUND = ("propeller off; a helper holds the plane where the motor must run",)
WING_CARDS: tuple[Card, ...] = (
    composed("fixed_wing", ["hands_off", "to_manual"], key="wing_trim", name="Trim flight",
             purpose="Does it fly straight hands off, and which trim does the controller hold?"),
    composed("fixed_wing", ["two_speeds"], key="wing_two_speeds", name="Two speeds",
             purpose="Separates a yaw trim error from a tilted horizon."),
    composed("fixed_wing", ["legs", "box"], key="wing_tracks", name="Legs and box",
             purpose="Does it weave, which way is it pulled, and how strong is the wind?"),
    composed("fixed_wing", ["full_hold"], key="wing_gains", name="Full holds",
             purpose="Trains the automatic gains, and shows whether they have settled."),
    composed("fixed_wing", ["return_home"], key="wing_return", name="Return home",
             purpose="Does it clear the obstacles, come home and stop where it should?"),
    composed("fixed_wing", ["stall"], key="wing_stall", name="Slow flight and stall", purpose="How slowly is it safe to fly?"),
    composed("fixed_wing", ["failsafe"], key="wing_failsafe", name="Failsafe", purpose="What happens when the link is lost?"),
    composed("fixed_wing", ["long_box"], key="wing_airspeed", name="Airspeed by opposite legs",
             purpose="Does the airspeed sensor tell the truth?"),
    Card(key="wing_range", name="Range check", purpose="Does the radio reach far enough?", stop_criteria=_ON_GROUND,
         manoeuvres=(Manoeuvre(kind="on_ground", seconds=120.0, title="Walk away", size_ratio=0.0,
                               how="Reduced power. Walk away and move every control all the time.",
                               watch="a surface that hesitates or jumps", tells="whether the radio reaches far enough",
                               space="a free line of sight"),)),
    Card(key="wing_level", name="Level of the board", purpose="Does it know where level is?", stop_criteria=_ON_GROUND,
         manoeuvres=(Manoeuvre(kind="on_ground", seconds=15.0, title="Level on the table", size_ratio=0.0,
                               how="Level by a spirit level, hands off, ten seconds.", tells="roll and pitch of the board"),
                     Manoeuvre(kind="on_ground", seconds=15.0, title="Turned round by 180°", size_ratio=0.0,
                               how="Same spot, nose the other way, ten seconds.", tells="the slope of the table"))),
)  # fmt: skip


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
