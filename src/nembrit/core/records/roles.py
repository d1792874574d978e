"""Channel roles and units: what a recorded quantity means, and how its numbers become ours.

A role is a word such as ``gyro.roll``; `docs/formats.md` lists all. The table below gives, for each
family of roles, the unit that the core computes in and the units that a file may state instead.
"""

import re
from dataclasses import dataclass

from nembrit.core.errors import InputError

_DEG_PER_RAD = 57.29577951308232
_STANDARD_GRAVITY_M_S2 = 9.80665

# unit text → factor to the quantity's own unit; the own unit comes first
QUANTITIES: dict[str, dict[str, float]] = {
    "rate": {"deg/s": 1.0, "rad/s": _DEG_PER_RAD},
    "share": {"1": 1.0, "": 1.0, "%": 0.01},
    "speed": {"rpm": 1.0, "Hz": 60.0},
    "pulse": {"us": 1.0, "µs": 1.0, "ms": 1000.0},
    "acceleration": {"m/s2": 1.0, "m/s²": 1.0, "g": _STANDARD_GRAVITY_M_S2},
    "angle": {"deg": 1.0, "rad": _DEG_PER_RAD},
    "voltage": {"V": 1.0, "mV": 0.001},
    "current": {"A": 1.0, "mA": 0.001},
    "length": {"m": 1.0, "ft": 0.3048},
    "velocity": {"m/s": 1.0, "km/h": 1 / 3.6},
    "temperature": {"degC": 1.0, "°C": 1.0},
    "number": {"1": 1.0, "": 1.0},
    "time": {"s": 1.0, "ms": 1e-3, "us": 1e-6, "µs": 1e-6, "ns": 1e-9},
    "text": {"": 1.0},
}

_AXIS = r"(?:roll|pitch|yaw)"
_ROLE_PATTERNS: tuple[tuple[str, str], ...] = (
    (rf"(?:gyro_raw|gyro|setpoint)\.{_AXIS}", "rate"),
    (rf"(?:stick|term_[pidf]|command)\.{_AXIS}|throttle|motor\.[1-9]\d?|link_quality", "share"),
    (r"motor_rpm\.[1-9]\d?", "speed"),
    (r"servo\.[1-9]\d?", "pulse"),
    (r"accel\.[xyz]", "acceleration"),
    (rf"(?:attitude|attitude_wanted)\.{_AXIS}|latitude|longitude|course|course_wanted|heading|heading_wanted", "angle"),
    (r"battery_voltage", "voltage"),
    (r"battery_current", "current"),
    (r"altitude|altitude_wanted|cross_track|home_distance", "length"),
    (r"ground_speed|airspeed", "velocity"),
    (r"baro_temperature|gyro_temperature", "temperature"),
    (rf"gain\.{_AXIS}\.[pidf]", "number"),
    (r"mode|event", "text"),
)
_COMPILED = tuple((re.compile(rf"(?:b/)?(?:{pattern})"), quantity) for pattern, quantity in _ROLE_PATTERNS)


_AXES = ("roll", "pitch", "yaw")


def _each(*families: str, parts: tuple[str, ...] = _AXES) -> list[str]:
    return [f"{family}.{part}" for family in families for part in parts]


# what a tuner may choose a column to be, in groups; eight motors and servos are enough for a list
ROLE_CHOICES: list[tuple[str, list[str]]] = [
    ("gyro", _each("gyro", "gyro_raw")),
    ("set-point and sticks", [*_each("setpoint", "stick"), "throttle"]),
    ("controller", _each("term_p", "term_i", "term_d", "term_f", "command")),
    ("motors", _each("motor", "motor_rpm", parts=tuple("12345678"))),
    ("servos", _each("servo", parts=tuple("12345678"))),
    ("accelerometer", _each("accel", parts=("x", "y", "z"))),
    ("attitude", [*_each("attitude", "attitude_wanted"), "heading", "heading_wanted"]),
    ("power", ["battery_voltage", "battery_current"]),
    ("position", ["latitude", "longitude", "altitude", "ground_speed", "course", "airspeed"]),
    ("navigation", ["course_wanted", "cross_track", "altitude_wanted", "home_distance"]),
    ("temperature", ["gyro_temperature", "baro_temperature"]),
    ("radio", ["link_quality"]),
    ("text", ["mode", "event"]),
    ("second board", [*_each("b/gyro", "b/gyro_raw"), *_each("b/accel", parts=("x", "y", "z"))]),
]


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnMeaning:
    """What a header of the form ``role [unit]`` says about its column."""

    role: str | None  # None: kept, but without a meaning (``other.`` columns)
    quantity: str
    unit: str  # as the core computes
    factor: float  # stated unit → core unit
    name: str  # header text before the unit
    stated_unit: str = ""  # as the header says it


def quantity_of(role: str) -> str | None:
    """Name the quantity that a role measures, or None for a word that is no role.

    >>> quantity_of("gyro.roll"), quantity_of("b/accel.z"), quantity_of("gyro.left")
    ('rate', 'acceleration', None)
    """
    return next((quantity for pattern, quantity in _COMPILED if pattern.fullmatch(role)), None)


_SPOKEN = {
    "gyro_raw": "raw gyro", "setpoint": "set-point", "term_p": "P term", "term_i": "I term", "term_d": "D term",
    "term_f": "F term", "accel": "accelerometer", "attitude_wanted": "wanted attitude", "heading_wanted": "wanted heading",
    "course_wanted": "wanted course", "altitude_wanted": "wanted height", "cross_track": "distance from the track",
    "home_distance": "distance from home",
}  # fmt: skip


def spoken(role: str) -> str:
    """A role as people say it; a word that is no role comes back with blanks for underscores.

    >>> spoken("gyro_raw.roll"), spoken("motor_rpm.2"), spoken("b/accel.z"), spoken("battery_voltage")
    ('raw gyro, roll', 'speed of motor 2', 'accelerometer, z, second board', 'battery voltage')
    """
    family, _, part = role.removeprefix("b/").partition(".")
    name = _SPOKEN.get(family, family.replace("_", " "))
    if family == "motor_rpm":
        name = f"speed of motor {part}"
    elif family == "gain":
        axis, _, term = part.partition(".")
        name = f"{term.upper()} gain, {axis}"
    elif part:
        name += f" {part}" if part.isdigit() else f", {part}"
    return f"{name}, second board" if role.startswith("b/") else name


def _inverted() -> dict[str, str]:
    """Every role that has words, and its like on a second board and as a gain, by its words."""
    own = [role for _, roles in ROLE_CHOICES for role in roles if not role.startswith("b/")]
    gains = [f"gain.{axis}.{term}" for axis in _AXES for term in "pidf"]
    return {spoken(role).lower(): role for role in (*own, *(f"b/{role}" for role in own), *gains)}


_OF_SPOKEN = _inverted()
_NUMBERED = re.compile(r"(speed of motor|motor|servo) ([1-9][0-9]?)")


def role_of(text: str) -> str:
    """The role that people's words name; what names none comes back as it is.

    >>> role_of("Raw gyro, roll"), role_of("speed of motor 12"), role_of("gyro.yaw"), role_of("left wheel")
    ('gyro_raw.roll', 'motor_rpm.12', 'gyro.yaw', 'left wheel')
    >>> [role for role in _OF_SPOKEN.values() if role_of(spoken(role)) != role]
    []
    """
    words = " ".join(text.split()).lower()
    if (numbered := _NUMBERED.fullmatch(words)) is not None:
        family = {"speed of motor": "motor_rpm"}.get(numbered[1], numbered[1])
        return f"{family}.{numbered[2]}"
    return _OF_SPOKEN.get(words, text.strip())


def unit_of(role: str) -> str:
    """Unit that the core computes a role in, for instance ``deg/s``."""
    quantity = quantity_of(role)
    return next(iter(QUANTITIES[quantity])) if quantity else ""


def header_of(role: str) -> str:
    """Column header of a role in Nembrit's own CSV.

    >>> header_of("gyro_raw.roll"), header_of("mode")
    ('gyro_raw.roll [deg/s]', 'mode')
    """
    unit = unit_of(role)
    return f"{role} [{unit}]" if unit else role


_HEADER = re.compile(r"(?P<name>[^\[\]]*?)\s*(?:\[(?P<unit>[^\[\]]*)\])?")


def column_meaning(header: str) -> ColumnMeaning:
    """Read one header of Nembrit's own CSV: ``role [unit]``, ``time [s]`` or ``other.<name> [unit]``.

    Raises InputError with what was expected when the role or its unit is unknown.

    >>> column_meaning("gyro.roll [rad/s]").factor
    57.29577951308232
    """
    match = _HEADER.fullmatch(header.strip())
    if match is None:
        raise InputError(f"“{header[:60]}” is not of the form “role [unit]”")
    name, unit = match["name"], (match["unit"] or "").strip()
    if name.startswith("other.") and len(name) > 6:
        return ColumnMeaning(role=None, quantity="number", unit=unit, factor=1.0, name=name, stated_unit=unit)
    quantity = "time" if name == "time" else quantity_of(name)
    if quantity is None:
        raise InputError(
            f"“{name[:60]}” is not a known meaning; expected one such as “gyro_raw.roll [deg/s]” "
            "(start the name with “other.” to keep a column without a meaning)"
        )
    units = QUANTITIES[quantity]
    if unit not in units:
        expected = " or ".join(f"[{known}]" for known in units if known)
        raise InputError(f"“{name}” needs its unit as {expected}, not “{unit or 'nothing'}”")
    return ColumnMeaning(role=name, quantity=quantity, unit=next(iter(units)), factor=units[unit], name=name, stated_unit=unit)
