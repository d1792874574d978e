"""Which questions a log can answer, what is missing, and what to switch on before the next flight."""

from collections.abc import Collection
from dataclasses import dataclass

from nembrit.core.types import AXES

_LEAST_FLIGHT_S = 6.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """One question with what this log can say to it."""

    question: str
    state: str  # yes, partly or no
    missing: str = ""  # what is missing, in words
    advice: str = ""  # what to switch on or to fly


@dataclass(frozen=True, slots=True, kw_only=True)
class _Need:
    """A question, the roles that it needs, the least rate, what a lack of the nice-to-have roles costs."""

    question: str
    roles: tuple[str, ...]
    least_rate_hz: float
    advice: str
    good_rate_hz: float = 0.0
    better_with: tuple[str, ...] = ()
    better_for: str = ""


_GYRO = tuple(f"gyro.{axis}" for axis in AXES)
_RAW = tuple(f"gyro_raw.{axis}" for axis in AXES)
_SETPOINT = tuple(f"setpoint.{axis}" for axis in AXES)
_NEEDS = (
    _Need(question="Where is the noise?", roles=_GYRO, least_rate_hz=640, good_rate_hz=950, better_with=_RAW,
          better_for="noise before the filters", advice="log the gyro before and after filtering, at 1 kHz or more"),
    _Need(question="What do the filters remove?", roles=(*_GYRO, *_RAW), least_rate_hz=950,
          advice="log the gyro before filtering beside the filtered one"),
    _Need(question="How does it follow the stick?", roles=(*_GYRO, *_SETPOINT), least_rate_hz=100, good_rate_hz=400,
          advice="log set-point and filtered gyro of all axes"),
    _Need(question="Is something loose?", roles=("gyro.roll", "gyro.pitch"), least_rate_hz=640, better_with=("accel.x", "accel.y", "accel.z"),
          better_for="separating a loose mount from similar faults", advice="log the gyro at 1 kHz or more, and the accelerometer"),
    _Need(question="Which motor is noisy?", roles=(*_GYRO, "motor.1", "motor.2", "motor.3"), least_rate_hz=950, good_rate_hz=1900,
          better_with=("motor_rpm.1",), better_for="naming the motor with confidence", advice="log motor outputs, and motor speed where the controller has it"),
    _Need(question="Do the motors run out of authority?", roles=("motor.1", "motor.2", "motor.3"), least_rate_hz=50,
          better_with=("command.roll",), better_for="seeing the commands", advice="log the motor outputs"),
    _Need(question="How are P, I and D shared?", roles=("term_p.roll", "term_i.roll", "term_d.roll"), least_rate_hz=200,
          advice="log the P, I, D and feed-forward terms"),
    _Need(question="Does it hold its attitude in prop wash?", roles=("gyro.roll", "throttle"), least_rate_hz=100, better_with=_SETPOINT,
          better_for="leaving out stick movements", advice="log the throttle, and descend through prop wash"),
    _Need(question="How does the pack hold up?", roles=("battery_voltage",), least_rate_hz=1, better_with=("battery_current",),
          better_for="inner resistance and used charge", advice="log pack voltage and current"),
    _Need(question="Where did it fly?", roles=("latitude", "longitude"), least_rate_hz=0.5, better_with=("altitude",),
          better_for="height", advice="attach the track of a position recorder to the same flight"),
)  # fmt: skip

_STICKS = ("stick.roll", "stick.pitch")
_MOVED = ("ground_speed", "course")  # positions stand in for both
# a plane's own questions; its recorders write 10 to 200 Hz, which is enough for all but the last two
_WING_NEEDS = (
    _Need(question="Is it trimmed?", roles=("servo.1", "attitude.roll", *_STICKS), least_rate_hz=2, better_with=("throttle", "airspeed"),
          better_for="saying at which throttle and speed", advice="log servo outputs, sticks and attitude"),
    _Need(question="Does its heading drift, and from a trim or the horizon?", roles=("attitude.roll", "stick.roll", *_MOVED), least_rate_hz=2,
          better_with=("airspeed",), better_for="separating trim from horizon at two speeds", advice="log attitude, sticks, ground speed and course"),
    _Need(question="Does it weave, and to which side is it pulled?", roles=("attitude.roll", *_MOVED), least_rate_hz=2,
          better_with=("course_wanted",), better_for="finding the legs reliably", advice="log attitude, ground speed, course and the wanted course"),
    _Need(question="How strong is the wind?", roles=_MOVED, least_rate_hz=0.5, better_with=("airspeed",), better_for="a smaller interval",
          advice="log ground speed and course, or positions; fly a circle or a box"),
    _Need(question="Does it hold its line and its height?", roles=("latitude", "longitude"), least_rate_hz=0.5,
          better_with=("course_wanted", "cross_track", "altitude", "altitude_wanted", "attitude_wanted.roll"),
          better_for="comparing wanted and flown", advice="log positions, height and what the controller wanted"),
    _Need(question="Can its return be trusted?", roles=("mode", "latitude", "longitude", "attitude.roll", "altitude"), least_rate_hz=1,
          better_with=("home_distance",), better_for="knowing where home is", advice="log the mode's name, positions, height and attitude"),
    _Need(question="Does it lurch when switched to manual?", roles=("mode", "gyro.roll", "gyro.pitch"), least_rate_hz=10,
          better_with=_STICKS, better_for="leaving out your own hand", advice="log the mode's name and the gyro"),
    _Need(question="How do its rates follow, and does the feed-forward fit?", roles=("setpoint.roll", "gyro.roll"), least_rate_hz=40, good_rate_hz=49,
          better_with=("servo.1", "airspeed"), better_for="the feed-forward", advice="log wanted and achieved rates at 50 Hz or more"),
    _Need(question="Have the automatic gains settled?", roles=("stick.roll", "setpoint.roll", "gyro.roll"), least_rate_hz=10,
          better_with=("gain.roll.f",), better_for="following the gain itself", advice="log sticks, rates and the gain; fly the card of full holds"),
    next(need for need in _NEEDS if need.question == "How does the pack hold up?"),
)  # fmt: skip

_WORDS = {
    "gyro": "filtered gyro", "gyro_raw": "gyro before filtering", "setpoint": "set-point", "motor": "motor outputs",
    "motor_rpm": "motor speed", "accel": "accelerometer", "term_p": "P term", "term_i": "I term", "term_d": "D term",
    "battery_voltage": "pack voltage", "battery_current": "current", "command": "command", "servo": "servo outputs",
    "stick": "sticks", "attitude_wanted": "wanted attitude", "altitude": "height", "altitude_wanted": "wanted height",
    "cross_track": "distance from the line", "mode": "the mode’s name", "gain": "the gain",
}  # fmt: skip


def answers(rates_hz: dict[str, float], *, flight_s: float, kind: str = "multirotor") -> tuple[Answer, ...]:
    """What a log can answer about a kind of craft, from its roles with their sample rates [Hz] and the usable flight time [s].

    A raw gyro alone stands in for the filtered one, except where both are needed.

    >>> answers({"battery_voltage": 10.0}, flight_s=60)[8].state
    'partly'
    """
    if kind != "fixed_wing":
        return tuple(_answer(need, rates_hz, flight_s) for need in _NEEDS)
    place_hz = rates_hz.get("latitude")
    moved = dict.fromkeys(_MOVED, place_hz) if place_hz is not None and "longitude" in rates_hz else {}
    known = {**{role: rate for role, rate in moved.items() if rate is not None}, **rates_hz}
    return tuple(_answer(need, known, flight_s, card="the trim card") for need in _WING_NEEDS)


_SOMETIMES = ("attitude_wanted", "course_wanted", "altitude_wanted", "cross_track", "gain")  # empty while nothing is wanted


def matters(code: str, kind: str, column: str | None = None) -> bool:
    """Whether a note on a log's quality says anything about a kind of craft: nobody needs 1 kHz to trim a plane.

    >>> matters("rate_low", "fixed_wing"), matters("gap", "fixed_wing"), matters("missing", "fixed_wing", "cross_track")
    (False, True, False)
    """
    if kind != "fixed_wing":
        return True
    return code not in ("rate_low", "coarse") and not (code == "missing" and (column or "").split(".")[0] in _SOMETIMES)


def _answer(need: _Need, rates_hz: dict[str, float], flight_s: float, *, card: str = "the half-minute card") -> Answer:
    needs_both = any(role.startswith("gyro_raw") for role in need.roles)
    lacking = [role for role in need.roles if not _has(role, rates_hz, needs_both)]
    if lacking:
        is_partial = any(role.split(".")[0] in ("gyro", "setpoint") for role in lacking) and any(
            all(_has(role, rates_hz, needs_both) for role in need.roles if role.endswith(f".{axis}"))
            for axis in AXES
            if any(role.endswith(f".{axis}") for role in need.roles)
        )
        others = [role for role in need.roles if "." not in role or role.split(".")[1] not in AXES]
        is_partial = is_partial and all(_has(role, rates_hz, needs_both) for role in others)
        return Answer(
            question=need.question, state="partly" if is_partial else "no", missing=_in_words(lacking), advice=need.advice
        )
    slowest_hz = min(rates_hz.get(role) or rates_hz[role.replace("gyro.", "gyro_raw.")] for role in need.roles)
    if slowest_hz < need.least_rate_hz:
        missing = f"logged at {slowest_hz:.4g} Hz, at least {need.least_rate_hz:.0f} Hz needed"
        return Answer(question=need.question, state="no", missing=missing, advice="raise the log rate")
    if flight_s < _LEAST_FLIGHT_S and need.least_rate_hz > 1:
        missing = f"{flight_s:.1f} s of usable flight, at least {_LEAST_FLIGHT_S:.0f} s needed"
        return Answer(question=need.question, state="no", missing=missing, advice=f"fly {card}")
    better = [role for role in need.better_with if role not in rates_hz]
    if better:
        missing = f"{_in_words(better)}, for {need.better_for}"
        return Answer(question=need.question, state="partly", missing=missing, advice=f"log {_in_words(better)} too")
    if slowest_hz < need.good_rate_hz:
        missing = f"logged at {slowest_hz:.4g} Hz; above {slowest_hz / 2:.4g} Hz nothing is seen"
        return Answer(question=need.question, state="partly", missing=missing, advice="raise the log rate")
    return Answer(question=need.question, state="yes")


def _has(role: str, rates_hz: dict[str, float], needs_both: bool) -> bool:
    return role in rates_hz or (not needs_both and role.replace("gyro.", "gyro_raw.") in rates_hz)


def _in_words(roles: Collection[str]) -> str:
    """“set-point of roll and pitch, throttle”."""
    groups: dict[str, list[str]] = {}
    for role in roles:
        family, _, part = role.partition(".")
        groups.setdefault(family, []).append(part)
    said = []
    for family, parts in groups.items():
        name = _WORDS.get(family, family.replace("_", " "))
        axes = [part for part in parts if part in AXES]
        said.append(f"{name} of {' and '.join(axes) if len(axes) < 3 else 'all axes'}" if axes else name)
    return ", ".join(said)
