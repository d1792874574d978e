"""Numbers of the small input files, within sense."""

import math
from typing import Any

from nembrit.core.errors import InputError


def within(value: Any, name: str, low: float, high: float) -> float:
    """A finite number within limits. Raises InputError, also for what is no number.

    >>> within("12.5", "a mass in g", 1, 100)
    12.5
    """
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        raise InputError(f"{name} should be a number, not {str(value)[:30]!r}") from None
    if not (math.isfinite(number) and low <= number <= high):
        raise InputError(f"{name} goes from {low:g} to {high:g}, got {number:g}")
    return number
