"""Live telemetry of a craft, its recordings, and its settings over the link."""

import time
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.fields import number, row_number
from nembrit.web.common.lan import is_own_computer
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.telemetry import link, meanings, pages, recordings, standin, streaming
from nembrit.web.telemetry.forms import SourceForm
from nembrit.web.telemetry.models import Recording


def _owner_only(request: HttpRequest) -> None:
    """Phones of the local network watch and mark; sources and settings are the owner's."""
    if not is_own_computer(request):
        raise Http404


def _sentence(error: CoreError) -> str:
    return f"{str(error)[:1].upper()}{str(error)[1:]}."


@require_safe
def live(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Values, traces, alarms and the map of what is recorded now."""
    craft = get_object_or_404(Craft, pk=craft_id)
    return render(request, "telemetry/live.html", pages.live_of(craft, is_owner=is_own_computer(request)))


@require_safe
def stream(request: HttpRequest, craft_id: int) -> HttpResponseBase:
    craft = get_object_or_404(Craft, pk=craft_id)
    going = recordings.present(craft)
    source = recordings.source_of(craft)
    last = streaming.place_of(request.headers.get("Last-Event-ID", ""))
    content = (
        recordings.nothing()
        if going is None
        else streaming.events(recordings.folder_of(going), last, craft=craft, capacity_mah=source.capacity_mah)
    )
    response = StreamingHttpResponse(content, content_type="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


@require_POST
def begin(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    try:
        recordings.begin(craft)
    except CoreError as error:
        messages.error(request, f"Nothing is recorded. {_sentence(error)}")
    return redirect("telemetry:live", craft.pk)


@require_POST
def end(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    going = recordings.present(craft)
    if going is None:
        return redirect("telemetry:live", craft.pk)
    log = recordings.end(going)
    if log is None:
        messages.error(request, "Stopped. Nothing was received, so there is no log.")
    else:
        messages.success(request, "Stopped. The recording is read as a log.")
    return redirect(going)


@require_POST
def mark(request: HttpRequest, craft_id: int) -> HttpResponse:
    going = recordings.present(get_object_or_404(Craft, pk=craft_id))
    if going is None:
        return HttpResponse("Nothing is recorded.", status=409, content_type="text/plain")
    recordings.mark(going, request.POST.get("what", ""))
    return HttpResponse(status=204)


@require_POST
def acknowledge(request: HttpRequest, craft_id: int) -> HttpResponse:
    going = recordings.present(get_object_or_404(Craft, pk=craft_id))
    if going is None:
        return HttpResponse("Nothing is recorded.", status=409, content_type="text/plain")
    try:
        recordings.acknowledge(going, request.POST.get("key", ""))
    except CoreError as error:
        return HttpResponse(_sentence(error), status=400, content_type="text/plain")
    return HttpResponse(status=204)


@require_http_methods(["GET", "POST"])
def source(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Where it comes from; *Test* listens for three seconds and says what it understood."""
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    own = recordings.source_of(craft)
    form = SourceForm(request.POST or None, instance=own)
    context: dict[str, Any] = {"craft": craft, "form": form}
    if request.method == "POST" and form.is_valid():
        saved = form.save()
        if "test" not in request.POST:
            messages.success(request, "The source is saved.")
            return redirect("telemetry:live", craft.pk)
        context["tested"] = pages.tested(saved, busy=recordings.present(craft) is not None)
    return render(request, "telemetry/source.html", context, status=400 if form.errors else 200)


@require_http_methods(["GET", "POST"])
def columns(request: HttpRequest, craft_id: int) -> HttpResponse:
    """What the columns of the source mean: as recognised, or as the tuner says; also while it is being recorded."""
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    problem = ""
    if request.method == "POST":
        try:
            meanings.save(craft, request.POST)
        except CoreError as error:
            problem = _sentence(error)
        else:
            messages.success(request, "Meanings saved for this source and its logs.")
            return redirect("telemetry:columns", craft.pk)
    context = {"craft": craft, "rows": meanings.rows_of(craft, request.POST), "groups": meanings.GROUPS, "problem": problem}
    return render(request, "telemetry/columns.html", context, status=400 if problem else 200)


@require_http_methods(["GET", "POST"])
def alarms(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    told = ""
    if request.method == "POST":
        try:
            rows = [
                (
                    key,
                    f"on-{key}" in request.POST,
                    _typed(request.POST.get(f"limit-{key}", ""), "a limit", factor),
                    _typed(request.POST.get(f"delay-{key}", ""), "a delay", 1.0),
                )
                for key, factor in pages.ALARM_FACTORS.items()
            ]
            recordings.save_alarms(craft, rows)
        except (CoreError, ValueError) as error:
            told = f"{str(error)[:1].upper()}{str(error)[1:]}."
        else:
            messages.success(request, "Alarms saved. They apply from the next recording.")
            return redirect("telemetry:live", craft.pk)
    context = {"craft": craft, "rows": pages.alarm_rows(craft), "told": told}
    return render(request, "telemetry/alarms.html", context, status=400 if told else 200)


@require_POST
def stand_in(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Start the stand-in, make it fly, or end it."""
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    do = request.POST.get("do", "start")
    try:
        if do == "start":
            standin.start(craft)
            recordings.begin(craft)
            _wait_for_link(craft)
            messages.success(request, "The stand-in is on. It sends telemetry and waits on the ground.")
        elif do == "fly":
            link.fly(craft)
            messages.success(request, "The stand-in takes off.")
        else:
            standin.stop(craft)
            messages.success(request, "The stand-in is switched off.")
    except CoreError as error:
        messages.error(request, _sentence(error))
    return redirect("telemetry:live", craft.pk)


def _wait_for_link(craft: Craft) -> None:
    """Raises InputError where it does not answer within some seconds."""
    for attempt in range(30):
        try:
            link.ask(craft, "read")
            return
        except CoreError:
            if attempt == 29:
                raise
            time.sleep(0.3)


@require_http_methods(["GET", "POST"])
def link_page(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Settings over the link: read, keep, write, save, restart, and the on-board log."""
    craft = get_object_or_404(Craft, pk=craft_id)
    _owner_only(request)
    if request.method == "POST":
        try:
            messages.success(request, pages.linked(craft, request.POST.get("do", ""), request.POST))
        except CoreError as error:
            messages.error(request, _sentence(error))
        return redirect("telemetry:link", craft.pk)
    chosen = Configuration.objects.filter(craft=craft, pk=row_number(request.GET.get("to", "")) or 0).first()
    return render(request, "telemetry/link.html", pages.link_of(craft, chosen))


def _typed(text: str, name: str, factor: float) -> float | None:
    return number(text, name) * factor if text.strip() else None


@require_safe
def recording(request: HttpRequest, recording_id: int) -> HttpResponse:
    """One recording: what came, its alarms and markers, its log, and the flight that it belongs to."""
    one = get_object_or_404(Recording.objects.select_related("craft", "log", "flight"), pk=recording_id)
    return render(request, "telemetry/recording.html", pages.recording_of(one))


@require_POST
def join(request: HttpRequest, recording_id: int) -> HttpResponse:
    one = get_object_or_404(Recording, pk=recording_id)
    _owner_only(request)
    flight = get_object_or_404(Flight, pk=row_number(request.POST.get("flight", "")) or 0)
    try:
        recordings.join(one, flight)
    except CoreError as error:
        messages.error(request, _sentence(error))
    else:
        messages.success(request, f"The recording belongs to flight {flight.number} now.")
    return redirect(reverse("telemetry:recording", args=[one.pk]))
