"""Pages of the hangar: craft, configurations, name map."""

from typing import Any

from django.contrib import messages
from django.db import transaction
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.utils.text import slugify
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.fields import row_number
from nembrit.web.common.once import once, sent_before
from nembrit.web.hangar import giving, services
from nembrit.web.hangar.charts import rate_chart
from nembrit.web.hangar.forms import BuildForm, ConfigurationForm, CraftEditForm, CraftForm, MotorsForm, NameMapForm, SurfacesForm
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.signals import craft_changed


@require_http_methods(["GET", "POST"])
def craft_surfaces(request: HttpRequest, craft_id: int) -> HttpResponse:
    """What each servo of a plane moves: trims are told by axis then."""
    craft = get_object_or_404(Craft, pk=craft_id, kind=Craft.Kind.FIXED_WING)
    form = SurfacesForm(request.POST if request.method == "POST" else None, surfaces=services.surfaces_of(craft))
    if request.method == "POST" and form.is_valid():
        changed = services.save_surfaces(craft, form.surfaces())
        messages.success(request, "Saved. Its flights are being recomputed." if changed else "Nothing was changed.")
        return redirect("hangar:craft_surfaces", craft.pk)
    context = {"craft": craft, "form": form}
    return render(request, "hangar/surfaces.html", context, status=400 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
def craft_new(request: HttpRequest) -> HttpResponse:
    form = CraftForm(request.POST if request.method == "POST" else None)
    if (sent := sent_before(request)) is not None:  # its own name is taken now
        return redirect(sent)
    if request.method == "POST" and form.is_valid():
        return redirect(once(request, lambda: _made_craft(request, dict(form.cleaned_data))))
    return render(request, "hangar/craft_new.html", {"form": form}, status=400 if form.is_bound else 200)


def _made_craft(request: HttpRequest, data: dict[str, Any]) -> str:
    layout = data.pop("layout") or None
    craft = services.create_craft(layout=layout, **data)
    messages.success(request, f"{craft.name} is in the hangar.")
    return reverse("tunes:first_steps", args=[craft.pk])


@require_http_methods(["GET", "POST"])
def craft_edit(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Change what is written about a craft, or put it away."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = CraftEditForm(request.POST if request.method == "POST" else None, instance=craft)
    status = 400 if form.is_bound else 200
    if request.method == "POST" and form.is_valid():
        with transaction.atomic():
            saved = form.saved()
            if saved and "propeller_blades" in form.changed_data:
                craft_changed.send(sender=Craft, craft=craft)
        if saved:
            messages.success(request, f"{craft.name} is saved.")
            return redirect(craft)
        status = 409
    return _edit_page(request, craft_id, status, form=form)


def _edit_page(request: HttpRequest, craft_id: int, status: int, **forms: Any) -> HttpResponse:
    craft = Craft.objects.get(pk=craft_id)
    context = {"craft": craft, "form": CraftEditForm(instance=craft), "motors": MotorsForm(places=services.motor_places(craft))}
    return render(request, "hangar/craft_edit.html", context | forms, status=status)


@require_POST
def craft_motors(request: HttpRequest, craft_id: int) -> HttpResponse:
    """Correct which motor sits where and which way it turns; answers that rest on it are made anew."""
    craft = get_object_or_404(Craft, pk=craft_id)
    form = MotorsForm(request.POST, places=services.motor_places(craft))
    if form.is_valid():
        try:
            changed = services.rearrange_motors(craft, form.numbers, form.clockwise)
        except CoreError as error:
            form.add_error(None, str(error))
        else:
            services.motors_checked(craft)
            told = "are saved; affected results are recomputed" if changed else "did not change"
            messages.success(request, f"The motors of {craft.name} {told}.")
            return redirect(craft)
    return _edit_page(request, craft_id, 400, motors=form)


@require_POST
def craft_archive(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    archived = request.POST.get("archived") == "1"
    services.set_archived(craft, archived=archived)
    messages.success(request, f"{craft.name} is {'archived; nothing is deleted' if archived else 'back in the hangar'}.")
    return redirect("/" if archived else craft.get_absolute_url())


@require_http_methods(["GET", "POST"])
def configuration_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    sister = Craft.objects.active().filter(pk=row_number(request.GET.get("from")) or 0).exclude(pk=craft.pk).first()
    start = {"text": giving.reference_text(sister), "note": f"from {sister.name}"} if sister else {}
    form = ConfigurationForm(request.POST if request.method == "POST" else None, initial=start)
    sisters = Craft.objects.active().filter(configurations__isnull=False).exclude(pk=craft.pk).distinct()
    context = {"craft": craft, "form": form, "latest": services.latest_configuration(craft), "sisters": sisters, "sister": sister}
    if request.method == "POST" and form.is_valid():
        data = form.cleaned_data
        try:
            found = services.understood(data["text"])
            if found.settings:  # shown as understood before anything is saved
                context |= {"found": found, "mark": form.mark()}
                if not form.is_shown():
                    return render(request, "hangar/configuration_new.html", context)
            return redirect(once(request, lambda: _pasted(request, craft, data)))
        except CoreError as error:
            form.add_error("text", str(error))
    return render(request, "hangar/configuration_new.html", context, status=400 if form.is_bound else 200)


def _pasted(request: HttpRequest, craft: Craft, data: dict[str, Any]) -> str:
    configuration = services.paste_configuration(
        craft, data["text"], note=data["note"], without_doubtful=data["without_doubtful"]
    )
    messages.success(request, f"{configuration} of {craft.name} is saved.")
    return configuration.get_absolute_url()


@require_safe
def configuration(request: HttpRequest, configuration_id: int) -> HttpResponse:
    """One revision: its settings, and what differs from any other."""
    shown = get_object_or_404(Configuration.objects.select_related("craft", "parent"), pk=configuration_id)
    others = shown.craft.configurations.exclude(pk=shown.pk)
    wanted = row_number(request.GET.get("against"))
    against = others.filter(pk=wanted).first() if wanted else (shown.parent or others.first())
    context = {
        "craft": shown.craft,
        "configuration": shown,
        "settings": services.named_settings(shown),
        "others": others,
        "against": against,
        "changes": services.diff(against, shown) if against else (),
        "restore": giving.restore_from(against, shown) if against else None,
        "firmware": giving.firmware_between(against, shown) if against else [],
        "forms": giving.FORMS,
        "rates": rate_chart(giving.rate_curves(shown)),
    }
    return render(request, "hangar/configuration.html", context)


@require_safe
def configuration_give(request: HttpRequest, configuration_id: int, form: str) -> HttpResponse:
    """All settings of a revision as a file."""
    shown = get_object_or_404(Configuration.objects.select_related("craft"), pk=configuration_id)
    if form not in giving.FORMS:
        raise Http404
    answer = HttpResponse(giving.given_out(shown, form), content_type=f"{giving.FORMS[form]}; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{slugify(shown.craft.name) or "craft"}-{shown}.{form}"'
    return answer


@require_POST
def configuration_reference(request: HttpRequest, configuration_id: int) -> HttpResponse:
    chosen = get_object_or_404(Configuration, pk=configuration_id)
    services.set_reference(chosen)
    messages.success(request, f"{chosen} is now the reference, the known good state.")
    return redirect(chosen)


@require_http_methods(["GET", "POST"])
def names(request: HttpRequest, craft_id: int) -> HttpResponse:
    """The name map: what each setting means."""
    craft = get_object_or_404(Craft, pk=craft_id)
    latest = services.latest_configuration(craft)
    settings = services.named_settings(latest) if latest else []
    form = NameMapForm(request.POST if request.method == "POST" else None, settings=settings)
    if request.method == "POST" and form.is_valid():
        if not form.is_current():
            form.add_error(None, "Settings changed since this page was opened. Yours are still in the fields")
            form.shown_anew()
            return render(request, "hangar/names.html", {"craft": craft, "latest": latest, "form": form}, status=409)
        try:
            services.save_name_map(craft, form.meanings())
        except CoreError as refused:
            form.add_error(None, str(refused))
        else:
            messages.success(request, "Setting names saved.")
            return redirect("hangar:names", craft.pk)
    context = {"craft": craft, "latest": latest, "form": form}
    return render(request, "hangar/names.html", context, status=400 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
def build_new(request: HttpRequest, craft_id: int) -> HttpResponse:
    craft = get_object_or_404(Craft, pk=craft_id)
    form = BuildForm(request.POST if request.method == "POST" else None)
    if request.method == "POST" and form.is_valid():
        return redirect(once(request, lambda: _noted(request, craft, **form.cleaned_data)))
    return render(request, "hangar/build_new.html", {"craft": craft, "form": form}, status=400 if form.is_bound else 200)


def _noted(request: HttpRequest, craft: Craft, **entry: str) -> str:
    latest = services.latest_build(craft)
    # a plain note changes nothing about what the simulator's craft suffers from; a hardware slip may
    services.add_build_entry(craft, faults=latest.simulated_faults if latest else None, **entry)
    messages.success(request, "Build entry saved. New flights use it.")
    return craft.get_absolute_url()
