"""Try to reproduce the fault: fly under the conditions in which it showed, and see whether it stays away."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError

# how near a flight must come to the old condition (common practice, no source)
_CELL_V, _THROTTLE, _WARMTH_C = 0.05, 0.05, 3.0
_LOW_CELL_V, _FULL_THROTTLE, _WARM_C = 3.6, 0.9, 45.0  # from where a condition is worth recreating
LEAST_PROVOKED = 2  # flights that reached it without the fault (common practice, no source)
BOUNDS = {"lowest_cell_v": (2.0, 4.3), "highest_throttle_ratio": (0.3, 1.0), "highest_temperature_c": (-20.0, 120.0)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Reached:
    """What a flight reached; None where it was not recorded."""

    lowest_cell_v: float | None = None
    highest_throttle_ratio: float | None = None
    highest_temperature_c: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Condition:
    """One thing that must be as it was when the fault showed."""

    name: str  # a key of BOUNDS
    value: float

    def __post_init__(self) -> None:
        if self.name not in BOUNDS:
            raise InputError(f"“{self.name}” is no condition; expected one of {', '.join(BOUNDS)}")
        low, high = BOUNDS[self.name]
        if not low <= self.value <= high:
            raise InputError(f"{self.in_words}: expected {low:g} to {high:g}")

    @property
    def in_words(self) -> str:
        """
        >>> Condition(name="lowest_cell_v", value=3.42).in_words
        'a pack down to 3.42 V per cell under load'
        """
        if self.name == "lowest_cell_v":
            return f"a pack down to {self.value:.2f} V per cell under load"
        if self.name == "highest_throttle_ratio":
            return f"throttle up to {100 * self.value:.0f} %"
        return f"the board as warm as {self.value:.0f} °C"

    def is_reached(self, flight: Reached) -> bool | None:
        """Whether a flight came as near as the tolerance; None where it did not record it."""
        flown = getattr(flight, self.name)
        if flown is None:
            return None
        if self.name == "lowest_cell_v":
            return bool(flown <= self.value + _CELL_V)
        return bool(flown >= self.value - (_THROTTLE if self.name == "highest_throttle_ratio" else _WARMTH_C))


def conditions_when(fault: Reached) -> tuple[Condition, ...]:
    """What was special about the flight in which the fault showed: a low pack, full throttle, a warm board.

    Nothing where nothing was: then the same card alone is what has to be flown.
    """
    found = []
    if fault.lowest_cell_v is not None and fault.lowest_cell_v <= _LOW_CELL_V:
        found.append(Condition(name="lowest_cell_v", value=round(fault.lowest_cell_v, 2)))
    if fault.highest_throttle_ratio is not None and fault.highest_throttle_ratio >= _FULL_THROTTLE:
        found.append(Condition(name="highest_throttle_ratio", value=round(min(fault.highest_throttle_ratio, 1.0), 2)))
    if fault.highest_temperature_c is not None and fault.highest_temperature_c >= _WARM_C:
        found.append(Condition(name="highest_temperature_c", value=round(fault.highest_temperature_c)))
    return tuple(found)


MANOEUVRES: Mapping[str, str] = {  # of the library, that bring a condition about
    "lowest_cell_v": "late_pull", "highest_throttle_ratio": "full_throttle", "highest_temperature_c": "warm_hover",
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Attempt:
    """One flight since the repair."""

    number: int
    reached: Reached
    came_back: bool | None  # the fault; None: neither the log nor the pilot can say


@dataclass(frozen=True, slots=True, kw_only=True)
class AttemptState:
    """How one flight counts."""

    attempt: Attempt
    missing: tuple[Condition, ...]  # conditions that it did not reach
    unknown: tuple[Condition, ...]  # conditions that it did not record
    counts: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Provoked:
    """Whether the repair stood the test."""

    word: str  # passed, failed, not_yet
    conditions: tuple[Condition, ...]
    attempts: tuple[AttemptState, ...]

    @property
    def n_counted(self) -> int:
        return sum(one.counts for one in self.attempts)

    @property
    def in_words(self) -> str:
        under = " and ".join(one.in_words for one in self.conditions) or "the same card"
        if self.word == "failed":
            back = next(one.attempt.number for one in self.attempts if one.attempt.came_back)
            return f"failed: it came back in flight {back}"
        if self.word == "passed":
            return f"passed: not there in {self.n_counted} flights with {under}"
        return f"{self.n_counted} of {LEAST_PROVOKED} flights with {under}"


def provoke(conditions: Sequence[Condition], attempts: Sequence[Attempt]) -> Provoked:
    """Judge the flights since a repair, in the order flown.

    Failed as soon as the fault came back in any of them, whatever was reached; passed once two that reached every condition
    stayed without it. A condition that was not recorded is not reached. Common practice, no source.
    """
    states = []
    for one in attempts:
        known = {condition: condition.is_reached(one.reached) for condition in conditions}
        missing = tuple(condition for condition, reached in known.items() if reached is False)
        unknown = tuple(condition for condition, reached in known.items() if reached is None)
        counts = not missing and not unknown and one.came_back is False
        states.append(AttemptState(attempt=one, missing=missing, unknown=unknown, counts=counts))
    counted = sum(one.counts for one in states)
    came_back = any(one.attempt.came_back for one in states)
    word = "failed" if came_back else "passed" if counted >= LEAST_PROVOKED else "not_yet"
    return Provoked(word=word, conditions=tuple(conditions), attempts=tuple(states))
