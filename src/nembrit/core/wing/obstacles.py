"""What stands in the way of a return: points, lines and areas with heights, and how far a path keeps from them."""

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
import shapely.geometry

from nembrit.core.errors import InputError
from nembrit.core.records.track import east_north_m
from nembrit.core.types import FloatArray

KINDS = ("Point", "LineString", "Polygon")
NEAR_M = 15.0  # nearer than this beside something counts as over it (starting value, no source)
_MOST, _MOST_HEIGHT_M, _MOST_PLACES = 500, 500.0, 2000
_HEIGHT_NAMES = ("height_m", "height", "ele", "elevation")


@dataclass(frozen=True, slots=True, kw_only=True)
class Obstacle:
    """One thing that stands on the ground; `places` as longitude and latitude [deg], `height_m` above the ground at home."""

    name: str
    kind: str  # one of KINDS
    places: tuple[tuple[float, float], ...]
    height_m: float

    def __post_init__(self) -> None:
        least = {"Point": 1, "LineString": 2, "Polygon": 3}.get(self.kind)
        if least is None:
            raise InputError(f"“{self.kind[:30]}” is not a kind of obstacle; expected {', '.join(KINDS)}")
        if not least <= len(self.places) <= _MOST_PLACES:
            raise InputError(f"“{self.name}”: a {self.kind} needs at least {least} places and at most {_MOST_PLACES}")
        if not all(abs(lon) <= 180 and abs(lat) <= 90 for lon, lat in self.places):  # false for what is no number
            raise InputError(f"“{self.name}”: a longitude lies within ±180°, a latitude within ±90°")
        if not 0 < self.height_m <= _MOST_HEIGHT_M:
            raise InputError(f"“{self.name}”: a height lies above 0 and up to {_MOST_HEIGHT_M:.0f} m, got {self.height_m:g}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Clearance:
    """How a path passed one obstacle; heights over home's ground [m]."""

    obstacle: Obstacle
    beside_m: float  # nearest on the map; 0 over an area or a line
    above_m: float | None  # lowest height above its top while over it or within 15 m; None where the path keeps farther off
    at_s: float | None  # when that was
    is_unmeasured: bool = False  # the path led over it, and no height was logged there


def obstacles_from_geojson(text: str) -> tuple[Obstacle, ...]:
    """Read a GeoJSON document (RFC 7946): points, lines and areas, several of a kind taken apart, with a height each.

    The height stands in the properties as `height_m` (also `height`, `ele`), in metres above the ground at home; the name as
    `name`. Raises InputError that names what is wrong; nothing is taken over in parts.
    """
    try:
        document = json.loads(text)
    except ValueError:
        raise InputError("this is not GeoJSON: it is not JSON") from None
    if not isinstance(document, dict):
        raise InputError("this is not GeoJSON: expected an object with a “type”")
    features = document.get("features") if document.get("type") == "FeatureCollection" else [document]
    if not isinstance(features, list) or not features:
        raise InputError("no features in this GeoJSON")
    found = [one for number, feature in enumerate(features, start=1) for one in _of_feature(feature, number)]
    if len(found) > _MOST:
        raise InputError(f"{len(found)} obstacles; at most {_MOST} can be kept: leave out those far from your field")
    return tuple(found)


def _of_feature(feature: Any, number: int) -> list[Obstacle]:
    if not isinstance(feature, dict) or not isinstance(feature.get("geometry"), dict):
        raise InputError(f"feature {number} has no geometry")
    properties = feature.get("properties") if isinstance(feature.get("properties"), dict) else {}
    assert isinstance(properties, dict)
    name = str(properties.get("name") or f"obstacle {number}")[:80]
    given: Any = next((properties[key] for key in _HEIGHT_NAMES if properties.get(key) is not None), None)
    try:
        height_m = float(given)
    except (TypeError, ValueError):
        raise InputError(f"“{name}” has no height: give it the property “height_m” in metres above the ground at home") from None
    kind, places = str(feature["geometry"].get("type")), feature["geometry"].get("coordinates")
    try:
        parts = [(kind.removeprefix("Multi"), part) for part in places] if kind.startswith("Multi") else [(kind, places)]
        read = [(one, _places(one, part)) for one, part in parts]
    except (TypeError, ValueError, IndexError, KeyError):
        raise InputError(f"“{name}”: its coordinates are not those of a {kind[:30]}") from None
    return [Obstacle(name=name, kind=one, places=there, height_m=height_m) for one, there in read]


def _places(kind: str, part: Any) -> tuple[tuple[float, float], ...]:
    rows = [part] if kind == "Point" else part[0] if kind == "Polygon" else part
    found = tuple((float(row[0]), float(row[1])) for row in rows)
    return found[:-1] if kind == "Polygon" and len(found) > 3 and found[0] == found[-1] else found


def obstacles_to_geojson(obstacles: Sequence[Obstacle]) -> dict[str, Any]:
    """The document that `obstacles_from_geojson` reads back identically."""
    return {
        "type": "FeatureCollection",
        "features": [
            {
                "type": "Feature",
                "properties": {"name": one.name, "height_m": one.height_m},
                "geometry": {"type": one.kind, "coordinates": _coordinates(one)},
            }
            for one in obstacles
        ],
    }


def _coordinates(one: Obstacle) -> Any:
    places = [list(place) for place in one.places]
    return places[0] if one.kind == "Point" else [[*places, places[0]]] if one.kind == "Polygon" else places


def clearances(
    obstacles: Sequence[Obstacle], north_m: FloatArray, east_m: FloatArray, height_m: FloatArray, t_s: FloatArray, *,
    home_deg: tuple[float, float],
) -> tuple[Clearance, ...]:  # fmt: skip
    """How a path (shape (n,), from home, height over home) passed each obstacle, nearest above first.

    Plane geometry on the local grid, exact for what was logged; between fixes the path is taken as straight. Positions are good
    to a few metres and a barometer drifts by some more: a clearance below ten metres is none.
    """
    good = np.isfinite(north_m) & np.isfinite(east_m)
    if good.sum() < 2:
        return ()
    path = np.column_stack([east_m[good], north_m[good]])
    legs = shapely.linestrings(np.stack([path[:-1], path[1:]], axis=1))
    lower = np.fmin(height_m[good][:-1], height_m[good][1:])
    found = [_clearance(one, legs, lower, t_s[good], home_deg) for one in obstacles]
    return tuple(sorted(found, key=lambda one: (one.above_m is None, one.above_m or 0.0, one.beside_m)))


def _clearance(one: Obstacle, legs: Any, lower_m: FloatArray, t_s: FloatArray, home_deg: tuple[float, float]) -> Clearance:
    away = shapely.distance(legs, shape_of(one, home_deg))
    beside = away <= NEAR_M
    near = beside & np.isfinite(lower_m)
    if not near.any():
        return Clearance(
            obstacle=one, beside_m=float(away.min()), above_m=None, at_s=None, is_unmeasured=bool(beside.any())
        )  # fmt: skip
    lowest = int(np.flatnonzero(near)[np.argmin(lower_m[near])])
    return Clearance(
        obstacle=one, beside_m=float(away.min()), above_m=float(lower_m[lowest]) - one.height_m, at_s=float(t_s[lowest])
    )


def shape_of(one: Obstacle, home_deg: tuple[float, float]) -> Any:
    """Its shape on the grid around home, x to the east and y to the north [m]."""
    lon, lat = np.array(one.places).T
    east, north = east_north_m(lat, lon, home_deg)
    places = list(zip(east.tolist(), north.tolist(), strict=True))
    if one.kind == "Point":
        return shapely.geometry.Point(places[0])
    return shapely.geometry.LineString(places) if one.kind == "LineString" else shapely.geometry.Polygon(places).buffer(0)


def far_m(one: Obstacle, home_deg: tuple[float, float]) -> float:
    """Distance from home [m]."""
    lon, lat = np.array(one.places).T
    east, north = east_north_m(lat, lon, home_deg)
    return math.inf if not np.isfinite(east).all() else float(np.hypot(east, north).min())
