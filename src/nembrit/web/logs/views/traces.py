"""The trace view of a flight, and the data that it fetches."""

from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_http_methods, require_safe

from nembrit.core.errors import CoreError, InputError
from nembrit.web.common.fields import row_numbers, span_of, whole
from nembrit.web.flights.models import Flight
from nembrit.web.logs import give, ready_views, traces, windows
from nembrit.web.logs.models import Channel, Log


@require_safe
def trace_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Everything recorded over time: panes that share it, ready-made views, cursors, spectrum and track beside."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    segment = windows.main_segment(flight)
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": segment}
    if segment:
        context |= {"log": segment.log, "page": ready_views.page_of(flight, segment)}
    return render(request, "logs/trace.html", context)


def _channels(request: HttpRequest, log_ids: list[int], key: str = "channels") -> list[Channel]:
    return traces.channels_of(log_ids, row_numbers(request.GET.get(key, "").split(",")))


def _columns(request: HttpRequest) -> int:
    return whole(request.GET.get("columns", "1000"), "columns", high=999_999)


def _refused(error: Exception) -> HttpResponse:
    return HttpResponse(str(error), status=400, content_type="text/plain")


@require_safe
def trace_data(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Envelope of some channels over a span, as binary."""
    flight = get_object_or_404(Flight, pk=flight_id)
    clocks = traces.clocks_of(flight)
    try:
        start_s, end_s = span_of(request)
        channels = _channels(request, list(clocks))
        content = traces.trace_bytes(channels, clocks, start_s=start_s, end_s=end_s, n_columns=_columns(request))
    except CoreError as error:
        return _refused(error)
    return HttpResponse(content, content_type="application/octet-stream")


@require_safe
def log_trace(request: HttpRequest, log_id: int) -> HttpResponse:
    """The same for one log by role, in its own clock; for the log's own page, which may belong to no flight."""
    log = get_object_or_404(Log, pk=log_id)
    roles = [role for role in request.GET.get("roles", "").split(",") if role][:40]
    try:
        start_s, end_s = span_of(request)
        found = {
            channel.role: channel for channel in Channel.objects.filter(stream__log=log, role__in=roles).select_related("stream")
        }
        missing = [role for role in roles if role not in found]
        if missing:
            raise InputError(f"this log has no channel {missing[0]}")
        content = traces.trace_bytes(
            [found[role] for role in roles],
            {},
            start_s=start_s,
            end_s=end_s,
            n_columns=_columns(request),
        )
    except CoreError as error:
        return _refused(error)
    return HttpResponse(content, content_type="application/octet-stream")


@require_safe
def spectrum(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Spectrum of exactly the visible window of one channel."""
    flight = get_object_or_404(Flight, pk=flight_id)
    clocks = traces.clocks_of(flight)
    try:
        start_s, end_s = span_of(request)
        channels = _channels(request, list(clocks), "channel")
        if not channels:
            raise InputError("choose a channel for the spectrum")
        channel = channels[0]
        chart = traces.spectrum_chart(
            channel, clocks.get(channel.stream.log_id or 0, traces.Clock()), start_s=start_s, end_s=end_s
        )
    except CoreError as error:
        return _refused(error)
    return JsonResponse(chart.as_json())


@require_safe
def measures(request: HttpRequest, flight_id: int) -> HttpResponse:
    """What the channels do between two cursors."""
    flight = get_object_or_404(Flight, pk=flight_id)
    clocks = traces.clocks_of(flight)
    try:
        start_s, end_s = span_of(request)
        rows = traces.measures(_channels(request, list(clocks)), clocks, start_s=start_s, end_s=end_s)
    except CoreError as error:
        return _refused(error)
    return JsonResponse({"rows": rows})


@require_safe
def track(request: HttpRequest, flight_id: int) -> HttpResponse:
    """The flight's path, coloured by a channel."""
    flight = get_object_or_404(Flight, pk=flight_id)
    try:
        colour = _channels(request, list(traces.clocks_of(flight)), "colour")
        return JsonResponse(traces.track_json(flight, colour[0] if colour else None))
    except CoreError as error:
        return _refused(error)


@require_http_methods(["GET"])
def give_out(request: HttpRequest, log_id: int) -> HttpResponse:
    """Choose channels, span and form; with ``form`` in the address the file itself."""
    log = get_object_or_404(Log.objects.select_related("craft"), pk=log_id)
    streams = list(log.streams.prefetch_related("channels").order_by("-n_samples"))
    if not streams:
        return render(request, "logs/give.html", {"craft": log.craft, "log": log, "streams": []})
    chosen = next((stream for stream in streams if str(stream.pk) == request.GET.get("stream")), streams[0])
    error = ""
    if request.GET.get("form"):
        try:
            start_s, end_s = span_of(request)
            wanted = row_numbers(request.GET.getlist("channel"), most=10_000)
            channels = list(chosen.channels.filter(pk__in=wanted).exclude(position=0).select_related("stream"))
            given = give.give(
                log, request.GET["form"], stream=chosen, channels=channels, start_s=start_s, end_s=end_s,
                with_places=bool(request.GET.get("places")),
            )  # fmt: skip
        except CoreError as refused:
            error = str(refused)
        else:
            answer = HttpResponse(given.content, content_type=given.media_type)
            answer["Content-Disposition"] = f'attachment; filename="{given.name.encode("ascii", "replace").decode()}"'.replace(
                "?", "_"
            )
            return answer
    context = {
        "craft": log.craft, "log": log, "streams": streams, "stream": chosen, "kinds": give.kinds_for(chosen), "error": error,
        "has_places": give.has_places(chosen),
        "elsewhere": next((one for one in streams if give.has_places(one)), None) if not give.has_places(chosen) else None,
        "chosen": request.GET.getlist("channel"), "asked": bool(request.GET.get("form")),
    }  # fmt: skip
    return render(request, "logs/give.html", context, status=400 if error else 200)
