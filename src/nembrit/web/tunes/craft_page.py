"""What the home of a craft shows: its flights with what was found, its settings and builds, and what is under way."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.run import FlightResults
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.web.bench.results import act_finding_of, by_flight, ensure_results
from nembrit.web.common.jobs import latest_jobs
from nembrit.web.common.templatetags.nembrit import digits
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Log
from nembrit.web.tunes import first_steps, history, services
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.models import Slip

_FLIGHTS, _CONFIGURATIONS, _BUILDS = 60, 8, 6
_COLUMNS = {Craft.Kind.MULTIROTOR: ("motion_noise.roll", "overshoot.roll"), Craft.Kind.FIXED_WING: ("held_trim.roll", "pull")}


@dataclass(frozen=True, slots=True, kw_only=True)
class FlightRow:
    """One flight in the list of a craft's home."""

    flight: Flight
    numbers: tuple[str, ...]  # with units, in the order of the columns
    unlike: str  # why its first number is another one than those of the rest
    problems: tuple[str, ...]  # codes of its findings
    told: str  # where there are none


@while_unchanged
def context_of(craft: Craft) -> dict[str, Any]:
    """For the template; starts the analysis of flights that miss a valid answer."""
    tune = services.tune_of(craft)
    flights = list(craft.flights.active().select_related("configuration", "build_entry")[:_FLIGHTS])
    waiting = ensure_results(flights)
    analysed = by_flight(flights, "metrics", "judgement")
    unfinished = list(craft.logs.filter(state__in=(Log.State.WAITING, Log.State.REFUSED), archived_at=None))
    refused = [log for log in unfinished if log.state == Log.State.REFUSED]
    log_ids = [log.pk for log in unfinished if log not in refused]
    return {
        "craft": craft,
        "tune": tune,
        "track": history.track(tune),
        "open_slip": services.open_slip(tune),
        "n_questions": first_steps.left_of(craft),
        "headline": _headline(craft, len(analysed), services.open_slip(tune)),
        "flights": _rows(craft, analysed),
        "columns": [metric_label(name) for name in _COLUMNS[Craft.Kind(craft.kind)]],
        "n_archived": craft.flights.exclude(archived_at=None).count(),
        "configurations": list(craft.configurations.all()[:_CONFIGURATIONS]),
        "builds": list(craft.build_entries.order_by("-made_at")[:_BUILDS]),
        "jobs": [*latest_jobs(("import_log", "simulate"), log_ids), *waiting],
        "refused": refused,
        "asking": list(craft.logs.filter(state=Log.State.ASKING, archived_at=None)),
        "loose_logs": list(craft.logs.filter(state=Log.State.READY, segments=None, archived_at=None)),
        "finding": act_finding_of(analysed),
        "advice": advice_of(craft, wait=False),
    }


def _headline(craft: Craft, n_flights: int, slip: Slip | None) -> str:
    if slip is not None:
        return f"{craft.name} is flying slip {slip.number}: {slip.title}"
    if n_flights:
        return f"{craft.name}: {n_flights} flight{'' if n_flights == 1 else 's'} recorded"
    return f"{craft.name} is ready for its baseline"


def _rows(craft: Craft, analysed: Sequence[tuple[Flight, FlightResults | None]]) -> list[FlightRow]:
    unlike = services.unlike_others(analysed)
    names = _COLUMNS[Craft.Kind(craft.kind)]
    return [
        FlightRow(
            flight=flight,
            numbers=tuple(_number(results, name) for name in names),
            unlike=unlike.get(flight.pk, ""),
            problems=tuple(one.code for one in results.judgement.faults) if results and results.judgement else (),
            told=_without_problems(results),
        )
        for flight, results in analysed
    ]


def _number(results: FlightResults | None, name: str) -> str:
    value = results.metrics.values.get(name) if results and results.metrics else None
    kind = metric_kind(name)
    if value is None or kind is None:
        return "–"
    return f"{digits(value * kind.factor, 2)} {kind.unit}"


def _without_problems(results: FlightResults | None) -> str:
    if results is None or results.judgement is None:
        return "not analysed yet"
    n_open = len(results.judgement.untested)
    checks = f"; {n_open} check{'' if n_open == 1 else 's'} not possible" if n_open else ""
    return f"no problem found{checks}"
