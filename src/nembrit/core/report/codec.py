"""Typed results as plain JSON and back, by the types of their fields.

Numbers are rounded to nine significant digits, those of arrays to six; what is not finite becomes null.
"""

import dataclasses
import math
import types
import typing
from functools import cache
from typing import Any

import numpy as np

_DIGITS, _ARRAY_DIGITS = 9, 6


def to_json(value: Any) -> Any:
    """A result (dataclass of dataclasses, arrays, tuples, dicts and plain values) as JSON data."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: to_json(getattr(value, field.name)) for field in dataclasses.fields(value)}
    if isinstance(value, np.ndarray):
        return _array(value)
    if isinstance(value, dict):
        return {str(key): to_json(one) for key, one in value.items()}
    if isinstance(value, (tuple, list)):
        return [to_json(one) for one in value]
    if isinstance(value, (float, np.floating)):
        return float(f"{value:.{_DIGITS}g}") if math.isfinite(value) else None
    if isinstance(value, np.bool_):
        return bool(value)
    return int(value) if isinstance(value, np.integer) else value


def _array(values: Any) -> Any:
    if values.ndim > 1:
        return [_array(row) for row in values]
    if values.dtype.kind != "f":
        return values.tolist()
    return [float(f"{value:.{_ARRAY_DIGITS}g}") if math.isfinite(value) else None for value in values.tolist()]


def from_json(kind: Any, data: Any) -> Any:
    """The value of a type that `to_json` made this of. Raises KeyError or TypeError for data of another type."""
    origin, parts = typing.get_origin(kind), typing.get_args(kind)
    if origin in (typing.Union, types.UnionType):
        return None if data is None else from_json(next(part for part in parts if part is not types.NoneType), data)
    if dataclasses.is_dataclass(kind):
        made: Any = kind
        return made(**{name: from_json(hint, data[name]) for name, hint in _hints(made).items()})
    if origin is np.ndarray:
        dtype = typing.get_args(parts[1])[0]
        return np.array(data, dtype=dtype)
    if origin is tuple:
        of_each = [parts[0]] * len(data) if len(parts) == 2 and parts[1] is Ellipsis else parts
        return tuple(from_json(one, item) for one, item in zip(of_each, data, strict=True))
    if origin is dict:
        return {parts[0](key): from_json(parts[1], item) for key, item in data.items()}
    if kind is float:
        return math.nan if data is None else float(data)
    if kind in (str, bool, int):
        return _scalar(kind, data)
    return data


def _scalar(kind: Any, data: Any) -> Any:
    if kind is int and isinstance(data, float) and data.is_integer():
        return int(data)
    if not isinstance(data, kind) or (kind is int and isinstance(data, bool)):
        raise TypeError(f"expected {kind.__name__}, got {str(data)[:40]}")
    return data


@cache
def _hints(kind: Any) -> dict[str, Any]:
    known = typing.get_type_hints(kind)
    return {field.name: known[field.name] for field in dataclasses.fields(kind) if field.init}
