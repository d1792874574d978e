"""Tunes: slips, the flights that judge them, verdicts and decisions."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from django.db import transaction
from django.db.models import Max

from nembrit.core.analysis.run import FlightResults
from nembrit.core.errors import InputError
from nembrit.core.report.codec import to_json
from nembrit.core.report.documents import comparison_document
from nembrit.core.setup.configuration import Setting, apply_changes, check_change, diff_settings
from nembrit.core.simulate.cures import faults_after
from nembrit.core.trials.counting import unlike
from nembrit.core.trials.metrics import metric_label, metric_names
from nembrit.core.trials.plan import MEASURED, MOST_FLIGHTS, ORDERS, WITH_INTERVAL, Limit, Plan, Primary
from nembrit.core.tuning.repairs import repair_for
from nembrit.core.tuning.suggestions import suggestion_for
from nembrit.web.bench.results import evidence_of, latest_act_finding
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import AS_FLOWN, card_of
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import (
    GROUPS,
    START_GROUPS,
    NamedSetting,
    add_build_entry,
    add_configuration,
    core_settings,
    latest_build,
    latest_configuration,
    named_settings,
)
from nembrit.web.hangar.signals import controller_changed
from nembrit.web.logs.windows import card_flown
from nembrit.web.tunes.models import Answer, Decision, Slip, Tune
from nembrit.web.tunes.predictions import predict, require_gate
from nembrit.web.tunes.trials import record_of, trial_of
from nembrit.web.tunes.wingcare import require_trim_first

_STAGE_OF_GROUP = {
    "hardware": Tune.Stage.MECHANICS,
    "start": Tune.Stage.BASELINE,
    "trim": Tune.Stage.TRIM,
    "gyro_filters": Tune.Stage.FILTERS,
    "d_filters": Tune.Stage.FILTERS,
}


def metric_choices(craft: Craft) -> list[tuple[str, str]]:
    """What changes of this kind of craft are judged by."""
    return [(name, metric_label(name)) for name in metric_names(craft.kind)]


ORDER_CHOICES = list(ORDERS.items())
__all__ = ["MOST_FLIGHTS", "ORDER_CHOICES", "Limit", "metric_label"]  # for forms and pages


def tune_of(craft: Craft) -> Tune:
    """The craft's present tune; every craft has one from the start."""
    found = craft.tunes.first()
    if found is not None:
        return found
    with transaction.atomic():  # two first looks at once make one tune
        return craft.tunes.first() or Tune.objects.create(craft=craft)


def begin_tune(craft: Craft, *, name: str, route: str) -> Tune:
    """The craft's next tune, from its baseline on; earlier ones stay readable. Raises InputError while a slip is open."""
    with transaction.atomic():
        present = tune_of(craft)
        if (open_one := open_slip(present)) is not None:
            raise InputError(f"slip {open_one.number} is still open: decide it first, so it stays in its tune")
        return Tune.objects.create(craft=craft, name=name.strip(), route=route)


def stage_of(group: str) -> str:
    return _STAGE_OF_GROUP.get(group, Tune.Stage.GAINS)


def group_settings(configuration: Configuration, group: str) -> list[NamedSetting]:
    """Settings of one slip group; starting values are those of several."""
    wanted = START_GROUPS if group == "start" else (group,)
    return [setting for setting in named_settings(configuration) if setting.group in wanted]


def groups_of(configuration: Configuration) -> list[tuple[str, str, int]]:
    """Groups that can be changed: key, label, number of settings. Hardware always can."""
    counts: dict[str, int] = {}
    for setting in named_settings(configuration):
        counts[setting.group] = counts.get(setting.group, 0) + 1
    return [(key, label, counts.get(key, 0)) for key, label in GROUPS.items() if counts.get(key) or key == "hardware"]


@dataclass(frozen=True, slots=True, kw_only=True)
class SlipText:
    """What the tuner writes on a slip."""

    title: str
    why: str
    expect: str
    risk: str
    primary_metric: str
    direction: str
    card_key: str = ""
    despite: str = ""  # why settings change although mechanics are at fault
    beyond: str = ""  # why they change although a limit stands against them
    flights_a_side: int = 4
    order: str = "free"
    limits: tuple[Limit, ...] = ()

    @property
    def plan(self) -> Plan:
        """Raises InputError for a trial that cannot be judged."""
        primary = Primary(metric=self.primary_metric, direction=self.direction)
        return Plan(primary=primary, flights_a_side=self.flights_a_side, order=self.order, limits=self.limits)


def suggested(group: str, kind: str = Craft.Kind.MULTIROTOR) -> dict[str, Any]:
    """What the form of a new slip starts with."""
    found = suggestion_for(group, kind)
    start: dict[str, Any] = {
        "primary_metric": found.metric, "direction": found.direction, "card_key": found.card_key, "risk": found.risk,
        "flights_a_side": 4, "order": "free",
    }  # fmt: skip
    if kind == Craft.Kind.FIXED_WING and found.metric.split(".")[0] in WITH_INTERVAL:
        start |= {"flights_a_side": 1, "order": MEASURED}
    for place, limit in enumerate(found.limits, start=1):
        start |= {f"limit_metric_{place}": limit.metric, f"limit_most_{place}": f"{100 * limit.most:g}"}
    return start


def open_slip(tune: Tune) -> Slip | None:
    """The slip that is being flown; only one at a time, so that its flights judge one change."""
    return tune.slips.filter(state=Slip.State.OPEN).first()


class OlderRevision(InputError):
    """The form was filled in beside settings that are no longer the latest."""

    def __init__(self, shown: Configuration | None, latest: Configuration) -> None:
        if shown is None:
            super().__init__(f"the settings changed since this page was opened; the latest are {latest} now")
            return
        changes = diff_settings(core_settings(shown), core_settings(latest))
        told = "; ".join(f"“{one.name}”: {one.before or 'not there'} → {one.after or 'gone'}" for one in changes[:8])
        more = f"; and {len(changes) - 8} more" if len(changes) > 8 else ""
        super().__init__(
            f"the settings changed since this page was opened, from {shown} to {latest} ({told or 'their order'}{more}). "
            "Your values are below, beside the current ones: check them, then save again"
        )


@transaction.atomic
def with_reasons(text: SlipText, given: Mapping[str, str]) -> SlipText:
    """With the reasons that a form gives to fly beyond a limit, or despite a mechanical fault."""
    return replace(text, beyond=given.get("beyond", "").strip()[:300], despite=given.get("despite", "").strip()[:300])


def make_slip(
    tune: Tune,
    *,
    group: str,
    text: SlipText,
    values: Mapping[str, str],
    part: str = "",
    shown_from: int | None = None,
    also: str = "",
    confounded: str = "",
) -> Slip:
    """Write a slip and make the next configuration, or the build entry for hardware.

    `shown_from` is the revision (its row) that the values were typed beside; `also` a second group that changes at once,
    which needs a reason and marks the trial as confounded. Raises OlderRevision if another revision is the latest now;
    InputError if another slip is open, a setting belongs to another group, nothing changes, or mechanics are at fault and
    no reason is given to change settings all the same.
    """
    other = open_slip(tune)
    if other:
        raise InputError(f"slip {other.number} is still open: decide it first, because each flight can judge only one change")
    if tune.stage == Tune.Stage.LOCKED:
        raise InputError("this tune is locked in: start another tune before you change anything")
    if group != "hardware" and (held := latest_act_finding(tune.craft)) and not text.despite.strip():
        raise InputError(
            f"mechanics first: flight {held[0].number} says “{held[1].highlight}”. Fix that first, or give a "
            "reason to change settings anyway"
        )
    plan = text.plan
    require_groups(group, also, confounded)
    base, build = latest_configuration(tune.craft), latest_build(tune.craft)
    if base is not None and shown_from is not None and base.pk != shown_from:
        raise OlderRevision(tune.craft.configurations.filter(pk=shown_from).first(), base)
    number = (tune.slips.aggregate(top=Max("number"))["top"] or 0) + 1
    slip = Slip(tune=tune, number=number, group=group, base_configuration=base, base_build=build, **_columns(text))
    slip.also, slip.confounded = also, confounded.strip()[:300] if also else ""
    slip.limits = [{"metric": limit.metric, "most": limit.most} for limit in plan.limits]
    if group == "hardware":
        if not part.strip():
            raise InputError("name the part that is changed")
        faults = faults_after(build.simulated_faults if build else {}, f"{part} {text.title}")
        slip.result_build = add_build_entry(tune.craft, part=part.strip(), text=text.title, faults=faults)
    else:
        if base is None:
            raise InputError("no settings saved yet: save the current ones first")
        require_trim_first(base, values, text.despite)
        changed = changed_settings(base, (group, also), values)
        require_gate(tune.craft, core_settings(base), changed, text.beyond)
        slip.result_configuration = add_configuration(base.craft, changed, source=Configuration.Source.SLIP, note=text.title)
        slip.prediction = predict(tune.craft, base, core_settings(slip.result_configuration))
    slip.save()
    tune.stage = stage_of(group)
    tune.save(update_fields=("stage",))
    return slip


def make_repair(flight: Flight) -> Slip:
    """Write the repair that a flight's finding asks for: build entry, slip, same card, the metric that must fall.

    The flight with the finding is no "before": it was picked for what it showed. All others of its state count by rule.
    Raises InputError where the flight has no such finding.
    """
    results = evidence_of(flight, "judgement").results
    repair = repair_for(results.judgement.findings) if results and results.judgement else None
    if repair is None:
        raise InputError(f"flight {flight.number} has no finding that needs a repair")
    text = SlipText(
        title=repair.title,
        why=f"Flight {flight.number}: {repair.why}.",
        expect="Less noise on the same card.",
        risk="Hovers first, low and close.",
        primary_metric=repair.metric,
        direction="lower",
        card_key=flight.card_key,
    )
    slip = make_slip(tune_of(flight.craft), group="hardware", text=text, values={}, part=repair.part)
    slip.cause_flight, slip.cause_code = flight, repair.code
    slip.save(update_fields=("cause_flight", "cause_code"))
    return slip


def _columns(text: SlipText) -> dict[str, Any]:
    return {name: getattr(text, name) for name in SlipText.__dataclass_fields__ if name != "limits"}


def require_groups(group: str, also: str, confounded: str) -> None:
    """One group, or two with a reason. Raises InputError for others."""
    if group not in GROUPS or (also and also not in GROUPS):
        raise InputError(f"“{group if group not in GROUPS else also}” is no group of settings")
    if not also:
        return
    if "hardware" in (group, also) or also == group:
        raise InputError("only two groups of settings can change at once; a part and settings need two slips")
    if not confounded.strip():
        raise InputError("flights cannot separate two changes: give a reason to change both at once")


def changed_settings(base: Configuration, groups: Sequence[str], values: Mapping[str, str]) -> tuple[Setting, ...]:
    """The settings with new values in these groups. Raises InputError for values of others, and where nothing changes."""
    named = [group for group in groups if group]
    allowed = {setting.name for group in named for setting in group_settings(base, group)}
    for name, value in values.items():
        if name not in allowed:
            told = " and ".join(GROUPS[group] for group in named)
            raise InputError(f"“{name}” does not belong to the group {told}: one slip changes one group")
        if not value.strip() or len(value) > 200 or "\n" in value:
            raise InputError(f"“{name}” needs a value")
    settings = core_settings(base)
    present = {setting.name: setting.value for setting in settings}
    for name, value in values.items():
        check_change(name, present[name], value.strip())
    changed = apply_changes(settings, {name: value.strip() for name, value in values.items()})
    differences = diff_settings(settings, changed)
    if not differences:
        raise InputError("no change yet: give at least one setting a new value")
    others = {setting.name for setting in group_settings(base, "other")} if "other" in named else set()
    if sum(change.name in others for change in differences) > 1:
        raise InputError("unnamed settings are changed one at a time; name them to change a group")
    untouched = [
        group for group in named if not {one.name for one in group_settings(base, group)} & {d.name for d in differences}
    ]
    if len(named) > 1 and untouched:
        raise InputError(f"nothing of {GROUPS[untouched[0]]} is changed: use a slip of one group")
    return changed


@transaction.atomic
def extend(slip: Slip, total: int) -> None:
    """Declare that the trial goes on to so many flights per side; the error is shared with the look that was planned.

    Raises InputError where the plan does not allow it, or before the planned flights are flown.
    """
    trial = trial_of(slip)
    if trial.verdict.word == "not_yet":
        raise InputError("a plan can be extended only after its planned flights")
    extended = replace(trial.plan, extensions=(*trial.plan.extensions, total))
    slip.extensions = list(extended.extensions)
    slip.save(update_fields=("extensions",))


def answer(slip: Slip, flight: Flight, use: str, *, why: str = "") -> None:
    """Say that a flight is used or left out, or take an answer back. Raises InputError without a reason where one is due."""
    row = next((one for one in trial_of(slip).judged if one.flight.pk == flight.pk), None)
    if row is None or row.standing is None:
        raise InputError(f"flight {flight.number} is on neither side of slip {slip.number}")
    if use not in ("", *Answer.Use.values):
        raise InputError("an answer is “use it” or “leave it out”")
    is_suggested_out = row.standing.is_open or (row.answer is not None and not row.standing.by_rule)
    follows_rule = (use == "out") == is_suggested_out
    if use and not follows_rule and not why.strip():
        raise InputError("give a reason: an exception to the rule is saved with it, and the verdict must hold without it")
    slip.answers.filter(flight=flight).delete()
    if use:
        slip.answers.create(flight=flight, use=use, why=why.strip()[:200])


def unlike_others(analysed: Sequence[tuple[Flight, FlightResults | None]]) -> dict[int, str]:
    """Flights whose noise is another number than most others', with what differs: nobody should compare them by eye."""
    known = {flight.pk: own.metrics for flight, own in analysed if own is not None and own.metrics is not None}
    return unlike({pk: (own.noise_channel, own.sample_rate_hz) for pk, own in known.items()})


@transaction.atomic
def note_on_flights(flights: list[Flight], **noted: str) -> int:
    """Note card, settings or build on many flights; a card “as flown” is each one's own. How many were changed."""
    by_card: dict[str | None, list[int]] = {}
    as_flown = noted.get("card_key") == AS_FLOWN
    for flight in flights:
        by_card.setdefault(card_flown(flight) if as_flown else noted.get("card_key"), []).append(flight.pk)
    for card_key, numbers in by_card.items():
        fields = {**noted, "card_key": card_key} if "card_key" in noted else noted
        if fields:
            Flight.objects.filter(pk__in=numbers).update(**fields)
    if flights and "configuration" in noted:
        controller_changed.send(sender=Flight, craft=flights[0].craft, flights=[flight.pk for flight in flights])
    return len(flights) if noted else 0


@transaction.atomic
def give_card(slip: Slip) -> int:
    """Note the slip's card on the flights of both sides that have none and did its manoeuvres; how many they were."""
    card = card_of(slip.card_key)
    if card is None:
        raise InputError("this slip names no card")
    flown = [flight for flight in trial_of(slip).without_card if card_flown(flight) == card.key]
    if not flown:
        raise InputError(f"none of them flew the manoeuvres of “{card.name}”: set the card flight by flight in their notes")
    return Flight.objects.filter(pk__in=[flight.pk for flight in flown]).update(card_key=card.key)


@transaction.atomic
def decide(slip: Slip, outcome: str, *, note: str = "") -> Decision:
    """Keep or undo. Undo adds a revision equal to the old one; nothing is deleted.

    Raises InputError if already decided (a double click, or a second window).
    """
    slip = Slip.objects.select_related("tune__craft", "base_configuration").get(pk=slip.pk)
    if slip.state != Slip.State.OPEN:
        raise InputError(f"slip {slip.number} is decided already: {slip.get_state_display()}")
    trial = trial_of(slip)
    comparison = trial.verdict.comparison
    document = comparison_document(comparison) if comparison else {}
    if outcome == Decision.Outcome.UNDO:
        _undo(slip)
    slip.state = Slip.State.UNDONE if outcome == Decision.Outcome.UNDO else Slip.State.KEPT
    slip.save(update_fields=("state",))
    kept = to_json(record_of(trial))
    return Decision.objects.create(slip=slip, outcome=outcome, note=note, comparison=document, trial=kept)


def require_reason(slip: Slip, outcome: str, note: str) -> None:
    """Raises InputError for keeping a change before its planned flights without saying why; undoing never needs a reason."""
    if slip.state != Slip.State.OPEN:
        return
    verdict = trial_of(slip).verdict
    if outcome == Decision.Outcome.KEEP and verdict.word == "not_yet" and not note.strip():
        raise InputError(
            f"only {min(verdict.n_before, verdict.n_after)} of {verdict.n_planned} flights per side are flown: continue, or "
            "give a reason in the note to keep it now"
        )


def _undo(slip: Slip) -> None:
    craft = slip.tune.craft
    if slip.result_build is not None:
        faults = slip.base_build.simulated_faults if slip.base_build else {}
        add_build_entry(
            craft, part=f"{slip.result_build.part}: as it was before", text=f"undo of slip {slip.number}", faults=faults,
            is_return=True, returns_to=slip.base_build,
        )  # fmt: skip
        return
    if slip.base_configuration is None:
        raise InputError("there is nothing to undo")
    note = f"undo of slip {slip.number}"
    add_configuration(craft, core_settings(slip.base_configuration), source=Configuration.Source.UNDO, note=note)
