"""At the field, on a phone: what is looked at before, one manoeuvre at a time, and what was noted."""

import json

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.fields import row_number
from nembrit.web.common.once import once
from nembrit.web.flights import field
from nembrit.web.flights.forms import OutingForm
from nembrit.web.flights.models import Flight, Outing
from nembrit.web.hangar.models import Craft

_MOST_BYTES = 300_000


@require_http_methods(["GET", "POST"])
def preflight(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Go or no go: everything that is looked at before, and what the flight is flown with."""
    craft = get_object_or_404(Craft, pk=craft_id)
    posted = request.POST if request.method == "POST" else None
    form = OutingForm(posted, craft_kind=craft.kind, initial={"card_key": request.GET.get("card", "response")})
    checks = field.checks_for(craft.kind)
    ticked = set(request.POST.getlist("check")) if request.method == "POST" else set()
    if request.method == "POST" and form.is_valid():
        try:
            return redirect(once(request, lambda: field.begin(craft, ticked=ticked, **form.cleaned_data).get_absolute_url()))
        except CoreError as error:
            form.add_error(None, str(error))
    context = {"craft": craft, "form": form, "checks": checks, "ticked": ticked, "open": field.unfinished(craft)}
    return render(request, "flights/preflight.html", context, status=400 if form.is_bound else 200)


@require_safe
def fly(request: HttpRequest, outing_id: int) -> HttpResponse:
    """One manoeuvre at a time. The page holds card, timer and entries by itself; the server may be out of reach."""
    outing = get_object_or_404(Outing.objects.select_related("craft", "configuration"), pk=outing_id)
    context = {"outing": outing, "craft": outing.craft, "page": field.page_of(outing), "after": field.AFTER}
    return render(request, "flights/field.html", context)


@require_POST
def taps(request: HttpRequest, outing_id: int) -> HttpResponse:
    """Entries from a phone, as often as it likes: each is kept once, and told back when it is."""
    outing = get_object_or_404(Outing.objects.select_related("flight", "craft"), pk=outing_id)
    try:
        document = json.loads(request.body[:_MOST_BYTES])
        sent = document["taps"]
        found = field.keep(outing, document.get("key"), sent if isinstance(sent, list) else [])
    except field.OtherWorkshop as error:
        return JsonResponse({"error": str(error)}, status=409)
    except CoreError as error:
        return JsonResponse({"error": str(error)}, status=400)
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return JsonResponse({"error": "these entries cannot be read"}, status=400)
    return JsonResponse({"kept": found.kept, "refused": found.refused})


@require_POST
def give(request: HttpRequest, flight_id: int) -> HttpResponse:
    """Say which outing a flight was."""
    flight = get_object_or_404(Flight.objects.select_related("craft"), pk=flight_id)
    outing = get_object_or_404(Outing, pk=row_number(request.POST.get("outing", "")) or 0)
    field.give_to(outing, flight)
    return redirect(flight)
