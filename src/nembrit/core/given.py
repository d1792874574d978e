"""What comes in a document from outside becomes a number or a text here; what is none is None."""

import collections.abc
import dataclasses
import math
import types
import typing
from typing import Any

from nembrit.core.errors import InputError


def finite(value: object, *, low: float = -1e12, high: float = 1e12) -> float | None:
    """A number of a document within limits; None for a truth value, a text, one that is not finite, and one of 400 digits.

    >>> finite(3), finite(True), finite("3"), finite(10**400), finite(5, high=4)
    (3.0, None, None, None, None)
    """
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return None
    try:
        number = float(value)
    except OverflowError:
        return None
    return number if math.isfinite(number) and low <= number <= high else None


def clean_text(value: object, *, most: int) -> str:
    """A text as every database, page and file takes it: without NUL, other control signs and halves of characters.

    >>> clean_text("a" + chr(0) + "b" + chr(0xD800) + "c\\n", most=10), clean_text(None, most=5), clean_text("long", most=2)
    ('abc', '', 'lo')
    """
    text = "" if value is None else str(value)
    kept = "".join(
        sign for sign in text if sign in "\n\t" or (ord(sign) >= 32 and not 0xD800 <= ord(sign) <= 0xDFFF and sign != "\x7f")
    )
    return kept.strip()[:most]


Made = typing.TypeVar("Made")


def made(kind: type[Made], document: Any, *, where: str = "it") -> Made:
    """A dataclass from a document of its fields, each held to its type; those that are missing keep their defaults.

    Raises InputError with the place, also for names that the class does not have.
    """
    if not isinstance(document, dict):
        raise InputError(f"{where} should be an object, not “{str(document)[:40]}”")
    hints = typing.get_type_hints(kind)
    unknown = next((name for name in document if name not in hints), None)
    if unknown is not None:
        raise InputError(f"{where} has no “{str(unknown)[:40]}”; it has {', '.join(hints)}")
    values = {name: _value(hints[name], one, f"{where}.{name}") for name, one in document.items()}
    try:
        return kind(**values)
    except TypeError as error:  # one without a default is missing
        raise InputError(f"{where}: {error}") from None


def _value(kind: Any, data: Any, where: str) -> Any:
    parts = [part for part in typing.get_args(kind) if dataclasses.is_dataclass(part)]
    if dataclasses.is_dataclass(kind) or (parts and data is not None):
        return made(kind if dataclasses.is_dataclass(kind) else parts[0], data, where=where)  # type: ignore[arg-type]
    _check(kind, data, where)
    return tuple(data) if isinstance(data, list) else data


_MOST_TEXT, _DEEPEST = 100_000, 8


def checked(kind: Any, data: Any, *, where: str = "it") -> Any:
    """JSON data held to a type, which says what may stand where; returns it unchanged.

    `kind`: str, int, bool, float (any finite number), Any (any JSON, not deep), Literal, unions, list[…], dict[str, …], tuples
    (lists of fixed length) and TypedDicts, whose other keys are ignored. Raises InputError with the place.

    >>> checked(dict[str, list[float]], {"a": [1, 2.5]})
    {'a': [1, 2.5]}
    """
    _check(kind, data, where)
    return data


def _check(kind: Any, data: Any, where: str) -> None:
    origin, parts = typing.get_origin(kind), typing.get_args(kind)
    if kind is Any:
        _plain(data, where, 0)
    elif origin in (typing.Union, types.UnionType):
        _either(parts, data, where)
    elif origin is typing.Literal:
        _require(any(data == one and type(data) is type(one) for one in parts), where, data)
    elif typing.is_typeddict(kind):
        _typed(kind, data, where)
    elif origin is list or (origin is tuple and parts[-1] is Ellipsis):
        _list(parts[0], data, where)
    elif origin is tuple:
        _require(isinstance(data, list) and len(data) == len(parts), where, data)
        for place, (part, one) in enumerate(zip(parts, data, strict=True)):
            _check(part, one, f"{where}[{place}]")
    elif origin in (dict, collections.abc.Mapping):
        _require(isinstance(data, dict), where, data)
        for key, one in data.items():
            _check(str, key, where)
            _check(parts[1], one, f"{where}.{key[:30]}")
    else:
        _scalar(kind, data, where)


def _list(of: Any, data: Any, where: str) -> None:
    _require(isinstance(data, list), where, data)
    for place, one in enumerate(data):
        _check(of, one, f"{where}[{place}]")


def _either(parts: tuple[Any, ...], data: Any, where: str) -> None:
    for part in parts:
        try:
            _check(part, data, where)
        except InputError:
            continue
        return
    _require(False, where, data)


def _typed(kind: Any, data: Any, where: str) -> None:
    _require(isinstance(data, dict), where, data)
    hints = typing.get_type_hints(kind)
    missing = next((name for name in kind.__required_keys__ if name not in data), None)
    if missing is not None:
        raise InputError(f"{where} lacks “{missing}”")
    for name, one in data.items():
        if name in hints:
            _check(hints[name], one, f"{where}.{name}")


def _scalar(kind: Any, data: Any, where: str) -> None:
    if kind is float:
        _require(finite(data) is not None, where, data)
    elif kind is int:
        _require(finite(data) is not None and float(data).is_integer(), where, data)
    elif kind is str:
        _require(isinstance(data, str) and len(data) <= _MOST_TEXT and is_clean(data), where, data)
    elif kind is bool:
        _require(isinstance(data, bool), where, data)
    else:
        _require(data is None and kind is type(None), where, data)


def _plain(data: Any, where: str, depth: int) -> None:
    _require(depth <= _DEEPEST, where, "…")
    if isinstance(data, dict):
        for key, one in data.items():
            _scalar(str, key, where)
            _plain(one, f"{where}.{key[:30]}", depth + 1)
    elif isinstance(data, list):
        for one in data:
            _plain(one, where, depth + 1)
    elif isinstance(data, str):
        _scalar(str, data, where)
    elif data is not None and not isinstance(data, bool):
        _scalar(float, data, where)


def is_clean(text: str) -> bool:
    """Whether a text holds neither NUL nor halves of characters."""
    return "\x00" not in text and not any(0xD800 <= ord(sign) <= 0xDFFF for sign in text)


def _require(is_so: bool, where: str, data: Any) -> None:
    if not is_so:
        raise InputError(f"{where} cannot be “{str(data)[:40]}”")
