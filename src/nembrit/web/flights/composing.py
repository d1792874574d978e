"""Composing cards of one's own, and what of a card fits the packs at hand."""

from collections.abc import Sequence

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.setup.card import card_to_json
from nembrit.core.setup.compose import composed
from nembrit.core.setup.library import QUESTIONS, Known, library_for
from nembrit.web.flights.models import OwnCard

__all__ = ["QUESTIONS", "Known", "library_for"]
STAGES = ("baseline", "mechanics", "trim", "filters", "gains", "verify")


@transaction.atomic
def keep_card(kind: str, keys: Sequence[str], *, name: str, purpose: str = "") -> OwnCard:
    """Compose a card and keep it. Raises InputError for what cannot be flown, and for a name that a card has."""
    card = composed(kind, keys, key="own", name=name, purpose=purpose)
    if OwnCard.objects.filter(name__iexact=card.name, archived_at=None).exists():
        raise InputError(f"there is a card “{card.name}” already: cards never change, so choose another name")
    return OwnCard.objects.create(name=card.name[:60], craft_kind=kind, document=card_to_json(card))


def put_away(own: OwnCard) -> None:
    """Leave a card out of the lists; flights that flew it keep it."""
    own.archived_at = timezone.now()
    own.save(update_fields=("archived_at",))
