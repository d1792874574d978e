"""Link quality over distance, from the newest flight that recorded both."""

from dataclasses import dataclass

from nembrit.core.errors import CoreError
from nembrit.core.sums.radio import LinkBand, link_over_distance
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Channel
from nembrit.web.logs.storage import load_values

_RECENT = 8
_ROLES = ("link_quality", "home_distance")


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """What one flight says of the link."""

    flight: Flight
    bands: tuple[LinkBand, ...]


def link_of(craft: Craft) -> Heard | None:
    """The newest flight whose log holds link quality and distance from home on one clock; None without any."""
    for flight in craft.flights.active().filter(is_sealed=False)[:_RECENT]:
        channels = Channel.objects.filter(stream__log__segments__flight=flight, role__in=_ROLES).select_related("stream")
        by_stream: dict[int, dict[str, Channel]] = {}
        for channel in channels:
            by_stream.setdefault(channel.stream_id, {})[channel.role] = channel
        for found in by_stream.values():
            if len(found) < len(_ROLES):
                continue
            try:
                bands = _bands(found)
            except CoreError:
                continue
            if bands:
                return Heard(flight=flight, bands=bands)
    return None


def _bands(found: dict[str, Channel]) -> tuple[LinkBand, ...]:
    quality, distance = (load_values(found[role]) for role in _ROLES)
    return link_over_distance(quality, distance, sample_rate_hz=found["link_quality"].stream.sample_rate_hz)
