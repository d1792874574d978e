"""The noise bench's pages: maps and spectra, motors and vibration, sensors."""

from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_safe

from nembrit.core.errors import CoreError
from nembrit.web.bench import noise, services, vibration
from nembrit.web.bench.charts import OWN_MOTION_HZ
from nembrit.web.flights.models import Flight
from nembrit.web.logs.desk import MANOEUVRE_KINDS, main_segment

OVERS = (("throttle", "throttle"), ("speed", "motor speed"), ("time", "time"))


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
    segment = main_segment(flight)
    chosen, error = _chosen(request)
    by = request.GET.get("by", "throttle")
    by = by if by in dict(OVERS) else "throttle"
    context: dict[str, Any] = {
        "craft": flight.craft,
        "flight": flight,
        "chosen": chosen,
        "error": error,
        "by": by,
        "overs": OVERS,
        "axes": services.AXES,
        "families": list(noise.FAMILIES.items())[:2],
        "shows": list(noise.UNITS.items()),
        "own_motion_hz": f"{OWN_MOTION_HZ:.0f}",
        "low": request.GET.get("low", "0"),
        "high": request.GET.get("high", "100"),
        "trace_url": reverse("logs:trace_page", args=[flight.pk]),
        "headline": f"Noise of flight {flight.number}",
    }
    if segment is None:
        return render(request, "bench/noise.html", context)
    bench = noise.bench_of(segment)
    recorded = noise.roles_of(bench)
    families = [
        (family, label) for family, label in noise.FAMILIES.items() if any(role.startswith(f"{family}.") for role in recorded)
    ]
    wanted = request.GET.get("map", "")
    family = wanted if wanted in dict(families) else families[0][0] if families else ""
    role = f"{family}.{chosen.axis}"
    lines, reason = _lines(bench, role, by, flight)
    query = urlencode({"role": role, "by": by})
    context |= {
        "bench": bench,
        "families": families,
        "map_family": family,
        "lines": lines[:8],
        "map_reason": reason,
        "map_src": "" if reason else f"{reverse('bench:noise_map', args=[flight.pk])}?{query}",
        "spectra": noise.chosen_spectra(flight, chosen),
        "kinds": [(kind, kind.replace("_", " ")) for kind in MANOEUVRE_KINDS],
        "spectrum_src": f"{reverse('bench:noise_spectrum', args=[flight.pk])}?{request.GET.urlencode()}",
        "others": flight.craft.flights.active().exclude(pk=flight.pk).order_by("-number")[:40],
        "history": services.history_of(flight, f"motion_noise.{chosen.axis}"),
        "speeds": _speeds(bench),
        "headline": _headline(chosen.axis, lines, reason),
    }
    return render(request, "bench/noise.html", context, status=400 if error else 200)


def _lines(bench: noise.Bench, role: str, by: str, flight: Flight) -> tuple[list[dict[str, Any]], str]:
    try:
        return noise.map_data(bench, role, by, blades=flight.craft.propeller_blades)["lines"], ""
    except CoreError as error:
        return [], str(error)


def _headline(axis: str, lines: list[dict[str, Any]], reason: str) -> str:
    if reason:
        return f"The noise of {axis} cannot be laid out from this flight"
    if not lines:
        return f"No line stands out of the noise of {axis}"
    first = lines[0]
    if first["order"]:
        return f"{axis.capitalize()}: the loudest line moves with the motors, {first['low_hz']:.0f} to {first['high_hz']:.0f} Hz"
    return f"{axis.capitalize()}: the loudest line stays at {first['frequency_hz']:.0f} Hz whatever the throttle"


def _speeds(bench: noise.Bench) -> str:
    if bench.track is None:
        return "Motor speed is neither recorded nor to be told from this flight; fly the throttle ramp, or record it."
    if bench.track.is_recorded:
        return "Motor speeds are recorded in this log."
    return (
        "Motor speeds are estimated from the lines that move with the commands: "
        f"{bench.track.full_hz or 0:.0f} turns a second at full command. Record them to be sure."
    )


@require_safe
def noise_map(request: HttpRequest, flight_id: int) -> HttpResponse:
    """The map as data."""
    flight = _flight(flight_id)
    segment = main_segment(flight)
    if segment is None:
        raise Http404
    by = request.GET.get("by", "throttle")
    try:
        data = noise.map_data(
            noise.bench_of(segment),
            request.GET.get("role", ""),
            by if by in dict(OVERS) else "throttle",
            blades=flight.craft.propeller_blades,
        )
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")
    return JsonResponse(data | _marked(flight))


def _marked(flight: Flight) -> dict[str, Any]:
    """What findings rest on, to be marked in the map: fixed frequencies, and an order of the motors."""
    findings = (services.evidence_of(flight).payload or {}).get("findings", [])
    fixed = [finding["evidence"]["peak_hz"] for finding in findings if "peak_hz" in finding["evidence"]]
    return {"marked_hz": fixed, "marked_order": 1 if any(finding["code"] == "propeller" for finding in findings) else None}


@require_safe
def noise_spectrum(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Spectra of chosen stretches as data for the chart module."""
    flight = _flight(flight_id)
    try:
        found = noise.chosen_spectra(flight, noise.Chosen.of(request.GET))
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")
    if not found.rows:
        raise Http404
    return JsonResponse(found.chart.as_json())


@require_safe
def vibration_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Motors side by side, vibration in hover, spikes, and the balance sums."""
    flight = _flight(flight_id)
    evidence = services.evidence_of(flight)
    sums, error = vibration.balance_of(request.GET, flight.craft)
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "evidence": evidence, "sums": sums, "error": error}
    if evidence.payload:
        context |= vibration.page_of(flight, evidence.payload)
    return render(request, "bench/vibration.html", context, status=400 if error else 200)


@require_safe
def sensors_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Two gyros against each other, across a swap, and a gyro at rest."""
    flight = _flight(flight_id)
    segment = main_segment(flight)
    context: dict[str, Any] = {"craft": flight.craft, "flight": flight, "segment": segment}
    if segment is not None:
        context |= vibration.sensors_of(flight, segment, request.GET)
    return render(request, "bench/sensors.html", context)


@require_safe
def allan(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Allan deviation of a gyro at rest as data for the chart module."""
    segment = main_segment(_flight(flight_id))
    chart = vibration.allan_chart(vibration.rest_rows(noise.bench_of(segment).recording)) if segment else None
    if chart is None:
        raise Http404
    return JsonResponse(chart.as_json())
