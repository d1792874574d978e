"""Fellows of a column: what one correction says about the columns that are named alike."""

import re
from collections.abc import Sequence

from nembrit.core.recognise.names import guesses_of, unglued
from nembrit.core.recognise.words import tokens_of
from nembrit.core.types import AXES

_ON_AXIS = re.compile(r"(?P<before>(?:b/)?[a-z_]+\.)(?P<part>roll|pitch|yaw|x|y|z)(?P<after>(?:\.[pidf])?)")
_NUMBERED = re.compile(r"(?P<before>(?:b/)?[a-z_]+\.)(?P<part>\d+)(?P<after>)")


def fellow_roles(names: Sequence[str], units: Sequence[str], at: int, role: str) -> dict[int, str]:
    """Roles that follow for the fellows of column `at` once it is known to be `role`.

    Fellows differ from it in one word of the name only and have the same unit: two more for a role that
    comes once an axis, a numbered run for motors and servos. Empty where that leaves a choice.

    >>> names = ("t", "wx", "wy", "wz", "kanal 0", "kanal 1")
    >>> fellow_roles(names, ("",) * 6, 2, "gyro.pitch"), fellow_roles(names, ("",) * 6, 4, "motor.1")
    ({1: 'gyro.roll', 3: 'gyro.yaw'}, {5: 'motor.2'})
    """
    words = unglued([tokens_of(name) for name in names])
    on_axis, numbered = _ON_AXIS.fullmatch(role), _NUMBERED.fullmatch(role)
    for place in range(len(words[at])):
        alike = [k for k in range(len(names)) if units[k] == units[at] and _differs_only_at(words[k], words[at], place)]
        if on_axis and len(alike) == 3:
            letters = ("x", "y", "z") if on_axis["part"] in "xyz" else AXES
            parts = _axes(tuple(names), tuple(units), alike, at, letters.index(on_axis["part"]))
            return {k: f"{on_axis['before']}{letters[n]}{on_axis['after']}" for k, n in parts.items() if k != at}
        if numbered and len(alike) > 1 and all(words[k][place].isdigit() for k in alike):
            shift = int(numbered["part"]) - int(words[at][place])
            found = {k: int(words[k][place]) + shift for k in alike}
            if min(found.values()) >= 1:
                return {k: f"{numbered['before']}{number}" for k, number in found.items() if k != at}
    return {}


def _differs_only_at(words: tuple[str, ...], others: tuple[str, ...], place: int) -> bool:
    return len(words) == len(others) and all(a == b or k == place for k, (a, b) in enumerate(zip(words, others, strict=True)))


def _axes(names: tuple[str, ...], units: tuple[str, ...], alike: list[int], at: int, chosen: int) -> dict[int, int]:
    """Place of each of three fellows among the axes: by their names where these say so, else by their order."""
    guesses = guesses_of(names, units)
    told = [guesses[k].axis for k in alike]
    places = [AXES.index(axis) if axis in AXES else "xyz".index(axis) if axis else None for axis in told]
    for candidate in (places, [0, 1, 2]):
        if set(candidate) == {0, 1, 2} and candidate[alike.index(at)] == chosen:
            return {k: place for k, place in zip(alike, candidate, strict=True) if place is not None}
    return {}
