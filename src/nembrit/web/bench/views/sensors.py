"""Two gyros against each other, across a swap, and a gyro at rest."""

from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import sensors
from nembrit.web.bench.results import evidence_of
from nembrit.web.flights.models import Flight


@require_safe
def sensors_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    evidence = evidence_of(flight, "sensors")
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": evidence.segment, "evidence": evidence}
    if evidence.segment is not None and evidence.results is not None:
        context |= sensors.sensors_of(flight, evidence.segment, evidence.results, request.GET)
    return render(request, "bench/sensors.html", context)


@require_safe
def allan(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Allan deviation of a gyro at rest as data for the chart module."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    results = evidence_of(flight, "sensors").results
    chart = sensors.allan_chart(results.sensors.rest) if results and results.sensors else None
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())
