"""Path and return pages of a plane's flight."""

from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import path as shown
from nembrit.web.bench.results import evidence_of
from nembrit.web.bench.returns import campaign_of, limits_now, return_rows
from nembrit.web.flights.models import Flight
from nembrit.web.ground.forms import ObstacleForm
from nembrit.web.hangar.models import Craft


def _flight(flight_id: int) -> Flight:
    flight = get_object_or_404(Flight.objects.select_related("craft", "configuration"), pk=flight_id)
    if flight.craft.kind != "fixed_wing":
        raise Http404
    return flight


def _context(flight: Flight) -> dict[str, Any]:
    evidence = evidence_of(flight, "wing", "path")
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": evidence.segment, "evidence": evidence}
    if evidence.results is not None:
        results = evidence.results
        context |= {"wing": results.wing, "path": results.path.path if results.path else None}
    return context


@require_safe
def path_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Map and traces together; legs, turns, circles, heights."""
    context = _context(_flight(flight_id))
    path, wing = context.get("path"), context.get("wing")
    if path is not None and wing is not None:
        context["charts"] = shown.charts_there(path)
        context["has_map"] = "north_m" in path.series
        if wing.navigation is not None:
            context |= {"navigation": wing.navigation, "headline": shown.headline_of(wing.navigation)}
        context["open"] = wing.reasons.get("navigation", "")
    return render(request, "bench/path.html", context)


@require_safe
def map_json(request: HttpRequest, flight_id: int) -> HttpResponse:
    context = _context(_flight(flight_id))
    if context.get("path") is None:
        return HttpResponse("No log of this flight has positions.", status=404, content_type="text/plain")
    return JsonResponse(shown.map_json(context["path"], context["wing"]))


@require_safe
def trace_json(request: HttpRequest, flight_id: int, kind: str) -> HttpResponse:
    context = _context(_flight(flight_id))
    chart = shown.path_chart(context["path"], kind) if context.get("path") is not None and kind in shown.CHARTS else None
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())


@require_safe
def return_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Each return of a flight, held to what was written before."""
    flight = _flight(flight_id)
    context = _context(flight)
    wing = context.get("wing")
    if wing is not None:
        context |= {
            "rows": return_rows(flight, wing), "reason": wing.reasons.get("return", ""), "obstacle_form": ObstacleForm(),
            "has_map": wing.home_deg is not None, **limits_now(flight.craft),
        }  # fmt: skip
    return render(request, "bench/return.html", context)


@require_safe
def returns_page(request: HttpRequest, craft_id: int) -> HttpResponse:
    """All returns of a craft side by side."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    return render(request, "bench/returns.html", {"craft": craft, "campaign": campaign_of(craft)})
