"""What a column's name says: a family of roles, an axis or a number, and how plainly it says so."""

from collections import Counter, defaultdict
from dataclasses import dataclass, replace

from nembrit.core.recognise.words import clock_unit, concepts_of, tokens_of
from nembrit.core.records.roles import quantity_of
from nembrit.core.records.units import kinds_of
from nembrit.core.types import AXES

NAMED_BY_ROLE = "named by its role"
_TRIPLES: tuple[tuple[str, str, str], ...] = (("p", "q", "r"), ("r", "p", "y"), ("x", "y", "z"), ("0", "1", "2"), ("1", "2", "3"))
_PER_AXIS = frozenset(("gyro", "rate", "wanted", "stick", "attitude", "accel", "command", "term"))
_TERM_STARTS = (("prop", "p"), ("integ", "i"), ("deriv", "d"), ("diff", "d"), ("feedf", "f"))  # or three letters of a “term”
_AXIS_WORDS = frozenset((*AXES, *"xyz"))
_GLUED = (("r", "p", "y"), ("x", "y", "z"))


@dataclass(frozen=True, slots=True, kw_only=True)
class NameGuess:
    """What a name says. `family` "" where it says nothing; `index` for motors and servos, from 1."""

    family: str
    axis: str | None = None  # roll, pitch, yaw; for accelerometers x, y, z
    index: int | None = None
    state: str = ""  # raw, filtered or nothing
    is_second: bool = False
    confidence: float = 0.0
    reason: str = ""

    @property
    def role(self) -> str:
        """The role in words of the table, "" where a part is missing.

        >>> NameGuess(family="gyro", axis="roll").role, NameGuess(family="motor", index=3).role
        ('gyro.roll', 'motor.3')
        """
        part = self.axis if self.axis is not None else None if self.index is None else str(self.index)
        role = f"{self.family}.{part}" if part is not None else self.family
        return ("b/" if self.is_second else "") + role if quantity_of(role) or role == "time" else ""


def guesses_of(names: tuple[str, ...], units: tuple[str, ...]) -> tuple[NameGuess, ...]:
    """Read all names of a table together: triples tell axes, numbered runs tell motors."""
    tokens = unglued([tokens_of(name) for name in names])
    axes, supposed = _axes_of(tokens, units)
    numbers = _numbers_of(tokens)
    found = []
    for name, unit, words, axis, number in zip(names, units, tokens, axes, numbers, strict=True):
        if quantity_of(name) or name == "time":
            found.append(NameGuess(family=name, confidence=1.0, reason=NAMED_BY_ROLE))
            continue
        found.append(_guess(words, unit, axis, number))
    for k, term in _terms_among(tokens, axes).items():
        if found[k].family in ("", "attitude") or found[k].confidence <= 0.7:
            found[k] = replace(
                found[k],
                family=f"term_{term}",
                confidence=0.65,
                axis=axes[k],
                index=None,
                reason=f"“{term}” in its name, like its neighbours",
            )
    surfaces = [k for k, guess in enumerate(found) if guess.family == "servo" and guess.index is None]
    for n, k in enumerate(surfaces, start=1 + sum(guess.family == "servo" and guess.index is not None for guess in found)):
        found[k] = replace(found[k], index=n, confidence=0.7, reason=f"{found[k].reason}; numbered in the order of the file")
    for k in supposed:
        found[k] = replace(
            found[k], confidence=min(found[k].confidence, 0.55), reason=f"{found[k].reason}; its axis by its place among three"
        )
    return tuple(found)


def unglued(tokens: list[tuple[str, ...]]) -> list[tuple[str, ...]]:
    """Part an axis letter from the word it is glued to, where all three letters occur: gr, gp, gy → g r, g p, g y."""
    every = {token for words in tokens for token in words}
    parted: dict[str, tuple[str, str]] = {}
    for token in every:
        for letters in _GLUED:
            stem, last = token[:-1], token[-1:]
            if stem and last in letters and all(stem + letter in every for letter in letters):
                parted[token] = (stem, last)
    return [tuple(part for token in words for part in parted.get(token, (token,))) for words in tokens]


def _axes_of(tokens: list[tuple[str, ...]], units: tuple[str, ...]) -> tuple[list[str | None], set[int]]:
    """Axis of every name, and those that are only supposed.

    From words; else from triples of names that differ in one token only: by letters that come in such
    triples, by the one axis left where the other two are known, by their order where none is.
    """
    found: list[str | None] = []
    for words in tokens:
        concepts = concepts_of(words)
        named = [axis for axis in AXES if axis in concepts]
        found.append(named[0] if len(named) == 1 else None)
    groups: dict[tuple[str, ...], dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
    for k, words in enumerate(tokens):
        if found[k] is not None:
            continue
        for at, token in enumerate(words):
            groups[(*words[:at], "*", *words[at + 1 :])][token].append(k)
    for variants in groups.values():
        for triple in _TRIPLES:
            if not all(letter in variants for letter in triple):
                continue
            digits = {token for token in variants if token.isdigit()}
            if triple[0].isdigit() and not digits <= set(triple):
                continue  # a longer run of numbers: motors
            if triple == ("p", "q", "r") and "y" in variants:
                continue
            for letter, axis in zip(triple, AXES, strict=True):
                for k in variants[letter]:
                    found[k] = found[k] or axis
    _in_pairs(groups, found)
    rates = {k for k, unit in enumerate(units) if "rate" in kinds_of(unit)}
    supposed = _by_order(tokens, units, found, rates)
    return found, supposed | _learnt(tokens, found, supposed)


def _in_pairs(groups: dict[tuple[str, ...], dict[str, list[int]]], found: list[str | None]) -> None:
    """Two names with the first two letters of a triple that another group of this table has whole: roll and pitch."""
    whole = [triple for triple in _TRIPLES if not triple[0].isdigit() for own in groups.values() if set(triple) <= set(own)]
    for variants in groups.values():
        for triple in whole:
            letters = set(variants) & set(triple)
            if letters == set(triple[:2]) and not any(token.isdigit() for token in variants):
                for letter, axis in zip(triple, AXES[:2], strict=False):
                    for k in variants[letter]:
                        found[k] = found[k] or axis


def _by_order(tokens: list[tuple[str, ...]], units: tuple[str, ...], found: list[str | None], rates: set[int]) -> set[int]:
    """Fill in axes of triples whose words are not known; the places that were only supposed.

    `rates` are the places whose unit is that of a rotation: a triple of them needs no known word.
    """
    groups: dict[tuple[str, ...], dict[str, int]] = defaultdict(dict)
    for k, words in enumerate(tokens):
        for at, token in enumerate(words):
            if not token.isdigit():
                groups[(*words[:at], "*", *words[at + 1 :])].setdefault(token, k)
    triples = Counter(
        frozenset(variants)
        for variants in groups.values()
        if len(variants) == 3 and len({units[k] for k in variants.values()}) == 1
    )
    repeated = Counter(k for variants in groups.values() if triples[frozenset(variants)] > 1 for k in variants.values())
    supposed: set[int] = set()
    for key, variants in groups.items():
        places = list(variants.values())
        known = [found[k] for k in places if found[k] is not None]
        is_per_axis = bool(concepts_of(tuple(token for token in key if token != "*")) & _PER_AXIS) or rates.issuperset(places)
        # the same three unknown words again and again, where they do not stand in a square with three others
        is_per_axis |= (
            triples[frozenset(variants)] > 1 and not concepts_of(tuple(variants)) and all(repeated[k] == 1 for k in places)
        )
        if len(places) != 3 or not is_per_axis:
            continue
        if len(set(known)) == 2 and len(known) == 2:
            (left,) = set(AXES) - set(known)
            place = next(k for k in places if found[k] is None)
            found[place] = left
        elif known in ([], ["roll"]) and all(AXES[n] == found[k] or found[k] is None for n, k in enumerate(sorted(places))):
            for k, axis in zip(sorted(places), AXES, strict=True):
                if found[k] is None:
                    found[k] = axis
                    supposed.add(k)
    return supposed


def _learnt(tokens: list[tuple[str, ...]], found: list[str | None], supposed: set[int]) -> set[int]:
    """Fill in axes of other names that hold a word which was taken for an axis; the places filled in."""
    seen: dict[str, set[str]] = defaultdict(set)
    for k, words in enumerate(tokens):
        for token in words:
            seen[token].add(found[k] or "")
    meant = {token: next(iter(axes - {""})) for token, axes in seen.items() if len(axes - {""}) == 1}
    new = set()
    for k in supposed:
        for token in tokens[k]:
            for j, words in enumerate(tokens):
                if found[j] is None and token in words and meant.get(token) == found[k]:
                    found[j] = found[k]
                    new.add(j)
    return new


def _terms_among(tokens: list[tuple[str, ...]], axes: list[str | None]) -> dict[int, str]:
    """Terms of the controller among names of unknown words: alike but for a letter p, i, d or f, each with three axes."""
    groups: dict[tuple[str, ...], dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
    for k, words in enumerate(tokens):
        for at, token in enumerate(words):
            letter = "f" if token == "ff" else next((term for start, term in _TERM_STARTS if token.startswith(start)), token)
            if letter in ("p", "i", "d", "f", "q", "y", "r") and axes[k]:
                is_stem = letter != token and token != "ff"  # then single letters are axes, as p, q and r are
                rest = (own for n, own in enumerate(words) if n != at and not (is_stem and own in ("p", "q", "r")))
                kept = tuple(own for own in rest if not own.isdigit() and own not in _AXIS_WORDS)
                groups[(*kept, "stem") if is_stem else kept][letter].append(k)
    return {
        k: letter
        for variants in groups.values()
        if {"p", "i"} <= set(variants) <= {"p", "i", "d", "f"} and all(len(members) == 3 for members in variants.values())
        for letter, members in variants.items()
        for k in members
    }


def _numbers_of(tokens: list[tuple[str, ...]]) -> list[int | None]:
    """Place of every name in a numbered run, counted from 1 however the file counts."""
    groups: dict[tuple[str, ...], list[tuple[int, int]]] = defaultdict(list)
    for k, words in enumerate(tokens):
        for at, token in enumerate(words):
            if token.isdigit() and int(token) < 64:
                groups[(*words[:at], "*", *words[at + 1 :])].append((int(token), k))
            elif at and len(token) == 1 and token in "abcdefgh" and "motor" in concepts_of(words[:at]):
                groups[(*words[:at], "*", *words[at + 1 :])].append((ord(token) - ord("a") + 1, k))
    found: list[int | None] = [None] * len(tokens)
    for members in groups.values():
        lowest = min(number for number, _ in members)
        for number, k in members:
            found[k] = number - lowest + 1 if lowest in (0, 1) or len(members) > 1 else number
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class _Name:
    """One name under study."""

    tokens: tuple[str, ...]
    concepts: frozenset[str]
    quantities: frozenset[str]  # of the stated unit; an unknown one a second is taken for a rate

    def has(self, *concepts: str) -> bool:
        return bool(self.concepts & set(concepts))

    def told(self, family: str, confidence: float, *, axis: str | None = None, index: int | None = None) -> NameGuess:
        state = "raw" if self.has("raw") else "filtered" if self.has("filtered") else ""
        said = f"“{' '.join(self.tokens)}” in its name" if family else "nothing in its name"
        return NameGuess(
            family=family,
            axis=axis,
            index=index,
            state=state,
            is_second=self.has("second") and not (index and self.tokens[-1] == "b"),
            confidence=confidence,
            reason=said,
        )


def _guess(tokens: tuple[str, ...], unit: str, axis: str | None, number: int | None) -> NameGuess:
    quantities = kinds_of(unit)
    name = _Name(tokens=tokens, concepts=concepts_of(tokens), quantities=quantities)
    if (of_planes := _of_planes(name, unit, axis)) is not None:
        return of_planes
    is_inertial = name.has("gyro", "accel") or "imu" in tokens
    if name.has("temperature"):
        return name.told("gyro_temperature" if is_inertial else "baro_temperature", 0.8)
    if quantities == {"temperature"} and (is_inertial or name.has("baro")):
        return name.told("gyro_temperature" if is_inertial else "baro_temperature", 0.75)
    if quantities == {"acceleration"} and axis:  # a word for it may be part of one for the throttle
        return _on_axis(name, axis)
    if name.has("altitude") and quantities == {"length"} and not name.has("wanted", "temperature"):
        return name.told("altitude", 0.9)
    if name.has("latitude", "longitude"):
        return name.told("latitude" if name.has("latitude") else "longitude", 0.9)
    if (name.has("rpm") and "rate" not in quantities) or (
        "speed" in quantities and (number or name.has("motor", "rate", "speed", "output"))
    ):
        return name.told("motor_rpm", 0.9 if number else 0.4, index=number)
    if number and name.has("motor") and name.has("speed"):
        return name.told("motor_rpm", 0.75, index=number)
    if set(tokens) & _LINK and (set(tokens) & _QUALITY or quantities == {"share"}) and not quantities - {"share"}:
        return name.told("link_quality", 0.8)
    if len(tokens) == 1 and tokens[0] in _LONE_UNITS:
        return name.told(_LONE_UNITS[tokens[0]], 0.7)
    if name.has("battery") and {"i", "a"} & set(tokens) and not name.has("voltage"):  # I and U, as in physics
        return name.told("battery_current", 0.75)
    if name.has("voltage", "battery") and not name.has("current") and not axis and not quantities & {"current", "share"}:
        return name.told("battery_voltage", 0.9 if name.has("voltage") else 0.7)
    if name.has("current") and not axis:
        return name.told("battery_current", 0.85)
    if name.has("throttle") or (name.has("stick") and "t" in tokens):
        return name.told("throttle", 0.9 if name.has("throttle") else 0.75)
    if name.has("servo") and (number or "pulse" in quantities):
        return name.told("servo", 0.85, index=number)
    is_output = name.has("motor") or (name.has("output") and axis is None)
    if number and is_output and "rate" in quantities:
        return name.told("motor_rpm", 0.8, index=number)
    if number and is_output and not name.has("gyro", "accel", "wanted"):
        return name.told("motor", 0.9 if name.has("motor") else 0.7, index=number)
    if axis:
        return _on_axis(name, axis)
    found = _without_axis(name)
    return found if found.role else replace(found, index=number)  # numbered columns of unknown words may be motors


_LONE_UNITS = {
    **dict.fromkeys(("mv", "cv", "volts"), "battery_voltage"), **dict.fromkeys(("ma", "ca", "amps"), "battery_current"),
}  # fmt: skip
_LINK = frozenset("link lq rx radio signal receiver".split())
_QUALITY = frozenset("quality qual lq strength q".split())
_SURFACES = frozenset(
    "ail aile aileron ailerons elev elevator rud rudder vt vtail ev elevon flap flaperon srv servo servos".split()
)
_OF_SERVOS = frozenset("s us srv servo servos out surf pos pwm".split())
_ATTITUDES = frozenset("bank nose lean tilt".split())
_OFF = frozenset("off err error dist distance xtrack".split())


def _of_planes(name: _Name, unit: str, axis: str | None) -> NameGuess | None:
    """Columns that recorders of planes have; None for all others."""
    words = set(name.tokens)
    angle, length, velocity = (not name.quantities - {kind} for kind in ("angle", "length", "velocity"))
    velocity_ms = name.quantities == {"time"} and unit.lower() == "ms"  # a speed in milliseconds means metres a second
    if name.has("airspeed") and (velocity or velocity_ms):
        return name.told("airspeed", 0.85)
    if words & {"xtrack", "xtk", "xte", "crosstrack"} or (words & {"nav", "track", "line", "path"} and words & _OFF):
        return name.told("cross_track", 0.8) if length else None
    if name.has("home") and length and not name.has("heading", "speed", "altitude"):
        return name.told("home_distance", 0.75)
    if angle and name.has("course") and (name.has("wanted") or words & {"nav", "leg"}):
        return name.told("course_wanted", 0.8)
    if words & {"leg"} and angle and "deg" not in words:
        return name.told("course_wanted", 0.6)
    if velocity_ms and name.has("ground", "speed"):
        return name.told("ground_speed", 0.75)
    if (name.has("baro") or (words == {"bar"} and name.quantities)) and length and not name.has("temperature"):
        return name.told("altitude", 0.85)
    if words & _SURFACES and (words & _OF_SERVOS or name.quantities & {"pulse", "share"}) and not name.has("gain", "wanted"):
        return name.told("servo", 0.75)
    if words & _ATTITUDES and angle and not name.has("servo", "accel"):
        tilted = "roll" if words & {"bank", "lean"} else axis or "pitch"
        return name.told("attitude_wanted" if name.has("wanted") else "attitude", 0.85, axis=tilted)
    if name.has("throttle") and words & {"out", "output"}:
        return name.told("motor", 0.65, index=1)
    return None


def _without_axis(name: _Name) -> NameGuess:
    """Families that come once a craft, and clocks."""
    if clock_unit(name.tokens) and not name.quantities - {"time", "pulse"}:
        return name.told("time", 0.85)
    for quantity, family in (("voltage", "battery_voltage"), ("current", "battery_current")):
        if quantity in name.quantities and not name.has("gyro", "accel", "motor"):
            return name.told(family, 0.55)  # the unit alone; a column that says more wins
    for family, confidence in (("altitude", 0.85), ("mode", 0.85), ("event", 0.8), ("heading", 0.8), ("course", 0.8)):
        if name.has(family):
            return name.told("heading_wanted" if family == "heading" and name.has("wanted") else family, confidence)
    if name.has("speed") or (name.has("rate") and (name.has("ground") or "velocity" in name.quantities)):
        return name.told("ground_speed", 0.85 if name.has("ground") or "velocity" in name.quantities else 0.7)
    if (name.has("time") and not name.quantities - {"time", "pulse", "raw"}) or (
        "time" in name.quantities and "pulse" not in name.quantities
    ):
        return name.told("time", 0.9 if name.has("time") else 0.75)
    if name.has("counter") and not name.quantities - {"raw"}:
        return name.told("counter", 0.6)
    if "time" in name.quantities and not name.concepts:
        return name.told("time", 0.5)
    return name.told("", 0.0)


def _on_axis(name: _Name, axis: str) -> NameGuess:
    """Families that come once an axis."""
    first = name.tokens[0]
    has_words = name.has(*AXES)
    is_rate = "rate" in name.quantities
    term = _term(name, has_words)
    if name.has("accel") or "acceleration" in name.quantities or (not has_words and first == "a" and len(name.tokens) <= 2):
        return name.told("accel", 0.9 if name.has("accel") else 0.75, axis="xyz"[AXES.index(axis)])
    if name.has("gain") or (term and first in ("kp", "ki", "kd", "kf")):
        return name.told(f"gain.{axis}", 0.5)
    if term and not name.has("gyro") and not is_rate:
        return name.told(f"term_{term}", 0.85, axis=axis)
    if {"mix", "mixer"} & set(name.tokens) and not is_rate:  # what goes into the mixer
        return name.told("command", 0.75, axis=axis)
    if name.has("stick"):
        return name.told("stick", 0.85, axis=axis)
    if (name.has("attitude") and not is_rate and not name.has("rate")) or ("angle" in name.quantities and not name.has("gyro")):
        return name.told("attitude_wanted" if name.has("wanted") else "attitude", 0.85, axis=axis)
    if name.has("wanted"):
        return name.told("setpoint", 0.85, axis=axis)
    if name.has("command") and (name.has("rate", "gyro") or is_rate or (first in ("g", "w") and not has_words)):
        return name.told("setpoint", 0.8, axis=axis)
    if name.has("command") or (name.has("output") and not name.has("gyro")):
        return name.told("command", 0.7, axis=axis)
    if name.has("gyro", "rate") or is_rate or (first in ("g", "w") and not has_words):
        return name.told("gyro", 0.9 if name.has("gyro") or is_rate else 0.75, axis=axis)
    if not has_words and {"w", "a"} & set(name.tokens):  # ω and a, as in physics
        return name.told("gyro", 0.6, axis=axis) if "w" in name.tokens else name.told("accel", 0.6, axis="xyz"[AXES.index(axis)])
    return (
        name.told("attitude", 0.45, axis=axis) if has_words and "share" not in name.quantities else name.told("", 0.0, axis=axis)
    )


def _term(name: _Name, has_words: bool) -> str:
    """p, i, d or f where the name speaks of one term of the controller."""
    for term in "pidf":
        if name.has(term):
            return term
    is_indexed = bool({"x", "y", "z", "0", "1", "2"} & set(name.tokens))  # letters are not the axes then
    if not (has_words or name.has("term") or (name.has("command") and is_indexed)):
        return ""
    for start, term in _TERM_STARTS:
        if any(token.startswith(start) or (name.has("term") and token == start[:3]) for token in name.tokens):
            return term
    letters = [token for token in name.tokens if token in ("p", "i", "d", "f")]
    return letters[-1] if letters else ""
