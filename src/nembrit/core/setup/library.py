"""The library of manoeuvres that cards are composed of (common practice, no source), for both kinds of craft."""

from dataclasses import dataclass

from nembrit.core.setup.card import Manoeuvre
from nembrit.core.types import AXES

QUESTIONS = {
    "safe": "Is it safe to continue?",
    "noise": "Where does the noise come from?",
    "response": "How does it follow the sticks?",
    "hold": "Does it hold its attitude?",
    "wash": "Does it shake in prop wash?",
    "yaw": "Has yaw enough authority?",
    "throttle": "What happens at the ends of the throttle?",
    "provoke": "Does the old fault come back?",
    "trim": "Is it trimmed?",
    "navigation": "Does it keep its track?",
    "wind": "How strong is the wind?",
    "return": "Does it come home as it should?",
    "gains": "Have the automatic gains settled?",
    "airspeed": "Does the airspeed sensor tell the truth?",
    "link": "What happens when the link is lost?",
}
_MULTIROTOR, _WING = ("multirotor",), ("fixed_wing",)


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """One manoeuvre of the library: how it is flown, on which craft, and what it is good for."""

    key: str
    step: Manoeuvre
    kinds: tuple[str, ...]
    stages: tuple[str, ...]
    questions: tuple[str, ...]
    by_axis: tuple[str, ...] = ()  # flown once an axis

    @property
    def steps(self) -> tuple[Manoeuvre, ...]:
        """As many steps as it has axes."""
        return tuple(on_axis(self.step, axis) for axis in self.by_axis) or (self.step,)


def on_axis(step: Manoeuvre, axis: str) -> Manoeuvre:
    """The same manoeuvre on one axis; “{axis}” in its words is that axis."""
    words = {name: getattr(step, name).replace("{axis}", axis) for name in ("title", "how", "watch", "tells")}
    return Manoeuvre(
        kind=step.kind, seconds=step.seconds, axis=axis, size_ratio=step.size_ratio, listen=step.listen, height_m=step.height_m,
        space=step.space, stop=step.stop, skill=step.skill, **words,
    )  # fmt: skip


def _entry(
    key: str, kind: str, title: str, seconds: float, how: str, height_m: tuple[float, float], space: str, *,
    kinds: tuple[str, ...] = _MULTIROTOR, stages: tuple[str, ...], questions: tuple[str, ...], by_axis: tuple[str, ...] = (),
    size: float = 0.5, watch: str = "", listen: str = "", tells: str = "", stop: str = "", skill: int = 1,
) -> Known:  # fmt: skip
    step = Manoeuvre(
        kind=kind, seconds=seconds, size_ratio=size, how=how, watch=watch, listen=listen, tells=tells, title=title,
        height_m=height_m, space=space, stop=stop, skill=skill,
    )  # fmt: skip
    return Known(key=key, step=step, kinds=kinds, stages=stages, questions=questions, by_axis=by_axis)


_NEAR, _FIELD, _WIDE = "ten metres all round", "a football pitch", "two football pitches, nobody below"
_LOW = (1.0, 3.0)

MULTIROTOR: tuple[Known, ...] = (
    _entry("hover", "hover", "Hover", 8.0, "Hold still at two metres, hands off as far as possible.", _LOW, _NEAR,
           stages=("baseline", "mechanics", "filters", "gains", "verify"), questions=("safe", "noise", "hold"),
           watch="a slow wobble", listen="for an uneven tone", tells="I, balance, noise without stick movement",
           stop="it shakes, or climbs uncommanded"),
    _entry("feel", "cruise", "Small movements", 6.0, "Small slow stick movements on every axis.", _LOW, _NEAR, size=0.2,
           stages=("baseline",), questions=("safe",), watch="whether it follows", tells="directions and gains",
           stop="it moves against the stick"),
    _entry("weave", "cruise", "Weave with quick stick movements", 8.0, "Weave; never make the same movement "
        "twice.", (3.0, 10.0), _FIELD,
           size=0.45, stages=("baseline", "filters", "gains", "verify"), questions=("response", "noise"), watch="lag",
           tells="response of every axis", skill=2),
    _entry("pulses", "doublet", "Two quick pulses, {axis}", 3.0, "Two quick opposite {axis} pulses from a hover.", (3.0, 8.0),
           _NEAR, by_axis=AXES, stages=("baseline", "gains", "verify"), questions=("response",), watch="overshoot",
           tells="{axis} response"),
    _entry("hard_stop", "snap_stop", "Hard stop, {axis}", 3.0, "A full {axis} movement, stop hard; then the other way.",
           (10.0, 30.0), _FIELD, by_axis=AXES, size=0.85, stages=("baseline", "gains", "verify"), questions=("response",),
           watch="bounce-back", tells="P and D, {axis}", stop="it keeps oscillating after the stop", skill=2),
    _entry("punch", "punch", "Throttle punch", 3.0, "From a hover full throttle for one second, then back.", (2.0, 25.0), _FIELD,
           size=0.95, stages=("baseline", "gains", "verify"), questions=("hold", "throttle"), watch="the nose",
           listen="for a buzz", tells="I on pitch", stop="one arm drops, or it buzzes"),
    _entry("punch_sideways", "punch", "Throttle punch, flying sideways", 3.0, "The same while it drifts sideways.", (2.0, 25.0),
           _FIELD, size=0.95, stages=("gains", "verify"), questions=("hold",), watch="the arm", tells="I on roll", skill=2),
    _entry("chop", "chop", "Throttle chop", 3.0, "From a climb cut to below hover at once.", (15.0, 30.0), _FIELD,
           stages=("gains", "verify"), questions=("hold", "throttle"), watch="the nose as the throttle drops", tells="I, idle",
           stop="it tumbles: throttle back to hover", skill=2),
    _entry("wash_descent", "wash_descent", "Descent through prop wash", 5.0, "Descend straight down; stop well above the ground.",
           (10.0, 40.0), _FIELD, stages=("gains", "verify"), questions=("wash",), watch="wobble",
           tells="D, delay of the filters, I too high", stop="wobble that grows: fly forward out of it", skill=2),
    _entry("wash_turn", "turn", "Sharp turns through prop wash", 6.0, "Turn back sharply into the air that you just "
        "flew through.",
           (5.0, 20.0), _FIELD, size=0.7, stages=("gains", "verify"), questions=("wash", "yaw"), watch="shaking with power",
           tells="P against D, delay, I", skill=3),
    _entry("yaw_turns", "turn", "Fast turns with yaw", 6.0, "Fast pylon turns with yaw mixed in.", (3.0, 15.0), _FIELD, size=0.6,
           stages=("gains", "verify"), questions=("yaw",), watch="sliding wide", tells="yaw P, lost authority", skill=2),
    _entry("float", "zero_throttle", "Float at zero throttle", 2.5, "Float over the top at zero throttle, then add "
        "power.", (20.0, 40.0),
           _FIELD, stages=("gains", "verify"), questions=("throttle",), watch="shimmy when power returns", tells="idle",
           stop="it does not respond at once: throttle up", skill=3),
    _entry("ramp", "sweep", "Throttle ramp", 12.0, "Raise the throttle slowly from a quarter to nearly full; climb.", (2.0, 80.0),
           _FIELD, size=0.9, stages=("mechanics", "filters"), questions=("noise", "throttle"), listen="where the tone changes",
           tells="which noise follows the motors", stop="the height allowed here"),
    _entry("full_throttle", "full_throttle", "Full throttle, straight", 3.0, "Full throttle, straight ahead or up.", (5.0, 60.0),
           _WIDE, size=1.0, stages=("gains", "verify"), questions=("throttle",), listen="for oscillation",
           tells="P and D at high throttle", stop="any tone that was not there before", skill=2),
    _entry("late_pull", "full_throttle", "Full throttle late in the pack", 4.0,
           "In the last fifth of the pack: full throttle until the voltage sags below the old limit.", (5.0, 60.0), _WIDE,
           size=1.0, stages=("mechanics", "verify"), questions=("provoke",), watch="whether the old fault shows", skill=2,
           tells="whether it comes back at low voltage", stop="a cell at its landing voltage: land at once"),
    _entry("warm_hover", "hover", "Hover until warm", 60.0, "Hover low until it is as warm as it was when the fault showed.",
           _LOW, _NEAR, stages=("mechanics", "verify"), questions=("provoke",), listen="for a tone that changes",
           tells="whether it comes back when warm", stop="a motor too hot to hold, after landing"),
)  # fmt: skip

WING: tuple[Known, ...] = (
    _entry("hands_off", "hands_off", "Level, hands off", 25.0, "Self-levelling, fixed throttle, hands off, straight ahead.",
           (40.0, 80.0), _WIDE, kinds=_WING, stages=("baseline", "trim", "verify"), questions=("trim",),
           watch="which way the heading drifts", tells="trim of roll, pitch and yaw"),
    _entry("two_speeds", "two_speeds", "Level, hands off, at two speeds", 100.0,
           "Fifty seconds slow, fifty seconds fast, sticks let go.", (40.0, 80.0), _WIDE, kinds=_WING, stages=("trim",),
           questions=("trim",), watch="whether it drifts more when fast", tells="yaw trim, or a tilted horizon"),
    _entry("to_manual", "to_manual", "Switch to manual", 12.0, "From level flight to manual, hands ready; hold it straight.",
           (50.0, 100.0), _WIDE, kinds=_WING, stages=("trim", "verify"), questions=("trim",), watch="a lurch",
           tells="the trim that the controller holds", stop="it lurches: switch back at once", skill=2),
    _entry("box", "box", "A box of four legs", 100.0, "Four legs of twenty seconds, the same throttle all the way.", (40.0, 80.0),
           _WIDE, kinds=_WING, stages=("baseline", "trim", "verify"), questions=("wind", "navigation"),
           tells="wind; heading drift on every leg"),
    _entry("long_box", "box", "A long box of four legs", 180.0,
           "Two opposite legs, then both across the wind: forty seconds each, the same throttle.", (40.0, 80.0), _WIDE,
           kinds=_WING, stages=("baseline", "verify"), questions=("wind", "airspeed"), tells="airspeed and wind"),
    _entry("circles", "circles", "Two full circles", 60.0, "Two full circles at one bank and throttle.", (40.0, 80.0), _WIDE,
           kinds=_WING, stages=("baseline", "verify"), questions=("wind",), tells="wind; radius"),
    _entry("legs", "legs", "Four legs, flown automatically", 200.0,
           "Let it follow a line there and back, twice: fifty seconds per leg, home in the middle.", (40.0, 100.0), _WIDE,
           kinds=_WING, stages=("trim", "gains", "verify"), questions=("navigation", "trim"), watch="weaving to one side",
           tells="trim or navigation gain", stop="it leaves the field"),
    _entry("full_hold", "full_hold", "Full stick, held, {axis}", 80.0,
           "Hold {axis} at each end for two full seconds, count aloud; at least twenty times.", (60.0, 120.0), _WIDE, kinds=_WING,
           by_axis=("roll", "pitch"), stages=("gains",), questions=("gains",), watch="overshoots",
           tells="whether the automatic {axis} gains have settled", stop="height below 40 m: climb first", skill=2),
    _entry("slow_flight", "slow_flight", "Slow flight", 15.0, "Throttle back until the controls feel soft, then a "
        "little more.", (60.0, 120.0),
           _WIDE, kinds=_WING, stages=("baseline", "verify"), questions=("safe",), watch="a wing that drops",
           tells="margin above the stall", stop="a wing drops: stick forward, power", skill=2),
    _entry("stall", "stall", "Stall, three times", 90.0,
           "Close the throttle slowly and hold the height with the elevator until the nose drops. Recover. Do it three times.",
           (80.0, 120.0), _WIDE, kinds=_WING, stages=("baseline", "verify"), questions=("safe",), watch="which wing drops",
           tells="stall speed and lowest safe speed", skill=3,
           stop="it does not recover within three seconds: power, stick forward"),
    _entry("failsafe", "failsafe", "Link lost on purpose", 40.0,
           "In sight, towards you: transmitter off for ten seconds, counting aloud. Then on, and take over.", (80.0, 120.0),
           _WIDE, kinds=_WING, stages=("verify",), questions=("link", "return"), watch="when it reacts, and what it does",
           tells="whether the failsafe does what was set", stop="anything unexpected: transmitter on at once", skill=2),
    _entry("return_home", "return_home", "Return by the switch", 120.0,
           "From two hundred metres out, in sight: switch, thumb on it, watch it come.", (60.0, 120.0), _WIDE, kinds=_WING,
           stages=("verify",), questions=("return",), watch="where it turns, how high, what is below its path",
           tells="whether a return can be trusted", stop="in doubt: take over at once", skill=2),
)  # fmt: skip

LIBRARY = MULTIROTOR + WING
_BY_KEY = {known.key: known for known in LIBRARY}


def known_manoeuvre(key: str) -> Known | None:
    """One manoeuvre of the library by its key."""
    return _BY_KEY.get(key)


def library_for(kind: str, *, stage: str = "", question: str = "") -> tuple[Known, ...]:
    """What suits a kind of craft, and a stage and a question where they are given, easy ones first.

    >>> [known.key for known in library_for("fixed_wing", question="wind")]
    ['box', 'long_box', 'circles']
    """
    found = (
        known for known in LIBRARY if kind in known.kinds and stage in ("", *known.stages) and question in ("", *known.questions)
    )
    return tuple(sorted(found, key=lambda known: known.step.skill))
