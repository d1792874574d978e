"""The flights that judge a slip, what they say, and their curves laid over each other."""

from dataclasses import dataclass, replace
from typing import Any

from nembrit.core.analysis.run import FlightResults
from nembrit.core.report.codec import from_json
from nembrit.core.trials.counting import FlownFlight, Standing, standings
from nembrit.core.trials.gone import AsBefore, FaultGone, as_before, fault_gone
from nembrit.core.trials.overlay import Overlay, overlay
from nembrit.core.trials.plan import MEASURED, Limit, Plan, Primary
from nembrit.core.trials.trial import TrialVerdict, judge
from nembrit.core.types import FloatArray
from nembrit.web.bench.copies import copies_among
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.services import states_of
from nembrit.web.tunes.models import Answer, Slip

VERSION = "trial 1"


@dataclass(frozen=True, slots=True, kw_only=True)
class JudgedFlight:
    """One flight on one side of a slip: how it stands, and the results that were asked for."""

    flight: Flight
    is_after: bool
    standing: Standing | None  # none: not analysed yet
    answer: Answer | None

    @property
    def counts(self) -> bool:
        return self.standing is not None and self.standing.counts


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """The flights of a slip and what they say; each flight's numbers are loaded once."""

    plan: Plan
    judged: list[JudgedFlight]
    verdict: TrialVerdict
    fault: FaultGone | None  # of a repair: what the finding itself says since
    recovered: AsBefore | None  # of a repair: against the flights from before the fault appeared
    without_card: list[Flight]  # of both sides, but flown without a card where the slip names one


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialRecord:
    """A trial as it stood when it was decided: flights with their numbers, test, words and the version that judged."""

    plan: Plan
    standing: tuple[Standing, ...]
    verdict: TrialVerdict
    fault: FaultGone | None
    recovered: AsBefore | None
    version: str


def record_of(trial: Trial) -> TrialRecord:
    standing = tuple(row.standing for row in trial.judged if row.standing)
    return TrialRecord(
        plan=trial.plan, standing=standing, verdict=trial.verdict, fault=trial.fault, recovered=trial.recovered, version=VERSION
    )


def record_from(data: dict[str, Any]) -> TrialRecord | None:
    """A record of this version's form; None for older ones."""
    try:
        record: TrialRecord = from_json(TrialRecord, {"recovered": None} | data)  # older ones were made without
    except (KeyError, TypeError, ValueError, AttributeError):
        return None
    return record


def plan_of(slip: Slip) -> Plan:
    """The trial as it was named before flying."""
    return Plan(
        primary=Primary(metric=slip.primary_metric, direction=slip.direction),
        flights_a_side=slip.flights_a_side,
        order=slip.order,
        limits=tuple(Limit(metric=one["metric"], most=one["most"]) for one in slip.limits),
        extensions=tuple(slip.extensions),
        looks=tuple(min(one["before"], one["after"]) for one in slip.looks),
    )


def trial_of(slip: Slip) -> Trial:
    """Judge the slip from its flights, as it was planned."""
    plan = plan_of(slip)
    sides = sides_of(slip)
    answers = {answer.flight_id: answer for answer in slip.answers.all()}
    analysed = by_flight([flight for flight, _ in sides], "metrics", "judgement")
    copies = copies_among([flight for flight, _ in sides])
    flown = {
        flight.pk: replace(_flown(slip, flight, is_after, results, answers.get(flight.pk)), copy_of=copies.get(flight.number))
        for (flight, is_after), (_, results) in zip(sides, analysed, strict=True)
        if results is not None and _is_flown_so(slip, flight)
    }
    standing = standings(list(flown.values()), plan, is_repair=slip.group == "hardware")
    by_number = {one.flight.number: one for one in standing}
    return Trial(
        plan=plan,
        judged=[
            JudgedFlight(
                flight=flight, is_after=is_after, standing=by_number.get(flight.number), answer=answers.get(flight.pk)
            )
            for flight, is_after in sides
            if _is_flown_so(slip, flight)
        ],
        verdict=judge(standing, plan),
        recovered=_recovered(
            slip,
            [(is_after, own, flown.get(flight.pk)) for (flight, is_after), (_, own) in zip(sides, analysed, strict=True)],
        ),
        fault=_fault_since(slip, [(is_after, own) for (_, is_after), (_, own) in zip(sides, analysed, strict=True)]),
        without_card=[flight for flight, _ in sides if not flight.card_key and not _is_flown_so(slip, flight)],
    )  # fmt: skip


def _is_flown_so(slip: Slip, flight: Flight) -> bool:
    """Whether a flight flew the slip's card; what measures its own interval may be measured on any."""
    return not slip.card_key or slip.order == MEASURED or flight.card_key == slip.card_key


def _fault_since(slip: Slip, flights: list[tuple[bool, FlightResults | None]]) -> FaultGone | None:
    """What the finding that led to a repair says of the flights since, where it was tested."""
    if not slip.cause_code:
        return None
    since = [own.judgement for is_after, own in flights if is_after and own is not None and own.judgement is not None]
    tested = [one for one in since if slip.cause_code not in one.untested]
    return fault_gone([any(finding.code == slip.cause_code for finding in one.faults) for one in tested])


def _recovered(slip: Slip, flights: list[tuple[bool, FlightResults | None, FlownFlight | None]]) -> AsBefore | None:
    """A repair's flights since against those of the same craft from before the fault first showed."""
    if not slip.cause_code:
        return None

    def shows(own: FlightResults | None) -> bool:
        faults = own.judgement.faults if own is not None and own.judgement is not None else ()
        return any(finding.code == slip.cause_code for finding in faults)

    first = next((k for k, (is_after, own, _) in enumerate(flights) if not is_after and shows(own)), 0)
    sound = [flight for is_after, _, flight in flights[:first] if not is_after and flight is not None and not flight.is_cause]
    since = [flight for is_after, _, flight in flights if is_after and flight is not None]
    comparable = {flight.is_simulated for flight in since}
    return as_before([flight for flight in sound if {flight.is_simulated} == comparable], since, slip.primary_metric)


def sides_of(slip: Slip) -> list[tuple[Flight, bool]]:
    """Flights flown with the state before the change, and after it, in the order flown; told by equal settings and build."""
    states = states_of(slip.tune.craft)
    before = states.of(slip.base_configuration_id, slip.base_build_id)
    if slip.result_build_id:
        after = states.of(slip.base_configuration_id, slip.result_build_id)
    else:
        after = states.of(slip.result_configuration_id, slip.base_build_id)
    flights = slip.tune.craft.flights.active().order_by("flown_at", "number")
    found = [(flight, states.of(flight.configuration_id, flight.build_entry_id)) for flight in flights]
    return [(flight, state == after) for flight, state in found if state in (before, after)]


def _flown(slip: Slip, flight: Flight, is_after: bool, results: FlightResults, answer: Answer | None) -> FlownFlight:
    found = flown_flight(flight, results, is_after=is_after)
    is_cause = flight.pk == slip.cause_flight_id
    is_too_early = is_after and flight.flown_at < slip.created_at
    return replace(
        found,
        is_cause=is_cause,
        is_too_early=is_too_early,
        chosen=answer.use if answer else "",
        chosen_why=answer.why if answer else "",
    )


def flown_flight(flight: Flight, results: FlightResults, *, is_after: bool) -> FlownFlight:
    """A flight with all that decides whether it counts, nobody having answered anything."""
    card = card_of(flight.card_key)
    metrics, judgement = results.metrics, results.judgement
    assert metrics is not None
    assert judgement is not None
    fault = next((finding.highlight for finding in judgement.findings if finding.holds_gains_back), "")
    return FlownFlight(
        number=flight.number,
        is_after=is_after,
        metrics=metrics.values,
        errors=metrics.errors,
        window_s=metrics.window_s,
        card_s=card.seconds if card else None,
        is_simulated=flight.is_simulated,
        noise_channel=metrics.noise_channel,
        sample_rate_hz=metrics.sample_rate_hz,
        fault=fault,
        ended=flight.get_ended_display() if flight.ended else "",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class BeforeAfter:
    """Curves of one axis on both sides."""

    before: Overlay | None
    after: Overlay | None


def curves_of(slip: Slip, kind: str, axis: str) -> BeforeAfter:
    """Mean curves of the flights before and after that count: `noise` densities, or `step` responses."""
    counted = [row for row in trial_of(slip).judged if row.counts]
    results = by_flight([row.flight for row in counted], "noise" if kind == "noise" else "response")
    sides: dict[bool, list[tuple[FloatArray, FloatArray]]] = {False: [], True: []}
    for row, (_, own) in zip(counted, results, strict=True):
        if own and (curve := curve_of(own, axis)):
            sides[row.is_after].append(curve)
    return BeforeAfter(before=overlay(sides[False]), after=overlay(sides[True]))


def curve_of(results: FlightResults, axis: str) -> tuple[FloatArray, FloatArray] | None:
    """A flight's step response (ms) where that was loaded, else its noise density (Hz) of one axis; None without it."""
    if results.response is not None:
        step = results.response.steps.get(axis)
        return (1000 * step.t_s, step.response) if step else None
    shown = results.noise.axes[axis].shown if results.noise else None
    return (shown.spectrum.frequency_hz, shown.spectrum.psd_dps2_per_hz) if shown else None
