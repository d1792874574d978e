"""The flight page: what is known from its log."""

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import charts, repairs, services
from nembrit.web.flights.models import Flight


@require_safe
def flight(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Evidence of one flight, with what to do next."""
    shown = get_object_or_404(Flight.objects.select_related("craft", "configuration", "build_entry"), pk=flight_id)
    evidence = services.evidence_of(shown)
    context = {"craft": shown.craft, "flight": shown, "evidence": evidence, "segment": evidence.segment}
    if evidence.payload:
        rows, previous = services.noise_rows(shown, evidence.payload)
        context |= {
            "payload": evidence.payload,
            "headline": services.headline(evidence.payload),
            "noise_rows": rows,
            "previous": previous,
            "axes": [
                {
                    "name": axis,
                    "noise_reason": evidence.payload["reasons"].get(f"noise.{axis}"),
                    "step": evidence.payload["response"].get(axis),
                    "step_reason": evidence.payload["reasons"].get(f"response.{axis}"),
                    "has_noise": bool(evidence.payload["noise"].get(axis)),
                }
                for axis in services.AXES
            ],
            "log": evidence.segment.log,
            "untested": services.untested(evidence.payload),
            "repair": repairs.repair_for(evidence.payload["findings"]),
        }
    return render(request, "bench/flight.html", context)


@require_safe
def flight_chart(request: HttpRequest, flight_id: int, kind: str, axis: str) -> HttpResponse:
    """One picture of a flight as data for the chart module."""
    evidence = services.evidence_of(get_object_or_404(Flight, pk=flight_id))
    if evidence.payload is None or kind not in charts.CHARTS or axis not in services.AXES:
        raise Http404
    chart = charts.CHARTS[kind](evidence.payload, axis)
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())
