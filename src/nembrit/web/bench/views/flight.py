"""The flight page: what is known from its log."""

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.bench import charts, flight, services
from nembrit.web.bench.outing import could_be, notes_of
from nembrit.web.bench.results import evidence_of, there
from nembrit.web.bench.wing import headline as wing_headline
from nembrit.web.flights.models import Flight

_SHOWN = ("noise", "response", "judgement", "metrics")


@require_safe
def flight_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Results of one flight, with what to do next."""
    shown = get_object_or_404(Flight.objects.select_related("craft", "configuration", "build_entry"), pk=flight_id)
    is_plane = shown.craft.kind == "fixed_wing"
    evidence = evidence_of(shown, *_SHOWN, *(("wing",) if is_plane else ()))
    context = {"craft": shown.craft, "flight": shown, "evidence": evidence, "segment": evidence.segment}
    if evidence.results and evidence.segment:
        rows, previous = flight.noise_rows(shown, evidence.results)
        judgement = there(evidence.results.judgement)
        context |= {
            "results": evidence.results,
            "findings": judgement.findings,
            "headline": wing_headline(evidence.results.wing) if evidence.results.wing else flight.headline(evidence.results),
            "certainty": "" if is_plane else flight.certainty(evidence.results),
            "is_plane": is_plane,
            "is_measured": flight.is_measured(rows, evidence.results),
            "noise_rows": rows,
            "previous": previous,
            "axes": flight.axis_parts(evidence.results),
            "notes": there(evidence.results.response).notes,
            "log": evidence.segment.log,
            "sample_rate_hz": services.sample_rate_hz(evidence.segment.log),
            "untested": list(judgement.untested.items()),
            "noted": notes_of(shown, evidence.segment),
            "outings": could_be(shown, evidence.segment),
            "repair": services.repair_for(judgement.findings),
            "is_held": any(one.holds_gains_back for one in judgement.findings),
        }
    return render(request, "bench/flight.html", context)


@require_safe
def flight_chart(request: HttpRequest, flight_id: int, kind: str, axis: str) -> HttpResponse:
    """One picture of a flight as data for the chart module."""
    shown = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    if kind not in charts.CHARTS or axis not in services.AXES:
        raise Http404
    results = evidence_of(shown, *charts.NEEDED[kind]).results
    chart = charts.CHARTS[kind](results, axis) if results else None
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())
