"""The sums that people do on paper, on one page, filled in from the craft."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_safe

from nembrit.web.hangar.models import Craft
from nembrit.web.sums.page import sums_of


@require_safe
def sums(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Every sum with its answer as its title; what is typed stays in the address."""
    craft = get_object_or_404(Craft, pk=craft_id)
    found = sums_of(craft, request.GET)
    return render(request, "sums/sums.html", {"craft": craft, "sums": found, "n_wrong": sum(bool(one.problem) for one in found)})
