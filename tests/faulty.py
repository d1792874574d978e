"""Simulated flights with planted faults, flown once in a run, and logs that lack something."""

from functools import lru_cache

from nembrit.core.causes.sight import Sight
from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.airframe import Faults, SecondGyro, World
from nembrit.core.simulate.flight import fly
from nembrit.core.spectra.frames import Frames, frames_of
from tests.flying import HEX, controller

RAMP = next(card for card in CARDS if card.key == "noise_ramp")
CARD = next(card for card in CARDS if card.key == "response")


@lru_cache(maxsize=16)
def flown(seed: int = 11, card: str = "response", second: SecondGyro | None = None, **faults: object) -> Recording:
    world = World(seed=seed, wind_m_s=2.0, faults=Faults(**faults), second_gyro=second)
    flight = fly(HEX, controller(), RAMP if card == "ramp" else CARD, world)
    return Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, float(flight.t_s[-1]) - 2.0)


def without(recording: Recording, *families: str) -> Recording:
    kept = {role: values for role, values in recording.channels.items() if not role.startswith(families)}
    return Recording.of(kept, sample_rate_hz=recording.sample_rate_hz, start_s=recording.start_s)


@lru_cache(maxsize=8)
def frames(**options: object) -> Frames:
    return frames_of(flown(**options))


def sight(recording: Recording, n_motors: int = 6, blades: int = 3) -> Sight:
    """What causes are measured from."""
    return Sight(recording, n_motors=n_motors, blades=blades)
