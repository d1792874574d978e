"""Scales that stand before a table."""

import re

import numpy as np

from nembrit.core.recognise.scales import Scale
from nembrit.core.recognise.words import concepts_of, tokens_of

Preamble = tuple[tuple[str, str], ...]

_DEG_PER_RAD = 57.29577951308232
_G_M_S2 = 9.80665
_SCALE_WORD = re.compile(r"lsb|g|1|[fv]a[ck]tor|(?:sens|scal|skal|escal|echel|resol|aufl)[a-z]*")
_ENDS = (frozenset("min minimum low lowest idle".split()), frozenset("max maximum high highest full".split()))


def scale_before(preamble: Preamble, family: str) -> Scale | None:
    """A scale stated for a family, such as “gyro scale = 16.4 LSB per deg/s”; for motors, their two ends."""
    if family in ("motor", "throttle"):
        return _between_ends(preamble, family)
    concept = {"gyro_raw": "gyro", "gyro": "gyro", "accel": "accel", "setpoint": "setpoint"}.get(family)
    if concept is None:
        return None
    one = _G_M_S2 if concept == "accel" else 1.0
    for key, value in preamble:
        words = tokens_of(key)
        if not _speaks_of(concept, words) or not any(_SCALE_WORD.fullmatch(word) for word in (*words, *tokens_of(value))):
            continue
        if full := _full_scale(f"{key} {value}", words):
            return Scale(factor=one * full, confidence=0.85, reason=f"“{key}: {value[:40]}” before the table")
        amount, text = _number(value), value.lower()
        if amount is None or amount <= 0:
            continue
        is_per_unit = bool(re.search(r"(?:lsb|[\d.])\s*(?:per|/)", text)) or (
            amount >= 1 and "per lsb" not in text and "/lsb" not in text
        )
        factor = one / amount if is_per_unit else one * amount
        if "rad" in text and concept != "accel":
            factor *= _DEG_PER_RAD
        return Scale(factor=factor, confidence=0.85, reason=f"“{key}: {value[:40]}” before the table")
    return None


def _speaks_of(concept: str, words: tuple[str, ...]) -> bool:
    found = concepts_of(words)
    if concept == "setpoint":
        return "wanted" in found or {"command", "rate"} <= found
    if concept == "gyro" and {"dps", "lsb"} <= set(words):
        return True
    return concept in found and "wanted" not in found


def _between_ends(preamble: Preamble, family: str) -> Scale | None:
    """0 and 1 where the file names the lowest and the highest number of a family."""
    ends: list[float] = []
    for words_of_end in _ENDS:
        for key, value in preamble:
            words = tokens_of(key)
            number = _number(value)
            if family in concepts_of(words) and set(words) & words_of_end and number is not None:
                ends.append(number)
                break
    if len(ends) < 2 or ends[1] - ends[0] <= 0:
        return None
    span = ends[1] - ends[0]
    reason = f"from {ends[0]:g} to {ends[1]:g}, as said before the table"
    return Scale(factor=1 / span, offset=-ends[0] / span, confidence=0.85, reason=reason)


def _full_scale(text: str, words: tuple[str, ...]) -> float | None:
    """Units a count where a range is set against a power of two, as in “full scale 2000 dps = 32768”."""
    numbers = [float(found) for found in re.findall(r"\d+(?:\.\d+)?", text)]
    if len(numbers) != 2 or not {"full", "range", "fs", "bereich"} & set(words):
        return None
    counts = max(numbers)
    return min(numbers) / counts if counts >= 256 and float(np.log2(counts)).is_integer() else None


def _number(text: str) -> float | None:
    found = re.search(r"[-+]?\d*\.?\d+(?:[eE][-+]?\d+)?", text)
    return float(found[0]) if found else None
