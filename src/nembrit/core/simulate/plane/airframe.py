"""The stand-in's small planes as numbers, what can be wrong with them, and the air they fly in.

Derivatives are of the order that handbooks give for such shapes (from memory, no source): planes for practice, not of anybody.
Angles in radians, moments by the wing's area and its span or chord, surfaces as shares of full deflection; deflections are
positive to the right, nose up and nose right.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from nembrit.core.errors import InputError
from nembrit.core.setup.craft import Surface

G_M_S2, AIR_KG_M3 = 9.80665, 1.225
ROLL_P, PITCH_P = 0.12, 0.25  # share of full per rad/s


class Airframe(NamedTuple):
    """What the motion needs, in SI units."""

    mass_kg: float = 1.4
    inertia_x: float = 0.12
    inertia_y: float = 0.09
    inertia_z: float = 0.20
    area_m2: float = 0.38
    span_m: float = 2.0
    chord_m: float = 0.19
    lift_0: float = 0.25
    lift_slope: float = 5.0
    lift_most: float = 1.2  # where it stalls
    drag_0: float = 0.035
    drag_lift: float = 0.036
    side_slip: float = -0.5
    side_rudder: float = -0.05
    roll_slip: float = -0.06
    roll_damping: float = -0.45
    roll_yaw: float = 0.08
    roll_aileron: float = 0.07
    pitch_0: float = 0.012
    pitch_slope: float = -0.6
    pitch_damping: float = -14.0
    pitch_elevator: float = 0.31
    yaw_slip: float = 0.06
    yaw_damping: float = -0.12
    yaw_roll: float = -0.03
    yaw_rudder: float = 0.04
    yaw_aileron: float = -0.003
    thrust_n: float = 17.6  # at rest and full throttle
    thrust_speed_m_s: float = 40.0  # where full throttle pulls no more
    torque_m: float = 0.03  # reaction about the long axis, N m per N of thrust
    stall_nose: float = -0.5  # pitching moment of a stalled wing: the nose falls
    stall_roll: float = 0.02  # and one wing before the other
    thrust_aside_m: float = 0.0  # thrust line beside the middle, right positive: turns the nose left


AIRFRAMES: dict[str, Airframe] = {
    "v_tail": Airframe(),
    "t_tail": Airframe(
        mass_kg=1.1, inertia_x=0.09, inertia_y=0.08, inertia_z=0.15, area_m2=0.34, span_m=1.7, chord_m=0.2, yaw_rudder=0.045,
        yaw_slip=0.07, roll_aileron=0.08, pitch_elevator=0.34, pitch_slope=-0.8, pitch_0=0.014,
    ),
    "flying_wing": Airframe(
        mass_kg=0.9, inertia_x=0.05, inertia_y=0.022, inertia_z=0.07, area_m2=0.32, span_m=1.25, chord_m=0.26, lift_0=0.12,
        lift_slope=4.2, lift_most=1.0, drag_0=0.032, drag_lift=0.075, roll_slip=-0.05, roll_damping=-0.38, roll_aileron=0.075,
        pitch_0=0.009, pitch_slope=-0.25, pitch_damping=-3.0, pitch_elevator=0.11, yaw_slip=0.045, yaw_damping=-0.05,
        yaw_rudder=0.0, side_rudder=0.0, thrust_n=14.0,
    ),
}  # fmt: skip


def airframe_of(surfaces: Sequence[Surface]) -> str:
    """Which of the stand-ins has such surfaces. Raises InputError for a plane that cannot be rolled or pitched."""
    roles = {one.role for one in surfaces}
    if {"elevon_left", "elevon_right"} <= roles:
        return "flying_wing"
    has_ailerons = bool(roles & {"aileron", "aileron_left", "aileron_right"})
    if has_ailerons and ({"v_tail_left", "v_tail_right"} <= roles or {"a_tail_left", "a_tail_right"} <= roles):
        return "v_tail"
    if has_ailerons and "elevator" in roles:
        return "t_tail"
    raise InputError(
        "enter the control surfaces first, on the page “Control surfaces”: the simulator needs ailerons with an elevator "
        "or both sides of a V-tail, or two elevons"
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneFaults:
    """What is not as it should be."""

    neutral_us: Mapping[str, float] = field(default_factory=dict)  # by servo: pulse at which the plane flies straight
    off_us: Mapping[str, float] = field(default_factory=dict)  # by axis: deflection it needs beyond those pulses
    tilt_deg: float = 0.0  # of the horizon that the controller believes in, right wing down
    tight: float = 1.0  # navigation gain over the one that is set
    thrust_aside_m: float = 0.0
    pitot_offset_m_s: float = 0.0
    pitot_ratio: float = 1.0  # of what it tells over the true airspeed
    turns_early_m: float = 0.0  # return home turns this far below its height
    climbs_over_m: float = 0.0  # return home climbs this far past its height before it comes back to it
    servo_slop_us: float = 0.0  # play of the linkages: the surface follows only beyond half of it
    gps_gap_ratio: float = 0.0  # share of the time without fixes, in gaps of two seconds
    baro_drift_m: float = 0.0  # over ten minutes
    steers_by_heading: bool = False  # the navigation takes the nose for the course
    forward_power: float = 1.0  # of one over airspeed, in the feed-forward
    holds_attitude: bool = False  # the integrator works on the attitude, not on the rate

    def __post_init__(self) -> None:
        if not 0 <= self.gps_gap_ratio < 0.9 or not 0 <= self.servo_slop_us <= 100:
            raise InputError("gaps of fixes are a share from 0 to 0.9, the play of a servo lies from 0 to 100 µs")


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneWorld:
    """The air, the day and the hand at the sticks."""

    seed: int
    wind_m_s: float = 2.0
    wind_from_deg: float = 240.0
    gusts_ratio: float = 0.25  # of the wind, and a little in calm air
    gust_s: float = 2.0  # how long a gust lasts
    hold_s: tuple[float, float] = (1.7, 2.4)  # how long the pilot holds a stick that should be held for two seconds
    log_hz: float = 50.0
    noise_ratio: float = 1.0  # of gusts and sensors; 0: what the plane does by itself
    faults: PlaneFaults = field(default_factory=PlaneFaults)

    def __post_init__(self) -> None:
        if not 0 <= self.wind_m_s <= 12:
            raise InputError(f"a plane of this size flies in up to 12 m/s of wind, got {self.wind_m_s:g}")
        if self.log_hz not in (10.0, 25.0, 50.0, 100.0, 200.0):
            raise InputError(f"the simulator logs at 10, 25, 50, 100 or 200 Hz, got {self.log_hz:g}")


def sound_gains(plane: Airframe, speed_m_s: float) -> dict[str, float]:
    """Gains that suit a plane, by meaning: share of full deflection per deg/s; steady rate of full deflection is its inverse."""
    roll, pitch = (math.degrees(power) for power in (roll_power(plane, speed_m_s), pitch_power(plane, speed_m_s)))
    return {
        "gain.rate.roll.f": 1 / roll, "gain.rate.pitch.f": 1 / pitch,
        "gain.rate.roll.p": math.radians(ROLL_P), "gain.rate.pitch.p": math.radians(PITCH_P),
    }  # fmt: skip


def cruise_m_s(plane: Airframe) -> float:
    """Airspeed of level flight without elevator: where lift at the angle of attack that its own pitch trim asks for bears it."""
    lift = plane.lift_0 - plane.lift_slope * plane.pitch_0 / plane.pitch_slope
    return math.sqrt(2 * plane.mass_kg * G_M_S2 / (AIR_KG_M3 * plane.area_m2 * lift))


def roll_power(plane: Airframe, speed_m_s: float) -> float:
    """Steady roll rate of full aileron [rad/s]."""
    return -plane.roll_aileron / plane.roll_damping * 2 * speed_m_s / plane.span_m


def pitch_power(plane: Airframe, speed_m_s: float) -> float:
    """Steady pitch rate of full elevator [rad/s], the turn's own lift and damping against it.

    Cm balance at a steady pull: elevator against damping, and against the angle of attack that the curved path needs.
    """
    damping = -plane.pitch_damping * plane.chord_m / (2 * speed_m_s)
    lift = 0.5 * AIR_KG_M3 * speed_m_s * plane.area_m2 * plane.lift_slope / plane.mass_kg  # 1/s: path rate of one rad
    return plane.pitch_elevator / (damping - plane.pitch_slope / lift)
