"""The next flight that teaches most: which card narrows the number that the next decision hangs on, and by how much."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.types import AXES

WANTED = 0.15  # half interval of a sensitivity peak below which a decision hangs on it no longer (our own, no source)
_MOST_FLIGHTS = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class Flown:
    """What one flight gave one axis: the half interval of its sensitivity peak, and how much of the flying it rests on."""

    axis: str
    card: str
    half_width: float
    usable_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Teaching:
    """The proposal, beside simply repeating the last card."""

    axis: str
    half_width: float  # now, all flights together
    card: str
    n_flights: int
    after: float
    repeated_card: str
    repeated: float  # half interval after as many flights of the last card

    @property
    def is_repeat(self) -> bool:
        return self.card == self.repeated_card


def teaches_most(flown: Sequence[Flown], last_card: str) -> Teaching | None:
    """Propose the card that narrows the least certain axis most, by what each card has given this craft so far.

    Parameters
    ----------
    flown : sequence of Flown
        One entry an axis and flight with the present settings, yaw too.
    last_card : str
        The card that was flown last.

    Notes
    -----
    Flights are joined by inverse variance. A flight's interval goes with one over the square root of the seconds that it rests on
    (independent seconds; that of a mean), so a card adds information as the median of 1/h² of its own flights. None where every
    axis is below what a decision needs, or where no card was flown: then nothing can be expected.
    """
    sides = {axis: [one for one in flown if one.axis == axis and one.half_width > 0] for axis in AXES}
    widths = {axis: _joined([one.half_width for one in side]) for axis, side in sides.items() if side}
    if not widths:
        return None
    axis = max(widths, key=lambda one: widths[one])
    if widths[axis] <= WANTED:
        return None
    given = _information(sides[axis])
    card = max(given, key=lambda one: given[one])
    now = 1.0 / widths[axis] ** 2
    wanted = 1.0 / WANTED**2
    n_flights = min(_MOST_FLIGHTS, max(1, math.ceil((wanted - now) / given[card])))
    return Teaching(
        axis=axis, half_width=widths[axis], card=card, n_flights=n_flights, after=_after(now, given[card], n_flights),
        repeated_card=last_card, repeated=_after(now, given.get(last_card, 0.0), n_flights),
    )  # fmt: skip


def _information(side: Sequence[Flown]) -> Mapping[str, float]:
    """The median of 1/h² by card."""
    by_card: dict[str, list[float]] = {}
    for one in side:
        by_card.setdefault(one.card, []).append(1.0 / one.half_width**2)
    return {card: sorted(values)[(len(values) - 1) // 2] for card, values in by_card.items()}


def _after(now: float, each: float, n_flights: int) -> float:
    return 1.0 / math.sqrt(now + n_flights * each)


def _joined(widths: Sequence[float]) -> float:
    return 1.0 / math.sqrt(sum(1.0 / width**2 for width in widths))
