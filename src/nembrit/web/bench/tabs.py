"""The views of one flight, as the tabs that stand above each of them."""

from dataclasses import dataclass

from django.urls import reverse

from nembrit.web.bench.sensors import nothing_for
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft

_COMMON = (("flight", "Findings", "bench:flight"), ("noise", "Noise", "bench:noise"))
_MULTIROTOR = (
    ("response", "Response", "bench:response"), ("filters", "Filters", "bench:filters"), ("gains", "Gains", "bench:gains"),
    ("motors", "Motors & vibration", "bench:motors"),
)  # fmt: skip
_PLANE = (("wing", "Wing", "bench:wing"), ("path", "Path", "bench:path"), ("return", "Return", "bench:return"))
_LAST = (("sensors", "Sensors", "bench:sensors"), ("traces", "Traces", "logs:trace_page"))


@dataclass(frozen=True, slots=True, kw_only=True)
class Tab:
    """One view; `empty` says why it has nothing for this flight."""

    label: str
    url: str
    is_active: bool
    empty: str


def tabs_of(flight: Flight, active: str) -> list[Tab]:
    own = _PLANE if flight.craft.kind == Craft.Kind.FIXED_WING else _MULTIROTOR
    return [
        Tab(
            label=label, url=reverse(name, args=[flight]), is_active=key == active,
            empty=nothing_for(flight) if key == "sensors" else "",
        )
        for key, label, name in (*_COMMON, *own, *_LAST)
    ]  # fmt: skip
