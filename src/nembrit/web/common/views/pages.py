"""Jobs, the style sheet of components, help, and error pages."""

import sys

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from nembrit import __version__
from nembrit.web.common import jobs
from nembrit.web.common.database import sentence_of
from nembrit.web.common.glossary import glossary
from nembrit.web.common.lan import is_own_computer
from nembrit.web.common.models import Job


@require_safe
def job_panel(request: HttpRequest, job_id: int) -> HttpResponse:
    """Progress of one job; when it ends the page that waits for it is told, and swaps its content."""
    job = get_object_or_404(Job, pk=job_id)
    response = render(request, "common/_job_panel.html", {"job": job})
    if job.state == Job.State.DONE and request.headers.get("HX-Request"):
        response["HX-Trigger-After-Swap"] = "nembrit:job-done"
    return response


@require_POST
def job_cancel(request: HttpRequest, job_id: int) -> HttpResponse:
    jobs.cancel_job(_job_of(request, job_id))
    return job_after_post(request, job_id)


@require_POST
def job_retry(request: HttpRequest, job_id: int) -> HttpResponse:
    job = jobs.retry_job(_job_of(request, job_id))
    return job_after_post(request, job.pk)


def _job_of(request: HttpRequest, job_id: int) -> Job:
    """A job that this sender may act on: what only the computer itself may begin, only it may cancel or repeat."""
    job = get_object_or_404(Job, pk=job_id)
    if jobs.is_owners(job.kind) and not is_own_computer(request):
        raise PermissionDenied
    return job


def job_after_post(request: HttpRequest, job_id: int) -> HttpResponse:
    job = get_object_or_404(Job, pk=job_id)
    return render(request, "common/_job_panel.html", {"job": job})


@require_safe
def style(request: HttpRequest) -> HttpResponse:
    """Every component with sample data."""
    sample = Job(
        pk=0, kind="sample", subject_id=0, label="Reading juniper-14.csv", state="failed", error="row 12: sample of a failure"
    )
    return render(request, "common/style.html", {"sample_job": sample, "chart_url": reverse("common:style_chart")})


@require_safe
def about(request: HttpRequest) -> HttpResponse:
    """What Nembrit is, its keys, its words and its cautions."""
    return render(request, "common/about.html", {"version": __version__, "glossary": glossary()})


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    return _error(request, 400, "That request could not be understood", "Nothing was changed. Go back and try again.")


def forbidden(request: HttpRequest, exception: Exception) -> HttpResponse:
    return _error(request, 403, "That is not allowed from here", "Nothing was changed.")


def csrf_refused(request: HttpRequest, reason: str = "") -> HttpResponse:
    detail = "The page was too old or came from another site. Nothing was changed: load the page again and repeat the last step."
    return _error(request, 403, "That step was rejected", detail)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    return _error(request, 404, "There is no such page", "It may have been archived, or the address is wrong.")


def server_error(request: HttpRequest) -> HttpResponse:
    """Called while the error is being handled: one of the file or its disk is named."""
    known = sentence_of(sys.exc_info()[1])
    if known:
        status, sentence = known
        content = render_to_string("common/error.html", {"title": "The workshop cannot be used just now", "detail": sentence})
        return HttpResponse(content, status=status)  # without the request: its context would ask the database again
    detail = "An error in Nembrit. Everything saved before is safe; what you just sent was not saved."
    return _error(request, 500, "Something went wrong", detail)


def _error(request: HttpRequest, status: int, title: str, detail: str) -> HttpResponse:
    return render(request, "common/error.html", {"title": title, "detail": detail}, status=status)
