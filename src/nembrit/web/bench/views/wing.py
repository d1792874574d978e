"""The wing page of a plane's flight."""

from typing import Any

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench.results import evidence_of
from nembrit.web.bench.wing import wing_of
from nembrit.web.flights.models import Flight


@require_safe
def wing_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Trims, creep, weaving, wind and automatic gains of one flight."""
    flight = get_object_or_404(Flight.objects.select_related("craft", "configuration"), pk=flight_id)
    if flight.craft.kind != "fixed_wing":
        raise Http404
    evidence = evidence_of(flight, "wing")
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": evidence.segment, "evidence": evidence}
    if evidence.results is not None and evidence.results.wing is not None:
        context |= wing_of(evidence.results.wing)
    return render(request, "bench/wing.html", context)
