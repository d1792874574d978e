"""A plane's part of a report: trims, the path of its last return, and every return with its verdict."""

from dataclasses import dataclass

from nembrit.core.wing.returns import Return
from nembrit.core.wing.trimstep import surface_name
from nembrit.web.bench.results import by_flight
from nembrit.web.bench.returns import return_rows
from nembrit.web.bench.trims import next_trim
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import centres_of, surfaces_of

_SEEN, _SHOWN, _MOST_POINTS = 40, 6, 300
_WIDE, _HIGH, _ROOM = 320.0, 220.0, 22.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Centre:
    """One servo's centre at the baseline and now [µs]."""

    servo: int
    name: str
    before_us: float | None
    now_us: float

    @property
    def moved_us(self) -> float | None:
        return None if self.before_us is None else self.now_us - self.before_us


@dataclass(frozen=True, slots=True, kw_only=True)
class Flown:
    """One return with its verdict."""

    flight: Flight
    says: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PathPicture:
    """The last return from above, as points of an SVG path; north is up."""

    flight: Flight
    points: str
    home: tuple[float, float]
    start: tuple[float, float]
    scale: tuple[float, str]  # length of the bar in the picture, and what it stands for
    spoken: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanePart:
    """What a plane's report adds."""

    centres: list[Centre]
    trim: str
    returns: list[Flown]
    path: PathPicture | None


def plane_part(craft: Craft, base: Configuration | None, latest: Configuration | None) -> PlanePart | None:
    """None for a multirotor."""
    if craft.kind != Craft.Kind.FIXED_WING:
        return None
    flights = list(craft.flights.active().select_related("configuration")[:_SEEN])
    rows = [
        (flight, row) for flight, own in by_flight(flights, "wing") if own is not None and own.wing is not None
        for row in return_rows(flight, own.wing)
    ]  # fmt: skip
    step = next_trim(craft)
    return PlanePart(
        centres=_centres(craft, base, latest), trim=step.headline if step else "",
        returns=[Flown(flight=flight, says=row["says"]) for flight, row in rows[:_SHOWN]],
        path=_path(rows[0][0], rows[0][1]["flown"]) if rows else None,
    )  # fmt: skip


def _centres(craft: Craft, base: Configuration | None, latest: Configuration | None) -> list[Centre]:
    before, now = (centres_of(one) if one is not None else {} for one in (base, latest))
    surfaces = surfaces_of(craft, latest)
    names = {one.servo: surface_name(one, surfaces) for one in surfaces}
    return [
        Centre(servo=servo, name=names.get(servo, ""), before_us=before[servo][1] if servo in before else None, now_us=value)
        for servo, (_, value) in sorted(now.items())
    ]


def _path(flight: Flight, flown: Return) -> PathPicture | None:
    """Home is the origin of a return's path."""
    pairs = [(e, n) for e, n in zip(flown.east_m.tolist(), flown.north_m.tolist(), strict=True) if e == e and n == n]
    if len(pairs) < 2:
        return None
    pairs = pairs[:: max(1, len(pairs) // _MOST_POINTS)]
    east, north = zip(*pairs, (0.0, 0.0), strict=True)
    span = max((max(east) - min(east)) / (_WIDE - 2 * _ROOM), (max(north) - min(north)) / (_HIGH - 2 * _ROOM), 0.1)

    def place(pair: tuple[float, float]) -> tuple[float, float]:
        x = _WIDE / 2 + (pair[0] - (max(east) + min(east)) / 2) / span
        return round(x, 1), round(_HIGH / 2 - (pair[1] - (max(north) + min(north)) / 2) / span, 1)

    bar_m = next(length for length in (1000, 500, 200, 100, 50, 20, 10, 5, 1) if length / span <= _WIDE / 3 or length == 1)
    return PathPicture(
        flight=flight, points=" ".join(f"{x},{y}" for x, y in map(place, pairs)), home=place((0.0, 0.0)), start=place(pairs[0]),
        scale=(round(bar_m / span, 1), f"{bar_m} m"),
        spoken=f"Path of the return of flight {flight.number} from above; farthest {flown.farthest_m:.0f} m from home, "
        f"nearest {flown.nearest_m:.0f} m",
    )  # fmt: skip
