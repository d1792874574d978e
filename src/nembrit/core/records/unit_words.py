"""Units written out in words, as in ``DeciDegPerSec``, ``centimetres`` or ``graus_s``: prefix, base, per what."""

import re

_PREFIXES = {
    "micro": 1e-6, "mikro": 1e-6, "milli": 1e-3, "mili": 1e-3, "centi": 0.01, "zenti": 0.01, "deci": 0.1, "dezi": 0.1,
    "kilo": 1e3,
}  # fmt: skip
_DEG = 57.29577951308232
_BASES: dict[str, tuple[str, float]] = {
    word: (kind, factor)
    for words, kind, factor in (
        ("deg degs degree degrees grad grader graus grau grados grado gradi", "angle", 1.0),
        ("degre degres graden graad stopni stupnu", "angle", 1.0),
        ("rad rads radian radians radianes radiani", "angle", _DEG),
        ("rev revs revolution revolutions turns", "turn", 1.0),
        ("volt volts", "voltage", 1.0),
        ("amp amps ampere amperes", "current", 1.0),
        ("metre metres meter meters metro metros metri m", "length", 1.0),
        ("cm", "length", 0.01), ("mm", "length", 1e-3), ("km", "length", 1e3), ("ft feet foot", "length", 0.3048),
        ("knots knot", "velocity", 1852 / 3600),
        ("percent", "share", 0.01), ("permille", "share", 1e-3),
    )
    for word in words.split()
}  # fmt: skip
_PER = frozenset("per pro par por al na".split())
_TIMES_S: dict[str, float] = {
    word: seconds
    for words, seconds in (
        ("s sec secs second seconds seconde segundo segundos sek sekunde sekunda sekund secondo", 1.0),
        ("min minute minutes minuto minuut", 60.0),
        ("h hr hour hours hora heure stunde", 3600.0),
    )
    for word in words.split()
}
_RATES = {"angle": "rate", "turn": "speed", "length": "velocity"}
_MOST_WORDS = 5
_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")


def spelled_unit(text: str) -> tuple[str, float] | None:
    """Quantity and factor to the core's unit of a unit written out in words; None for other texts.

    A lone letter or a lone base of fewer than four letters is too likely a part of a name.

    >>> spelled_unit("DeciDegPerSec"), spelled_unit("milliamps"), spelled_unit("m_s2"), spelled_unit("roll")
    (('rate', 0.1), ('current', 0.001), ('acceleration', 1.0), None)
    """
    return _meaning([word.lower() for word in _WORD.findall(text)])


def _meaning(words: list[str]) -> tuple[str, float] | None:
    if not words or len("".join(words)) < 3:
        return None
    prefix = 1.0
    if words[0] in _PREFIXES and len(words) > 1:
        prefix, words = _PREFIXES[words[0]], words[1:]
    else:
        glued = next((start for start in _PREFIXES if words[0].startswith(start) and words[0][len(start) :] in _BASES), None)
        if glued:
            prefix, words = _PREFIXES[glued], [words[0][len(glued) :], *words[1:]]
    if words[0] not in _BASES:
        return None
    kind, factor = _BASES[words[0]]
    rest = [word for word in words[1:] if word not in _PER]
    if not rest:
        is_plain = len(words) == 1 and (len(words[0]) >= 4 or prefix != 1.0) and kind != "turn"
        return (kind, prefix * factor) if is_plain else None
    if rest[0] not in _TIMES_S or kind not in _RATES:
        return None
    if kind == "turn":
        return ("speed", prefix * 60 / _TIMES_S[rest[0]]) if len(rest) == 1 else None
    if len(rest) == 1:
        return _RATES[kind], prefix * factor / _TIMES_S[rest[0]]
    is_squared = rest[1:] in (["2"], ["squared"], rest[:1])
    return ("acceleration", prefix * factor) if is_squared and kind == "length" and _TIMES_S[rest[0]] == 1.0 else None


def parted(header: str) -> tuple[str, str] | None:
    """Name and unit of a header that ends in a unit written out; the longest such ending counts.

    >>> parted("GroundSpeedCmPerSec"), parted("giro_bruto_x_graus_s"), parted("rate_x"), parted("timeSeconds")
    (('GroundSpeed', 'CmPerSec'), ('giro_bruto_x', 'graus_s'), None, None)
    """
    words = list(_WORD.finditer(header))
    for n in range(min(_MOST_WORDS, len(words) - 1), 0, -1):
        at = words[-n].start()
        name = header[:at].rstrip(" _.-")
        if name and words[-1].end() == len(header) and _meaning([word[0].lower() for word in words[-n:]]):
            return name, header[at:]
    return None
