"""Whether flights met what was predicted of a change."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

_MISS = 1.5  # half intervals beyond which something is not as assumed (our own choice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Met:
    """A prediction moved onto the flights before, and how far those after are from it."""

    predicted: tuple[float, float, float]  # value, low, high
    error: float  # measured less predicted, over half the interval: 1 is its edge

    @property
    def is_miss(self) -> bool:
        return abs(self.error) > _MISS


def met(numbers: Sequence[float], before: float | None, after: float | None, *, is_ratio: bool) -> Met | None:
    """Set the means of flights before and after against a prediction (flown, predicted, low, high), in one unit.

    The prediction stood on one flight: its change, as a difference or as a ratio, is put onto the mean of the flights
    before. None while a mean is missing, or where a ratio has no sense.

    >>> found = met([0.10, 0.08, 0.06, 0.10], 0.12, 0.09, is_ratio=False)
    >>> [round(one, 3) for one in found.predicted], round(found.error, 2), found.is_miss
    ([0.1, 0.08, 0.12], -0.5, False)
    >>> round(met([2.0, 4.0, 3.2, 5.0], 1.0, 2.0, is_ratio=True).error, 3)
    0.0
    """
    flown, told, low, high = numbers
    if before is None or after is None:
        return None
    if not is_ratio:
        shift = before - flown
        half = (high - low) / 2
        moved = (told + shift, low + shift, high + shift)
        return Met(predicted=moved, error=(after - moved[0]) / half) if half > 0 else None
    if min(flown, told, low, high, before, after) <= 0 or high <= low:
        return None
    share = before / flown
    half = math.log(high / low) / 2
    return Met(predicted=(told * share, low * share, high * share), error=math.log(after / (told * share)) / half)
