"""What a page must go on saying while jobs are running that will load it anew."""

from typing import Any

from django.http import HttpRequest

from nembrit.web.common.models import Job

_KEY = "told"


def tell_until_done(request: HttpRequest, texts: list[str], jobs: list[Job]) -> None:
    """Show these texts on every page until the jobs are done, and once more after that."""
    request.session[_KEY] = {"texts": texts, "jobs": [job.pk for job in jobs]}


def told_again(request: HttpRequest) -> dict[str, Any]:
    """Context of every page: the texts that are still to be shown."""
    told = request.session.get(_KEY) if hasattr(request, "session") else None
    if not told or request.headers.get("HX-Request"):
        return {}
    if not Job.objects.unfinished().filter(pk__in=told["jobs"]).exists():
        del request.session[_KEY]
    return {"told_again": told["texts"]}
