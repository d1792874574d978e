"""What happens around a flight, logs apart."""

from datetime import datetime

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from nembrit.core.setup.card import CARDS, Card
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import latest_build, latest_configuration

CARD_CHOICES = [(card.key, f"{card.name}, {card.seconds:.0f} s") for card in CARDS]

AS_FLOWN = "as_flown"  # asked for in place of a card: the one that the log's manoeuvres show


def cards() -> tuple[Card, ...]:
    return CARDS


def card_of(key: str) -> Card | None:
    return next((card for card in CARDS if card.key == key), None)


@transaction.atomic
def create_flight(
    craft: Craft, *, configuration: Configuration | None = None, flown_at: datetime | None = None, **fields: object
) -> Flight:
    """The craft's next flight, with its latest configuration and build unless told otherwise."""
    number = (craft.flights.aggregate(top=Max("number"))["top"] or 0) + 1
    return Flight.objects.create(
        craft=craft,
        number=number,
        configuration=configuration or latest_configuration(craft),
        build_entry=latest_build(craft),
        flown_at=flown_at or timezone.now(),
        **fields,
    )


def set_archived(flight: Flight, *, archived: bool) -> None:
    """Take a flight out of lists and comparisons, or bring it back; nothing is deleted."""
    flight.archived_at = timezone.now() if archived else None
    flight.save(update_fields=("archived_at",))
