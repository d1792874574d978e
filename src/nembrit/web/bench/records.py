"""How well this craft's own predictions held: what later intervals are widened or narrowed by."""

import math
from collections.abc import Callable, Sequence

from nembrit.web.hangar.models import Craft

_USUAL = 0.5  # a 95 % interval is two standard deviations: errors are half of it in the root mean square
_WORTH = 4.0  # as many usual errors stand beside a craft's own until it has some
_LEAST, _MOST = 0.7, 3.0

# the slips above know them; they say so here, so that the bench need not know slips
_sources: list[Callable[[Craft], Sequence[float]]] = []


def tell_errors(source: Callable[[Craft], Sequence[float]]) -> Callable[[Craft], Sequence[float]]:
    """Register where a craft's errors come from: measured less predicted, over half the interval."""
    _sources.append(source)
    return source


def widened_of(craft: Craft) -> float:
    """What intervals are multiplied by: root mean square of the craft's own errors against the usual one.

    Four usual errors are taken along, so that one flight alone says little; from 0.7 to 3.
    """
    return widened([error for source in _sources for error in source(craft)])


def widened(errors: Sequence[float]) -> float:
    """The factor for given errors.

    >>> widened([]), round(widened([0.5] * 6), 6), widened([2.0] * 4), widened([9.0] * 9)
    (1.0, 1.0, 2.9154759474226504, 3.0)
    """
    square = (sum((error / _USUAL) ** 2 for error in errors) + _WORTH) / (len(errors) + _WORTH)
    return min(_MOST, max(_LEAST, math.sqrt(square)))
