"""One flight with its settings, to try filters and gains on: what both pages and the slips stand on."""

import numpy as np

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.loop import Loop
from nembrit.core.analysis.run import FlightResults
from nembrit.core.types import AXES
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


def is_sure(loop: Loop | None) -> bool:
    """Whether a flight tells roll and pitch surely."""
    axes = [loop.axes.get(axis) for axis in AXES[:2]] if loop else []
    return all(own is not None and not own.rough["sensitivity_peak"] for own in axes)


def caution_of(text: str) -> str:
    return text if text in dict(CAUTIONS) else "usual"


__all__ = ["CAUTIONS", "NEEDED", "Choosing", "caution_of", "choosing_of", "is_sure"]
