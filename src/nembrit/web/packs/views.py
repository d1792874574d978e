"""The packs, one of them, and how a card fits into those at hand."""

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from nembrit.core.errors import CoreError
from nembrit.web.common.once import once
from nembrit.web.hangar.models import Craft
from nembrit.web.packs import services
from nembrit.web.packs.forms import PackForm, PackNoteForm
from nembrit.web.packs.models import Pack


@require_http_methods(["GET", "POST"])
def pack_list(request: HttpRequest) -> HttpResponse:
    """Every pack with its state, its use and its landing voltage; and a new one."""
    form = PackForm(request.POST if request.method == "POST" else None, initial={"name": request.GET.get("name", "")[:60]})
    if request.method == "POST" and form.is_valid():
        return redirect(once(request, lambda: form.save().get_absolute_url()))
    context = {"lines": services.lines(), "form": form, "unlisted": services.unlisted(), "cautions": services.CAUTIONS}
    return render(request, "packs/packs.html", context, status=400 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
def pack_page(request: HttpRequest, pack_id: int) -> HttpResponse:
    """One pack: what was noted, what its flights showed, and what is written on it."""
    pack = get_object_or_404(Pack, pk=pack_id)
    name = pack.name
    form = PackForm(request.POST if request.method == "POST" else None, instance=pack)
    status = 400 if form.is_bound else 200
    if request.method == "POST" and form.is_valid():
        if form.saved():
            services.rename_in_flights(name, pack.name)
            messages.success(request, "The pack is saved.")
            return redirect(pack)
        status = 409
    shown = get_object_or_404(Pack, pk=pack_id)
    context = {
        "pack": shown, "form": form, "note_form": PackNoteForm(), "entries": services.entries_of(shown),
        "flights": services.flown(shown), "landing_v": services.landing_pack_v(shown.cells, shown.chemistry),
        "chemistry": services.CHEMISTRIES[shown.chemistry], "cautions": services.CAUTIONS,
    }  # fmt: skip
    return render(request, "packs/pack.html", context, status=status)


@require_POST
def pack_note(request: HttpRequest, pack_id: int) -> HttpResponse:
    pack = get_object_or_404(Pack, pk=pack_id)
    form = PackNoteForm(request.POST)
    if not form.is_valid():
        told = " ".join(f"{form[name].label}: {' '.join(map(str, errors))}" for name, errors in form.errors.items())
        messages.error(request, f"Nothing was saved. {told}")
        return redirect(pack)
    try:
        services.note(pack, **form.cleaned_data)
    except CoreError as error:
        messages.error(request, f"Nothing was saved: {error}.")
    else:
        messages.success(request, "Noted.")
    return redirect(pack)


@require_POST
def pack_retire(request: HttpRequest, pack_id: int) -> HttpResponse:
    pack = get_object_or_404(Pack, pk=pack_id)
    services.retire(pack, retired=request.POST.get("retired") == "1")
    messages.success(request, f"{pack} is {'out of use' if pack.retired_at else 'in use again'}.")
    return redirect("packs:packs")


@require_safe
def fit(request: HttpRequest, craft_id: int) -> HttpResponse:
    """How often a card fits into the packs at hand, as a part of other pages."""
    found = services.fit_of(request.GET.get("card_key", "")[:60], get_object_or_404(Craft, pk=craft_id))
    if found is None:
        raise Http404
    return render(request, "packs/_fit.html", {"fit": found})
