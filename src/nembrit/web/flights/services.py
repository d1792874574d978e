"""What happens around a flight, logs apart."""

from datetime import datetime

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from nembrit.core.setup.card import Card, card_from_json
from nembrit.core.setup.cards import CARDS, WING_CARDS
from nembrit.web.flights.models import Flight, OwnCard
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import latest_build, latest_configuration

AS_FLOWN = "as_flown"  # asked for in place of a card: the one that the log's manoeuvres show
_OWN = "own-"


def own_cards() -> list[OwnCard]:
    """The tuner's own cards that are not put away."""
    return list(OwnCard.objects.filter(archived_at=None))


def cards(kind: str = "") -> tuple[Card, ...]:
    """Every card that can be flown, or those for one kind of craft: built-in ones first."""
    own = tuple(card for one in own_cards() if kind in ("", one.craft_kind) and (card := _read(one)))
    return (() if kind == Craft.Kind.FIXED_WING else CARDS) + own + (WING_CARDS if kind != Craft.Kind.MULTIROTOR else ())


def card_choices(kind: str = "") -> list[tuple[str, str]]:
    """For a form: key, and name with how long it takes."""
    return [(card.key, f"{card.name}, {card.seconds:.0f} s") for card in cards(kind)]


def card_of(key: str) -> Card | None:
    """A card by its key, also one that was put away."""
    if key.startswith(_OWN) and key[len(_OWN) :].isascii() and key[len(_OWN) :].isdigit():
        own = OwnCard.objects.filter(pk=int(key[len(_OWN) :][:9])).first()
        return _read(own) if own else None
    return next((card for card in (*CARDS, *WING_CARDS) if card.key == key), None)


def _read(own: OwnCard) -> Card:
    return card_from_json(own.document | {"key": own.key})


@transaction.atomic
def create_flight(
    craft: Craft, *, configuration: Configuration | None = None, flown_at: datetime | None = None, **fields: object
) -> Flight:
    """The craft's next flight, with its latest configuration and build unless told otherwise."""
    number = (craft.flights.aggregate(top=Max("number"))["top"] or 0) + 1
    return Flight.objects.create(
        craft=craft,
        number=number,
        configuration=None if fields.get("is_sealed") else configuration or latest_configuration(craft),
        build_entry=latest_build(craft),
        flown_at=flown_at or timezone.now(),
        **fields,
    )


def set_archived(flight: Flight, *, archived: bool) -> None:
    """Take a flight out of lists and comparisons, or bring it back; nothing is deleted."""
    flight.archived_at = timezone.now() if archived else None
    flight.save(update_fields=("archived_at",))
