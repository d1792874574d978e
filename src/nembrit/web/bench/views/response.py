"""How near the edge each axis flies, and how it follows."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import response
from nembrit.web.bench.flight import history_of
from nembrit.web.bench.results import evidence_of
from nembrit.web.flights.models import Flight


@require_safe
def response_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    flight = get_object_or_404(Flight.objects.select_related("craft", "configuration"), pk=flight_id)
    evidence = evidence_of(flight, "loop", "response", "judgement")
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "evidence": evidence, "segment": evidence.segment}
    if evidence.results is not None:
        context |= response.page_of(evidence.results, request.GET.get("axis", ""), request.GET.getlist("felt")[:20])
        context["history"] = history_of(flight, f"tracking_error.{context.get('chosen', 'roll')}")
    return render(request, "bench/response.html", context)
