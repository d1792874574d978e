"""Returns home: each held to the limits that stood before it, and all of a craft side by side."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.wing import Wing
from nembrit.core.wing.obstacles import clearances
from nembrit.core.wing.returnrule import Point, asked_of, judge_return, return_passed
from nembrit.core.wing.returns import Return
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.ground.services import obstacles_near, rule_for
from nembrit.web.hangar.models import Craft

_CAMPAIGN = 40  # newest flights that are looked through


def return_rows(flight: Flight, wing: Wing) -> list[dict[str, Any]]:
    """Each return with its verdict, criteria and what it passed."""
    rule, row, stood_before = rule_for(flight.craft, flight.flown_at)
    standing = [one for _, one in obstacles_near(wing.home_deg)]
    found = []
    for number, flown in enumerate(wing.returns, start=1):
        over = () if wing.home_deg is None else clearances(
            standing, flown.north_m, flown.east_m, flown.height_m, flown.t_s, home_deg=wing.home_deg
        )  # fmt: skip
        points = judge_return(flown, over, rule)
        passed = return_passed(points)
        says = _says(passed, points)
        found.append(
            {"number": number, "flown": flown, "over": over, "points": points, "passed": passed, "says": says, "rule": row,
             "stood_before": stood_before}
        )  # fmt: skip
    return found


def limits_now(craft: Craft) -> dict[str, Any]:
    """What the next return is judged by, and where these limits come from."""
    rule, row, _ = rule_for(craft, None)
    said = "Conservative starting values: set your own before you fly." if row is None else f"Set on {row.written_at:%-d %b %Y}."
    return {"asked": asked_of(rule), "limits_are": said}


def _says(passed: bool | None, points: Sequence[Point]) -> str:
    """The answer in a line: what failed first, or what could not be judged."""
    if passed:
        return f"Passed: all {len(points)} limits kept"
    failed = [point for point in points if point.passed is False]
    if failed:
        more = f", and {len(failed) - 1} more limit{'' if len(failed) == 2 else 's'}" if len(failed) > 1 else ""
        return f"Failed: {failed[0].failure}{more}"
    unknown = [point for point in points if point.passed is None]
    return f"Not judged: {len(unknown)} of {len(points)} limits could not be measured"


@dataclass(frozen=True, slots=True, kw_only=True)
class Campaign:
    """All returns of a craft side by side."""

    title: str
    columns: list[dict[str, Any]]  # one a return, oldest first
    table: list[tuple[str, list[Point | None]]]  # by limit, one place a return
    facts: list[tuple[str, list[str]]]


def campaign_of(craft: Craft) -> Campaign | None:
    """Every return of the newest flights, each by the limits that stood when it was flown; None without any."""
    flights = list(craft.flights.active()[:_CAMPAIGN])[::-1]
    columns: list[dict[str, Any]] = []
    for flight, own in by_flight(flights, "wing"):
        if own is not None and own.wing is not None:
            wind = own.wing.wind.in_words if own.wing.wind else "wind unknown"
            columns += [row | {"flight": flight, "wind": wind} for row in return_rows(flight, own.wing)]
    if not columns:
        return None
    limits = list(dict.fromkeys(point.asked for row in columns for point in row["points"]))
    table = [(asked, [next((one for one in row["points"] if one.asked == asked), None) for row in columns]) for asked in limits]
    n_passed, n_failed = (sum(row["passed"] is word for row in columns) for word in (True, False))
    n_open = len(columns) - n_passed - n_failed
    told = [f"{n_passed} of {len(columns)} returns passed"]
    told += [f"{n_failed} failed"] if n_failed else []
    told += [f"{n_open} could not be judged"] if n_open else []
    facts = [(name, [_fact(row["flown"], read) for row in columns]) for name, read in _FACTS]
    return Campaign(title=", ".join(told), columns=columns, table=table, facts=facts)


_FACTS: tuple[tuple[str, Callable[[Return], str | None]], ...] = (
    ("way round", lambda own: own.turn_direction),
    ("turned after", lambda own: None if own.turn_start_s is None else f"{own.turn_start_s - own.start_s:.1f} s"),
    ("lowest airspeed", lambda own: None if own.lowest_airspeed_m_s is None else f"{own.lowest_airspeed_m_s:.1f} m/s"),
    ("height on arrival", lambda own: None if own.arrival_height_m is None else f"{own.arrival_height_m:.0f} m"),
    ("battery on arrival", lambda own: None if own.arrival_battery_v is None else f"{own.arrival_battery_v:.1f} V"),
    ("ended", lambda own: "circled" if own.circled else "landed" if own.landed else "neither in this log"),
)


def _fact(own: Return, read: Callable[[Return], str | None]) -> str:
    return read(own) or "unknown"
