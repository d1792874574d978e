"""A craft as data: its kind, its motors with their mixer rows, propeller and pack."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.limits import within
from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Motor:
    """Mixer row of one motor: how much it gives for a positive roll, pitch and yaw command."""

    roll: float
    pitch: float
    yaw: float


SURFACES = (
    "aileron", "aileron_left", "aileron_right", "elevator", "rudder", "v_tail_left", "v_tail_right", "a_tail_left",
    "a_tail_right", "elevon_left", "elevon_right", "flap",
)  # fmt: skip
PAIRED = (("v_tail_left", "v_tail_right"), ("a_tail_left", "a_tail_right"), ("elevon_left", "elevon_right"))


@dataclass(frozen=True, slots=True, kw_only=True)
class Surface:
    """One servo of a plane. `direction` is +1 where a longer pulse gives more of its axis (right, nose up, nose right; a
    V-tail's and an elevon's: nose up), −1 where it gives less, None where that is not known. An A-tail is an inverted V-tail.
    """

    servo: int  # as the log counts them, from 1
    role: str  # one of SURFACES
    direction: int | None = None
    centre_us: float = 1500.0
    throw_us: float = 500.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Craft:
    """What the core needs to know of one airframe."""

    name: str
    kind: str  # multirotor or fixed_wing
    motors: tuple[Motor, ...]
    diameter_in: float = 5.0
    pitch_in: float = 4.0
    blades: int = 3
    cells: int = 4
    mass_g: float = 600.0
    surfaces: tuple[Surface, ...] = ()

    def mixer(self) -> FloatArray:
        """Mixer matrix, shape (n_motors, 3): columns roll, pitch, yaw."""
        return np.array([[motor.roll, motor.pitch, motor.yaw] for motor in self.motors], dtype=np.float64).reshape(-1, 3)


KINDS = ("multirotor", "fixed_wing")
LAYOUTS: dict[str, tuple[str, int, float, int]] = {
    # name → label, arms, angle of the first arm from the nose [deg, clockwise seen from above], motors on an arm
    "tri": ("three motors, yaw by a servo", 3, 60.0, 1),
    "quad": ("four motors, X", 4, 45.0, 1),
    "quad_plus": ("four motors, plus: one at the nose", 4, 0.0, 1),
    "hex": ("six motors, one pair abeam", 6, 30.0, 1),
    "hex_nose": ("six motors, one at the nose", 6, 0.0, 1),
    "tri_coax": ("six motors, two on each of three arms", 3, 60.0, 2),
    "octo": ("eight motors, two ahead", 8, 22.5, 1),
    "octo_nose": ("eight motors, one at the nose", 8, 0.0, 1),
    "quad_coax": ("eight motors, two on each of four arms", 4, 45.0, 2),
}


def layout_motors(layout: str) -> tuple[Motor, ...]:
    """Mixer rows of a regular layout, motors counted clockwise from the right of the nose, lower ones after all upper ones.

    Roll is positive to the right, pitch with the nose up, yaw to the right; neighbours spin in
    opposite directions, the first one clockwise, and so do two on one arm; three single motors leave yaw to a servo.
    Rows are scaled to a largest roll and pitch share of 1.

    >>> layout_motors("quad")[0]
    Motor(roll=-1.0, pitch=1.0, yaw=-1.0)
    """
    if layout not in LAYOUTS:
        raise InputError(f"“{layout}” is no layout; expected {', '.join(LAYOUTS)}")
    _, n_arms, first_deg, n_levels = LAYOUTS[layout]
    angles = [math.radians(first_deg + 360 * k / n_arms) for k in range(n_arms)]
    right = max(abs(math.sin(angle)) for angle in angles)
    ahead = max(abs(math.cos(angle)) for angle in angles)

    def yaw(k: int, level: int) -> float:
        if n_arms % 2 and n_levels == 1:
            return 0.0
        turn = -1.0 if k % 2 == 0 or n_arms % 2 else 1.0  # upper ones of an odd number of arms all turn one way
        return turn if level == 0 else -turn

    return tuple(
        Motor(roll=round(-math.sin(angle) / right, 4) + 0.0, pitch=round(math.cos(angle) / ahead, 4) + 0.0, yaw=yaw(k, level))
        for level in range(n_levels)
        for k, angle in enumerate(angles)
    )


def craft_from_json(document: dict[str, Any]) -> Craft:
    """Read a `nembrit.craft/1` document; raises InputError for what it lacks."""
    if document.get("schema") != "nembrit.craft/1":
        raise InputError('expected a craft with "schema": "nembrit.craft/1"')
    try:
        propeller = document.get("propeller", {})
        return Craft(
            name=str(document["name"]),
            kind=_kind(document["kind"]),
            motors=tuple(_motor(row, n) for n, row in enumerate(document["motors"], start=1)),
            diameter_in=within(propeller.get("diameter_in", 5.0), "a propeller’s diameter in inches", 0.5, 60),
            pitch_in=within(propeller.get("pitch_in", 4.0), "a propeller’s pitch in inches", 0.1, 60),
            blades=int(within(propeller.get("blades", 3), "the number of blades", 1, 12)),
            cells=int(within(document.get("cells", 4), "the number of cells", 1, 20)),
            mass_g=within(document.get("mass_g", 600.0), "a mass in g", 1, 100_000),
            surfaces=tuple(_surface(row, n) for n, row in enumerate(document.get("surfaces", ()), start=1)),
        )
    except (KeyError, TypeError, AttributeError) as error:
        raise InputError(f"the craft is not complete: {error}") from None


def _kind(text: object) -> str:
    if text not in KINDS:
        raise InputError(f"“{str(text)[:30]}” is no kind of craft; expected {', '.join(KINDS)}")
    return str(text)


def _motor(row: dict[str, Any], number: int) -> Motor:
    return Motor(**{axis: within(row[axis], f"motor {number}, {axis}", -100, 100) for axis in ("roll", "pitch", "yaw")})


def _surface(row: dict[str, Any], number: int) -> Surface:
    if row["role"] not in SURFACES:
        raise InputError(f"surface {number}: “{str(row['role'])[:30]}” is no role; expected {', '.join(SURFACES)}")
    direction = row.get("direction")
    if direction not in (1, -1, None) or isinstance(direction, bool):
        raise InputError(f"surface {number}: a direction is 1, -1 or null")
    return Surface(
        servo=int(within(row["servo"], f"surface {number}, servo", 1, 16)), role=row["role"], direction=direction,
        centre_us=within(row.get("centre_us", 1500.0), f"surface {number}, centre in µs", 500, 2500),
        throw_us=within(row.get("throw_us", 500.0), f"surface {number}, throw in µs", 50, 1000),
    )  # fmt: skip


def craft_to_json(craft: Craft) -> dict[str, Any]:
    """The `nembrit.craft/1` document that `craft_from_json` reads back identically."""
    return {
        "schema": "nembrit.craft/1",
        "name": craft.name,
        "kind": craft.kind,
        "motors": [{"roll": motor.roll, "pitch": motor.pitch, "yaw": motor.yaw} for motor in craft.motors],
        "surfaces": [
            {
                "servo": one.servo,
                "role": one.role,
                "direction": one.direction,
                "centre_us": one.centre_us,
                "throw_us": one.throw_us,
            }
            for one in craft.surfaces
        ],
        "propeller": {"diameter_in": craft.diameter_in, "pitch_in": craft.pitch_in, "blades": craft.blades},
        "cells": craft.cells,
        "mass_g": craft.mass_g,
    }
