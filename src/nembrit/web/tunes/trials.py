"""The flights that judge a slip, their comparison, and their curves laid over each other."""

from dataclasses import dataclass, replace

from nembrit.core.analysis.run import FlightResults
from nembrit.core.trials.overlay import Overlay, overlay
from nembrit.core.trials.verdict import Comparison, FlightValues, Primary, compare_flights
from nembrit.core.types import FloatArray
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.tunes.models import Slip


@dataclass(frozen=True, slots=True, kw_only=True)
class JudgedFlight:
    """One flight on one side of a slip, with the results that were asked for."""

    flight: Flight
    is_after: bool
    is_left_out: bool
    results: FlightResults | None = None

    @property
    def is_analysed(self) -> bool:
        return self.results is not None

    @property
    def is_used(self) -> bool:
        return self.is_analysed and not self.is_left_out


def judged_flights(slip: Slip, *keys: str) -> list[JudgedFlight]:
    """Flights before and after the change, in the order flown, with the named results (metrics, if none are named).

    Before: flown with the base configuration and build. After: with the slip's configuration, or with its
    build and the base configuration. Archived flights do not count; left-out ones are listed but not used.
    """
    flights = slip.tune.craft.flights.active().order_by("flown_at", "number")
    if slip.card_key:
        flights = flights.filter(card_key=slip.card_key)
    left_out = set(slip.left_out.values_list("pk", flat=True))
    sides = {(slip.base_configuration_id, slip.base_build_id): False, _after_key(slip): True}
    chosen = [flight for flight in flights if (flight.configuration_id, flight.build_entry_id) in sides]
    return [
        JudgedFlight(
            flight=flight,
            is_after=sides[flight.configuration_id, flight.build_entry_id],
            is_left_out=flight.pk in left_out,
            results=results,
        )
        for flight, results in by_flight(chosen, *(keys or ("metrics",)))
    ]


def _after_key(slip: Slip) -> tuple[int | None, int | None]:
    if slip.result_build_id:
        return slip.base_configuration_id, slip.result_build_id
    return slip.result_configuration_id, slip.base_build_id


def leave_out(slip: Slip, flight: Flight, *, left_out: bool) -> None:
    """Take a flight out of a slip's comparison, or back in; the list keeps showing it."""
    if left_out:
        slip.left_out.add(flight)
    else:
        slip.left_out.remove(flight)


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """The flights of a slip and what they say; each flight's numbers are loaded once."""

    judged: list[JudgedFlight]
    comparison: Comparison


def trial_of(slip: Slip) -> Trial:
    """Judge the slip from its flights, the primary metric as named on it."""
    judged = judged_flights(slip)
    used = [(row, row.results.metrics) for row in judged if row.is_used and row.results and row.results.metrics]
    flights = [FlightValues(is_after=row.is_after, metrics=metrics.values) for row, metrics in used]
    comparison = compare_flights(flights, primary=Primary(metric=slip.primary_metric, direction=slip.direction))
    if len({row.flight.card_key for row, _ in used}) > 1:
        note = "these flights flew different cards: choose one on the slip, or read the numbers with care"
        comparison = replace(comparison, notes=(*comparison.notes, note))
    return Trial(judged=judged, comparison=comparison)


@dataclass(frozen=True, slots=True, kw_only=True)
class BeforeAfter:
    """Curves of one axis on both sides."""

    before: Overlay | None
    after: Overlay | None


def curves_of(slip: Slip, kind: str, axis: str) -> BeforeAfter:
    """Mean curves of the flights before and after: `noise` densities, or `step` responses."""
    sides: dict[bool, list[tuple[FloatArray, FloatArray]]] = {False: [], True: []}
    for row in judged_flights(slip, "noise" if kind == "noise" else "response"):
        if row.is_used and row.results and (curve := _curve(row.results, axis)):
            sides[row.is_after].append(curve)
    return BeforeAfter(before=overlay(sides[False]), after=overlay(sides[True]))


def _curve(results: FlightResults, axis: str) -> tuple[FloatArray, FloatArray] | None:
    if results.response is not None:
        step = results.response.steps.get(axis)
        return (1000 * step.t_s, step.response) if step else None
    shown = results.noise.axes[axis].shown if results.noise else None
    return (shown.spectrum.frequency_hz, shown.spectrum.psd_dps2_per_hz) if shown else None
