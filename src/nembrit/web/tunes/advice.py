"""The one next step of a craft, in the same words on every page."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from django.urls import reverse

from nembrit.core.analysis.decision import CHANGE, FLY, MARGIN, NAME, VERIFY, Decision
from nembrit.core.causes.finding import Finding
from nembrit.core.errors import CoreError
from nembrit.core.setup.cards import CARDS
from nembrit.core.tuning.repairs import repair_for
from nembrit.core.wing.trim import UNNAMED
from nembrit.core.wing.trimstep import MOVE, TRIMMED
from nembrit.web.bench import deciding
from nembrit.web.bench.results import act_finding_of, by_flight, evidence_of
from nembrit.web.bench.returns import return_rows
from nembrit.web.bench.trims import next_trim
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import GROUPS, latest_configuration
from nembrit.web.logs.windows import main_segment
from nembrit.web.tunes.guide import step_of
from nembrit.web.tunes.models import Experiment, Slip, Tune
from nembrit.web.tunes.stepping import step_due
from nembrit.web.tunes.steps import in_settings
from nembrit.web.tunes.trials import trial_of

_RECENT, _A_SIDE = 5, 4
_AFTER_STEPS = (Tune.Stage.VERIFY, Tune.Stage.LOCKED)


@dataclass(frozen=True, slots=True, kw_only=True)
class Advice:
    """One step: what and why in a sentence, and where it is done."""

    words: str
    url: str
    label: str  # of the button
    flight: Flight | None = None  # that it rests on
    repair: str = ""  # code of the finding whose repair one press writes down
    note: str = ""
    others: tuple[tuple[str, str], ...] = ()  # what else passes the gate, and where it is written
    lines: str = ""  # the change in the tuner's own settings, to be pasted
    way_back: str = ""
    is_pending: bool = False  # still to be worked out


def advice_of(craft: Craft, *, wait: bool = True) -> Advice:
    """What comes next: an open change first, then the flight's own decision, then what the tune's stage needs.

    Without `wait` a decision that was not worked out yet is only announced.
    """
    tune = craft.tunes.first()
    slips = list(Slip.objects.filter(tune__craft=craft).select_related("decision", "tune__craft").order_by("number"))
    if (slip := next((one for one in slips if one.state == Slip.State.OPEN), None)) is not None:
        return _of_route(slip.tune) or _of_slip(slip) if slip.route_step else _of_slip(slip)
    if (asked := craft.experiments.filter(state=Experiment.State.FLYING).first()) is not None:
        return _of_question(asked)
    flights = list(craft.flights.active()[:_RECENT])
    finding = act_finding_of(by_flight(flights, "judgement"))
    if finding is not None:
        return _of_finding(*finding)
    if tune is not None and tune.route == Tune.Route.STEP_UP and tune.stage not in _AFTER_STEPS and tune.coached:
        step = _settings_missing(craft, "") or _of_route(tune)
        if step is not None:
            return step
    if not flights:
        return _settings_missing(craft, "") or _unflown(craft)
    if craft.kind == Craft.Kind.FIXED_WING:
        return (
            _settings_missing(craft, "")
            or _unnamed(flights[0])
            or _of_trim(craft)
            or _of_return(flights)
            or _of_stage(tune, flights)
        )
    return _of_flight(craft, tune, flights, wait=wait)


def _of_finding(flight: Flight, finding: Finding) -> Advice:
    """Mechanics first; a repair that one press writes down where the finding names one."""
    repair = repair_for([finding])
    return Advice(
        words=f"Mechanics first: {finding.summary.rstrip('.')}", url=flight.get_absolute_url(), flight=flight,
        repair=finding.code if repair else "", label=repair.button if repair else f"Open flight {flight.number}",
    )  # fmt: skip


def _of_slip(slip: Slip) -> Advice:
    trial = trial_of(slip)
    verdict, fault = trial.verdict, trial.fault
    url = slip.get_absolute_url()
    if fault is not None and fault.is_said:
        name = slip.cause_code.replace("_", " ")
        words = f"Decide slip {slip.number}: {name} {fault.in_words}. Keep or undo"
        return Advice(words=words, url=url, label=f"Decide slip {slip.number}")
    if verdict.word == "not_yet":
        return Advice(words=f"Continue slip {slip.number}: {verdict.why}", url=url, label=f"Open slip {slip.number}")
    return Advice(
        words=f"Decide slip {slip.number}: {verdict.sentence}. Keep or undo", url=url, label=f"Decide slip {slip.number}"
    )


def _of_route(tune: Tune) -> Advice | None:
    """The next step of the route by feel; None once everything is tried: then flights and stage decide, as on any route."""
    url = reverse("tunes:step_up", args=[tune.craft_id])
    try:
        step = step_due(tune)
    except CoreError as error:
        return Advice(words=f"Step up by feel: {error}", url=url, label="Open the route")
    if step.kind == "verify":
        return None
    return Advice(words=step.headline, url=url, label="Open the next step", note=step.why.rstrip("."))


def _of_question(asked: Experiment) -> Advice:
    n_left = asked.turns.filter(flight=None, is_skipped=False).count()
    told = f"{n_left} flight{'' if n_left == 1 else 's'} left" if n_left else "rate the flights, then reveal the result"
    return Advice(words=f"Continue “{asked.question}”: {told}", url=asked.get_absolute_url(), label="Open the comparison")


def _settings_missing(craft: Craft, why: str) -> Advice | None:
    if craft.configurations.exists():
        return None
    words = f"{why} Save the settings first, then write it as a slip" if why else "Save the current settings"
    return Advice(words=words, url=reverse("hangar:configuration_new", args=[craft.pk]), label="Save the settings")


def _unflown(craft: Craft) -> Advice:
    card = "it" if craft.kind == Craft.Kind.FIXED_WING else "the half-minute card"
    return Advice(words=f"Fly {card} and attach the log", url=craft.get_absolute_url(), label=f"Open {craft.name}")


def _of_stage(tune: Tune | None, flights: list[Flight]) -> Advice:
    """What the tune's stage needs."""
    if tune is None:
        craft = flights[0].craft
        return Advice(words="Write the next slip", url=reverse("tunes:slip_new", args=[craft.pk]), label="Write a slip")
    words, url = step_of(tune)
    if "/slips/new/" in url:
        return Advice(words=words, url=url, label="Write this slip")
    is_tune = url.startswith(reverse("tunes:tune", args=[tune.craft_id]))
    return Advice(words=words, url=url, label="Open the tune" if is_tune else f"Open {tune.craft.name}")


def _of_flight(craft: Craft, tune: Tune | None, flights: list[Flight], *, wait: bool) -> Advice:
    flight = deciding.deciding_flight(craft)
    if flight is None:
        latest = latest_configuration(craft)
        card = reverse("flights:card", args=["response"])
        return Advice(
            words=f"The settings {latest} are not flown yet: fly them first, close and low",
            url=card,
            label="Open the card to fly",
        )
    evidence = evidence_of(flight, *deciding.NEEDED)
    results = evidence.results
    if results is None and evidence.job is not None and evidence.job.is_unfinished:
        return _pending(flight)
    if results is None:  # it has no log, or one that cannot be analysed
        return _settings_missing(craft, "") or _of_stage(tune, flights)
    decision = deciding.decision_of(flight, results) if wait else deciding.kept_decision(flight)
    if decision is None:
        return _pending(flight)
    if tune is not None and tune.stage == Tune.Stage.LOCKED and decision.rank != MARGIN:
        return _of_stage(tune, flights)
    if tune is not None and decision.is_comfort and _waits(tune, flight):
        # what may as well stay as it is waits until there is something to compare it with, and not beyond the last change
        steps = (decision, *decision.alternatives)
        return replace(_of_stage(tune, flights), flight=flight, others=_written(craft, flight, steps, first=0))
    return _of_decision(craft, tune, flight, decision)


def _unnamed(flight: Flight) -> Advice | None:
    """A plane's log with modes as numbers: trims and returns wait for their names."""
    ((_, own),) = by_flight([flight], "wing")
    segment = main_segment(flight)
    reason = own.wing.reasons.get("trim", "") if own is not None and own.wing is not None else ""
    if segment is None or not reason.startswith(UNNAMED):
        return None
    url = f"{reverse('intake:meanings', args=[segment.log_id])}#modes"
    return Advice(
        words=f"Name the flight modes of flight {flight.number}, so that trims and returns can be judged",
        url=url,
        label="Name the modes",
    )


def _of_trim(craft: Craft) -> Advice | None:
    """A plane's next trim step, while there is one."""
    step = next_trim(craft)
    if step is None or step.kind == TRIMMED:
        return None
    words, note = f"{step.headline}. {step.why[0]}".rstrip("."), step.expect.rstrip(".")
    if step.kind == MOVE:
        url = f"{reverse('tunes:slip_new', args=[craft.pk])}?group=trim"
        moves = "; ".join(move.in_words for move in step.moves)
        return Advice(words=words, url=url, label="Write this slip: Trim", note=moves)
    if not step.card:
        return Advice(words=words, url=craft.flights.active()[0].get_absolute_url(), label="Open the newest flight", note=note)
    url = reverse("flights:card", args=[step.card])
    return Advice(words=words, url=url, label="Open the card to fly", note=note)


def _of_return(flights: list[Flight]) -> Advice | None:
    """A newest return that failed: nothing is tuned on until it is flown anew."""
    for flight, own in by_flight(flights, "wing"):
        rows = return_rows(flight, own.wing) if own is not None and own.wing is not None else []
        if rows:
            if rows[-1]["passed"] is not False:
                return None
            words = f"Return of flight {flight.number}. {rows[-1]['says']}"
            return Advice(words=words, url=reverse("bench:return", args=[flight]), label="Open the return", flight=flight)
    return None


def _waits(tune: Tune, flight: Flight) -> bool:
    return tune.stage == Tune.Stage.VERIFY or (tune.stage == Tune.Stage.BASELINE and bool(_baseline_note(flight)))


def _pending(flight: Flight) -> Advice:
    url = flight.get_absolute_url()
    words = f"Flight {flight.number} is attached: see its result"
    return Advice(words=words, url=url, label=f"Open flight {flight.number}", flight=flight, is_pending=True)


def _of_decision(craft: Craft, tune: Tune | None, flight: Flight, decision: Decision) -> Advice:
    if decision.kind == CHANGE:
        if (missing := _settings_missing(craft, decision.why)) is not None:
            return missing
        write = reverse("tunes:slip_new", args=[craft.pk])
        others = _written(craft, flight, decision.alternatives, first=1)
        latest = latest_configuration(craft)
        told = in_settings(craft, latest, decision) if latest else None
        if told is not None and not told.values:
            return Advice(
                words=decision.why.rstrip("."), url=reverse("hangar:names", args=[craft.pk]), label="Name your settings",
                flight=flight, note=told.in_ratios,
            )  # fmt: skip
        return Advice(
            words=decision.why.rstrip("."), url=f"{write}?{deciding.query_of(flight, decision)}", flight=flight, others=others,
            label=f"Write this slip: {GROUPS.get(decision.group or '', '')}", note=_baseline_note(flight),
            lines=told.lines if told else "", way_back=told.way_back if told else "",
        )  # fmt: skip
    if decision.kind == NAME:
        name = "hangar:names" if craft.configurations.exists() else "hangar:configuration_new"
        url = reverse(name, args=[craft.pk])
        return Advice(words=decision.why.rstrip("."), url=url, label="Mark the filter settings", flight=flight)
    if decision.kind == FLY:
        card = next((one for one in CARDS if one.key == decision.card), CARDS[0])
        url = reverse("flights:card", args=[card.key])
        return Advice(words=decision.why.rstrip("."), url=url, label=f"Open “{card.name}”", flight=flight)
    assert decision.kind == VERIFY
    if (missing := _settings_missing(craft, "")) is not None:
        return missing
    found = _of_stage(tune, [flight])
    return Advice(
        words=f"{decision.why.removesuffix(' Verify it.')} {found.words}", url=found.url, label=found.label, flight=flight
    )


def _written(craft: Craft, flight: Flight, steps: Sequence[Decision], *, first: int) -> tuple[tuple[str, str], ...]:
    """Changes in words, each with the address of its slip."""
    write = reverse("tunes:slip_new", args=[craft.pk])
    return tuple((one.why, f"{write}?{deciding.query_of(flight, one, place)}") for place, one in enumerate(steps, start=first))


def _baseline_note(flight: Flight) -> str:
    """How far a change could be proved: it takes as many flights before it as after it."""
    if not flight.card_key or flight.configuration is None:
        return ""
    alike = flight.craft.flights.active().filter(card_key=flight.card_key, configuration=flight.configuration)
    n_flown = alike.filter(build_entry=flight.build_entry).count()
    if n_flown >= _A_SIDE:
        return ""
    return f"{n_flown} of {_A_SIDE} flights before the change: fewer than {_A_SIDE} cannot prove its effect"
