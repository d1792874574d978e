"""What a new slip could change: the changes that the craft's flights propose, the best first."""

from collections.abc import Iterator
from dataclasses import dataclass

from django.http import QueryDict
from django.urls import reverse

from nembrit.core.errors import CoreError
from nembrit.core.setup.configuration import apply_changes
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.tuning.ranking import Weighed, ranked, weigh
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import GROUPS, core_settings, latest_configuration
from nembrit.web.tunes.predictions import predict
from nembrit.web.tunes.proposals import Proposal, proposal
from nembrit.web.tunes.services import suggested

_MULTIROTOR = ("gyro_filters", "d_filters", "pd.roll", "pd.pitch", "pd.yaw", "i", "feed_forward")
_WING = ("trim", "navigation", "feed_forward", "pd.roll", "pd.pitch", "i")


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """One change with what it should win and what it risks."""

    group: str
    label: str
    title: str
    wins: str
    url: str
    is_advised: bool  # the one next step of the craft


@while_unchanged
def offers_of(craft: Craft, advised_url: str = "") -> list[Offer]:
    """Every group that a flight proposes new values for: the advised one first, then by what each should win."""
    latest = latest_configuration(craft)
    if latest is None:
        return []
    found = list(_proposed(craft, latest))
    order = ranked([weighed for _, _, weighed in found])
    offers = [_offer(craft, *found[place], advised_url) for place in order]
    return sorted(offers, key=lambda one: not one.is_advised)


def _proposed(craft: Craft, latest: Configuration) -> Iterator[tuple[str, Proposal, Weighed]]:
    for group in _WING if craft.kind == Craft.Kind.FIXED_WING else _MULTIROTOR:
        try:
            made = proposal(craft, latest, group, QueryDict())
        except CoreError:  # what one bench cannot answer says nothing about the others
            continue
        if made is not None and made.values:
            yield group, made, _weighed(craft, latest, group, made)


def _weighed(craft: Craft, latest: Configuration, group: str, made: Proposal) -> Weighed:
    start = suggested(group, craft.kind) | made.text
    limits = tuple(
        Limit(metric=start[f"limit_metric_{place}"], most=float(start[f"limit_most_{place}"]) / 100)
        for place in (1, 2, 3)
        if start.get(f"limit_metric_{place}") and start.get(f"limit_most_{place}")
        and start[f"limit_metric_{place}"] != start["primary_metric"]
    )  # fmt: skip
    plan = Plan(primary=Primary(metric=start["primary_metric"], direction=start["direction"]), limits=limits)
    told = (
        {} if craft.kind == Craft.Kind.FIXED_WING else predict(craft, latest, apply_changes(core_settings(latest), made.values))
    )
    return weigh(told.get("metrics", {}), plan, is_stable=told.get("stable", True))


def _offer(craft: Craft, group: str, made: Proposal, weighed: Weighed, advised_url: str) -> Offer:
    url = f"{reverse('tunes:slip_new', args=[craft.pk])}?group={group}"
    is_advised = f"group={group.replace('.', '%2E')}" in advised_url or f"group={group}&" in f"{advised_url}&"
    wins = weighed.words if weighed.gain is not None else str(made.text.get("why", ""))
    return Offer(
        group=group, label=GROUPS.get(group, group), title=str(made.text.get("title", "")), wins=wins,
        url=advised_url if is_advised else url, is_advised=is_advised,
    )  # fmt: skip
