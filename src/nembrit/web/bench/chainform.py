"""A filter chain as the page's fields say it, and as they are shown again."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.http import QueryDict

from nembrit.core.errors import InputError
from nembrit.core.setup.controller import Controller, Filter
from nembrit.web.common.fields import number, row_number

PLACES = {"chip": "gyro chip", "gyro": "gyro", "d_term": "D term", "feed_forward": "feed-forward"}
KINDS = {
    "lowpass_1": "low-pass, first order",
    "lowpass_2": "low-pass, second order",
    "notch": "notch",
    "rotor_notch": "motor-tracking notches",
}
_MOST_BLOCKS, _MOST_ORDER = 8, 6
_NEW = {
    "lowpass_1": Filter(kind="lowpass_1", frequency_hz=200.0),
    "lowpass_2": Filter(kind="lowpass_2", frequency_hz=200.0),
    "notch": Filter(kind="notch", frequency_hz=200.0, q=3.0),
    "rotor_notch": Filter(kind="rotor_notch", frequency_hz=70.0, q=4.0, orders=(1, 2), blend_hz=20.0),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class ChainField:
    """One block as it stands on the page."""

    place: str
    position: int
    filter: Filter
    delay_ms: float | None
    lag_deg: float | None

    @property
    def key(self) -> str:
        return f"{self.place}-{self.position}"

    @property
    def orders(self) -> str:
        return ", ".join(str(order) for order in self.filter.orders)

    @property
    def has_lag(self) -> bool:
        return self.lag_deg is not None and math.isfinite(self.lag_deg) and self.place != "feed_forward"

    @property
    def has_q(self) -> bool:
        return self.filter.kind != "lowpass_1"


def chains_from(given: QueryDict, flown: Controller) -> Controller:
    """The chains that the fields say, with the block added, moved or put away by the button that was pressed.

    Without fields the flown chains. Raises InputError with the block and what is wrong with it.
    """
    if "tried" not in given:
        return flown
    found: dict[str, Any] = {}
    for place, label in PLACES.items():
        blocks = [_block(place, label, *words) for words in _rows(given, place)]
        found[place] = tuple(_pressed(given, place, blocks))
        if len(found[place]) > _MOST_BLOCKS:
            raise InputError(f"{label}: more than {_MOST_BLOCKS} filters are more than a controller has")
    return replace(flown, **found)


def fields_of(chains: Controller, costs: dict[tuple[str, int], tuple[float, float]]) -> dict[str, list[ChainField]]:
    """Blocks by place, each with its delay [s] and lag [°] where they are known."""
    return {
        place: [
            ChainField(
                place=place, position=k, filter=one,
                delay_ms=1000 * cost[0] if (cost := costs.get((place, k))) else None, lag_deg=cost[1] if cost else None,
            )
            for k, one in enumerate(getattr(chains, place))
        ]
        for place in PLACES
    }  # fmt: skip


def query_of(chains: Controller) -> list[tuple[str, str]]:
    """The fields of a chain, for an address that shows it."""
    words = [("tried", "1")]
    for place in PLACES:
        for one in getattr(chains, place):
            words += [
                (f"{place}.kind", one.kind), (f"{place}.hz", f"{one.frequency_hz:g}"), (f"{place}.q", f"{one.q:g}"),
                (f"{place}.orders", ",".join(map(str, one.orders))),
            ]  # fmt: skip
    return words


def _rows(given: QueryDict, place: str) -> Iterator[tuple[str, str, str, str]]:
    columns = [given.getlist(f"{place}.{name}")[: 2 * _MOST_BLOCKS] for name in ("kind", "hz", "q", "orders")]
    if len({len(column) for column in columns}) != 1:
        raise InputError(f"{PLACES[place]}: the fields do not match; open the page again")
    yield from zip(*columns, strict=True)


def _block(place: str, label: str, kind: str, hz: str, q: str, orders: str) -> Filter:
    if kind not in KINDS:
        raise InputError(f"{label}: “{kind[:30]}” is not a kind of filter")
    name = f"{label}, {KINDS[kind]}"
    if kind == "rotor_notch" and place != "gyro":
        raise InputError(f"{label}: motor-tracking notches belong to the gyro filters")
    made = replace(_NEW[kind], frequency_hz=number(hz, f"{name}: the frequency in Hz", low=5, high=4000))
    if kind != "lowpass_1":
        made = replace(made, q=number(q, f"{name}: Q", low=0.3, high=50))
    if kind == "rotor_notch":
        told = [round(number(word, f"{name}: an order", low=1, high=_MOST_ORDER)) for word in orders.split(",") if word.strip()]
        if not told:
            raise InputError(f"{name}: say which orders, such as 1, 2")
        made = replace(made, orders=tuple(dict.fromkeys(told)))
    return made


def _pressed(given: QueryDict, place: str, blocks: Sequence[Filter]) -> list[Filter]:
    found = list(blocks)
    where, _, what = given.get("press", "").partition(":")
    own, _, position = where.partition("-")
    if own != place:
        return found
    if what in KINDS:
        return [*found, _NEW[what]]
    k = (row_number(position) or 0) if position != "0" else 0
    if position != str(k) or k >= len(found):
        return found
    if what == "away":
        del found[k]
    elif what in ("back", "on"):
        other = k - 1 if what == "back" else k + 1
        if 0 <= other < len(found):
            found[k], found[other] = found[other], found[k]
    return found
