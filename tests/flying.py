"""Craft, controllers and simulated flights for tests; each flight is flown once in a run."""

from functools import lru_cache

from nembrit.core.formats import nembrit_csv
from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.configuration import apply_changes
from nembrit.core.setup.controller import Controller, controller_from_settings
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.setup.namemap import Meaning
from nembrit.core.setup.pasted import parse_settings
from nembrit.core.simulate.airframe import Faults, World
from nembrit.core.simulate.flight import DECIMALS, SimulatedFlight, fly, write_order
from nembrit.demo.texts import JUNIPER_SETTINGS, NAME_MAP

HEX = Craft(name="Test hex", kind="multirotor", motors=layout_motors("hex"), diameter_in=6.0, cells=4, mass_g=1150.0)
NAMES = {name: Meaning(key, scale) for name, (key, scale) in NAME_MAP.items()}
CARD = next(card for card in CARDS if card.key == "response")


def controller(**changes: str) -> Controller:
    """The demo craft's controller with some settings changed; blanks in names are written as underscores."""
    settings = apply_changes(parse_settings(JUNIPER_SETTINGS), {name.replace("_", " "): value for name, value in changes.items()})
    return controller_from_settings(settings, NAMES)


@lru_cache(maxsize=32)
def flown(
    seed: int = 1, loose_mount: float = 0.0, wind_m_s: float = 2.0, changes: tuple[tuple[str, str], ...] = ()
) -> SimulatedFlight:
    world = World(seed=seed, wind_m_s=wind_m_s, faults=Faults(loose_mount=loose_mount))
    return fly(HEX, controller(**dict(changes)), CARD, world)


def recording(flight: SimulatedFlight, start_s: float = 2.5, end_s: float = 28.0) -> Recording:
    """The usable part of a simulated flight."""
    return Recording.of(flight.channels, sample_rate_hz=2000.0).span(start_s, end_s)


@lru_cache(maxsize=16)
def log_file(seed: int = 1, loose_mount: float = 0.0) -> bytes:
    """A flight as the file that a tuner would attach."""
    flight = flown(seed, loose_mount)
    return nembrit_csv.write([(role, flight.channels[role]) for role in write_order(HEX)], flight.t_s, decimals=DECIMALS)
