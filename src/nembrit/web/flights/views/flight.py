"""What is noted about a flight, and where it stood before."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.web.flights import services
from nembrit.web.flights.forms import FlightForm
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.signals import controller_changed


@require_safe
def former_address(request: HttpRequest, key: int, rest: str = "") -> HttpResponse:
    """Where flights stood before their numbers were in their addresses: old bookmarks still lead there."""
    query = request.GET.urlencode()
    base = get_object_or_404(Flight, pk=key).get_absolute_url()
    return redirect(f"{base}{rest}{'?' if query else ''}{query}", permanent=True)


@require_http_methods(["GET", "POST"])
def flight_edit(request: HttpRequest, flight_id: int) -> HttpResponse:
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    form = FlightForm(
        request.POST if request.method == "POST" else None, instance=flight, cards=services.card_choices(flight.craft.kind)
    )
    status = 400 if form.is_bound else 200
    if request.method == "POST" and form.is_valid():
        if form.saved():
            if "configuration" in form.changed_data:
                controller_changed.send(sender=Flight, craft=flight.craft, flights=[flight.pk])
            messages.success(request, "Notes saved.")
            return redirect(flight)
        status = 409
    context = {"craft": flight.craft, "flight": flight, "form": form}
    return render(request, "flights/flight_edit.html", context, status=status)


@require_POST
def flight_archive(request: HttpRequest, flight_id: int) -> HttpResponse:
    flight = get_object_or_404(Flight, pk=flight_id)
    archive = request.POST.get("archived") == "1"
    services.set_archived(flight, archived=archive)
    messages.success(
        request, f"Flight {flight.number} is {'archived: left out of lists and comparisons' if archive else 'back'}."
    )
    return redirect(flight)
