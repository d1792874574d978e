"""What a page must go on saying while jobs load it anew."""

import time
from typing import Any

from django.http import HttpRequest

from nembrit.web.common.models import Job

_KEY = "told"
_LONGEST_POLL_S = 20  # a job that has just ended may load the page anew some seconds later


def tell_until_done(request: HttpRequest, texts: list[str], jobs: list[Job]) -> None:
    """Show spectra texts on every page until these jobs and all others of now are done, and once more, or for some seconds."""
    pending = {*(job.pk for job in jobs), *Job.objects.unfinished().values_list("pk", flat=True)}
    request.session[_KEY] = {"texts": texts, "jobs": sorted(pending), "until": time.time() + _LONGEST_POLL_S}


def told_again(request: HttpRequest) -> dict[str, Any]:
    """Context of every page: the texts that are still to be shown."""
    told = request.session.get(_KEY) if hasattr(request, "session") else None
    if not told or request.headers.get("HX-Request"):
        return {}
    is_running = Job.objects.unfinished().filter(pk__in=told["jobs"]).exists()
    if not is_running:
        del request.session[_KEY]
    return {"told_again": told["texts"] if is_running or told["jobs"] or time.time() < told["until"] else []}
