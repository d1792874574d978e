"""Obstacles, rules of a return, and radio line of sight."""

from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.once import once
from nembrit.web.ground import services
from nembrit.web.ground.forms import ObstacleForm, ProfileForm, RuleForm, SightForm
from nembrit.web.ground.models import Obstacle, Profile
from nembrit.web.hangar.models import Craft


def _back(request: HttpRequest, otherwise: str) -> str:
    """The page of this workshop that a form was sent from."""
    wanted = request.POST.get("back", "")
    return wanted if url_has_allowed_host_and_scheme(wanted, allowed_hosts=None) else otherwise


@require_http_methods(["GET", "POST"])
def obstacles(request: HttpRequest) -> HttpResponse:
    """All that is marked, and a form for one more."""
    form = ObstacleForm(request.POST or None)
    if request.method == "POST" and form.is_valid():

        def make() -> str:
            one = services.add_obstacle(**form.cleaned_data)
            messages.success(request, f"Marked: {one}, {one.height_m:g} m.")
            return _back(request, request.path)

        try:
            return redirect(once(request, make))
        except CoreError as error:
            form.add_error(None, f"{str(error)[:1].upper()}{str(error)[1:]}.")
    context = {"form": form, "rows": list(Obstacle.objects.all()), "back": request.POST.get("back", "")}
    return render(request, "ground/obstacles.html", context, status=400 if form.is_bound else 200)


@require_POST
def take_in(request: HttpRequest) -> HttpResponse:
    """Obstacles of a GeoJSON file."""
    file = request.FILES.get("file")
    try:
        if file is None:
            messages.error(request, "No file chosen; nothing was imported.")
        else:
            messages.success(request, f"{services.take_in_geojson(file.read())} obstacles imported.")
    except CoreError as error:
        messages.error(request, f"Nothing was imported: {error}.")
    return redirect(_back(request, "ground:obstacles"))


@require_POST
def obstacle_away(request: HttpRequest, obstacle_id: int) -> HttpResponse:
    one = get_object_or_404(Obstacle, pk=obstacle_id)
    one.delete()
    messages.success(request, f"“{one}” is no longer marked.")
    return redirect(_back(request, "ground:obstacles"))


@require_safe
def geojson(request: HttpRequest) -> HttpResponse:
    headers = {"Content-Disposition": 'attachment; filename="obstacles.geojson"'}
    return JsonResponse(services.geojson(), headers=headers, content_type="application/geo+json")


@require_http_methods(["GET", "POST"])
def rule(request: HttpRequest, craft_id: int) -> HttpResponse:
    """What a return of a craft must do, written before it is flown."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    latest = craft.return_rules.first()
    form = RuleForm(request.POST or None, initial=latest.values() if latest else None)
    if request.method == "POST" and form.is_valid():

        def make() -> str:
            services.write_rule(craft, form.cleaned_data)
            messages.success(request, "Saved. New returns are judged by these limits; earlier ones keep their own.")
            return request.path

        try:
            return redirect(once(request, make))
        except CoreError as error:
            form.add_error(None, f"{str(error)[:1].upper()}{str(error)[1:]}.")
    context = {"craft": craft, "form": form, "rules": services.rules_of(craft)}
    return render(request, "ground/rule.html", context, status=400 if form.is_bound else 200)


@require_safe
def return_card(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The card of a return, to be printed: limits, obstacles, height, steps, and room for what the day was like."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    return render(request, "ground/return_card.html", {"craft": craft} | services.card_of_return(craft))


@require_http_methods(["GET", "POST"])
def sight(request: HttpRequest) -> HttpResponse:
    """Heights that radio needs over a profile of the ground."""
    added = ProfileForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and added.is_valid():
        file = added.cleaned_data["file"]
        try:
            one = services.take_in_profile(
                file.name, added.cleaned_data["datum"], file.read(), start=added.cleaned_data["start"],
                end=added.cleaned_data["end"],
            )  # fmt: skip
            messages.success(request, f"Imported: {one}, {one.distance_m[-1] / 1000:.1f} km.")
            return redirect(f"{request.path}?profile={one.pk}")
        except CoreError as error:
            added.add_error("file", f"{str(error)[:1].upper()}{str(error)[1:]}.")
    first = Profile.objects.first()
    given = {name: field.initial for name, field in SightForm.base_fields.items()} | {"profile": first.pk if first else None}
    form = SightForm(given | {name: request.GET[name] for name in given if name in request.GET})
    context: dict[str, Any] = {"form": form, "added": added, "profiles": list(Profile.objects.all())}
    if first and form.is_valid():
        values = dict(form.cleaned_data)
        context["profile"] = values["profile"]
        try:
            context |= services.sight_of(values.pop("profile"), **values) | values
        except CoreError as error:
            form.add_error(None, f"{str(error)[:1].upper()}{str(error)[1:]}.")
    return render(request, "ground/sight.html", context, status=400 if added.is_bound else 200)


@require_POST
def profile_away(request: HttpRequest, profile_id: int) -> HttpResponse:
    one = get_object_or_404(Profile, pk=profile_id)
    one.delete()
    messages.success(request, f"“{one}” removed.")
    return redirect("ground:sight")
