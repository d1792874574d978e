"""Filters and gains tried on a flight: two pages, and the parts of them that take longer."""

from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.core.errors import CoreError, InputError, NotEnoughData
from nembrit.web.bench import chainform, choosing, deciding, filters, gains, services
from nembrit.web.bench.records import widened_of
from nembrit.web.bench.results import FlightEvidence, evidence_of
from nembrit.web.flights.models import Flight

_PINS = (("gyro", "gyro low-pass"), ("d_term", "D low-pass"), ("notches", "notches"))


def _flight(flight_id: int) -> Flight:
    return get_object_or_404(Flight.objects.select_related("craft", "configuration"), pk=flight_id)


def _bench(flight: Flight, evidence: FlightEvidence) -> choosing.Choosing | None:
    if evidence.results is None:
        return None
    return choosing.choosing_of(flight, evidence.results, widened=widened_of(flight.craft))


def _axis(request: HttpRequest, bench: choosing.Choosing | None) -> str:
    told = list(bench.loop.axes) if bench and bench.loop else []
    wanted = request.GET.get("axis", "")
    return wanted if wanted in services.AXES else next(iter(told), "roll")


def _context(request: HttpRequest, flight: Flight) -> tuple[dict[str, Any], choosing.Choosing | None]:
    evidence = evidence_of(flight, *choosing.NEEDED)
    context: dict[str, Any] = {
        "craft": flight.craft, "flight": flight, "evidence": evidence, "segment": evidence.segment, "axes": services.AXES,
        "caution": choosing.caution_of(request.GET.get("caution", "")), "cautions": choosing.CAUTIONS,
    }  # fmt: skip
    return context, _bench(flight, evidence)


@require_safe
def filters_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """The chain as a row of blocks; what it costs and leaves, at once on every edit."""
    flight = _flight(flight_id)
    context, bench = _context(request, flight)
    status = 200
    if bench is not None:
        try:
            try:
                chains = chainform.chains_from(request.GET, bench.known)
            except InputError as error:
                chains, status, context["error"] = bench.known, 400, str(error)
            context |= filters.page_of(bench, chains, _axis(request, bench), flight.craft)
            pins = request.GET.getlist("pin")
            context |= {"pins": _PINS, "pinned": pins}
            context["trade_query"] = urlencode([("caution", context["caution"]), *(("pin", pin) for pin in pins[:3])])
        except NotEnoughData as error:
            context["refused"] = str(error)
    return render(request, "bench/filters.html", context, status=status)


@require_safe
def filters_map(request: HttpRequest, flight_id: int) -> HttpResponse:
    """What is left behind the tried chain over motor speed, as data."""
    flight = _flight(flight_id)
    bench = _bench(flight, evidence_of(flight, *choosing.NEEDED))
    try:
        if bench is None:
            raise NotEnoughData("this flight is being analysed: try again in a moment")
        return JsonResponse(filters.map_of(bench, chainform.chains_from(request.GET, bench.known), _axis(request, bench)))
    except CoreError as error:
        return HttpResponse(str(error), status=400, content_type="text/plain")


@require_safe
def trade_part(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Noise against lag and the chain that is advised: a part of the filter page, worked out after it."""
    flight = _flight(flight_id)
    context, bench = _context(request, flight)
    try:
        if bench is None:
            raise NotEnoughData("this flight is being analysed: try again in a moment")
        pins = frozenset(request.GET.getlist("pin")) & {key for key, _ in _PINS}
        context |= filters.trade_of(bench, flight.craft, context["caution"], pins)
        context |= _beside(flight, ("gyro_filters", "d_filters"))
    except NotEnoughData as error:
        context["refused"] = str(error)
    return render(request, "bench/_trade.html", context)


def _beside(flight: Flight, groups: tuple[str, ...]) -> dict[str, Any]:
    """How the flight's one decision stands to what a bench shows."""
    results = evidence_of(flight, *deciding.NEEDED).results
    if results is None:
        return {"is_next": True}
    is_next, why = deciding.beside(flight, results, groups)
    return {"is_next": is_next, "next_why": why}


@require_safe
def gains_page(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Each gain of an axis by slider, keys or number; what it would do, beside the flown one."""
    flight = _flight(flight_id)
    context, bench = _context(request, flight)
    status = 200
    if bench is not None:
        axis = _axis(request, bench)
        context["chosen"] = axis
        try:
            try:
                fields = gains.fields_of(flight, bench, axis, request.GET)
            except InputError as error:
                fields, status, context["error"] = (
                    gains.fields_of(flight, bench, axis, request.GET.__class__("")),
                    400,
                    str(error),
                )
            context |= gains.page_of(bench, axis, fields, flight.craft)
            words = [(one.term, one.shown) for one in fields]
            context["query"] = urlencode([("axis", axis), *words])
        except CoreError as error:
            context |= {"refused": str(error), "answering": list(bench.loop.axes) if bench.loop else []}
    return render(request, "bench/gains.html", context, status=status)


@require_safe
def best_part(request: HttpRequest, flight_id: int) -> HttpResponse:
    """The fastest gains within limits of every axis: a part of the gains page, worked out after it."""
    flight = _flight(flight_id)
    context, bench = _context(request, flight)
    if bench is not None:
        context |= gains.best_of(flight, bench, flight.craft, context["caution"])
        context |= _beside(flight, ("pd.",))
    return render(request, "bench/_best.html", context)
