"""The next flight that teaches most, from the flights with the present settings."""

from nembrit.core.routes.teaches import Flown, Teaching, teaches_most
from nembrit.web.bench.results import by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import latest_build, latest_configuration
from nembrit.web.tunes.verifying import flown_as


@while_unchanged
def teaching_of(craft: Craft) -> tuple[Teaching, str, str] | None:
    """The proposal with the names of its card and of the last one; None where nothing is left open, or nothing was measured."""
    latest = latest_configuration(craft)
    if latest is None or craft.kind != Craft.Kind.MULTIROTOR:
        return None
    flights = [one for one in flown_as(craft, latest, latest_build(craft)) if one.card_key]
    flown = [
        Flown(axis=axis, card=flight.card_key, half_width=loop.sensitivity_peak.error, usable_s=loop.usable_s)
        for flight, own in by_flight(flights, "loop") if own is not None and own.loop is not None
        for axis, loop in own.loop.axes.items()
    ]  # fmt: skip
    found = teaches_most(flown, flights[0].card_key) if flights else None
    if found is None:
        return None
    card, last = card_of(found.card), card_of(found.repeated_card)
    return None if card is None or last is None else (found, card.name, last.name)
