"""Choosing a route: four questions, and what each route would ask of this craft."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.urls import reverse

from nembrit.core.routes.choice import ROUTES, Fit, fits
from nembrit.web.hangar.models import Craft
from nembrit.web.packs.services import tests_that_fit
from nembrit.web.tunes import stepping
from nembrit.web.tunes.models import Tune

_URLS = {Tune.Route.STEP_UP: "tunes:step_up", Tune.Route.SIMILAR: "tunes:starting", Tune.Route.AUTOMATIC: "tunes:automatic"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Offered:
    """One route, with how it fits."""

    key: str
    label: str
    about: str
    fit: Fit
    is_present: bool


def known_of(craft: Craft) -> dict[str, Any]:
    """What the workshop knows of the four questions already."""
    n_flights = craft.flights.active().count()
    n_logged = craft.logs.filter(archived_at=None).count()
    return {
        "flyable": "yes" if n_flights else "unknown", "logger": "yes" if n_logged else "unknown", "automatic": "unknown",
        "n_tests": tests_that_fit(craft, 30.0)[1] or 10, "fine": False,
    }  # fmt: skip


def routes_for(craft: Craft, answers: Mapping[str, Any]) -> list[Offered]:
    """Every route, the best fit first."""
    present = craft.tunes.first()
    found = fits(
        flyable=str(answers["flyable"]), logger=str(answers["logger"]), automatic=str(answers["automatic"]),
        n_tests=int(answers["n_tests"]), is_plane=craft.kind == Craft.Kind.FIXED_WING,
        has_settings=craft.configurations.exists(),
    )  # fmt: skip
    return [
        Offered(key=fit.route, label=ROUTES[fit.route].label, about=ROUTES[fit.route].about, fit=fit,
                is_present=present is not None and present.route == fit.route)
        for fit in found
    ]  # fmt: skip


def take(tune: Tune, route: str, *, fine: bool) -> str:
    """Follow a route from now on; the ledger stays. Where it continues."""
    if route == Tune.Route.STEP_UP:
        stepping.begin(tune, fine=fine)
    elif route == Tune.Route.SIMILAR:  # a start, after which another route continues
        return reverse(_URLS[Tune.Route.SIMILAR], args=[tune.craft_id])
    elif route in Tune.Route.values:
        tune.route = route
        tune.save(update_fields=("route",))
    return reverse(_URLS.get(Tune.Route(tune.route), "tunes:tune"), args=[tune.craft_id])
