"""The pages of one log: what it can answer, its window, manoeuvres and alignment."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from nembrit.core.errors import CoreError, InputError
from nembrit.web.common.fields import number, row_number, seconds_of
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.services import paste_configuration
from nembrit.web.logs import alignment, give, overlays, places, traces, windows
from nembrit.web.logs.models import Log, Manoeuvre, Segment


def _log(log_id: int) -> Log:
    return get_object_or_404(Log.objects.select_related("craft", "profile"), pk=log_id)


@require_safe
def log_page(request: HttpRequest, log_id: int) -> HttpResponse:
    """What one log holds and can answer, and everything that can be done with it."""
    log = _log(log_id)
    job = Job.objects.about("import_log", log.pk).first()
    segments = list(log.segments.select_related("flight__craft"))
    segment = next((one for one in segments if str(one.pk) == request.GET.get("segment")), segments[0] if segments else None)
    stream = log.streams.order_by("-n_samples").first()
    context: dict[str, Any] = {
        "craft": log.craft,
        "log": log,
        "segments": segments,
        "segment": segment,
        "stream": stream,
        "job": job,
    }
    if stream and log.state == Log.State.READY:
        flight_s = segment.end_s - segment.start_s if segment else stream.end_s - stream.start_s
        answers = windows.questions(log, flight_s)
        context |= {
            "answers": answers,
            "n_yes": sum(answer.state == "yes" for answer in answers),
            "manoeuvres": log.manoeuvres.filter(is_removed=False),
            "kinds": windows.MANOEUVRE_KINDS,
            **traces.overview(log),
            "stretches": places.stretches(log) if segment else [],
            "format": give.format_label(log),
            "has_upload": hasattr(log, "upload"),
            "n_doubtful": sum(
                (channel.confidence or 1) < windows.SURE
                for one in log.streams.prefetch_related("channels")
                for channel in one.channels.all()
                if channel.role and channel.position
            ),
            "flights": Flight.objects.active().filter(craft=log.craft).order_by("-number")[:60] if log.craft else [],
        }
        if segment:
            main = windows.main_segment(segment.flight)
            context |= {
                "main": main,
                "companions": [one for one in segment.flight.segments.select_related("log") if one.log_id != log.pk],
            }
    return render(request, "logs/log.html", context)


@require_POST
def log_settings(request: HttpRequest, log_id: int) -> HttpResponse:
    """Keep the key–value lines before the table as a configuration of the craft."""
    log = _log(log_id)
    if log.craft is None or not log.preamble:
        messages.error(request, "Nothing was saved: the log needs a craft and lines before its table.")
        return redirect(log)
    text = "\n".join(f"{key} = {value}" for key, value in log.preamble)
    try:
        configuration = paste_configuration(log.craft, text, note=f"from {log.file_name}")
    except CoreError as error:
        messages.error(request, f"Nothing was kept: {error}.")
        return redirect(log)
    messages.success(request, f"The lines before the table are saved as {configuration}.")
    return redirect(configuration)


@require_POST
def window(request: HttpRequest, segment_id: int) -> HttpResponse:
    """Set the usable window, or go back to the one that was found."""
    segment = get_object_or_404(Segment.objects.select_related("log"), pk=segment_id)
    try:
        if request.POST.get("as_found"):
            windows.find_window(segment)
        else:
            start_s, end_s = seconds_of(request.POST, "start_s", "end_s")
            windows.set_window(segment, start_s=start_s, end_s=end_s)
    except CoreError as error:
        messages.error(request, f"The window stays as it was: {error}.")
    else:
        messages.success(request, f"Analyses of {segment.flight} use {segment.start_s:.2f} to {segment.end_s:.2f} s of this log.")
    return redirect(f"{segment.log.get_absolute_url()}?segment={segment.pk}")


@require_POST
def manoeuvre(request: HttpRequest, log_id: int) -> HttpResponse:
    """Change, add or remove a manoeuvre."""
    log = _log(log_id)
    row = get_object_or_404(Manoeuvre, pk=row_number(request.POST["row"]), log=log) if request.POST.get("row") else None
    try:
        if request.POST.get("remove") and row:
            windows.remove_manoeuvre(row)
            said = "removed; analyses ignore it"
        elif request.POST.get("search"):
            windows.search_manoeuvres(log)
            said = "searched again; those set by you stay"
        else:
            start_s, end_s = seconds_of(request.POST, "start_s", "end_s")
            windows.set_manoeuvre(
                log, row=row, kind=request.POST.get("kind", ""), axis=request.POST.get("axis", ""), start_s=start_s, end_s=end_s
            )
            said = "kept" if row is None else "changed"
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
        return redirect(log)  # to the top, where the message stands
    messages.success(request, f"Manoeuvres {said}." if request.POST.get("search") else f"The manoeuvre is {said}.")
    return redirect(f"{log.get_absolute_url()}#manoeuvres")


@require_POST
def log_split(request: HttpRequest, log_id: int) -> HttpResponse:
    """Make a flight of every stretch that is ticked."""
    log = _log(log_id)
    try:
        chosen = [_stretch(text) for text in request.POST.getlist("stretch")[:200]]
        flights = places.split(log, chosen)
    except CoreError as error:
        messages.error(request, f"Nothing was split: {error}.")
    else:
        messages.success(
            request, f"{log.file_name} is {len(flights)} flights now: {', '.join(str(flight) for flight in flights)}."
        )
    return redirect(log)


def _stretch(text: str) -> tuple[float, float]:
    start, _, end = text.partition(":")
    return number(start, "a stretch’s start"), number(end, "a stretch’s end")


@require_POST
def log_alignment(request: HttpRequest, segment_id: int) -> HttpResponse:
    """Line a log up with its flight's main log anew, or by hand."""
    segment = get_object_or_404(Segment.objects.select_related("log", "flight"), pk=segment_id)
    try:
        if request.POST.get("find"):
            reason = alignment.line_up(segment)
            if reason:
                raise InputError(reason)
        else:
            offset_s, skew_ppm = seconds_of(request.POST, "offset_s", "skew_ppm")
            alignment.set_alignment(segment, offset_s=offset_s, skew_ppm=skew_ppm)
    except CoreError as error:
        messages.error(request, f"{str(error)[0].upper()}{str(error)[1:]}.")
    else:
        messages.success(request, f"{segment.log.file_name} is aligned.")
    return redirect(f"{segment.log.get_absolute_url()}?segment={segment.pk}#alignment")


@require_safe
def flights_aligned(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Two flights of a card, laid over each other manoeuvre by manoeuvre."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    others = Flight.objects.active().filter(craft=flight.craft).exclude(pk=flight.pk).exclude(segments=None).order_by("-number")
    wanted = row_number(request.GET.get("with"))
    alike = others.filter(card_key=flight.card_key) if flight.card_key else others.none()
    other = others.filter(number=wanted).first() if wanted else alike.first() or others.first()
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "others": others, "other": other}
    first, second = windows.main_segment(flight), windows.main_segment(other) if other else None
    if first and second:
        pairs = alignment.manoeuvre_pairs(first, second)
        context |= {"pairs": pairs, "pictures": overlays.laid_over(first, second, pairs)}
    return render(request, "logs/aligned.html", context)
