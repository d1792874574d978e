"""What the hangar says of every craft: its stage, its last result, and the one next step."""

from dataclasses import dataclass

from django.db.models import QuerySet
from django.urls import reverse

from nembrit.core.causes.finding import Finding
from nembrit.web.bench.results import act_finding_of, by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.tunes.guide import step_of
from nembrit.web.tunes.history import outcome_line
from nembrit.web.tunes.models import Experiment, Slip, Tune
from nembrit.web.tunes.trials import trial_of

_RECENT = 5


@dataclass(frozen=True, slots=True, kw_only=True)
class OnTheBench:
    """One craft in the hangar."""

    craft: Craft
    stage: str
    next_step: str
    next_url: str
    last_result: str


@while_unchanged
def on_the_bench() -> list[OnTheBench]:
    """Every craft that is not put away."""
    craft = list(Craft.objects.active().counted())
    tunes: dict[int, Tune] = {}
    for tune in Tune.objects.filter(craft__in=craft).order_by("pk"):
        tunes[tune.craft_id] = tune
    slips: dict[int, list[Slip]] = {}
    for slip in Slip.objects.filter(tune__in=tunes.values()).select_related("decision", "tune__craft").order_by("number"):
        slips.setdefault(slip.tune.craft_id, []).append(slip)
    recent = _recent(Flight.objects.active().filter(craft__in=craft))
    judged = dict(by_flight([flight for own in recent.values() for flight in own], "judgement"))
    settled = set(Configuration.objects.filter(craft__in=craft).values_list("craft_id", flat=True))
    found = []
    for one in craft:
        own, flights = slips.get(one.pk, []), recent.get(one.pk, [])
        present = tunes.get(one.pk)
        finding = act_finding_of([(flight, judged[flight]) for flight in flights])
        step, url = _next(one, present, own, finding, one.pk in settled, flights)
        stage = Tune.Stage(present.stage if present else Tune.Stage.BASELINE).label
        if present and present.state != Tune.State.RUNNING:
            stage = f"{stage}, {present.get_state_display()}"
        found.append(OnTheBench(craft=one, stage=stage, next_step=step, next_url=url, last_result=_last(own, flights)))
    return found


@while_unchanged
def next_step(craft: Craft) -> tuple[str, str]:
    """The one next step of a craft, with its reason, and where it is done."""
    flights = list(craft.flights.active()[:_RECENT])
    slips = list(Slip.objects.filter(tune__craft=craft).select_related("decision", "tune__craft").order_by("number"))
    finding = act_finding_of(by_flight(flights, "judgement"))
    return _next(craft, craft.tunes.first(), slips, finding, craft.configurations.exists(), flights)


def _recent(flights: QuerySet[Flight]) -> dict[int, list[Flight]]:
    """The newest flights of each craft, newest first."""
    found: dict[int, list[Flight]] = {}
    for flight in flights.order_by("-number"):
        own = found.setdefault(flight.craft_id, [])
        if len(own) < _RECENT:
            own.append(flight)
    return found


def _next(
    craft: Craft,
    tune: Tune | None,
    slips: list[Slip],
    finding: tuple[Flight, Finding] | None,
    has_settings: bool,
    flights: list[Flight],
) -> tuple[str, str]:
    open_slip = next((slip for slip in slips if slip.state == Slip.State.OPEN), None)
    if open_slip is not None:
        verdict = trial_of(open_slip).verdict
        if verdict.word == "not_yet":
            return f"Fly on for slip {open_slip.number}: {verdict.why}", open_slip.get_absolute_url()
        return f"Decide slip {open_slip.number}: {verdict.sentence}. Keep it or undo it", open_slip.get_absolute_url()
    if (asked := craft.experiments.filter(state=Experiment.State.FLYING).first()) is not None:
        n_left = asked.turns.filter(flight=None, is_skipped=False).count()
        told = f"{n_left} flight{'' if n_left == 1 else 's'} to go" if n_left else "rate what is flown, then reveal it"
        return f"Fly on for “{asked.question}”: {told}", asked.get_absolute_url()
    if finding is not None:
        return f"Cure first: {finding[1].highlight} (flight {finding[0].number})", finding[0].get_absolute_url()
    if not has_settings:
        return "Save its settings as they are now", reverse("hangar:configuration_new", args=[craft.pk])
    if not flights:
        card = "it" if craft.kind == Craft.Kind.FIXED_WING else "the half-minute card"
        return f"Fly {card} and attach the log", craft.get_absolute_url()
    if tune is None:
        return "Write the next change slip", reverse("tunes:slip_new", args=[craft.pk])
    return step_of(tune, flights)


def _last(slips: list[Slip], flights: list[Flight]) -> str:
    decided = [slip for slip in slips if slip.state != Slip.State.OPEN]
    if decided:
        last = decided[-1]
        return f"{last.title}: {last.decision.get_outcome_display()}, {outcome_line(last.decision)}"
    return f"flight {flights[0].number} flown {flights[0].flown_at:%-d %b %Y}" if flights else "nothing flown yet"
