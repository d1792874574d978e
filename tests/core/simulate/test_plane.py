"""The stand-in for a plane, and what the wing's analyses make of what was planted in it."""

import math
from collections.abc import Callable
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.analysis.wing import Wing
from nembrit.core.errors import InputError
from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.registry import read_raw
from nembrit.core.records.log import Recording
from nembrit.core.setup.card import Card
from nembrit.core.setup.cards import CARDS, WING_CARDS
from nembrit.core.simulate.plane.airframe import PlaneFaults, PlaneWorld
from nembrit.core.simulate.plane.flight import DECIMALS, PlaneFlight, fly_plane
from tests.core.wing.planes import SURFACES

BY_KEY = {card.key: card for card in WING_CARDS}
YAW_OFF = {"3": 1500.0 + 17, "4": 1500.0 + 17}  # mirrored servos: alike in microseconds is yaw


def recorded(flight: PlaneFlight) -> Recording:
    return Recording.of(flight.channels, sample_rate_hz=flight.log_hz, modes=flight.modes)


def told(flight: PlaneFlight) -> Wing:
    return analysed(recorded(flight))


def analysed(recording: Recording) -> Wing:
    found = analyse(Flight(recording, craft=CraftFacts(kind="fixed_wing", surfaces=SURFACES)), only=["wing"]).wing
    assert found is not None
    return found


@cache
def _flown(card: str, seed: int, wind_m_s: float) -> PlaneFlight:
    return fly_plane(SURFACES, BY_KEY[card], PlaneWorld(seed=seed, wind_m_s=wind_m_s))


def flown(card: str | Card, seed: int = 5, wind_m_s: float = 3.0, **faults: object) -> PlaneFlight:
    if isinstance(card, str) and not faults:
        return _flown(card, seed, wind_m_s)
    world = PlaneWorld(seed=seed, wind_m_s=wind_m_s, faults=PlaneFaults(**faults))
    return fly_plane(SURFACES, BY_KEY[card] if isinstance(card, str) else card, world)


@pytest.mark.long(
    "other planes and rates of the same check",
    only=(
        "5-faults0",
        "5-faults1",
        "5-faults2",
        "5-faults3",
    ),
)
@pytest.mark.parametrize(
    ("faults", "verdicts", "side"),
    [
        ({}, {"none"}, None),
        ({"neutral_us": YAW_OFF}, {"trim", "trim_or_horizon"}, "left"),
        ({"tilt_deg": 2.0}, {"trim_or_horizon"}, "left"),
        ({"tight": 7.0}, {"navigation_gain"}, None),
    ],
)
@pytest.mark.parametrize("seed", [5, pytest.param(6, marks=pytest.mark.long("another draw of the same"))])
def test_what_was_planted_is_told_from_legs_and_a_box(faults: dict, verdicts: set[str], side: str | None, seed: int) -> None:
    found = told(flown("wing_tracks", seed, **faults))
    assert found.weaving is not None, found.reasons
    assert found.weaving.verdict in verdicts, found.weaving
    assert found.weaving.side == side
    assert found.wind is not None, found.reasons
    wind = (3.0 * math.cos(math.radians(60)), 3.0 * math.sin(math.radians(60)))  # from 240°
    assert math.hypot(found.wind.north_m_s - wind[0], found.wind.east_m_s - wind[1]) < 1.3


def test_a_roll_trim_is_found_and_gone_once_the_centres_are_moved() -> None:
    """18 µs planted, and 5 µs that half throttle asks for against its torque."""
    off = {"1": 1518.0, "2": 1518.0}
    found = told(flown("wing_trim", neutral_us=off))
    assert found.trim is not None, found.reasons
    assert found.trim.axes["roll"].trim_us == pytest.approx(22.0, abs=4.0)
    moved = tuple(
        type(one)(servo=one.servo, role=one.role, direction=one.direction, centre_us=1522.0 if one.servo < 3 else 1500.0)
        for one in SURFACES
    )
    world = PlaneWorld(seed=9, faults=PlaneFaults(neutral_us=off))
    recording = Recording.of(fly_plane(moved, BY_KEY["wing_trim"], world).channels, sample_rate_hz=50.0)
    after = analyse(Flight(recording, craft=CraftFacts(kind="fixed_wing", surfaces=moved)), only=["wing"]).wing
    assert after is not None
    assert after.trim is not None
    assert abs(after.trim.axes["roll"].trim_us) < 4.0


@pytest.mark.long("other planes and rates of the same check", only=("faults1-horizon",))
@pytest.mark.parametrize(("faults", "word"), [({"neutral_us": YAW_OFF}, "trim"), ({"tilt_deg": 3.0}, "horizon")])
def test_two_speeds_tell_trim_from_horizon(faults: dict, word: str) -> None:
    both = flown("wing_two_speeds", wind_m_s=0.0, **faults)
    speeds = told(both).speeds
    assert speeds is not None
    assert speeds.verdict == word


def test_the_same_seed_flies_the_same_flight_and_its_log_reads_back() -> None:
    one, again, other = (flown("wing_trim", seed) for seed in (3, 3, 4))
    assert all(np.array_equal(one.channels[role], again.channels[role], equal_nan=True) for role in one.channels)
    assert not np.array_equal(one.channels["gyro.roll"], other.channels["gyro.roll"])
    content = nembrit_csv.write(one.columns, one.t_s, decimals=DECIMALS)
    assert len(read_raw(content).tables[0].columns) == len(one.columns) + 1


@pytest.mark.parametrize(
    ("surfaces", "card", "world", "words"),
    [
        ((), BY_KEY["wing_trim"], {"seed": 1}, "enter the control surfaces"),
        (SURFACES, CARDS[1], {"seed": 1}, "is not a manoeuvre of a plane"),
        (SURFACES, BY_KEY["wing_trim"], {"seed": 1, "wind_m_s": 20.0}, "up to 12 m/s"),
    ],
)
def test_what_cannot_be_flown_is_refused(surfaces: tuple, card: Card, world: dict, words: str) -> None:
    with pytest.raises(InputError, match=words):
        fly_plane(surfaces, card, PlaneWorld(**world))


def without(*roles: str) -> Callable[[Recording], Recording]:
    return lambda own: replace(
        own, channels={name: values for name, values in own.channels.items() if not name.startswith(roles)}
    )


def repeated(own: Recording) -> Recording:
    """A recorder that writes each fix four times, and loses a second of them now and then."""
    held = {name: values.copy() for name, values in own.channels.items()}
    for name in ("latitude", "longitude", "ground_speed", "course"):
        held[name] = np.repeat(held[name][::40], 40)[: held[name].size]
        held[name][1000:1050] = np.nan
    return replace(own, channels=held)


@pytest.mark.long(
    "other planes and rates of the same check",
    only=(
        "<lambda>-told5",
        "<lambda>-told6",
    ),
)
@pytest.mark.parametrize(
    ("spoil", "told", "lost"),
    [
        (without("attitude"), {"weaving": "no attitude in this log", "return": "needs positions and attitude"}, {"weaving"}),
        (without("mode"), {"lurch": "no flight mode in this log", "return": "no flight mode in this log"}, set()),
        (
            without("course", "ground_speed", "latitude"),
            {"wind": "no ground speed and course", "navigation": "no positions"},
            {"wind", "weaving"},
        ),
        (without("servo"), {"trim": "no servo outputs"}, {"trim"}),
        (without("stick"), {"trim": "no sticks in this log"}, {"trim"}),
        (without("setpoint"), {"rate_response.roll": "wanted and achieved rate of roll are needed"}, set()),
        (without("airspeed"), {}, set()),
        (repeated, {}, set()),
    ],
)
def test_each_gap_of_a_log_says_which_question_it_costs(
    spoil: Callable[[Recording], Recording], told: dict[str, str], lost: set[str]
) -> None:
    found = analysed(spoil(recorded(flown("wing_tracks"))))
    assert {name: reason for name, reason in found.reasons.items() if name in told and told[name] in reason}.keys() == told.keys()
    assert {name for name in ("wind", "weaving", "trim") if getattr(found, name) is None} == lost


def test_ten_samples_a_second_are_enough_for_all_but_rates() -> None:
    world = PlaneWorld(seed=5, wind_m_s=3.0, log_hz=10.0, faults=PlaneFaults(neutral_us=YAW_OFF))
    found = analysed(recorded(fly_plane(SURFACES, BY_KEY["wing_tracks"], world)))
    assert found.weaving is not None
    assert found.weaving.side == "left"
    assert found.wind is not None
    assert found.trim is not None
    assert "logged at 10 Hz: how rates follow needs 50 Hz" in found.reasons["rate_response.roll"]
