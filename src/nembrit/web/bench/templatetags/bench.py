"""What every view of a flight shows above its content."""

from typing import Any

from django import template

from nembrit.web.bench.tabs import tabs_of

register = template.Library()


@register.inclusion_tag("bench/_tabs.html", takes_context=True)
def flight_tabs(context: dict[str, Any], active: str) -> dict[str, Any]:
    """Tabs of the flight in the context."""
    flight = context["flight"]
    return {"flight": flight, "tabs": tabs_of(flight, active)}
