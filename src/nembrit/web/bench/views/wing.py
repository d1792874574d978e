"""The wing page of a plane's flight."""

from typing import Any

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench.results import by_flight, evidence_of
from nembrit.web.bench.trims import is_present, next_trim
from nembrit.web.bench.wing import gain_rows, wing_of
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.services import saved_forward, surfaces_of

_EARLIER = 12  # flights that are looked through for other runs of the automatic gains


@require_safe
def wing_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Trims, creep, weaving, wind and automatic gains of one flight."""
    flight = get_object_or_404(Flight.objects.select_related("craft", "configuration"), pk=flight_id)
    if flight.craft.kind != "fixed_wing":
        raise Http404
    evidence = evidence_of(flight, "wing", "checks")
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": evidence.segment, "evidence": evidence}
    if evidence.results is not None and evidence.results.wing is not None:
        wing = evidence.results.wing
        before = flight.craft.flights.active().filter(number__lt=flight.number)[:_EARLIER]
        earlier = [own.wing for _, own in by_flight(list(before), "wing") if own is not None and own.wing is not None]
        context |= wing_of(wing) | {
            "step": next_trim(flight.craft), "is_present": is_present(flight),
            "gains": gain_rows(wing, earlier, saved_forward(flight.craft)) if wing.gain_flight else [],
            "checked": evidence.results.checks.found if evidence.results.checks else (),
            "surfaces": [{"servo": one.servo, "role": one.role} for one in surfaces_of(flight.craft)],
        }  # fmt: skip
    return render(request, "bench/wing.html", context)
