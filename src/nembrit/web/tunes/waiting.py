"""Slips that wait: written, not flown yet, the most promising first."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Max

from nembrit.core.errors import CoreError
from nembrit.core.setup.configuration import apply_changes, diff_settings
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.tuning.ranking import Weighed, ranked, weigh
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import core_settings, latest_configuration
from nembrit.web.tunes.models import Tune, WaitingSlip
from nembrit.web.tunes.predictions import predict, require_gate
from nembrit.web.tunes.services import SlipText, changed_settings


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One slip that waits, with what speaks for it."""

    slip: WaitingSlip
    weighed: Weighed
    stale: str  # why its prediction no longer holds


@transaction.atomic
def keep(
    tune: Tune, *, group: str, also: str, text: SlipText, values: Mapping[str, str], part: str, confounded: str
) -> WaitingSlip:
    """Keep a slip for later, only what it changes. Raises InputError for one that could not be flown."""
    latest = latest_configuration(tune.craft)
    limits = [{"metric": one.metric, "most": one.most} for one in text.plan.limits]
    fields = {name: getattr(text, name) for name in SlipText.__dataclass_fields__ if name != "limits"} | {"limits": limits}
    kept: dict[str, str] = {}
    prediction: dict[str, Any] = {}
    if group != "hardware" and latest is not None:
        after = changed_settings(latest, (group, also), values)
        kept = {one.name: one.after or "" for one in diff_settings(core_settings(latest), after)}
        require_gate(tune.craft, core_settings(latest), after, text.beyond)
        prediction = predict(tune.craft, latest, after)
    number = (tune.waiting.aggregate(top=Max("number"))["top"] or 0) + 1
    return WaitingSlip.objects.create(
        tune=tune, number=number, group=group, also=also, part=part, confounded=confounded, text=fields, values=kept,
        prediction=prediction, base_configuration=latest,
    )  # fmt: skip


@while_unchanged
def lines(tune: Tune) -> list[Line]:
    """Those that wait, the most promising first."""
    own = list(tune.waiting.select_related("base_configuration"))
    latest = latest_configuration(tune.craft)
    weighed = [
        weigh(one.prediction.get("metrics", {}), plan_of(one), is_stable=one.prediction.get("stable", True)) for one in own
    ]
    return [Line(slip=own[place], weighed=weighed[place], stale=_stale(own[place], latest)) for place in ranked(weighed)]


def plan_of(slip: WaitingSlip) -> Plan:
    limits = tuple(Limit(**one) for one in slip.text["limits"])
    return Plan(primary=Primary(metric=slip.text["primary_metric"], direction=slip.text["direction"]), limits=limits)


def _stale(slip: WaitingSlip, latest: Configuration | None) -> str:
    base = slip.base_configuration
    if slip.group == "hardware" or base is None or latest is None or base.pk == latest.pk:
        return ""
    if not diff_settings(core_settings(base), core_settings(latest)):
        return ""
    return f"predicted beside {base}; the settings are {latest} now"


def predict_anew(tune: Tune) -> None:
    """Predict those that wait beside the settings of now; what cannot be told keeps no prediction."""
    latest = latest_configuration(tune.craft)
    for slip in tune.waiting.exclude(group="hardware"):
        if latest is None or not _stale(slip, latest):
            continue
        try:
            slip.prediction = predict(tune.craft, latest, apply_changes(core_settings(latest), slip.values))
        except CoreError:  # a setting of it is gone
            slip.prediction = {}
        slip.base_configuration = latest
        slip.save(update_fields=("prediction", "base_configuration"))


def filled(slip: WaitingSlip) -> dict[str, Any]:
    """What the form of a slip starts with when it is taken up again."""
    start = {name: value for name, value in slip.text.items() if name != "limits"} | {"part": slip.part}
    for place, one in enumerate(slip.text["limits"], start=1):
        start |= {f"limit_metric_{place}": one["metric"], f"limit_most_{place}": f"{100 * one['most']:g}"}
    return start | {"confounded": slip.confounded}
