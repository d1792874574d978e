"""Safety checks of a plane: what each must show, set before it is flown, and the verdict on what was measured."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from nembrit.core.errors import InputError
from nembrit.core.wing.returnrule import Point


@dataclass(frozen=True, slots=True, kw_only=True)
class Limit:
    """One number of a check and what may be asked of it. `default` is a careful start (common practice, no source)."""

    key: str
    label: str  # of the form, with its unit
    asked: str  # with {x} for the limit
    unit: str
    default: float
    low: float
    high: float
    is_most: bool = True  # else at least
    digits: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One safety check: where it is done, its card, and its limits."""

    key: str
    name: str
    question: str
    limits: tuple[Limit, ...]
    card_key: str
    steps: tuple[str, ...]
    caution: str
    is_on_ground: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """What a check measured, with the half-width of its 95 % interval; `words` where no number says it."""

    value: float | None
    error: float = 0.0
    words: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class CheckResult:
    """What one flight says of one check: numbers by limit, and what else it tells."""

    key: str
    at_s: float | None
    measured: dict[str, Measured]
    headline: str
    more: tuple[str, ...] = field(default=())


def _most(key: str, label: str, asked: str, unit: str, default: float, span: tuple[float, float], digits: int = 1) -> Limit:
    return Limit(key=key, label=label, asked=asked, unit=unit, default=default, low=span[0], high=span[1], digits=digits)


def _least(key: str, label: str, asked: str, unit: str, default: float, span: tuple[float, float], digits: int = 1) -> Limit:
    return Limit(
        key=key, label=label, asked=asked, unit=unit, default=default, low=span[0], high=span[1], digits=digits, is_most=False
    )  # fmt: skip


CHECKS: tuple[Check, ...] = (
    Check(
        key="range", name="Range check", question="Does the radio reach far enough?", card_key="wing_range", is_on_ground=True,
        limits=(
            _least("distance_m", "Control at reduced power up to, m", "full control up to {x} m at reduced power", "m", 30.0,
                   (5.0, 500.0), 0),
            _most("servo_jumps", "Servo jumps, at most", "at most {x} servo jumps on the way", "", 0.0, (0.0, 20.0), 0),
        ),
        caution="Propeller off, or the plane held by a helper.",
        steps=("Reduce the transmitter’s power, as its manual says.", "Walk away with the transmitter while a helper watches.",
               "Move every control all the time. Stop where a surface first hesitates.",
               "Repeat with the motor running, plane held.", "Return to full power before you fly."),
    ),
    Check(
        key="failsafe", name="Failsafe", question="What happens when the link is lost?", card_key="wing_failsafe",
        limits=(
            _most("reacts_s", "Reacts within, s", "reacts within {x} s", "s", 3.0, (0.2, 60.0)),
            _most("sinks_m", "Sinks at most, m", "sinks at most {x} m", "m", 20.0, (1.0, 200.0), 0),
            _most("obeys_s", "Obeys again within, s", "obeys within {x} s once the link is back", "s", 3.0, (0.2, 60.0)),
        ),
        caution="First on the ground with the propeller off. In the air only in sight, high, over open ground.",
        steps=("On the ground, propeller off: switch the transmitter off. Note what motor and surfaces do.",
               "In the air: fly level at 80 m, in sight, towards you.", "Switch the transmitter off, count aloud, watch.",
               "After ten seconds, or at once in doubt, switch it on and take over."),
    ),
    Check(
        key="slow", name="Slow flight and stall", question="How slowly is it safe to fly?", card_key="wing_stall",
        limits=(
            _least("stall_ratio", "Cruise over stall speed, at least", "cruises at {x} times its stall speed or more", "", 1.4,
                   (1.05, 3.0), 2),
            _most("drop_deg", "Drops a wing by at most, °", "drops a wing by at most {x}°", "°", 30.0, (5.0, 180.0), 0),
            _most("lost_m", "Loses at most, m", "loses at most {x} m", "m", 25.0, (2.0, 100.0), 0),
        ),
        caution="At 80 m or higher. Know how to recover: stick forward, power, wings level.",
        steps=("Fly level at 80 m into the wind.", "Close the throttle slowly and hold the height with the elevator.",
               "When the nose drops: stick forward, power, wings level.", "Do it three times."),
    ),
    Check(
        key="level", name="Level of the board", question="Does it know where level is?", card_key="wing_level", is_on_ground=True,
        limits=(
            _most("roll_deg", "Roll off by at most, °", "roll is off by at most {x}°", "°", 1.0, (0.2, 10.0)),
            _most("pitch_deg", "Pitch off by at most, °", "pitch is off by at most {x}°", "°", 1.5, (0.2, 10.0)),
        ),
        caution="Propeller off. Use the wing, or the level line that the plan of the plane names.",
        steps=("Set the plane on a table, level by a spirit level.", "Read roll and pitch, or log for ten seconds.",
               "Turn the plane round by 180° on the same spot. Read again: this cancels a table that is not level."),
    ),
    Check(
        key="airspeed", name="Airspeed by opposite legs", question="Does the airspeed sensor tell the truth?",
        card_key="wing_airspeed",
        limits=(_most("off_pct", "Off by at most, %", "airspeed is off by at most {x} %", "%", 5.0, (1.0, 30.0)),),
        caution="In sight, over open ground.",
        steps=("Fly level at one throttle: a leg, the leg back, then both across the wind.",
               "Hold each leg for twenty seconds or more."),
    ),
)  # fmt: skip
_BY_KEY = {check.key: check for check in CHECKS}


def check_of(key: str) -> Check | None:
    """One check by its key."""
    return _BY_KEY.get(key)


def defaults_of(check: Check) -> dict[str, float]:
    """The careful limits that stand until the pilot sets others."""
    return {limit.key: limit.default for limit in check.limits}


def limits_from(check: Check, given: Mapping[str, object]) -> dict[str, float]:
    """Limits as written, the careful ones where none is. Raises InputError for what no plane can be held to."""
    found = {}
    for limit in check.limits:
        value = given.get(limit.key, limit.default)
        if isinstance(value, bool) or not isinstance(value, int | float) or not limit.low <= value <= limit.high:
            raise InputError(f"{limit.label}: expected {limit.low:g} to {limit.high:g}")
        found[limit.key] = float(value)
    return found


def asked_of(check: Check, limits: Mapping[str, float]) -> tuple[str, ...]:
    """The limits in words."""
    return tuple(limit.asked.replace("{x}", f"{limits[limit.key]:g}") for limit in check.limits)


def judge(check: Check, limits: Mapping[str, float], result: CheckResult) -> tuple[Point, ...]:
    """Each limit by itself: kept or broken only where the whole 95 % interval lies on one side; else not judged.

    >>> check = CHECKS[0]
    >>> found = CheckResult(key="range", at_s=None, headline="", measured={"distance_m": Measured(value=31.0, error=5.0)})
    >>> [(point.flown, point.passed) for point in judge(check, defaults_of(check), found)]
    [('31 ± 5 m', None), ('not measured', None)]
    """
    return tuple(_point(limit, limits[limit.key], result.measured.get(limit.key)) for limit in check.limits)


def _point(limit: Limit, asked: float, own: Measured | None) -> Point:
    words = limit.asked.replace("{x}", f"{asked:g}")
    if own is None or own.value is None:
        return Point(asked=words, flown=own.words if own is not None and own.words else "not measured", passed=None)
    room = (asked - own.value) if limit.is_most else (own.value - asked)
    shown = f"{own.value:.{limit.digits}f}"
    error = f"{own.error:.{limit.digits}f}"
    flown = f"{shown} ± {error}" if own.error and float(error) else shown
    flown = f"{flown}{'' if limit.unit in ('', '°') else ' '}{limit.unit}{f' ({own.words})' if own.words else ''}"
    passed = True if room >= own.error else False if room < -own.error else None
    return Point(asked=words, flown=flown, passed=passed, failure=f"{flown}, where it {words}" if passed is False else "")
