"""The tune told in order: outcomes by stage for the track, and the ledger of everything that happened."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from nembrit.core.trials.metrics import metric_kind
from nembrit.core.trials.trial import WORDS
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Decision, Experiment, Slip, Tune
from nembrit.web.tunes.services import metric_label, stage_of
from nembrit.web.tunes.trials import record_from


def outcome_line(decision: Decision) -> str:
    """“better (motion noise, roll −88 %)”: the verdict as it stood when decided, and the number that judged."""
    record = record_from(decision.trial)
    word = WORDS[record.verdict.word] if record else ""
    if record and record.fault and record.fault.is_said and not record.fault.n_with:
        word = "the fault is gone"
    primary = next((metric for metric in decision.comparison.get("metrics", ()) if metric["primary"]), None)
    if primary is None or primary["change_pct"] is None:
        return "before a verdict"
    kind = metric_kind(primary["name"])
    unit = "points" if kind and kind.scale == "linear" else "%"
    told = f"{metric_label(primary['name'])} {primary['change_pct']:+.0f} {unit}".replace("-", "\u2212")
    return f"{word} ({told})" if word else told


@dataclass(frozen=True, slots=True, kw_only=True)
class Station:
    """One stage on the track."""

    key: str
    label: str
    state: str  # done, open or ahead
    outcome: str


@while_unchanged
def track(tune: Tune) -> list[Station]:
    """The stages as stations, the outcome of each below."""
    stages = [stage for stage in Tune.Stage if stage != Tune.Stage.TRIM or tune.craft.kind == Craft.Kind.FIXED_WING]
    at = stages.index(Tune.Stage(tune.stage)) if tune.stage in stages else 0
    outcomes = {Tune.Stage.BASELINE: _baseline_line(tune)} | _outcomes(tune)
    return [
        Station(
            key=stage,
            label=stage.label,
            state="done" if position < at else "open" if position == at else "ahead",
            outcome=outcomes.get(stage, ""),
        )
        for position, stage in enumerate(stages)
    ]


def _baseline_line(tune: Tune) -> str:
    reference = tune.craft.configurations.filter(is_reference=True).first()
    return f"{reference} is the reference" if reference else "no configuration yet"


def _outcomes(tune: Tune) -> dict[str, str]:
    lines: dict[str, str] = {}
    for slip in tune.slips.select_related("decision").order_by("number"):
        stage = stage_of(slip.group)
        if slip.state == Slip.State.OPEN:
            lines[stage] = f"slip {slip.number} flying"
        elif slip.state == Slip.State.KEPT:
            lines[stage] = outcome_line(slip.decision)
        else:
            lines.setdefault(stage, f"slip {slip.number} undone")
    return lines


KINDS = {
    "slip": "slips and questions",
    "decision": "decisions",
    "flights": "flights",
    "configuration": "settings",
    "build": "build entries",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class LedgerLine:
    """One event of a tune."""

    at: datetime
    kind: str  # configuration, build, flights, slip, decision
    text: str
    detail: str = ""
    url: str = ""
    flights: tuple[Flight, ...] = ()


@while_unchanged
def ledger(tune: Tune) -> list[LedgerLine]:
    """Everything that happened in a tune's time, newest first; flights in a row with the same configuration share a line.

    The first tune has all that came before it, too.
    """
    first, last = _time_of(tune)
    return [line for line in _whole_ledger(tune) if (first is None or line.at >= first) and (last is None or line.at < last)]


def _time_of(tune: Tune) -> tuple[datetime | None, datetime | None]:
    """When a tune began and when the next one did; nothing for the ends."""
    others = tune.craft.tunes
    following = others.filter(pk__gt=tune.pk).order_by("pk").first()
    is_first = not others.filter(pk__lt=tune.pk).exists()
    return None if is_first else tune.started_at, following.started_at if following else None


def _whole_ledger(tune: Tune) -> list[LedgerLine]:
    craft = tune.craft
    lines = [
        LedgerLine(at=row.created_at, kind="configuration", text=f"{row} saved ({row.get_source_display()})", detail=row.note,
                   url=row.get_absolute_url())
        for row in craft.configurations.all()
    ]  # fmt: skip
    lines += [LedgerLine(at=row.made_at, kind="build", text=row.part, detail=row.text) for row in craft.build_entries.all()]
    for slip in tune.slips.select_related("decision"):
        label = f"{metric_label(slip.primary_metric)} should go {'down' if slip.direction == 'lower' else 'up'}"
        label += ", confounded: two groups at once" if slip.confounded else ""
        lines.append(
            LedgerLine(
                at=slip.created_at,
                kind="slip",
                text=f"Slip {slip.number}: {slip.title}",
                detail=label,
                url=slip.get_absolute_url(),
            )
        )
        lines += [_look_line(slip, one) for one in slip.looks] + [_reopened_line(slip, one) for one in slip.reopened]
        if slip.state != Slip.State.OPEN:
            decision = slip.decision
            text = f"Slip {slip.number} {decision.get_outcome_display()}: {outcome_line(decision)}"
            lines.append(
                LedgerLine(at=decision.decided_at, kind="decision", text=text, detail=decision.note, url=slip.get_absolute_url())
            )
    if tune.locked_at:
        why = f"although: {tune.lock_note}" if tune.lock_note else tune.verification.get("sentence", "")
        lines.append(LedgerLine(at=tune.locked_at, kind="decision", text=f"{tune.locked_configuration} locked in", detail=why))
    lines += [line for one in craft.experiments.select_related("kept_arm") for line in _question_lines(one)]
    lines += _flight_lines(craft)
    return sorted(lines, key=lambda line: line.at, reverse=True)


def _look_line(slip: Slip, one: dict[str, Any]) -> LedgerLine:
    text = f"Slip {slip.number}: numbers looked at early, {one['before']} + {one['after']} flights flown"
    return LedgerLine(at=datetime.fromisoformat(one["at"]), kind="slip", text=text, url=slip.get_absolute_url())


def _reopened_line(slip: Slip, one: dict[str, Any]) -> LedgerLine:
    text = f"Slip {slip.number} reopened; it was {Decision.Outcome(one['outcome']).label}"
    at = datetime.fromisoformat(one["at"])
    return LedgerLine(at=at, kind="decision", text=text, detail=one["why"], url=slip.get_absolute_url())


def _question_lines(asked: Experiment) -> list[LedgerLine]:
    """When a question was asked, and when it was revealed or cancelled."""
    url = asked.get_absolute_url()
    lines = [LedgerLine(at=asked.made_at, kind="slip", text=f"Question {asked.number}: {asked.question}", url=url)]
    if asked.revealed_at:
        text = f"Question {asked.number} {asked.get_state_display()}"
        text += f", {asked.kept_arm} kept" if asked.kept_arm else ""
        lines.append(LedgerLine(at=asked.revealed_at, kind="decision", text=text, detail=asked.note, url=url))
    return lines


def _flight_lines(craft: Craft) -> list[LedgerLine]:
    groups: list[list[Flight]] = []
    for flight in craft.flights.active().select_related("configuration", "build_entry").order_by("flown_at", "number"):
        last = groups[-1][-1] if groups else None
        if last and (last.configuration_id, last.build_entry_id, last.flown_at.date()) == (
            flight.configuration_id, flight.build_entry_id, flight.flown_at.date()
        ):  # fmt: skip
            groups[-1].append(flight)
        else:
            groups.append([flight])
    return [
        LedgerLine(
            at=group[-1].flown_at,
            kind="flights",
            text=f"{len(group)} flight{'s' if len(group) > 1 else ''} with {group[0].configuration or 'unknown settings'}",
            flights=tuple(group),
        )
        for group in groups
    ]
