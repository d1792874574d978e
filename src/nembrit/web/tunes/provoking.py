"""A repair put to the test: flights under the conditions in which the fault showed."""

from collections.abc import Mapping
from dataclasses import dataclass

from nembrit.core.analysis.conditions import Conditions
from nembrit.core.errors import InputError
from nembrit.core.trials.provoke import MANOEUVRES, Attempt, Condition, Provoked, Reached, conditions_when, provoke
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.packs.services import conditions_of
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.trials import sides_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One flight since the repair."""

    flight: Flight
    reached: Reached
    missing: str
    came_back: bool | None
    is_asked: bool  # only the pilot can say
    counts: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Provocation:
    """What the page of a repair shows."""

    provoked: Provoked
    fault: str
    rows: list[Row]
    steps: list[str]  # of the library, that bring the conditions about


def is_repair(slip: Slip) -> bool:
    return slip.group == "hardware"


def proposed(slip: Slip) -> tuple[Condition, ...]:
    """What was special about the flight whose finding led to the repair; nothing where none did."""
    if slip.cause_flight is None:
        return ()
    return conditions_when(_reached(slip, conditions_of([slip.cause_flight]).get(slip.cause_flight.pk)))


def plan(slip: Slip, conditions: Mapping[str, float | None], *, fault: str) -> None:
    """Fix under which conditions the fault must stay away. Raises InputError for conditions that cannot be."""
    if not is_repair(slip):
        raise InputError("only repairs are tested this way; this slip changes settings")
    known = [Condition(name=name, value=value) for name, value in conditions.items() if value is not None]
    if not fault.strip():
        raise InputError("describe the fault so that anyone would recognise it")
    kept = [{"name": one.name, "value": one.value} for one in known]
    slip.provoke = {"conditions": kept, "fault": fault.strip()[:200], "answers": slip.provoke.get("answers", {})}
    slip.save(update_fields=("provoke",))


def answer(slip: Slip, flight: Flight, *, came_back: bool) -> None:
    """What the pilot saw or heard of the fault in a flight since."""
    if not slip.provoke:
        raise InputError("first set the conditions of the test")
    if flight.pk not in {one.pk for one, is_after in sides_of(slip) if is_after}:
        raise InputError(f"flight {flight.number} was not flown after the repair")
    slip.provoke["answers"] = slip.provoke.get("answers", {}) | {str(flight.pk): came_back}
    slip.save(update_fields=("provoke",))


def provocation_of(slip: Slip) -> Provocation | None:
    """The flights since, judged; None where nothing was planned."""
    if not slip.provoke:
        return None
    conditions = [Condition(**one) for one in slip.provoke["conditions"]]
    answers: dict[str, bool] = slip.provoke.get("answers", {})
    since = [flight for flight, is_after in sides_of(slip) if is_after]
    known = conditions_of(since)
    shown = {flight.pk: _shows(slip, results) for flight, results in by_flight(since, "judgement")}
    attempts = []
    for flight in since:
        seen, told = shown[flight.pk], answers.get(str(flight.pk))
        came_back = True if seen or told else told if seen is None else seen
        attempts.append(Attempt(number=flight.number, reached=_reached(slip, known.get(flight.pk)), came_back=came_back))
    provoked = provoke(conditions, attempts)
    rows = [
        Row(
            flight=flight, reached=state.attempt.reached, came_back=state.attempt.came_back, counts=state.counts,
            missing="; ".join(
                [f"not {one.in_words}" for one in state.missing] + [f"not recorded: {one.in_words}" for one in state.unknown]
            ),
            is_asked=shown[flight.pk] is None,
        )
        for flight, state in zip(since, provoked.attempts, strict=True)
    ]  # fmt: skip
    steps = [MANOEUVRES[one.name] for one in conditions]
    return Provocation(provoked=provoked, fault=slip.provoke["fault"], rows=rows, steps=steps)


def _shows(slip: Slip, results: object) -> bool | None:
    """Whether a flight's log shows the finding; None where it was not tested, or is not what was found."""
    judgement = getattr(results, "judgement", None)
    if not slip.cause_code or judgement is None or slip.cause_code in judgement.untested:
        return None
    return any(finding.code == slip.cause_code for finding in judgement.faults)


def _reached(slip: Slip, known: Conditions | None) -> Reached:
    if known is None:
        return Reached()
    lowest = None if known.lowest_v is None else known.lowest_v / slip.tune.craft.cells
    return Reached(
        lowest_cell_v=lowest, highest_throttle_ratio=known.highest_throttle_ratio,
        highest_temperature_c=known.highest_temperature_c,
    )  # fmt: skip
