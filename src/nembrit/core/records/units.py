"""Units as files write them, and what they are worth in the units that the core computes in.

The arithmetic of units is pint's, on a small registry of our own in which an angle is a dimension (so that °/s is no
frequency) and letters are small, as recorders do not care for capitals. Spellings that are no standard stand in a table.
"""

import re
from dataclasses import dataclass
from functools import cache
from typing import Any

import pint

from nembrit.core.errors import InputError
from nembrit.core.records.roles import quantity_of
from nembrit.core.records.unit_words import parted, spelled_unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Unit:
    """value in the core's unit = number × factor + offset."""

    quantity: str
    factor: float
    offset: float = 0.0


_DEFINITIONS = """
milli- = 1e-3 = m-
centi- = 1e-2 = c-
deci- = 1e-1 = d-
micro- = 1e-6 = u-
nano- = 1e-9 = n-
kilo- = 1e3 = k-
second = [time] = s = sec
metre = [length] = m
degree = [angle] = deg
volt = [voltage] = v
ampere = [current] = a
celsius = [temperature] = c
count = [count]
minute = 60 second = min
hour = 3600 second = h
hertz = 1 / second = hz
radian = 57.29577951308232 degree = rad
turn = 360 degree = rev
foot = 0.3048 metre = ft
knot = 1852 * metre / hour = kn
mile = 1609.344 metre = mi
gravity = 9.80665 metre / second ** 2 = g
percent = 0.01
permille = 0.001
unity = 1
"""
# the unit that the core computes a quantity in, and the dimension that a file's unit must have
_OWN: dict[str, str] = {
    "rate": "degree / second", "share": "unity", "speed": "turn / minute", "pulse": "microsecond", "angle": "degree",
    "acceleration": "metre / second ** 2", "voltage": "volt", "current": "ampere", "length": "metre",
    "velocity": "metre / second", "temperature": "celsius", "time": "second", "frequency": "hertz", "raw": "count",
}  # fmt: skip
# by dimension alone a unit is taken for these; a turn a minute and a pulse are named below
_BY_DIMENSION = ("rate", "acceleration", "angle", "voltage", "current", "length", "velocity", "temperature", "time", "frequency")

# quantity → {spellings: unit}; spellings are compared in lower case without blanks, dots and carets
_SPELLINGS: dict[str, dict[str, str]] = {
    "rate": {
        "dps deg/sec degs/s degree/s degrees/s grad/s gr/s degs degps °s-1 deg·s-1 degs-1": "degree / second",
        "rads rad/sec rads-1 rad·s-1 radps": "radian / second",
        "mdps": "millidegree / second",
        "ddps": "decidegree / second",
        "cdps": "centidegree / second",
    },
    "share": {
        "% pct percent prozent pour-cent": "percent",
        "‰ permille promille pm": "permille",
        "norm 0..1 0-1 -1..1 ratio frac": "unity",
    },
    "speed": {
        "rpm r/min 1/min ob/min u/min tr/min min-1 rev/min 1/m": "turn / minute",
        "hz_rotor rps r/s": "turn / second",
        "krpm": "1000 turn / minute",
    },
    "pulse": {"us µs μs usec": "microsecond"},
    "acceleration": {
        "m/s2 m/s² m/s/s m/s^2 mps2 ms-2 m·s-2 m/sec2": "metre / second ** 2",
        "gee g0 gn": "gravity",
        "milli-g": "milligravity",
        "cm/s2 cm/s² cm/s/s": "centimetre / second ** 2",
    },
    "angle": {
        "° degrees grad degres degrés grados gradi": "degree",
        "radians": "radian",
        "decideg degx10 deg*10 d10": "decidegree",
        "centideg degx100 deg*100 d100": "centidegree",
        "deg*1e7 dege7 deg1e7 e7": "1e-7 degree",
    },
    "voltage": {"volts": "volt"},
    "current": {"amp amps": "ampere"},
    "length": {"metres meter meters": "metre", "feet": "foot"},
    "velocity": {
        "mps ms-1 m·s-1 m/sec": "metre / second",
        "km/u km/t kmh kph": "kilometre / hour",
        "cms cmps": "centimetre / second",
        "dms dmps": "decimetre / second",
        "mms mmps": "millimetre / second",
        "kt kts knots": "knot",
        "mph": "mile / hour",
    },
    "temperature": {"°c degc": "celsius", "ddegc 0.1°c": "decicelsius"},
    "time": {
        "secs seconds sek": "second",
        "msec millis milliseconds": "millisecond",
        "us µs μs usec micros microseconds": "microsecond",
        "nsec nanos nanoseconds": "nanosecond",
    },
    "raw": {"raw lsb count counts cnt adc ticks digit digits": "count"},
}


_CYRILLIC = str.maketrans(
    {"в": "v", "а": "a", "с": "s", "м": "m", "г": "g", "р": "r", "д": "d", "к": "k", "и": "i", "н": "n", "о": "o", "б": "b"}
)


def _latin(text: str) -> str:
    """A text with the usual unit letters of Cyrillic in Latin ones."""
    text = text.strip()
    return text.lower().translate(_CYRILLIC) if re.search(r"[\u0400-\u04ff]", text) else text


def _normalised(text: str) -> str:
    return re.sub(r"[\s.^]", "", _latin(text).strip("[](){}<>").lower())


@cache
def _registry() -> Any:
    registry: Any = pint.UnitRegistry(None)
    for line in _DEFINITIONS.strip().splitlines():
        registry.define(line)
    return registry


@cache
def _spelled() -> dict[str, list[Unit]]:
    """Units by their spellings in the table."""
    found: dict[str, list[Unit]] = {}
    for quantity, table in _SPELLINGS.items():
        for texts, unit in table.items():
            factor = float(_registry().Quantity(unit).to(_OWN[quantity]).magnitude)
            for text in texts.split():
                found.setdefault(_normalised(text), []).append(Unit(quantity=quantity, factor=factor))
    for text in ("°f", "degf", "fahrenheit"):
        found[_normalised(text)] = [Unit(quantity="temperature", factor=5 / 9, offset=-32 * 5 / 9)]
    return found


_AMOUNT = re.compile(r"(\d+(?:[.,]\d+)?(?:e[-+]?\d+)?)[*x ]*(?=[a-z°µμ])")
_UNIT_TEXT = re.compile(r"[a-z]{1,8}(?:\*\*-?\d)?(?:[*/][a-z]{1,8}(?:\*\*-?\d)?){0,2}")


@cache
def _computed(text: str) -> Unit | None:
    """The unit of a text by the registry: any prefix, quotients, and a number before it, as in “0.1 deg” or “dm/s”."""
    plain = re.sub(r"\s+", "", _latin(text).strip("[](){}<>").lower())
    amount = _AMOUNT.match(plain)
    factor = float(amount[1].replace(",", ".")) if amount else 1.0
    rest = plain[amount.end() :] if amount else plain
    rest = rest.replace("°", "deg").replace("µ", "u").replace("μ", "u").replace("·", "*").replace("²", "**2").replace("^", "**")
    rest = re.sub(r"(?<=[a-z])(-?[12])(?![0-9])", r"**\1", rest)
    if not _UNIT_TEXT.fullmatch(rest) or re.fullmatch(r"revs?|turns?|[a-z]{3,}s", rest):  # words rather than units
        return None
    try:
        value = _registry().Quantity(rest)
        quantity = next((q for q in _BY_DIMENSION if value.check(_registry().Quantity(_OWN[q]).dimensionality)), None)
        return None if quantity is None else Unit(quantity=quantity, factor=factor * float(value.to(_OWN[quantity]).magnitude))
    except (pint.errors.PintError, TypeError, ValueError, AttributeError, ZeroDivisionError):
        return None


# endings that name a unit without brackets, as in ``vbat_mV``; single letters would be read into names
_SUFFIXES = frozenset(
    "dps mdps rads degs rpm us usec ms msec ns nsec sec mv cv volt volts ma amps pct percent hz cm mm ft "
    "mg deg rad ddeg cdeg mps kmh kph degc celsius lsb raw counts micros millis".split()
)
# endings that are units beside a name that speaks of such a quantity only, as in ``pitot_cms``, ``course_d10``, ``home_m``
_LOOSE_SUFFIXES: dict[str, str] = {
    "v": "voltage", "mv": "voltage", "cv": "voltage", "a": "current", "ma": "current", "ca": "current", "da": "current",
    "m": "length", "dm": "length", "ms": "velocity", "cms": "velocity", "dms": "velocity", "mms": "velocity", "kn": "velocity",
    "kt": "velocity", "d10": "angle", "d100": "angle", "e7": "angle", "pm": "share",
}  # fmt: skip


def loose_unit(name: str, quantity: str) -> Unit | None:
    """A unit that is the last word of a name, where it is one of the quantity that the name speaks of.

    >>> loose_unit("pitot_cms", "velocity"), loose_unit("accel_a", "acceleration")
    (Unit(quantity='velocity', factor=0.01, offset=0.0), None)
    """
    word = re.split(r"[_\s.]", name.strip())[-1].lower()
    if _LOOSE_SUFFIXES.get(word) != quantity:
        return None
    return unit_for("m/s" if word == "ms" else word, quantity)


def units_of(text: str) -> tuple[Unit, ...]:
    """Meanings of a unit as written; empty for a text that is no unit.

    >>> [unit.quantity for unit in units_of("[us]")], units_of("m/s^2")[0].factor, units_of("0.1 deg")[0].factor
    (['pulse', 'time'], 1.0, 0.1)
    >>> units_of("cA")[0].factor, units_of("dm/s")[0].factor, units_of("roll")
    (0.01, 0.1, ())
    """
    if (plain := _normalised(text)) in _spelled():
        return tuple(_spelled()[plain])
    computed = _computed(text)
    if computed is not None:
        return (computed,)
    second = re.fullmatch(r"(.+)/(?:s|sec|sek|seg)", plain)
    base = units_of(second[1]) if second else ()  # degrees in any language, a second
    rates = tuple(Unit(quantity="rate", factor=unit.factor) for unit in base if unit.quantity == "angle")
    spelled = spelled_unit(text) if not rates else None
    return (Unit(quantity=spelled[0], factor=spelled[1]),) if spelled else rates


def kinds_of(text: str) -> frozenset[str]:
    """Quantities that a unit text may state; an unknown word a second or a minute counts as a rotation.

    >>> sorted(kinds_of("der/s")), sorted(kinds_of("o/min")), sorted(kinds_of("m/s"))
    (['rate'], ['speed'], ['velocity'])
    """
    known = frozenset(unit.quantity for unit in units_of(text))
    unknown = re.fullmatch(r"[^\W\d]+/(?:(s|sec|sek|seg)|min)", _normalised(text))
    if known or not unknown:
        return known
    return frozenset(("rate",)) if unknown[1] else frozenset(("speed",))


def unit_for(text: str, quantity: str) -> Unit | None:
    """The meaning of a unit text for one quantity.

    >>> unit_for("°/s", "rate"), unit_for("V", "rate")
    (Unit(quantity='rate', factor=1.0, offset=0.0), None)
    """
    return next((unit for unit in units_of(text) if unit.quantity == quantity), None)


def split_header(header: str) -> tuple[str, str]:
    """Part a header into its name and its unit ("" where none stands there).

    >>> split_header("body.rate.p (rad/s)"), split_header("vbat_mV"), split_header("gyr[0]"), split_header("acc[z]")
    (('body.rate.p', 'rad/s'), ('vbat', 'mV'), ('gyr[0]', ''), ('acc[z]', ''))
    """
    header = " ".join(header.split())
    bracketed = re.fullmatch(
        r"(?P<name>.*?)\s*(?:\[(?P<a>[^\[\]]*)\]|\((?P<b>[^()]*)\)|\{(?P<c>[^{}]*)\}|<(?P<d>[^<>]*)>)", header
    )
    if bracketed and bracketed["name"]:
        unit = next(part for part in bracketed.group("a", "b", "c", "d") if part is not None).strip()
        stands_apart = header[: -len(unit) - 2].endswith(" ")
        is_index = unit.isdigit() and not stands_apart  # ``mot[1]``, but ``throttle [1]``
        if (
            units_of(unit)
            or (stands_apart and bracketed["a"] is not None and len(unit) <= 12)  # ``lamp [lx]``
            or (unit in ("1", "") and not is_index)
            or (bracketed["d"] is None and not unit.isdigit() and len(unit) > 1 and not unit.isalpha())  # no ``</b>``
        ):
            return bracketed["name"], unit
        return header, ""
    colon = re.fullmatch(r"(?P<name>.*[^\s:]):(?P<unit>[^\s:]+)", header)
    if colon and (colon["unit"] == "1" or units_of(colon["unit"])):
        return colon["name"], colon["unit"]
    comma = re.fullmatch(r"(?P<name>.+?)\s*[,/:]\s+(?P<unit>\S+)|(?P<name2>.+?)\s+in\s+(?P<unit2>\S+)", header)
    if comma:
        name, unit = (comma["name"], comma["unit"]) if comma["name"] else (comma["name2"], comma["unit2"])
        if units_of(unit):
            return name, unit
    apart = re.fullmatch(r"(?P<name>.*\S)\s+(?P<unit>\S*[/%‰°]\S*)", header)  # ``Fahrt dm/s``
    if apart and units_of(apart["unit"]):
        return apart["name"], apart["unit"]
    compound = re.fullmatch(r"(?P<name>.*[^_])_(?P<unit>(?:rad|deg|m)_s2?|[VA])", header)  # ``rate_x_rad_s``, ``bus_V``
    if compound:
        return compound["name"], compound["unit"].replace("_", "/")
    spelled = parted(header)
    if spelled:
        return spelled
    suffix = re.fullmatch(r"(?P<name>.*[^_\s])[_\s](?P<unit>[A-Za-z]+)", header)
    if suffix and suffix["unit"].lower() in _SUFFIXES and suffix["unit"].lower() != "raw":
        return suffix["name"], suffix["unit"]
    return _capital_unit(header)


def _capital_unit(header: str) -> tuple[str, str]:
    """A unit written as the last capitalised words, as in ``RollRateDegPerSec`` and ``Motor1Percent``."""
    words = re.fullmatch(r"(?P<name>.*[a-z0-9])(?P<unit>[A-Z][a-z]+Per[A-Z][a-z]+(?:2|Squared)?|[A-Z][a-z]+)", header)
    if not words:
        return header, ""
    unit = words["unit"].lower().replace("per", "/", 1) if "Per" in words["unit"] else words["unit"].lower()
    if ("/" in unit and units_of(unit)) or (unit in _SUFFIXES and unit != "raw"):
        return words["name"], unit
    return header, ""


_PULSES = {"throttle": (1e-3, -1.0), "motor": (1e-3, -1.0), "stick": (1 / 500, -3.0)}
# what to show for a quantity's units, the own one first
SHOWN_UNITS: dict[str, tuple[str, ...]] = {
    "rate": ("deg/s", "rad/s", "mdeg/s", "mrad/s", "rev/s"), "share": ("0..1", "%", "‰", "µs"), "speed": ("rpm", "Hz", "krpm"),
    "pulse": ("µs", "‰ of ±400 around 1500", "% of ±400 around 1500", "% from 1000 to 2000"),
    "acceleration": ("m/s²", "g", "mg", "cm/s²"), "angle": ("deg", "rad", "0.1deg", "0.01deg", "1e-7deg"),
    "voltage": ("V", "mV", "cV", "dV"), "current": ("A", "mA", "cA"), "length": ("m", "cm", "mm", "ft"),
    "velocity": ("m/s", "km/h", "cm/s", "dm/s", "kn", "mph"), "temperature": ("°C", "°F", "0.1°C"),
}  # fmt: skip


def parse_scale(role: str, text: str) -> tuple[float, float]:
    """Factor and offset from what a tuner typed: a unit such as “rad/s”, or a number to multiply with.

    Raises InputError with what was expected.

    >>> parse_scale("throttle", "µs"), parse_scale("gyro.roll", "0.061"), parse_scale("gyro.roll", "-1")
    ((0.001, -1.0), (0.061, 0.0), (-1.0, 0.0))
    """
    quantity = quantity_of(role) or ""
    text = text.strip().replace("\u2212", "-")
    if quantity == "pulse" and (servo := servo_scale(text)) is not None:
        return servo
    try:
        factor = float(text.replace(",", "."))
    except ValueError:
        pass
    else:
        if factor == 0 or not abs(factor) < 1e12:
            raise InputError(f"the scale of {role} must be a number other than 0, got {text}")
        return factor, 0.0
    family = role.removeprefix("b/").split(".")[0]
    if quantity == "share" and unit_for(text, "pulse"):
        return _PULSES.get(family, (1e-3, 0.0))
    if quantity == "speed" and text.lower() == "hz":
        return 60.0, 0.0
    unit = unit_for(text, quantity)
    if unit is None:
        known = ", ".join(SHOWN_UNITS.get(quantity, ()))
        raise InputError(f"{role} is written in one of {known}, or takes a number to multiply with; “{text[:30]}” is neither")
    return unit.factor, unit.offset


_SERVO_SHARES = {"%": 0.01, "‰": 0.001, "1": 1.0, "": 1.0}
_SERVO_AROUND = re.compile(
    r"(?P<share>%|‰|1?)\s*(?:of)?\s*±\s*(?P<throw>\d+(?:\.\d+)?)\s*(?:µs|us)?\s*around\s*(?P<centre>\d+(?:\.\d+)?)"
)
_SERVO_BETWEEN = re.compile(r"(?P<share>%|‰|1?)\s*(?:from\s*)?(?P<low>\d{3,4})\s*(?:µs|us)?\s*to\s*(?P<high>\d{3,4})")


def servo_scale(text: str) -> tuple[float, float] | None:
    """Factor and offset to µs of a servo written as a share of its throw: around a centre, or from one end to the other.

    >>> servo_scale("‰ of ±400 around 1512"), servo_scale("% from 1000 to 2000"), servo_scale("V")
    ((0.4, 1512.0), (10.0, 1000.0), None)
    """
    plain = text.strip().lower().removesuffix("µs").removesuffix("us").strip()
    plain = plain.replace("per mille", "‰").replace("per cent", "%").replace("percent", "%").replace("+-", "±")
    if around := _SERVO_AROUND.fullmatch(plain):
        return _SERVO_SHARES[around["share"]] * float(around["throw"]), float(around["centre"])
    if between := _SERVO_BETWEEN.fullmatch(plain):
        low, high = float(between["low"]), float(between["high"])
        return (_SERVO_SHARES[between["share"]] * (high - low), low) if high > low else None
    return None


def _servo_text(factor: float, offset: float) -> str | None:
    """How `servo_scale` reads this factor and offset; None where it is no share of a plain throw."""
    if not 500 <= offset <= 2500:
        return None
    for share, worth in (("‰", 0.001), ("%", 0.01), ("1", 1.0)):
        throw = factor / worth
        if 50 <= throw < 600:
            return f"{share} of ±{throw:.6g} around {offset:.6g}"
        if 600 <= throw <= 1700:
            return f"{share} from {offset:.0f} to {offset + throw:.0f}"
    return None


def scale_text(role: str, factor: float, offset: float) -> str:
    """The shortest text that `parse_scale` reads as this factor and offset; a plain number where no unit fits.

    >>> scale_text("throttle", 0.001, -1.0), scale_text("gyro.roll", 0.0609756, 0.0)
    ('µs', '0.0609756')
    """
    if quantity_of(role) == "pulse" and (servo := _servo_text(factor, offset)) is not None:
        return servo
    for unit in SHOWN_UNITS.get(quantity_of(role) or "", ()):
        known, shift = parse_scale(role, unit)
        if abs(factor - known) <= 1e-9 * abs(known) and abs(offset - shift) <= 1e-9:
            return unit
    return f"{factor:.9g}"
