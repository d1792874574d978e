"""Obstacles, rules of a return and ground profiles, between the rows and the core."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any

import numpy as np
from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.setup.cards import WING_CARDS
from nembrit.core.types import FloatArray
from nembrit.core.wing import obstacles as core
from nembrit.core.wing.returnrule import ENDS, ReturnRule, asked_of
from nembrit.core.wing.returnrule import WAYS as _WAYS
from nembrit.core.wing.sight import heights_needed
from nembrit.core.wing.terrain import MOST_PLACES, grid_of, is_grid, profile_between, reach_at, two_columns
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.ground.models import Obstacle, Profile
from nembrit.web.ground.models import ReturnRule as RuleRow
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, latest_configuration, name_map

ENDINGS = list(ENDS.items())
WAYS = list(_WAYS.items())
CAREFUL = ReturnRule()
_FAR_M = 5000.0
_MOST_BYTES = 8_000_000


def core_obstacle(row: Obstacle) -> core.Obstacle:
    return core.Obstacle(name=row.name, kind=row.kind, places=tuple((lon, lat) for lon, lat in row.places), height_m=row.height_m)


def obstacles_near(home_deg: tuple[float, float] | None) -> list[tuple[Obstacle, core.Obstacle]]:
    """Rows with what they mean, within five kilometres of home."""
    if home_deg is None:
        return []
    found = [(row, core_obstacle(row)) for row in Obstacle.objects.all()]
    return [(row, one) for row, one in found if core.far_m(one, home_deg) <= _FAR_M]


def add_obstacle(*, name: str, kind: str, places: Sequence[tuple[float, float]], height_m: float) -> Obstacle:
    """Raises InputError for what can be no obstacle."""
    one = core.Obstacle(name=name.strip() or "obstacle", kind=kind, places=tuple(places), height_m=height_m)
    return Obstacle.objects.create(
        name=one.name, kind=one.kind, places=[list(place) for place in one.places], height_m=one.height_m
    )


def take_in_geojson(content: bytes) -> int:
    """How many obstacles a document added: all of it, or, with InputError, nothing."""
    if len(content) > _MOST_BYTES:
        raise InputError(f"{len(content) / 1e6:.0f} MB; up to {_MOST_BYTES / 1e6:.0f} MB of GeoJSON are read")
    try:
        found = core.obstacles_from_geojson(content.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise InputError("this is not GeoJSON: it is not UTF-8 text") from None
    with transaction.atomic():
        for one in found:
            add_obstacle(name=one.name, kind=one.kind, places=one.places, height_m=one.height_m)
    return len(found)


def geojson() -> dict[str, Any]:
    return core.obstacles_to_geojson([core_obstacle(row) for row in Obstacle.objects.all()])


def careful() -> dict[str, Any]:
    """Starting values of a rule."""
    return {name: getattr(CAREFUL, name) for name in ReturnRule.__dataclass_fields__}


def write_rule(craft: Craft, values: dict[str, Any]) -> RuleRow:
    """Raises InputError for a value that no return can be held to."""
    rule = ReturnRule(**values)
    del rule
    return RuleRow.objects.create(craft=craft, written_at=timezone.now(), **values)


def rule_for(craft: Craft, flown_at: datetime | None) -> tuple[ReturnRule, RuleRow | None, bool]:
    """The rule that a flight is judged by, its row (None: careful starting values), and whether it stood before it."""
    rows = list(craft.return_rules.all())
    before = next((row for row in rows if flown_at is None or row.written_at <= flown_at), None)
    row = before or (rows[-1] if rows else None)
    return (CAREFUL if row is None else ReturnRule(**row.values())), row, before is not None


def rules_of(craft: Craft) -> list[tuple[RuleRow, tuple[str, ...]]]:
    """Every set of limits, the newest first, with what it asks."""
    return [(row, asked_of(ReturnRule(**row.values()))) for row in craft.return_rules.all()]


def card_of_return(craft: Craft) -> dict[str, Any]:
    """What the printed card says: the limits that stand, obstacles by height, the return height of the settings, the steps."""
    row = craft.return_rules.first()
    rule = CAREFUL if row is None else ReturnRule(**row.values())
    latest = latest_configuration(craft)
    names = name_map(craft) if latest else {}
    heights = [
        one.value for one in (core_settings(latest) if latest else ())
        if (meaning := names.get(one.name)) is not None and meaning.key == "return.height_m"
    ]  # fmt: skip
    card = next(one for one in WING_CARDS if one.key == "wing_return")
    return {
        "rule": row, "asked": asked_of(rule), "obstacles": sorted(Obstacle.objects.all(), key=lambda one: -one.height_m),
        "return_height": heights[0] if heights else "", "card": card, "settings": latest,
    }  # fmt: skip


# --- line of sight


def take_in_profile(
    name: str, datum: str, content: bytes, *, start: tuple[float, float] | None, end: tuple[float, float] | None
) -> Profile:
    """Keep a profile of a file: a table of distance and height, or a grid between two places. Raises InputError, LogReadError."""
    if len(content) > _MOST_BYTES:
        raise InputError(
            f"{len(content) / 1e6:.0f} MB; up to {_MOST_BYTES / 1e6:.0f} MB are read: cut out what lies between you and the craft"
        )
    if is_grid(content):
        if start is None or end is None:
            raise InputError("this is a grid: say between which two places, as latitude and longitude, the profile is to be cut")
        distance, ground = profile_between(grid_of(content, name), start, end)
    else:
        distance, ground = two_columns(content, name)
    if distance.size > MOST_PLACES:
        raise InputError(f"{distance.size} places; up to {MOST_PLACES} are read: one every 25 m is enough")
    heights_needed(distance, ground, antenna_m=1.5, frequency_mhz=2400.0)
    return Profile.objects.create(
        name=name[:120], datum=datum.strip()[:80] or "not stated", distance_m=distance.tolist(), ground_m=ground.tolist()
    )


def sight_of(profile: Profile, *, antenna_m: float, frequency_mhz: float, height_m: float) -> dict[str, Any]:
    """Heights needed over a profile, as numbers and as a picture. Raises InputError."""
    distance, ground = np.array(profile.distance_m, dtype=float), np.array(profile.ground_m, dtype=float)
    found = heights_needed(distance, ground, antenna_m=antenna_m, frequency_mhz=frequency_mhz)
    at = {
        name: reach_at(height_m, distance, needed, ground)
        for name, needed in (("geometric_m", found.geometric_m), ("clear_m", found.clear_m))
    }
    places = np.unique(np.linspace(0, distance.size - 1, 9).astype(int))[1:]
    rows = [
        {"distance_m": distance[k], "ground_m": ground[k] - ground[0], "geometric_m": found.geometric_m[k] - ground[0],
         "clear_m": found.clear_m[k] - ground[0]}
        for k in places
    ]  # fmt: skip
    return {
        "chart": _chart(profile, distance, ground, found.geometric_m, found.clear_m, height_m).as_json(), "rows": rows,
        "reach": at, "whole_m": float(distance[-1]), "is_whole": at["clear_m"] >= distance[-1],
    }  # fmt: skip


def _chart(
    profile: Profile, distance: FloatArray, ground: FloatArray, geometric: FloatArray, clear: FloatArray, height_m: float
) -> Chart:
    every = max(1, distance.size // 800)
    x = [round(float(value) / 1000, 4) for value in distance[::every]]

    def above(values: FloatArray) -> list[float | None]:
        return [round(float(value - ground[0]), 2) for value in values[::every]]

    return Chart(
        title=f"Height needed over {profile.name}",
        x=Axis(label="distance", unit="km", low=0, high=x[-1]),
        y=Axis(label="height above the antenna’s ground", unit="m"),
        lines=[
            Line(label="ground", x=x, y=above(ground), look="raw"),
            Line(label="line of sight clear", x=x, y=above(geometric), look="second"),
            Line(label="Fresnel zone clear", x=x, y=above(clear), look="after"),
            Line(label="flown", x=x, y=[height_m] * len(x), look="setpoint"),
        ],
    )
