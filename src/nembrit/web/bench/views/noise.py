"""The noise bench: maps with their lines named, and spectra of chosen stretches."""

from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench import noise, services
from nembrit.web.bench.charts import OWN_MOTION_HZ
from nembrit.web.bench.flight import history_of
from nembrit.web.bench.results import Maps, evidence_of, there
from nembrit.web.flights.models import Flight
from nembrit.web.logs.windows import MANOEUVRE_KINDS

OVERS = (("throttle", "throttle"), ("speed", "motor speed"), ("time", "time"))


_OF_SPECTRA = ("kind", "low", "high", "show", "scale", "x", "with", "family")


def _flight(flight_id: int) -> Flight:
    return get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)


def _chosen(request: HttpRequest) -> tuple[noise.Chosen, str]:
    try:
        return noise.Chosen.of(request.GET), ""
    except CoreError as error:
        return noise.Chosen(), str(error)


@require_safe
def noise_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Where the noise of one axis sits: a map with its lines named, and spectra of chosen stretches."""
    flight = _flight(flight_id)
    evidence = evidence_of(flight, "maps", "judgement")
    chosen, error = _chosen(request)
    by = request.GET.get("by", "throttle")
    by = by if by in dict(OVERS) else "throttle"
    context: dict[str, Any] = {
        "craft": flight.craft,
        "flight": flight,
        "evidence": evidence,
        "segment": evidence.segment,
        "chosen": chosen,
        "error": error,
        "by": by,
        "overs": OVERS,
        "axes": services.AXES,
        "families": list(noise.FAMILIES.items())[:2],
        "shows": list(noise.UNITS.items()),
        "own_motion_hz": f"{OWN_MOTION_HZ:.0f}",
        # another axis or gyro keeps what was chosen for the spectra
        "carried": [(key, value) for key in _OF_SPECTRA for value in request.GET.getlist(key)[:8]],
        "low": request.GET.get("low", "0"),
        "high": request.GET.get("high", "100"),
        "trace_url": reverse("logs:trace_page", args=[flight]),
        "headline": f"Noise of flight {flight.number}",
    }
    if evidence.results is None or evidence.segment is None:
        return render(request, "bench/noise.html", context)
    maps = there(evidence.results.maps)
    families = [
        (family, label) for family, label in noise.FAMILIES.items() if any(role.startswith(f"{family}.") for role in maps.roles)
    ]
    wanted = request.GET.get("map", "")
    family = wanted if wanted in dict(families) else families[0][0] if families else ""
    role = f"{family}.{chosen.axis}"
    lines, reason = _lines(maps, role, by)
    query = urlencode({"role": role, "by": by})
    context |= {
        "maps": maps,
        "families": families or context["families"],
        "map_family": family,
        "lines": lines[:8],
        "map_reason": reason,
        "map_src": "" if reason else f"{reverse('bench:noise_map', args=[flight])}?{query}",
        "spectra": noise.chosen_spectra(flight, chosen),
        "kinds": [(kind, kind.replace("_", " ")) for kind in MANOEUVRE_KINDS],
        "spectrum_src": f"{reverse('bench:noise_spectrum', args=[flight])}?{request.GET.urlencode()}",
        "others": flight.craft.flights.active().exclude(pk=flight.pk).order_by("-number")[:40],
        "history": history_of(flight, f"motion_noise.{chosen.axis}"),
        "speeds": noise.speeds_in_words(maps),
        "sample_rate_hz": services.sample_rate_hz(evidence.segment.log),
        "headline": _headline(chosen.axis, lines, reason),
    }
    return render(request, "bench/noise.html", context, status=400 if error else 200)


def _lines(maps: Maps, role: str, by: str) -> tuple[list[dict[str, Any]], str]:
    found = maps.roles.get(role)
    if found is None:
        return [], maps.reason or f"“{role[:40]}” is not recorded in this flight"
    if by not in found.over:
        return [], found.reasons.get(by, "")
    return [noise.line_row(line) for line in found.lines], ""


def _headline(axis: str, lines: list[dict[str, Any]], reason: str) -> str:
    if reason:
        return f"The noise of {axis} cannot be mapped from this flight"
    if not lines:
        return f"No line stands out from the noise of {axis}"
    first = lines[0]
    if first["order"]:
        return f"{axis.capitalize()}: the loudest line moves with the motors, {first['low_hz']:.0f} to {first['high_hz']:.0f} Hz"
    return f"{axis.capitalize()}: the loudest line stays at {first['frequency_hz']:.0f} Hz whatever the throttle"


@require_safe
def noise_map(request: HttpRequest, flight_id: int) -> HttpResponse:
    """The map as data."""
    flight = _flight(flight_id)
    results = evidence_of(flight, "maps", "judgement").results
    if results is None:
        raise Http404
    by, role = request.GET.get("by", "throttle"), request.GET.get("role", "")
    try:
        maps = there(results.maps)
        if role not in maps.roles:
            return HttpResponse(f"“{role[:40]}” is not recorded in this flight", status=400, content_type="text/plain")
        data = noise.map_data(maps.roles[role], role, by if by in dict(OVERS) else "throttle")
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")
    return JsonResponse(data | noise.marked(there(results.judgement).findings))


@require_safe
def noise_spectrum(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Spectra of selected parts as data for the chart module."""
    flight = _flight(flight_id)
    try:
        found = noise.chosen_spectra(flight, noise.Chosen.of(request.GET))
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")
    if not found.rows:
        raise Http404
    return JsonResponse(found.chart.as_json())
