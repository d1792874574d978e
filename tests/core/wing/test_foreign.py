"""Wind, pull, creep, trims, circles and returns from flights of a flight-dynamics model that nobody here wrote.

Outside check: JSBSim 1.3.3 (references, section 5) flown by `foreign`; demanded are the acceptance numbers of planes.
"""

import functools
import math

import numpy as np
import pytest

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse
from nembrit.core.analysis.wing import Wing
from nembrit.core.records.log import Recording
from tests.core.wing.foreign import SETTLED_S, START_M, SURFACES, TRAVEL_US, Foreign, banked, home_and_round, level, to_course

Wind = tuple[float, float]


def told(recording: Recording) -> Wing:
    found = analyse(Flight(recording, craft=CraftFacts(kind="fixed_wing", surfaces=SURFACES)), only=["wing"]).wing
    assert found is not None
    return found


def off_by(found: Wing, wind: Wind) -> float:
    assert found.wind is not None, found.reasons
    return math.hypot(found.wind.north_m_s - wind[0], found.wind.east_m_s - wind[1])


@pytest.mark.long(
    "other planes of the same check",
    only=(
        "glider-wind4",
        "light single-wind1",
        "single-wind2",
    ),
)
@pytest.mark.parametrize(
    ("plane", "wind", "rudder", "gain", "verdict", "side"),
    [
        ("single", (0.0, 0.0), 0.0, 0.9, "none", None),
        ("light single", (5.0, -3.0), 0.0, 0.9, "none", None),
        ("single", (-4.0, 6.0), 0.25, 0.9, "trim_or_horizon", "left"),
        ("single", (3.0, 3.0), -0.25, 0.9, "trim_or_horizon", "right"),
        ("glider", (-3.0, 0.0), 0.0, 0.3, "none", None),
        ("glider", (2.0, -4.0), 0.2, 0.3, "trim_or_horizon", "left"),
        ("glider", (-3.0, 2.0), 0.0, 0.9, "navigation_gain", None),  # its follower swings three times a minute
    ],
)
def test_wind_and_weaving_come_out_as_they_were_set(
    plane: str, wind: Wind, rudder: float, gain: float, verdict: str, side: str | None
) -> None:
    """Demanded: wind within 1.3 m/s with airspeed, 1.7 without; the side right, and no pull where there is none."""
    flight = Foreign(plane, wind=wind, gusts_m_s=0.6, rudder=rudder).fly(SETTLED_S)
    for leg in range(4):
        flight.fly(60, to_course(90.0 * leg, gain=gain), course_deg=90.0 * leg)
    found = told(flight.recording())
    assert off_by(found, wind) < 1.3
    assert found.weaving is not None, found.reasons
    assert (found.weaving.verdict, found.weaving.side) == (verdict, side), found.weaving
    assert len(found.weaving.legs) == 4
    assert off_by(told(flight.recording("airspeed")), wind) < 1.7


@functools.cache
def steady(plane: str, rudder: float = 0.0) -> tuple[float, dict[str, float]]:
    """In still air, linkages right: how the model's own heading drifts, and where its surfaces stand, in microseconds."""
    flight = Foreign(plane, rudder=rudder).fly(90)
    heading = np.unwrap(flight.said("heading_deg", from_s=SETTLED_S), period=360)
    stands = {axis: float(TRAVEL_US * flight.said(name, from_s=SETTLED_S).mean()) for axis, name in _SURFACE_OF.items()}
    return float(heading[-1] - heading[0]) / (90 - SETTLED_S), stands


_SURFACE_OF = {"roll": "aileron", "pitch": "elevator"}


@pytest.mark.long("other planes of the same check", only=("light single-wind3",))
@pytest.mark.parametrize(
    ("plane", "wind", "rudder", "off"),
    [
        ("glider", (4.0, -2.0), 0.1, (0.0, 0.0)),
        ("glider", (-3.0, 3.0), -0.2, (0.05, -0.05)),
        ("light single", (3.0, 0.0), 0.0, (-0.08, 0.04)),
        ("light single", (-2.0, 3.0), -0.2, (0.03, 0.06)),
    ],
)
def test_creep_and_trims_come_out_as_they_were_set(plane: str, wind: Wind, rudder: float, off: tuple[float, float]) -> None:
    """Demanded: creep within 0.3 deg/s, roll trim within 4 µs, pitch within 8, sides right; a trim undoes what is off."""
    creeps, stands = steady(plane, rudder)
    flight = Foreign(plane, wind=wind, gusts_m_s=0.5, rudder=rudder, off=off).fly(90)
    found = told(flight.recording())
    assert found.creep is not None, found.reasons
    assert found.creep.rate_deg_s == pytest.approx(creeps, abs=0.3)
    if abs(creeps) > 0.3:
        assert math.copysign(1, found.creep.rate_deg_s) == math.copysign(1, creeps)
    assert found.trim is not None, found.reasons
    for (axis, within), share in zip((("roll", 4.0), ("pitch", 8.0)), off, strict=True):
        trim = found.trim.axes[axis]
        assert trim.trim_us == pytest.approx(stands[axis] - TRAVEL_US * share, abs=within), axis
        assert trim.error_us < within


@pytest.mark.parametrize(("plane", "bank_deg"), [("light single", 30.0), ("light single", -20.0), ("glider", 25.0)])
def test_a_circle_s_radius_is_the_model_s(plane: str, bank_deg: float) -> None:
    """Against the mean distance of one whole turn's places from their mean; demanded: 2 m, or 3 % of the large."""
    flight = Foreign(plane).fly(30).fly(70, banked(bank_deg)).fly(20)
    (circle,) = told(flight.recording()).navigation.circles  # type: ignore[union-attr]  # None would fail the test as well
    heading = np.unwrap(flight.said("heading_deg", from_s=40), period=360)
    turn = int(np.argmax(np.abs(heading - heading[0]) > 360))
    north, east, speed = (flight.said(name, from_s=40)[:turn] for name in ("north_m", "east_m", "airspeed_m_s"))
    flown = np.hypot(north - north.mean(), east - east.mean()).mean()
    assert circle.radius_m == pytest.approx(flown, rel=0.03, abs=2.0)
    assert circle.radius_sd_m < 0.06 * circle.radius_m
    assert math.copysign(1, circle.turns) == math.copysign(1, bank_deg)
    if plane == "light single":  # the glider slips
        law = speed.mean() ** 2 / (9.80665 * math.tan(math.radians(abs(bank_deg))))  # Etkin and Reid: steady banked turn
        assert circle.radius_m == pytest.approx(law, rel=0.05)


@pytest.mark.parametrize("wind", [(0.0, 0.0), (3.0, -2.0)])
def test_a_return_is_scored_as_the_model_flew_it(wind: Wind) -> None:
    """Demanded: turn within 0.5 s, heights within 1.5 m, overshoot within 3 m, radius of the circle within 2 m."""
    flight = Foreign("light single", wind=wind, gusts_m_s=0.3).fly(SETTLED_S).fly(40, to_course(20.0))
    began, wanted = SETTLED_S + 40, START_M + 20
    flight.fly(8, level, height_m=wanted, mode="return").fly(170, home_and_round(150.0), height_m=wanted, mode="return")
    (found,) = told(flight.recording()).returns
    bank, height = np.abs(flight.said("bank_deg", from_s=began)), flight.said("height_m", from_s=began)
    turn = int(np.argmax(bank > 10))
    assert found.start_s == pytest.approx(began - SETTLED_S, abs=0.2)
    assert found.turn_start_s == pytest.approx(began - SETTLED_S + turn / 10, abs=0.5)
    assert found.turn_height_m == pytest.approx(height[turn], abs=1.5)
    assert found.highest_m == pytest.approx(height.max(), abs=1.5)
    assert found.height_overshoot_m == pytest.approx(max(0.0, height.max() - wanted), abs=3.0)
    away = np.hypot(flight.said("north_m", from_s=began), flight.said("east_m", from_s=began))
    assert (found.circled, found.circle_direction, found.landed) == (True, "right", False)
    assert found.circle_radius_m == pytest.approx(away[-200:].mean(), abs=2.0)
    assert found.farthest_m == pytest.approx(away.max(), abs=2.0)
    assert found.turn_direction == ("right" if found.short_way else "left") or found.either_way
