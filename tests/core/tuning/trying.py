"""Flights of the simulator, analysed, to try filters and gains on."""

from dataclasses import replace
from functools import lru_cache

from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse
from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.simulate.airframe import World
from nembrit.core.simulate.flight import fly
from tests.flying import HEX, controller

FULL = next(card for card in CARDS if card.key == "full")
BASE = controller()
ROTOR = Filter(kind="rotor_notch", frequency_hz=60.0, q=4.0, orders=(1, 2), blend_hz=20.0)


def low(hz: float) -> Filter:
    return Filter(kind="lowpass_2", frequency_hz=hz)


def scaled(ratios: dict[str, dict[str, float]], base: Controller = BASE) -> Controller:
    gains = {
        axis: replace(own, **{term: getattr(own, term) * ratio for term, ratio in ratios.get(axis, {}).items()})
        for axis, own in base.gains.items()
    }
    return replace(base, gains=gains)


@lru_cache(maxsize=8)
def _flown(key: int, seed: int) -> FlightResults:
    settings = _KEPT[key]
    flight = fly(HEX, settings, FULL, World(seed=seed))
    part = Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, flight.t_s[-1] - 2.0)
    craft = CraftFacts(kind="multirotor", mixer=HEX.mixer(), blades=3, controller=settings)
    return analyse(Flight(part, craft=craft), only=("response", "shaping", "loop"))


_KEPT: list[Controller] = []


def analysed(settings: Controller, seed: int = 11) -> FlightResults:
    if settings not in _KEPT:
        _KEPT.append(settings)
    return _flown(_KEPT.index(settings), seed)


def bench(settings: Controller = BASE, *, is_known: bool = True) -> Choosing:
    found = analysed(settings)
    assert found.response is not None
    return Choosing(
        loop=found.loop,
        steps=found.response.steps,
        shaping=found.shaping,
        flown=settings if is_known else None,
        mixer=HEX.mixer(),
    )
