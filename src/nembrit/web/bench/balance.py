"""The balance sums beside the motors: a form of their own."""

from dataclasses import dataclass
from typing import Any

from django.http import QueryDict

from nembrit.core.errors import CoreError, InputError
from nembrit.core.noise import balance
from nembrit.core.noise.vibration import blade_pass_hz
from nembrit.web.common.fields import number
from nembrit.web.hangar.models import Craft


@dataclass(frozen=True, slots=True, kw_only=True)
class Sums:
    """The balance form and its answers."""

    mass_g: str
    speed_rpm: str
    grade: str
    diameter_in: str
    blades: str
    accel: str
    craft_mass_g: str
    found: balance.Balance | None = None
    blade_hz: float | None = None
    tip_m_s: float | None = None
    mach: float | None = None


def balance_of(given: QueryDict, craft: Craft) -> tuple[Sums, str]:
    """Balance calculator from the form; what cannot be computed is told."""
    sums: dict[str, Any] = {
        "mass_g": given.get("mass_g", "4"),
        "speed_rpm": given.get("speed_rpm", "18000"),
        "grade": given.get("grade", "6.3"),
        "diameter_in": given.get("diameter_in", f"{craft.propeller_diameter_in:g}"),
        "blades": given.get("blades", f"{craft.propeller_blades}"),
        "accel": given.get("accel", ""),
        "craft_mass_g": given.get("craft_mass_g", f"{craft.mass_g:g}"),
    }
    try:
        numbers = {name: _number(text, name) for name, text in sums.items() if text.strip()}
        residual = None
        if "accel" in numbers:
            force = balance.force_from_vibration_n(numbers["accel"], numbers["craft_mass_g"])
            residual = balance.unbalance_g_mm(force, numbers["speed_rpm"])
        found = balance.permissible(numbers["grade"], numbers["mass_g"], numbers["speed_rpm"], residual_g_mm=residual)
        if not 1 <= numbers["blades"] <= 8:
            raise InputError(f"a propeller has 1 to 8 blades, not {numbers['blades']:g}")
        tip, mach = balance.tip_speed(numbers["diameter_in"], numbers["speed_rpm"])
        blade_hz = blade_pass_hz(numbers["speed_rpm"], int(numbers["blades"]))
    except CoreError as error:
        return Sums(**sums), str(error)
    except KeyError as missing:
        return Sums(**sums), f"the field {missing.args[0].replace('_', ' ')} is empty"
    return Sums(**sums, found=found, blade_hz=blade_hz, tip_m_s=tip, mach=mach), ""


def _number(text: str, name: str) -> float:
    value = number(text, name.replace("_", " "))
    if value <= 0:
        raise InputError(f"{name.replace('_', ' ')} must be above 0, got {text[:20]}")
    return value
