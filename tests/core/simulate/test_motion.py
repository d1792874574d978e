"""The stand-in's motion against a published aeroplane's modes, and its planes against laws of flight."""

import math

import control
import numpy as np
import pytest

from nembrit.core.errors import InputError
from nembrit.core.setup.autopilot import Autopilot
from nembrit.core.setup.cards import WING_CARDS
from nembrit.core.setup.craft import Surface
from nembrit.core.simulate.plane.airframe import AIRFRAMES, Airframe, PlaneFaults, PlaneWorld, airframe_of, cruise_m_s
from nembrit.core.simulate.plane.flight import fly_plane
from nembrit.core.simulate.plane.motion import AIR_KG_M3, G_M_S2, advance
from tests.core.wing.planes import SURFACES

T_TAIL = (
    Surface(servo=1, role="aileron", direction=1), Surface(servo=2, role="aileron", direction=-1),
    Surface(servo=3, role="elevator", direction=1), Surface(servo=4, role="rudder", direction=1),
)  # fmt: skip
WING = (Surface(servo=1, role="elevon_left", direction=1), Surface(servo=2, role="elevon_right", direction=-1))
_FT, _SLUG = 0.3048, 14.5939
# The Navion of R. C. Nelson, Flight Stability and Automatic Control, 2nd ed., appendix B: mass, inertias and derivatives at
# 176 ft/s at sea level, and its lateral modes in chapter 5 (from memory, as are the modes below)
NAVION = Airframe(
    mass_kg=2750 * 0.45359, inertia_x=1048 * _SLUG * _FT**2, inertia_y=3000 * _SLUG * _FT**2, inertia_z=3530 * _SLUG * _FT**2,
    area_m2=184 * _FT**2, span_m=33.4 * _FT, chord_m=5.7 * _FT, lift_0=0.41, lift_slope=4.44, lift_most=1.6, drag_0=0.05,
    drag_lift=0.0,
    side_slip=-0.564, roll_slip=-0.074, roll_damping=-0.410, roll_yaw=0.107, yaw_slip=0.071, yaw_damping=-0.125, yaw_roll=-0.0575,
    pitch_0=0.0, pitch_slope=-0.683, pitch_damping=-9.96 - 4.36, thrust_n=0.0, torque_m=0.0,
)  # fmt: skip
SPEED_M_S = 176 * _FT


def lateral_poles(plane: Airframe, speed_m_s: float) -> np.ndarray:
    """Poles of sideslip speed, roll and yaw rate and bank, by differences about level flight."""
    names = (1, 3, 5, 6)
    dt = 1e-5

    def slope(offset: np.ndarray) -> np.ndarray:
        x = np.zeros(12)
        x[0], x[11] = speed_m_s, 500.0
        x[list(names)] += offset
        before = x.copy()
        advance(x, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, plane, dt)
        return (x - before)[list(names)] / dt

    sizes = (1e-2, 1e-3, 1e-3, 1e-3)
    columns = [(slope(np.eye(4)[k] * size) - slope(-np.eye(4)[k] * size)) / (2 * size) for k, size in enumerate(sizes)]
    return control.ss(np.array(columns).T, np.zeros((4, 1)), np.eye(4), 0).poles()


def test_lateral_modes_of_a_published_light_aeroplane() -> None:
    """Nelson: roll −8.43 1/s, Dutch roll −0.487 ± 2.335i, spiral −0.009; within 6 %, the spiral near nought."""
    poles = lateral_poles(NAVION, SPEED_M_S)
    swing = next(pole for pole in poles if pole.imag > 0.1)
    real = sorted(pole.real for pole in poles if abs(pole.imag) < 0.1)
    assert real[0] == pytest.approx(-8.43, rel=0.06)
    assert swing.real == pytest.approx(-0.487, rel=0.08)
    assert swing.imag == pytest.approx(2.335, rel=0.06)
    assert abs(real[1]) < 0.03


@pytest.mark.parametrize("kind", sorted(AIRFRAMES))
def test_every_stand_in_is_stable_and_flies_at_its_own_lift(kind: str) -> None:
    """Level flight: L = m g (Etkin and Reid); no pole in the right half but a slow spiral."""
    plane = AIRFRAMES[kind]
    speed = cruise_m_s(plane)
    lift = plane.lift_0 - plane.lift_slope * plane.pitch_0 / plane.pitch_slope
    assert 0.5 * AIR_KG_M3 * speed**2 * plane.area_m2 * lift == pytest.approx(plane.mass_kg * G_M_S2)
    assert max(pole.real for pole in lateral_poles(plane, speed)) < 0.15


def test_beyond_the_stall_lift_falls_and_so_does_the_plane() -> None:
    plane = AIRFRAMES["v_tail"]

    def sinking(alpha_deg: float) -> float:
        x = np.zeros(12)
        x[0], x[2], x[11] = 9 * math.cos(math.radians(alpha_deg)), 9 * math.sin(math.radians(alpha_deg)), 300.0
        before = x[2]
        advance(x, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, plane, 1e-3)
        return float(x[2] - before)

    assert sinking(8.0) < sinking(2.0)  # more angle, more lift
    assert sinking(24.0) > sinking(9.0)  # beyond the stall less again


def test_a_plane_lies_down_on_the_ground_and_stays() -> None:
    x = np.zeros(12)
    x[0], x[2], x[11] = 8.0, 2.0, 0.5
    for _ in range(3000):
        advance(x, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, AIRFRAMES["v_tail"], 0.01)
    assert x[11] == 0.0
    assert math.hypot(x[0], x[1]) < 1.0


@pytest.mark.parametrize(
    ("surfaces", "kind"), [(SURFACES, "v_tail"), (T_TAIL, "t_tail"), (WING, "flying_wing"), (SURFACES[:2], None), ((), None)]
)
def test_surfaces_say_which_plane_it_is(surfaces: tuple[Surface, ...], kind: str | None) -> None:
    if kind is None:
        with pytest.raises(InputError, match="enter the control surfaces first, on the"):
            airframe_of(surfaces)
    else:
        assert airframe_of(surfaces) == kind


CARDS = {card.key: card for card in WING_CARDS}


@pytest.mark.long(
    "other planes and rates of the same check",
    only=(
        "False-faults0-surfaces0",
        "False-faults0-surfaces1",
        "False-faults0-surfaces2",
        "True-faults1-surfaces0",
        "True-faults1-surfaces2",
    ),
)
@pytest.mark.parametrize("surfaces", [SURFACES, T_TAIL, WING])
@pytest.mark.parametrize(("lands", "faults"), [(False, {}), (True, {"climbs_over_m": 10.0})])
def test_every_plane_comes_home(surfaces: tuple[Surface, ...], lands: bool, faults: dict) -> None:
    flight = fly_plane(
        surfaces,
        CARDS["wing_return"],
        PlaneWorld(seed=3, wind_m_s=2.0, faults=PlaneFaults(**faults)),
        autopilot=Autopilot(lands=lands),
    )
    part = np.array([mode == "return" for mode in flight.modes])
    away, height = flight.channels["home_distance"][part], flight.channels["altitude"][part]
    assert away.min() < 75
    assert height.max() == pytest.approx(80 + faults.get("climbs_over_m", 0.0), abs=4)
    assert bool(flight.channels["ground_speed"][part][-50:].mean() < 2) is lands


@pytest.mark.long("other planes and rates of the same check", only=("200.0",))
@pytest.mark.parametrize("log_hz", [10.0, 50.0, 200.0])
def test_it_logs_as_often_as_asked(log_hz: float) -> None:
    flight = fly_plane(SURFACES, CARDS["wing_trim"], PlaneWorld(seed=1, log_hz=log_hz))
    assert flight.t_s.size == pytest.approx(CARDS["wing_trim"].seconds * log_hz, abs=1)
    with pytest.raises(InputError, match="10, 25, 50, 100 or 200 Hz"):
        PlaneWorld(seed=1, log_hz=33.0)


def test_thrust_aside_pulls() -> None:
    """A motor that pulls from the right turns the nose left."""
    flight = fly_plane(SURFACES, CARDS["wing_trim"], PlaneWorld(seed=1, wind_m_s=0.0, faults=PlaneFaults(thrust_aside_m=0.08)))
    part = slice(50 * 20, 50 * 38)
    assert np.polyfit(flight.t_s[part], np.degrees(np.unwrap(np.radians(flight.channels["heading"][part]))), 1)[0] < -0.3
