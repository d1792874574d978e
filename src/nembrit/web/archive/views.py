"""Archives given out and taken in."""

import tempfile
from datetime import UTC, datetime
from typing import BinaryIO, cast

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import redirect, render
from django.utils.text import slugify
from django.views.decorators.http import require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.archive.forms import GiveForm, TakeForm
from nembrit.web.archive.reading import read_archive
from nembrit.web.archive.writing import write_archive
from nembrit.web.common.sending import sent_file


@require_safe
def archive(request: HttpRequest) -> HttpResponse:
    """A craft or the workshop as one file, and such a file taken in."""
    give = GiveForm(initial={"craft": request.GET.get("craft"), "with_places": True})
    return render(request, "archive/archive.html", {"give": give, "take": TakeForm()})


@require_POST
def give(request: HttpRequest) -> HttpResponseBase:
    """Write an archive and hand it out."""
    form = GiveForm(request.POST)
    if not form.is_valid():
        messages.error(request, "Nothing was given out: choose a craft that is here, or the whole workshop.")
        return redirect("archive:archive")
    craft = form.cleaned_data["craft"]
    file = tempfile.TemporaryFile()  # noqa: SIM115 - the answer closes it when it is sent
    try:
        write_archive(file, craft, with_places=form.cleaned_data["with_places"])
    except CoreError as error:
        file.close()
        messages.error(request, f"Nothing was given out: {error}.")
        return redirect("archive:archive")
    file.seek(0)
    name = f"nembrit-{slugify(craft.name) if craft else 'workshop'}-{datetime.now(UTC):%Y%m%d}.zip"
    return sent_file(file, name=name, media_type="application/zip")


@require_POST
def take(request: HttpRequest) -> HttpResponse:
    """Take an archive in: all of it, or nothing."""
    form = TakeForm(request.POST, request.FILES)
    if not form.is_valid():
        messages.error(request, f"Nothing was taken in: {' '.join(map(str, form.errors['file']))}")
        return redirect("archive:archive")
    try:
        taken = read_archive(cast(BinaryIO, form.cleaned_data["file"].file))
    except CoreError as error:
        messages.error(request, f"Nothing was taken in: {error}.")
        return redirect("archive:archive")
    names = ", ".join(one.name for one in taken.craft) or "no craft"
    other = "; ".join(f"{name} is here already, so the new one is called {here}" for name, here in taken.renamed.items())
    told = f"{names} came in with {taken.n_flights} flight{'' if taken.n_flights == 1 else 's'}."
    messages.success(request, f"{told} {other}.".replace(" .", "") if other else told)
    return redirect("tunes:hangar")
