"""Routes of a tune: choosing one, and being coached flight by flight."""

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from nembrit.core.errors import CoreError
from nembrit.web.bench.results import latest_act_finding
from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import choosing_route, services, stepping
from nembrit.web.tunes.forms import RouteForm
from nembrit.web.tunes.models import Tune


@require_http_methods(["GET", "POST"])
def choose(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Four questions, and the route that fits."""
    craft = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(craft)
    form = RouteForm(request.POST if request.method == "POST" else request.GET or None, initial=choosing_route.known_of(craft))
    if request.method == "POST" and form.is_valid():
        return redirect(choosing_route.take(tune, str(request.POST.get("route", "")), fine=bool(form.cleaned_data["fine"])))
    answers = form.cleaned_data if form.is_bound and form.is_valid() else choosing_route.known_of(craft)
    context = {
        "craft": craft, "tune": tune, "form": form, "routes": choosing_route.routes_for(craft, answers),
        "is_asked": form.is_bound,
    }  # fmt: skip
    return render(request, "tunes/route_choose.html", context)


@require_http_methods(["GET", "POST"])
def step_up(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The next step of the route by feel; an answer keeps what was felt."""
    craft = get_object_or_404(Craft, pk=craft_id)
    tune = services.tune_of(craft)
    if tune.route != Tune.Route.STEP_UP:
        return redirect("tunes:route_choose", craft.pk)
    here = reverse("tunes:step_up", args=[craft.pk])
    if request.method == "POST":
        return redirect(once(request, lambda: _answered(request, tune, here)))
    try:
        coach, problem = stepping.coach_of(tune), ""
    except CoreError as error:
        coach, problem = None, str(error)
    context = {"craft": craft, "tune": tune, "coach": coach, "problem": problem, "finding": latest_act_finding(craft)}
    return render(request, "tunes/step_up.html", context)


def _answered(request: HttpRequest, tune: Tune, here: str) -> str:
    try:
        back = stepping.answer(tune, request.POST.get("sign", ""), note=request.POST.get("note", ""))
    except CoreError as error:
        messages.error(request, f"Nothing was saved: {error}.")
        return here
    messages.success(request, f"Saved. {back.title}: set it before the next flight." if back else "Saved.")
    return here


@require_POST
def step_write(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The step that is due, as a slip with its new settings."""
    craft = get_object_or_404(Craft, pk=craft_id)
    here = reverse("tunes:step_up", args=[craft.pk])
    return redirect(once(request, lambda: _written(request, services.tune_of(craft), here)))


def _written(request: HttpRequest, tune: Tune, here: str) -> str:
    try:
        slip = stepping.write_step(tune)
    except CoreError as error:
        messages.error(request, f"Nothing was changed: {error}.")
    else:
        messages.success(request, f"Slip {slip.number} is written. Set the new value on the craft, then fly.")
    return here
