"""What comes typed or in an address becomes numbers and moments here, and nowhere else.

A text that is no such thing becomes a sentence; nothing not finite, out of sense or too large for the
database gets past.
"""

import math
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from django import forms
from django.http import HttpRequest

from nembrit.core.errors import InputError

MOST_ID = 2**63 - 1  # SQLite's largest
_MOST = 1e12
_FIRST_DAY, _LAST_DAY = datetime(1990, 1, 1, tzinfo=UTC), datetime(2200, 1, 1, tzinfo=UTC)


def number(text: object, name: str, *, low: float = -_MOST, high: float = _MOST) -> float:
    """A finite number within limits, with a point or a comma. Raises InputError."""
    shown = str(text).strip()
    try:
        value = float(shown.replace(",", ".")) if shown.isascii() else math.nan
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise InputError(f"{name} should be a number, not “{shown[:30]}”")
    if not low <= value <= high:
        raise InputError(f"{name} goes from {low:g} to {high:g}, got {value:g}")
    return value


def whole(text: object, name: str, *, low: int = 0, high: int = MOST_ID) -> int:
    """A whole number within limits, in plain digits. Raises InputError."""
    shown = str(text).strip()
    if not (shown.isascii() and shown.removeprefix("-").isdigit() and len(shown) < 20):
        raise InputError(f"{name} should be a whole number, not “{shown[:30]}”")
    value = int(shown)
    if not low <= value <= high:
        raise InputError(f"{name} goes from {low} to {high}, got {value}")
    return value


def row_number(text: object) -> int | None:
    """The number of a row as it stands in an address; None for what cannot be one."""
    try:
        return whole(text, "a row", low=1)
    except InputError:
        return None


def row_numbers(texts: list[str], *, most: int = 100) -> list[int]:
    """Several of them, at most some; what cannot be one is passed over."""
    return [found for text in texts[:most] if (found := row_number(text)) is not None]


def seconds_of(given: Mapping[str, Any], *names: str) -> list[float]:
    """Times under some names. Raises InputError."""
    return [number(given.get(name, ""), name.replace("_", " "), low=-1e9, high=1e9) for name in names]


def span_of(request: HttpRequest) -> tuple[float, float]:
    """A span of page time from an address. Raises InputError."""
    start_s, end_s = seconds_of(request.GET, "from", "to")
    if not start_s < end_s:
        raise InputError("from and to should be seconds, from before to")
    return start_s, end_s


def moment(value: datetime | None) -> datetime | None:
    """A date that a club's craft can have flown at. Raises InputError for one that it cannot."""
    if value is not None and not _FIRST_DAY <= value <= _LAST_DAY:
        raise InputError(f"a date lies between {_FIRST_DAY.year} and {_LAST_DAY.year}, not in the year {value.year}")
    return value


class NumberField(forms.Field):
    """A number of a form, with the limits of `number`."""

    def __init__(self, *, low: float = -_MOST, high: float = _MOST, **kwargs: Any) -> None:
        super().__init__(**kwargs)
        self._low, self._high = low, high

    def to_python(self, value: object) -> float | None:
        if value is None or not str(value).strip():
            return None
        try:
            return number(value, "this", low=self._low, high=self._high)
        except InputError as error:
            raise forms.ValidationError(str(error)) from None


class MomentField(forms.DateTimeField):
    """A date and time within sense."""

    def clean(self, value: object) -> datetime | None:
        try:
            return moment(super().clean(value))
        except InputError as error:
            raise forms.ValidationError(str(error)) from None
        except OverflowError:
            raise forms.ValidationError("a date lies between 1990 and 2200") from None
