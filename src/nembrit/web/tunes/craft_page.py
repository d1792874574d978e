"""What the home of a craft shows: its flights with what was found, its settings and builds, and what is under way."""

from typing import Any

from nembrit.web.bench.results import act_finding_of, by_flight, ensure_results
from nembrit.web.common.jobs import latest_jobs
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import Log
from nembrit.web.tunes import history, services
from nembrit.web.tunes.advice import advice_of

_FLIGHTS, _CONFIGURATIONS, _BUILDS = 60, 8, 6


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
        "flights": analysed,
        "unlike": services.unlike_others(analysed),
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
