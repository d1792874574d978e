"""Scales of gains, found rather than asked: what the logged terms say against the numbers that a flight's settings show."""

from nembrit.core.analysis.loop import Loop
from nembrit.core.setup.configuration import number
from nembrit.web.bench.results import results_made, stored_results
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.services import core_settings, name_map, note_found_scales
from nembrit.web.hangar.signals import controller_changed
from nembrit.web.logs.models import Segment

_SURE = 0.06  # half a gain's interval over its value, up to which it tells a scale


def listen() -> None:
    results_made.connect(_find, dispatch_uid="bench-scales")


def _find(sender: object, segment: Segment, **kwargs: object) -> None:
    flight = segment.flight
    results = stored_results([flight], "loop").get(flight.pk)
    if results is None or results.loop is None or flight.configuration is None:
        return
    if note_found_scales(flight.craft, flight.number, scales_of(results.loop, flight)):
        # loops of flights without terms can be worked out now
        others = list(flight.craft.flights.exclude(pk=flight.pk).values_list("pk", flat=True))
        controller_changed.send(sender=Flight, craft=flight.craft, flights=others)


def scales_of(loop: Loop, flight: Flight) -> dict[tuple[str, str], float]:
    """Real gain over the number shown, by axis and term, where the log's own terms told it surely."""
    if flight.configuration is None:
        return {}
    shown = {one.name: number(one.value) for one in core_settings(flight.configuration)}
    by_key = {meaning.key: name for name, meaning in name_map(flight.craft).items()}
    found = {}
    for axis, own in loop.axes.items():
        for term, gain in own.gains.items() if own.gains_from == "terms" else ():
            value = shown.get(by_key.get(f"gain.rate.{axis}.{term}", ""))
            if value and gain.value > 0 and gain.high - gain.low <= 2 * _SURE * gain.value:
                found[axis, term] = gain.value / value
    return found
