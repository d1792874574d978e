"""Units as files write them, and what they are worth in the units that the core computes in."""

import re
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.records.roles import QUANTITIES, quantity_of
from nembrit.core.records.unit_words import parted, spelled_unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Unit:
    """value in the core's unit = number × factor + offset."""

    quantity: str
    factor: float
    offset: float = 0.0


_DEG = QUANTITIES["rate"]["rad/s"]
_G = QUANTITIES["acceleration"]["g"]

# quantity → {spellings: factor}; spellings are compared in lower case without blanks, dots and carets
_SPELLINGS: dict[str, dict[str, float]] = {
    "rate": {
        "deg/s °/s dps deg/sec degs/s degree/s degrees/s grad/s gr/s degs degps °s-1 deg·s-1 degs-1": 1.0,
        "rad/s rads rad/sec rads-1 rad·s-1 radps": _DEG,
        "mdps mdeg/s": 0.001,
        "mrad/s": _DEG / 1000,
        "rev/s": 360.0,
    },
    "share": {"% pct percent prozent pour-cent": 0.01, "‰ permille promille": 0.001, "norm 0..1 0-1 -1..1 ratio frac": 1.0},
    "speed": {"rpm r/min 1/min ob/min u/min tr/min min-1 rev/min 1/m": 1.0, "hz_rotor rps r/s": 60.0, "krpm": 1000.0},
    "pulse": {"us µs μs usec": 1.0},
    "acceleration": {
        "m/s2 m/s² m/s/s m/s^2 mps2 ms-2 m·s-2 m/sec2": 1.0,
        "g gee g0 gn": _G,
        "mg milli-g": _G / 1000,
        "cm/s2 cm/s² cm/s/s": 0.01,
    },
    "angle": {
        "deg ° degree degrees grad degres degrés grados gradi": 1.0,
        "rad radian radians": _DEG,
        "ddeg decideg 0.1deg": 0.1,
        "cdeg centideg 0.01deg": 0.01,
        "mrad": _DEG / 1000,
        "deg*1e7 dege7 1e-7deg deg1e7": 1e-7,
    },
    "voltage": {"v volt volts": 1.0, "mv": 1e-3, "cv": 0.01, "dv": 0.1},
    "current": {"a amp amps ampere": 1.0, "ma": 1e-3, "ca": 0.01, "da": 0.1},
    "length": {"m metre metres meter meters": 1.0, "cm": 0.01, "mm": 1e-3, "ft feet": 0.3048, "km": 1000.0},
    "velocity": {
        "m/s mps ms-1 m·s-1 m/sec": 1.0,
        "km/h km/u km/t kmh kph": 1 / 3.6,
        "cm/s": 0.01,
        "mm/s": 1e-3,
        "kn kt kts knots": 1852 / 3600,
        "mph": 0.44704,
    },
    "temperature": {"°c degc c celsius": 1.0, "dc ddegc 0.1°c": 0.1},
    "time": {
        "s sec secs second seconds sek": 1.0,
        "ms msec millis milliseconds": 1e-3,
        "us µs μs usec micros microseconds": 1e-6,
        "ns nsec nanos nanoseconds": 1e-9,
        "min": 60.0,
    },
    "frequency": {"hz": 1.0, "khz": 1000.0},
    "raw": {"raw lsb count counts cnt adc ticks digit digits": 1.0},
}


_CYRILLIC = str.maketrans(
    {"в": "v", "а": "a", "с": "s", "м": "m", "г": "g", "р": "r", "д": "d", "к": "k", "и": "i", "н": "n", "о": "o", "б": "b"}
)


def _normalised(text: str) -> str:
    text = text.strip()
    if re.search(r"[\u0400-\u04ff]", text):  # the usual unit letters of Cyrillic
        text = text.lower().translate(_CYRILLIC)
    return re.sub(r"[\s.^]", "", text.strip().strip("[](){}<>").lower())


_FAHRENHEIT = Unit(quantity="temperature", factor=5 / 9, offset=-32 * 5 / 9)
_UNITS: dict[str, list[Unit]] = {}
for _quantity, _table in _SPELLINGS.items():
    for _texts, _factor in _table.items():
        for _text in _texts.split():
            _UNITS.setdefault(_normalised(_text), []).append(Unit(quantity=_quantity, factor=_factor))
for _text in ("°f", "degf", "fahrenheit"):
    _UNITS[_normalised(_text)] = [_FAHRENHEIT]

# endings that name a unit without brackets, as in ``vbat_mV``; single letters would be read into names
_SUFFIXES = frozenset(
    "dps mdps rads degs rpm us usec ms msec ns nsec sec mv cv volt volts ma amps pct percent hz cm mm ft "
    "mg deg rad ddeg cdeg mps kmh kph degc celsius lsb raw counts micros millis".split()
)


def units_of(text: str) -> tuple[Unit, ...]:
    """Meanings of a unit as written; empty for a text that is no unit.

    >>> [unit.quantity for unit in units_of("[us]")], units_of("m/s^2")[0].factor
    (['pulse', 'time'], 1.0)
    """
    plain = _normalised(text)
    if plain in _UNITS:
        return tuple(_UNITS[plain])
    second = re.fullmatch(r"(.+)/(?:s|sec|sek|seg)", plain)
    base = _UNITS.get(second[1], []) if second else []  # degrees in any language, a second
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
    "pulse": ("µs",), "acceleration": ("m/s²", "g", "mg", "cm/s²"), "angle": ("deg", "rad", "0.1deg", "0.01deg", "1e-7deg"),
    "voltage": ("V", "mV", "cV", "dV"), "current": ("A", "mA", "cA"), "length": ("m", "cm", "mm", "ft"),
    "velocity": ("m/s", "km/h", "cm/s", "kn", "mph"), "temperature": ("°C", "°F", "0.1°C"),
}  # fmt: skip


def parse_scale(role: str, text: str) -> tuple[float, float]:
    """Factor and offset from what a tuner typed: a unit such as “rad/s”, or a number to multiply with.

    Raises InputError with what was expected.

    >>> parse_scale("throttle", "µs"), parse_scale("gyro.roll", "0.061"), parse_scale("gyro.roll", "-1")
    ((0.001, -1.0), (0.061, 0.0), (-1.0, 0.0))
    """
    quantity = quantity_of(role) or ""
    text = text.strip().replace("\u2212", "-")
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


def scale_text(role: str, factor: float, offset: float) -> str:
    """The shortest text that `parse_scale` reads as this factor and offset; a plain number where no unit fits.

    >>> scale_text("throttle", 0.001, -1.0), scale_text("gyro.roll", 0.0609756, 0.0)
    ('µs', '0.0609756')
    """
    for unit in SHOWN_UNITS.get(quantity_of(role) or "", ()):
        known, shift = parse_scale(role, unit)
        if abs(factor - known) <= 1e-9 * abs(known) and abs(offset - shift) <= 1e-9:
            return unit
    return f"{factor:.9g}"
