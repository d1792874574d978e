"""What the lines before a table say in words: units by kind of quantity, names of modes, how servos are written."""

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from nembrit.core.recognise.words import concepts_of, tokens_of
from nembrit.core.records.units import units_of

Preamble = tuple[tuple[str, str], ...]

_CODES = re.compile(r"(-?\d{1,4})\s*(?:=|:|->|is)\s*([^\W\d][\w /.-]*?)(?=\s*(?:[,;|]|$)|\s+-?\d{1,4}\s*(?:=|:|->))")
_NAMED_NUMBERS = re.compile(r"([^\W\d]\w*)\s*[=:]\s*(\d{3,4}(?:\.\d+)?)\b")
_PULSE_US = (800.0, 2200.0)
_THROW_US = (50.0, 1000.0)
# words for kinds of quantities in notes such as “angles: 0.1 deg, heights: cm”
_KINDS = {
    "angle": "angle angles attitude", "rate": "rate rates gyro", "length": "height heights altitude altitudes distance distances",
    "velocity": "speed speeds airspeed", "voltage": "voltage voltages", "current": "current currents",
}  # fmt: skip
_KIND_OF = {word: kind for kind, words in _KINDS.items() for word in words.split()}
_SHARES = {"per mille": 1e-3, "permille": 1e-3, "‰": 1e-3, "per cent": 1e-2, "percent": 1e-2, "%": 1e-2}


@dataclass(frozen=True, slots=True, kw_only=True)
class Notes:
    """What is plain in the lines before a table; each still to be confirmed by the tuner."""

    units: dict[str, str] = field(default_factory=dict)  # kind of quantity → unit of whole numbers of it
    modes: dict[str, str] = field(default_factory=dict)  # number → name
    servo_share: float | None = None  # servos are shares of their throw: worth of one unit
    servo_centres_us: dict[str, float] = field(default_factory=dict)  # by the name as written
    servo_throw_us: float | None = None

    def centre_us(self, column: str) -> float | None:
        """The centre of the servo that a column is named after."""
        words = "_".join(tokens_of(column))
        named = {name: value for name, value in self.servo_centres_us.items() if words.endswith("_".join(tokens_of(name)))}
        return max(named.items(), key=lambda pair: len(pair[0]))[1] if named else None


def notes_of(preamble: Preamble) -> Notes:
    """Read the notes. Nothing is guessed: a line that is not plain says nothing.

    >>> found = notes_of((("modes", "10=manual 14=return"), ("angles", "0.1 deg, heights: cm"), ("throw_us", "400")))
    >>> found.modes, found.units, found.servo_throw_us
    ({'10': 'manual', '14': 'return'}, {'angle': '0.1 deg', 'length': 'cm'}, 400.0)
    """
    units: dict[str, str] = {}
    modes: dict[str, str] = {}
    centres: dict[str, float] = {}
    share = throw = None
    for before, after in preamble:
        head, colon, rest = before.partition(":")  # ``modes: 10=manual 14=return`` was parted at its first “=”
        key, value = (head, f"{rest.strip()}={after}") if colon else (before, after)
        words = set(tokens_of(key))
        codes = dict(_CODES.findall(value))
        if "mode" in concepts_of(tuple(words)) or words & {"modes", "phases"}:
            modes |= {number: name.strip().lower() for number, name in codes.items()}
        elif len(codes) == 1 and _CODES.fullmatch(f"{key}={value}"):
            modes |= codes
        if single := re.fullmatch(r"-?\d{1,4}", key):  # ``14 = return`` on a line of its own
            modes[single[0]] = value.strip().lower()
        if words & {"centre", "center", "centres", "centers", "mid", "neutral"}:
            named = {name: float(number) for name, number in _NAMED_NUMBERS.findall(value)}
            centres |= {name: us for name, us in named.items() if _PULSE_US[0] <= us <= _PULSE_US[1]}
        if words & {"throw", "travel"} and (number := re.match(r"\s*±?(\d+(?:\.\d+)?)", value)):
            found = float(number[1])
            throw = found if _THROW_US[0] <= found <= _THROW_US[1] else throw
        for name, text in _pairs(key, value):
            if name in ("servo", "servos", "surface", "surfaces"):
                share = next((worth for said, worth in _SHARES.items() if text.startswith(said)), share)
            elif (kind := _KIND_OF.get(name)) and any(unit.quantity == kind for unit in units_of(text)):
                units[kind] = text
    return Notes(units=units, modes=modes, servo_share=share, servo_centres_us=centres, servo_throw_us=throw)


def _pairs(key: str, value: str) -> Iterator[tuple[str, str]]:
    """“angles: 0.1 deg, rates: deg/s” taken apart."""
    for part in re.split(r"[,;]", f"{key}: {value}"):
        name, mark, text = part.partition(":")
        if mark and name.strip():
            yield name.strip().lower().split()[-1], text.strip().lower()
