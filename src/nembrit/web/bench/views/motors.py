"""Motors side by side, vibration in hover, spikes, and the balance sums."""

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import balance, motors
from nembrit.web.bench.results import evidence_of
from nembrit.web.flights.models import Flight


@require_safe
def motors_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    evidence = evidence_of(flight, "motors", "judgement")
    sums, error = balance.balance_of(request.GET, flight.craft)
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "evidence": evidence, "sums": sums, "error": error}
    if evidence.results:
        context |= {"results": evidence.results, **motors.page_of(evidence.results)}
    return render(request, "bench/motors.html", context, status=400 if error else 200)
