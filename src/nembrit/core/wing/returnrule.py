"""Pass or fail of a return, by what was written before it was flown."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.wing.obstacles import Clearance
from nembrit.core.wing.returns import Return

WAYS = {"either": "either way", "short": "the short way", "left": "to the left", "right": "to the right"}
ENDS = {"circle": "circles over home", "land": "lands at home", "either": "circles or lands"}


@dataclass(frozen=True, slots=True, kw_only=True)
class ReturnRule:
    """What a return must do; heights over home [m]. Starting values are careful ones (common practice, no source)."""

    turns_within_s: float = 20.0
    lowest_m: float = 40.0
    overshoot_most_m: float = 10.0
    clear_by_m: float = 20.0
    ends: str = "circle"
    ends_within_m: float = 100.0
    turn_way: str = "either"
    airspeed_least_m_s: float = 0.0  # 0: not asked
    battery_least_v: float = 0.0  # 0: not asked

    def __post_init__(self) -> None:
        limits = {
            "turns_within_s": (1, 300), "lowest_m": (0, 400), "overshoot_most_m": (0, 200), "clear_by_m": (1, 200),
            "ends_within_m": (5, 1000), "airspeed_least_m_s": (0, 60), "battery_least_v": (0, 100),
        }  # fmt: skip
        for name, (low, high) in limits.items():
            if not low <= getattr(self, name) <= high:
                raise InputError(f"{name.replace('_', ' ')}: expected {low} to {high}, got {getattr(self, name):g}")
        if self.ends not in ENDS:
            raise InputError(f"a return ends by one of {', '.join(ENDS)}")
        if self.turn_way not in WAYS:
            raise InputError(f"a return turns by one of {', '.join(WAYS)}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Point:
    """One criterion with what was flown; `passed` None: the log does not tell."""

    asked: str
    flown: str
    passed: bool | None
    failure: str = ""  # the sentence of one that failed


def judge_return(flown: Return, over: Sequence[Clearance], rule: ReturnRule) -> tuple[Point, ...]:
    """Each criterion of a rule by itself."""
    after = 0.0 if flown.pointed_home else None if flown.turn_start_s is None else flown.turn_start_s - flown.start_s
    lowest, overshoot = flown.lowest_m, flown.height_overshoot_m
    passed_over = [one for one in over if one.above_m is not None]
    nearest = passed_over[0] if passed_over else None
    unmeasured = next((one for one in over if one.is_unmeasured), None)
    ended = "circles" if flown.circled and not flown.landed else "lands" if flown.landed else "neither"
    fits: bool | None = {"circle": flown.circled, "land": flown.landed, "either": flown.circled or flown.landed}[rule.ends]
    if not fits and flown.turns is not None and not flown.landed and rule.ends != "land":
        ended, fits = f"{flown.turns:.1f} of a turn before it ended; a whole turn shows that it circles", None
    far_m = flown.ends_m if flown.landed and rule.ends != "circle" else flown.nearest_m
    points = [
        Point(
            asked=f"turns within {rule.turns_within_s:g} s",
            flown="pointed home from the start"
            if flown.pointed_home
            else "never turned"
            if after is None
            else f"after {after:.1f} s",
            passed=after is not None and after <= rule.turns_within_s,
            failure=f"it {'never turned' if after is None else f'turned after {after:.1f} s'}"
            f" ({rule.turns_within_s:g} s allowed)",
        ),
        Point(
            asked=f"stays above {rule.lowest_m:g} m",
            flown=(flown.height_doubt or "height not logged") if lowest is None else f"{lowest:.0f} m at its lowest",
            passed=None if lowest is None else lowest >= rule.lowest_m,
            failure=f"it sank to {lowest or 0:.0f} m ({rule.lowest_m:g} m required)",
        ),
        Point(
            asked=f"climbs at most {rule.overshoot_most_m:g} m above its return height",
            flown="unknown" if overshoot is None else f"{max(0.0, overshoot):.0f} m",
            passed=None if overshoot is None else overshoot <= rule.overshoot_most_m,
            failure=f"it climbed {overshoot or 0:.0f} m above its return height ({rule.overshoot_most_m:g} m allowed)",
        ),
        Point(
            asked=f"clears every obstacle by {rule.clear_by_m:g} m",
            flown=_passing(nearest, unmeasured),
            passed=_clears(over, nearest, unmeasured, rule.clear_by_m),
            failure=f"it passed too close to {'an obstacle' if nearest is None else nearest.obstacle.name}",
        ),
        Point(asked=ENDS[rule.ends], flown=ended, passed=fits, failure=f"it should have ended with “{ENDS[rule.ends]}”"),
        Point(
            asked=f"comes within {rule.ends_within_m:g} m of home",
            flown=f"{far_m:.0f} m {'at the landing place' if flown.landed and rule.ends != 'circle' else 'at the closest'}",
            passed=far_m <= rule.ends_within_m,
            failure=f"it {'landed' if flown.landed and rule.ends != 'circle' else 'stayed'} {far_m:.0f} m away from home "
            f"({rule.ends_within_m:g} m allowed)",
        ),
        *_asked_besides(flown, rule),
    ]  # fmt: skip
    return tuple(points)


def _asked_besides(flown: Return, rule: ReturnRule) -> list[Point]:
    """Criteria that are asked only of who wrote them down."""
    found = []
    if rule.turn_way != "either":
        way, passed = _way(flown, rule.turn_way)
        found.append(Point(asked=f"turns {WAYS[rule.turn_way]}", flown=way, passed=passed, failure=f"it turned {way}"))
    if rule.airspeed_least_m_s:
        slowest = flown.lowest_airspeed_m_s
        found.append(
            Point(
                asked=f"flies at {rule.airspeed_least_m_s:g} m/s or faster",
                flown="airspeed not logged" if slowest is None else f"{slowest:.1f} m/s at the slowest",
                passed=None if slowest is None else slowest >= rule.airspeed_least_m_s,
                failure=f"it slowed down to {slowest or 0:.1f} m/s ({rule.airspeed_least_m_s:g} m/s required)",
            )
        )
    if rule.battery_least_v:
        left = flown.arrival_battery_v
        found.append(
            Point(
                asked=f"arrives with {rule.battery_least_v:g} V or more",
                flown=("it never came near home" if flown.arrival_s is None else "voltage not logged")
                if left is None
                else f"{left:.1f} V",
                passed=None if left is None else left >= rule.battery_least_v,
                failure=f"it arrived with {left or 0:.1f} V ({rule.battery_least_v:g} V required)",
            )
        )
    return found


def _way(flown: Return, wanted: str) -> tuple[str, bool | None]:
    if flown.pointed_home:
        return "no turn: it pointed home from the start", None
    if flown.turn_direction is None:
        return "could not be measured", None
    if wanted == "short":
        if flown.either_way:
            return f"to the {flown.turn_direction}; home was straight behind, so both ways are short", True
        return ("the short way" if flown.short_way else "the long way"), flown.short_way
    return f"to the {flown.turn_direction}", flown.turn_direction == wanted


def _passing(nearest: Clearance | None, unmeasured: Clearance | None) -> str:
    if nearest is not None and (unmeasured is None or (nearest.above_m or 0.0) < 0):
        return f"{nearest.above_m:.0f} m above {nearest.obstacle.name}"
    if unmeasured is not None:
        return f"it flew over {unmeasured.obstacle.name}, but its height there was not logged"
    return "no marked obstacle below its path"


def _clears(
    over: Sequence[Clearance], nearest: Clearance | None, unmeasured: Clearance | None, least_m: float
) -> bool | None:  # fmt: skip
    """Whether everything below was cleared; None where nothing was marked, or a height is missing over one of them."""
    if nearest is not None and (nearest.above_m or 0.0) < least_m:
        return False
    if unmeasured is not None or not over:
        return None
    return True


def asked_of(rule: ReturnRule) -> tuple[str, ...]:
    """The limits of a rule in words, in the order of the card."""
    found = [
        f"turns within {rule.turns_within_s:g} s", f"stays above {rule.lowest_m:g} m",
        f"climbs at most {rule.overshoot_most_m:g} m above its return height",
        f"clears every obstacle by {rule.clear_by_m:g} m", ENDS[rule.ends], f"comes within {rule.ends_within_m:g} m of home",
    ]  # fmt: skip
    if rule.turn_way != "either":
        found.append(f"turns {WAYS[rule.turn_way]}")
    if rule.airspeed_least_m_s:
        found.append(f"flies at {rule.airspeed_least_m_s:g} m/s or faster")
    if rule.battery_least_v:
        found.append(f"arrives with {rule.battery_least_v:g} V or more")
    return tuple(found)


def return_passed(points: Sequence[Point]) -> bool | None:
    """False if any criterion failed; None where one could not be told; True only if all were met."""
    if any(point.passed is False for point in points):
        return False
    return None if any(point.passed is None for point in points) else True
