"""Flights that are one flight: the same log again, cut, renamed or written at another rate."""

from collections.abc import Sequence
from functools import lru_cache

from nembrit.core.trials.likeness import SAME, likeness
from nembrit.web.bench.results import stored_results
from nembrit.web.flights.models import Flight

_near = lru_cache(maxsize=4096)(likeness)


def copies_among(flights: Sequence[Flight]) -> dict[int, int]:
    """For each flight that is a copy, the number of the one that came first."""
    results = stored_results(list(flights), "likeness")
    marks = {
        flight.number: own.likeness.mark for flight in flights if (own := results.get(flight.pk)) and own.likeness is not None
    }
    found: dict[int, int] = {}
    numbers = sorted(marks)
    for place, number in enumerate(numbers):
        for earlier in numbers[:place]:
            if earlier not in found and _near(marks[earlier], marks[number]) >= SAME:
                found[number] = earlier
                break
    return found
