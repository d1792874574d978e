"""Margins of a report: the loop of every axis before and after."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.response.estimate import Between, between_flights
from nembrit.core.types import AXES
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight

_NUMBERS = (("phase margin", "°", "phase_margin_deg"), ("sensitivity peak", "", "sensitivity_peak"))


@dataclass(frozen=True, slots=True, kw_only=True)
class MarginRow:
    """One number of one axis, at the baseline and now; None where no flight of that side measured it."""

    axis: str
    name: str
    unit: str
    before: Between | None
    now: Between | None


def margins_of(before: Sequence[Flight], now: Sequence[Flight]) -> list[MarginRow]:
    """Rows that at least one side measured."""
    sides = [[own.loop for _, own in by_flight(list(side), "loop") if own and own.loop] for side in (before, now)]
    rows = []
    for axis in AXES:
        for name, unit, key in _NUMBERS:
            values = [[getattr(loop.axes[axis], key) for loop in side if axis in loop.axes] for side in sides]
            found = [between_flights([one.value for one in side if one is not None]) for side in values]
            if any(found):
                rows.append(MarginRow(axis=axis, name=name, unit=unit, before=found[0], now=found[1]))
    return rows
