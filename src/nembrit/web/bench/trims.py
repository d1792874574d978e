"""The next step of trimming a plane, from its flights: the same on the wing page, in slips and in the report."""

from nembrit.core.analysis.wing import Wing
from nembrit.core.errors import InputError
from nembrit.core.wing.cure import YawPoint, yaw_trim_of
from nembrit.core.wing.trimstep import FLY, Shown, TrimStep, trim_step
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import centres_of, latest_configuration, surfaces_of

RECENT, _HISTORY = 8, 30


def recent(craft: Craft, configuration: Configuration | None, *, most: int = RECENT) -> list[tuple[Flight, Wing]]:
    """The newest flights with these settings (None: with any) that a plane's questions were asked of, newest first."""
    rows = craft.flights.active() if configuration is None else craft.flights.active().filter(configuration=configuration)
    flights = list(rows.select_related("configuration")[:most])
    return [(flight, own.wing) for flight, own in by_flight(flights, "wing") if own is not None and own.wing is not None]


def next_trim(craft: Craft) -> TrimStep | None:
    """What to move, to fly or to level next; None where no flight with the present centres measured anything."""
    latest = latest_configuration(craft)
    flown = recent(craft, None, most=_HISTORY)
    present = flown if latest is None else [pair for pair in flown if _has_centres(pair[0], latest)]
    causes = (own.speeds.verdict for _, own in flown if own.speeds is not None)
    try:
        return trim_step(
            surfaces_of(craft, latest),
            [Shown(number=flight.number, trim=own.trim, pull=own.pull) for flight, own in present[:RECENT]],
            _yaw_points(craft, flown),
            cause=next((cause for cause in causes if cause != "cannot tell"), "cannot tell"),
        )
    except InputError as error:  # a servo that would have to go where none can
        return TrimStep(
            kind=FLY, headline="The numbers of a servo cannot be right", why=(f"{str(error)[:1].upper()}{str(error)[1:]}.",)
        )


def is_present(flight: Flight) -> bool:
    """Whether a flight has the present centres, so that the next step rests on it, too."""
    latest = latest_configuration(flight.craft)
    return latest is None or _has_centres(flight, latest)


def _has_centres(flight: Flight, latest: Configuration) -> bool:
    """Whether its servos were centred as they are now, whatever else was changed since."""
    return flight.configuration is not None and centres_of(flight.configuration) == centres_of(latest)


def _yaw_points(craft: Craft, flown: list[tuple[Flight, Wing]]) -> list[YawPoint]:
    """Yaw trim and pull of the flights that measured one, oldest first."""
    found = []
    for flight, own in flown:
        trim, pull = yaw_trim_of(surfaces_of(craft, flight.configuration)), own.pull
        if trim is not None and pull is not None:
            found.append(YawPoint(trim, pull.creep_deg_s, pull.error_deg_s))
    return found[::-1]
