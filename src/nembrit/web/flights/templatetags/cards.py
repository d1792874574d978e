"""Cards by name, in templates."""

from django import template

from nembrit.web.flights.services import card_of

register = template.Library()


@register.filter
def card_name(key: str) -> str:
    """“Half-minute card” for its key; empty for none."""
    found = card_of(key) if key else None
    return found.name if found else key.replace("_", " ")
