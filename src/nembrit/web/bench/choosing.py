"""One flight with its settings, to try filters and gains on: what both pages and the slips stand on."""

import numpy as np

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.run import FlightResults
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.services import flown_chains, mixer_of, notch_places

NEEDED = ("response", "shaping", "loop")
CAUTIONS = (("careful", "careful"), ("usual", "as usual"), ("bold", "bold"))


def choosing_of(flight: Flight, results: FlightResults, *, widened: float = 1.0) -> Choosing:
    """What can be tried on a flight; `widened` is the craft's own record of predictions."""
    mixer = mixer_of(flight.craft)
    return Choosing(
        loop=results.loop,
        steps=results.response.steps if results.response else {},
        shaping=results.shaping,
        flown=flown_chains(flight.configuration),
        mixer=np.ones((4, 3)) if mixer is None else mixer,
        most_notches=notch_places(flight.configuration),
        widened=widened,
    )


def caution_of(text: str) -> str:
    return text if text in dict(CAUTIONS) else "usual"


__all__ = ["CAUTIONS", "NEEDED", "Choosing", "caution_of", "choosing_of"]
