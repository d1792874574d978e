"""The path of a plane's flight for its pages: map, traces, legs and turns, and returns with what they were held to."""

from typing import Any

import numpy as np

from nembrit.core.analysis.wing import Wing
from nembrit.core.records.track import east_north_m
from nembrit.core.types import FloatArray
from nembrit.core.wing.navigation import Navigation
from nembrit.core.wing.obstacles import Obstacle as CoreObstacle
from nembrit.core.wing.path import Path
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.ground.services import obstacles_near

_METRES = 0.001  # of a degree, to turn a distance on the map into degrees
# key → title, what y shows, unit, lines: series of the path, label, look
CHARTS: dict[str, tuple[str, str, str, tuple[tuple[str, str, str], ...]]] = {
    "height": (
        "Height above home", "height", "m", (("height_wanted_m", "wanted", "setpoint"), ("height_m", "flown", "filtered")),
    ),
    "bank": (
        "Bank, right positive", "bank", "deg", (("bank_wanted_deg", "wanted", "setpoint"), ("bank_deg", "flown", "filtered")),
    ),
    "pitch": ("Nose, up positive", "nose", "deg",
        (("pitch_wanted_deg", "wanted", "setpoint"), ("pitch_deg", "flown", "filtered"))),
    "line": ("Off the line, right positive", "off", "m", (("cross_track_m", "off the line", "filtered"),)),
    "speed": (
        "Speed", "speed", "m/s", (("ground_speed_m_s", "over ground", "filtered"), ("airspeed_m_s", "in the air", "second")),
    ),
}  # fmt: skip


def charts_there(path: Path) -> list[tuple[str, str]]:
    """Keys and titles of the traces that a log can show."""
    return [(key, title) for key, (title, _, _, lines) in CHARTS.items() if any(role in path.series for role, _, _ in lines)]


def path_chart(path: Path, key: str) -> Chart | None:
    """One trace over time; None where the log does not hold it."""
    title, label, unit, wanted = CHARTS[key]
    lines = [
        Line(label=name, x=_plain(path.t_s), y=_plain(path.series[role]), look=look)
        for role, name, look in wanted
        if role in path.series
    ]
    if not lines:
        return None
    x = Axis(label="time", unit="s", low=float(path.t_s[0]), high=float(path.t_s[-1]))
    return Chart(title=title, x=x, y=Axis(label=label, unit=unit), lines=lines)


def map_json(path: Path, wing: Wing) -> dict[str, Any]:
    """What the map draws: the path, where it turned and returned, wind, obstacles; metres east and north of home."""
    north, east = path.series.get("north_m"), path.series.get("east_m")
    if north is None or east is None:
        north = east = np.full(path.t_s.size, np.nan)
    navigation, wind = wing.navigation, wing.wind
    parts = [] if navigation is None else [
        *({"kind": "leg", "from": one.start_s, "to": one.end_s} for one in navigation.legs),
        *({"kind": "turn", "from": one.start_s, "to": one.end_s} for one in navigation.turns),
        *({"kind": "circle", "from": one.start_s, "to": one.end_s} for one in navigation.circles),
    ]  # fmt: skip
    parts += [{"kind": "return", "from": one.start_s, "to": one.end_s} for one in wing.returns]
    return {
        "t": _listed(path.t_s, 2), "east": _listed(east, 1), "north": _listed(north, 1),
        "bank": _listed(path.series.get("bank_deg"), 1), "pitch": _listed(path.series.get("pitch_deg"), 1),
        "servos": {number: _listed(values, 3) for number, values in path.servos.items()},
        "segment": None, "value": None, "labels": None, "name": "", "unit": "",
        "mode": _listed(path.series.get("mode"), 0), "modes": list(path.modes), "parts": parts,
        "wind": None if wind is None or not wind.has_direction else {"from_deg": round(wind.from_deg, 1), "words": wind.in_words},
        "obstacles": [drawn(row.pk, one, path.home_deg) for row, one in obstacles_near(path.home_deg)],
        "home": None if path.home_deg is None else scale_at(path.home_deg),
    }  # fmt: skip


def scale_at(home_deg: tuple[float, float]) -> dict[str, float]:
    """Home, and how many metres a degree is there."""
    east, north = east_north_m(np.array([home_deg[0] + _METRES]), np.array([home_deg[1] + _METRES]), home_deg)
    return {
        "latitude": round(home_deg[0], 7), "longitude": round(home_deg[1], 7), "east_per_deg": float(east[0]) / _METRES,
        "north_per_deg": float(north[0]) / _METRES,
    }  # fmt: skip


def drawn(pk: int, one: CoreObstacle, home_deg: tuple[float, float] | None) -> dict[str, Any]:
    assert home_deg is not None
    lon, lat = np.array(one.places).T
    east, north = east_north_m(lat, lon, home_deg)
    places = [[round(x, 1), round(y, 1)] for x, y in zip(east.tolist(), north.tolist(), strict=True)]
    return {"id": pk, "name": one.name, "kind": one.kind, "height_m": one.height_m, "places": places}


def _plain(values: FloatArray, places: int = 2) -> list[float | None]:
    return [round(value, places) if np.isfinite(value) else None for value in values.tolist()]


def _listed(values: FloatArray | None, places: int) -> list[float | None] | None:
    return None if values is None else _plain(values, places)


def headline_of(navigation: Navigation) -> str:
    """The one thing that a tuner would want to know first."""
    wanted = [leg for leg in navigation.legs if leg.is_wanted and leg.cross_track_m is not None]
    if wanted:
        worst = max(wanted, key=lambda leg: abs(leg.cross_track_m or 0.0) + leg.cross_track_rms_m)
        off = worst.cross_track_m or 0.0
        side = "right" if off > 0 else "left"
        more = f", {abs(off):.0f} m to the {side} at the worst" if abs(off) >= 2 else ""
        return f"Holds its lines within {max(1, round(max(leg.cross_track_rms_m for leg in wanted)))} m{more}"
    if navigation.circles:
        one = navigation.circles[0]
        return f"Circles at {one.radius_m:.0f} m, within {max(1, round(one.radius_sd_m))} m"
    if navigation.legs:
        return f"{len(navigation.legs)} straight legs, flown by hand"
    return f"{len(navigation.turns)} turns and no straight leg"
