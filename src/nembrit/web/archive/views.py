"""Archives given out and taken in."""

from typing import BinaryIO, cast

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.archive import exports
from nembrit.web.archive.forms import GiveForm, TakeForm
from nembrit.web.archive.reading import read_archive
from nembrit.web.common.jobs import latest_jobs
from nembrit.web.common.sending import sent_file
from nembrit.web.hangar.models import Craft


@require_safe
def archive(request: HttpRequest) -> HttpResponse:
    """A craft or the workshop as one file, and such a file taken in."""
    give = GiveForm(initial={"craft": request.GET.get("craft"), "with_places": True})
    jobs = latest_jobs(exports.KINDS, [0, *Craft.objects.values_list("pk", flat=True)])
    context = {"give": give, "take": TakeForm(), "jobs": jobs, "exports": exports.exports()}
    return render(request, "archive/archive.html", context)


@require_POST
def give(request: HttpRequest) -> HttpResponse:
    """Write an archive, beside the other work."""
    form = GiveForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Nothing was exported: choose a craft or the whole workshop.")
        return redirect("archive:archive")
    try:
        exports.begin(form.cleaned_data["craft"], with_places=form.cleaned_data["with_places"])
    except CoreError as error:
        messages.error(request, f"Nothing was exported: {error}.")
    return redirect("archive:archive")


@require_safe
def fetch(request: HttpRequest, name: str) -> HttpResponseBase:
    """Send an archive that lies ready."""
    return sent_file(exports.path_of(name).open("rb"), name=name, media_type="application/zip")


@require_POST
def remove(request: HttpRequest, name: str) -> HttpResponse:
    exports.path_of(name).unlink()
    messages.success(request, f"{name} is removed.")
    return redirect("archive:archive")


@require_POST
def take(request: HttpRequest) -> HttpResponse:
    """Take an archive in: all of it, or nothing."""
    form = TakeForm(request.POST, request.FILES)
    if not form.is_valid():
        messages.error(request, f"Nothing was imported: {' '.join(map(str, form.errors['file']))}")
        return redirect("archive:archive")
    try:
        taken = read_archive(cast(BinaryIO, form.cleaned_data["file"].file))
    except CoreError as error:
        messages.error(request, f"Nothing was imported: {error}.")
        return redirect("archive:archive")
    names = ", ".join(one.name for one in taken.craft) or "no craft"
    other = "; ".join(f"{name} exists already, so the new one is called {here}" for name, here in taken.renamed.items())
    told = f"{names} imported with {taken.n_flights} flight{'' if taken.n_flights == 1 else 's'}."
    messages.success(request, f"{told} {other}.".replace(" .", "") if other else told)
    return redirect("tunes:hangar")
