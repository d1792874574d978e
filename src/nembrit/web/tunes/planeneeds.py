"""What a plane's tune needs: trims, a straight path, feed-forward and returns, each by the newest flight that measured it."""

from collections.abc import Callable
from dataclasses import dataclass

from nembrit.core.analysis.wing import Wing
from nembrit.core.wing.cure import TRIMMED_US
from nembrit.core.wing.rates import forward_word
from nembrit.core.wing.words import signed
from nembrit.web.bench.results import by_flight
from nembrit.web.bench.returns import return_rows
from nembrit.web.flights.models import Flight

_RECENT, _OPEN_DEG_S = 8, 0.7


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """One thing that a stage needs."""

    text: str
    is_met: bool
    told: str = ""  # how far it is
    is_flown: bool = False  # met by flying
    is_decided: bool = False  # met by a decided slip


def proofs_of(flights: list[Flight]) -> list[Need]:
    """All that a plane's settings are locked in by, from the newest flights with them."""
    return [trimmed(flights), straight(flights), forward(flights), returned(flights)]


def trimmed(flights: list[Flight]) -> Need:
    """Roll and pitch hands off: within 8 µs, and known to within as much."""

    def read(flight: Flight, wing: Wing) -> Need | None:
        axes = {axis: own for axis, own in (wing.trim.axes if wing.trim else {}).items() if axis != "yaw"}
        if not axes:
            return None
        axis, own = max(axes.items(), key=lambda pair: abs(pair[1].trim_us))
        is_known = own.half_width_us <= TRIMMED_US
        told = f"flight {flight.number}: {axis} {signed(own.trim_us)} ± {own.half_width_us:.0f} µs"
        is_met = is_known and abs(own.trim_us) <= TRIMMED_US
        return Need(text=text, is_met=is_met, told=told, is_flown=not is_known)

    text = f"roll and pitch within {TRIMMED_US:g} µs, hands off"
    return _newest(flights, read) or Need(text=text, is_met=False, told="fly level, hands off, for half a minute", is_flown=True)


def straight(flights: list[Flight]) -> Need:
    """No pull to a side, where the pull is known well enough to say so."""

    def read(flight: Flight, wing: Wing) -> Need | None:
        if wing.pull is None:
            return None
        is_known = wing.pull.side is not None or 1.96 * wing.pull.error_deg_s <= _OPEN_DEG_S
        is_met = is_known and wing.pull.side is None
        return Need(text=text, is_met=is_met, told=f"flight {flight.number}: {wing.pull.in_words}", is_flown=not is_known)

    text = "no pull to a side"
    return _newest(flights, read) or Need(text=text, is_met=False, told="fly four legs there and back", is_flown=True)


def forward(flights: list[Flight]) -> Need:
    """The feed-forward of roll against what the surface gives."""

    def read(flight: Flight, wing: Wing) -> Need | None:
        ratio = wing.rate_response["roll"].forward_ratio if "roll" in wing.rate_response else None
        if ratio is None:
            return None
        word, (low, high) = forward_word(ratio), ratio[1]
        told = f"flight {flight.number}: {ratio[0]:.2f} ({low:.2f} to {high:.2f})"
        return Need(text=text, is_met=word == "fits", told=told, is_flown=word == "open")

    text = "the feed-forward of roll fits the surface"
    return _newest(flights, read) or Need(text=text, is_met=False, told="fly the card of full holds", is_flown=True)


def returned(flights: list[Flight]) -> Need:
    """The newest return with these settings, by the limits that stood before it."""

    def read(flight: Flight, wing: Wing) -> Need | None:
        rows = return_rows(flight, wing)
        if not rows:
            return None
        return Need(
            text=text, is_met=rows[-1]["passed"] is True, told=f"flight {flight.number}: {rows[-1]['says']}", is_flown=True
        )

    text = "a return home within every limit"
    return _newest(flights, read) or Need(text=text, is_met=False, told="fly the return card", is_flown=True)


def _newest(flights: list[Flight], read: Callable[[Flight, Wing], Need | None]) -> Need | None:
    for flight, results in by_flight(flights[:_RECENT], "wing"):
        wing = results.wing if results is not None else None
        if wing is not None and (found := read(flight, wing)) is not None:
            return found
    return None
