"""Settings over a link: JSON lines, one request and one answer each (`docs/link.md`)."""

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nembrit.core.errors import InputError

MOST_BYTES, _MOST_SETTINGS = 1_000_000, 2000


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """What the craft said."""

    settings: dict[str, str]
    is_saved: bool  # whether what it holds now survives a restart
    is_armed: bool
    is_moving: bool
    error: str = ""

    @property
    def refusal(self) -> str:
        """Why nothing may be written now; empty where it may."""
        if self.is_armed:
            return "the craft is armed: disarm it, and take the propellers off"
        return "the craft is moving: set it down, and take the propellers off" if self.is_moving else ""


def request(do: str, values: Mapping[str, str] | None = None) -> bytes:
    """One line that asks: read, write, save, or restart. Raises InputError for another word."""
    if do not in ("read", "write", "save", "restart", "log"):
        raise InputError(f"“{do}” is not a request that the link knows")
    document: dict[str, Any] = {"nembrit": "link/1", "do": do}
    if values is not None:
        document["values"] = dict(values)
    return json.dumps(document).encode() + b"\n"


def answer(line: bytes) -> Answer:
    """Read one answer. Raises InputError for anything that is none."""
    if len(line) > MOST_BYTES:
        raise InputError("the craft’s answer is longer than a megabyte")
    try:
        document = json.loads(line)
        settings = document["settings"]
        if document["nembrit"] != "link/1" or not isinstance(settings, dict) or len(settings) > _MOST_SETTINGS:
            raise ValueError
        found = {str(name): _text(value) for name, value in settings.items()}
        flags = [document[name] for name in ("saved", "armed", "moving")]
        if not all(isinstance(flag, bool) for flag in flags):
            raise ValueError
    except (ValueError, KeyError, TypeError, RecursionError):
        raise InputError("the reply is not protocol link/1: is this the right address?") from None
    return Answer(
        settings=found, is_saved=flags[0], is_armed=flags[1], is_moving=flags[2], error=str(document.get("error") or "")[:300]
    )


def _text(value: object) -> str:
    if isinstance(value, bool) or not isinstance(value, (str, int, float)):
        raise ValueError
    return f"{value:g}" if isinstance(value, float) else str(value)


def differences(before: Mapping[str, str], after: Mapping[str, str]) -> list[tuple[str, str, str]]:
    """Settings that are not the same: name, before, after; empty text for one that is missing.

    >>> differences({"a": "1", "b": "2"}, {"a": "1.0", "b": "3"})
    [('b', '2', '3')]
    """
    names = sorted({*before, *after})
    return [(name, before.get(name, ""), after.get(name, "")) for name in names if not _same(before.get(name), after.get(name))]


def _same(one: str | None, other: str | None) -> bool:
    if one is None or other is None:
        return one == other
    try:
        return abs(float(one) - float(other)) <= 1e-6 * max(1.0, abs(float(one)))
    except ValueError:
        return one.strip() == other.strip()
