"""`nembrit sight`: how high a craft must fly to be in radio sight over a profile of the ground."""

import argparse
from pathlib import Path
from typing import Any

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.report.response import rounded
from nembrit.core.types import FloatArray
from nembrit.core.wing.sight import CLEARANCE, heights_needed
from nembrit.core.wing.terrain import two_columns

_DATUM = "heights in the datum of the profile; ellipsoid and sea level differ by up to 50 m and more: do not mix them"


def add_command(commands: Any) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = commands.add_parser("sight", help="heights needed for radio line of sight over a profile")
    parser.add_argument("profile", metavar="PROFILE.csv", help="distance and ground height in metres, a row each")
    parser.add_argument("--frequency-mhz", type=float, required=True)
    parser.add_argument("--antenna-m", type=float, required=True, help="height of the antenna above the ground at the first row")
    parser.add_argument("--heights", metavar="PATH.csv", help="distance and height flown: whether each is in sight")
    return parser


def answer(options: argparse.Namespace) -> dict[str, Any]:
    """The `nembrit.sight/1` document. Raises InputError and LogReadError."""
    distance, ground = _two_columns(options.profile)
    found = heights_needed(distance, ground, antenna_m=options.antenna_m, frequency_mhz=options.frequency_mhz)
    told: dict[str, Any] = {
        "schema": "nembrit.sight/1",
        "frequency_mhz": rounded(options.frequency_mhz),
        "antenna_m": rounded(options.antenna_m),
        "distance_m": _list(found.distance_m),
        "ground_m": _list(ground),
        "geometric_m": _list(found.geometric_m),
        "clear_m": _list(found.clear_m),
        "clearance": CLEARANCE,
        "notes": [_DATUM, *_coarse(distance)],
    }
    if options.heights:
        places, flown = _two_columns(options.heights)
        if (places < distance[0]).any() or (places > distance[-1]).any():
            raise InputError("the path is outside the profile: give one that covers it")
        needed = [np.interp(places, distance, own) for own in (found.geometric_m, found.clear_m)]
        told["path"] = {
            "distance_m": _list(places), "height_m": _list(flown), "geometric_margin_m": _list(flown - needed[0]),
            "clear_margin_m": _list(flown - needed[1]), "in_sight": [bool(one) for one in flown >= needed[0]],
        }  # fmt: skip
    return told


def _coarse(distance: FloatArray) -> list[str]:
    step = float(np.diff(distance).max())
    return [f"places up to {step:.0f} m apart: 30 m or less loses at most a few metres of height"] if step > 45 else []


def _list(values: FloatArray) -> list[float | None]:
    return [rounded(float(value)) for value in values]


def _two_columns(path: str) -> tuple[FloatArray, FloatArray]:
    try:
        return two_columns(Path(path).read_bytes(), path)
    except OSError as error:
        raise InputError(f"{path}: {error.strerror}") from None
